//! The built program, driven on files in temporary folders.

mod access_logs;
#[cfg(feature = "test-engine")]
mod announcing;
#[cfg(feature = "markdown")]
mod articles;
mod bad_input;
mod beginning;
mod broken;
mod browser;
mod by_hand;
mod building;
mod checking;
mod checking_live;
mod choosing;
mod crawling;
#[cfg(feature = "sql-servers")]
mod databases;
mod declaring;
#[cfg(feature = "test-engine")]
mod demo;
mod documentation;
#[cfg(feature = "feed")]
mod feeds;
mod faults;
mod films;
mod findings;
mod gates;
mod gathering;
mod guarding;
#[cfg(unix)]
mod guide;
mod killing;
mod lean;
#[cfg(feature = "test-engine")]
mod living;
mod looking;
mod looking_back;
mod making_sections;
mod moving;
mod mapping;
mod nginx;
#[cfg(feature = "parquet")]
mod parquet;
#[cfg(feature = "sql-servers")]
mod nights;
mod visitors;
#[cfg(all(unix, feature = "test-engine"))]
mod watching;
#[cfg(feature = "test-engine")]
mod protocols;
mod queries;
mod recalling;
mod remarking;
#[cfg(feature = "test-engine")]
mod rounds;
mod safety;
mod schemas;
mod site_report;
mod server;
mod serving;
mod several;
#[cfg(feature = "sql-servers")]
mod small_steps;
mod splitting;
#[cfg(feature = "object-stores")]
mod stores;
mod strangers;
#[cfg(feature = "object-stores")]
mod travelling;
mod structure;
mod support;
mod surveying;
mod tables;
mod reporting;
