//! Reading a JSON array of any length, item by item. Each item becomes a line of JSON, so that there is only one way to
//! read rows.

use std::cell::Cell;
use std::io::{self, Read};

use atlas_store::source::Gathering;
use serde::de::{Deserializer, SeqAccess, Visitor};
use serde_json::value::RawValue;

use crate::reading::pipe::{PipeWriter, gather_piped};
use crate::reading::rows::{RowInput, RowsError};

/// The longest item. One that never ends is noticed here, before it fills the memory.
const LONGEST_ITEM: u64 = 16 << 20;

/// Reads an array.
pub(crate) fn gather(
    reader: impl Read + Send,
    rows: &RowInput<'_>,
    gathering: &mut Gathering<'_>,
) -> Result<(), RowsError> {
    gather_piped(rows, gathering, |lines| {
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
    lines: &'l mut PipeWriter,
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
            self.lines.push_json_line(item.get().as_bytes()).map_err(serde::de::Error::custom)?;
        }
        Ok(())
    }
}
