//! Engines: telling them what changed, by the protocol that each accepts.
//!
//! A protocol consists of one file here, one file of messages in [`atlas_core::announce`], and one line in
//! [`PROTOCOLS`].

mod indexnow;
mod announcements;

use std::time::Duration;

use atlas_core::address::Site;
use atlas_core::announce::Answer;
use atlas_core::announce::indexnow::{Key, MOST_URLS};
use atlas_store::error::StoreError;

use crate::secret::Secret;

pub use self::announcements::{EngineReport, PendingList, all_pending, left_alone, meet, tell};

/// A protocol for telling engines of changes.
pub trait Protocol {
    /// Groups pending URLs or files into messages, in order.
    fn messages(&self, pending: &[String]) -> Vec<Message>;

    /// Sends one message, without retries.
    fn send(&self, message: &Message) -> Reply;
}

/// What a protocol announces.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tells {
    /// Changed URLs: at most this many are announced before progress is recorded.
    Urls(usize),
    /// The sitemap files that list changed URLs.
    Files,
}

/// A message to an engine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// The URLs, or the addresses of files, that it announces.
    pub about: Vec<String>,
    /// Its body, as sent.
    pub body: Vec<u8>,
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
    /// Its protocol, one of [`PROTOCOLS`].
    pub via: &'static Registration,
    /// Where messages go.
    pub endpoint: Secret,
    /// The site's key, if the configuration names one and the protocol needs one.
    pub key: Option<Key>,
    /// How long an answer may take.
    pub wait: Duration,
}

/// A protocol that the configuration can name.
#[derive(Debug)]
pub struct Registration {
    /// The word for it in the configuration.
    pub word: &'static str,
    /// Whether a key has to be published on the site first.
    pub wants_key: bool,
    /// What it announces: changed URLs, or the sitemap files that list them.
    pub tells: Tells,
    connect: Connect,
}

/// Prepares to tell an engine about a site, with the published key.
type Connect = fn(&EngineSettings, &Site, Option<&Key>) -> Result<Box<dyn Protocol>, StoreError>;

/// All protocols.
pub static PROTOCOLS: &[Registration] =
    &[Registration { word: "indexnow", wants_key: true, tells: Tells::Urls(MOST_URLS), connect: indexnow::connect }];

/// The protocol that this word names.
pub fn named(word: &str) -> Option<&'static Registration> {
    PROTOCOLS.iter().find(|one| one.word == word)
}

/// An engine that can be told of changes.
pub struct Engine {
    /// Its name in the configuration.
    pub name: String,
    tells: Tells,
    protocol: Box<dyn Protocol>,
}

impl Engine {
    /// Prepares to tell an engine about a site; `key` is the published one.
    ///
    /// # Errors
    ///
    /// Returns [`StoreError::Engine`] if the engine cannot be contacted with
    /// these settings.
    pub fn connect(settings: &EngineSettings, site: &Site, key: Option<&Key>) -> Result<Self, StoreError> {
        let protocol = (settings.via.connect)(settings, site, key)?;
        Ok(Self { name: settings.name.clone(), tells: settings.via.tells, protocol })
    }

    /// An engine with a protocol of the caller's own.
    pub fn new(name: &str, tells: Tells, protocol: Box<dyn Protocol>) -> Self {
        Self { name: name.to_owned(), tells, protocol }
    }
}
