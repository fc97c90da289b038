//! Writing a sitemap index.

use super::urlset::{begin, element};
use crate::lastmod::Lastmod;

/// One `sitemap` element of an index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IndexLine {
    /// The file's address.
    pub address: String,
    /// When that file last changed.
    pub lastmod: Lastmod,
}

/// Writes a whole `sitemapindex`; `style` is the stylesheet that displays it in a browser.
pub fn index(lines: &[IndexLine], style: Option<&str>) -> Vec<u8> {
    let mut out = (begin(style, "sitemapindex") + ">\n").into_bytes();
    for line in lines {
        out.extend_from_slice(b"<sitemap>");
        element(&mut out, "loc", &line.address);
        element(&mut out, "lastmod", &line.lastmod.to_string());
        out.extend_from_slice(b"</sitemap>\n");
    }
    out.extend_from_slice(b"</sitemapindex>\n");
    out
}
