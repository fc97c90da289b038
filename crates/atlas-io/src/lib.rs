//! Everything that touches the world besides the ledger and the web root: sources, HTTP, announcements, the test
//! engine.
//!
//! The modules are declared in an order in which each may use only those above it.
#![deny(missing_docs, unnameable_types)]

pub mod secret;
pub mod program;
pub mod http;
pub mod object;
pub mod reading;
pub mod uptake;
pub mod sources;
pub mod live;
pub mod check;
pub mod examine;
pub mod engines;
pub mod round;
pub mod watch;
pub mod serving;
#[cfg(feature = "test-engine")]
pub mod test_engine;
