//! Reading the site's own sitemaps from the live server.

use std::path::Path;
use std::time::Duration;

use atlas_core::placement::MOST_BYTES;
use atlas_store::error::StoreError;
use atlas_store::stop::Stop;
use reqwest::{Client, StatusCode};

use super::Reach;
use crate::http::{self, ClientError, FetchError, Fetched};

/// The time limit for one file.
const WAIT: Duration = Duration::from_secs(60);

/// Fetches files from the folder that serves the sitemaps.
#[derive(Debug)]
pub struct Live {
    client: Client,
    reach: Reach,
    address: String,
    stop: Stop,
}

impl Live {
    /// Fetches from the folder with this address, which ends with a slash.
    ///
    /// # Errors
    ///
    /// Returns a [`ClientError`] if a proxy in the environment is not valid.
    pub fn new(address: &str, reach: Reach, stop: &Stop) -> Result<Self, ClientError> {
        let client = http::client(WAIT)?;
        Ok(Self { client, reach, address: address.to_owned(), stop: stop.clone() })
    }

    /// Fetches a file by name; `None` if the server says that it does not exist.
    ///
    /// # Errors
    ///
    /// Returns a [`StoreError`] if the server fails or does not answer, or if it was asked to stop.
    pub fn fetch(&self, name: &str) -> Result<Option<Vec<u8>>, StoreError> {
        let url = format!("{}{name}", self.address);
        let fetched = http::block_on(&self.stop, async {
            let fetched =
                Fetched::following(|url| self.reach.get(&self.client, url), &url).await.and_then(Fetched::successful);
            Ok(match fetched {
                Ok(fetched) => fetched.bytes(MOST_BYTES as usize).await,
                Err(error) => Err(error),
            })
        });
        self.stop.check()?;
        match fetched.map_err(StoreError::io("cannot fetch", Path::new(&url)))? {
            Ok(bytes) => Ok(Some(bytes)),
            Err(FetchError::Status(StatusCode::NOT_FOUND | StatusCode::GONE)) => Ok(None),
            Err(why) => Err(StoreError::Source { name: url, why: why.into() }),
        }
    }
}
