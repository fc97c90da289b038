//! Being stopped: by Ctrl-C, by a service manager, by a terminal that is closed.
//!
//! A command is asked to stop, and ends as soon as it can: before anything is written, or after the message that is under way. While
//! a build puts files in their places it goes on to the end, which is near: so the old set of files is served, or the new one. A
//! second signal ends the process wherever it is; what is served stays whole, and the next build completes it.

use std::process;

use crate::exit::{Exit, NOTHING_WRITTEN};
use crate::session::Session;

/// Listens from now on.
pub fn listen(session: &Session) {
    let (screen, stop) = (session.screen.for_complaints(), session.stop.clone());
    let end = || process::exit(i32::from(Exit::Interrupted as u8));
    let heard = move || match (stop.ask(), stop.is_writing()) {
        (false, true) => {
            screen.complain("stopping", "once the files are in their places; once more to stop at once");
        }
        // Who heeds the token ends soon, and knows what there is to say.
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
    // Where a signal cannot be listened for, it ends the program as it always did, and the next build completes.
    let _ = ctrlc::set_handler(heard);
}
