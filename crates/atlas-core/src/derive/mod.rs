//! Deriving what follows from the contributions: groups of translations, news, structured data.

pub mod alternates;
pub mod news;
pub mod structured;
