//! A small search engine on loopback, for trying out announcements.
//!
//! It accepts IndexNow as published: it checks host, schema and count, fetches the key file, and answers with the right
//! status. It takes pings of sitemaps, messages to a hub, and any call. It can be told to answer with any status or to
//! hang, and lists what it has received. It also describes videos by oEmbed, as a video provider does.

pub mod serve;

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use std::{io, thread};

use atlas_core::address::Address;
use atlas_core::announce::indexnow::{Key, MOST_URLS};
use atlas_store::stop::Stop;
use axum::extract::rejection::FormRejection;
use axum::extract::{DefaultBodyLimit, Form, Query, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{any, get, post};
use axum::{Json, Router};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::http;
use crate::test_engine::serve::Served;

/// The largest accepted message: 10,000 of the longest URLs.
const LARGEST_MESSAGE: usize = 24 * 1024 * 1024;
/// The time limit for a key file.
const KEY_WAIT: Duration = Duration::from_secs(5);
/// How often the stop token is checked.
const GLANCE: Duration = Duration::from_millis(50);
/// How long the engine hangs when it is told to.
const HANG: Duration = Duration::from_secs(120);
/// The most messages that it remembers.
const MOST_RECEIVED: usize = 10_000;

/// How the engine behaves, whatever it receives.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum Mood {
    /// As published.
    Fair,
    /// Answers 429 with this `Retry-After` in seconds.
    TooMany(u64),
    /// Answers with this status.
    Status(u16),
    /// Does not answer.
    Hang,
}

/// The settings of the test engine.
#[derive(Debug, Clone)]
pub struct TestEngineSettings {
    /// The address to listen on, such as `127.0.0.1:7643`; port 0 takes a free one.
    pub listen: String,
    /// Where hosts are reached, by host, because the engine does not use DNS.
    pub reach: HashMap<String, SocketAddr>,
    /// How it behaves.
    pub mood: Mood,
    /// Called with each message.
    pub tell: Option<fn(&Received)>,
}

/// A message that it received.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Received {
    /// The status of its answer.
    pub status: u16,
    /// The reason for that status.
    pub why: String,
    /// The host of its URLs.
    pub host: String,
    /// Its URLs.
    pub urls: Vec<String>,
}

#[derive(Debug, Clone)]
struct SharedState {
    settings: Arc<TestEngineSettings>,
    mood: Arc<Mutex<Mood>>,
    received: Arc<Mutex<Vec<Received>>>,
    client: reqwest::Client,
}

/// A running engine.
#[derive(Debug)]
pub struct TestEngine {
    served: Served,
    mood: Arc<Mutex<Mood>>,
    received: Arc<Mutex<Vec<Received>>>,
}

impl TestEngine {
    /// Starts it.
    ///
    /// # Errors
    ///
    /// Returns an error if its address or its log cannot be opened.
    pub fn start(settings: TestEngineSettings) -> io::Result<Self> {
        let mood = Arc::new(Mutex::new(settings.mood));
        let received = Arc::new(Mutex::new(Vec::new()));
        let listen = settings.listen.clone();
        let shared = SharedState {
            settings: Arc::new(settings),
            mood: Arc::clone(&mood),
            received: Arc::clone(&received),
            client: http::client(KEY_WAIT).map_err(io::Error::other)?,
        };
        let router = Router::new()
            .route("/indexnow", get(one).post(many))
            .route("/ping", get(ping))
            .route("/hub", post(publish))
            .route("/call", any(call))
            .route("/oembed", get(describe))
            .route("/received", get(list))
            .route("/mood", post(set_mood))
            .layer(DefaultBodyLimit::max(LARGEST_MESSAGE))
            .with_state(shared);
        Ok(Self { served: Served::run(router, &listen)?, mood, received })
    }

    /// The endpoint to configure.
    pub fn endpoint(&self) -> String {
        format!("http://{}/indexnow", self.served.address())
    }

    /// The endpoint for pings of a sitemap.
    pub fn ping(&self) -> String {
        format!("http://{}/ping", self.served.address())
    }

    /// The hub for feeds.
    pub fn hub(&self) -> String {
        format!("http://{}/hub", self.served.address())
    }

    /// An address that takes any call.
    pub fn call(&self) -> String {
        format!("http://{}/call", self.served.address())
    }

    /// The port it listens on.
    pub fn port(&self) -> u16 {
        self.served.address().port()
    }

    /// The address at which videos are described by oEmbed.
    pub fn films(&self) -> String {
        format!("http://{}/oembed", self.served.address())
    }

    /// What it has received so far.
    pub fn received(&self) -> Vec<Received> {
        self.received.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Changes how it behaves.
    pub fn set_mood(&self, mood: Mood) {
        *self.mood.lock().unwrap_or_else(PoisonError::into_inner) = mood;
    }

    /// Runs until it is asked to stop.
    pub fn wait(self, stop: &Stop) {
        while !stop.is_asked() {
            thread::sleep(GLANCE);
        }
    }
}

#[derive(Debug, Deserialize)]
struct One {
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

async fn one(State(shared): State<SharedState>, Query(one): Query<One>) -> Response {
    let host = atlas_core::address::host(&one.url).to_owned();
    let many = Many { host, key: one.key, key_location: one.key_location, url_list: vec![one.url] };
    shared.take(many).await
}

async fn many(State(shared): State<SharedState>, headers: HeaderMap, body: axum::body::Bytes) -> Response {
    let kind = headers.get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or("");
    if !kind.starts_with("application/json") {
        return shared.answer(400, "the content type is not application/json", String::new(), Vec::new());
    }
    match serde_json::from_slice::<Many>(&body) {
        Ok(many) => shared.take(many).await,
        Err(error) => shared.answer(400, &format!("malformed: {error}"), String::new(), Vec::new()),
    }
}

#[derive(Debug, Deserialize)]
struct Ping {
    sitemap: String,
}

/// A ping: the address of a sitemap (sitemaps.org).
async fn ping(State(shared): State<SharedState>, Query(ping): Query<Ping>) -> Response {
    let verdict = match Address::parse(&ping.sitemap) {
        Ok(_) => (200, "taken".to_owned()),
        Err(why) => (400, format!("sitemap is not a URL: {why}")),
    };
    shared.reply(verdict, vec![ping.sitemap]).await
}

#[derive(Debug, Deserialize)]
struct HubMessage {
    #[serde(rename = "hub.mode")]
    mode: String,
    #[serde(rename = "hub.url")]
    url: String,
}

/// A message to a hub (WebSub).
async fn publish(State(shared): State<SharedState>, form: Result<Form<HubMessage>, FormRejection>) -> Response {
    match form {
        Ok(Form(HubMessage { mode, url })) => {
            let verdict = match (mode.as_str(), Address::parse(&url)) {
                ("publish", Ok(_)) => (204, "taken".to_owned()),
                ("publish", Err(why)) => (400, format!("hub.url is not a URL: {why}")),
                (mode, _) => (400, format!("hub.mode is “{mode}”, not “publish”")),
            };
            shared.reply(verdict, vec![url]).await
        }
        Err(why) => shared.reply((400, why.body_text()), Vec::new()).await,
    }
}

/// Any call: its method, its query and its body are listed as they came.
async fn call(State(shared): State<SharedState>, request: Request) -> Response {
    let line = format!("{} {}", request.method(), request.uri());
    let authorization = request.headers().get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    let authorization = authorization.unwrap_or_default().to_owned();
    let body = axum::body::to_bytes(request.into_body(), LARGEST_MESSAGE).await.unwrap_or_default();
    let urls = vec![line, authorization, String::from_utf8_lossy(&body).into_owned()];
    shared.reply((200, "taken".to_owned()), urls).await
}

async fn list(State(shared): State<SharedState>) -> Json<Vec<Received>> {
    Json(shared.received.lock().unwrap_or_else(PoisonError::into_inner).clone())
}

#[derive(Debug, Deserialize)]
struct Described {
    url: String,
}

/// Describes a video by oEmbed: any video except those whose name begins with `unknown`.
async fn describe(State(shared): State<SharedState>, Query(film): Query<Described>) -> Response {
    let mood = *shared.mood.lock().unwrap_or_else(PoisonError::into_inner);
    let name = film.url.split(['?', '#']).next().unwrap_or("").trim_end_matches('/').rsplit('/').next().unwrap_or("");
    match mood {
        Mood::Hang => tokio::time::sleep(HANG).await,
        Mood::Fair => {}
        Mood::TooMany(_) | Mood::Status(_) => return StatusCode::SERVICE_UNAVAILABLE.into_response(),
    }
    if name.starts_with("unknown") {
        return StatusCode::NOT_FOUND.into_response();
    }
    Json(serde_json::json!({
        "version": "1.0",
        "type": "video",
        "title": format!("Film {name}"),
        "author_name": "Marrow Vale Films",
        "thumbnail_url": format!("https://films.example/stills/{name}.jpg"),
        "html": format!("<iframe src=\"{}\"></iframe>", film.url.replace('"', "")),
        "duration": 95,
    }))
    .into_response()
}

#[derive(Debug, Deserialize)]
struct NewMood {
    answer: String,
}

async fn set_mood(State(shared): State<SharedState>, Query(new): Query<NewMood>) -> Response {
    match Mood::parse(&new.answer) {
        Ok(mood) => {
            *shared.mood.lock().unwrap_or_else(PoisonError::into_inner) = mood;
            StatusCode::NO_CONTENT.into_response()
        }
        Err(why) => (StatusCode::BAD_REQUEST, format!("{why}\n")).into_response(),
    }
}

/// Why a text does not say how the engine behaves.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum MoodError {
    /// It names no way to answer.
    #[error("“{0}” is not a way to answer; expected fair, 429:SECONDS, another status such as 503, or hang")]
    Unknown(String),
    /// What follows `429:` is not a number.
    #[error("“{0}” is not a number of seconds")]
    Seconds(String),
}

impl Mood {
    /// Parses `fair`, `429`, `429:SECONDS`, another status such as `503`, or `hang`.
    ///
    /// # Errors
    ///
    /// Returns a [`MoodError`] for any other text.
    pub fn parse(text: &str) -> Result<Self, MoodError> {
        match text.split_once(':').unwrap_or((text, "60")) {
            ("fair", _) => Ok(Self::Fair),
            ("hang", _) => Ok(Self::Hang),
            ("429", seconds) => seconds.parse().map(Self::TooMany).map_err(|_| MoodError::Seconds(seconds.to_owned())),
            (status, _) => match status.parse() {
                Ok(status @ 200..=599) => Ok(Self::Status(status)),
                _ => Err(MoodError::Unknown(text.to_owned())),
            },
        }
    }
}

impl SharedState {
    async fn take(&self, many: Many) -> Response {
        let verdict = match self.mood() {
            Mood::Fair => self.judge(&many).await,
            _ => (200, "taken".to_owned()),
        };
        self.reply_from(verdict, many.host, many.url_list).await
    }

    fn mood(&self) -> Mood {
        *self.mood.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Answers as it is told to, or else by a verdict: a status and the reason.
    async fn reply(&self, verdict: (u16, String), urls: Vec<String>) -> Response {
        let host = urls.first().map_or("", |url| atlas_core::address::host(url)).to_owned();
        self.reply_from(verdict, host, urls).await
    }

    async fn reply_from(&self, (status, why): (u16, String), host: String, urls: Vec<String>) -> Response {
        match self.mood() {
            Mood::Fair => self.answer(status, &why, host, urls),
            Mood::TooMany(seconds) => {
                let response = self.answer(429, "set to answer so", host, urls);
                ([(header::RETRY_AFTER, seconds.to_string())], response).into_response()
            }
            Mood::Status(status) => self.answer(status, "set to answer so", host, urls),
            Mood::Hang => {
                tokio::time::sleep(HANG).await;
                self.answer(503, "set to hang", host, urls)
            }
        }
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
        let host = location.host();
        let name = host.rsplit_once(':').map_or(host, |(name, _)| name);
        let known = self.settings.reach.get(host).or_else(|| self.settings.reach.get(name));
        let url = match known {
            Some(address) => format!("http://{address}{}", location.path()),
            None if matches!(name, "localhost" | "127.0.0.1" | "[::1]") => location.as_str().to_owned(),
            None => {
                return (
                    403,
                    format!("{host} cannot be reached from here; start the engine with --reach {host}=ADDRESS"),
                );
            }
        };
        let fetched =
            async { self.client.get(&url).header(header::HOST, host).send().await?.error_for_status()?.text().await };
        match fetched.await {
            Ok(text) if text.trim_start_matches('\u{feff}').trim() == key.as_str() => (200, "taken".to_owned()),
            Ok(_) => (403, format!("{location} contains another key")),
            Err(error) => (403, format!("{location} could not be fetched: {}", http::cause(&error))),
        }
    }

    fn answer(&self, status: u16, why: &str, host: String, urls: Vec<String>) -> Response {
        let received = Received { status, why: why.to_owned(), host, urls };
        if let Some(tell) = self.settings.tell {
            tell(&received);
        }
        let mut all = self.received.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() < MOST_RECEIVED {
            all.push(received);
        }
        (StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR), format!("{why}\n")).into_response()
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use rstest::rstest;

    use super::*;
    use crate::test_engine::serve;

    const KEY: &str = "0123456789abcdef";
    const HOST: &str = "www.marrowvale.example";

    fn post(engine: &TestEngine, body: &str) -> u16 {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        let client = http::client(Duration::from_secs(5)).unwrap();
        let request = client.post(engine.endpoint()).header("content-type", "application/json").body(body.to_owned());
        runtime.block_on(async { request.send().await }).unwrap().status().as_u16()
    }

    fn body(host: &str, key: &str, urls: &[String]) -> String {
        serde_json::json!({ "host": host, "key": key, "keyLocation": format!("https://{host}/{key}.txt"), "urlList": urls })
            .to_string()
    }

    #[rstest]
    #[case::good(body(HOST, KEY, &[format!("https://{HOST}/fares/")]), 200)]
    #[case::other_host(body(HOST, KEY, &["https://other.example/".into()]), 422)]
    #[case::bad_key(body(HOST, "short", &[format!("https://{HOST}/")]), 422)]
    #[case::wrong_key(body(HOST, "ffffffffffffffff", &[format!("https://{HOST}/")]), 403)]
    #[case::unreachable(body("other.example", KEY, &["https://other.example/".into()]), 403)]
    #[case::nothing(body(HOST, KEY, &[]), 400)]
    #[case::too_many(body(HOST, KEY, &vec![format!("https://{HOST}/"); 10_001]), 422)]
    #[case::no_json("{".into(), 400)]
    fn answers_as_published(#[case] body: String, #[case] status: u16) {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join(format!("{KEY}.txt")), KEY).unwrap();
        let site = serve::folder(folder.path()).unwrap();
        let reach = HashMap::from([(HOST.to_owned(), site.address())]);
        let settings = TestEngineSettings { listen: "127.0.0.1:0".into(), reach, mood: Mood::Fair, tell: None };
        let engine = TestEngine::start(settings).unwrap();
        assert_eq!(post(&engine, &body), status, "{:?}", engine.received());
        assert_eq!(engine.received()[0].status, status);
        engine.set_mood(Mood::Status(503));
        assert_eq!(post(&engine, &self::body(HOST, KEY, &[format!("https://{HOST}/")])), 503);
    }

    #[rstest]
    #[case("429", Ok(Mood::TooMany(60)))]
    #[case("429:3", Ok(Mood::TooMany(3)))]
    #[case("503", Ok(Mood::Status(503)))]
    #[case("410", Ok(Mood::Status(410)))]
    #[case("hang", Ok(Mood::Hang))]
    #[case("fair", Ok(Mood::Fair))]
    fn moods(#[case] text: &str, #[case] wanted: Result<Mood, MoodError>) {
        assert_eq!(Mood::parse(text), wanted);
        assert!(Mood::parse("sulk").unwrap_err().to_string().contains("not a way to answer"));
    }
}
