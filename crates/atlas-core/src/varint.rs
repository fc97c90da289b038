//! Variable-length integers in base 128, low digits first: one byte for numbers below 128.

/// Appends a number.
pub(crate) fn push(out: &mut Vec<u8>, mut number: usize) {
    while number >= 0x80 {
        out.push((number & 0x7f) as u8 | 0x80);
        number >>= 7;
    }
    out.push(number as u8);
}

/// Reads a number of at most five bytes, and returns it with the bytes after it.
pub(crate) fn read(bytes: &[u8]) -> Option<(usize, &[u8])> {
    let mut number = 0usize;
    for (at, &byte) in bytes.iter().enumerate().take(5) {
        number |= usize::from(byte & 0x7f) << (7 * at);
        if byte & 0x80 == 0 {
            return Some((number, &bytes[at + 1..]));
        }
    }
    None
}
