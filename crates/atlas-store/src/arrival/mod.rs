//! The arrival log: the rows of all sources, as compact bytes in blocks, in a fixed order.
//!
//! Sources fill blocks in parallel and hand them over in their own order, so the log is the same for the same input. Each row
//! is decided about while it is at hand and has a summary: that is all that most steps look at. Blocks past a budget wait on the
//! disk and are read back when they are asked for.

mod keyed_row;
mod decider;
mod block;
mod block_cache;
pub(crate) mod incremental;
mod log;

pub use self::block::{Block, RowReader};
pub use self::decider::Decider;
pub(crate) use self::decider::{RowFlag, RowSummary};
pub(crate) use self::keyed_row::KeyedRow;
pub use self::keyed_row::RowId;
pub use self::log::BLOCK_BYTES;
#[cfg(test)]
pub(crate) use self::log::tests::decider as plain_decider;
pub(crate) use self::log::{Arrivals, Need};
