//! The store driven as a whole, over made-up rows.

mod railway;

mod histories;
mod stops;
