//! Unpacking zstd (RFC 8878): all frames of the input, with their checksums.

use std::io::{self, BufRead, Read};

use ruzstd::decoding::errors::{FrameDecoderError, ReadFrameHeaderError};
use ruzstd::decoding::{BlockDecodingStrategy, FrameDecoder};

/// Unpacks one frame after the other.
pub(super) struct ZstdReader<R> {
    packed: R,
    decoder: FrameDecoder,
    /// Whether a frame has begun and is not yet read to its end.
    is_open: bool,
}

impl<R: BufRead> ZstdReader<R> {
    pub(super) fn new(packed: R) -> Self {
        Self { packed, decoder: FrameDecoder::new(), is_open: false }
    }

    /// Begins the next frame; `false` at the end of the input. Frames with the user's own data are skipped (RFC 8878,
    /// section 3.1.2).
    fn begin(&mut self) -> io::Result<bool> {
        while !self.packed.fill_buf()?.is_empty() {
            match self.decoder.init(&mut self.packed) {
                Ok(()) => {
                    self.is_open = true;
                    return Ok(true);
                }
                Err(FrameDecoderError::ReadFrameHeaderError(ReadFrameHeaderError::SkipFrame { length, .. })) => {
                    let skipped = io::copy(&mut (&mut self.packed).take(u64::from(length)), &mut io::sink())?;
                    if skipped < u64::from(length) {
                        return Err(broken("it ends within a frame"));
                    }
                }
                Err(error) => return Err(broken(&error.to_string())),
            }
        }
        Ok(false)
    }

    /// Ends a frame, whose checksum must be right if it has one.
    fn end(&mut self) -> io::Result<()> {
        self.is_open = false;
        let told = self.decoder.get_checksum_from_data();
        if told.is_some() && told != self.decoder.get_calculated_checksum() {
            return Err(broken("its checksum is wrong"));
        }
        Ok(())
    }
}

impl<R: BufRead> Read for ZstdReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if buffer.is_empty() {
            return Ok(0);
        }
        loop {
            if !self.is_open && !self.begin()? {
                return Ok(0);
            }
            while self.decoder.can_collect() < buffer.len() && !self.decoder.is_finished() {
                let wanted = BlockDecodingStrategy::UptoBytes(buffer.len() - self.decoder.can_collect());
                self.decoder.decode_blocks(&mut self.packed, wanted).map_err(|error| broken(&error.to_string()))?;
            }
            let length = self.decoder.read(buffer)?;
            if length > 0 {
                return Ok(length);
            }
            self.end()?;
        }
    }
}

fn broken(why: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, format!("the zstd data is broken: {why}"))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use ruzstd::encoding::{CompressionLevel, compress_to_vec};

    use super::*;

    fn frame(text: &str) -> Vec<u8> {
        compress_to_vec(text.as_bytes(), CompressionLevel::Fastest)
    }

    fn unpacked(bytes: &[u8]) -> Result<String, String> {
        let mut text = String::new();
        ZstdReader::new(bytes).read_to_string(&mut text).map_err(|error| error.to_string())?;
        Ok(text)
    }

    #[test]
    fn all_frames_are_read() {
        // A skippable frame of three bytes between them.
        let skipped = [0x50, 0x2a, 0x4d, 0x18, 3, 0, 0, 0, 1, 2, 3];
        let long = "a long line\n".repeat(100_000);
        let bytes = [&frame("lamp\n")[..], &skipped, &frame(""), &frame(&long)].concat();
        assert_eq!(unpacked(&bytes).unwrap(), format!("lamp\n{long}"));
    }

    #[rstest]
    #[case::junk_behind_the_end(&|mut bytes: Vec<u8>| { bytes.extend(b"/weir/\n"); bytes })]
    #[case::cut_off(&|bytes: Vec<u8>| bytes[..bytes.len() - 6].to_vec())]
    #[case::wrong_checksum(&|mut bytes: Vec<u8>| { *bytes.last_mut().unwrap() ^= 1; bytes })]
    #[case::cut_off_in_what_is_skipped(&|mut bytes: Vec<u8>| { bytes.extend([0x50, 0x2a, 0x4d, 0x18, 9, 0, 0, 0, 1]); bytes })]
    fn broken_data_is_an_error(#[case] spoil: &dyn Fn(Vec<u8>) -> Vec<u8>) {
        let told = unpacked(&spoil(frame(&"lamp oil\n".repeat(1000))));
        assert!(told.as_ref().is_err_and(|why| why.contains("zstd data is broken")), "{told:?}");
    }
}
