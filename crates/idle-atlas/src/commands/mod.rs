//! One command a file: each does its work through the libraries and hands the result to its view.

pub mod announce;
pub mod build;
pub mod check;
pub mod demo;
pub mod history;
pub mod init;
pub mod survey;
pub mod test_engine;
pub mod why;
