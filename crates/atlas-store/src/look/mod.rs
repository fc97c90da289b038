//! Looking at a site as a whole, once its entries are settled: what deserves notice, and lists of entries.

mod links;
mod listing;
mod notices;

pub use listing::{Filter, Listed, Listing, Order};

pub(crate) use listing::list;
pub(crate) use notices::{notice, notice_while_building};
