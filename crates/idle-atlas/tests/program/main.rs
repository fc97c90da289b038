//! The built program, driven on files in temporary folders.

mod announcing;
mod bad_input;
mod building;
mod checking;
mod crawling;
mod databases;
mod demo;
mod films;
mod gathering;
mod killing;
mod looking;
mod server;
mod splitting;
mod support;
mod surveying;
