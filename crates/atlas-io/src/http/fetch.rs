//! Fetching: an answer with its redirects and the time it took. Its body is read within limits.

use std::fmt;
use std::io::{self, Read};
use std::time::{Duration, Instant};

use flate2::read::MultiGzDecoder;
use reqwest::header::{self, HeaderMap, HeaderName};
use reqwest::{Client, RequestBuilder, Response, StatusCode, Url};

use super::client::cause;

/// The most redirects that are followed.
const REDIRECTS: usize = 5;

/// An answer whose body is still to be read.
#[derive(Debug)]
pub struct Fetched {
    /// The addresses that redirected, each with its status.
    pub redirects: Vec<(StatusCode, Url)>,
    /// The time until the headers arrived, including redirects.
    pub took: Duration,
    answer: Response,
}

/// Why nothing could be fetched.
#[derive(Debug)]
pub enum FetchError {
    /// The server answered with a status other than 2xx.
    Status(StatusCode),
    /// There was no answer, or not a usable one; the reason in words.
    Failed(String),
    /// The answer is longer than this many bytes.
    TooLarge(usize),
}

impl fmt::Display for FetchError {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Status(status) => write!(formatter, "the server answers {status}"),
            Self::Failed(why) => formatter.write_str(why),
            Self::TooLarge(most) => write!(formatter, "the answer is longer than {most} bytes"),
        }
    }
}

impl Fetched {
    /// Sends a request without following redirects.
    pub async fn of(request: RequestBuilder) -> Result<Self, reqwest::Error> {
        let started = Instant::now();
        let answer = request.send().await?;
        Ok(Self { redirects: Vec::new(), took: started.elapsed(), answer })
    }

    /// Fetches an address and follows up to five redirects.
    pub async fn following(client: &Client, url: &str) -> Result<Self, FetchError> {
        let started = Instant::now();
        let mut redirects = Vec::new();
        let mut url = Url::parse(url).map_err(|error| FetchError::Failed(error.to_string()))?;
        loop {
            let fetched = Self::of(client.get(url.clone())).await.map_err(|error| FetchError::Failed(cause(&error)))?;
            let target = fetched.text(header::LOCATION).filter(|_| fetched.status().is_redirection());
            let Some(target) = target.and_then(|target| url.join(target).ok()) else {
                return Ok(Self { redirects, took: started.elapsed(), ..fetched });
            };
            if redirects.len() >= REDIRECTS {
                return Err(FetchError::Failed("too many redirects".to_owned()));
            }
            redirects.push((fetched.status(), std::mem::replace(&mut url, target)));
        }
    }

    /// Its status.
    pub fn status(&self) -> StatusCode {
        self.answer.status()
    }

    /// Its headers.
    pub fn headers(&self) -> &HeaderMap {
        self.answer.headers()
    }

    /// A header as text.
    pub fn text(&self, name: HeaderName) -> Option<&str> {
        self.headers().get(name)?.to_str().ok()
    }

    /// Turns an answer with a status other than 2xx into an error.
    pub fn successful(self) -> Result<Self, FetchError> {
        if self.status().is_success() { Ok(self) } else { Err(FetchError::Status(self.status())) }
    }

    /// Passes on its body piece by piece; `take` may fail.
    pub async fn each_chunk(mut self, mut take: impl FnMut(&[u8]) -> io::Result<()>) -> Result<(), FetchError> {
        let failed = |error: reqwest::Error| FetchError::Failed(cause(&error));
        while let Some(chunk) = self.answer.chunk().await.map_err(failed)? {
            take(&chunk).map_err(|error| FetchError::Failed(error.to_string()))?;
        }
        Ok(())
    }

    /// Its body, up to this many bytes, as sent.
    pub async fn bytes(mut self, most: usize) -> Result<Vec<u8>, FetchError> {
        let mut bytes = Vec::with_capacity(self.answer.content_length().unwrap_or(0).min(1 << 20) as usize);
        while let Some(chunk) = self.answer.chunk().await.map_err(|error| FetchError::Failed(cause(&error)))? {
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
        if !is_packed {
            return Ok(bytes);
        }
        let mut unpacked = Vec::new();
        match MultiGzDecoder::new(&bytes[..]).take(most as u64 + 1).read_to_end(&mut unpacked) {
            Ok(length) if length > most => Err(FetchError::TooLarge(most)),
            Ok(_) => Ok(unpacked),
            Err(error) => Err(FetchError::Failed(format!("its gzip data is broken ({error})"))),
        }
    }
}
