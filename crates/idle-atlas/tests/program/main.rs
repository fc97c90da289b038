//! The built program, driven on files in temporary folders.

mod announcing;
mod bad_input;
mod browser;
mod building;
mod checking;
mod choosing;
mod crawling;
mod databases;
mod declaring;
mod demo;
mod films;
mod gates;
mod gathering;
mod guarding;
mod killing;
mod looking;
mod mapping;
mod people;
mod recalling;
mod safety;
mod server;
mod several;
mod splitting;
mod support;
mod surveying;
mod tables;
