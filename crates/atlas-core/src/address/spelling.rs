//! The normal spelling of addresses, byte by byte.

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

use super::origin;

/// Percent-encodes a text for use in a URL's path. Slashes stay, and so do all characters that a path may hold raw
/// (`pchar`, RFC 3986 section 3.3), so that a file, a link to it and its canonical link are spelt alike.
///
/// ```
/// assert_eq!(atlas_core::address::encode_path("tea & r&d/chair-(oak)?.html"), "tea%20&%20r&d/chair-(oak)%3F.html");
/// ```
pub fn encode_path(text: &str) -> String {
    const UNRESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');
    const SOME: &AsciiSet = &UNRESERVED.remove(b'!').remove(b'$').remove(b'&').remove(b'\'').remove(b'(').remove(b')');
    const IN_PATH: &AsciiSet =
        &SOME.remove(b'*').remove(b'+').remove(b',').remove(b';').remove(b'=').remove(b':').remove(b'@').remove(b'/');
    if memchr::memchr(RAW_LEAD, text.as_bytes()).is_none() {
        return utf8_percent_encode(text, IN_PATH).to_string();
    }
    let parts = text.split_inclusive(|letter| raw_byte(letter).is_some()).map(|part| {
        let raw = part.chars().next_back().and_then(|letter| Some((letter, raw_byte(letter)?)));
        match raw {
            Some((letter, byte)) => {
                format!("{}%{byte:02X}", utf8_percent_encode(&part[..part.len() - letter.len_utf8()], IN_PATH))
            }
            None => utf8_percent_encode(part, IN_PATH).to_string(),
        }
    });
    parts.collect()
}

/// The first of the private characters that stand for the bytes of file names that are not UTF-8.
const RAW: u32 = 0xf_0000;
/// The first byte of these characters in UTF-8.
const RAW_LEAD: u8 = 0xf3;

fn raw_byte(letter: char) -> Option<u8> {
    u8::try_from(u32::from(letter).checked_sub(RAW)?).ok()
}

/// The name of a file as text. Bytes that are not UTF-8 become private characters, which [`encode_path`] turns into
/// those bytes again, percent-encoded.
///
/// ```
/// use atlas_core::address::{encode_path, file_name};
///
/// assert_eq!(encode_path(&file_name(b"br\xe2n fach.html")), "br%E2n%20fach.html");
/// assert_eq!(encode_path(&file_name("brân.html".as_bytes())), "br%C3%A2n.html");
/// ```
pub fn file_name(bytes: &[u8]) -> String {
    let mut name = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        name.push_str(chunk.valid());
        name.extend(chunk.invalid().iter().filter_map(|byte| char::from_u32(RAW + u32::from(*byte))));
    }
    name
}

/// Whether the rest of an address, after a root that ends with a slash, is already in its normal spelling.
pub(super) fn is_plain(rest: &str) -> bool {
    let bytes = rest.as_bytes();
    // Without an early exit, so that many bytes are checked in one step. The last step checks some of them twice.
    let odd = |some: &[u8]| some.iter().fold(0u8, |odd, byte| odd | u8::from(!is_plain_byte(*byte)));
    let plain = match bytes.last_chunk::<STEP>() {
        Some(last) => bytes.as_chunks::<STEP>().0.iter().chain([last]).fold(0, |all, some| all | odd(some)) == 0,
        None => odd(bytes) == 0,
    };
    plain && !has_dot_segment(bytes)
}

/// Whether a segment begins with a dot.
pub(super) fn has_dot_segment(bytes: &[u8]) -> bool {
    let mut dots = memchr::memchr_iter(b'.', bytes);
    dots.any(|at| at == 0 || bytes[at - 1] == b'/')
}

/// The number of bytes checked in one step.
const STEP: usize = 16;

/// Bytes that stand for themselves in a path: unreserved ones and slashes.
#[inline(always)]
pub(super) const fn is_plain_byte(byte: u8) -> bool {
    let letter = (byte | 0x20).wrapping_sub(b'a') < 26;
    // `-`, `.`, `/` and the digits are adjacent in ASCII.
    let sign = byte.wrapping_sub(b'-') < 13;
    letter | sign | (byte == b'_') | (byte == b'~')
}

/// Normalises escapes (RFC 3986 section 6.2.2): writes them in capitals, undoes needless ones, and escapes bytes that
/// no URL may hold raw.
pub(super) fn normal_escapes(text: &str) -> String {
    let bytes = text.as_bytes();
    let start = origin(text).len();
    let mut out = String::with_capacity(text.len() + 8);
    out.push_str(&text[..start]);
    let mut at = start;
    while at < bytes.len() {
        match bytes[at] {
            b'%' => {
                let escaped = bytes.get(at + 1..at + 3).and_then(|two| {
                    let high = (two[0] as char).to_digit(16)?;
                    let low = (two[1] as char).to_digit(16)?;
                    Some((high * 16 + low) as u8)
                });
                match escaped {
                    Some(byte) if is_unreserved(byte) => out.push(byte as char),
                    Some(byte) => push_escape(&mut out, byte),
                    None => push_escape(&mut out, b'%'),
                }
                at += if escaped.is_some() { 3 } else { 1 };
                continue;
            }
            byte if is_unreserved(byte) || b"!$&'()*+,;=:@/?".contains(&byte) => out.push(byte as char),
            byte => push_escape(&mut out, byte),
        }
        at += 1;
    }
    out
}

pub(super) fn push_escape(out: &mut String, byte: u8) {
    const HEX: &[u8; 16] = b"0123456789ABCDEF";
    out.push('%');
    out.push(HEX[usize::from(byte >> 4)] as char);
    out.push(HEX[usize::from(byte & 15)] as char);
}

/// RFC 3986 section 2.3.
pub(crate) fn is_unreserved(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || b"-._~".contains(&byte)
}
