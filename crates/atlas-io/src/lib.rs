//! Everything that touches the world besides the ledger and the web root: sources, HTTP, announcing, the test engine.
#![deny(missing_docs)]

pub mod announce;
pub mod check;
pub mod command;
pub mod crawl;
pub mod engine;
pub mod feed;
pub mod field;
pub mod folder;
pub mod html;
pub mod http;
pub mod input;
pub mod live;
pub mod markdown;
pub mod oembed;
pub mod record;
pub mod serve;
pub mod sitemaps;
pub mod sql;
pub mod table;

mod cutter;
mod items;
mod rows;
mod split;
mod template;
