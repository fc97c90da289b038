//! A web root or a site as an engine sees it.

mod path;
mod web_root;
mod site;

pub use self::path::relative_path;
pub use self::site::Live;
pub use self::web_root::WebRoot;
