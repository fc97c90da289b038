//! Reading a JSON array of any length, item by item. Each item becomes a line of JSON, so that there is only one way to
//! read rows.

use std::cell::Cell;
use std::io::{self, Read};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use atlas_store::source::Gathering;
use serde::de::{Deserializer, SeqAccess, Visitor};
use serde_json::value::RawValue;

use crate::reading::rows::{RowInput, RowsError};

/// About how many bytes of lines are passed on at a time.
const CHUNK: usize = 1 << 18;
/// How many of these may be waiting.
const WAITING: usize = 4;

/// The writing end of a channel for lines of JSON.
#[derive(Debug)]
pub(crate) struct JsonArrayLines {
    sender: SyncSender<Vec<u8>>,
    chunk: Vec<u8>,
}

impl JsonArrayLines {
    /// Both ends of a channel. Few lines wait between them, however slow the reader.
    pub(crate) fn channel() -> (Self, JsonLineReader) {
        let (sender, receiver) = sync_channel(WAITING);
        (Self { sender, chunk: Vec::new() }, JsonLineReader { receiver, chunk: Vec::new(), at: 0 })
    }

    /// Adds an object. Fails if nobody reads any more.
    pub(crate) fn push(&mut self, json: &[u8]) -> io::Result<()> {
        // White space between tokens may contain line ends; texts in JSON never do.
        self.chunk.extend(json.iter().map(|byte| if *byte == b'\n' { b' ' } else { *byte }));
        self.chunk.push(b'\n');
        if self.chunk.len() < CHUNK { Ok(()) } else { self.flush() }
    }

    /// Passes on what is left.
    pub(crate) fn flush(&mut self) -> io::Result<()> {
        let chunk = std::mem::take(&mut self.chunk);
        self.sender.send(chunk).map_err(|_| io::ErrorKind::BrokenPipe.into())
    }
}

/// The reading end.
#[derive(Debug)]
pub(crate) struct JsonLineReader {
    receiver: Receiver<Vec<u8>>,
    chunk: Vec<u8>,
    at: usize,
}

impl Read for JsonLineReader {
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

/// Runs the maker of lines beside their reader. An error of the maker takes precedence: missing rows matter more than
/// rows that could not be read.
pub(crate) fn gather_lines(
    rows: &RowInput<'_>,
    gathering: &mut Gathering<'_>,
    make: impl FnOnce(&mut JsonArrayLines) -> io::Result<()> + Send,
) -> Result<(), RowsError> {
    let (mut lines, reader) = JsonArrayLines::channel();
    std::thread::scope(|scope| {
        let making = scope.spawn(move || make(&mut lines).and_then(|()| lines.flush()));
        let read = rows.gather(reader, gathering);
        let made =
            making.join().unwrap_or_else(|_| Err(io::Error::other("it stopped because of a bug in this program")));
        made.map_err(RowsError::Read).and(read)
    })
}

/// The longest item. One that never ends is noticed here, before it fills the memory.
const LONGEST_ITEM: u64 = 16 << 20;

/// Reads an array.
pub(crate) fn gather(
    reader: impl Read + Send,
    rows: &RowInput<'_>,
    gathering: &mut Gathering<'_>,
) -> Result<(), RowsError> {
    gather_lines(rows, gathering, |lines| {
        let read = Cell::new(0);
        let mut json = serde_json::Deserializer::from_reader(io::BufReader::new(Metered { reader, read: &read }));
        json.deserialize_seq(Items { lines, read: &read }).map_err(io::Error::from)?;
        json.end().map_err(io::Error::from)
    })
}

/// Counts what is read for one item, and fails if it is too much.
struct Metered<'c, R> {
    reader: R,
    read: &'c Cell<u64>,
}

impl<R: Read> Read for Metered<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let length = self.reader.read(buffer)?;
        self.read.set(self.read.get() + length as u64);
        if self.read.get() > LONGEST_ITEM {
            let why = format!("an item is longer than {LONGEST_ITEM} bytes; is there an unclosed quote?");
            return Err(io::Error::other(why));
        }
        Ok(length)
    }
}

struct Items<'l> {
    lines: &'l mut JsonArrayLines,
    read: &'l Cell<u64>,
}

impl<'de> Visitor<'de> for Items<'_> {
    type Value = ();

    fn expecting(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.write_str("an array of objects")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<(), A::Error> {
        while let Some(item) = items.next_element::<Box<RawValue>>()? {
            self.read.set(0);
            self.lines.push(item.get().as_bytes()).map_err(serde::de::Error::custom)?;
        }
        Ok(())
    }
}
