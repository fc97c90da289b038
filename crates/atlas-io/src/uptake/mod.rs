//! Reading what people have of engines: access logs of their own servers, and exports of consoles.
//!
//! | module | does |
//! |---|---|
//! | `file` | opens a file, compressed or not, and looks at its beginning |
//! | `form` | tells a log from an export, and how it is written |
//! | `logs` | reads logs on all cores, each line once however often its file is given |
//! | `exports` | reads the rows of an export |

mod file;
mod form;
mod logs;
mod exports;

pub use self::exports::{ExportError, ExportReading, ExportSettings, read_export};
pub use self::file::UptakeFile;
pub use self::form::{LogSyntax, UptakeForm};
pub use self::logs::{LogReading, read_logs};
