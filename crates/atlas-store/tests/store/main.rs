//! The store driven as a whole, with made-up rows.

mod railway;
mod small;

mod arranging;
mod guards;
mod histories;
mod increments;
mod looking_back;
mod moved;
mod publishing;
mod settling;
mod stops;
