//! Looking whether the live site serves what was built.

use std::cell::RefCell;
use std::collections::HashMap;
use std::time::Duration;

use atlas_core::announce::live::{ExpectedLive, NotLive, Seen, file, gone, page};
use atlas_core::page::PageReader;
use atlas_core::placement::MOST_BYTES;
use atlas_store::destination::Destination;
use atlas_store::disk::segmented_gzip::unpack;
use atlas_store::error::StoreError;
use atlas_store::stop::Stop;
use jiff::Timestamp;
use reqwest::{Client, RequestBuilder, Url, header};
use tokio::task::JoinSet;

use super::Reach;
use crate::http::{self, ClientError, FetchError, Fetched, retry_after};

/// The time limit for one answer.
const WAIT: Duration = Duration::from_secs(20);
/// How many answers are waited for at once.
const CONNECTIONS: usize = 6;
/// The largest page that is compared, in bytes.
const LARGEST_PAGE: usize = 32 << 20;

/// A live site that can be compared with what was built.
pub trait LiveSite {
    /// Looks at each of these; `None` for those that are as expected.
    ///
    /// # Errors
    ///
    /// Returns a [`StoreError`] if what was built cannot be read, or if it was asked to stop.
    fn look(&self, expected: &[ExpectedLive]) -> Result<Vec<Option<NotLive>>, StoreError>;
}

/// The live site on its server. What it once saw it does not ask for again, so it serves for one round.
pub struct Deployed<'a> {
    client: Client,
    reach: Reach,
    reader: PageReader,
    built: &'a dyn Destination,
    /// In seconds since 1970.
    now: i64,
    stop: Stop,
    known: RefCell<HashMap<String, Option<NotLive>>>,
}

impl<'a> Deployed<'a> {
    /// A site whose files were `built` here; `reader` reads its pages, at an instant in seconds since 1970.
    ///
    /// # Errors
    ///
    /// Returns a [`ClientError`] if a proxy in the environment is not valid.
    pub fn new(
        built: &'a dyn Destination,
        reach: Reach,
        reader: PageReader,
        (now, stop): (i64, &Stop),
    ) -> Result<Self, ClientError> {
        let client = http::client(WAIT)?;
        Ok(Self { client, reach, reader, built, now, stop: stop.clone(), known: RefCell::default() })
    }

    /// What the live site serves at an address; `None` if it is anything but 200.
    ///
    /// # Errors
    ///
    /// Returns an error if it was asked to stop.
    pub fn body(&self, address: &str) -> Result<Option<Vec<u8>>, StoreError> {
        let seen = http::block_on(&self.stop, async {
            Ok(see(self.reach.get(&self.client, address), address, LARGEST_PAGE).await)
        });
        self.stop.check()?;
        let seen = seen.ok().and_then(Result::ok).filter(|seen| seen.status == 200);
        Ok(seen.map(|seen| seen.body))
    }

    /// Compares one answer.
    fn compare(&self, expected: &ExpectedLive, seen: &Seen) -> Result<Option<NotLive>, StoreError> {
        Ok(match expected {
            ExpectedLive::File { name, address } => {
                let built = plain(self.built.read(name)?.unwrap_or_default());
                file(address, seen, &built)
            }
            ExpectedLive::Key { address, text } => {
                let text = text.as_bytes();
                // A line break at its end does no harm.
                let body = seen.body.trim_ascii_end();
                file(address, &Seen { body: body.to_vec(), ..seen.clone() }, text)
            }
            ExpectedLive::Page { url, print } => page(url, seen, *print, &self.reader),
            ExpectedLive::Gone { url } => gone(url, seen, self.now, &self.reader),
        })
    }
}

impl LiveSite for Deployed<'_> {
    fn look(&self, expected: &[ExpectedLive]) -> Result<Vec<Option<NotLive>>, StoreError> {
        let is_new = |one: &&ExpectedLive| !self.known.borrow().contains_key(one.address());
        let mut new = expected.iter().filter(is_new);
        let fetched = http::block_on(&self.stop, async {
            let (mut under_way, mut answers) = (JoinSet::new(), Vec::new());
            loop {
                while under_way.len() < CONNECTIONS
                    && let Some(one) = new.next()
                {
                    let request = self.reach.get(&self.client, one.address());
                    let most = match one {
                        ExpectedLive::File { .. } | ExpectedLive::Key { .. } => MOST_BYTES as usize,
                        ExpectedLive::Page { .. } | ExpectedLive::Gone { .. } => LARGEST_PAGE,
                    };
                    let one = one.clone();
                    under_way.spawn(async move {
                        let seen = see(request, one.address(), most).await;
                        (one, seen)
                    });
                }
                match under_way.join_next().await {
                    Some(Ok(answer)) => answers.push(answer),
                    Some(Err(_)) => {}
                    None => return Ok(answers),
                }
            }
        });
        self.stop.check()?;
        for (one, seen) in fetched.map_err(StoreError::io("cannot look at", "the live site"))? {
            let not_live = match seen {
                Ok(seen) => self.compare(&one, &seen)?,
                Err(FetchError::TooLarge(_)) => Some(NotLive::Different),
                Err(why) => Some(NotLive::NoAnswer(why.to_string())),
            };
            self.known.borrow_mut().insert(one.address().to_owned(), not_live);
        }
        let known = self.known.borrow();
        Ok(expected.iter().map(|one| known.get(one.address()).cloned().flatten()).collect())
    }
}

/// Fetches an address, without following redirects.
pub(crate) async fn see(request: RequestBuilder, address: &str, most: usize) -> Result<Seen, FetchError> {
    let fetched = Fetched::of(request.header(header::ACCEPT_ENCODING, "gzip")).await?;
    let text = |name| fetched.text(name).map(str::to_owned);
    let target = |target: &str| Url::parse(address).ok()?.join(target).ok().map(String::from);
    let robots = fetched.headers().get_all("x-robots-tag").iter();
    let seen = Seen {
        status: fetched.status().as_u16(),
        location: fetched.text(header::LOCATION).and_then(target),
        content_type: text(header::CONTENT_TYPE).unwrap_or_default(),
        age: fetched.text(header::AGE).and_then(|age| age.trim().parse().ok()),
        etag: text(header::ETAG),
        retry_after: retry_after(fetched.headers(), Timestamp::now()).map(|pause| pause.as_secs()),
        robots: robots.filter_map(|value| value.to_str().ok()).map(str::to_owned).collect(),
        body: Vec::new(),
    };
    if seen.status != 200 {
        return Ok(seen);
    }
    Ok(Seen { body: plain(fetched.unpacked(most).await?), ..seen })
}

/// A file as it is when it is unpacked. One that is not gzip is left as it is.
fn plain(bytes: Vec<u8>) -> Vec<u8> {
    match bytes.starts_with(&[0x1f, 0x8b]) {
        true => unpack(&bytes, MOST_BYTES).unwrap_or(bytes),
        false => bytes,
    }
}
