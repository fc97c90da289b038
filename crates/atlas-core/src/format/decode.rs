//! Decoding files that are not in UTF-8. The protocol allows nothing else, but what they list can be read all the same.

use std::borrow::Cow;

use encoding_rs::{Encoding, UTF_8, WINDOWS_1252};

/// A file in UTF-8.
#[derive(Debug, PartialEq, Eq)]
pub struct Decoded<'a> {
    /// Its bytes, valid UTF-8.
    pub bytes: Cow<'a, [u8]>,
    /// Why it was not in UTF-8, and the line of the first byte that is not.
    pub trouble: Option<(u64, String)>,
}

/// Decodes a file by its byte-order mark, else by its XML declaration, else as UTF-8. What is not valid is replaced.
///
/// ```
/// use atlas_core::format::decode;
///
/// let decoded = decode(b"<?xml version='1.0' encoding='ISO-8859-1'?><a>br\xe2n</a>");
/// assert!(decoded.bytes.ends_with("<a>brân</a>".as_bytes()));
/// assert_eq!(decoded.trouble, Some((1, "it is in windows-1252".to_owned())));
/// ```
pub fn decode(bytes: &[u8]) -> Decoded<'_> {
    let marked = Encoding::for_bom(bytes).map(|(encoding, _)| encoding);
    let declared = declared(&bytes[..bytes.len().min(200)]);
    let known = declared.and_then(Encoding::for_label);
    let named = marked.or(known).unwrap_or(UTF_8);
    if let Some(label) = declared.filter(|_| known.is_none() && std::str::from_utf8(bytes).is_ok()) {
        let trouble = Some((1, format!("there is no encoding “{}”", String::from_utf8_lossy(label))));
        return Decoded { bytes: Cow::Borrowed(bytes), trouble };
    }
    let (encoding, trouble) = match std::str::from_utf8(bytes) {
        // What is valid UTF-8 is UTF-8, unless it is said to be something that could look like it.
        Ok(_) if named == UTF_8 || bytes.is_ascii() => return Decoded { bytes: Cow::Borrowed(bytes), trouble: None },
        Ok(_) => (named, (1, format!("it is in {}", named.name()))),
        Err(_) if named != UTF_8 => (named, (1, format!("it is in {}", named.name()))),
        Err(error) => {
            let before = &bytes[..error.valid_up_to()];
            let line = before.iter().filter(|byte| **byte == b'\n').count() as u64 + 1;
            let byte = bytes[error.valid_up_to()];
            (WINDOWS_1252, (line, format!("the byte {byte:02x} is not UTF-8")))
        }
    };
    let text = encoding.decode_with_bom_removal(bytes).0;
    Decoded { bytes: Cow::Owned(text.into_owned().into_bytes()), trouble: Some(trouble) }
}

/// The name of the encoding in the XML declaration.
fn declared(head: &[u8]) -> Option<&[u8]> {
    let head = head.strip_prefix(b"<?xml")?;
    let head = &head[..memchr::memmem::find(head, b"?>")?];
    let value = head[memchr::memmem::find(head, b"encoding")? + 8..].trim_ascii_start().strip_prefix(b"=")?;
    let value = value.trim_ascii_start();
    let quote = *value.first().filter(|quote| matches!(quote, b'"' | b'\''))?;
    value[1..].split(|byte| *byte == quote).next()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::plain(b"<a/>", "<a/>", None)]
    #[case::marked(b"\xef\xbb\xbf<a/>", "\u{feff}<a/>", None)]
    #[case::said("<?xml version=\"1.0\" encoding=\"utf-8\"?>â".as_bytes(), "<?xml version=\"1.0\" encoding=\"utf-8\"?>â", None)]
    #[case::wide(b"\xff\xfe<\0a\0/\0>\0", "<a/>", Some("UTF-16LE"))]
    #[case::stray(b"x\n\xe2", "x\nâ", Some("byte e2"))]
    #[case::unknown(b"<?xml encoding='lamp'?><a/>", "<?xml encoding='lamp'?><a/>", Some("no encoding “lamp”"))]
    #[case::harmless(b"<?xml encoding='latin1'?><a/>", "<?xml encoding='latin1'?><a/>", None)]
    fn files_become_utf8(#[case] bytes: &[u8], #[case] text: &str, #[case] trouble: Option<&str>) {
        let decoded = decode(bytes);
        assert_eq!(String::from_utf8_lossy(&decoded.bytes), text);
        match (trouble, decoded.trouble) {
            (Some(wanted), Some((_, said))) => assert!(said.contains(wanted), "{said}"),
            (wanted, said) => assert_eq!((wanted, said), (None, None)),
        }
    }
}
