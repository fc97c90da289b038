//! Incremental reading: rows that need not be read again. Rows of tables are recognised by *chunks* of some dozens
//! (content-defined chunking), and the entries that they name are known to be unchanged.
//!
//! | file | contents |
//! |---|---|
//! | `chunks` | what a source records about chunks while it reads |
//! | `interest` | which remembered entries have to be compared anyway |
//! | `recollect` | reading what is remembered of those |
//! | `reuse` | whether any of this is possible, and what is kept for the next build |

pub(super) mod chunks;
mod interest;
mod recollect;
mod reuse;

pub(crate) use self::reuse::{Reuse, ReuseConditions, keep_chunks, remember_entries};
