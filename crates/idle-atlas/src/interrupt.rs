//! Interrupts: Ctrl-C, a service manager, or a terminal that is closed.
//!
//! A command is asked to stop and ends as soon as it can: before anything is written, or after the message under way.
//! While a build moves files into place it goes on to the end, which is near, so that either the old set of files is
//! served or the new one. A second signal ends the process wherever it is. What is served stays complete, and the next
//! build finishes the work.

use std::process;

use crate::exit::{Exit, NOTHING_WRITTEN};
use crate::session::Session;

/// Starts to listen for signals.
pub fn listen(session: &Session) {
    let (screen, stop) = (session.screen.for_complaints(), session.stop.clone());
    let end = || process::exit(i32::from(Exit::Interrupted as u8));
    let heard = move || match (stop.ask(), stop.is_writing()) {
        (false, true) => {
            screen.complain("stopping", "once the files are in place; once more to stop immediately");
        }
        // Whoever checks the token will end soon, and report it.
        (false, false) if stop.is_heeded() => {}
        (_, false) => {
            screen.complain("stopped", NOTHING_WRITTEN);
            end()
        }
        (true, true) => {
            screen.complain("stopped", "some files are new and some are not; run idle-atlas build to complete them");
            end()
        }
    };
    // If signals cannot be handled, they end the program as usual, and the next build finishes the work.
    let _ = ctrlc::set_handler(heard);
}
