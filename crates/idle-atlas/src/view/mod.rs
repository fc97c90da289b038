//! What people read: plain data in, calm text out.

pub mod announce;
pub mod build;
pub mod check;
pub mod history;
pub mod init;
pub mod listing;
pub mod owner;
pub mod preview;
pub mod sites;
pub mod survey;
pub mod why;

mod found;
mod grid;
pub mod layout;
pub mod words;
