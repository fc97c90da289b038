//! Reading a JSON array of any length, item by item. Each item becomes a line of JSON, so that there is only one way to
//! read rows.

use std::cell::Cell;
use std::io::{self, Read};

use atlas_store::source::Gathering;
use serde::de::{Deserializer, SeqAccess, Visitor};
use serde_json::value::RawValue;

use crate::reading::metered::Metered;
use crate::reading::pipe::{PipeWriter, gather_piped};
use crate::reading::rows::{RowInput, RowsError};

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
