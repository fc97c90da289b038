//! What people read: plain data in, calm text out; one command a file.

mod grid;
mod found;
pub mod announce;
pub mod preview;
pub mod build;
pub mod check;
pub mod history;
pub mod init;
pub mod listing;
pub mod owner;
pub mod sites;
pub mod survey;
pub mod why;
