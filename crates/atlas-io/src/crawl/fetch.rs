//! Fetching one address as a crawler does: no redirect is followed unseen, no answer is taken without bounds.

use std::io::Read;
use std::time::Duration;

use atlas_core::address::Address;
use atlas_core::contribution::NO_ANSWER;
use atlas_core::page::{HeaderLinks, by_header, robots_header};
use flate2::read::MultiGzDecoder;
use jiff::Timestamp;
use reqwest::header::{self, HeaderMap};
use reqwest::{Client, Response, StatusCode};

use crate::http;

/// The most bytes of a page, as sent and unpacked.
pub(super) const LARGEST: usize = 32 << 20;

/// What came of fetching an address.
#[derive(Debug)]
pub(super) enum Fetched {
    /// A page, or a document that is asked for.
    Page(Body),
    /// It is as it was when it was fetched last.
    Same,
    /// It leads elsewhere: with which status, and where.
    Redirect(String, Address),
    /// There is no page: why, in words.
    Nothing(String),
    /// The server keeps us out: how, in words.
    Refused(String),
    /// The server has trouble: why, in words. It may be better another time.
    Trouble(String),
    /// The server asks for patience.
    Wait(Option<Duration>, u16),
}

/// An answer that was taken.
#[derive(Debug)]
pub(super) struct Body {
    pub(super) bytes: Vec<u8>,
    /// Its type, without parameters, in small letters.
    pub(super) kind: String,
    /// A robots directive of its headers that forbids indexing.
    pub(super) noindex: Option<String>,
    /// A robots directive of its headers asks that its links be not followed.
    pub(super) nofollow: bool,
    /// The date after which its headers ask not to list it, as it stands there.
    pub(super) unavailable_after: Option<String>,
    /// The canonical address and the translations that its headers name.
    pub(super) header_links: HeaderLinks,
    /// What to ask with the next time: `ETag` and `Last-Modified`, on a line each.
    pub(super) validators: String,
}

/// How addresses are fetched.
#[derive(Debug, Clone)]
pub(super) struct Fetcher {
    pub(super) client: Client,
    /// Crawlers whose own robots directives count.
    pub(super) tokens: Vec<String>,
    /// Types, besides pages, that are taken.
    pub(super) documents: Vec<String>,
}

impl Fetcher {
    /// A client that keeps its connections and follows nothing by itself.
    pub(super) fn new(
        wait: Duration,
        connections: usize,
        tokens: Vec<String>,
        documents: Vec<String>,
    ) -> Result<Self, reqwest::Error> {
        let client = http::builder(wait)
            .redirect(reqwest::redirect::Policy::none())
            .pool_max_idle_per_host(connections)
            .http1_only()
            .build()?;
        Ok(Self { client, tokens, documents })
    }

    /// Fetches one address; `validators` are those of the last time, or empty.
    pub(super) async fn fetch(&self, address: &Address, validators: &str) -> Fetched {
        let mut request = self
            .client
            .get(address.as_str())
            .header(header::ACCEPT, "text/html,application/xhtml+xml;q=0.9,*/*;q=0.5")
            .header(header::ACCEPT_ENCODING, "gzip");
        let (tag, date) = validators.split_once('\n').unwrap_or(("", ""));
        for (name, value) in [(header::IF_NONE_MATCH, tag), (header::IF_MODIFIED_SINCE, date)] {
            if !value.is_empty() {
                request = request.header(name, value);
            }
        }
        match request.send().await {
            Ok(answer) => self.take(address, answer).await,
            Err(error) => no_answer(&error),
        }
    }

    async fn take(&self, address: &Address, answer: Response) -> Fetched {
        let status = answer.status();
        if status == StatusCode::NOT_MODIFIED {
            return Fetched::Same;
        }
        if status.is_redirection() {
            let target = text(answer.headers(), header::LOCATION).and_then(|target| address.join(target).ok());
            return match target {
                Some(target) => Fetched::Redirect(status.to_string(), target),
                None => Fetched::Nothing(format!("{status} that leads nowhere")),
            };
        }
        if matches!(status, StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE) {
            return Fetched::Wait(retry_after(answer.headers(), Timestamp::now()), status.as_u16());
        }
        if status.is_server_error() {
            return Fetched::Trouble(status.to_string());
        }
        if matches!(status, StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN) {
            return Fetched::Refused(status.to_string());
        }
        if !status.is_success() {
            return Fetched::Nothing(status.to_string());
        }
        let stated = text(answer.headers(), header::CONTENT_TYPE).unwrap_or("").to_ascii_lowercase();
        let (kind, parameters) = stated.split_once(';').unwrap_or((&stated, ""));
        let charset = parameters.split(';').find_map(|parameter| parameter.trim().strip_prefix("charset="));
        let (kind, charset) = (kind.trim().to_owned(), charset.unwrap_or("").to_owned());
        if !is_page(&kind) && !self.documents.contains(&kind) {
            return Fetched::Nothing(format!(
                "{kind}, which is not a page; documents on the source lists files by their ending"
            ));
        }
        self.body(address, answer, kind, &charset).await
    }

    async fn body(&self, address: &Address, mut answer: Response, kind: String, charset: &str) -> Fetched {
        let headers = answer.headers();
        let directives = headers.get_all("x-robots-tag").iter().filter_map(|value| value.to_str().ok());
        let (mut noindex, mut nofollow, mut unavailable_after) = (None, false, None);
        for directive in directives {
            let words = robots_header(directive, &self.tokens);
            nofollow |= words.nofollow;
            unavailable_after = unavailable_after.or(words.unavailable_after.map(str::to_owned));
            if words.noindex {
                noindex.get_or_insert_with(|| format!("X-Robots-Tag: {directive}"));
            }
        }
        let mut header_links = HeaderLinks::default();
        let links = headers.get_all(header::LINK).iter().filter_map(|value| value.to_str().ok());
        links.for_each(|value| header_links.take(value, address));
        let plain = |name| text(headers, name).unwrap_or("").replace('\n', " ");
        let validators = format!("{}\n{}", plain(header::ETAG), plain(header::LAST_MODIFIED));
        let packed = text(headers, header::CONTENT_ENCODING).is_some_and(|coding| coding.eq_ignore_ascii_case("gzip"));
        let mut bytes = Vec::with_capacity(answer.content_length().unwrap_or(0).min(1 << 20) as usize);
        loop {
            match answer.chunk().await {
                Ok(Some(chunk)) if bytes.len() + chunk.len() > LARGEST => return too_large(),
                Ok(Some(chunk)) => bytes.extend_from_slice(&chunk),
                Ok(None) => break,
                Err(error) => return no_answer(&error),
            }
        }
        if packed {
            let mut unpacked = Vec::new();
            match MultiGzDecoder::new(&bytes[..]).take(LARGEST as u64 + 1).read_to_end(&mut unpacked) {
                Ok(length) if length > LARGEST => return too_large(),
                Ok(_) => bytes = unpacked,
                Err(error) => return Fetched::Nothing(format!("its gzip is broken ({error})")),
            }
        }
        if is_page(&kind) {
            bytes = by_header(bytes, charset);
        }
        let validators = if validators == "\n" { String::new() } else { validators };
        Fetched::Page(Body { bytes, kind, noindex, nofollow, unavailable_after, header_links, validators })
    }
}

/// Whether a type is that of a page. A page without a type is taken for one.
pub(super) fn is_page(kind: &str) -> bool {
    matches!(kind, "text/html" | "application/xhtml+xml" | "")
}

fn no_answer(error: &reqwest::Error) -> Fetched {
    Fetched::Trouble(format!("{NO_ANSWER}: {}", http::cause(error)))
}

fn too_large() -> Fetched {
    Fetched::Nothing(format!("more than {} MiB", LARGEST >> 20))
}

fn text(headers: &HeaderMap, name: header::HeaderName) -> Option<&str> {
    headers.get(name)?.to_str().ok()
}

/// Seconds, or a date (RFC 9110 section 10.2.3).
fn retry_after(headers: &HeaderMap, now: Timestamp) -> Option<Duration> {
    let value = text(headers, header::RETRY_AFTER)?.trim();
    let seconds = match value.parse::<u64>() {
        Ok(seconds) => seconds,
        Err(_) => {
            let date = jiff::fmt::rfc2822::parse(value).ok()?;
            u64::try_from(date.timestamp().as_second() - now.as_second()).unwrap_or(0)
        }
    };
    Some(Duration::from_secs(seconds))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("7", Some(7))]
    #[case("Mon, 23 Nov 2026 07:08:00 GMT", Some(60))]
    #[case("Mon, 23 Nov 2026 07:00:00 GMT", Some(0))]
    #[case("soon", None)]
    fn patience(#[case] value: &str, #[case] wanted: Option<u64>) {
        let headers = HeaderMap::from_iter([(header::RETRY_AFTER, value.parse().unwrap())]);
        let now = "2026-11-23T07:07:00Z".parse().unwrap();
        assert_eq!(retry_after(&headers, now), wanted.map(Duration::from_secs));
    }
}
