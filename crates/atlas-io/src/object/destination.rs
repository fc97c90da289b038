//! A bucket as the destination of what is published: the second form of the publishing port, beside folders.
//!
//! An object appears whole or not at all, so nothing has a temporary name. What an object is now is known by its entity
//! tag. Where the store takes conditional writes, an object is replaced only if it is still what was seen before.

use std::any::Any;
use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use atlas_core::fingerprint;
use atlas_core::placement::{CHILD_PREFIX, is_packed, media_type};
use atlas_store::destination::{Destination, Draft, DraftBody, Folder, ROBOTS};
use atlas_store::error::StoreError;
use atlas_store::model::{OnDisk, Version};
use atlas_store::stop::Stop;
use bytes::Bytes;
use flate2::Compression;
use flate2::read::GzDecoder;
use flate2::write::GzEncoder;
use rayon::prelude::*;
use tempfile::SpooledTempFile;

use super::address::ObjectAddress;
use super::bucket::{Bucket, FoundObject, PutHow, ThereBefore};

/// How many objects are written at a time.
const AT_ONCE: usize = 16;
/// How many bytes of objects that are being written may be in memory.
const IN_MEMORY: u64 = 48 << 20;
/// The largest draft that is kept in memory, in bytes. Many may be begun at once.
const SMALL: usize = 256 << 10;
/// The most bytes of an object that is unpacked to be read.
const LARGEST: u64 = 64 << 20;

/// A folder of a bucket.
pub struct BucketFolder {
    bucket: Arc<Bucket>,
    /// The address of the folder, whose key is empty or ends with `/`.
    address: ObjectAddress,
    /// The key of robots.txt, if it is known.
    robots: Option<String>,
    /// The beginning of the names of the main file and further indexes.
    main: String,
    /// Where files for the site's own templates go.
    data: Option<Folder>,
    /// How long caches may keep what is published.
    cache_control: Option<String>,
    /// Whether bytes are compressed, and sent as an encoding of the plain ones.
    is_encoded: bool,
    /// Whether the store takes conditional writes, as far as it has told.
    is_conditional: AtomicBool,
    /// What is there, as far as it was asked for.
    known: Mutex<KnownObjects>,
}

/// What is there.
#[derive(Default)]
struct KnownObjects {
    /// By key: what was listed, written or asked for; `None` for what is not there.
    objects: BTreeMap<String, Option<FoundObject>>,
    /// Whether all objects with names of ours were listed.
    is_listed: bool,
}

/// How what is published is stored.
#[derive(Debug, Clone, Default)]
pub struct BucketStyle {
    /// The Cache-Control of every object.
    pub cache_control: Option<String>,
    /// Whether bytes are compressed, with `Content-Encoding: gzip`.
    pub is_encoded: bool,
}

impl BucketFolder {
    /// Publishes into the folder at `address`; `main` is the name of the main file, `robots` the key of robots.txt, and
    /// `data` the folder for the site's own templates.
    pub fn new(
        bucket: Arc<Bucket>,
        address: ObjectAddress,
        main: &str,
        robots: Option<String>,
        data: Option<Folder>,
        style: BucketStyle,
    ) -> Self {
        let BucketStyle { cache_control, is_encoded } = style;
        let main = main.trim_end_matches(".xml").to_owned();
        let (is_conditional, known) = (AtomicBool::new(true), Mutex::default());
        Self { bucket, address, robots, main, data, cache_control, is_encoded, is_conditional, known }
    }

    fn key(&self, name: &str) -> String {
        match (name, &self.robots) {
            (ROBOTS, Some(robots)) => robots.clone(),
            _ => format!("{}{}", self.address.key, name.strip_prefix("site:").unwrap_or(name)),
        }
    }

    /// The folder of a name that is not in the bucket.
    fn elsewhere(&self, name: &str) -> Option<&Folder> {
        self.data.as_ref().filter(|_| name.starts_with("data:"))
    }

    fn failed(&self, what: &'static str, name: &str) -> impl Fn(io::Error) -> StoreError + use<> {
        let shown = self.shown(name);
        move |error| StoreError::io(what, &shown)(error)
    }

    fn known(&self) -> MutexGuard<'_, KnownObjects> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Lists what has a name of ours: one request for a thousand objects, and none for each.
    fn listed(&self) -> Result<MutexGuard<'_, KnownObjects>, StoreError> {
        let mut known = self.known();
        if !known.is_listed {
            for beginning in [CHILD_PREFIX, &self.main] {
                let start = format!("{}{beginning}", self.address.key);
                let found = self.bucket.list_from(&self.address.key, &start, &Stop::default());
                let found = found.map_err(|error| StoreError::io("cannot list", self.address.to_string())(error))?;
                known.objects.extend(found.into_iter().map(|object| (object.key.clone(), Some(object))));
            }
            known.is_listed = true;
        }
        Ok(known)
    }

    fn has_our_name(&self, key: &str) -> bool {
        let name = key.strip_prefix(&self.address.key).unwrap_or(key);
        name.starts_with(CHILD_PREFIX) || name.starts_with(&self.main)
    }

    /// What is there under a key.
    fn object(&self, name: &str) -> Result<Option<FoundObject>, StoreError> {
        let key = self.key(name);
        let mut known = self.listed()?;
        if let Some(object) = known.objects.get(&key) {
            return Ok(object.clone());
        }
        if self.has_our_name(&key) {
            return Ok(None);
        }
        let object = self.bucket.head(&key, &Stop::default()).map_err(self.failed("cannot read", name))?;
        known.objects.insert(key, object.clone());
        Ok(object)
    }

    fn how(&self, name: &str, expected: ThereBefore) -> PutHow {
        PutHow {
            content_type: Some(media_type(name)),
            content_encoding: self.encodes(name).then_some("gzip"),
            cache_control: self.cache_control.clone(),
            expected,
        }
    }

    /// Whether a file is stored compressed. Others than sitemaps may be read by programs that ask for no encoding.
    fn encodes(&self, name: &str) -> bool {
        self.is_encoded && name.ends_with(".xml")
    }

    /// The bytes of a draft, as they are stored.
    fn stored(&self, name: &str, mut file: SpooledTempFile) -> io::Result<Bytes> {
        file.seek(SeekFrom::Start(0))?;
        let mut bytes = Vec::new();
        if self.encodes(name) {
            let mut packing = GzEncoder::new(bytes, Compression::new(6));
            io::copy(&mut file, &mut packing)?;
            bytes = packing.finish()?;
        } else {
            file.read_to_end(&mut bytes)?;
        }
        Ok(bytes.into())
    }

    /// Writes some objects, and learns what is there then.
    fn write(&self, drafts: Vec<(String, SpooledTempFile, u32)>) -> Result<Vec<(String, OnDisk)>, StoreError> {
        let stored = drafts.into_par_iter().map(|(name, file, crc)| {
            let bytes = self.stored(&name, file).map_err(self.failed("cannot read the draft of", &name))?;
            Ok((name, bytes, crc))
        });
        let stored: Vec<(String, Bytes, u32)> = stored.collect::<Result<_, StoreError>>()?;
        let mut objects = Vec::new();
        for (name, bytes, _) in &stored {
            let expected = match self.object(name)? {
                _ if !self.is_conditional.load(Ordering::Relaxed) => ThereBefore::Anything,
                None => ThereBefore::Nothing,
                Some(FoundObject { etag: Some(tag), .. }) => ThereBefore::Tag(tag),
                Some(_) => ThereBefore::Anything,
            };
            objects.push((self.key(name), bytes.clone(), self.how(name, expected)));
        }
        let put = self.bucket.put_all(objects, AT_ONCE, &Stop::default());
        let mut done = Vec::with_capacity(stored.len());
        for ((name, bytes, crc), put) in stored.into_iter().zip(put) {
            let tag = match put {
                Ok(tag) => tag,
                Err(error) => self.put_again(&name, &bytes, &error)?,
            };
            let key = self.key(&name);
            let object = match tag {
                Some(tag) => FoundObject { key: key.clone(), size: bytes.len() as u64, etag: Some(tag) },
                None => {
                    let head = self.bucket.head(&key, &Stop::default()).map_err(self.failed("cannot read", &name))?;
                    head.ok_or_else(|| self.failed("cannot write", &name)(io::ErrorKind::NotFound.into()))?
                }
            };
            done.push((name, OnDisk { version: version(&object), crc }));
            self.known().objects.insert(key, Some(object));
        }
        Ok(done)
    }

    /// What becomes of an object that was not written.
    fn put_again(&self, name: &str, bytes: &Bytes, error: &io::Error) -> Result<Option<String>, StoreError> {
        let (key, stop) = (self.key(name), Stop::default());
        let failed = self.failed("cannot write", name);
        match error.kind() {
            // The answer to an earlier try may have been lost.
            io::ErrorKind::AlreadyExists => match self.bucket.whole(&key, &stop).map_err(&failed)? {
                Some((there, object)) if there == *bytes => Ok(object.etag),
                _ => Err(failed(io::Error::new(error.kind(), error.to_string()))),
            },
            io::ErrorKind::Unsupported => {
                self.is_conditional.store(false, Ordering::Relaxed);
                self.bucket.put(&key, bytes.clone(), &self.how(name, ThereBefore::Anything), &stop).map_err(failed)
            }
            kind => Err(failed(io::Error::new(kind, error.to_string()))),
        }
    }
}

/// A draft of an object.
struct ObjectDraft(SpooledTempFile);

impl Write for ObjectDraft {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl DraftBody for ObjectDraft {
    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

impl Destination for BucketFolder {
    fn begin(&self, name: &str) -> Result<Draft, StoreError> {
        match self.elsewhere(name) {
            Some(folder) => folder.begin(name),
            None => Ok(Draft::new(name, Box::new(ObjectDraft(SpooledTempFile::new(SMALL))))),
        }
    }

    fn read(&self, name: &str) -> Result<Option<Vec<u8>>, StoreError> {
        if let Some(folder) = self.elsewhere(name) {
            return folder.read(name);
        }
        let failed = self.failed("cannot read", name);
        let Some((bytes, _)) = self.bucket.whole(&self.key(name), &Stop::default()).map_err(&failed)? else {
            return Ok(None);
        };
        // What is stored as an encoding is read as what it stands for.
        if bytes.starts_with(b"\x1f\x8b") && !is_packed(name) {
            let mut plain = Vec::new();
            GzDecoder::new(&bytes[..]).take(LARGEST).read_to_end(&mut plain).map_err(failed)?;
            return Ok(Some(plain));
        }
        Ok(Some(bytes.into()))
    }

    fn version(&self, name: &str) -> Result<Option<Version>, StoreError> {
        match self.elsewhere(name) {
            Some(folder) => folder.version(name),
            None => Ok(self.object(name)?.as_ref().map(version)),
        }
    }

    fn put(&self, drafts: Vec<Draft>) -> Result<Vec<(String, OnDisk)>, StoreError> {
        let mut done = Vec::with_capacity(drafts.len());
        let (mut group, mut size) = (Vec::new(), 0);
        for draft in drafts {
            if let Some(folder) = self.elsewhere(draft.name()) {
                done.extend(folder.put(vec![draft])?);
                continue;
            }
            size += draft.size();
            let (name, body, crc) = draft.into_parts();
            let ObjectDraft(file) = *body.downcast::<ObjectDraft>().map_err(|_| StoreError::Stopped)?;
            group.push((name, file, crc));
            if size >= IN_MEMORY {
                done.extend(self.write(std::mem::take(&mut group))?);
                size = 0;
            }
        }
        done.extend(self.write(group)?);
        Ok(done)
    }

    fn list(&self) -> Result<Vec<String>, StoreError> {
        let known = self.listed()?;
        let there = known.objects.iter().filter(|(_, object)| object.is_some());
        let names = there.filter_map(|(key, _)| key.strip_prefix(&self.address.key));
        Ok(names.filter(|name| !name.contains('/')).map(str::to_owned).collect())
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        if let Some(folder) = self.elsewhere(name) {
            return folder.remove(name);
        }
        let key = self.key(name);
        self.bucket.remove(&key, &Stop::default()).map_err(self.failed("cannot remove", name))?;
        self.known().objects.insert(key, None);
        Ok(())
    }

    /// What was put is there to stay.
    fn commit(&self) -> Result<(), StoreError> {
        self.data.as_ref().map_or(Ok(()), Destination::commit)
    }

    /// A draft that was never put is no object.
    fn sweep(&self) -> Result<(), StoreError> {
        self.data.as_ref().map_or(Ok(()), Destination::sweep)
    }

    fn shown(&self, name: &str) -> String {
        match self.elsewhere(name) {
            Some(folder) => folder.shown(name),
            None => self.address.at(&self.key(name)).to_string(),
        }
    }
}

fn version(object: &FoundObject) -> Version {
    let tag = object.etag.as_deref().unwrap_or_default();
    Version::new(object.size, fingerprint::raw(tag.as_bytes(), 0) as i64)
}

#[cfg(test)]
mod tests {
    use atlas_store::destination::replace;
    use rstest::rstest;

    use super::*;

    fn folder(is_encoded: bool) -> BucketFolder {
        let address = ObjectAddress::parse("s3://memory/site/").unwrap().unwrap();
        let style = BucketStyle { cache_control: Some("max-age=60".into()), is_encoded };
        BucketFolder::new(Bucket::in_memory(), address, "sitemap.xml", Some("site/robots.txt".into()), None, style)
    }

    #[rstest]
    fn what_is_put_is_there(#[values(false, true)] is_encoded: bool) {
        let folder = folder(is_encoded);
        let text = b"<urlset></urlset>".repeat(20);
        for name in ["atlas-pages-1.xml", "sitemap.xml", ROBOTS, "site:lamp.txt"] {
            assert_eq!(folder.version(name).unwrap(), None);
            let put = replace(&folder, name, &text).unwrap();
            assert_eq!(folder.version(name).unwrap(), Some(put.version));
            assert_eq!(folder.read(name).unwrap().as_deref(), Some(&text[..]), "{name}");
            assert_eq!(put.crc, crc32fast::hash(&text));
        }
        let mut names = folder.list().unwrap();
        names.retain(|name| name.ends_with(".xml"));
        assert_eq!(names, ["atlas-pages-1.xml", "sitemap.xml"]);
        let stored = folder.bucket.whole("site/sitemap.xml", &Stop::default()).unwrap().unwrap().0;
        assert_eq!(stored.starts_with(b"\x1f\x8b"), is_encoded);
        folder.remove("sitemap.xml").unwrap();
        folder.remove("sitemap.xml").unwrap();
        assert_eq!((folder.version("sitemap.xml").unwrap(), folder.read("sitemap.xml").unwrap()), (None, None));
    }

    #[test]
    fn what_someone_else_changed_is_not_overwritten() {
        let folder = folder(false);
        replace(&folder, "atlas-pages-1.xml", b"ours").unwrap();
        let put = |text: &'static [u8]| {
            folder.bucket.put("site/atlas-pages-1.xml", text.into(), &PutHow::default(), &Stop::default()).unwrap()
        };
        put(b"theirs");
        let error = replace(&folder, "atlas-pages-1.xml", b"ours again").unwrap_err().to_string();
        assert!(error.contains("s3://memory/site/atlas-pages-1.xml") && error.contains("someone else"), "{error}");
        assert_eq!(folder.read("atlas-pages-1.xml").unwrap().as_deref(), Some(&b"theirs"[..]));
        // What is there already as it should be needs no second try.
        put(b"as wanted");
        replace(&folder, "atlas-pages-1.xml", b"as wanted").unwrap();
    }
}
