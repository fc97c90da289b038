//! Everything that touches the world besides the ledger and the web root: sources, HTTP, announcing, the test engine.
#![deny(missing_docs)]

pub mod announce;
pub mod check;
pub mod engine;
pub mod html;
pub mod http;
pub mod serve;
pub mod table;

mod cutter;
mod template;
