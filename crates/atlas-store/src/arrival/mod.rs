//! The arrival log: the rows of all sources, as compact bytes in blocks, in a fixed order.
//!
//! Sources fill blocks in parallel and pass them on in their own order, so the log is the same for the same input. Each
//! row is decided about while it is in memory and gets a summary, which is all that most steps need. Blocks that exceed
//! the memory budget are written to disk and read back when needed.

mod keyed_row;
mod decider;
mod asked;
mod block;
mod block_cache;
mod block_store;
pub(crate) mod incremental;
mod texts;
mod log;
mod again;
mod in_order;

pub(crate) use self::again::ProblemsBySource;
pub use self::asked::AskedRows;
pub(crate) use self::asked::short_key;
pub use self::block::{Block, ChunkExtent, RetainedText, RowReader};
pub(crate) use self::block_store::BlockStore;
pub use self::decider::Decider;
pub(crate) use self::decider::{RowFlag, RowSummary};
pub(crate) use self::keyed_row::{KeyedRow, RowId};
pub(crate) use self::log::Need;
#[cfg(test)]
pub(crate) use self::log::tests::decider as plain_decider;
pub use self::log::{Arrivals, BLOCK_BYTES};
