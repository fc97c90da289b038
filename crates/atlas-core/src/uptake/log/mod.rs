//! Access logs: one request in a line.

mod time;
mod line;
mod format;
mod json;
mod agent;
mod prefixes;

pub use self::agent::{MOST_TOKEN, product_token};
pub use self::format::{FormatError, LogFormat};
pub use self::json::{JsonFormat, LogField};
pub use self::line::LogLine;
pub use self::prefixes::Prefixes;
