//! Announcing: messages that tell engines what changed, and what their answers mean.

mod answer;
pub mod indexnow;

pub use self::answer::{Answer, Then};
