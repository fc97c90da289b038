//! Diagnostics: notices about a settled site as a whole, and lists of its entries.

mod listing;
mod links;
mod notices;
mod moved;
mod robots;

pub use listing::{Filter, Listed, Listing, ListingOrder};

pub(crate) use listing::list;
pub(crate) use moved::compare_move;
pub(crate) use notices::{notice, notice_while_building};
pub(crate) use robots::about_robots;
