//! Looking at a site as a whole, once its entries are settled: what deserves notice, and lists of entries.

mod listing;
mod links;
mod notices;

pub use listing::{Filter, Listed, Listing, ListingOrder};

pub(crate) use listing::list;
pub(crate) use notices::{notice, notice_while_building};
