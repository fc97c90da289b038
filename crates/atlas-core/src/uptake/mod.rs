//! What engines took: their crawlers' visits in access logs, and the exports of their consoles.
//!
//! | module | holds |
//! |---|---|
//! | [`log`] | lines of access logs, crawlers, and the addresses that they may come from |
//! | [`request`] | what a crawler asked for |
//! | [`export`] | rows of exports: what columns hold, and what a reason means |
//! | [`standing`] | where an entry stands: picked up, waiting, never fetched … |
//! | [`difference`] | what sets those that were not picked up apart from those that were |

pub mod log;
pub mod request;
pub mod export;
pub mod standing;
pub mod difference;
