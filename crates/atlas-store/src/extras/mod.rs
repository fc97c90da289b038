//! Files beside the sitemaps: the page for visitors, the text form, the feeds of the newest, structured data for templates.

mod settings;
mod extra_file;
mod lines;

pub use self::extra_file::ExtraFile;
pub(crate) use self::lines::Lines;
pub(crate) use self::settings::Context;
pub use self::settings::{ExtrasSettings, NewestSettings, VisitorSettings};
