//! Fetching: an answer after its redirects, whose body is read within limits.

use std::io::{self, Read};

use flate2::read::MultiGzDecoder;
use reqwest::header::{self, HeaderMap, HeaderName};
use reqwest::{RequestBuilder, Response, StatusCode, Url};
use thiserror::Error;

use super::address_rule::may_lead;
use super::client::cause;

/// The most redirects that are followed.
const REDIRECTS: usize = 5;

/// An answer whose body is still to be read.
#[derive(Debug)]
pub(crate) struct Fetched(Response);

/// Why nothing could be fetched.
#[derive(Debug, Error)]
pub(crate) enum FetchError {
    /// The server answered with a status other than 2xx.
    #[error("the server answers {0}")]
    Status(StatusCode),
    /// The address is not a URL.
    #[error(transparent)]
    Address(#[from] url::ParseError),
    /// There was no answer, or it ended early.
    #[error("{}", cause(.0))]
    NoAnswer(#[from] reqwest::Error),
    /// It redirects to an address of this machine or a private network.
    #[error("it redirects to {0}, which is not a public address")]
    NotPublic(String),
    /// Each address redirects to another.
    #[error("too many redirects")]
    Redirects,
    /// The answer is longer than this many bytes.
    #[error("the answer is longer than {0} bytes")]
    TooLarge(usize),
    /// The answer was sent as gzip but is not.
    #[error("its gzip data is broken ({0})")]
    Gzip(#[source] io::Error),
    /// The answer could not be stored.
    #[error(transparent)]
    Store(io::Error),
}

/// The host of a URL, with its port.
fn authority(url: &Url) -> String {
    let host = url.host_str().unwrap_or_default();
    url.port().map_or(host.to_owned(), |port| format!("{host}:{port}"))
}

impl Fetched {
    /// Sends a request without following redirects.
    pub(crate) async fn of(request: RequestBuilder) -> Result<Self, reqwest::Error> {
        request.send().await.map(Self)
    }

    /// Fetches an address and follows up to five redirects.
    /// `get` makes the request for an address.
    pub(crate) async fn following(get: impl Fn(&str) -> RequestBuilder, url: &str) -> Result<Self, FetchError> {
        let mut url = Url::parse(url)?;
        for _ in 0..=REDIRECTS {
            let fetched = Self::of(get(url.as_str())).await?;
            let target = fetched.text(header::LOCATION).filter(|_| fetched.status().is_redirection());
            let Some(target) = target.and_then(|target| url.join(target).ok()) else { return Ok(fetched) };
            if !may_lead(&authority(&url), &authority(&target)) {
                return Err(FetchError::NotPublic(target.to_string()));
            }
            url = target;
        }
        Err(FetchError::Redirects)
    }

    /// Its status.
    pub fn status(&self) -> StatusCode {
        self.0.status()
    }

    /// Its headers.
    pub fn headers(&self) -> &HeaderMap {
        self.0.headers()
    }

    /// A header as text.
    pub fn text(&self, name: HeaderName) -> Option<&str> {
        self.headers().get(name)?.to_str().ok()
    }

    /// Turns an answer with a status other than 2xx into an error.
    pub(crate) fn successful(self) -> Result<Self, FetchError> {
        if self.status().is_success() { Ok(self) } else { Err(FetchError::Status(self.status())) }
    }

    /// Passes on its body piece by piece; `take` may fail.
    pub(crate) async fn each_chunk(mut self, mut take: impl FnMut(&[u8]) -> io::Result<()>) -> Result<(), FetchError> {
        while let Some(chunk) = self.0.chunk().await? {
            take(&chunk).map_err(FetchError::Store)?;
        }
        Ok(())
    }

    /// Its body, up to this many bytes, as sent.
    pub async fn bytes(mut self, most: usize) -> Result<Vec<u8>, FetchError> {
        let mut bytes = Vec::with_capacity(self.0.content_length().unwrap_or(0).min(1 << 20) as usize);
        while let Some(chunk) = self.0.chunk().await? {
            if bytes.len() + chunk.len() > most {
                return Err(FetchError::TooLarge(most));
            }
            bytes.extend_from_slice(&chunk);
        }
        Ok(bytes)
    }

    /// Its body, unpacked if it was sent as gzip, within the same limit.
    pub async fn unpacked(self, most: usize) -> Result<Vec<u8>, FetchError> {
        let is_packed = self.text(header::CONTENT_ENCODING).is_some_and(|coding| coding.eq_ignore_ascii_case("gzip"));
        let bytes = self.bytes(most).await?;
        // The answer to a HEAD request has no body, however it would be encoded.
        if !is_packed || bytes.is_empty() {
            return Ok(bytes);
        }
        let mut unpacked = Vec::new();
        match MultiGzDecoder::new(&bytes[..]).take(most as u64 + 1).read_to_end(&mut unpacked) {
            Ok(length) if length > most => Err(FetchError::TooLarge(most)),
            Ok(_) => Ok(unpacked),
            Err(error) => Err(FetchError::Gzip(error)),
        }
    }
}
