//! The store driven as a whole, over made-up rows.

mod railway;
mod small;

mod arranging;
mod guards;
mod histories;
mod publishing;
mod settling;
mod stops;
