//! The texts that users read: plain data in, text out, one command per file.

mod grid;
mod found;
pub mod plot;
pub mod guard;
pub mod announce;
pub mod preview;
pub mod by_hand;
pub mod build;
pub mod card;
pub mod check;
pub mod configuration;
pub mod gone;
pub mod explained;
pub mod sarif;
pub mod history;
pub mod listing;
pub mod owner;
pub mod sites;
#[cfg(feature = "test-engine")]
pub mod rehearsal;
pub mod survey;
pub mod init;
pub mod uptake;
pub mod report;
pub mod withdrawn;
pub mod watch;
pub mod why;
pub mod recorded;
