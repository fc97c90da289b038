//! Styles, in which colour only adds to what the words say.

use anstyle::{AnsiColor, Style};

/// For what matters most in a line.
pub const STRONG: Style = Style::new().bold();
/// For what can be passed over.
pub const FAINT: Style = Style::new().dimmed();
/// For what is well.
pub const GOOD: Style = AnsiColor::Green.on_default();
/// For what is worth a look.
pub const WARN: Style = AnsiColor::Yellow.on_default();
/// For what is wrong.
pub const BAD: Style = AnsiColor::Red.on_default().bold();
