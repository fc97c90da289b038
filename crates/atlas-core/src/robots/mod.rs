//! robots.txt: what it allows, and declaring sitemaps in it (RFC 9309).

mod rules;
mod declare;

pub use declare::{ALLOW_ALL, declare, sitemap_lines};
pub use rules::{Barred, Robots};
