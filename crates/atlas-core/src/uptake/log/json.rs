//! Access logs of which each line is a JSON object.

use serde_json::Value;

use super::line::{LogLine, status_of, target_of, told, without_port};
use super::time::{TimeReader, any, since_1970};

/// What a line of a log tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum LogField {
    /// The address of the client.
    Address,
    /// When.
    Time,
    /// The whole request line.
    Request,
    /// Path and query, or the whole URL.
    Target,
    /// The status of the answer.
    Status,
    /// The user agent.
    Agent,
    /// The host.
    Host,
    /// How long it took, in seconds.
    Took,
}

impl LogField {
    /// Each field: its name in the configuration, and the names under which servers write it. A dot leads into an
    /// object.
    pub const ALL: [(Self, &'static str, &'static [&'static str]); 8] = [
        (
            Self::Address,
            "address",
            &["remote_addr", "remote_ip", "client_ip", "request.client_ip", "request.remote_ip", "ip", "client"],
        ),
        (Self::Time, "time", &["time_local", "time_iso8601", "time", "timestamp", "@timestamp", "ts", "msec", "date"]),
        (Self::Request, "request", &["request", "request_line"]),
        (Self::Target, "target", &["request_uri", "uri", "url", "path", "request.uri", "target"]),
        (Self::Status, "status", &["status", "status_code", "response_status", "code"]),
        (
            Self::Agent,
            "agent",
            &["http_user_agent", "user_agent", "agent", "userAgent", "request.headers.User-Agent", "user-agent"],
        ),
        (Self::Host, "host", &["host", "http_host", "server_name", "request.host"]),
        (Self::Took, "took", &["request_time", "duration", "took"]),
    ];

    /// The field with this name in the configuration.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.iter().find(|(_, known, _)| *known == name).map(|(field, _, _)| *field)
    }
}

/// How the fields of a JSON log are named.
#[derive(Debug, Clone, Default)]
pub struct JsonFormat {
    named: Vec<(LogField, String)>,
    time: TimeReader,
}

impl JsonFormat {
    /// With names for fields that are not under one of the usual names.
    pub fn new(named: Vec<(LogField, String)>) -> Self {
        Self { named, time: TimeReader::default() }
    }

    /// Reads an object; `None` if it lacks time, target or status.
    pub fn read<'a>(&mut self, object: &'a Value) -> Option<LogLine<'a>> {
        let get = |field: LogField| {
            if let Some((_, name)) = self.named.iter().find(|(named, _)| *named == field) {
                return at(object, name);
            }
            let (_, _, usual) = LogField::ALL.iter().find(|(known, _, _)| *known == field)?;
            // An object under a name leads further; it is no value.
            usual.iter().filter_map(|name| at(object, name)).find(|value| !value.is_object())
        };
        let text = |field: LogField| get(field).and_then(text_of).map(str::as_bytes).and_then(told);
        let target = text(LogField::Request).and_then(target_of).or_else(|| text(LogField::Target))?;
        let seconds = match get(LogField::Time)? {
            Value::Number(number) => since_1970(number.as_f64()?)?,
            time => any(&mut self.time.clone(), text_of(time)?)?,
        };
        let status = match get(LogField::Status)? {
            Value::Number(number) => {
                u16::try_from(number.as_u64()?).ok().filter(|status| (100..1_000).contains(status))?
            }
            status => status_of(text_of(status)?.as_bytes())?,
        };
        let took = get(LogField::Took).and_then(|took| match took {
            Value::Number(number) => number.as_f64(),
            took => text_of(took)?.parse().ok(),
        });
        Some(LogLine {
            address: text(LogField::Address),
            seconds,
            host: text(LogField::Host).map(without_port),
            target,
            status,
            agent: text(LogField::Agent),
            took: took.filter(|took| *took >= 0.0).map(|took| (took * 1_000.0).round() as u32),
        })
    }
}

/// The value at a name, whose dots lead into objects.
fn at<'v>(object: &'v Value, name: &str) -> Option<&'v Value> {
    object.get(name).or_else(|| {
        let (first, rest) = name.split_once('.')?;
        at(object.get(first)?, rest)
    })
}

/// A text, or the first of a list.
fn text_of(value: &Value) -> Option<&str> {
    match value {
        Value::String(text) => Some(text),
        Value::Array(list) => list.first().and_then(Value::as_str),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    #[rstest]
    #[case::flat(json!({"remote_addr": "192.0.2.7", "time_local": "10/Oct/2026:13:55:36 +0000", "request": "GET /fares/ HTTP/1.1", "status": "200", "http_user_agent": "lampbot/1.0"}))]
    #[case::nested(json!({"ts": 1_791_640_536.25, "status": 200, "request": {"remote_ip": "192.0.2.7", "uri": "/fares/", "host": "www.marrowvale.example:443", "headers": {"User-Agent": ["lampbot/1.0"]}}, "duration": 0.25}))]
    #[case::own_names(json!({"when": "2026-10-10T13:55:36Z", "what": "/fares/", "answer": 200, "who": "lampbot/1.0"}))]
    fn objects_are_read(#[case] object: Value) {
        let named = [
            (LogField::Time, "when"),
            (LogField::Target, "what"),
            (LogField::Status, "answer"),
            (LogField::Agent, "who"),
        ];
        let is_own = object.get("who").is_some();
        let named = named.into_iter().filter(|_| is_own).map(|(field, name)| (field, name.to_owned()));
        let mut format = JsonFormat::new(named.collect());
        let read = format.read(&object).unwrap();
        assert_eq!((read.seconds, read.target, read.status), (1_791_640_536, &b"/fares/"[..], 200));
        assert_eq!(read.agent, Some(&b"lampbot/1.0"[..]));
    }

    #[rstest]
    #[case(json!({"time": "10/Oct/2026:13:55:36 +0000", "request": "GET /fares/ HTTP/1.1"}))]
    #[case(json!({"time": "soon", "request": "GET /fares/ HTTP/1.1", "status": 200}))]
    #[case(json!({"time": 1, "request": "-", "status": 200}))]
    #[case(json!([1, 2]))]
    fn what_lacks_something_is_not_read(#[case] object: Value) {
        assert_eq!(JsonFormat::default().read(&object), None);
    }
}
