//! One line of an access log.

/// A request, as its line in a log tells it. The texts borrow from the line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LogLine<'a> {
    /// The address of the client, if the line tells it.
    pub address: Option<&'a [u8]>,
    /// When, in seconds since 1970.
    pub seconds: i64,
    /// The host that was asked, without a port, if the line tells it.
    pub host: Option<&'a [u8]>,
    /// What was asked for, as sent: a path with its query, or a whole URL.
    pub target: &'a [u8],
    /// The status of the answer (RFC 9110, section 15).
    pub status: u16,
    /// The user agent, if the line tells it.
    pub agent: Option<&'a [u8]>,
    /// How long the answer took, in milliseconds, if the line tells it.
    pub took: Option<u32>,
}

/// The target of a request line such as `GET /fares/ HTTP/1.1` (RFC 9112, section 3).
pub(super) fn target_of(request: &[u8]) -> Option<&[u8]> {
    let begin = memchr::memchr(b' ', request)? + 1;
    let rest = &request[begin..];
    let end = memchr::memrchr(b' ', rest).unwrap_or(rest.len());
    let (method, target) = (&request[..begin - 1], &rest[..end]);
    let is_method = !method.is_empty() && method.iter().all(u8::is_ascii_uppercase);
    (is_method && !target.is_empty()).then_some(target)
}

/// The number of a status.
pub(super) fn status_of(text: &[u8]) -> Option<u16> {
    let [first @ b'1'..=b'9', second @ b'0'..=b'9', third @ b'0'..=b'9'] = text else { return None };
    Some(u16::from(first - b'0') * 100 + u16::from(second - b'0') * 10 + u16::from(third - b'0'))
}

/// A value that is told: not empty, and not `-`.
pub(super) fn told(text: &[u8]) -> Option<&[u8]> {
    (!text.is_empty() && text != b"-").then_some(text)
}

/// A host without its port.
pub(super) fn without_port(host: &[u8]) -> &[u8] {
    match memchr::memrchr(b':', host) {
        Some(at) if at > 0 && host[at + 1..].iter().all(u8::is_ascii_digit) && host[at - 1] != b':' => &host[..at],
        _ => host,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("GET /fares/ HTTP/1.1", Some("/fares/"))]
    #[case("GET /fares/", Some("/fares/"))]
    #[case("HEAD /a b/ HTTP/1.0", Some("/a b/"))]
    #[case("\\x16\\x03\\x01", None)]
    #[case("-", None)]
    #[case("GET  HTTP/1.1", None)]
    fn targets(#[case] request: &str, #[case] wanted: Option<&str>) {
        assert_eq!(target_of(request.as_bytes()), wanted.map(str::as_bytes));
    }

    #[rstest]
    #[case("www.marrowvale.example:8080", "www.marrowvale.example")]
    #[case("www.marrowvale.example", "www.marrowvale.example")]
    #[case("[::1]:80", "[::1]")]
    fn ports(#[case] host: &str, #[case] wanted: &str) {
        assert_eq!(without_port(host.as_bytes()), wanted.as_bytes());
    }
}
