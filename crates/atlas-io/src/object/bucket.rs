//! One bucket.

use std::fmt;
use std::fs::File;
use std::io::{self, Read};
use std::ops::Range;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use atlas_store::stop::Stop;
use bytes::Bytes;
use futures_util::{StreamExt, TryStreamExt};
use object_store::aws::AmazonS3Builder;
use object_store::azure::MicrosoftAzureBuilder;
use object_store::client::{ClientOptions, HttpClient, HttpConnector};
use object_store::gcp::GoogleCloudStorageBuilder;
use object_store::path::Path;
use object_store::{
    Attribute, Attributes, BackoffConfig, GetOptions, GetRange, MultipartUpload, ObjectMeta, ObjectStore,
    ObjectStoreExt, PutMode, PutOptions, PutPayload, RetryConfig, UpdateVersion,
};
use tokio::runtime::Runtime;

use super::address::ObjectAddress;
use super::failure::in_words;
use super::settings::StoreSettings;
use crate::http;

/// The time limit of one request.
const WAIT: Duration = Duration::from_secs(60);
/// How long a request that failed is tried again.
const RETRY: Duration = Duration::from_secs(30);
/// From this many bytes on, an object is written in parts of this size.
const IN_PARTS: u64 = 16 << 20;
/// How often it is tried again.
const RETRIES: usize = 6;

/// One bucket. All calls wait for their answer, and can come from any thread.
pub struct Bucket {
    store: Arc<dyn ObjectStore>,
    /// Its name in messages.
    shown: String,
}

/// An object as a store lists it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundObject {
    /// Its key.
    pub key: String,
    /// Its size in bytes.
    pub size: u64,
    /// Its entity tag, without which nothing tells whether it was changed.
    pub etag: Option<String>,
}

/// How an object is written.
#[derive(Debug, Clone, Default)]
pub struct PutHow {
    /// Its media type.
    pub content_type: Option<&'static str>,
    /// How its bytes are encoded.
    pub content_encoding: Option<&'static str>,
    /// How long caches may keep it.
    pub cache_control: Option<String>,
    /// What has to be there beforehand.
    pub expected: ThereBefore,
}

/// What has to be there before an object is written.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum ThereBefore {
    /// Whatever there is.
    #[default]
    Anything,
    /// Nothing.
    Nothing,
    /// The object with this entity tag.
    Tag(String),
}

/// The clients of this program, with its certificates and proxies.
#[derive(Debug)]
struct OurClients;

impl HttpConnector for OurClients {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        let client = http::client(WAIT)
            .map_err(|error| object_store::Error::Generic { store: "client", source: Box::new(error) })?;
        Ok(HttpClient::new(client))
    }
}

/// The threads on which requests run.
fn runtime() -> io::Result<&'static Runtime> {
    static RUNTIME: OnceLock<io::Result<Runtime>> = OnceLock::new();
    let made =
        RUNTIME.get_or_init(|| tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build());
    made.as_ref().map_err(|error| io::Error::new(error.kind(), error.to_string()))
}

impl Bucket {
    pub(super) fn open(address: &ObjectAddress, settings: Option<&StoreSettings>) -> Result<Self, String> {
        let retry = RetryConfig { backoff: BackoffConfig::default(), max_retries: RETRIES, retry_timeout: RETRY };
        let bucket = address.bucket.as_str();
        let usual = StoreSettings::default();
        let settings = settings.unwrap_or(&usual);
        let endpoint = settings.endpoint.as_ref().map(|endpoint| endpoint.expose().trim_end_matches('/').to_owned());
        let no_effect = |keys: &[(&str, bool)]| match keys.iter().find(|(_, is_set)| *is_set) {
            Some((key, _)) => Err(format!("“{key}” in [[store]] {bucket} has no effect on {}://", address.scheme)),
            None => Ok(()),
        };
        let store: Result<Arc<dyn ObjectStore>, object_store::Error> = match address.scheme {
            "s3" => {
                no_effect(&[("account", settings.account.is_some())])?;
                let mut builder = AmazonS3Builder::from_env().with_bucket_name(bucket).with_retry(retry);
                if let Some(endpoint) = &endpoint {
                    builder = builder.with_endpoint(endpoint).with_allow_http(endpoint.starts_with("http://"));
                }
                if let Some(region) = &settings.region {
                    builder = builder.with_region(region);
                }
                if let Some(path_style) = settings.path_style {
                    builder = builder.with_virtual_hosted_style_request(!path_style);
                }
                if let Some(key) = &settings.access_key {
                    builder = builder.with_access_key_id(key.expose());
                }
                if let Some(key) = &settings.secret_key {
                    builder = builder.with_secret_access_key(key.expose());
                }
                builder.with_http_connector(OurClients).build().map(|store| Arc::new(store) as _)
            }
            "gs" => {
                no_effect(&[
                    ("account", settings.account.is_some()),
                    ("access_key", settings.access_key.is_some()),
                    ("secret_key", settings.secret_key.is_some()),
                    ("region", settings.region.is_some()),
                    ("path_style", settings.path_style.is_some()),
                ])?;
                let mut builder = GoogleCloudStorageBuilder::from_env().with_bucket_name(bucket).with_retry(retry);
                if let Some(endpoint) = &endpoint {
                    builder = builder.with_base_url(endpoint);
                }
                builder.with_http_connector(OurClients).build().map(|store| Arc::new(store) as _)
            }
            _ => {
                no_effect(&[
                    ("secret_key", settings.secret_key.is_some()),
                    ("region", settings.region.is_some()),
                    ("path_style", settings.path_style.is_some()),
                ])?;
                let mut builder = MicrosoftAzureBuilder::from_env().with_container_name(bucket).with_retry(retry);
                if let Some(endpoint) = &endpoint {
                    builder = builder.with_allow_http(endpoint.starts_with("http://")).with_endpoint(endpoint.clone());
                }
                if let Some(account) = &settings.account {
                    builder = builder.with_account(account.expose());
                }
                if let Some(key) = &settings.access_key {
                    builder = builder.with_access_key(key.expose());
                }
                builder.with_http_connector(OurClients).build().map(|store| Arc::new(store) as _)
            }
        };
        let store = store.map_err(|error| in_words(&error, bucket).to_string())?;
        Ok(Self { store, shown: format!("{}://{bucket}", address.scheme) })
    }

    /// A bucket in memory, for tests.
    #[cfg(test)]
    pub(crate) fn in_memory() -> Arc<Self> {
        Arc::new(Self { store: Arc::new(object_store::memory::InMemory::new()), shown: "s3://memory".to_owned() })
    }

    /// Its name in messages: `s3://bucket`.
    pub fn shown(&self) -> &str {
        &self.shown
    }

    fn wait<T>(&self, stop: &Stop, work: impl Future<Output = object_store::Result<T>>) -> io::Result<T> {
        let work = async { work.await.map_err(|error| in_words(&error, &self.shown)) };
        runtime()?.block_on(http::until_stopped(stop, work))
    }

    /// A part of an object, and the object itself. With `tag`, only if the object still has it.
    ///
    /// # Errors
    ///
    /// Returns an error if the object cannot be read, or has changed.
    pub fn part(
        &self,
        key: &str,
        range: Range<u64>,
        tag: Option<&str>,
        stop: &Stop,
    ) -> io::Result<(Bytes, FoundObject)> {
        let options = GetOptions {
            range: Some(GetRange::Bounded(range)),
            if_match: tag.map(str::to_owned),
            ..GetOptions::default()
        };
        self.get(key, options, stop)
    }

    /// A whole object, if there is one.
    ///
    /// # Errors
    ///
    /// Returns an error if there may be one that cannot be read.
    pub fn whole(&self, key: &str, stop: &Stop) -> io::Result<Option<(Bytes, FoundObject)>> {
        match self.get(key, GetOptions::default(), stop) {
            Ok(read) => Ok(Some(read)),
            Err(error) if is_absent(&error) => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn get(&self, key: &str, options: GetOptions, stop: &Stop) -> io::Result<(Bytes, FoundObject)> {
        let path = path(key)?;
        self.wait(stop, async {
            let found = self.store.get_opts(&path, options).await?;
            let object = FoundObject::of(&found.meta);
            Ok((found.bytes().await?, object))
        })
    }

    /// The size and tag of an object, if there is one.
    ///
    /// # Errors
    ///
    /// Returns an error if the store cannot be asked.
    pub fn head(&self, key: &str, stop: &Stop) -> io::Result<Option<FoundObject>> {
        let path = path(key)?;
        match self.wait(stop, self.store.head(&path)) {
            Ok(meta) => Ok(Some(FoundObject::of(&meta))),
            Err(error) if is_absent(&error) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// All objects whose keys begin with a folder's name, in the order of their keys.
    ///
    /// # Errors
    ///
    /// Returns an error if the listing cannot be read to its end.
    pub fn list(&self, folder: &str, stop: &Stop) -> io::Result<Vec<FoundObject>> {
        let prefix = path(folder)?;
        let mut found: Vec<FoundObject> = self.wait(stop, async {
            let listed = self.store.list((!folder.is_empty()).then_some(&prefix));
            listed.map_ok(|meta| FoundObject::of(&meta)).try_collect().await
        })?;
        found.sort_unstable_by(|one, other| one.key.cmp(&other.key));
        Ok(found)
    }

    /// The objects in a folder whose keys begin with `start`, in the order of their keys. Those behind are not listed.
    ///
    /// # Errors
    ///
    /// As [`Bucket::list`].
    pub fn list_from(&self, folder: &str, start: &str, stop: &Stop) -> io::Result<Vec<FoundObject>> {
        let prefix = path(folder)?;
        // Listing begins behind the offset, so the last byte is one less.
        let mut before = start.to_owned();
        if let Some(last) = before.pop() {
            before.extend(char::from_u32(last as u32 - 1));
            before.push('z');
        }
        let before = path(&before)?;
        self.wait(stop, async {
            let listed = self.store.list_with_offset((!folder.is_empty()).then_some(&prefix), &before);
            let listed = listed.map_ok(|meta| FoundObject::of(&meta));
            let listed = listed.try_skip_while(|object| std::future::ready(Ok(object.key.as_str() < start)));
            let listed = listed.try_take_while(|object| std::future::ready(Ok(object.key.starts_with(start))));
            listed.try_collect().await
        })
    }

    /// Writes an object whole; returns its tag.
    ///
    /// # Errors
    ///
    /// Returns an error of the kind `AlreadyExists` if there is something else than expected, and another if it cannot
    /// be written.
    pub fn put(&self, key: &str, bytes: Bytes, how: &PutHow, stop: &Stop) -> io::Result<Option<String>> {
        self.wait(stop, self.put_later(key, bytes, how))
    }

    /// Writes several objects, some at a time; returns their tags, in the same order. The first error ends it: what was
    /// written before stays.
    ///
    /// # Errors
    ///
    /// As [`Bucket::put`].
    pub fn put_all(
        &self,
        objects: Vec<(String, Bytes, PutHow)>,
        at_once: usize,
        stop: &Stop,
    ) -> Vec<io::Result<Option<String>>> {
        let count = objects.len();
        let all = async {
            let puts = objects.iter().map(|(key, bytes, how)| async {
                let put = self.put_later(key, bytes.clone(), how).await;
                Ok(put.map_err(|error| in_words(&error, &self.shown)))
            });
            futures_util::stream::iter(puts).buffered(at_once).try_collect::<Vec<_>>().await
        };
        match self.wait(stop, all) {
            Ok(put) => put,
            Err(error) => (0..count).map(|_| Err(io::Error::new(error.kind(), error.to_string()))).collect(),
        }
    }

    /// Writes the rest of a file as an object, in parts if it is large; returns its tag.
    ///
    /// # Errors
    ///
    /// Returns an error if the file cannot be read or the object cannot be written.
    pub fn put_file(&self, key: &str, mut file: File, how: &PutHow, stop: &Stop) -> io::Result<Option<String>> {
        let mut part = || {
            let mut bytes = Vec::new();
            (&mut file).take(IN_PARTS).read_to_end(&mut bytes).map(|_| Bytes::from(bytes))
        };
        let first = part()?;
        if (first.len() as u64) < IN_PARTS {
            return self.put(key, first, how, stop);
        }
        let mut upload = self.wait(stop, async { self.store.put_multipart(&Path::parse(key)?).await })?;
        let mut next = first;
        while !next.is_empty() {
            let put = upload.put_part(PutPayload::from_bytes(next));
            if let Err(error) = self.wait(stop, put) {
                // What was sent of it is no object, and the store forgets it in its own time.
                let _ = self.wait(&Stop::default(), upload.abort());
                return Err(error);
            }
            next = part()?;
        }
        Ok(self.wait(stop, upload.complete())?.e_tag)
    }

    async fn put_later(&self, key: &str, bytes: Bytes, how: &PutHow) -> object_store::Result<Option<String>> {
        let mut attributes = Attributes::new();
        let given = [
            (Attribute::ContentType, how.content_type.map(str::to_owned)),
            (Attribute::ContentEncoding, how.content_encoding.map(str::to_owned)),
            (Attribute::CacheControl, how.cache_control.clone()),
        ];
        for (name, value) in given {
            if let Some(value) = value {
                attributes.insert(name, value.into());
            }
        }
        let mode = match &how.expected {
            ThereBefore::Anything => PutMode::Overwrite,
            ThereBefore::Nothing => PutMode::Create,
            ThereBefore::Tag(tag) => PutMode::Update(UpdateVersion { e_tag: Some(tag.clone()), version: None }),
        };
        let options = PutOptions { mode, attributes, ..PutOptions::default() };
        let path = Path::parse(key)?;
        let put = self.store.put_opts(&path, PutPayload::from_bytes(bytes), options).await?;
        Ok(put.e_tag)
    }

    /// Removes an object. It is not an error if there is none.
    ///
    /// # Errors
    ///
    /// Returns an error if it cannot be removed.
    pub fn remove(&self, key: &str, stop: &Stop) -> io::Result<()> {
        let path = path(key)?;
        match self.wait(stop, self.store.delete(&path)) {
            Err(error) if !is_absent(&error) => Err(error),
            _ => Ok(()),
        }
    }
}

impl FoundObject {
    fn of(meta: &ObjectMeta) -> Self {
        Self { key: meta.location.to_string(), size: meta.size, etag: meta.e_tag.clone() }
    }
}

/// A key, as the crate takes it: not changed, and none with parts that a store might change.
fn path(key: &str) -> io::Result<Path> {
    Path::parse(key.trim_end_matches('/'))
        .map_err(|error| io::Error::new(io::ErrorKind::InvalidInput, error.to_string()))
}

/// Whether the store said that there is no such object, in a bucket that there is.
fn is_absent(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::NotFound && !error.to_string().contains("no bucket")
}

impl fmt::Debug for Bucket {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(&self.shown)
    }
}
