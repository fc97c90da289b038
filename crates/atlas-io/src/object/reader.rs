//! An object, read by ranges while it is parsed.

use std::io::{self, Read};
use std::sync::Arc;
use std::thread::{self, JoinHandle};

use atlas_store::stop::Stop;
use bytes::{Buf, Bytes};

use super::address::ObjectAddress;
use super::bucket::Bucket;

/// How many bytes are fetched at a time.
const RANGE: u64 = 4 << 20;

/// An object, and the bucket that it is in.
#[derive(Debug, Clone)]
pub struct ObjectFile {
    /// The bucket.
    pub bucket: Arc<Bucket>,
    /// Its address.
    pub address: ObjectAddress,
}

impl PartialEq for ObjectFile {
    fn eq(&self, other: &Self) -> bool {
        self.address == other.address
    }
}

impl Eq for ObjectFile {}

impl ObjectFile {
    /// Reads it from its beginning.
    pub(crate) fn open(&self, stop: &Stop) -> io::Result<ObjectReader> {
        let (first, object) = match self.bucket.part(&self.address.key, 0..RANGE, None, stop) {
            // An empty object has no range.
            Err(error) => match self.bucket.head(&self.address.key, stop) {
                Ok(Some(object)) if object.size == 0 => (Bytes::new(), object),
                _ => return Err(error),
            },
            read => read?,
        };
        let mut reader = ObjectReader {
            file: self.clone(),
            size: object.size,
            tag: object.etag,
            at: first.len() as u64,
            now: first,
            ahead: None,
            stop: stop.clone(),
        };
        reader.read_ahead();
        Ok(reader)
    }
}

/// Reads an object. The next range is fetched while this one is read.
pub(crate) struct ObjectReader {
    file: ObjectFile,
    size: u64,
    tag: Option<String>,
    /// The end of what was fetched or is being fetched.
    at: u64,
    now: Bytes,
    ahead: Option<JoinHandle<io::Result<Bytes>>>,
    stop: Stop,
}

impl ObjectReader {
    fn read_ahead(&mut self) {
        if self.at >= self.size {
            return;
        }
        let range = self.at..(self.at + RANGE).min(self.size);
        self.at = range.end;
        let (file, tag, stop) = (self.file.clone(), self.tag.clone(), self.stop.clone());
        self.ahead = Some(thread::spawn(move || {
            let wanted = range.end - range.start;
            let (bytes, _) = file.bucket.part(&file.address.key, range, tag.as_deref(), &stop)?;
            if bytes.len() as u64 == wanted { Ok(bytes) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
        }));
    }
}

impl Read for ObjectReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.now.is_empty() && !buffer.is_empty() {
            let Some(ahead) = self.ahead.take() else { return Ok(0) };
            self.now = ahead.join().unwrap_or_else(|_| Err(io::Error::other("reading it stopped")))?;
            self.read_ahead();
        }
        let length = buffer.len().min(self.now.len());
        self.now.copy_to_slice(&mut buffer[..length]);
        Ok(length)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::object::bucket::PutHow;

    fn file(bytes: Vec<u8>) -> ObjectFile {
        let bucket = Bucket::in_memory();
        bucket.put("exports/halts.csv", bytes.into(), &PutHow::default(), &Stop::default()).unwrap();
        ObjectFile { bucket, address: ObjectAddress::parse("s3://memory/exports/halts.csv").unwrap().unwrap() }
    }

    #[rstest]
    #[case::empty(0)]
    #[case::small(7)]
    #[case::one_range(RANGE as usize)]
    #[case::several((2 * RANGE + 9) as usize)]
    fn an_object_is_read_by_ranges(#[case] size: usize) {
        let bytes: Vec<u8> = (0..size).map(|at| (at % 251) as u8).collect();
        let mut read = Vec::new();
        file(bytes.clone()).open(&Stop::default()).unwrap().read_to_end(&mut read).unwrap();
        assert!(read == bytes);
    }

    #[test]
    fn an_object_that_changes_while_it_is_read_is_an_error() {
        let file = file(vec![1; (3 * RANGE) as usize]);
        let mut reader = file.open(&Stop::default()).unwrap();
        file.bucket
            .put(&file.address.key, vec![2; (3 * RANGE) as usize].into(), &PutHow::default(), &Stop::default())
            .unwrap();
        let error = reader.read_to_end(&mut Vec::new()).unwrap_err();
        assert!(error.to_string().contains("someone else has changed it"), "{error}");
    }
}
