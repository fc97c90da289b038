//! Being stopped: by Ctrl-C, by a service manager, by a terminal that is closed.
//!
//! Until files are written, a command ends at once, and all is as it was. While a build puts files in their places it goes on
//! to the end, which is near: so the old set of files is served, or the new one. A second signal ends it all the same; what
//! is served stays whole, and the next build completes it.

use std::process::exit;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::exit::Exit;
use crate::screen::Screen;

/// What a shell expects of a command that was interrupted.
const INTERRUPTED: i32 = 130;

static WRITING: AtomicBool = AtomicBool::new(false);
static IS_THE_END: AtomicBool = AtomicBool::new(false);
static ASKED: AtomicBool = AtomicBool::new(false);

/// Listens from now on.
pub fn listen(screen: &Screen) {
    let screen = screen.for_complaints();
    let heard = move || {
        if IS_THE_END.load(Ordering::SeqCst) {
            exit(Exit::Done as i32);
        }
        if !WRITING.load(Ordering::SeqCst) {
            screen.complain("stopped", "nothing was written; what is served is as it was");
            exit(INTERRUPTED);
        }
        if ASKED.swap(true, Ordering::SeqCst) {
            screen.complain("stopped", "some files are new and some are not; run idle-atlas build to complete them");
            exit(INTERRUPTED);
        }
        screen.complain("stopping", "once the files are in their places; once more to stop at once");
    };
    // Where a signal cannot be listened for, it ends the program as it always did, and the next build completes.
    let _ = ctrlc::set_handler(heard);
}

/// From now on, to be stopped is how the command ends.
pub fn is_the_end() {
    IS_THE_END.store(true, Ordering::SeqCst);
}

/// Files are put in their places from now on.
pub fn begins_to_write() {
    WRITING.store(true, Ordering::SeqCst);
}

/// All files are in their places. Ends the program where that was asked for meanwhile.
pub fn has_written(exit_code: Exit) {
    WRITING.store(false, Ordering::SeqCst);
    if ASKED.load(Ordering::SeqCst) {
        exit(if exit_code == Exit::NotDone { exit_code as i32 } else { INTERRUPTED });
    }
}
