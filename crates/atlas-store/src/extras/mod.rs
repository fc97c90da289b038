//! Files beside the sitemaps: the page for visitors, the text form, the feeds of the newest, structured data for templates.

mod settings;
mod extra_file;
mod lines;

pub use self::extra_file::ExtraFile;
pub(crate) use self::lines::VisitorLines;
pub(crate) use self::settings::ExtrasContext;
pub use self::settings::{ExtrasSettings, NewestSettings, VisitorSettings};
