//! Deriving: what follows from what is said of entries: groups of translations, news, structured data.

pub mod alternates;
pub mod news;
pub mod structured;
