//! Judging pages on the live site: whether engines would take what the sitemaps list.

use super::answer::Silence;
use super::codes::{
    CANONICAL_ELSEWHERE, FindingKind, NO_ANSWER, NO_PAGE, NOINDEX, NOT_A_PAGE, PAGE_BLOCKED, PAGE_SLOW,
    PICTURE_MISSING, REDIRECT, REFUSED, SERVER_ERROR, SOFT_404, THUMBNAIL_MISSING, TLS_TROUBLE, VIDEO_MISSING,
};
use super::findings::{Findings, Place};
use super::listed::{ListedPage, MediaKind};
use crate::announce::live::{NotLive, Seen, answered, read_seen, unlisted};
use crate::number::grouped;
use crate::page::{Page, PageReader};

/// A page that took longer is slow, in milliseconds.
const SLOW: u64 = 3_000;
/// A text of fewer bytes is too short to recognise a page by.
const LEAST_TEXT: usize = 40;

/// What came of visiting an address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PageVisit {
    /// The answer, without following redirects; or why there was none.
    pub seen: Result<Seen, (Silence, String)>,
    /// The time from the request to the last byte, in milliseconds.
    pub milliseconds: u64,
}

/// How a site answers requests for pages that do not exist: what it shows instead.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct MissingPage {
    /// A digest of the main text, if the site answers 200.
    digest: Option<u64>,
}

impl MissingPage {
    /// Learns it from the answer for a made-up address.
    pub fn of(address: &str, seen: &Seen, reader: &PageReader) -> Self {
        let page = (seen.status == 200).then(|| read_seen(address, seen, reader)).flatten();
        Self { digest: page.as_ref().and_then(digest) }
    }

    /// Whether a page that exists looks the same.
    fn is_like(&self, page: &Page) -> bool {
        self.digest.is_some() && self.digest == digest(page)
    }
}

/// A digest of the main text of a page; `None` if it is too short.
fn digest(page: &Page) -> Option<u64> {
    (page.text_bytes >= LEAST_TEXT).then_some(page.digest)
}

/// What keeps engines from taking a page: the kind of finding, and what is wrong.
pub fn trouble(
    url: &str,
    visit: &PageVisit,
    missing: &MissingPage,
    reader: &PageReader,
) -> Option<(&'static FindingKind, String)> {
    let seen = match &visit.seen {
        Ok(seen) => seen,
        Err((Silence::Tls, why)) => return Some((&TLS_TROUBLE, why.clone())),
        Err((Silence::NoAnswer, why)) => return Some((&NO_ANSWER, why.clone())),
    };
    let kind = seen.content_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    let is_page = matches!(kind.as_str(), "text/html" | "application/xhtml+xml" | "");
    let may_be_wall = matches!(seen.status, 200 | 401 | 403 | 429 | 503) && is_page;
    let page = if may_be_wall { read_seen(url, seen, reader) } else { None };
    if page.as_ref().is_some_and(Page::is_wall) {
        return Some((&PAGE_BLOCKED, format!("answers {} with a page that asks for a browser", seen.status)));
    }
    let not_live = answered(url, seen).or_else(|| unlisted(url, seen, page.as_ref(), reader));
    if let Some(not_live) = not_live {
        let kind: &'static FindingKind = match &not_live {
            NotLive::Redirect(..) | NotLive::OtherSite(_) | NotLive::Refresh(_) => &REDIRECT,
            NotLive::Noindex(_) | NotLive::NoindexHeader(_) => &NOINDEX,
            NotLive::Canonical(_) => &CANONICAL_ELSEWHERE,
            NotLive::Status(401 | 403 | 407 | 451) => &REFUSED,
            NotLive::Status(429 | 500..) => &SERVER_ERROR,
            _ => &NO_PAGE,
        };
        let what = match &not_live {
            NotLive::OtherSite(to) => format!("redirects with {} to {to}", seen.status),
            NotLive::Status(status) => format!("answers {status}"),
            other => other.to_string(),
        };
        return Some((kind, what));
    }
    let is_document = kind.starts_with("application/") && !is_program(&kind) || kind == "text/plain";
    if !is_page && !is_document {
        return Some((&NOT_A_PAGE, format!("is served as {kind}")));
    }
    page.is_some_and(|page| missing.is_like(&page)).then(|| {
        (&SOFT_404, "answers 200 with the text that the server shows for addresses that do not exist".to_owned())
    })
}

fn is_program(kind: &str) -> bool {
    matches!(kind, "application/javascript" | "application/json" | "application/wasm")
}

/// The findings about a listed page.
pub fn judge_page(
    listed: &ListedPage,
    visit: &PageVisit,
    missing: &MissingPage,
    reader: &PageReader,
    findings: &mut Findings<'_>,
) {
    let place = Place::file(&listed.file).at(listed.line).about(&listed.url);
    if let Some((kind, what)) = trouble(&listed.url, visit, missing, reader) {
        findings.add(kind, place, || what);
    }
    if visit.milliseconds > SLOW && visit.seen.is_ok() {
        findings.add(&PAGE_SLOW, place, || {
            format!("took {}.{} s", grouped(visit.milliseconds / 1000), visit.milliseconds % 1000 / 100)
        });
    }
}

/// The findings about a picture, thumbnail or video of a listed page.
pub fn judge_media(
    listed: &ListedPage,
    kind: MediaKind,
    address: &str,
    visit: &PageVisit,
    findings: &mut Findings<'_>,
) {
    let place = Place::file(&listed.file).at(listed.line).about(&listed.url);
    let is_picture = |seen: &Seen| {
        let kind = seen.content_type.to_ascii_lowercase();
        kind.starts_with("image/") || kind.is_empty()
    };
    let what = match (&visit.seen, kind) {
        (Err((_, why)), _) => format!("does not answer ({why})"),
        (Ok(seen), _) if !matches!(seen.status, 200..=399) => format!("answers {}", seen.status),
        (Ok(seen), MediaKind::Picture | MediaKind::Thumbnail) if seen.status == 200 && !is_picture(seen) => {
            format!("is served as {}", seen.content_type)
        }
        (Ok(seen), MediaKind::Video) if seen.status == 200 && seen.content_type.starts_with("text/html") => {
            "is served as text/html".to_owned()
        }
        _ => return,
    };
    let kind: &'static FindingKind = match kind {
        MediaKind::Picture => &PICTURE_MISSING,
        MediaKind::Thumbnail => &THUMBNAIL_MISSING,
        MediaKind::Video | MediaKind::Player => &VIDEO_MISSING,
    };
    findings.add(kind, place, || format!("{address} {what}"));
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const FARES: &str = "https://www.marrowvale.example/fares/";
    const GONE: &str = "<title>Not here</title><main>Sorry, we cannot find that page anywhere on the line.</main>";

    fn visit(status: u16, kind: &str, body: &str) -> PageVisit {
        let seen = Seen { status, content_type: kind.into(), body: body.into(), ..Seen::default() };
        PageVisit { seen: Ok(seen), milliseconds: 0 }
    }

    #[rstest]
    #[case::fine(visit(200, "text/html", "<title>Fares</title><main>A day ticket costs 18 lamps.</main>"), None)]
    #[case::document(visit(200, "application/pdf", "%PDF"), None)]
    #[case::missing(visit(404, "text/html", GONE), Some("no-page"))]
    #[case::failing(visit(502, "text/html", ""), Some("server-error"))]
    #[case::refused(visit(403, "text/html", ""), Some("refused"))]
    #[case::wall(visit(403, "text/html", "<title>Verify that you are human</title>"), Some("page-blocked"))]
    #[case::noindex(visit(200, "text/html", "<meta name=robots content=noindex>"), Some("noindex"))]
    #[case::canonical(visit(200, "text/html", "<link rel=canonical href=/>"), Some("canonical-elsewhere"))]
    #[case::style(visit(200, "text/css", "a{}"), Some("not-a-page"))]
    #[case::soft(visit(200, "text/html", GONE), Some("soft-404"))]
    #[case::silent(PageVisit { seen: Err((Silence::NoAnswer, "refused".into())), milliseconds: 0 }, Some("no-answer"))]
    fn pages_that_engines_do_not_take(#[case] visit: PageVisit, #[case] wanted: Option<&str>) {
        let reader = PageReader::default();
        let made_up = "https://www.marrowvale.example/no-such-page/";
        let missing = MissingPage::of(made_up, self::visit(200, "text/html", GONE).seen.as_ref().unwrap(), &reader);
        let found = trouble(FARES, &visit, &missing, &reader);
        assert_eq!(found.map(|(kind, _)| kind.code), wanted);
    }
}
