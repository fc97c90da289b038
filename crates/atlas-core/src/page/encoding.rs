//! Decoding a page's bytes by the encoding that it declares.

use std::borrow::Cow;

use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};

use super::PageError;

/// How many bytes of a page are searched for its declaration. The HTML Standard asks for 1,024; with more, pages with a
/// long comment at the top are read, too.
const PRESCAN: usize = 4096;

/// Decodes by byte-order mark, else by the declaration in the page, else as UTF-8 if it is valid, else as windows-1252
/// (HTML Standard, "determining the character encoding").
pub(super) fn decode(bytes: &[u8]) -> Result<Cow<'_, [u8]>, PageError> {
    if bytes.iter().all(u8::is_ascii_whitespace) {
        return Err(PageError::Empty);
    }
    let marked = Encoding::for_bom(bytes);
    if marked.is_none() && bytes[..bytes.len().min(PRESCAN)].contains(&0) {
        return Err(PageError::Binary);
    }
    let encoding = match marked {
        Some((encoding, _)) => encoding,
        None => match declared(&bytes[..bytes.len().min(PRESCAN)]) {
            // A declaration that can be read as ASCII is not in UTF-16; the HTML Standard reads such a page as UTF-8.
            Some(encoding) if encoding == UTF_16BE || encoding == UTF_16LE => UTF_8,
            Some(encoding) => encoding,
            None if std::str::from_utf8(bytes).is_ok() => UTF_8,
            None => WINDOWS_1252,
        },
    };
    let bytes = marked.map_or(bytes, |(_, length)| &bytes[length..]);
    Ok(if encoding == UTF_8 {
        Cow::Borrowed(bytes)
    } else {
        match encoding.decode_without_bom_handling(bytes).0 {
            Cow::Borrowed(text) => Cow::Borrowed(text.as_bytes()),
            Cow::Owned(text) => Cow::Owned(text.into_bytes()),
        }
    })
}

/// Converts a page to UTF-8 by the `charset` of its `Content-Type`, which takes precedence over the page's own
/// declaration, and marks it with a byte-order mark. An unknown name changes nothing (HTML Standard, "determining the
/// character encoding").
pub fn by_header(bytes: Vec<u8>, charset: &str) -> Vec<u8> {
    match Encoding::for_label(charset.trim_matches(['"', '\'', ' ']).as_bytes()) {
        Some(encoding) if encoding != UTF_8 && Encoding::for_bom(&bytes).is_none() => {
            let text = encoding.decode_without_bom_handling(&bytes).0;
            [b"\xef\xbb\xbf", text.as_bytes()].concat()
        }
        _ => bytes,
    }
}

/// The encoding in an XML declaration or in the first `meta` that names one.
fn declared(head: &[u8]) -> Option<&'static Encoding> {
    let head = head.to_ascii_lowercase();
    let after = |text: &[u8], what: &[u8]| -> Option<usize> {
        text.windows(what.len()).position(|window| window == what).map(|at| at + what.len())
    };
    if head.starts_with(b"<?xml") {
        let end = head.iter().position(|&byte| byte == b'>')?;
        if let Some(at) = after(&head[..end], b"encoding=") {
            return Encoding::for_label(label(&head[at..end]));
        }
    }
    let mut rest = &head[..];
    while let Some(at) = after(rest, b"<meta") {
        rest = &rest[at..];
        let end = rest.iter().position(|&byte| byte == b'>').unwrap_or(rest.len());
        if let Some(at) = after(&rest[..end], b"charset") {
            let value = rest[at..end].trim_ascii_start();
            if let Some(value) = value.strip_prefix(b"=")
                && let Some(encoding) = Encoding::for_label(label(value.trim_ascii_start()))
            {
                return Some(encoding);
            }
        }
    }
    None
}

/// The value at the start of this text, quoted or not.
fn label(value: &[u8]) -> &[u8] {
    let value = value.strip_prefix(b"\"").or_else(|| value.strip_prefix(b"'")).unwrap_or(value);
    let end = value.iter().position(|byte| b"\"'; \t\r\n/>?".contains(byte)).unwrap_or(value.len());
    &value[..end]
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::utf8("<title>brân</title>".as_bytes(), "<title>brân</title>")]
    #[case::utf8_mark(b"\xef\xbb\xbf<p>x", "<p>x")]
    #[case::latin(b"<meta charset=iso-8859-1><p>br\xe2n", "<meta charset=iso-8859-1><p>brân")]
    #[case::http_equiv(
        b"<META HTTP-EQUIV=Content-Type CONTENT='text/html; charset=ISO-8859-2'>\xb1",
        "<META HTTP-EQUIV=Content-Type CONTENT='text/html; charset=ISO-8859-2'>ą"
    )]
    #[case::xml(b"<?xml version='1.0' encoding='windows-1252'?>\x80", "<?xml version='1.0' encoding='windows-1252'?>€")]
    #[case::undeclared(b"<p>br\xe2n", "<p>brân")]
    #[case::sjis(b"<meta charset=shift_jis>\x93\xfa", "<meta charset=shift_jis>日")]
    #[case::utf16(b"\xff\xfe<\0p\0>\0", "<p>")]
    #[case::no_such(b"<meta charset=lamp-oil><p>x", "<meta charset=lamp-oil><p>x")]
    fn reads_what_is_declared(#[case] bytes: &[u8], #[case] wanted: &str) {
        assert_eq!(String::from_utf8_lossy(&decode(bytes).unwrap()), wanted);
    }

    #[rstest]
    #[case(b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR", PageError::Binary)]
    #[case(b"", PageError::Empty)]
    #[case(b" \n\t", PageError::Empty)]
    fn rejects_binary_data(#[case] bytes: &[u8], #[case] wanted: PageError) {
        assert_eq!(decode(bytes), Err(wanted));
    }

    #[test]
    fn the_header_overrides_the_page() {
        let page = b"<meta charset=utf-8><title>Br\xe2n</title>".to_vec();
        let read = decode(&by_header(page.clone(), "\"iso-8859-1\"")).unwrap().into_owned();
        assert!(String::from_utf8(read).unwrap().contains("Brân"));
        assert_eq!(by_header(page.clone(), "utf-8"), page);
        assert_eq!(by_header(page.clone(), "lampwords"), page);
    }
}
