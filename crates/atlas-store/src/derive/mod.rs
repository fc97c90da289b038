//! Deriving what follows from all entries together. The pages of archives settle and are chosen like the contributions
//! of a source; groups of translations are found among the listed entries.

mod packed_lists;
mod alternates;
mod standing;
mod shares;
mod affected;
pub(crate) mod archives;

pub(crate) use affected::{Affected, affected};
pub(crate) use alternates::Alternates;
pub use archives::ARCHIVES;
pub(crate) use archives::DerivedRows;
pub(crate) use shares::{ArchiveNumbers, ChunkShares, ShareMaker};
pub(crate) use standing::standing_rows;
