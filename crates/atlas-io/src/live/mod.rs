//! The live site: where it is reached, and whether it serves what was built.

mod reach;
mod site;
mod deployed;

pub(crate) use self::deployed::see;
pub use self::deployed::{Deployed, LiveSite};
pub use self::reach::Reach;
pub use self::site::Live;
