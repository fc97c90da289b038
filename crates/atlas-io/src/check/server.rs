//! Asking a server, politely: few connections, a rate, and pauses when it asks for them.

use std::time::{Duration, Instant};

use atlas_core::check::{ServerAnswer, Silence};
use atlas_core::placement::{MOST_BYTES, is_packed};
use atlas_store::disk::segmented_gzip::unpack;
use atlas_store::stop::Stop;
use reqwest::{Client, Url, header};
use tokio::runtime::Runtime;
use tokio::sync::Mutex;

use crate::http::{self, ClientError, Fetched, may_lead};
use crate::live::Reach;

/// The most redirects that are followed.
pub(super) const REDIRECTS: usize = 5;

/// The most bytes of a robots.txt that are read.
pub(super) const MOST_ROBOTS: usize = 2 << 20;

/// The most bytes of a page that are read.
const MOST_BODY: usize = 4 << 20;

/// How a server is asked.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Pace {
    /// The most requests per second; 0 for no limit.
    pub requests_per_second: f64,
    /// The most requests at the same time.
    pub connections: usize,
    /// The time limit for one answer.
    pub wait: Duration,
}

impl Default for Pace {
    fn default() -> Self {
        Self { requests_per_second: 0.0, connections: 2, wait: Duration::from_secs(30) }
    }
}

/// A server, or several, as this tool asks them.
#[derive(Debug)]
pub struct SiteServer {
    runtime: Runtime,
    pub(super) client: Client,
    pub(super) reach: Reach,
    pub(super) pace: Pace,
    pub(super) stop: Stop,
    /// When the next request may be sent.
    next: Mutex<Instant>,
}

/// An answer with its body.
#[derive(Debug, Default)]
pub(super) struct ServerReply {
    pub(super) answer: ServerAnswer,
    /// The body of an answer of 200, or the beginning of another, as sent but without its `Content-Encoding`.
    pub(super) body: Vec<u8>,
    /// Whether the body is longer than was wanted.
    pub(super) is_cut: bool,
}

impl ServerReply {
    /// Whether a body from this address should be a gzip file.
    pub(super) fn is_packed(&self, address: &str) -> bool {
        let end = self.answer.redirects.last().map_or(address, String::as_str);
        self.answer.still_gzip || is_packed(end.split('?').next().unwrap_or_default())
    }

    /// The body, unpacked if it is a gzip file.
    pub(super) fn plain(self, address: &str) -> Vec<u8> {
        match self.is_packed(address) {
            true => unpack(&self.body, MOST_BYTES).unwrap_or(self.body),
            false => self.body,
        }
    }
}

impl SiteServer {
    /// A server that is reached in this way.
    ///
    /// # Errors
    ///
    /// Returns a [`ClientError`] if a proxy in the environment is not valid.
    pub fn new(reach: Reach, pace: Pace, stop: &Stop) -> Result<Self, ClientError> {
        let client = http::builder(pace.wait)?.pool_max_idle_per_host(pace.connections).http1_only();
        let client = client.build().map_err(ClientError::Client)?;
        let runtime = http::runtime().map_err(ClientError::Runtime)?;
        Ok(Self { runtime, client, reach, pace, stop: stop.clone(), next: Mutex::new(Instant::now()) })
    }

    /// What is served at an address, after redirects; `None` if it is anything but 200.
    pub fn body(&self, address: &str) -> Option<Vec<u8>> {
        let reply = self.block_on(async {
            self.take_turn().await;
            self.ask(address, MOST_BODY).await
        })?;
        (reply.answer.status == 200 && reply.answer.silence.is_none()).then_some(reply.body)
    }

    /// How the server answers for an address, after redirects, with the body, unpacked, up to `most` bytes; `None` if work
    /// was asked to stop.
    pub fn get(&self, address: &str, most: usize) -> Option<(ServerAnswer, Vec<u8>)> {
        let reply = self.block_on(async {
            self.take_turn().await;
            self.ask(address, most).await
        })?;
        Some((reply.answer.clone(), reply.plain(address)))
    }

    /// Runs a future until it is done; `None` if work was asked to stop.
    pub(super) fn block_on<T>(&self, future: impl Future<Output = T>) -> Option<T> {
        self.runtime.block_on(http::until_stopped(&self.stop, async { Ok(future.await) })).ok()
    }

    /// Waits until the rate allows another request.
    pub(super) async fn take_turn(&self) {
        if self.pace.requests_per_second <= 0.0 {
            return;
        }
        let mut next = self.next.lock().await;
        let now = Instant::now();
        let turn = (*next).max(now);
        *next = turn + Duration::from_secs_f64(1.0 / self.pace.requests_per_second);
        drop(next);
        tokio::time::sleep(turn - now).await;
    }

    /// Lets all requests wait, because the server asks for it.
    pub(super) async fn pause(&self, pause: Duration) {
        let mut next = self.next.lock().await;
        *next = (*next).max(Instant::now() + pause);
    }

    /// Fetches an address, following redirects, up to `most` bytes.
    pub(super) async fn ask(&self, address: &str, most: usize) -> ServerReply {
        let start = Instant::now();
        let mut reply = ServerReply::default();
        if let Err(why) = self.follow(address, most, &mut reply).await {
            reply.answer.silence = Some(why);
        }
        reply.answer.milliseconds = start.elapsed().as_millis() as u64;
        reply
    }

    async fn follow(&self, address: &str, most: usize, reply: &mut ServerReply) -> Result<(), (Silence, String)> {
        let refused = |why: String| (Silence::NoAnswer, why);
        let mut url = Url::parse(address).map_err(|why| refused(why.to_string()))?;
        for _ in 0..=REDIRECTS {
            let request = self.reach.get(&self.client, url.as_str()).header(header::ACCEPT_ENCODING, "gzip");
            let fetched = Fetched::of(request).await.map_err(|error| silence(&error))?;
            let target = fetched.text(header::LOCATION).filter(|_| fetched.status().is_redirection());
            let Some(target) = target.and_then(|target| url.join(target).ok()) else {
                return self.take(fetched, most, reply).await;
            };
            reply.answer.status = fetched.status().as_u16();
            reply.answer.redirects.push(target.to_string());
            let authority = |url: &Url| url[url::Position::BeforeHost..url::Position::AfterPort].to_owned();
            if !may_lead(&authority(&url), &authority(&target)) {
                return Err(refused(format!("it redirects to {target}, which is not a public address")));
            }
            url = target;
        }
        Err(refused(format!("more than {REDIRECTS} redirects")))
    }

    async fn take(&self, fetched: Fetched, most: usize, reply: &mut ServerReply) -> Result<(), (Silence, String)> {
        let text = |name| fetched.text(name).unwrap_or_default().to_owned();
        let answer = &mut reply.answer;
        answer.status = fetched.status().as_u16();
        answer.content_type = text(header::CONTENT_TYPE);
        answer.content_encoding = text(header::CONTENT_ENCODING);
        let mut sent = Vec::new();
        let taken = fetched.each_chunk(|chunk| {
            sent.extend_from_slice(chunk);
            // One byte more tells that there is more.
            if sent.len() > most { Err(std::io::Error::other("long enough")) } else { Ok(()) }
        });
        match taken.await {
            Ok(()) => {}
            Err(http::FetchError::NoAnswer(error)) => return Err(silence(&error)),
            Err(_) => reply.is_cut = true,
        }
        let is_gzip = |bytes: &[u8]| bytes.starts_with(&[0x1f, 0x8b]);
        answer.sent_gzip = is_gzip(&sent);
        let is_said = answer.content_encoding.eq_ignore_ascii_case("gzip");
        reply.body = match is_said && answer.sent_gzip {
            true => unpacked(&sent, most, reply),
            false => sent,
        };
        reply.answer.still_gzip = is_gzip(&reply.body);
        Ok(())
    }
}

/// A body without its `Content-Encoding`, as far as it can be unpacked.
fn unpacked(sent: &[u8], most: usize, reply: &mut ServerReply) -> Vec<u8> {
    use std::io::Read;
    let mut bytes = Vec::new();
    let read = flate2::read::MultiGzDecoder::new(sent).take(most as u64 + 1).read_to_end(&mut bytes);
    reply.is_cut |= read.is_err() || bytes.len() > most;
    bytes
}

/// Why there was no answer.
pub(super) fn silence(error: &reqwest::Error) -> (Silence, String) {
    let mut causes = std::iter::successors(Some(error as &(dyn std::error::Error + 'static)), |error| inner(*error));
    let is_tls = |cause: &(dyn std::error::Error + 'static)| cause.is::<rustls::Error>();
    let why = http::cause(error);
    match causes.any(is_tls) {
        true => (Silence::Tls, why),
        false => (Silence::NoAnswer, why),
    }
}

/// The cause of an error. An I/O error hides the error that it is made of, and names only that one's cause.
fn inner<'e>(error: &'e (dyn std::error::Error + 'static)) -> Option<&'e (dyn std::error::Error + 'static)> {
    let hidden = error.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref);
    hidden.map(|hidden| hidden as &(dyn std::error::Error + 'static)).or_else(|| error.source())
}
