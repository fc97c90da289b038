//! Rows that are made here, as lines of separated values (RFC 4180), so that they are read like those of a table.

use atlas_core::number::grouped;

use crate::reading::chunker::LARGEST_RECORD;
use crate::reading::csv_split::Separators;

/// How many bytes of a row that is too large are shown.
const SHOWN: usize = 60;

/// Appends a value and a delimiter.
pub(crate) fn push_cell(value: &[u8], line: &mut Vec<u8>) {
    let Separators { delimiter, quote } = Separators::OF_ROWS;
    if memchr::memchr3(delimiter, quote, b'\n', value).is_none() && !value.contains(&b'\r') {
        line.extend_from_slice(value);
    } else {
        line.push(quote);
        for part in value.split_inclusive(|byte| *byte == quote) {
            line.extend_from_slice(part);
            if part.ends_with(&[quote]) {
                line.push(quote);
            }
        }
        line.push(quote);
    }
    line.push(delimiter);
}

/// Ends a line in place of its last delimiter.
pub(crate) fn end_line(line: &mut [u8]) {
    if let Some(last) = line.last_mut() {
        *last = b'\n';
    }
}

/// Why a line is not passed on, if it is too large.
pub(crate) fn too_large(line: &[u8]) -> Option<String> {
    if line.len() <= LARGEST_RECORD {
        return None;
    }
    let begins =
        String::from_utf8_lossy(&line[..SHOWN.min(line.len())]).replace(|letter: char| letter.is_control(), " ");
    Some(format!(
        "the row that begins with “{begins}…” has {} bytes, and at most {} are read; the row is skipped. Ask only for columns that are fields",
        grouped(line.len() as u64),
        grouped(LARGEST_RECORD as u64)
    ))
}
