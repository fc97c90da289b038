//! robots.txt (RFC 9309): what it allows, and declaring sitemaps in it.

mod pattern;
mod index;
mod rules;
mod declare;

pub use declare::{ALLOW_ALL, declare, sitemap_lines};
pub use rules::{Barred, ROBOTS_LIMIT, Robots};
