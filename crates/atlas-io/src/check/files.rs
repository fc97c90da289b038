//! Reading sitemap files from disk.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::Path;

use atlas_core::check::{FetchResult, PackedCopy, each_url};
use atlas_core::placement::{MOST_BYTES, is_packed};
use atlas_store::disk::segmented_gzip::unpack;

/// How much of a file is read to see whether it is a sitemap.
const HEAD: u64 = 2_000;
/// How much is unpacked at once for comparing.
const PIECE: usize = 64 << 10;

/// The beginning of a file, unpacked. Empty, if it cannot be read.
pub(super) fn head(path: &Path) -> Vec<u8> {
    let mut bytes = Vec::new();
    let Ok(file) = File::open(path) else { return bytes };
    // What cannot be read is not a sitemap.
    let _ = match is_packed(&path.to_string_lossy()) {
        true => flate2::read::MultiGzDecoder::new(file).take(HEAD).read_to_end(&mut bytes),
        false => file.take(HEAD).read_to_end(&mut bytes),
    };
    bytes
}

/// Reads a file, and unpacks it if its name says so.
pub(super) fn read_unpacked(path: &Path, is_gzip: bool) -> FetchResult {
    match read(path) {
        FetchResult::Bytes(bytes) if is_gzip => match unpack(&bytes, MOST_BYTES) {
            Ok(bytes) => FetchResult::Bytes(bytes),
            Err(error) => FetchResult::Broken(format!("it is not a gzip file, or a broken one: {error}")),
        },
        fetched => fetched,
    }
}

/// Reads a file, up to the limit of the protocol and one byte more.
pub(super) fn read(path: &Path) -> FetchResult {
    let read = || -> io::Result<Vec<u8>> {
        let file = File::open(path)?;
        // One byte more, to see the end without growing.
        let size = file.metadata()?.len().min(MOST_BYTES) + 1;
        let mut bytes = Vec::with_capacity(size as usize);
        file.take(MOST_BYTES + 1).read_to_end(&mut bytes)?;
        Ok(bytes)
    };
    match read() {
        Ok(bytes) => FetchResult::Bytes(bytes),
        Err(error) if error.kind() == io::ErrorKind::NotFound => FetchResult::Missing,
        Err(error) => FetchResult::Broken(format!("cannot be read: {error}")),
    }
}

/// The first address in a sitemap, an index or a feed.
pub(super) fn first_listed(bytes: &[u8]) -> Option<String> {
    let mut first = None;
    each_url(bytes, |url, _| {
        first.get_or_insert_with(|| url.to_owned());
    });
    first
}

/// Compares a file with the compressed copy beside it, piece by piece.
pub(super) fn compared(copy: &Path, file: &[u8]) -> PackedCopy {
    let compare = || -> io::Result<bool> {
        let mut unpacked = flate2::read::MultiGzDecoder::new(BufReader::new(File::open(copy)?));
        let mut piece = vec![0; PIECE];
        let mut rest = file;
        loop {
            let length = unpacked.read(&mut piece)?;
            if length == 0 {
                return Ok(rest.is_empty());
            }
            match rest.strip_prefix(&piece[..length]) {
                Some(after) => rest = after,
                None => return Ok(false),
            }
        }
    };
    match compare() {
        Ok(true) => PackedCopy::Same,
        Ok(false) => PackedCopy::Different,
        Err(error) if error.kind() == io::ErrorKind::NotFound => PackedCopy::Absent,
        Err(error) => PackedCopy::Broken(format!("it is not a gzip file, or a broken one: {error}")),
    }
}
