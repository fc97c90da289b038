//! Reading one item after the other, none of which may fill the memory.

use std::cell::Cell;
use std::io::{self, Read};

/// The longest item. One that never ends is noticed here.
const LONGEST_ITEM: u64 = 16 << 20;

/// Counts what is read for one item, and fails if it is too much. Whoever has read an item sets the count to 0.
pub(crate) struct Metered<'c, R> {
    pub(crate) reader: R,
    pub(crate) read: &'c Cell<u64>,
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
