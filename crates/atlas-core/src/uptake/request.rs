//! What a crawler asked for, from the target of its request.

use std::borrow::Cow;

use serde::Serialize;

use crate::address::{self, Site};

/// What a request was for. The order is that in which a table shows them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum RequestKind {
    /// A page that is listed.
    Page,
    /// A picture that is listed.
    Image,
    /// A video that is listed.
    Video,
    /// A sitemap file.
    SitemapFile,
    /// robots.txt.
    Robots,
    /// A page that is not listed, answered with 2xx.
    OtherPage,
    /// A URL with parameters that is not listed, answered with 2xx.
    Parameters,
    /// Something else than a page, such as a stylesheet, that is not listed.
    Asset,
    /// A URL that is not listed, answered with a redirect.
    Redirect,
    /// A URL that is not listed, answered with an error.
    Error,
}

impl RequestKind {
    /// All kinds.
    pub const ALL: [Self; 10] = [
        Self::Page,
        Self::Image,
        Self::Video,
        Self::SitemapFile,
        Self::Robots,
        Self::OtherPage,
        Self::Parameters,
        Self::Asset,
        Self::Redirect,
        Self::Error,
    ];

    /// The kind in words, for many.
    pub fn words(self) -> &'static str {
        match self {
            Self::Page => "listed pages",
            Self::Image => "listed pictures",
            Self::Video => "listed videos",
            Self::SitemapFile => "sitemap files",
            Self::Robots => "robots.txt",
            Self::OtherPage => "pages that are not listed",
            Self::Parameters => "URLs with parameters",
            Self::Asset => "styles, scripts and other files",
            Self::Redirect => "redirects",
            Self::Error => "errors",
        }
    }

    /// Whether crawlers spend such requests on what no sitemap lists and no page needs.
    pub fn is_spent(self) -> bool {
        matches!(self, Self::OtherPage | Self::Parameters | Self::Redirect | Self::Error)
    }

    /// The kind of a request for what is not listed, by its path and query, and the status of its answer.
    pub fn of_other(path: &str, status: u16) -> Self {
        match status {
            304 | 100..300 => {}
            300..400 => return Self::Redirect,
            _ => return Self::Error,
        }
        let (path, query) = path.split_once('?').map_or((path, None), |(path, query)| (path, Some(query)));
        let name = path.rsplit('/').next().unwrap_or_default();
        let extension = name.rsplit_once('.').map_or("", |(_, extension)| extension);
        let is_page = ["", "html", "htm", "xhtml", "php", "asp", "aspx", "jsp", "md"]
            .iter()
            .any(|known| known.eq_ignore_ascii_case(extension));
        match (is_page, query) {
            (false, _) => Self::Asset,
            (true, Some(_)) => Self::Parameters,
            (true, None) => Self::OtherPage,
        }
    }
}

/// The address of the target of a request, in the spelling of the ledger; `None` if it is on another host or is no
/// address. Servers write bytes that they do not print as `\x20`.
pub fn address_of<'b>(site: &Site, target: &[u8], buffer: &'b mut String) -> Option<&'b str> {
    let bytes = match memchr::memchr(b'\\', target) {
        Some(_) => Cow::Owned(unescaped(target)),
        None => Cow::Borrowed(target),
    };
    let target = std::str::from_utf8(&bytes).ok()?;
    let address = site.address_in(target, buffer).ok()?;
    let is_path = target.starts_with('/') && !target.starts_with("//");
    (is_path || address::origin(address) == site.root().origin()).then_some(address)
}

/// Undoes `\x20`, `\"` and `\\`.
fn unescaped(text: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len());
    let mut at = 0;
    while let Some(byte) = text.get(at) {
        let hex = || {
            let digits = std::str::from_utf8(text.get(at + 2..at + 4)?).ok()?;
            u8::from_str_radix(digits, 16).ok()
        };
        match (byte, text.get(at + 1)) {
            (b'\\', Some(b'x')) if hex().is_some() => {
                out.extend(hex());
                at += 4;
            }
            (b'\\', Some(next)) => {
                out.push(*next);
                at += 2;
            }
            _ => {
                out.push(*byte);
                at += 1;
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/fares/", Some("https://www.marrowvale.example/fares/"))]
    #[case("/caffi/br\\xC3\\xA2n/", Some("https://www.marrowvale.example/caffi/br%C3%A2n/"))]
    #[case("/caffi/br%c3%a2n/", Some("https://www.marrowvale.example/caffi/br%C3%A2n/"))]
    #[case("https://www.marrowvale.example/fares/", Some("https://www.marrowvale.example/fares/"))]
    #[case("https://other.example/fares/", None)]
    #[case("//other.example/", None)]
    fn targets_become_addresses(#[case] target: &str, #[case] wanted: Option<&str>) {
        let site = Site::parse("https://www.marrowvale.example/").unwrap();
        assert_eq!(address_of(&site, target.as_bytes(), &mut String::new()), wanted);
    }

    #[rstest]
    #[case("/shed/", 200, RequestKind::OtherPage)]
    #[case("/shed.HTML", 200, RequestKind::OtherPage)]
    #[case("/shed/?sort=age", 200, RequestKind::Parameters)]
    #[case("/atlas.css?v=2", 200, RequestKind::Asset)]
    #[case("/shed/", 301, RequestKind::Redirect)]
    #[case("/shed/", 304, RequestKind::OtherPage)]
    #[case("/shed/", 503, RequestKind::Error)]
    fn what_is_not_listed(#[case] path: &str, #[case] status: u16, #[case] wanted: RequestKind) {
        assert_eq!(RequestKind::of_other(path, status), wanted);
    }
}
