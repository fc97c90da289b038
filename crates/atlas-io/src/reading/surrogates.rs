//! Halves of surrogate pairs in JSON texts. Programs that cut texts by UTF-16 units write them; they are not characters.

/// The JSON with `\ufffd` in place of each escape that is half of a surrogate pair; `None` if there is none.
pub(crate) fn without_lone_surrogates(json: &[u8]) -> Option<Vec<u8>> {
    let mut mended = None;
    let mut at = 0;
    while at < json.len() {
        if json[at] != b'\\' {
            at += 1;
            continue;
        }
        at += match (surrogate(json, at), surrogate(json, at + 6)) {
            (Some(Half::First), Some(Half::Second)) => 12,
            (Some(_), _) => {
                mended.get_or_insert_with(|| json.to_vec())[at + 2..at + 6].copy_from_slice(b"fffd");
                6
            }
            // The escaped letter may be a backslash.
            (None, _) => 2,
        };
    }
    mended
}

#[derive(Clone, Copy)]
enum Half {
    First,
    Second,
}

/// The half that the escape at this place stands for.
fn surrogate(json: &[u8], at: usize) -> Option<Half> {
    let digits = json.get(at..at + 6)?.strip_prefix(b"\\u")?;
    match u16::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()? {
        0xd800..=0xdbff => Some(Half::First),
        0xdc00..=0xdfff => Some(Half::Second),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::first(r#"{"title": "a\ud83d"}"#, Some(r#"{"title": "a\ufffd"}"#))]
    #[case::second(r#"["\udd25\ud83d\udd25"]"#, Some(r#"["\ufffd\ud83d\udd25"]"#))]
    #[case::two_firsts(r#""\ud83d\ud83d\udd25""#, Some(r#""\ufffd\ud83d\udd25""#))]
    #[case::pair(r#""\ud83d\udd25""#, None)]
    #[case::escaped_backslash(r#""\\ud83d""#, None)]
    #[case::cut(r#""\ud8"#, None)]
    fn halves_are_replaced(#[case] json: &str, #[case] wanted: Option<&str>) {
        assert_eq!(without_lone_surrogates(json.as_bytes()).as_deref(), wanted.map(str::as_bytes));
    }
}
