//! Calls by template: whatever request an interface wants.

use std::fmt;
use std::sync::{Mutex, PoisonError};

use atlas_core::announce::http_call::{CallFor, CallTemplate, CallValues};
use atlas_core::announce::{Answer, Change, EngineRequest, Then};
use atlas_store::error::StoreError;
use atlas_store::model::Pending;
use atlas_store::stop::Stop;

use super::sender::Sender;
use super::{EngineSettings, Message, Protocol, Reply, ToldSite};
use crate::program::{Program, ProgramInput};
use crate::secret::Secret;

/// The longest token in bytes.
const LONGEST_TOKEN: usize = 16 << 10;

/// The settings of a call.
#[derive(Clone)]
pub struct CallSettings {
    /// Its template. What came from the environment is in it.
    pub template: CallTemplate,
    /// The command whose output is the token.
    pub token: Option<Program>,
}

impl fmt::Debug for CallSettings {
    /// Without the template, which may contain secrets.
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.debug_struct("CallSettings").field("each", &self.template.each).finish_non_exhaustive()
    }
}

/// An interface that is called.
struct HttpCall {
    sender: Sender,
    endpoint: Secret,
    call: CallSettings,
    main: String,
    host: String,
    stop: Stop,
    /// The token, once the command has made it.
    token: Mutex<Option<String>>,
}

/// Prepares to call an interface.
pub(super) fn connect(settings: &EngineSettings, site: &ToldSite<'_>) -> Result<Box<dyn Protocol>, StoreError> {
    let failed = |why: &str| StoreError::Engine { name: settings.name.clone(), why: why.into() };
    let call = settings.call.clone().ok_or_else(|| failed("it has no template"))?;
    Ok(Box::new(HttpCall {
        sender: Sender::new(settings)?,
        endpoint: settings.endpoint.clone(),
        call,
        main: site.names.main_address(),
        host: site.site.root().host().to_owned(),
        stop: site.stop.clone(),
        token: Mutex::new(None),
    }))
}

impl HttpCall {
    fn request(&self, message: &Message, token: &str) -> EngineRequest {
        let about: Vec<(&str, Change)> = message.about.iter().map(|one| (one.url.as_str(), one.change)).collect();
        let values = CallValues { about: &about, main: &self.main, host: &self.host, token };
        self.call.template.request(self.endpoint.expose(), values)
    }

    /// The token: what the command prints, without white space around it. It is asked once for all calls.
    fn token(&self) -> Result<String, String> {
        let Some(command) = &self.call.token else { return Ok(String::new()) };
        let mut known = self.token.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(token) = &*known {
            return Ok(token.clone());
        }
        let output = command.output(ProgramInput::default(), &self.stop);
        let output = output.map_err(|why| format!("token_command: {why}"))?;
        let text = String::from_utf8_lossy(&output).trim().to_owned();
        if text.is_empty() || text.len() > LONGEST_TOKEN || text.contains(char::is_control) {
            return Err("token_command: expected the token alone, in one line".to_owned());
        }
        Ok(known.insert(text).clone())
    }
}

impl Protocol for HttpCall {
    fn messages(&self, pending: &[Pending]) -> Vec<Message> {
        let CallTemplate { each, most_urls, .. } = self.call.template;
        let at_a_time = if each == CallFor::Batch { most_urls.max(1) } else { 1 };
        pending.chunks(at_a_time).map(|some| Message { about: some.to_vec() }).collect()
    }

    fn send(&self, message: &Message) -> Reply {
        let send = || match self.token() {
            Ok(token) => self.sender.send(&self.request(message, &token)),
            Err(why) => Reply { answer: Answer::None(why), pause: None },
        };
        let reply = send();
        if reply.answer != Answer::Status(401) || self.call.token.is_none() {
            return reply;
        }
        // The token may have run out: the next one is asked for once.
        *self.token.lock().unwrap_or_else(PoisonError::into_inner) = None;
        send()
    }

    fn then(&self, answer: &Answer) -> Then {
        self.call.template.then(answer)
    }
}
