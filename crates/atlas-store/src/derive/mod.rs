//! Deriving: what follows from all entries together. The pages of archives settle and are chosen like what a source says;
//! groups of translations are found among what goes in.

mod alternates;
pub(crate) mod archives;

pub(crate) use alternates::Alternates;
pub use archives::ARCHIVES;
