//! IndexNow: engines are sent changed URLs, up to 10,000 in a message.

use std::io;

use atlas_core::address::Site;
use atlas_core::announce::Answer;
use atlas_core::announce::indexnow::{Key, messages};
use atlas_store::error::{Cause, StoreError};
use jiff::Timestamp;

use super::{EngineSettings, Message, Protocol, Reply};
use crate::http::{self, Fetched, retry_after};
use crate::secret::Secret;

/// An IndexNow endpoint.
struct IndexNow {
    client: reqwest::Client,
    runtime: tokio::runtime::Runtime,
    endpoint: Secret,
    key: Key,
    /// The address of the key file.
    key_location: String,
}

/// Prepares to tell an engine.
pub(super) fn connect(
    settings: &EngineSettings,
    site: &Site,
    key: Option<&Key>,
) -> Result<Box<dyn Protocol>, StoreError> {
    let failed = |why: Cause| StoreError::Engine { name: settings.name.clone(), why };
    let key = key.ok_or_else(|| failed("it has no key".into()))?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(|error: io::Error| failed(error.into()))?;
    let client = http::client(settings.wait).map_err(|error| failed(error.into()))?;
    let key_location = site.of_file(&key.file_name()).as_str().to_owned();
    let endpoint = settings.endpoint.clone();
    Ok(Box::new(IndexNow { client, runtime, endpoint, key: key.clone(), key_location }))
}

impl Protocol for IndexNow {
    fn messages(&self, pending: &[String]) -> Vec<Message> {
        let messages = messages(&self.key, &self.key_location, pending).into_iter();
        let written = messages
            .map(|message| Message { body: serde_json::to_vec(&message).unwrap_or_default(), about: message.url_list });
        written.collect()
    }

    fn send(&self, message: &Message) -> Reply {
        let request =
            self.client.post(self.endpoint.expose()).header("content-type", "application/json; charset=utf-8");
        match self.runtime.block_on(Fetched::of(request.body(message.body.clone()))) {
            Ok(answer) => {
                let pause = retry_after(answer.headers(), Timestamp::now());
                Reply { answer: Answer::Status(answer.status().as_u16()), pause }
            }
            Err(error) => Reply { answer: Answer::None(http::cause(&error)), pause: None },
        }
    }
}
