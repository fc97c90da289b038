//! An object, read from anywhere: in blocks, the latest of which are kept.

use std::io::{self, Read};
use std::sync::{Arc, Mutex, PoisonError};

use atlas_store::stop::Stop;
use bytes::{Bytes, BytesMut};

use super::reader::ObjectFile;

/// How many bytes are fetched at a time.
const BLOCK: u64 = 1 << 20;
/// How many blocks are kept: a file is read column by column, and each column from its own place on.
const KEPT: usize = 24;

/// An object whose blocks are fetched as they are needed.
pub(crate) struct ObjectBlocks {
    file: ObjectFile,
    size: u64,
    tag: Option<String>,
    /// The blocks that were used last, the latest at the end.
    kept: Mutex<Vec<(u64, Bytes)>>,
    stop: Stop,
}

impl ObjectFile {
    /// Reads it from anywhere.
    pub(crate) fn blocks(&self, stop: &Stop) -> io::Result<ObjectBlocks> {
        let object = self.bucket.head(&self.address.key, stop)?;
        let object = object.ok_or_else(|| io::Error::new(io::ErrorKind::NotFound, "there is no such object"))?;
        let kept = Mutex::default();
        Ok(ObjectBlocks { file: self.clone(), size: object.size, tag: object.etag, kept, stop: stop.clone() })
    }
}

impl ObjectBlocks {
    /// Its size in bytes.
    pub(crate) fn size(&self) -> u64 {
        self.size
    }

    /// Some bytes of it.
    pub(crate) fn bytes(&self, start: u64, length: usize) -> io::Result<Bytes> {
        let end = start.checked_add(length as u64).filter(|end| *end <= self.size);
        let end = end.ok_or(io::ErrorKind::UnexpectedEof)?;
        let first = self.block(start / BLOCK)?;
        let from = (start % BLOCK) as usize;
        if from + length <= first.len() {
            return Ok(first.slice(from..from + length));
        }
        let mut bytes = BytesMut::with_capacity(length);
        bytes.extend_from_slice(&first[from..]);
        for number in start / BLOCK + 1..=(end - 1) / BLOCK {
            let block = self.block(number)?;
            bytes.extend_from_slice(&block[..block.len().min(length - bytes.len())]);
        }
        Ok(bytes.freeze())
    }

    /// All that follows.
    pub(crate) fn read_from(self: &Arc<Self>, start: u64) -> impl Read + use<> {
        BlocksFrom { object: Arc::clone(self), at: start }
    }

    fn block(&self, number: u64) -> io::Result<Bytes> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let block = match kept.iter().position(|(known, _)| *known == number) {
            Some(at) => kept.remove(at).1,
            None => {
                let range = number * BLOCK..((number + 1) * BLOCK).min(self.size);
                let wanted = range.end.saturating_sub(range.start);
                let (block, _) =
                    self.file.bucket.part(&self.file.address.key, range, self.tag.as_deref(), &self.stop)?;
                if block.len() as u64 != wanted {
                    return Err(io::ErrorKind::UnexpectedEof.into());
                }
                block
            }
        };
        if kept.len() == KEPT {
            kept.remove(0);
        }
        kept.push((number, block.clone()));
        Ok(block)
    }
}

struct BlocksFrom {
    object: Arc<ObjectBlocks>,
    at: u64,
}

impl Read for BlocksFrom {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.object.size || buffer.is_empty() {
            return Ok(0);
        }
        let block = self.object.block(self.at / BLOCK)?;
        let rest = &block[(self.at % BLOCK) as usize..];
        let length = buffer.len().min(rest.len());
        buffer[..length].copy_from_slice(&rest[..length]);
        self.at += length as u64;
        Ok(length)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::object::{Bucket, ObjectAddress, PutHow};

    #[test]
    fn bytes_anywhere() {
        let bytes: Vec<u8> = (0..3 * BLOCK + 9).map(|at| (at % 251) as u8).collect();
        let (bucket, stop) = (Bucket::in_memory(), Stop::default());
        bucket.put("halts.parquet", bytes.clone().into(), &PutHow::default(), &stop).unwrap();
        let address = ObjectAddress::parse("s3://memory/halts.parquet").unwrap().unwrap();
        let object = Arc::new(ObjectFile { bucket, address }.blocks(&stop).unwrap());
        for (start, length) in [(0, 4), (BLOCK - 2, 4), (BLOCK / 2, 2 * BLOCK as usize), (3 * BLOCK, 9)] {
            let wanted = &bytes[start as usize..start as usize + length];
            assert!(object.bytes(start, length).unwrap() == wanted);
        }
        assert!(object.bytes(3 * BLOCK, 10).is_err());
        let mut rest = Vec::new();
        object.read_from(2 * BLOCK + 7).read_to_end(&mut rest).unwrap();
        assert!(rest == bytes[(2 * BLOCK + 7) as usize..]);
    }
}
