//! Reading a web root or a live site as an engine does.

mod path;
mod web_root;
mod site;

pub use self::path::relative_path;
pub use self::site::Live;
pub use self::web_root::WebRoot;
