//! Reading a web root or a live site as an engine does.

mod path;
mod web_root;
mod reach;
mod site;
mod deployed;

#[cfg(feature = "test-engine")]
pub(crate) use self::deployed::see;
pub use self::deployed::{Deployed, LiveSite};
pub use self::path::relative_path;
pub use self::reach::Reach;
pub use self::site::Live;
pub use self::web_root::WebRoot;
