//! Sending requests to engines, for all protocols.

use std::io;

use atlas_core::announce::{Answer, EngineRequest, Method};
use atlas_store::error::{Cause, StoreError};
use jiff::Timestamp;

use super::{EngineSettings, Reply};
use crate::http::{self, Fetched, retry_after};

/// Sends requests, one after the other.
pub(super) struct Sender {
    client: reqwest::Client,
    runtime: tokio::runtime::Runtime,
}

impl Sender {
    /// A sender with the time limit of an engine.
    pub(super) fn new(settings: &EngineSettings) -> Result<Self, StoreError> {
        let failed = |why: Cause| StoreError::Engine { name: settings.name.clone(), why };
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
        let runtime = runtime.map_err(|error: io::Error| failed(error.into()))?;
        let client = http::client(settings.wait).map_err(|error| failed(error.into()))?;
        Ok(Self { client, runtime })
    }

    /// Sends a request, without retries. The answer's body is not read.
    pub(super) fn send(&self, request: &EngineRequest) -> Reply {
        let method = match request.method {
            Method::Get => reqwest::Method::GET,
            Method::Post => reqwest::Method::POST,
            Method::Put => reqwest::Method::PUT,
            Method::Patch => reqwest::Method::PATCH,
            Method::Delete => reqwest::Method::DELETE,
        };
        let mut building = self.client.request(method, &request.url);
        for (name, value) in &request.headers {
            building = building.header(name, value);
        }
        if !request.body.is_empty() {
            building = building.body(request.body.clone());
        }
        match self.runtime.block_on(Fetched::of(building)) {
            Ok(answer) => {
                let pause = retry_after(answer.headers(), Timestamp::now());
                Reply { answer: Answer::Status(answer.status().as_u16()), pause }
            }
            Err(error) => Reply { answer: Answer::None(http::cause(&error)), pause: None },
        }
    }
}
