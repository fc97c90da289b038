//! Inputs: a file, standard input or a URL, compressed or not.

use std::fs::File;
use std::io::{self, BufReader, Cursor, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;

use atlas_store::stop::Stop;
use flate2::read::MultiGzDecoder;

use crate::http::{self, Fetched};
#[cfg(not(feature = "object-stores"))]
use crate::object::WITHOUT_STORES;
use crate::object::{ObjectAddress, ObjectStores};
#[cfg(feature = "object-stores")]
use crate::object::{ObjectFile, StoreFailure};
use crate::reading::zstd::ZstdReader;

/// The most bytes that are fetched from a URL.
const MOST_FETCHED: u64 = 4 << 30;
/// The default time limit for fetching.
pub const WAIT: Duration = Duration::from_secs(120);

/// Where to read from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Input {
    /// Standard input: `-`.
    Standard,
    /// A file.
    File(PathBuf),
    /// An `http` or `https` URL.
    Url(String),
    /// An object in a store.
    #[cfg(feature = "object-stores")]
    Object(ObjectFile),
}

/// An input with its name in messages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundInput {
    /// Where to read from.
    pub input: Input,
    /// The same as typed by the user.
    pub shown: String,
}

impl Input {
    /// Parses the text in the configuration. Paths are relative to `folder`.
    ///
    /// # Errors
    ///
    /// Returns a message if it names an object that cannot be reached with these settings, or by this program.
    pub fn parse(text: &str, folder: &Path, stores: &ObjectStores) -> Result<Self, String> {
        Ok(match (text, ObjectAddress::parse(text)) {
            (_, Some(address)) => Self::object(address?, stores)?,
            ("-", _) => Self::Standard,
            (url, _) if url.starts_with("https://") || url.starts_with("http://") => Self::Url(url.to_owned()),
            (path, _) => Self::File(folder.join(path)),
        })
    }

    #[cfg(feature = "object-stores")]
    fn object(address: ObjectAddress, stores: &ObjectStores) -> Result<Self, String> {
        Ok(Self::Object(ObjectFile { bucket: stores.bucket(&address)?, address }))
    }

    #[cfg(not(feature = "object-stores"))]
    fn object(_: ObjectAddress, _: &ObjectStores) -> Result<Self, String> {
        Err(WITHOUT_STORES.to_owned())
    }

    /// The file, if it is one.
    pub fn file(&self) -> Option<&Path> {
        match self {
            Self::File(path) => Some(path),
            _ => None,
        }
    }

    /// Opens the input. Input compressed by gzip or zstd is recognised by its first bytes, not by its name, and
    /// unpacked while it is read.
    ///
    /// # Errors
    ///
    /// Returns an error if the file cannot be opened or the URL cannot be fetched, or its compressed data is broken.
    pub fn open(&self, wait: Duration, stop: &Stop) -> io::Result<Box<dyn Read + Send>> {
        let raw: Box<dyn Read + Send> = match self {
            Self::Standard => Box::new(io::stdin()),
            Self::File(path) => Box::new(File::open(path)?),
            Self::Url(url) => Box::new(fetch(url, wait, stop)?),
            #[cfg(feature = "object-stores")]
            Self::Object(object) => Box::new(object.open(stop)?),
        };
        unpacked(raw)
    }
}

/// How to fix input that could not be read: use another file, or repair this one.
pub(crate) fn mend(error: &io::Error) -> &'static str {
    // A store's answer says what to do.
    #[cfg(feature = "object-stores")]
    if error.get_ref().is_some_and(|why| why.is::<StoreFailure>()) {
        return "";
    }
    match error.kind() {
        io::ErrorKind::NotFound | io::ErrorKind::PermissionDenied | io::ErrorKind::IsADirectory => {
            "; correct “file” in the configuration"
        }
        _ => "; none of it is used until it can be read to its end",
    }
}

/// Unpacks compressed input.
pub(crate) fn unpacked(mut raw: Box<dyn Read + Send>) -> io::Result<Box<dyn Read + Send>> {
    let mut start = Vec::with_capacity(4);
    (&mut raw).take(4).read_to_end(&mut start)?;
    let whole = Cursor::new(start.clone()).chain(raw);
    Ok(match start[..] {
        [0x1f, 0x8b, ..] => Box::new(MultiGzDecoder::new(BufReader::new(whole))),
        [0x28, 0xb5, 0x2f, 0xfd] => Box::new(ZstdReader::new(BufReader::new(whole))),
        _ => Box::new(whole),
    })
}

/// Fetches a URL into an unnamed file, so that neither memory nor a slow reader matters.
fn fetch(url: &str, wait: Duration, stop: &Stop) -> io::Result<File> {
    let mut file = tempfile::tempfile()?;
    http::block_on(stop, async {
        let client = http::client(wait).map_err(io::Error::other)?;
        let fetched = Fetched::following(|url| client.get(url), url).await.and_then(Fetched::successful);
        let fetched = fetched.map_err(|error| io::Error::other(error.to_string()))?;
        let mut size = 0;
        let written = fetched.each_chunk(|chunk| {
            size += chunk.len() as u64;
            if size > MOST_FETCHED {
                return Err(io::Error::other(format!("more than {MOST_FETCHED} bytes")));
            }
            file.write_all(chunk)
        });
        written.await.map_err(|error| io::Error::other(error.to_string()))
    })?;
    file.seek(SeekFrom::Start(0))?;
    Ok(file)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn compression_is_recognised_by_content() {
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packed.write_all(b"url\n/halts/\n").unwrap();
        let zstd =
            ruzstd::encoding::compress_to_vec(&b"url\n/halts/\n"[..], ruzstd::encoding::CompressionLevel::Fastest);
        for bytes in [packed.finish().unwrap(), zstd, b"url\n/halts/\n".to_vec()] {
            let mut text = String::new();
            unpacked(Box::new(Cursor::new(bytes))).unwrap().read_to_string(&mut text).unwrap();
            assert_eq!(text, "url\n/halts/\n");
        }
    }

    #[test]
    fn junk_behind_compressed_input_is_an_error() {
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packed.write_all(b"url\n/halts/\n").unwrap();
        let mut bytes = packed.finish().unwrap();
        bytes.extend_from_slice(b"/weir/\n");
        let read = unpacked(Box::new(Cursor::new(bytes))).unwrap().read_to_end(&mut Vec::new());
        assert!(read.is_err());
    }

    #[test]
    fn short_input_is_fine() {
        for bytes in [&b""[..], b"a", b"\x1f\x8b"] {
            let mut text = Vec::new();
            let _ = unpacked(Box::new(Cursor::new(bytes))).unwrap().read_to_end(&mut text);
        }
    }
}
