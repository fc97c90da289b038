//! Checking as an engine would: a web root, a single file, or a live site.

mod files;
mod place;
mod web_root;
mod single_file;
mod server;
mod live_site;
mod visits;
mod gone;
mod look;

pub use self::gone::take_urls;
pub use self::live_site::{LiveSitemaps, Start, start_of};
pub use self::look::{BarredFrom, PageLook, PageStep, PageTrouble, look_at};
pub use self::place::{SitemapPlace, inspect};
pub use self::server::{Pace, SiteServer};
pub use self::single_file::SingleFile;
pub use self::visits::visit_pages;
pub use self::web_root::{WebRoot, site_of};
