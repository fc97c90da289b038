//! Announcements: the messages that tell engines what changed, what their answers mean, and the progress of each
//! engine.

mod change;
mod answer;
mod progress;
mod request;
pub mod indexnow;
pub mod sitemap_ping;
pub mod websub;
pub mod http_call;
pub mod live;

pub use self::answer::{Answer, Then};
pub use self::change::{Change, ChangeCounts};
pub use self::progress::{EngineState, LeftAlone};
pub use self::request::{EngineRequest, Method};
