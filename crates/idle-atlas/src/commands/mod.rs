//! The commands, one per file. Each does its work through the libraries and passes the result to its view.

pub mod announce;
pub mod build;
pub mod check;
pub mod history;
pub mod init;
pub mod survey;
#[cfg(feature = "test-engine")]
pub mod test_engine;
pub mod why;
#[cfg(feature = "test-engine")]
pub mod demo;

use std::thread;
use std::time::{Duration, Instant};

use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger};

use crate::config::Settings;
use crate::screen::Screen;

/// How long to wait for a ledger that another command is using.
const PATIENCE: Duration = Duration::from_secs(60);

/// Opens the ledger of a site. If it is busy, says so and waits.
fn open_ledger(settings: &Settings, screen: &Screen) -> Result<Box<dyn Ledger>, StoreError> {
    let started = Instant::now();
    let mut told = false;
    loop {
        match ledger::open(&settings.ledger) {
            Err(StoreError::Busy { .. }) if started.elapsed() < PATIENCE => {
                if !std::mem::replace(&mut told, true) {
                    let seconds = PATIENCE.as_secs();
                    let message = format!("another idle-atlas is working on this site; for {seconds} seconds at most");
                    screen.complain("waiting", &message);
                }
                thread::sleep(Duration::from_millis(100));
            }
            opened => return opened,
        }
    }
}
