//! What need not be looked at again: rows of tables are known by the *chunk*, some dozens that follow one another (content-defined
//! chunking), and the entries that they speak of are known to be as they were.
//!
//! | file | holds |
//! |---|---|
//! | `chunks` | what a source notes of chunks while it reads |
//! | `interest` | which remembered entries have to be looked at all the same |
//! | `recollect` | reading what is remembered of those |
//! | `knowing` | whether any of that may be done, and what is kept for the next build |

pub(super) mod chunks;
mod interest;
mod recollect;
mod knowing;

pub(crate) use self::knowing::{Knowing, Ways, keep_chunks, remember_entries};
