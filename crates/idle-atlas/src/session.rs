//! What a command has around it: the screen, the clock, and the token by which it is asked to stop.

use std::sync::Arc;

use atlas_store::clock::{Clock, SystemClock};
use atlas_store::stop::Stop;
use jiff::Timestamp;

use crate::screen::Screen;

/// What a command has around it.
#[derive(Clone)]
pub struct Session {
    pub screen: Screen,
    pub clock: Arc<dyn Clock>,
    pub stop: Stop,
}

impl Session {
    /// With the clock of the machine, or the instant that `SOURCE_DATE_EPOCH` names in its place.
    pub fn new(screen: Screen) -> Self {
        let fixed = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|text| text.trim().parse().ok());
        Self { screen, clock: Arc::new(SystemClock::new(fixed)), stop: Stop::default() }
    }

    /// The same with another screen.
    pub fn on(&self, screen: Screen) -> Self {
        Self { screen, ..self.clone() }
    }

    /// The instant.
    pub fn now(&self) -> Timestamp {
        self.clock.now()
    }
}
