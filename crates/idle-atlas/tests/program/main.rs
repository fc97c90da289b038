//! The built program, driven on files in temporary folders.

mod announcing;
mod bad_input;
mod building;
mod checking;
mod crawling;
mod demo;
mod killing;
mod server;
mod splitting;
mod support;
mod surveying;
