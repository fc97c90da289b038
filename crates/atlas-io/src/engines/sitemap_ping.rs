//! The ping of a sitemap: engines are told that the main file has changed. Most have given it up.

use atlas_core::announce::sitemap_ping::{ping, then};
use atlas_core::announce::{Answer, Then};
use atlas_store::error::StoreError;

use super::sender::Sender;
use super::{EngineSettings, Message, Protocol, Reply, ToldSite};
use crate::secret::Secret;

/// An endpoint that takes pings.
struct SitemapPing {
    sender: Sender,
    endpoint: Secret,
}

/// Prepares to tell an engine.
pub(super) fn connect(settings: &EngineSettings, _site: &ToldSite<'_>) -> Result<Box<dyn Protocol>, StoreError> {
    Ok(Box::new(SitemapPing { sender: Sender::new(settings)?, endpoint: settings.endpoint.clone() }))
}

impl Protocol for SitemapPing {
    fn send(&self, message: &Message) -> Reply {
        self.sender.send(&ping(self.endpoint.expose(), message.url()))
    }

    fn then(&self, answer: &Answer) -> Then {
        then(answer)
    }
}
