//! A small search engine on loopback, for trying out announcements.
//!
//! It accepts IndexNow as published: it checks host, schema and count, fetches the key file, and answers with the right
//! status. It takes pings of sitemaps, messages to a hub, and any call. It can be told to fail in every way, and lists what
//! it has received. After an announcement, or when it is asked to, it crawls the site as an engine does, and keeps a list
//! of what it has picked up. It also describes videos by oEmbed, as a video provider does.

pub mod serve;
mod mood;
mod loopback;
mod crawler;
mod indexnow;

use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use std::{io, thread};

use atlas_core::address::Address;
use atlas_store::stop::Stop;
use axum::extract::rejection::FormRejection;
use axum::extract::{DefaultBodyLimit, Form, Query, Request, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{any, get, post};
use axum::{Json, Router};
use serde::{Deserialize, Serialize};

use self::crawler::Crawler;
pub use self::crawler::{NotPickedUp, PickedUp, ReadSitemap};
use self::loopback::Loopback;
pub use self::mood::{Mood, MoodError};
use self::serve::Served;
use crate::http;

/// The largest accepted message: 10,000 of the longest URLs.
const LARGEST_MESSAGE: usize = 24 * 1024 * 1024;
/// The time limit for a key file.
const KEY_WAIT: Duration = Duration::from_secs(5);
/// How often the stop token is checked.
const GLANCE: Duration = Duration::from_millis(50);
/// How long the engine hangs when it is told to.
const HANG: Duration = Duration::from_secs(120);
/// A status that no standard knows.
const GARBAGE: u16 = 599;
/// The most messages that it remembers.
const MOST_RECEIVED: usize = 10_000;

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
    /// The file to which its own requests to sites are added, as the access log of their server.
    pub access_log: Option<PathBuf>,
}

impl TestEngineSettings {
    /// An engine on a free port of 127.0.0.1 that behaves as published.
    pub fn fair() -> Self {
        let listen = "127.0.0.1:0".to_owned();
        Self { listen, reach: HashMap::new(), mood: Mood::Fair, tell: None, access_log: None }
    }
}

/// A message that it received.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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
    crawler: Arc<Crawler>,
}

/// A running engine.
#[derive(Debug)]
pub struct TestEngine {
    served: Served,
    mood: Arc<Mutex<Mood>>,
    received: Arc<Mutex<Vec<Received>>>,
    crawler: Arc<Crawler>,
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
        let client = http::client(KEY_WAIT).map_err(io::Error::other)?;
        let loopback = Loopback::new(settings.reach.clone());
        let crawler = Crawler::new(client.clone(), loopback, settings.access_log.as_deref())?;
        let crawler = Arc::new(crawler);
        let shared = SharedState {
            settings: Arc::new(settings),
            mood: Arc::clone(&mood),
            received: Arc::clone(&received),
            client,
            crawler: Arc::clone(&crawler),
        };
        let router = Router::new()
            .route("/indexnow", get(indexnow::one).post(indexnow::many))
            .route("/ping", get(ping))
            .route("/hub", post(publish))
            .route("/call", any(call))
            .route("/oembed", get(describe))
            .route("/received", get(list))
            .route("/mood", post(set_mood))
            .route("/crawl", post(crawl))
            .route("/picked-up", get(picked_up))
            .layer(DefaultBodyLimit::max(LARGEST_MESSAGE))
            .with_state(shared);
        Ok(Self { served: Served::run(router, &listen)?, mood, received, crawler })
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

    /// Crawls a site as an engine does, beginning at its robots.txt: `site` is its URL. Returns everything that it knows
    /// then.
    ///
    /// # Errors
    ///
    /// Returns an error if it was asked to stop.
    pub fn crawl(&self, site: &Address, stop: &Stop) -> io::Result<PickedUp> {
        http::block_on(stop, async {
            self.crawler.crawl(site).await;
            Ok(self.crawler.picked_up())
        })
    }

    /// What it has picked up so far, and what it has not, and why.
    pub fn picked_up(&self) -> PickedUp {
        self.crawler.picked_up()
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
        Mood::Slow(seconds) => tokio::time::sleep(Duration::from_secs(seconds)).await,
        Mood::Fair => {}
        Mood::Reset => reset(),
        Mood::TooMany(_) | Mood::Status(_) | Mood::Garbage => return StatusCode::SERVICE_UNAVAILABLE.into_response(),
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
struct WhatToCrawl {
    site: String,
}

/// Crawls a site, and lists what was picked up.
async fn crawl(State(shared): State<SharedState>, Query(what): Query<WhatToCrawl>) -> Response {
    match Address::parse(&what.site) {
        Ok(site) => {
            shared.crawler.crawl(&site).await;
            Json(shared.crawler.picked_up()).into_response()
        }
        Err(why) => (StatusCode::BAD_REQUEST, format!("site: {why}\n")).into_response(),
    }
}

async fn picked_up(State(shared): State<SharedState>) -> Json<PickedUp> {
    Json(shared.crawler.picked_up())
}

/// Closes the connection: the task that serves it ends, without a message.
fn reset() -> ! {
    std::panic::resume_unwind(Box::new("set to close the connection"))
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

impl SharedState {
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
            Mood::Fair => self.taken((status, &why), host, urls),
            Mood::Slow(seconds) => {
                tokio::time::sleep(Duration::from_secs(seconds)).await;
                self.taken((status, &why), host, urls)
            }
            Mood::Reset => {
                self.answer(0, "set to close the connection", host, urls);
                reset()
            }
            Mood::Garbage => {
                let response = self.answer(GARBAGE, "set to answer with noise", host, urls);
                let noise: Vec<u8> =
                    (0..1 << 20u32).map(|at: u32| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
                (response.status(), noise).into_response()
            }
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

    /// Answers by a verdict. Of what it has taken, it visits the pages, or the site if it was told of a file.
    fn taken(&self, (status, why): (u16, &str), host: String, urls: Vec<String>) -> Response {
        if (200..300).contains(&status) {
            let (crawler, urls) = (Arc::clone(&self.crawler), urls.clone());
            tokio::spawn(async move { crawler.visit(&urls).await });
        }
        self.answer(status, why, host, urls)
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
        let settings = TestEngineSettings { reach, ..TestEngineSettings::fair() };
        let engine = TestEngine::start(settings).unwrap();
        assert_eq!(post(&engine, &body), status, "{:?}", engine.received());
        assert_eq!(engine.received()[0].status, status);
        engine.set_mood(Mood::Status(503));
        assert_eq!(post(&engine, &self::body(HOST, KEY, &[format!("https://{HOST}/")])), 503);
    }
}
