//! WebSub: the hub that the feed names is told that the feed has changed, and tells its subscribers.

use atlas_core::announce::websub::publish;
use atlas_store::error::StoreError;

use super::sender::Sender;
use super::{EngineSettings, Message, Protocol, Reply, ToldSite};
use crate::secret::Secret;

/// A hub.
struct WebSub {
    sender: Sender,
    hub: Secret,
}

/// Prepares to tell a hub.
pub(super) fn connect(settings: &EngineSettings, _site: &ToldSite<'_>) -> Result<Box<dyn Protocol>, StoreError> {
    Ok(Box::new(WebSub { sender: Sender::new(settings)?, hub: settings.endpoint.clone() }))
}

impl Protocol for WebSub {
    fn send(&self, message: &Message) -> Reply {
        self.sender.send(&publish(self.hub.expose(), message.url()))
    }
}
