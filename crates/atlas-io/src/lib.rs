//! Everything that touches the world besides the ledger and the web root: sources, HTTP, announcing, the test engine.
//!
//! Modules stand here in the order in which each may use those above it.
#![deny(missing_docs)]

pub mod secret;
pub mod http;
pub mod reading;
pub mod sources;
pub mod live;
pub mod engines;
pub mod round;
#[cfg(feature = "test-engine")]
pub mod test_engine;
