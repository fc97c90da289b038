//! IndexNow: the messages that tell engines which URLs changed.

use serde::Serialize;
use thiserror::Error;

use super::request::EngineRequest;
use super::{Answer, Then};
use crate::address;

/// The most URLs in one message.
pub const MOST_URLS: usize = 10_000;

/// Why a text is not a valid key.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("an IndexNow key has 8 to 128 characters of a-z, A-Z, 0-9 and “-”; this one {0}")]
pub struct KeyError(String);

/// The key that proves to an engine that a message comes from the site, which publishes it in a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Key(String);

impl Key {
    /// Checks a key.
    ///
    /// # Errors
    ///
    /// Returns a [`KeyError`] unless the text has 8 to 128 characters from `a-z`, `A-Z`, `0-9` and `-`.
    pub fn parse(text: &str) -> Result<Self, KeyError> {
        let text = text.trim();
        if !(8..=128).contains(&text.chars().count()) {
            return Err(KeyError(format!("has {}", text.chars().count())));
        }
        match text.chars().find(|letter| !letter.is_ascii_alphanumeric() && *letter != '-') {
            Some(letter) => Err(KeyError(format!("has “{letter}” in it"))),
            None => Ok(Self(text.to_owned())),
        }
    }

    /// Makes a key of 32 characters from 16 random bytes.
    pub fn from_random(bytes: [u8; 16]) -> Self {
        Self(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
    }

    /// The key.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The name of the file that publishes the key.
    pub fn file_name(&self) -> String {
        format!("{}.txt", self.0)
    }
}

/// The body of one message, as it is posted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "camelCase")]
pub struct IndexNowBody {
    /// The host of all URLs in the message.
    pub host: String,
    /// The key.
    pub key: String,
    /// The address of the key file.
    pub key_location: String,
    /// At most 10,000 URLs.
    pub url_list: Vec<String>,
}

/// The request that posts a message; a message with a single URL is sent by `GET` (IndexNow, “Submitting one URL” and
/// “Submitting set of URLs”).
pub fn request(endpoint: &str, message: &IndexNowBody) -> EngineRequest {
    match &message.url_list[..] {
        [url] => {
            let values = [("url", url.as_str()), ("key", &message.key), ("keyLocation", &message.key_location)];
            EngineRequest::get(endpoint, &values)
        }
        _ => {
            let body = serde_json::to_vec(message).unwrap_or_default();
            EngineRequest::post(endpoint, "application/json; charset=utf-8", body)
        }
    }
}

/// The status by which an engine says that it did not find the key in its file (IndexNow, response codes).
pub const KEY_NOT_FOUND: u16 = 403;

/// What an answer means in particular (IndexNow, response codes).
pub fn words(answer: &Answer, then: Then) -> Option<&'static str> {
    match (answer, then) {
        (Answer::Status(202), Then::Done) => {
            Some("accepted; the engine still has to check the key file. If this does not change, check that file")
        }
        (Answer::Status(400 | 422), Then::Refused) => {
            Some("not accepted: malformed, or on a host that the key is not for. It will not be sent again")
        }
        (Answer::Status(400 | 413 | 422), Then::MendFirst) => {
            Some("no URL is accepted: check the engine's key, and the hosts that it is for; kept until then")
        }
        (Answer::Status(KEY_NOT_FOUND), _) => {
            Some("the key file was not found or contains another key. Publish it, then announce again")
        }
        _ => None,
    }
}

impl IndexNowBody {
    /// The body of a message about URLs of one host; `key_location` is the address of the key file.
    pub fn new(key: &Key, key_location: &str, urls: &[&str]) -> Self {
        Self {
            host: urls.first().map_or("", |url| address::host(url)).to_owned(),
            key: key.0.clone(),
            key_location: key_location.to_owned(),
            url_list: urls.iter().map(|url| (*url).to_owned()).collect(),
        }
    }
}

/// Groups URLs into messages of one host and at most 10,000 URLs each, in the order given: the indexes of the URLs of
/// each message.
pub fn messages(urls: &[&str]) -> Vec<Vec<usize>> {
    let mut messages: Vec<(&str, Vec<usize>)> = Vec::new();
    for (at, url) in urls.iter().enumerate() {
        let host = address::host(url);
        let room = |(of, message): &&mut (&str, Vec<usize>)| *of == host && message.len() < MOST_URLS;
        match messages.iter_mut().rev().find(room) {
            Some((_, message)) => message.push(at),
            None => messages.push((host, vec![at])),
        }
    }
    messages.into_iter().map(|(_, message)| message).collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("0123456789abcdef", true)]
    #[case("Marrow-Vale-2026", true)]
    #[case("short", false)]
    #[case("has space in it", false)]
    #[case(&"x".repeat(128), true)]
    #[case(&"x".repeat(129), false)]
    fn keys(#[case] text: &str, #[case] good: bool) {
        assert_eq!(Key::parse(text).is_ok(), good);
    }

    #[test]
    fn a_generated_key_is_valid() {
        let key = Key::from_random([0xa7; 16]);
        assert_eq!(Key::parse(key.as_str()), Ok(key.clone()));
        assert_eq!(key.file_name(), format!("{}.txt", "a7".repeat(16)));
    }

    #[test]
    fn messages_hold_one_host_and_ten_thousand_urls() {
        let mut urls: Vec<String> = (0..10_001).map(|n| format!("https://www.marrowvale.example/{n}")).collect();
        urls.insert(1, "https://cymraeg.marrowvale.example/".into());
        let urls: Vec<&str> = urls.iter().map(String::as_str).collect();
        let messages = messages(&urls);
        let sizes: Vec<(&str, usize)> = messages.iter().map(|one| (address::host(urls[one[0]]), one.len())).collect();
        let main = "www.marrowvale.example";
        assert_eq!(sizes, [(main, 10_000), ("cymraeg.marrowvale.example", 1), (main, 1)]);
    }

    #[test]
    fn requests_as_published() {
        let key = Key::parse("0123456789abcdef").unwrap();
        let location = "https://www.marrowvale.example/0123456789abcdef.txt";
        let urls = ["https://www.marrowvale.example/brân/?a=1&b", "https://www.marrowvale.example/"];
        let post = request("https://engine.example/indexnow", &IndexNowBody::new(&key, location, &urls));
        assert_eq!((post.method.as_str(), post.url.as_str()), ("POST", "https://engine.example/indexnow"));
        assert_eq!(post.headers, [("content-type".to_owned(), "application/json; charset=utf-8".to_owned())]);
        let body = r#"{"host":"www.marrowvale.example","key":"0123456789abcdef","keyLocation":"https://www.marrowvale.example/0123456789abcdef.txt","urlList":["https://www.marrowvale.example/brân/?a=1&b","https://www.marrowvale.example/"]}"#;
        assert_eq!(String::from_utf8(post.body).unwrap(), body);
        let get = request("https://engine.example/indexnow", &IndexNowBody::new(&key, location, &urls[..1]));
        let url = "https://engine.example/indexnow?url=https%3A%2F%2Fwww.marrowvale.example%2Fbr%C3%A2n%2F%3Fa%3D1%26b\
                   &key=0123456789abcdef&keyLocation=https%3A%2F%2Fwww.marrowvale.example%2F0123456789abcdef.txt";
        assert_eq!((get.method.as_str(), get.url.as_str(), get.body.len()), ("GET", url, 0));
    }
}
