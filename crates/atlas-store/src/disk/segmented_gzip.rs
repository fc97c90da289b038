//! Segmented gzip: a file is compressed in pieces that can be combined anew without compressing them again.
//!
//! Each segment is raw deflate data that begins with an empty window and ends with a flush on a byte boundary, so any
//! sequence of segments is one valid deflate stream. The checksum of the whole is combined from those of the segments.
//! The result is one ordinary gzip member (RFC 1952), which every reader accepts.

use std::io::{self, Read, Write};

use crc32fast::Hasher;
use flate2::{Compress, Compression, Decompress, FlushCompress, FlushDecompress, Status};

/// The compression level: the fastest that gives the sizes people expect of gzip.
const LEVEL: u32 = 6;

/// One compressed segment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Segment {
    /// Raw deflate data that ends with a flush.
    pub body: Vec<u8>,
    /// CRC-32 of the unpacked bytes.
    pub crc: u32,
    /// Unpacked size.
    pub raw_size: u64,
}

/// Compresses segments one after the other, reusing its tables.
#[derive(Debug)]
pub(crate) struct SegmentCompressor(Compress);

impl Default for SegmentCompressor {
    fn default() -> Self {
        Self(Compress::new(Compression::new(LEVEL), false))
    }
}

impl SegmentCompressor {
    /// A compressor for segments that will soon be rebuilt: as fast as possible, with larger output.
    pub(crate) fn hasty() -> Self {
        Self(Compress::new(Compression::fast(), false))
    }

    /// Compresses one segment.
    pub fn compress(&mut self, raw: &[u8]) -> io::Result<Segment> {
        let compress = &mut self.0;
        compress.reset();
        let mut body = Vec::with_capacity(raw.len() / 4 + 64);
        loop {
            let before = compress.total_in() as usize;
            compress.compress_vec(&raw[before..], &mut body, FlushCompress::Sync).map_err(io::Error::other)?;
            if compress.total_in() as usize == raw.len() && body.len() < body.capacity() {
                break;
            }
            body.reserve(raw.len() / 4 + 64);
        }
        Ok(Segment { body, crc: crc32fast::hash(raw), raw_size: raw.len() as u64 })
    }
}

/// Compresses a single segment.
///
/// # Errors
///
/// Returns an error if the compressor fails.
pub fn compress(raw: &[u8]) -> io::Result<Segment> {
    SegmentCompressor::default().compress(raw)
}

/// Decompresses one segment.
///
/// # Errors
///
/// Returns an error if it does not contain exactly `raw_size` bytes.
pub(crate) fn decompress(body: &[u8], raw_size: u64) -> io::Result<Vec<u8>> {
    let size = usize::try_from(raw_size).map_err(io::Error::other)?;
    let mut raw = Vec::with_capacity(size + 1);
    let mut decompress = Decompress::new(false);
    let status = decompress.decompress_vec(body, &mut raw, FlushDecompress::Sync).map_err(io::Error::other)?;
    if raw.len() != size || matches!(status, Status::StreamEnd) {
        return Err(io::Error::new(io::ErrorKind::InvalidData, "a stored segment has the wrong size"));
    }
    Ok(raw)
}

/// Writes segments as one gzip member.
pub(crate) struct GzipWriter<W: Write> {
    out: W,
    crc: Hasher,
    raw_size: u64,
}

impl<W: Write> GzipWriter<W> {
    /// Begins a member without name and time, so that equal content gives equal bytes (RFC 1952 section 2.3).
    pub fn begin(mut out: W) -> io::Result<Self> {
        out.write_all(&[0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 255])?;
        Ok(Self { out, crc: Hasher::new(), raw_size: 0 })
    }

    /// Adds a segment.
    pub fn push(&mut self, body: &[u8], crc: u32, raw_size: u64) -> io::Result<()> {
        self.out.write_all(body)?;
        self.crc.combine(&Hasher::new_with_initial_len(crc, raw_size));
        self.raw_size += raw_size;
        Ok(())
    }

    /// Ends the member with an empty last block, checksum and size.
    pub fn finish(mut self) -> io::Result<W> {
        self.out.write_all(&[0x03, 0x00])?;
        self.out.write_all(&self.crc.finalize().to_le_bytes())?;
        self.out.write_all(&(self.raw_size as u32).to_le_bytes())?;
        Ok(self.out)
    }
}

/// Decompresses a whole gzip file, which may have several members, but at most `most` bytes and one more. So a file
/// made to fill the memory is noticed before it does.
///
/// # Errors
///
/// Returns an error if the data is not gzip, or a checksum is wrong.
pub fn unpack(gzip: &[u8], most: u64) -> io::Result<Vec<u8>> {
    let mut raw = Vec::new();
    flate2::read::MultiGzDecoder::new(gzip).take(most + 1).read_to_end(&mut raw)?;
    Ok(raw)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn any_sequence_of_segments_is_one_gzip_file(pieces in proptest::collection::vec("[a-f<>/]{0,3000}", 0..6)) {
            let mut writer = GzipWriter::begin(Vec::new()).unwrap();
            for piece in &pieces {
                let segment = compress(piece.as_bytes()).unwrap();
                prop_assert_eq!(decompress(&segment.body, segment.raw_size).unwrap(), piece.as_bytes());
                writer.push(&segment.body, segment.crc, segment.raw_size).unwrap();
            }
            let file = writer.finish().unwrap();
            prop_assert_eq!(unpack(&file, 1 << 20).unwrap(), pieces.concat().into_bytes());
        }
    }

    #[test]
    fn incompressible_bytes_survive() {
        let raw: Vec<u8> = (0..200_000u64).map(|n| (n.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 56) as u8).collect();
        let segment = compress(&raw).unwrap();
        assert_eq!(decompress(&segment.body, segment.raw_size).unwrap(), raw);
    }

    #[test]
    fn a_gzip_bomb_is_cut_off_and_junk_is_rejected() {
        let segment = compress(&vec![b' '; 1 << 20]).unwrap();
        let mut writer = GzipWriter::begin(Vec::new()).unwrap();
        writer.push(&segment.body, segment.crc, segment.raw_size).unwrap();
        let file = writer.finish().unwrap();
        assert_eq!(unpack(&file, 1000).unwrap().len(), 1001);
        assert!(unpack(b"lamp oil", 1000).is_err());
        assert!(unpack(&file[..file.len() - 3], 1 << 21).is_err());
        assert!(decompress(&segment.body, 1000).is_err());
    }
}
