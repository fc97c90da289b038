//! Files beside the sitemaps: the visitor page, the text sitemap, the feeds of the newest entries, structured data for
//! templates.

mod settings;
mod extra_file;
mod lines;

pub(crate) use self::extra_file::ExtraFile;
pub(crate) use self::lines::VisitorLines;
pub(crate) use self::settings::ExtrasContext;
pub use self::settings::{ExtrasSettings, NewestSettings, VisitorSettings};
