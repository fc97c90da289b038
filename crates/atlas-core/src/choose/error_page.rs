//! Recognising the pages that a server shows if another is missing or broken.

/// Whether a page is what a server shows in place of another: a file named after a status (`404.html`, `50x.html`), or
/// a page whose title begins with the status and says that something was not found.
pub(super) fn is_error_page(path: &str, title: Option<&str>) -> bool {
    is_error_path(path.as_bytes()) || title.is_some_and(is_error_title)
}

fn is_error_path(path: &[u8]) -> bool {
    // In most paths no segment begins with such a digit, which a few wide steps can tell.
    let begun = path.iter().zip(&path[path.len().min(1)..]);
    if begun.fold(0, |any, (byte, next)| any | u8::from((*byte == b'/') & (*next | 1 == b'5'))) == 0 {
        return false;
    }
    let path = &path[..memchr::memchr(b'?', path).unwrap_or(path.len())];
    let (path, closed) = path.strip_suffix(b"/").map_or((path, false), |path| (path, true));
    let name_at = memchr::memrchr(b'/', path).map_or(0, |at| at + 1);
    let name = &path[name_at..];
    let stem = &name[..memchr::memrchr(b'.', name).unwrap_or(name.len())];
    let is_page = match &name[stem.len()..] {
        b".html" | b".htm" | b".xhtml" | b".php" => !closed,
        b"" => closed && name_at == 1,
        _ => false,
    };
    is_page && is_status(stem)
}

fn is_status(text: &[u8]) -> bool {
    matches!(text, b"50x" | [b'4' | b'5', b'0'..=b'9', b'0'..=b'9'])
}

fn is_error_title(title: &str) -> bool {
    if !title.starts_with(['4', '5', 'e', 'E']) {
        return false;
    }
    let after = |prefix: &str| title.get(..prefix.len()).filter(|start| start.eq_ignore_ascii_case(prefix));
    let rest = after("error ").map_or(title, |prefix| &title[prefix.len()..]);
    rest.starts_with(['4', '5'])
        && rest.as_bytes().get(..3).is_some_and(is_status)
        && title.to_lowercase().contains("not found")
}
