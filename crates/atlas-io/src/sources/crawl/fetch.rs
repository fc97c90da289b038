//! Fetching one address for a crawl: redirects are reported rather than followed, and answers are read within limits.

use std::time::Duration;

use atlas_core::address::Address;
use atlas_core::contribution::NO_ANSWER;
use atlas_core::page::{HeaderLinks, by_header, robots_header};
use jiff::Timestamp;
use reqwest::{Client, StatusCode, header};

use crate::http::{self, ClientError, FetchError, Fetched, retry_after};

/// The most bytes of a page, both compressed and unpacked.
pub(super) const LARGEST: usize = 32 << 20;

/// The result of visiting an address.
#[derive(Debug)]
pub(super) enum Visited {
    /// A page, or a document that is listed.
    Page(FetchedBody),
    /// Unchanged since it was last fetched.
    Same,
    /// A redirect: its status and target.
    Redirect(String, Address),
    /// There is no page; the reason in words.
    Nothing(String),
    /// The server refuses access; the reason in words.
    Refused(String),
    /// The server fails, perhaps temporarily; the reason in words.
    Failing(String),
    /// The server asks for a pause.
    Wait(Option<Duration>, StatusCode),
}

/// An answer with a body.
#[derive(Debug)]
pub(super) struct FetchedBody {
    pub(super) bytes: Vec<u8>,
    /// Its media type, without parameters, in lower case.
    pub(super) kind: String,
    /// A robots directive in its headers that forbids indexing.
    pub(super) noindex: Option<String>,
    /// Whether a robots directive in its headers asks not to follow its links.
    pub(super) nofollow: bool,
    /// The date after which its headers ask not to list it, as written.
    pub(super) unavailable_after: Option<String>,
    /// The canonical address and the translations in its headers.
    pub(super) header_links: HeaderLinks,
    /// What to send in conditional requests next time: `ETag` and `Last-Modified`, one per line.
    pub(super) validators: String,
}

/// The settings for fetching.
#[derive(Debug, Clone)]
pub(super) struct Fetcher {
    pub(super) client: Client,
    /// The crawlers whose own robots directives count.
    pub(super) tokens: Vec<String>,
    /// The media types that are listed besides pages.
    pub(super) documents: Vec<String>,
}

impl Fetcher {
    /// A client that keeps its connections and follows no redirects.
    pub(super) fn new(
        wait: Duration,
        connections: usize,
        tokens: Vec<String>,
        documents: Vec<String>,
    ) -> Result<Self, ClientError> {
        let client = http::builder(wait)?.pool_max_idle_per_host(connections).http1_only();
        let client = client.build().map_err(ClientError::Client)?;
        Ok(Self { client, tokens, documents })
    }

    /// Fetches one address; `validators` are those of the last time, or empty.
    pub(super) async fn fetch(&self, address: &Address, validators: &str) -> Visited {
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
        match Fetched::of(request).await {
            Ok(answer) => self.take(address, answer).await,
            Err(error) => no_answer(&error),
        }
    }

    async fn take(&self, address: &Address, answer: Fetched) -> Visited {
        let status = answer.status();
        if status == StatusCode::NOT_MODIFIED {
            return Visited::Same;
        }
        if status.is_redirection() {
            let target = answer.text(header::LOCATION).and_then(|target| address.join(target).ok());
            return match target {
                Some(target) => Visited::Redirect(status.to_string(), target),
                None => Visited::Nothing(format!("{status} that leads nowhere")),
            };
        }
        if matches!(status, StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE) {
            return Visited::Wait(retry_after(answer.headers(), Timestamp::now()), status);
        }
        if status.is_server_error() {
            return Visited::Failing(status.to_string());
        }
        if matches!(status, StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN) {
            return Visited::Refused(status.to_string());
        }
        if !status.is_success() {
            return Visited::Nothing(status.to_string());
        }
        let stated = answer.text(header::CONTENT_TYPE).unwrap_or("").to_ascii_lowercase();
        let (kind, parameters) = stated.split_once(';').unwrap_or((&stated, ""));
        let charset = parameters.split(';').find_map(|parameter| parameter.trim().strip_prefix("charset="));
        let (kind, charset) = (kind.trim().to_owned(), charset.unwrap_or("").to_owned());
        if !is_page(&kind) && !self.documents.contains(&kind) {
            return Visited::Nothing(format!("{kind}, which is not a page; documents on the source lists such files"));
        }
        self.body(address, answer, kind, &charset).await
    }

    async fn body(&self, address: &Address, answer: Fetched, kind: String, charset: &str) -> Visited {
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
        let plain = |name| answer.text(name).unwrap_or("").replace('\n', " ");
        let validators = format!("{}\n{}", plain(header::ETAG), plain(header::LAST_MODIFIED));
        let mut bytes = match answer.unpacked(LARGEST).await {
            Ok(bytes) => bytes,
            Err(FetchError::TooLarge(_)) => return Visited::Nothing(format!("more than {} MiB", LARGEST >> 20)),
            Err(error @ FetchError::Gzip(_)) => return Visited::Nothing(error.to_string()),
            Err(error) => return Visited::Failing(format!("{NO_ANSWER}: {error}")),
        };
        if is_page(&kind) {
            bytes = by_header(bytes, charset);
        }
        let validators = if validators == "\n" { String::new() } else { validators };
        Visited::Page(FetchedBody { bytes, kind, noindex, nofollow, unavailable_after, header_links, validators })
    }
}

/// Whether a media type is that of a page. Pages without a type count as well.
pub(super) fn is_page(kind: &str) -> bool {
    matches!(kind, "text/html" | "application/xhtml+xml" | "")
}

fn no_answer(error: &reqwest::Error) -> Visited {
    Visited::Failing(format!("{NO_ANSWER}: {}", http::cause(error)))
}
