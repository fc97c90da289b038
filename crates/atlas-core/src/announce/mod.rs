//! Announcements: the messages that tell engines what changed, what their answers mean, and the progress of each
//! engine.

mod change;
mod answer;
mod progress;
pub mod indexnow;

pub use self::answer::{Answer, Then};
pub use self::change::{Change, ChangeCounts};
pub use self::progress::EngineState;
