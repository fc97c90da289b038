//! Engines: telling them what changed, by whatever protocol they take.
//!
//! A protocol is one file here, one file of messages in [`atlas_core::announce`], and one line in [`PROTOCOLS`].

mod indexnow;
mod announcements;

use std::time::Duration;

use atlas_core::address::Site;
use atlas_core::announce::Answer;
use atlas_core::announce::indexnow::{Key, MOST_URLS};
use atlas_store::error::StoreError;

use crate::secret::Secret;

pub use self::announcements::{EngineReport, all_pending, left_alone, tell};

/// One way in which engines are told.
pub trait Protocol {
    /// Puts what is pending into messages, in its order.
    fn messages(&self, pending: &[String]) -> Vec<Message>;

    /// Sends one message, once.
    fn send(&self, message: &Message) -> Reply;
}

/// What a protocol tells engines of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tells {
    /// Each URL that changed, at most so many between two notes of how far the engine has come.
    Urls(usize),
    /// The sitemap files that list URLs which changed.
    Files,
}

/// A message to an engine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// The URLs, or the addresses of files, that it tells of.
    pub about: Vec<String>,
    /// Its body, as it is sent.
    pub body: Vec<u8>,
}

/// What came of sending a message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reply {
    /// The engine's answer.
    pub answer: Answer,
    /// For how long it asks to be left alone.
    pub pause: Option<Duration>,
}

/// An engine of the configuration.
#[derive(Debug, Clone)]
pub struct EngineSettings {
    /// Its name.
    pub name: String,
    /// The protocol: a word of [`PROTOCOLS`].
    pub via: &'static Registration,
    /// Where messages go.
    pub endpoint: Secret,
    /// The site's key, where the configuration names one and the protocol wants one.
    pub key: Option<Key>,
    /// How long an answer may take.
    pub wait: Duration,
}

/// A protocol that can be named in the configuration.
#[derive(Debug)]
pub struct Registration {
    /// Its word in the configuration.
    pub word: &'static str,
    /// A key has to be published on the site before it can be used.
    pub wants_key: bool,
    /// What is pending for its engines: URLs that changed, or sitemap files that list some.
    pub tells: Tells,
    connect: Connect,
}

/// Makes ready to tell an engine of a site, with the key that is published.
type Connect = fn(&EngineSettings, &Site, Option<&Key>) -> Result<Box<dyn Protocol>, StoreError>;

/// All protocols that there are.
pub static PROTOCOLS: &[Registration] =
    &[Registration { word: "indexnow", wants_key: true, tells: Tells::Urls(MOST_URLS), connect: indexnow::connect }];

/// The protocol of that word.
pub fn named(word: &str) -> Option<&'static Registration> {
    PROTOCOLS.iter().find(|one| one.word == word)
}

/// An engine that can be told.
pub struct Engine {
    /// Its name in the configuration.
    pub name: String,
    tells: Tells,
    protocol: Box<dyn Protocol>,
}

impl Engine {
    /// Makes ready to tell an engine of a site; `key` is the one that is published.
    pub fn connect(settings: &EngineSettings, site: &Site, key: Option<&Key>) -> Result<Self, StoreError> {
        let protocol = (settings.via.connect)(settings, site, key)?;
        Ok(Self { name: settings.name.clone(), tells: settings.via.tells, protocol })
    }

    /// An engine that is told by a protocol of the caller's.
    pub fn new(name: &str, tells: Tells, protocol: Box<dyn Protocol>) -> Self {
        Self { name: name.to_owned(), tells, protocol }
    }
}
