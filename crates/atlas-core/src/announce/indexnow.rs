//! IndexNow: the messages that tell engines which URLs changed.

use serde::Serialize;
use thiserror::Error;

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

/// Groups URLs into messages of one host and at most 10,000 URLs each, in the order given.
pub fn messages(key: &Key, key_location: &str, urls: &[String]) -> Vec<IndexNowBody> {
    let mut messages: Vec<IndexNowBody> = Vec::new();
    for url in urls {
        let host = address::host(url);
        let room = |message: &&mut IndexNowBody| message.host == host && message.url_list.len() < MOST_URLS;
        match messages.iter_mut().rev().find(room) {
            Some(message) => message.url_list.push(url.clone()),
            None => messages.push(IndexNowBody {
                host: host.to_owned(),
                key: key.0.clone(),
                key_location: key_location.to_owned(),
                url_list: vec![url.clone()],
            }),
        }
    }
    messages
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
        let key = Key::parse("0123456789abcdef").unwrap();
        let mut urls: Vec<String> = (0..10_001).map(|n| format!("https://www.marrowvale.example/{n}")).collect();
        urls.insert(1, "https://cymraeg.marrowvale.example/".into());
        let messages = messages(&key, "https://www.marrowvale.example/k.txt", &urls);
        let sizes: Vec<(&str, usize)> = messages.iter().map(|m| (m.host.as_str(), m.url_list.len())).collect();
        let main = "www.marrowvale.example";
        assert_eq!(sizes, [(main, 10_000), ("cymraeg.marrowvale.example", 1), (main, 1)]);
        let json = serde_json::to_value(&messages[1]).unwrap();
        assert_eq!(json["keyLocation"], "https://www.marrowvale.example/k.txt");
        assert_eq!(json["urlList"][0], "https://cymraeg.marrowvale.example/");
    }
}
