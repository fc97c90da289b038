//! Engines: telling them what changed, by the protocol that each accepts.
//!
//! A protocol consists of one file here, one file of messages in [`atlas_core::announce`], and one line in
//! [`PROTOCOLS`].

mod sender;
mod indexnow;
mod sitemap_ping;
mod websub;
mod http_call;
mod addresses;
mod report;
mod outlook;
mod not_live;
mod announcements;

use std::time::Duration;

use atlas_core::address::Site;
use atlas_core::announce::indexnow::{Key, MOST_URLS};
use atlas_core::announce::{Answer, Then};
use atlas_core::fingerprint;
use atlas_store::destination::Names;
use atlas_store::error::StoreError;
use atlas_store::ledger::ByHand;
use atlas_store::model::Pending;
use atlas_store::stop::Stop;

use crate::live::LiveSite;
use crate::secret::Secret;

pub use self::announcements::tell;
pub use self::http_call::CallSettings;
pub use self::not_live::{LiveReport, SeenLive};
pub use self::outlook::{PendingList, all_pending, left_alone, meet, would_wait};
pub use self::report::{EngineReport, Waiting, WaitsFor};

/// A protocol for telling engines of changes.
pub trait Protocol {
    /// Groups pending URLs or files into messages, in order; one for each, unless the protocol takes several at once.
    fn messages(&self, pending: &[Pending]) -> Vec<Message> {
        pending.iter().map(|one| Message { about: vec![one.clone()] }).collect()
    }

    /// Sends one message, without retries.
    fn send(&self, message: &Message) -> Reply;

    /// What to do after an answer.
    fn then(&self, answer: &Answer) -> Then {
        answer.then()
    }

    /// What an answer means, for the user.
    fn words(&self, answer: &Answer, then: Then) -> String {
        answer.words(then)
    }
}

/// What a protocol announces.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tells {
    /// Changed URLs: at most this many are announced before progress is recorded.
    Urls(usize),
    /// The main file, after each build that wrote a file.
    Main,
    /// The feeds of the newest entries, when they have changed.
    Feeds,
    /// New sitemap files.
    NewFiles,
}

/// What a command wants to announce.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ToAnnounce<'a> {
    /// What has still to be announced.
    Due,
    /// Everything, and from then on what changes.
    All,
    /// What is chosen by hand.
    Chosen(&'a ByHand),
}

/// What engines are told, and under which conditions.
#[derive(Clone, Copy)]
pub struct Telling<'a> {
    /// The names of the site's files.
    pub names: &'a Names,
    /// What to announce.
    pub wanted: ToAnnounce<'a>,
    /// Whether an engine that has failed is tried at once, instead of later.
    pub at_once: bool,
    /// The live site, for engines that are told only of what it serves.
    pub live: Option<&'a dyn LiveSite>,
}

impl<'a> Telling<'a> {
    /// What has still to be announced, without a look at the live site.
    pub fn due(names: &'a Names) -> Self {
        Self { names, wanted: ToAnnounce::Due, at_once: false, live: None }
    }
}

impl Tells {
    /// Whether it announces files rather than URLs.
    pub fn of_files(self) -> bool {
        !matches!(self, Self::Urls(_))
    }
}

/// A message to an engine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// The URLs, or the addresses of files, that it announces.
    pub about: Vec<Pending>,
}

impl Message {
    /// Its URLs.
    pub fn urls(&self) -> Vec<&str> {
        self.about.iter().map(|one| one.url.as_str()).collect()
    }

    /// Its first URL.
    pub fn url(&self) -> &str {
        self.about.first().map_or("", |one| one.url.as_str())
    }
}

/// The result of sending a message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reply {
    /// The engine's answer.
    pub answer: Answer,
    /// How long the engine asks for no messages.
    pub pause: Option<Duration>,
}

/// The settings of one engine.
#[derive(Debug, Clone)]
pub struct EngineSettings {
    /// Its name.
    pub name: String,
    /// The name that it had before.
    pub was: Option<String>,
    /// Whether it is told anything.
    pub on: bool,
    /// Its protocol, one of [`PROTOCOLS`].
    pub via: &'static Registration,
    /// What it is told of.
    pub tells: Tells,
    /// Where messages go.
    pub endpoint: Secret,
    /// The site's key, if the configuration names one and the protocol needs one.
    pub key: Option<Key>,
    /// What is called, if the protocol calls by template.
    pub call: Option<CallSettings>,
    /// How much it may be told, and how often.
    pub limits: TellingLimits,
    /// How long an answer may take.
    pub wait: Duration,
    /// Whether it is told only of what the live site serves.
    pub waits_until_live: bool,
}

/// How much an engine may be told, and how often.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TellingLimits {
    /// The most URLs in 24 hours.
    pub per_day: Option<u64>,
    /// The pause between two announcements of one URL, in seconds.
    pub pause_seconds: i64,
    /// How long a round of announcements may take, in seconds; what is left goes with the next.
    pub round_seconds: i64,
}

impl Default for TellingLimits {
    fn default() -> Self {
        Self { per_day: None, pause_seconds: 0, round_seconds: 1_800 }
    }
}

impl EngineSettings {
    /// A fingerprint of the endpoint: one that has given up being told is not asked again.
    fn endpoint_print(&self) -> u64 {
        fingerprint::settings(self.endpoint.expose())
    }
}

/// A protocol that the configuration can name.
#[derive(Debug)]
pub struct Registration {
    /// The word for it in the configuration.
    pub word: &'static str,
    /// Whether a key has to be published on the site first.
    pub wants_key: bool,
    /// What it announces, unless the configuration decides.
    pub tells: Tells,
    connect: Connect,
}

/// The site that an engine is told about.
#[derive(Debug, Clone, Copy)]
pub struct ToldSite<'a> {
    /// Its address.
    pub site: &'a Site,
    /// The names of its files.
    pub names: &'a Names,
    /// The published key.
    pub key: Option<&'a Key>,
    /// The token that asks to stop.
    pub stop: &'a Stop,
}

/// Prepares to tell an engine about a site.
type Connect = fn(&EngineSettings, &ToldSite<'_>) -> Result<Box<dyn Protocol>, StoreError>;

/// All protocols.
pub static PROTOCOLS: &[Registration] = &[
    Registration { word: "indexnow", wants_key: true, tells: Tells::Urls(MOST_URLS), connect: indexnow::connect },
    Registration { word: "websub", wants_key: false, tells: Tells::Feeds, connect: websub::connect },
    Registration { word: "sitemap-ping", wants_key: false, tells: Tells::Main, connect: sitemap_ping::connect },
    Registration { word: "http-call", wants_key: false, tells: Tells::Urls(1), connect: http_call::connect },
];

/// The protocol that this word names.
pub fn named(word: &str) -> Option<&'static Registration> {
    PROTOCOLS.iter().find(|one| one.word == word)
}

/// An engine that can be told of changes.
pub struct Engine {
    /// Its name in the configuration.
    pub name: String,
    /// The word for its protocol.
    pub via: &'static str,
    tells: Tells,
    limits: TellingLimits,
    endpoint: u64,
    waits_until_live: bool,
    /// The address of the key file, and the key.
    key_file: Option<(String, String)>,
    protocol: Box<dyn Protocol>,
}

impl Engine {
    /// Prepares to tell an engine about a site.
    ///
    /// # Errors
    ///
    /// Returns [`StoreError::Engine`] if the engine cannot be contacted with
    /// these settings.
    pub fn connect(settings: &EngineSettings, site: &ToldSite<'_>) -> Result<Self, StoreError> {
        let protocol = (settings.via.connect)(settings, site)?;
        let (name, via) = (settings.name.clone(), settings.via.word);
        let (tells, limits) = (settings.tells, settings.limits);
        let key_file = |key: &Key| (site.site.of_file(&key.file_name()).as_str().to_owned(), key.as_str().to_owned());
        let (key_file, waits_until_live) = (site.key.map(key_file), settings.waits_until_live);
        Ok(Self { name, via, tells, limits, endpoint: settings.endpoint_print(), waits_until_live, key_file, protocol })
    }

    /// An engine with a protocol of the caller's own.
    pub fn new(name: &str, tells: Tells, limits: TellingLimits, protocol: Box<dyn Protocol>) -> Self {
        let (endpoint, waits_until_live, key_file) = (0, true, None);
        Self { name: name.to_owned(), via: "own", tells, limits, endpoint, waits_until_live, key_file, protocol }
    }
}
