//! A file that is looked at before it is read.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::Path;

use atlas_core::format::decode;

use crate::reading::input::unpacked;

/// How much of its beginning is looked at.
const HEAD: u64 = 1 << 16;
/// The largest file that is read in another encoding than UTF-8.
const LARGEST_DECODED: u64 = 1 << 29;

/// An opened file. Standard input is copied into an unnamed file first, so that it can be looked at as well.
#[derive(Debug)]
pub struct UptakeFile {
    /// Its name, as it was given.
    pub name: String,
    file: File,
    /// Whether it is compressed.
    is_packed: bool,
    /// Its beginning, unpacked.
    pub head: Vec<u8>,
    /// When it was last written, in seconds since 1970, if that is known.
    pub written: Option<i64>,
}

impl UptakeFile {
    /// Opens a file; `-` is standard input.
    ///
    /// # Errors
    ///
    /// Returns an error if it cannot be read, or its compressed data is broken from the beginning.
    pub fn open(name: &str) -> io::Result<Self> {
        let (file, written) = match name {
            "-" => {
                let mut file = tempfile::tempfile()?;
                io::copy(&mut io::stdin().lock(), &mut file)?;
                (file, None)
            }
            path => {
                let file = File::open(Path::new(path))?;
                if file.metadata()?.is_dir() {
                    return Err(io::Error::from(io::ErrorKind::IsADirectory));
                }
                let written = file.metadata()?.modified().ok();
                let written = written.and_then(|at| at.duration_since(std::time::UNIX_EPOCH).ok());
                (file, written.and_then(|at| i64::try_from(at.as_secs()).ok()))
            }
        };
        let mut opened = Self { name: name.to_owned(), file, is_packed: false, head: Vec::new(), written };
        let mut start = Vec::new();
        opened.raw()?.take(4).read_to_end(&mut start)?;
        opened.is_packed = matches!(start[..], [0x1f, 0x8b, ..] | [0x28, 0xb5, 0x2f, 0xfd]);
        let mut head = Vec::new();
        // What is broken later is said when it is read.
        let read = opened.reader()?.take(HEAD).read_to_end(&mut head);
        if head.is_empty() {
            read?;
        }
        opened.head = head;
        if matches!(opened.head[..], [0xff, 0xfe, ..] | [0xfe, 0xff, ..]) {
            opened.decode()?;
        }
        Ok(opened)
    }

    /// Replaces a file in UTF-16, as consoles and spreadsheets write it, by the same in UTF-8.
    fn decode(&mut self) -> io::Result<()> {
        let mut bytes = Vec::new();
        self.reader()?.take(LARGEST_DECODED).read_to_end(&mut bytes)?;
        let mut file = tempfile::tempfile()?;
        let text = decode(&bytes).bytes;
        file.write_all(&text)?;
        self.head = text[..text.len().min(HEAD as usize)].to_vec();
        (self.file, self.is_packed) = (file, false);
        Ok(())
    }

    fn raw(&self) -> io::Result<File> {
        let mut file = self.file.try_clone()?;
        file.seek(SeekFrom::Start(0))?;
        Ok(file)
    }

    /// Its bytes from the beginning, unpacked. Only one reader may be in use at a time.
    ///
    /// # Errors
    ///
    /// Returns an error if it cannot be read.
    pub fn reader(&self) -> io::Result<Box<dyn Read + Send>> {
        unpacked(Box::new(self.raw()?))
    }

    /// The file itself, if it is not compressed.
    pub(super) fn plain(&self) -> Option<&File> {
        (!self.is_packed).then_some(&self.file)
    }

    /// The lines of its beginning that are whole.
    pub(super) fn first_lines(&self) -> impl Iterator<Item = &[u8]> {
        let is_all = (self.head.len() as u64) < HEAD;
        let end = if is_all { self.head.len() } else { memchr::memrchr(b'\n', &self.head).unwrap_or(self.head.len()) };
        let lines = self.head[..end].split(|byte| *byte == b'\n');
        lines.map(|line| line.strip_suffix(b"\r").unwrap_or(line)).filter(|line| !line.is_empty())
    }
}

/// Reads bytes at an offset, from any thread.
#[cfg(unix)]
pub(super) fn read_exact_at(file: &File, buffer: &mut [u8], offset: u64) -> io::Result<()> {
    std::os::unix::fs::FileExt::read_exact_at(file, buffer, offset)
}

/// Reads bytes at an offset, one thread after the other.
#[cfg(not(unix))]
pub(super) fn read_exact_at(file: &File, buffer: &mut [u8], offset: u64) -> io::Result<()> {
    static TURN: std::sync::Mutex<()> = std::sync::Mutex::new(());
    let _turn = TURN.lock();
    let mut file = file.try_clone()?;
    file.seek(SeekFrom::Start(offset))?;
    file.read_exact(buffer)
}
