//! Running a command in a process of its own, so that the memory of a round goes back to the system, and whatever may end a
//! round does not end the process that watches.

use std::io::{self, Read};
use std::process::{Child, Command, Output, Stdio};
use std::thread;
use std::time::Duration;

use atlas_store::stop::Stop;

/// How often a running process is looked at.
const GLANCE: Duration = Duration::from_millis(5);

/// Runs a command to its end and returns its outputs. If it is asked to stop, it asks the process to end, and gives it the
/// time that it needs.
///
/// # Errors
///
/// Returns an error if the process cannot be started or waited for.
pub fn run_to_end(command: &mut Command, stop: &Stop) -> io::Result<Output> {
    let mut child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn()?;
    let (stdout, stderr) = (child.stdout.take(), child.stderr.take());
    thread::scope(|scope| {
        let stdout = scope.spawn(|| whole(stdout));
        let stderr = scope.spawn(|| whole(stderr));
        let mut is_asked = false;
        let status = loop {
            if let Some(status) = child.try_wait()? {
                break status;
            }
            if stop.is_asked() && !std::mem::replace(&mut is_asked, true) {
                ask_to_end(&mut child);
            }
            thread::sleep(GLANCE);
        };
        let read = |output: thread::ScopedJoinHandle<'_, Vec<u8>>| output.join().unwrap_or_default();
        Ok(Output { status, stdout: read(stdout), stderr: read(stderr) })
    })
}

/// The whole of an output, as far as it can be read.
fn whole(output: Option<impl Read>) -> Vec<u8> {
    let mut bytes = Vec::new();
    if let Some(mut output) = output {
        // What was read before an error counts.
        let _ = output.read_to_end(&mut bytes);
    }
    bytes
}

/// Asks a process to end, as a service manager does.
fn ask_to_end(child: &mut Child) {
    #[cfg(unix)]
    {
        // This fails only if it has already ended.
        let _ = rustix::process::kill_process(rustix::process::Pid::from_child(child), rustix::process::Signal::TERM);
    }
    #[cfg(not(unix))]
    {
        let _ = child.kill();
    }
}

#[cfg(all(test, unix))]
mod tests {
    use std::time::Instant;

    use super::*;

    fn shell(script: &str) -> Command {
        let mut command = Command::new("sh");
        command.args(["-c", script]);
        command
    }

    #[test]
    fn both_outputs_are_read() {
        let script = "yes lamp | head -c 300000; yes oil | head -c 300000 >&2; exit 3";
        let output = run_to_end(&mut shell(script), &Stop::default()).unwrap();
        assert_eq!((output.stdout.len(), output.stderr.len(), output.status.code()), (300_000, 300_000, Some(3)));
        assert!(run_to_end(&mut Command::new("/nowhere"), &Stop::default()).is_err());
    }

    #[test]
    fn a_process_may_end_in_its_own_time() {
        let stop = Stop::default();
        stop.ask();
        let script = "trap 'echo ended; exit 0' TERM; for i in 1 2 3 4 5 6 7 8 9; do sleep 0.1; done; sleep 0.1 & wait";
        let begin = Instant::now();
        let output = run_to_end(&mut shell(script), &stop).unwrap();
        assert!(begin.elapsed() < Duration::from_secs(5));
        // The shell may have been asked before it could set its trap.
        assert!(output.stdout == b"ended\n" || output.status.code().is_none(), "{output:?}");
    }
}
