//! Whether a file is an access log or an export, and how it is written.

use atlas_core::uptake::log::{JsonFormat, LogFormat, LogLine};
use serde_json::Value;

use super::file::UptakeFile;

/// How many of the first lines are looked at.
const MOST_LINES: usize = 200;
/// What may stand between the values of a line.
const DELIMITERS: [u8; 3] = [b'\t', b',', b';'];

/// What a file is.
#[derive(Debug, Clone)]
pub enum UptakeForm {
    /// An access log.
    Log(LogSyntax),
    /// An export whose values are separated by this byte; `None` if each line is one value.
    Table(Option<u8>),
    /// An export with a JSON object in each line.
    JsonLines,
}

/// How a log is written.
#[derive(Debug, Clone)]
pub enum LogSyntax {
    /// In this format.
    Text(LogFormat),
    /// With a JSON object in each line.
    Json(JsonFormat),
}

impl LogSyntax {
    /// Passes a line on, if it can be read.
    pub(super) fn read(&mut self, line: &[u8], take: impl FnOnce(&LogLine<'_>)) -> bool {
        match self {
            Self::Text(format) => format.read(line).map(|line| take(&line)).is_some(),
            Self::Json(format) => {
                let Ok(object) = serde_json::from_slice::<Value>(line) else { return false };
                format.read(&object).map(|line| take(&line)).is_some()
            }
        }
    }
}

impl UptakeForm {
    /// Tells what a file is by its first lines. `formats` are those in which logs may be written, `json` how the fields of
    /// a JSON log are named.
    pub fn of(file: &UptakeFile, formats: &[LogFormat], json: &JsonFormat) -> Self {
        let lines: Vec<&[u8]> = file.first_lines().take(MOST_LINES).collect();
        let is_json = lines.iter().filter(|line| line.first() == Some(&b'{')).count() * 2 > lines.len();
        let forms = formats.iter().cloned().map(LogSyntax::Text);
        for mut form in forms.chain(is_json.then(|| LogSyntax::Json(json.clone()))) {
            let read = lines.iter().filter(|line| form.read(line, |_| ())).count();
            if read > 0 && read * 2 >= lines.len() {
                return Self::Log(form);
            }
        }
        if is_json { Self::JsonLines } else { Self::Table(delimiter(&lines)) }
    }
}

/// The byte that stands in nearly every line, as often in most.
fn delimiter(lines: &[&[u8]]) -> Option<u8> {
    let count = |line: &[u8], delimiter: u8| {
        let mut quoted = false;
        line.iter()
            .filter(|byte| {
                quoted ^= **byte == b'"';
                **byte == delimiter && !quoted
            })
            .count()
    };
    let common = |delimiter: u8| {
        let counts: Vec<usize> = lines.iter().map(|line| count(line, delimiter)).collect();
        let with_some = counts.iter().filter(|count| **count > 0).count();
        let alike = |one: usize| counts.iter().filter(|count| **count == one).count();
        let usual = counts.iter().filter(|count| **count > 0).map(|count| alike(*count)).max()?;
        (with_some * 10 >= lines.len() * 8).then_some(usual)
    };
    let found = DELIMITERS.into_iter().filter_map(|delimiter| Some((common(delimiter)?, delimiter)));
    // Of several that are as common, the first.
    found.rev().max_by_key(|(alike, _)| *alike).map(|(_, delimiter)| delimiter)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("URL\tReason\nhttps://a.example/,x\tnot, yet\n", Some(b'\t'))]
    #[case("URL,Reason\nhttps://a.example/,\"no; not, yet\"\n", Some(b','))]
    #[case("URL;Reason\nhttps://a.example/;none\n", Some(b';'))]
    #[case("URL,Reason,More\nhttps://a.example/,none\nhttps://a.example/b,none\n", Some(b','))]
    #[case("https://a.example/\nhttps://a.example/b,c\nhttps://a.example/d\n", None)]
    fn delimiters(#[case] text: &str, #[case] wanted: Option<u8>) {
        let lines: Vec<&[u8]> = text.lines().map(str::as_bytes).collect();
        assert_eq!(delimiter(&lines), wanted);
    }
}
