//! A request and its answer, without a network: what RFC 9110 asks of a server of files.

use std::ops::Range;

use hyper::header::{self, HeaderMap, HeaderName, HeaderValue};
use hyper::{Method, StatusCode};

use super::catalog::{Catalog, CatalogEntry, CatalogFile};

/// An answer whose body is still to be read.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct ServeAnswer {
    pub(super) status: StatusCode,
    pub(super) headers: Vec<(HeaderName, String)>,
    pub(super) body: AnswerBody,
}

/// The body of an answer.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum AnswerBody {
    /// None, but with this length where there would be one.
    None(Option<u64>),
    /// A short text.
    Text(&'static str),
    /// A part of a file.
    Part(CatalogFile, Range<u64>),
}

/// A range that was asked for (RFC 9110, section 14.2).
#[derive(Debug, PartialEq, Eq)]
enum AskedRange {
    All,
    Part(Range<u64>),
    Nothing,
}

/// The answer to a request.
pub(super) fn answer(
    catalog: &Catalog,
    method: &Method,
    path: &str,
    asked: &HeaderMap,
    cache_control: Option<&str>,
) -> ServeAnswer {
    if method != Method::GET && method != Method::HEAD {
        let allow = vec![(header::ALLOW, "GET, HEAD".to_owned())];
        return ServeAnswer {
            status: StatusCode::METHOD_NOT_ALLOWED,
            headers: allow,
            body: AnswerBody::Text("only GET and HEAD\n"),
        };
    }
    let Some(entry) = catalog.at(path) else {
        return ServeAnswer {
            status: StatusCode::NOT_FOUND,
            headers: Vec::new(),
            body: AnswerBody::Text("not found\n"),
        };
    };
    let CatalogEntry { plain, packed, content_type } = entry;
    let sends_packed = packed.as_ref().filter(|_| takes_gzip(asked));
    let file = sends_packed.unwrap_or(plain);
    let mut headers = vec![
        (header::ETAG, file.tag.clone()),
        (header::LAST_MODIFIED, file.modified.clone()),
        (header::ACCEPT_RANGES, "bytes".to_owned()),
    ];
    headers.extend(cache_control.map(|value| (header::CACHE_CONTROL, value.to_owned())));
    headers.extend(packed.as_ref().map(|_| (header::VARY, "Accept-Encoding".to_owned())));
    if is_unchanged(asked, plain, packed.as_ref(), file) {
        return ServeAnswer { status: StatusCode::NOT_MODIFIED, headers, body: AnswerBody::None(None) };
    }
    headers.push((header::CONTENT_TYPE, (*content_type).to_owned()));
    headers.extend(sends_packed.map(|_| (header::CONTENT_ENCODING, "gzip".to_owned())));
    let size = file.file.size;
    let (status, range) = match range(asked, file) {
        AskedRange::All => (StatusCode::OK, 0..size),
        AskedRange::Part(range) => {
            headers.push((header::CONTENT_RANGE, format!("bytes {}-{}/{size}", range.start, range.end - 1)));
            (StatusCode::PARTIAL_CONTENT, range)
        }
        AskedRange::Nothing => {
            let headers = vec![(header::CONTENT_RANGE, format!("bytes */{size}"))];
            return ServeAnswer { status: StatusCode::RANGE_NOT_SATISFIABLE, headers, body: AnswerBody::None(Some(0)) };
        }
    };
    let body = match *method == Method::HEAD {
        true => AnswerBody::None(Some(range.end - range.start)),
        false => AnswerBody::Part(file.clone(), range),
    };
    ServeAnswer { status, headers, body }
}

fn values(asked: &HeaderMap, name: HeaderName) -> impl Iterator<Item = &str> {
    asked.get_all(name).into_iter().filter_map(|value: &HeaderValue| value.to_str().ok())
}

/// Whether the client takes gzip (RFC 9110, section 12.5.3).
fn takes_gzip(asked: &HeaderMap) -> bool {
    let mut other = None;
    for coding in values(asked, header::ACCEPT_ENCODING).flat_map(|value| value.split(',')) {
        let (name, weight) = coding.split_once(';').unwrap_or((coding, ""));
        let is_taken = !matches!(weight.trim().trim_start_matches("q=").trim_end_matches('0'), "0." | "0" | "")
            || weight.trim().is_empty();
        match name.trim() {
            name if name.eq_ignore_ascii_case("gzip") || name.eq_ignore_ascii_case("x-gzip") => return is_taken,
            "*" => other = Some(is_taken),
            _ => {}
        }
    }
    other.unwrap_or(false)
}

/// Whether the client has the file already (RFC 9110, section 13.1): tags count before dates.
fn is_unchanged(asked: &HeaderMap, plain: &CatalogFile, packed: Option<&CatalogFile>, file: &CatalogFile) -> bool {
    if asked.contains_key(header::IF_NONE_MATCH) {
        let tags = values(asked, header::IF_NONE_MATCH).flat_map(|value| value.split(','));
        let known = |tag: &str| {
            let tag = tag.trim().trim_start_matches("W/");
            tag == "*" || tag == plain.tag || packed.is_some_and(|packed| tag == packed.tag)
        };
        return tags.into_iter().any(known);
    }
    let since = values(asked, header::IF_MODIFIED_SINCE).next().and_then(seconds);
    since.is_some_and(|since| file.file.at <= since)
}

/// A date of HTTP in seconds since 1970.
fn seconds(text: &str) -> Option<i64> {
    let text = text.strip_suffix("GMT").map_or_else(|| text.to_owned(), |date| format!("{date}+0000"));
    Some(jiff::fmt::rfc2822::parse(&text).ok()?.timestamp().as_second())
}

/// The part of a file that is asked for. Several parts at once are answered with the whole, as the standard allows.
fn range(asked: &HeaderMap, file: &CatalogFile) -> AskedRange {
    let size = file.file.size;
    let Some(text) = values(asked, header::RANGE).next() else { return AskedRange::All };
    let is_current =
        values(asked, header::IF_RANGE).next().is_none_or(|known| known == file.tag || known == file.modified);
    let Some(spec) = text.trim().strip_prefix("bytes=").filter(|spec| is_current && !spec.contains(',')) else {
        return AskedRange::All;
    };
    let Some((first, last)) = spec.trim().split_once('-') else { return AskedRange::All };
    let number = |text: &str| text.trim().parse::<u64>().ok();
    match (first.trim().is_empty(), number(first), last.trim().is_empty(), number(last)) {
        // The last bytes.
        (true, _, false, Some(last)) if last > 0 && size > 0 => AskedRange::Part(size.saturating_sub(last)..size),
        (true, _, false, Some(_)) => AskedRange::Nothing,
        (false, Some(first), true, _) if first < size => AskedRange::Part(first..size),
        (false, Some(first), true, _) if first >= size => AskedRange::Nothing,
        (false, Some(first), false, Some(last)) if first > last => AskedRange::All,
        (false, Some(first), false, Some(last)) if first < size => {
            AskedRange::Part(first..last.saturating_add(1).min(size))
        }
        (false, Some(_), false, Some(_)) => AskedRange::Nothing,
        // What is no range is ignored.
        _ => AskedRange::All,
    }
}

#[cfg(test)]
mod tests {
    use atlas_store::destination::ServedFile;
    use rstest::rstest;

    use super::*;

    /// 1 December 2026, 00:00 UTC.
    const AT: i64 = 1_796_083_200;

    fn catalog() -> Catalog {
        let file = |name: &str, size: u64, crc: u32| ServedFile { name: name.to_owned(), size, crc, at: AT };
        Catalog::of(
            vec![file("sitemap.xml", 100, 7), file("sitemap.xml.gz", 40, 8), file("robots.txt", 20, 9)],
            "/railway/",
        )
    }

    fn ask(method: &Method, path: &str, headers: &[(HeaderName, &str)]) -> ServeAnswer {
        let headers = headers.iter().map(|(name, value)| (name.clone(), HeaderValue::from_str(value).unwrap()));
        answer(&catalog(), method, path, &headers.collect(), Some("max-age=60"))
    }

    fn header<'a>(answer: &'a ServeAnswer, name: &HeaderName) -> Option<&'a str> {
        answer.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    #[rstest]
    #[case::a_file("/railway/sitemap.xml", StatusCode::OK)]
    #[case::robots_at_the_root("/robots.txt", StatusCode::OK)]
    #[case::robots_below("/railway/robots.txt", StatusCode::NOT_FOUND)]
    #[case::above("/railway/../etc/passwd", StatusCode::NOT_FOUND)]
    #[case::encoded("/railway/%2e%2e/sitemap.xml", StatusCode::NOT_FOUND)]
    #[case::encoded_name("/railway/sitemap%2exml", StatusCode::NOT_FOUND)]
    #[case::nothing("", StatusCode::NOT_FOUND)]
    #[case::zero("/railway/sitemap.xml\0", StatusCode::NOT_FOUND)]
    #[case::the_database("/served.db", StatusCode::NOT_FOUND)]
    fn only_what_was_published(#[case] path: &str, #[case] wanted: StatusCode) {
        assert_eq!(ask(&Method::GET, path, &[]).status, wanted);
    }

    #[test]
    fn a_whole_file_and_its_head() {
        let whole = ask(&Method::GET, "/railway/sitemap.xml", &[]);
        assert!(matches!(&whole.body, AnswerBody::Part(file, range) if file.file.size == 100 && *range == (0..100)));
        let told = |name| header(&whole, &name).unwrap_or_default().to_owned();
        assert_eq!(told(header::ETAG), "\"00000007-64\"");
        assert_eq!(told(header::LAST_MODIFIED), "Tue, 01 Dec 2026 00:00:00 GMT");
        assert_eq!(
            (told(header::CONTENT_TYPE), told(header::VARY)),
            ("application/xml".into(), "Accept-Encoding".into())
        );
        assert_eq!((told(header::CACHE_CONTROL), told(header::CONTENT_ENCODING)), ("max-age=60".into(), String::new()));
        assert_eq!(ask(&Method::HEAD, "/railway/sitemap.xml", &[]).body, AnswerBody::None(Some(100)));
        let refused = ask(&Method::POST, "/railway/sitemap.xml", &[]);
        assert_eq!(
            (refused.status, header(&refused, &header::ALLOW)),
            (StatusCode::METHOD_NOT_ALLOWED, Some("GET, HEAD"))
        );
    }

    #[rstest]
    #[case::gzip("gzip, deflate, br", true)]
    #[case::any("*", true)]
    #[case::weighted("br;q=1.0, gzip;q=0.5", true)]
    #[case::refused("gzip;q=0, *", false)]
    #[case::refused_with_digits("gzip;q=0.000", false)]
    #[case::none("identity", false)]
    #[case::other("br", false)]
    fn encodings(#[case] accepted: &str, #[case] wanted: bool) {
        let got = ask(&Method::GET, "/railway/sitemap.xml", &[(header::ACCEPT_ENCODING, accepted)]);
        assert_eq!(header(&got, &header::CONTENT_ENCODING).is_some(), wanted);
        assert!(matches!(got.body, AnswerBody::Part(file, _) if (file.file.size == 40) == wanted));
    }

    #[rstest]
    #[case::the_tag(header::IF_NONE_MATCH, "\"00000007-64\"", true)]
    #[case::weakly(header::IF_NONE_MATCH, "\"x\", W/\"00000007-64\"", true)]
    #[case::of_the_other_form(header::IF_NONE_MATCH, "\"00000008-28-gzip\"", true)]
    #[case::any(header::IF_NONE_MATCH, "*", true)]
    #[case::another_tag(header::IF_NONE_MATCH, "\"00000006-64\"", false)]
    #[case::since_then(header::IF_MODIFIED_SINCE, "Tue, 01 Dec 2026 00:00:00 GMT", true)]
    #[case::since_before(header::IF_MODIFIED_SINCE, "Mon, 30 Nov 2026 23:59:59 GMT", false)]
    #[case::no_date(header::IF_MODIFIED_SINCE, "yesterday", false)]
    fn what_the_client_has(#[case] name: HeaderName, #[case] value: &str, #[case] wanted: bool) {
        let got = ask(&Method::GET, "/railway/sitemap.xml", &[(name, value)]);
        assert_eq!(got.status == StatusCode::NOT_MODIFIED, wanted, "{got:?}");
        assert!(header(&got, &header::ETAG).is_some());
    }

    #[test]
    fn a_tag_counts_before_a_date() {
        let headers =
            [(header::IF_NONE_MATCH, "\"other\""), (header::IF_MODIFIED_SINCE, "Tue, 01 Dec 2026 00:00:00 GMT")];
        assert_eq!(ask(&Method::GET, "/railway/sitemap.xml", &headers).status, StatusCode::OK);
    }

    #[rstest]
    #[case::first("bytes=0-9", Some(0..10))]
    #[case::rest("bytes=90-", Some(90..100))]
    #[case::last("bytes=-10", Some(90..100))]
    #[case::more_than_there_is("bytes=90-500", Some(90..100))]
    #[case::more_than_all("bytes=-500", Some(0..100))]
    #[case::behind("bytes=100-", None)]
    #[case::no_bytes("bytes=-0", None)]
    fn ranges(#[case] asked: &str, #[case] wanted: Option<Range<u64>>) {
        let got = ask(&Method::GET, "/railway/sitemap.xml", &[(header::RANGE, asked)]);
        match wanted {
            Some(wanted) => assert!(matches!(got.body, AnswerBody::Part(_, range) if range == wanted)),
            None => {
                assert_eq!(got.status, StatusCode::RANGE_NOT_SATISFIABLE);
                assert_eq!(header(&got, &header::CONTENT_RANGE), Some("bytes */100"));
            }
        }
    }

    #[rstest]
    #[case::backwards("bytes=9-0")]
    #[case::several("bytes=0-1,5-6")]
    #[case::another_unit("lines=0-1")]
    #[case::rubbish("bytes=a-b")]
    #[case::too_large("bytes=99999999999999999999-")]
    #[case::empty("bytes=-")]
    fn what_is_no_range_is_ignored(#[case] asked: &str) {
        assert_eq!(ask(&Method::GET, "/railway/sitemap.xml", &[(header::RANGE, asked)]).status, StatusCode::OK);
    }

    #[rstest]
    #[case("\"00000007-64\"", StatusCode::PARTIAL_CONTENT)]
    #[case("\"another\"", StatusCode::OK)]
    fn a_range_of_a_known_file(#[case] tag: &str, #[case] wanted: StatusCode) {
        let got = ask(&Method::GET, "/railway/sitemap.xml", &[(header::RANGE, "bytes=0-9"), (header::IF_RANGE, tag)]);
        assert_eq!(got.status, wanted);
    }
}
