//! Styles. Colour only adds to what the words already say.

use anstyle::{AnsiColor, Style};

/// The most important part of a line.
pub const STRONG: Style = Style::new().bold();
/// The least important part of a line.
pub const FAINT: Style = Style::new().dimmed();
/// Something good.
pub const GOOD: Style = AnsiColor::Green.on_default();
/// Something that deserves a look.
pub const WARN: Style = AnsiColor::Yellow.on_default();
/// Something wrong.
pub const BAD: Style = AnsiColor::Red.on_default().bold();
