//! Calls by template: any request that an interface of an engine or a console wants, for each URL, for several at once,
//! once a build, or for each new sitemap file.
//!
//! A field is a known name in braces, such as `{url}`. Where it stands decides how its value is written: in an address
//! it is percent-encoded; in a body it is escaped as the content type wants, so that no value can break the message.

use thiserror::Error;

use super::request::{EngineRequest, Method, encoded};
use super::{Answer, Change, Then};

/// What a call is made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CallFor {
    /// Each URL.
    Url,
    /// Several URLs at once.
    Batch,
    /// Each build that changed a file.
    Build,
    /// Each new sitemap file.
    File,
}

impl CallFor {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Url, Self::Batch, Self::Build, Self::File];

    /// Its word in the configuration.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Url => "url",
            Self::Batch => "batch",
            Self::Build => "build",
            Self::File => "file",
        }
    }

    /// The fields of its template. At least one of the first two has to occur, except in a call for a build.
    fn fields(self) -> &'static [&'static str] {
        match self {
            Self::Url => &["url", "change", "host", "main", "token"],
            Self::Batch => &["urls", "lines", "count", "host", "main", "token"],
            Self::Build => &["main", "host", "token"],
            Self::File => &["url", "host", "main", "token"],
        }
    }

    /// The fields of which one has to occur.
    fn needed(self) -> &'static [&'static str] {
        match self {
            Self::Url | Self::File => &["url"],
            Self::Batch => &["urls", "lines"],
            Self::Build => &[],
        }
    }
}

/// Why a template is not valid.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum CallTemplateError {
    /// It names a field that there is not.
    #[error("there is no field {{{name}}}; expected {expected}")]
    Unknown {
        /// The name.
        name: String,
        /// The fields that there are.
        expected: String,
    },
    /// None of the fields that have to occur does.
    #[error("no field says what is announced; expected {0} in “endpoint” or “body”")]
    Nothing(String),
}

/// How values are written in a body.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Escape {
    Json,
    Form,
    Xml,
    None,
}

impl Escape {
    /// By the content type of a body.
    fn of(content_type: &str) -> Self {
        let kind = content_type.split(';').next().unwrap_or("").trim().to_ascii_lowercase();
        match kind.as_str() {
            "application/x-www-form-urlencoded" => Self::Form,
            kind if kind.ends_with("json") => Self::Json,
            kind if kind.ends_with("xml") => Self::Xml,
            _ => Self::None,
        }
    }

    fn apply(self, value: &str) -> String {
        match self {
            Self::Json => {
                let quoted = serde_json::Value::from(value).to_string();
                quoted[1..quoted.len() - 1].to_owned()
            }
            Self::Form => encoded(value),
            Self::Xml => value.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;"),
            Self::None => value.to_owned(),
        }
    }
}

/// The template of a call.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CallTemplate {
    /// What it is made for.
    pub each: CallFor,
    /// How it is made.
    pub method: Method,
    /// Its headers.
    pub headers: Vec<(String, String)>,
    /// Its body.
    pub body: String,
    /// The statuses that mean that it was accepted; all from 200 to 299 if empty.
    pub expected: Vec<u16>,
    /// The words for changes where they differ from `added`, `changed`, `removed` and `redirected`.
    pub changes: Vec<(Change, String)>,
    /// The most URLs in a call.
    pub most_urls: usize,
}

/// What a call is about.
#[derive(Debug, Clone, Copy)]
pub struct CallValues<'a> {
    /// Its URLs, or the address of a file, and what became of each.
    pub about: &'a [(&'a str, Change)],
    /// The address of the main file.
    pub main: &'a str,
    /// The site's host.
    pub host: &'a str,
    /// A token for the authorisation, if a command makes one.
    pub token: &'a str,
}

impl CallTemplate {
    /// Checks the fields of the template; `endpoint` is the address that it is sent to, a template itself.
    ///
    /// # Errors
    ///
    /// Returns a [`CallTemplateError`] if a field is unknown, or if none says what is announced.
    pub fn check(&self, endpoint: &str) -> Result<(), CallTemplateError> {
        let shown = |names: &[&str]| names.iter().map(|name| format!("{{{name}}}")).collect::<Vec<_>>();
        let texts = [endpoint, &self.body].into_iter().chain(self.headers.iter().map(|(_, value)| value.as_str()));
        for name in texts.flat_map(fields_of) {
            if !self.each.fields().contains(&name) {
                let expected = shown(self.each.fields()).join(", ");
                return Err(CallTemplateError::Unknown { name: name.to_owned(), expected });
            }
        }
        let needed = self.each.needed();
        let has =
            |name: &&str| [endpoint, self.body.as_str()].iter().any(|text| fields_of(text).any(|one| one == *name));
        if needed.is_empty() || needed.iter().any(has) {
            Ok(())
        } else {
            Err(CallTemplateError::Nothing(shown(needed).join(" or ")))
        }
    }

    /// Whether it has a field for a token.
    pub fn wants_token(&self, endpoint: &str) -> bool {
        let texts = [endpoint, &self.body].into_iter().chain(self.headers.iter().map(|(_, value)| value.as_str()));
        texts.flat_map(fields_of).any(|name| name == "token")
    }

    /// The request of a call.
    pub fn request(&self, endpoint: &str, values: CallValues<'_>) -> EngineRequest {
        let named = self.headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("content-type"));
        let body = self.body.trim_start();
        let is_json = body.starts_with(['{', '[']) && next_field(body).is_none_or(|(start, _)| start > 0);
        let usual = if is_json { "application/json; charset=utf-8" } else { "text/plain; charset=utf-8" };
        let content_type = named.map_or(usual, |(_, value)| value);
        let escape = Escape::of(content_type);
        let mut headers: Vec<(String, String)> = (self.headers.iter())
            .map(|(name, value)| (name.clone(), self.fill(value, &values, Escape::None)))
            .collect();
        if named.is_none() && !self.body.is_empty() {
            headers.push(("content-type".to_owned(), content_type.to_owned()));
        }
        EngineRequest {
            method: self.method,
            url: self.fill(endpoint, &values, Escape::Form),
            headers,
            body: self.fill(&self.body, &values, escape).into_bytes(),
        }
    }

    fn fill(&self, text: &str, values: &CallValues<'_>, escape: Escape) -> String {
        let mut out = String::new();
        let mut rest = text;
        while let Some((start, name)) = next_field(rest) {
            out.push_str(&rest[..start]);
            out.push_str(&self.value(name, values, escape));
            rest = &rest[start + name.len() + 2..];
        }
        out + rest
    }

    fn value(&self, name: &str, values: &CallValues<'_>, escape: Escape) -> String {
        let urls = || values.about.iter().map(|(url, _)| *url);
        let first = values.about.first().copied();
        match name {
            "url" => escape.apply(first.map_or(values.main, |(url, _)| url)),
            "change" => escape.apply(first.map_or("changed", |(_, change)| self.word(change))),
            "urls" if escape == Escape::Json => serde_json::Value::from(urls().collect::<Vec<_>>()).to_string(),
            "urls" | "lines" => escape.apply(&urls().collect::<Vec<_>>().join("\n")),
            "count" => values.about.len().to_string(),
            "main" => escape.apply(values.main),
            "host" => escape.apply(values.host),
            "token" => escape.apply(values.token),
            _ => String::new(),
        }
    }

    fn word(&self, change: Change) -> &str {
        self.changes.iter().find(|(known, _)| *known == change).map_or(change.as_str(), |(_, word)| word)
    }

    /// What to do after an answer.
    pub fn then(&self, answer: &Answer) -> Then {
        match answer {
            Answer::Status(status) if self.expected.contains(status) => Then::Done,
            Answer::Status(200..=299) if !self.expected.is_empty() => Then::MendFirst,
            answer => answer.then(),
        }
    }
}

/// The names of the fields in a text.
fn fields_of(text: &str) -> impl Iterator<Item = &str> {
    let mut rest = text;
    std::iter::from_fn(move || {
        let (start, name) = next_field(rest)?;
        rest = &rest[start + name.len() + 2..];
        Some(name)
    })
}

/// The next field of a text: where it begins, and its name. Braces around anything but small letters are no field.
fn next_field(text: &str) -> Option<(usize, &str)> {
    let mut from = 0;
    while let Some(at) = text[from..].find('{') {
        let start = from + at;
        let name = text[start + 1..].split(|letter: char| !letter.is_ascii_lowercase()).next().unwrap_or("");
        if !name.is_empty() && text[start + 1 + name.len()..].starts_with('}') {
            return Some((start, name));
        }
        from = start + 1;
    }
    None
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn template(each: CallFor, body: &str) -> CallTemplate {
        CallTemplate {
            each,
            method: Method::Post,
            headers: vec![("authorization".into(), "Bearer {token}".into())],
            body: body.into(),
            expected: vec![],
            changes: vec![(Change::Removed, "URL_DELETED".into())],
            most_urls: 100,
        }
    }

    const ABOUT: &[(&str, Change)] = &[
        ("https://www.marrowvale.example/brân/?a=\"1\"&b", Change::Removed),
        ("https://www.marrowvale.example/weir/", Change::Added),
    ];

    const VALUES: CallValues<'_> = CallValues {
        about: ABOUT,
        main: "https://www.marrowvale.example/sitemap.xml",
        host: "www.marrowvale.example",
        token: "t0",
    };

    #[rstest]
    #[case::json(
        CallFor::Url,
        r#"{"url": "{url}", "type": "{change}", "more": {}}"#,
        r#"{"url": "https://www.marrowvale.example/brân/?a=\"1\"&b", "type": "URL_DELETED", "more": {}}"#
    )]
    #[case::list(CallFor::Batch, r#"{"urlList":{urls},"n":{count}}"#,
        r#"{"urlList":["https://www.marrowvale.example/brân/?a=\"1\"&b","https://www.marrowvale.example/weir/"],"n":2}"#)]
    #[case::lines(
        CallFor::Batch,
        "{lines}",
        "https://www.marrowvale.example/brân/?a=\"1\"&b\nhttps://www.marrowvale.example/weir/"
    )]
    #[case::build(
        CallFor::Build,
        "{main} of {host}",
        "https://www.marrowvale.example/sitemap.xml of www.marrowvale.example"
    )]
    fn bodies(#[case] each: CallFor, #[case] body: &str, #[case] wanted: &str) {
        let template = template(each, body);
        assert_eq!(template.check("https://console.example/"), Ok(()));
        let request = template.request("https://console.example/{host}?t={token}", VALUES);
        assert_eq!(String::from_utf8(request.body).unwrap(), wanted);
        assert_eq!(request.url, "https://console.example/www.marrowvale.example?t=t0");
        assert_eq!(request.headers[0].1, "Bearer t0");
    }

    #[test]
    fn the_content_type_decides_how_values_are_escaped() {
        let mut form = template(CallFor::Url, "u={url}");
        form.headers = vec![("Content-Type".into(), "application/x-www-form-urlencoded".into())];
        let request = form.request("https://console.example/", VALUES);
        let wanted = "u=https%3A%2F%2Fwww.marrowvale.example%2Fbr%C3%A2n%2F%3Fa%3D%221%22%26b";
        assert_eq!((String::from_utf8(request.body).unwrap().as_str(), request.headers.len()), (wanted, 1));
        form.headers = vec![("content-type".into(), "text/xml".into())];
        let body = String::from_utf8(form.request("https://console.example/", VALUES).body).unwrap();
        assert!(body.ends_with("?a=&quot;1&quot;&amp;b"), "{body}");
    }

    #[rstest]
    #[case::slip(CallFor::Url, "{ulr}", "there is no field {ulr}; expected {url}, {change}, {host}, {main}, {token}")]
    #[case::nothing(CallFor::Url, "hello", "no field says what is announced; expected {url} in “endpoint” or “body”")]
    #[case::batch(
        CallFor::Batch,
        "{count}",
        "no field says what is announced; expected {urls} or {lines} in “endpoint” or “body”"
    )]
    fn templates_that_are_not_valid(#[case] each: CallFor, #[case] body: &str, #[case] wanted: &str) {
        assert_eq!(template(each, body).check("https://console.example/").unwrap_err().to_string(), wanted);
    }

    #[test]
    fn expected_statuses_decide() {
        let mut call = template(CallFor::Url, "{url}");
        assert_eq!(call.then(&Answer::Status(204)), Then::Done);
        call.expected = vec![200, 304];
        let then = [200, 304, 204, 503].map(|status| call.then(&Answer::Status(status)));
        assert_eq!(then, [Then::Done, Then::Done, Then::MendFirst, Then::Later]);
    }
}
