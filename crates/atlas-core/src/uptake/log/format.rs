//! Formats of access logs, written as the server's own `log_format`.

use thiserror::Error;

use super::line::{LogLine, status_of, target_of, told, without_port};
use super::time::{TimeReader, any, since_1970};

/// The Combined Log Format.
const COMBINED: &str = r#"$remote_addr - $remote_user [$time_local] "$request" $status $body_bytes_sent "$http_referer" "$http_user_agent""#;
/// The same behind the name of the virtual host.
const COMBINED_BY_HOST: &str = r#"$host $remote_addr - $remote_user [$time_local] "$request" $status $body_bytes_sent "$http_referer" "$http_user_agent""#;
/// The Common Log Format.
const COMMON: &str = r#"$remote_addr - $remote_user [$time_local] "$request" $status $body_bytes_sent"#;

/// What a variable of a format tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Variable {
    Address,
    LocalTime,
    AnyTime,
    Seconds,
    Request,
    Target,
    Query,
    Status,
    Agent,
    Host,
    Took,
    /// Nothing that matters here.
    Other,
}

impl Variable {
    fn of(variable: &str) -> Self {
        match variable {
            "remote_addr" | "realip_remote_addr" => Self::Address,
            "time_local" => Self::LocalTime,
            "time_iso8601" => Self::AnyTime,
            "msec" => Self::Seconds,
            "request" => Self::Request,
            "request_uri" | "uri" | "document_uri" => Self::Target,
            "args" | "query_string" => Self::Query,
            "status" => Self::Status,
            "http_user_agent" => Self::Agent,
            "host" | "http_host" | "server_name" => Self::Host,
            "request_time" | "upstream_response_time" => Self::Took,
            _ => Self::Other,
        }
    }
}

/// A variable, and the text that ends it.
#[derive(Debug, Clone)]
struct Part {
    told: Variable,
    end: Vec<u8>,
}

/// Why a text is not the format of a log.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum FormatError {
    /// It has no variable.
    #[error("it has no variable such as $request; expected the text of the server's own log_format")]
    NoVariable,
    /// Two variables follow one another.
    #[error("nothing stands between ${0} and the variable after it, so they cannot be told apart")]
    NothingBetween(String),
    /// It does not tell what is needed.
    #[error("it does not tell {0}")]
    Lacks(&'static str),
}

/// The format of the lines of a log.
///
/// ```
/// use atlas_core::uptake::log::LogFormat;
///
/// let mut format = LogFormat::combined();
/// let line = br#"192.0.2.7 - - [10/Oct/2026:13:55:36 +0000] "GET /fares/ HTTP/1.1" 200 812 "-" "lampbot/1.0""#;
/// let read = format.read(line).unwrap();
/// assert_eq!((read.target, read.status), (&b"/fares/"[..], 200));
/// ```
#[derive(Debug, Clone)]
pub struct LogFormat {
    begin: Vec<u8>,
    parts: Vec<Part>,
    time: TimeReader,
}

impl LogFormat {
    /// The Combined Log Format; more may follow in a line.
    pub fn combined() -> Self {
        Self::known(COMBINED)
    }

    /// The formats that need not be named, in the order in which they are tried.
    pub fn usual() -> [Self; 3] {
        [Self::known(COMBINED), Self::known(COMBINED_BY_HOST), Self::known(COMMON)]
    }

    fn known(pattern: &str) -> Self {
        Self::parse(pattern).unwrap_or_else(|_| Self {
            begin: Vec::new(),
            parts: Vec::new(),
            time: TimeReader::default(),
        })
    }

    /// Parses a pattern in the syntax of nginx's `log_format`: `$remote_addr - [$time_local] "$request" …`. Variables
    /// that are not known are skipped.
    ///
    /// # Errors
    ///
    /// Returns an error if fields cannot be told apart, or if it lacks time, request or status.
    pub fn parse(pattern: &str) -> Result<Self, FormatError> {
        let pattern = pattern.trim();
        let mut pieces = pattern.split('$');
        let begin = pieces.next().unwrap_or_default().as_bytes().to_vec();
        let mut parts: Vec<Part> = Vec::new();
        let pieces: Vec<&str> = pieces.collect();
        if pieces.is_empty() {
            return Err(FormatError::NoVariable);
        }
        for (at, piece) in pieces.iter().enumerate() {
            let (name, end) = match piece.strip_prefix('{').and_then(|piece| piece.split_once('}')) {
                Some(parted) => parted,
                None => {
                    let length = piece.find(|letter: char| !letter.is_ascii_alphanumeric() && letter != '_');
                    piece.split_at(length.unwrap_or(piece.len()))
                }
            };
            if end.is_empty() && at + 1 < pieces.len() {
                return Err(FormatError::NothingBetween(name.to_owned()));
            }
            let end = end.as_bytes().to_vec();
            parts.push(Part { told: Variable::of(name), end });
        }
        let tells = |wanted: &[Variable]| parts.iter().any(|part| wanted.contains(&part.told));
        for (wanted, what) in [
            (
                &[Variable::LocalTime, Variable::AnyTime, Variable::Seconds][..],
                "when: $time_local, $time_iso8601 or $msec",
            ),
            (&[Variable::Request, Variable::Target], "what was asked for: $request or $request_uri"),
            (&[Variable::Status], "the answer: $status"),
        ] {
            if !tells(wanted) {
                return Err(FormatError::Lacks(what));
            }
        }
        Ok(Self { begin, parts, time: TimeReader::default() })
    }

    /// Whether lines name the user agent, without which no crawler is recognised.
    pub fn tells_agent(&self) -> bool {
        self.parts.iter().any(|part| part.told == Variable::Agent)
    }

    /// Reads a line, without its end; `None` if it is not in this format.
    pub fn read<'a>(&mut self, line: &'a [u8]) -> Option<LogLine<'a>> {
        let mut rest = line.strip_prefix(&self.begin[..])?;
        let (mut address, mut host, mut agent, mut took) = (None, None, None, None);
        let (mut seconds, mut target, mut status) = (None, None, None);
        for part in &self.parts {
            let length = end_of(rest, part)?;
            let value = &rest[..length];
            rest = &rest[(length + part.end.len()).min(rest.len())..];
            match part.told {
                Variable::Address => address = told(value),
                Variable::LocalTime => seconds = Some(self.time.local(value)?),
                Variable::AnyTime => seconds = Some(any(&mut self.time, std::str::from_utf8(value).ok()?)?),
                Variable::Seconds => seconds = Some(since_1970(std::str::from_utf8(value).ok()?.parse().ok()?)?),
                Variable::Request => target = target_of(value).or(target),
                Variable::Target => target = told(value),
                Variable::Status => status = Some(status_of(value)?),
                Variable::Agent => agent = told(value),
                Variable::Host => host = told(value).map(without_port),
                Variable::Took => took = std::str::from_utf8(value).ok().and_then(milliseconds),
                Variable::Query | Variable::Other => {}
            }
        }
        Some(LogLine { address, seconds: seconds?, host, target: target?, status: status?, agent, took })
    }
}

/// Where the value of a part ends. A quote that is escaped ends nothing.
fn end_of(rest: &[u8], part: &Part) -> Option<usize> {
    let Some(first) = part.end.first() else { return Some(rest.len()) };
    let mut from = 0;
    loop {
        let Some(found) = memchr::memchr(*first, &rest[from..]) else {
            // The last value of a line may lack the blank behind it.
            return (part.end[..] == *b" ").then_some(rest.len());
        };
        let at = from + found;
        let is_escaped = || rest[..at].iter().rev().take_while(|byte| **byte == b'\\').count() % 2 == 1;
        // Compared byte by byte: it has two or three.
        let is_end =
            rest.len() - at >= part.end.len() && rest[at..].iter().zip(&part.end).all(|(one, other)| one == other);
        if is_end && !(*first == b'"' && is_escaped()) {
            return Some(at);
        }
        from = at + 1;
    }
}

/// A time in seconds, as milliseconds. Of several upstreams, the first.
fn milliseconds(text: &str) -> Option<u32> {
    let seconds: f64 = text.split([',', ' ']).next()?.parse().ok()?;
    (seconds >= 0.0).then_some((seconds * 1_000.0).round() as u32)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const COMBINED_LINE: &str = r#"192.0.2.7 - - [10/Oct/2026:13:55:36 +0000] "GET /fares/?a=1 HTTP/1.1" 200 812 "-" "lampbot/1.0 (+https://lampbot.example/)""#;

    #[rstest]
    #[case::combined(COMBINED, COMBINED_LINE.to_owned(), true)]
    #[case::with_more(COMBINED, format!("{COMBINED_LINE} \"192.0.2.1\" 0.003"), true)]
    #[case::by_host(COMBINED_BY_HOST, format!("www.marrowvale.example:443 {COMBINED_LINE}"), true)]
    #[case::common(COMMON, COMBINED_LINE.split(" \"-\"").next().unwrap().to_owned(), true)]
    #[case::own(
        r#"$time_iso8601|$status|${request_time}|$http_user_agent|$request_uri"#,
        "2026-10-10T13:55:36+00:00|200|0.250|lampbot/1.0|/fares/?a=1".to_owned(),
        true
    )]
    #[case::other(COMBINED, "a line of another kind".to_owned(), false)]
    #[case::cut_off(COMBINED, COMBINED_LINE[..60].to_owned(), false)]
    #[case::no_request(COMBINED, COMBINED_LINE.replace("GET /fares/?a=1 HTTP/1.1", "-"), false)]
    #[case::no_status(COMBINED, COMBINED_LINE.replace(" 200 ", " 2x0 "), false)]
    fn lines_are_read(#[case] pattern: &str, #[case] line: String, #[case] good: bool) {
        let mut format = LogFormat::parse(pattern).unwrap();
        let read = format.read(line.as_bytes());
        assert_eq!(read.is_some(), good, "{read:?}");
        if let Some(read) = read {
            assert_eq!((read.seconds, read.target, read.status), (1_791_640_536, &b"/fares/?a=1"[..], 200));
            assert_eq!(read.agent.is_some(), format.tells_agent());
        }
    }

    #[test]
    fn escaped_quotes_are_part_of_a_value() {
        let line = COMBINED_LINE.replace("lampbot/1.0", r#"lamp\"bot\" \\/1.0"#);
        let agent = LogFormat::combined().read(line.as_bytes()).unwrap().agent.unwrap().to_vec();
        assert_eq!(agent, br#"lamp\"bot\" \\/1.0 (+https://lampbot.example/)"#);
    }

    #[rstest]
    #[case("combined", FormatError::NoVariable)]
    #[case("$remote_addr$request", FormatError::NothingBetween("remote_addr".to_owned()))]
    #[case("$time_local $request", FormatError::Lacks("the answer: $status"))]
    fn bad_patterns_are_errors(#[case] pattern: &str, #[case] wanted: FormatError) {
        assert_eq!(LogFormat::parse(pattern).unwrap_err(), wanted);
    }

    proptest! {
        #[test]
        fn no_line_is_too_strange(line in proptest::collection::vec(0u8.., 0..300)) {
            for mut format in LogFormat::usual() {
                let _ = format.read(&line);
            }
        }

        #[test]
        fn what_is_written_is_read(
            seconds in 0i64..4_000_000_000,
            path in "/[a-zA-Z0-9/._~%?=&-]{0,60}",
            status in 100u16..600,
            agent in "[a-zA-Z0-9 ./;:()+,-]{1,80}",
        ) {
            let at = jiff::Timestamp::from_second(seconds).unwrap().strftime("%d/%b/%Y:%H:%M:%S +0000").to_string();
            let line = format!("192.0.2.7 - - [{at}] \"GET {path} HTTP/1.1\" {status} 5 \"-\" \"{agent}\"");
            let mut format = LogFormat::combined();
            let read = format.read(line.as_bytes()).unwrap();
            prop_assert_eq!((read.seconds, read.target, read.status), (seconds, path.as_bytes(), status));
            prop_assert_eq!(read.agent, Some(agent.as_bytes()).filter(|agent| *agent != b"-"));
        }
    }
}
