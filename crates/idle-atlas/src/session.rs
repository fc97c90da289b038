//! The session of a command: its screen, its clock, and the token that asks it to stop.

use std::io::{IsTerminal, stdin, stdout};
use std::sync::Arc;

use atlas_store::clock::{Clock, SystemClock};
use atlas_store::model::StartedBy;
use atlas_store::stop::Stop;
use jiff::Timestamp;

use crate::screen::Screen;

/// The session of a command.
#[derive(Clone)]
pub struct Session {
    pub screen: Screen,
    pub clock: Arc<dyn Clock>,
    pub stop: Stop,
}

/// The environment variable by which `watch` tells a round what started it.
pub const STARTED_BY: &str = "IDLE_ATLAS_STARTED_BY";

impl Session {
    /// A session with the machine's clock, or the instant in `SOURCE_DATE_EPOCH`.
    pub fn new(screen: Screen) -> Self {
        let fixed = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|text| text.trim().parse().ok());
        Self { screen, clock: Arc::new(SystemClock::new(fixed)), stop: Stop::default() }
    }

    /// The same session with another screen.
    pub fn on(&self, screen: Screen) -> Self {
        Self { screen, ..self.clone() }
    }

    /// What started this command, as far as its surroundings tell.
    pub fn started_by() -> StartedBy {
        if let Some(by) = std::env::var(STARTED_BY).ok().and_then(|word| StartedBy::of_word(&word)) {
            return by;
        }
        // Set by systemd for everything that its units start.
        if std::env::var_os("INVOCATION_ID").is_some() && !stdout().is_terminal() {
            return StartedBy::Unit;
        }
        if stdin().is_terminal() || stdout().is_terminal() { StartedBy::Hand } else { StartedBy::Program }
    }

    /// The current instant.
    pub fn now(&self) -> Timestamp {
        self.clock.now()
    }
}
