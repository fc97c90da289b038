//! The IndexNow endpoint of the test engine: it checks messages as the protocol has it.

use atlas_core::address::Address;
use atlas_core::announce::indexnow::{Key, MOST_URLS};
use axum::extract::{Query, State};
use axum::http::{HeaderMap, header};
use axum::response::Response;
use serde::Deserialize;

use super::SharedState;
use super::mood::Mood;
use crate::http;

#[derive(Debug, Deserialize)]
pub(super) struct One {
    url: String,
    key: String,
    #[serde(rename = "keyLocation")]
    key_location: Option<String>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Many {
    host: String,
    key: String,
    key_location: Option<String>,
    url_list: Vec<String>,
}

pub(super) async fn one(State(shared): State<SharedState>, Query(one): Query<One>) -> Response {
    let host = atlas_core::address::host(&one.url).to_owned();
    let many = Many { host, key: one.key, key_location: one.key_location, url_list: vec![one.url] };
    shared.take(many).await
}

pub(super) async fn many(State(shared): State<SharedState>, headers: HeaderMap, body: axum::body::Bytes) -> Response {
    let kind = headers.get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or("");
    if !kind.starts_with("application/json") {
        return shared.answer(400, "the content type is not application/json", String::new(), Vec::new());
    }
    match serde_json::from_slice::<Many>(&body) {
        Ok(many) => shared.take(many).await,
        Err(error) => shared.answer(400, &format!("malformed: {error}"), String::new(), Vec::new()),
    }
}

impl SharedState {
    async fn take(&self, many: Many) -> Response {
        let verdict = match self.mood() {
            Mood::Fair | Mood::Slow(_) => self.judge(&many).await,
            _ => (200, "taken".to_owned()),
        };
        self.reply_from(verdict, many.host, many.url_list).await
    }

    /// Checks a message by the rules of IndexNow; returns a status and the reason.
    async fn judge(&self, many: &Many) -> (u16, String) {
        let Ok(key) = Key::parse(&many.key) else { return (422, "the key is not valid".to_owned()) };
        if many.url_list.is_empty() {
            return (400, "it has no URLs".to_owned());
        }
        if many.url_list.len() > MOST_URLS {
            return (422, format!("{} URLs, {MOST_URLS} is the limit", many.url_list.len()));
        }
        let key_location = match &many.key_location {
            Some(location) => location.clone(),
            None => format!("{}/{}", atlas_core::address::origin(&many.url_list[0]), key.file_name()),
        };
        let Ok(key_location) = Address::parse(&key_location) else {
            return (422, "keyLocation is not a URL".to_owned());
        };
        if key_location.host() != many.host {
            return (422, format!("keyLocation is not on {}", many.host));
        }
        for url in &many.url_list {
            let Ok(address) = Address::parse(url) else { return (422, format!("{url} is not a URL")) };
            if address.host() != many.host {
                return (422, format!("{url} is not on {}", many.host));
            }
            if !address.as_str().starts_with(key_location.folder()) {
                return (422, format!("{url} is not below the folder of the key file"));
            }
        }
        self.check_key(&key, &key_location).await
    }

    /// Fetches the key file from the address that was given for its host, or from loopback, and never from anywhere
    /// else.
    async fn check_key(&self, key: &Key, location: &Address) -> (u16, String) {
        let Some(request) = self.crawler.loopback().get(&self.client, location) else {
            let host = location.host();
            let how = format!("{host} cannot be reached from here; start the engine with --reach {host}=ADDRESS");
            return (403, how);
        };
        let fetched = async { request.send().await?.error_for_status()?.text().await };
        match fetched.await {
            Ok(text) if text.trim_start_matches('\u{feff}').trim() == key.as_str() => (200, "taken".to_owned()),
            Ok(_) => (403, format!("{location} contains another key")),
            Err(error) => (403, format!("{location} could not be fetched: {}", http::cause(&error))),
        }
    }
}
