//! Whether the live site already serves what was built: engines are told only what they would find there.

use std::fmt;

use serde::{Serialize, Serializer};

use crate::address::Address;
use crate::fingerprint::{PageField, Prints};
use crate::page::{Page, PageReader, by_header, read, robots_header};

/// What is expected of the live site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ExpectedLive {
    /// A file as it was built, byte for byte: its name in the ledger, and its address.
    File {
        /// Its name.
        name: String,
        /// Its address.
        address: String,
    },
    /// A key file with this text.
    Key {
        /// Its address.
        address: String,
        /// The key.
        text: String,
    },
    /// A page that engines may list.
    Page {
        /// Its URL.
        url: String,
        /// [`Prints::page`] of the page, if its HTML was read.
        print: Option<u64>,
    },
    /// A page that is gone, redirected, or no longer to be listed.
    Gone {
        /// Its URL.
        url: String,
    },
}

impl ExpectedLive {
    /// Where to look.
    pub fn address(&self) -> &str {
        match self {
            Self::File { address, .. } | Self::Key { address, .. } => address,
            Self::Page { url, .. } | Self::Gone { url } => url,
        }
    }
}

/// What the live site answered.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Seen {
    /// The HTTP status.
    pub status: u16,
    /// `Location`, as a full address.
    pub location: Option<String>,
    /// `Content-Type`.
    pub content_type: String,
    /// `Age`, in seconds: how long a cache has had the answer (RFC 9111, section 5.1).
    pub age: Option<u64>,
    /// `ETag`.
    pub etag: Option<String>,
    /// The pause that `Retry-After` asks for, in seconds.
    pub retry_after: Option<u64>,
    /// The values of `X-Robots-Tag`.
    pub robots: Vec<String>,
    /// The body, unpacked.
    pub body: Vec<u8>,
}

/// Why something is not told yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotLive {
    /// There was no answer, and why.
    NoAnswer(String),
    /// A redirect on the same host: its status and target.
    Redirect(u16, String),
    /// A redirect to another scheme or host.
    OtherSite(String),
    /// Another status than 200.
    Status(u16),
    /// A media type under which engines do not read the file.
    ContentType(String),
    /// White space before the XML declaration.
    BlankLine,
    /// A byte-order mark before the XML declaration that was not built.
    ByteOrderMark,
    /// Another version of a file: how old it is in a cache, in seconds, and its `ETag`.
    OlderCopy {
        /// `Age`.
        age: Option<u64>,
        /// `ETag`.
        etag: Option<String>,
    },
    /// Other contents than expected.
    Different,
    /// The server forbids indexing: the header's value.
    NoindexHeader(String),
    /// The page forbids indexing: the element.
    Noindex(String),
    /// The page redirects its visitors within a few seconds.
    Refresh(String),
    /// The page names another canonical address.
    Canonical(String),
    /// The page should be gone, and is there.
    StillThere,
    /// The page is there, and its text is not the one that was built.
    OldText,
}

impl NotLive {
    /// Its word for programs.
    pub fn as_str(&self) -> &'static str {
        match self {
            Self::NoAnswer(_) => "no-answer",
            Self::Redirect(..) => "redirect",
            Self::OtherSite(_) => "other-site",
            Self::Status(_) => "status",
            Self::ContentType(_) => "content-type",
            Self::BlankLine => "blank-line",
            Self::ByteOrderMark => "byte-order-mark",
            Self::OlderCopy { .. } => "older-copy",
            Self::Different => "different",
            Self::NoindexHeader(_) => "noindex-header",
            Self::Noindex(_) => "noindex",
            Self::Refresh(_) => "refresh",
            Self::Canonical(_) => "canonical-elsewhere",
            Self::StillThere => "still-there",
            Self::OldText => "old-text",
        }
    }
}

impl fmt::Display for NotLive {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoAnswer(why) => write!(out, "no answer ({why})"),
            Self::Redirect(status, to) => write!(out, "redirects with {status} to {to}"),
            Self::OtherSite(to) => {
                write!(out, "redirects to {to}: if visitors end up there, correct [site] url in the configuration")
            }
            Self::Status(404 | 410) => write!(out, "is not there yet"),
            Self::Status(status) => write!(out, "answers {status}"),
            Self::ContentType(kind) => write!(out, "is served as {kind}, which engines do not read as a sitemap"),
            Self::BlankLine => write!(
                out,
                "begins with a blank line, so that engines cannot read it: something between the file and the visitor adds it"
            ),
            Self::ByteOrderMark => write!(out, "begins with a byte-order mark that was not built"),
            Self::OlderCopy { age, etag } => {
                let of = |etag: &Option<String>| etag.as_ref().map_or(String::new(), |etag| format!(", ETag {etag}"));
                match age {
                    Some(age) => {
                        write!(out, "comes from a cache, as it was {age} s ago (Age: {age}{}): purge it", of(etag))
                    }
                    None => write!(out, "is another version than the one built here{}", of(etag)),
                }
            }
            Self::Different => write!(out, "has other contents than the file built here"),
            Self::NoindexHeader(value) => write!(out, "forbids indexing (X-Robots-Tag: {value})"),
            Self::Noindex(element) => write!(out, "forbids indexing ({element})"),
            Self::Refresh(to) => write!(out, "redirects its visitors to {to}"),
            Self::Canonical(to) => write!(out, "names {to} as its canonical address"),
            Self::StillThere => write!(out, "still answers 200; a removed page has to answer 404, 410 or a redirect"),
            Self::OldText => write!(out, "still has another text than the page built here"),
        }
    }
}

impl Serialize for NotLive {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

/// Compares a file with what was built; both unpacked. `address` is the one that was asked for.
///
/// ```
/// use atlas_core::announce::live::{NotLive, Seen, file};
///
/// let address = "https://www.marrowvale.example/sitemap.xml";
/// let built = b"<?xml version=\"1.0\"?><urlset/>";
/// let seen = Seen { status: 200, content_type: "application/xml".into(), body: built.to_vec(), ..Seen::default() };
/// assert_eq!(file(address, &seen, built), None);
/// let body = [b"\n", &built[..]].concat();
/// assert_eq!(file(address, &Seen { body, ..seen }, built), Some(NotLive::BlankLine));
/// ```
pub fn file(address: &str, seen: &Seen, built: &[u8]) -> Option<NotLive> {
    if let Some(not_live) = answered(address, seen) {
        return Some(not_live);
    }
    let kind = seen.content_type.split(';').next().unwrap_or_default().trim();
    let is_xml = built.starts_with(b"<?xml");
    if is_xml && kind.eq_ignore_ascii_case("text/html") {
        return Some(NotLive::ContentType(kind.to_owned()));
    }
    if seen.body == built {
        return None;
    }
    let plain = seen.body.strip_prefix(BYTE_ORDER_MARK).unwrap_or(&seen.body);
    if plain == built {
        return Some(NotLive::ByteOrderMark);
    }
    let trimmed = seen.body.trim_ascii_start();
    if is_xml && trimmed.len() < seen.body.len() && trimmed.starts_with(b"<?xml") {
        return Some(NotLive::BlankLine);
    }
    let is_one_of_ours = is_xml && plain.starts_with(b"<?xml");
    let age = seen.age.filter(|age| *age > 0);
    Some(match is_one_of_ours || age.is_some() {
        true => NotLive::OlderCopy { age, etag: seen.etag.clone() },
        false => NotLive::Different,
    })
}

/// Compares a listed page with what is expected of it: that engines may list it, and, if its HTML was read, that its
/// text is the one that was read (its digest, without navigation, header, footer and scripts).
pub fn page(url: &str, seen: &Seen, print: Option<u64>, reader: &PageReader) -> Option<NotLive> {
    if let Some(not_live) = answered(url, seen) {
        return Some(not_live);
    }
    let LivePage { not_live, digest, .. } = live_page(url, seen, reader);
    let part = PageField::Content.part()?;
    let is_old = || print.zip(digest).is_some_and(|(built, live)| !Prints::same_part(built, live, part));
    not_live.or_else(|| is_old().then_some(NotLive::OldText))
}

/// Checks a page that has left the sitemap: it answers 404, 410 or a redirect, or forbids engines to list it, if only from
/// an instant that is over `now`, in seconds since 1970.
pub fn gone(url: &str, seen: &Seen, now: i64, reader: &PageReader) -> Option<NotLive> {
    match seen.status {
        404 | 410 | 300..=399 => None,
        200..=299 => {
            let LivePage { not_live, expires, .. } = live_page(url, seen, reader);
            let is_over = expires.is_some_and(|expires| expires < now);
            (not_live.is_none() && !is_over).then_some(NotLive::StillThere)
        }
        status => Some(NotLive::Status(status)),
    }
}

const BYTE_ORDER_MARK: &[u8] = b"\xef\xbb\xbf";

/// What is wrong with the answer as such: a redirect, or another status than 200.
pub fn answered(address: &str, seen: &Seen) -> Option<NotLive> {
    let origin = |address: &str| Address::parse(address).map(|address| address.origin().to_owned()).ok();
    match (seen.status, &seen.location) {
        (300..=399, Some(to)) if origin(to) != origin(address) => Some(NotLive::OtherSite(to.clone())),
        (300..=399, Some(to)) => Some(NotLive::Redirect(seen.status, to.clone())),
        (200, _) => None,
        (status, _) => Some(NotLive::Status(status)),
    }
}

/// What keeps engines from listing a page, and the fingerprint of what it says.
#[derive(Default)]
struct LivePage {
    not_live: Option<NotLive>,
    digest: Option<u64>,
    /// When it asks to be listed no longer, in seconds since 1970.
    expires: Option<i64>,
}

/// Reads the page that was seen; `None` if it is not one.
pub fn read_seen(url: &str, seen: &Seen, reader: &PageReader) -> Option<Page> {
    let (kind, parameters) = seen.content_type.split_once(';').unwrap_or((&seen.content_type, ""));
    let is_page = matches!(kind.trim().to_ascii_lowercase().as_str(), "text/html" | "application/xhtml+xml" | "");
    let address = Address::parse(url).ok().filter(|_| is_page)?;
    let charset = parameters.split(';').find_map(|parameter| parameter.trim().strip_prefix("charset="));
    match charset.filter(|charset| !charset.eq_ignore_ascii_case("utf-8")) {
        Some(charset) => read(&by_header(seen.body.clone(), charset), &address, reader).ok(),
        None => read(&seen.body, &address, reader).ok(),
    }
}

/// What keeps engines from listing a page that answers 200; `page` is what was read of it.
pub fn unlisted(url: &str, seen: &Seen, page: Option<&Page>, reader: &PageReader) -> Option<NotLive> {
    let forbids = |value: &&String| robots_header(value, &reader.tokens).noindex;
    if let Some(value) = seen.robots.iter().find(forbids) {
        return Some(NotLive::NoindexHeader(value.clone()));
    }
    let page = page?;
    let elsewhere = page.canonical.as_ref().filter(|canonical| Address::parse(url).as_ref() != Ok(*canonical));
    let canonical = || Some(NotLive::Canonical(elsewhere?.as_str().to_owned()));
    let refresh = || Some(NotLive::Refresh(page.refresh.as_ref()?.as_str().to_owned()));
    page.noindex.clone().map(NotLive::Noindex).or_else(canonical).or_else(refresh)
}

fn live_page(url: &str, seen: &Seen, reader: &PageReader) -> LivePage {
    let page = read_seen(url, seen, reader);
    let not_live = unlisted(url, seen, page.as_ref(), reader);
    if let Some(NotLive::NoindexHeader(_)) = not_live {
        return LivePage { not_live, ..LivePage::default() };
    }
    let Some(page) = page else { return LivePage::default() };
    let digest = crate::contribution::Contribution { digest: Some(page.digest), ..Default::default() };
    let expires = page.expires.map(|expires| expires.seconds());
    LivePage { not_live, digest: Some(Prints::of(&digest, &mut Vec::new()).page), expires }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const MAIN: &str = "https://www.marrowvale.example/sitemap.xml";
    const FARES: &str = "https://www.marrowvale.example/fares/";
    const BUILT: &[u8] = b"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<urlset/>\n";

    fn seen(status: u16, kind: &str, body: &[u8]) -> Seen {
        Seen { status, content_type: kind.into(), body: body.to_vec(), ..Seen::default() }
    }

    fn moved(to: &str) -> Seen {
        Seen { location: Some(to.into()), ..seen(301, "text/html", b"") }
    }

    #[rstest]
    #[case::as_built(seen(200, "application/xml", BUILT), None)]
    #[case::missing(seen(404, "text/html", b""), Some("is not there yet"))]
    #[case::shut(seen(403, "text/html", b""), Some("answers 403"))]
    #[case::moved(moved("https://www.marrowvale.example/map.xml"), Some("redirects with 301 to"))]
    #[case::another_scheme(moved("http://www.marrowvale.example/sitemap.xml"), Some("correct [site] url"))]
    #[case::another_host(moved("https://marrowvale.example/sitemap.xml"), Some("correct [site] url"))]
    #[case::as_a_page(seen(200, "text/html; charset=utf-8", BUILT), Some("is served as text/html"))]
    #[case::a_blank_line(seen(200, "text/xml", &[b"\r\n", BUILT].concat()), Some("begins with a blank line"))]
    #[case::a_mark(seen(200, "text/xml", &[b"\xef\xbb\xbf", BUILT].concat()), Some("byte-order mark"))]
    #[case::an_older_copy(
        Seen { age: Some(840), etag: Some("\"a1\"".into()), ..seen(200, "text/xml", b"<?xml version=\"1.0\"?><urlset><url/></urlset>") },
        Some("840 s ago (Age: 840, ETag \"a1\"): purge it")
    )]
    #[case::another_version(
        seen(200, "text/xml", b"<?xml version=\"1.0\"?>"),
        Some("another version than the one built here")
    )]
    #[case::something_else(seen(200, "text/plain", b"lamp oil"), Some("has other contents"))]
    fn files_are_compared_byte_for_byte(#[case] seen: Seen, #[case] wanted: Option<&str>) {
        let found = file(MAIN, &seen, BUILT).map(|found| found.to_string());
        match wanted {
            None => assert_eq!(found, None),
            Some(wanted) => assert!(found.as_ref().is_some_and(|found| found.contains(wanted)), "{found:?}"),
        }
    }

    const PAGE: &[u8] = b"<title>Fares</title><nav>Yard</nav><main>A day ticket costs 18 lamps.</main>";

    fn print(body: &[u8]) -> Option<u64> {
        live_page(FARES, &seen(200, "text/html", body), &PageReader::default()).digest
    }

    #[rstest]
    #[case::as_built(seen(200, "text/html", PAGE), None)]
    #[case::with_another_menu(
        seen(200, "text/html", b"<title>F</title><nav>Quay</nav><main>A day ticket costs 18 lamps.</main>"),
        None
    )]
    #[case::old(
        seen(200, "text/html", b"<title>Fares</title><main>A day ticket costs 17 lamps.</main>"),
        Some(NotLive::OldText)
    )]
    #[case::noindex(seen(200, "text/html", b"<meta name=robots content=noindex>"), Some(NotLive::Noindex("<meta name=\"robots\" content=\"noindex\">".into())))]
    #[case::canonical(
        seen(200, "text/html", b"<link rel=canonical href=/>"),
        Some(NotLive::Canonical("https://www.marrowvale.example/".into()))
    )]
    #[case::by_header(
        Seen { robots: vec!["noindex".into()], ..seen(200, "text/html", PAGE) },
        Some(NotLive::NoindexHeader("noindex".into()))
    )]
    #[case::a_document(seen(200, "application/pdf", b"%PDF"), None)]
    #[case::missing(seen(404, "text/html", PAGE), Some(NotLive::Status(404)))]
    fn listed_pages(#[case] seen: Seen, #[case] wanted: Option<NotLive>) {
        assert_eq!(page(FARES, &seen, print(PAGE), &PageReader::default()), wanted);
    }

    #[test]
    fn a_page_whose_html_was_not_read_may_say_anything() {
        assert_eq!(page(FARES, &seen(200, "text/html", b"<p>Closed"), None, &PageReader::default()), None);
    }

    #[rstest]
    #[case(seen(404, "text/html", PAGE), None)]
    #[case(seen(410, "", b""), None)]
    #[case(moved("https://quay.example/"), None)]
    #[case(seen(200, "text/html", b"<meta name=robots content=noindex>"), None)]
    #[case(seen(200, "text/html", b"<meta http-equiv=refresh content='0;url=/quay/'>"), None)]
    #[case(seen(200, "text/html", b"<meta name=robots content='unavailable_after: 2026-11-20'>"), None)]
    #[case(seen(200, "text/html", PAGE), Some(NotLive::StillThere))]
    #[case(seen(503, "text/html", PAGE), Some(NotLive::Status(503)))]
    fn removed_pages(#[case] seen: Seen, #[case] wanted: Option<NotLive>) {
        assert_eq!(gone(FARES, &seen, 1_795_435_200, &PageReader::default()), wanted);
    }
}
