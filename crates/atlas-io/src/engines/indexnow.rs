//! IndexNow: engines are sent changed URLs, up to 10,000 in a message.

use atlas_core::announce::indexnow::{IndexNowBody, Key, messages, request, words};
use atlas_core::announce::{Answer, Then};
use atlas_store::error::StoreError;
use atlas_store::model::Pending;

use super::sender::Sender;
use super::{EngineSettings, Message, Protocol, Reply, ToldSite};
use crate::secret::Secret;

/// An IndexNow endpoint.
struct IndexNow {
    sender: Sender,
    endpoint: Secret,
    key: Key,
    /// The address of the key file.
    key_location: String,
}

/// Prepares to tell an engine.
pub(super) fn connect(settings: &EngineSettings, site: &ToldSite<'_>) -> Result<Box<dyn Protocol>, StoreError> {
    let failed = |why: &str| StoreError::Engine { name: settings.name.clone(), why: why.into() };
    let key = site.key.ok_or_else(|| failed("it has no key"))?;
    let key_location = site.site.of_file(&key.file_name()).as_str().to_owned();
    let (sender, endpoint) = (Sender::new(settings)?, settings.endpoint.clone());
    Ok(Box::new(IndexNow { sender, endpoint, key: key.clone(), key_location }))
}

impl Protocol for IndexNow {
    fn messages(&self, pending: &[Pending]) -> Vec<Message> {
        let urls: Vec<&str> = pending.iter().map(|one| one.url.as_str()).collect();
        let messages = messages(&urls).into_iter();
        messages.map(|some| Message { about: some.into_iter().map(|at| pending[at].clone()).collect() }).collect()
    }

    fn send(&self, message: &Message) -> Reply {
        let body = IndexNowBody::new(&self.key, &self.key_location, &message.urls());
        self.sender.send(&request(self.endpoint.expose(), &body))
    }

    fn words(&self, answer: &Answer, then: Then) -> String {
        words(answer, then).map_or_else(|| answer.words(then), str::to_owned)
    }
}
