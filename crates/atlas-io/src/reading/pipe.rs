//! A pipe between a maker of records and their reader, each in a thread of its own.

use std::io::{self, Read};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use atlas_store::source::Gathering;

use crate::reading::rows::{RowInput, RowsError};

/// About how many bytes are passed on at a time.
const CHUNK: usize = 1 << 18;
/// How many chunks may be waiting.
const WAITING: usize = 4;

/// The writing end.
#[derive(Debug)]
pub(crate) struct PipeWriter {
    sender: SyncSender<Vec<u8>>,
    chunk: Vec<u8>,
}

/// The reading end.
#[derive(Debug)]
struct PipeReader {
    receiver: Receiver<Vec<u8>>,
    chunk: Vec<u8>,
    at: usize,
}

/// Both ends of a pipe. Little waits between them, however slow the reader.
fn pipe() -> (PipeWriter, PipeReader) {
    let (sender, receiver) = sync_channel(WAITING);
    (PipeWriter { sender, chunk: Vec::new() }, PipeReader { receiver, chunk: Vec::new(), at: 0 })
}

impl PipeWriter {
    /// Adds bytes. Fails if nobody reads any more.
    pub(crate) fn push(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.chunk.extend_from_slice(bytes);
        if self.chunk.len() < CHUNK { Ok(()) } else { self.flush() }
    }

    /// Adds a JSON value as a line. White space between its tokens may contain line ends; texts in JSON never do.
    pub(crate) fn push_json_line(&mut self, json: &[u8]) -> io::Result<()> {
        self.chunk.extend(json.iter().map(|byte| if *byte == b'\n' { b' ' } else { *byte }));
        self.push(b"\n")
    }

    /// Passes on what is left.
    fn flush(&mut self) -> io::Result<()> {
        let chunk = std::mem::replace(&mut self.chunk, Vec::with_capacity(CHUNK + CHUNK / 8));
        self.sender.send(chunk).map_err(|_| io::ErrorKind::BrokenPipe.into())
    }
}

impl Read for PipeReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.chunk.len() {
            let Ok(chunk) = self.receiver.recv() else { return Ok(0) };
            (self.chunk, self.at) = (chunk, 0);
        }
        let length = buffer.len().min(self.chunk.len() - self.at);
        buffer[..length].copy_from_slice(&self.chunk[self.at..self.at + length]);
        self.at += length;
        Ok(length)
    }
}

/// Everything that the maker of records passes on.
pub(crate) fn collected(make: impl FnOnce(&mut PipeWriter) -> io::Result<()> + Send) -> io::Result<Vec<u8>> {
    let (mut writer, mut reader) = pipe();
    std::thread::scope(|scope| {
        let making = scope.spawn(move || make(&mut writer).and_then(|()| writer.flush()));
        let mut bytes = Vec::new();
        reader.read_to_end(&mut bytes)?;
        making.join().unwrap_or_else(|_| Err(bug()))?;
        Ok(bytes)
    })
}

/// The error of a thread that panicked.
fn bug() -> io::Error {
    io::Error::other("it stopped because of a bug in this program")
}

/// Runs the maker of records beside their reader. An error of the maker takes precedence: missing rows matter more than
/// rows that could not be read.
pub(crate) fn gather_piped(
    rows: &RowInput<'_>,
    gathering: &mut Gathering<'_>,
    make: impl FnOnce(&mut PipeWriter) -> io::Result<()> + Send,
) -> Result<(), RowsError> {
    let (mut writer, reader) = pipe();
    std::thread::scope(|scope| {
        let making = scope.spawn(move || make(&mut writer).and_then(|()| writer.flush()));
        let read = rows.gather(reader, gathering);
        let made = making.join().unwrap_or_else(|_| Err(bug()));
        match (made, read) {
            // The maker was cut off because of what its reader found.
            (Err(error), Err(read)) if error.kind() == io::ErrorKind::BrokenPipe => Err(read),
            (made, read) => made.map_err(RowsError::Read).and(read),
        }
    })
}
