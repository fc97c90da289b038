//! Programs of the user's: sources, tokens, and what is to happen around a build. Each runs in a process group of its
//! own, under a time limit, and everything that it has started ends with it.

use std::io::{self, Read, Write};
use std::path::PathBuf;
use std::process::{Child, ChildStdout, Command as Process, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use atlas_core::number::count;
use atlas_store::stop::Stop;

/// How many bytes of the program's error output are shown.
const COMPLAINT: usize = 1000;
/// How many bytes of output are kept, if not all of it is needed.
const OUTPUT: usize = 64 << 10;
/// How many characters of the command line are shown.
const LONGEST_SHOWN: usize = 40;
/// How often a running program is checked.
const GLANCE: Duration = Duration::from_millis(20);

/// A program with its arguments. No shell is involved.
#[derive(Debug, Clone)]
pub struct Program {
    /// The program and its arguments.
    pub run: Vec<String>,
    /// The folder it runs in.
    pub folder: PathBuf,
    /// Its time limit.
    pub wait: Duration,
}

/// What a program is given.
#[derive(Debug, Clone, Copy, Default)]
pub struct ProgramInput<'a> {
    /// Its standard input.
    pub text: &'a [u8],
    /// Environment variables besides those of this process.
    pub variables: &'a [(&'a str, &'a str)],
}

impl Program {
    /// The command line, in one line.
    pub fn line(&self) -> String {
        let words: Vec<&str> = self.run.iter().flat_map(|argument| argument.split_whitespace()).collect();
        words.join(" ")
    }

    /// The beginning of the command line, for messages.
    pub fn shown(&self) -> String {
        let line = self.line();
        match line.char_indices().nth(LONGEST_SHOWN) {
            Some((end, _)) => format!("{}…", &line[..end]),
            None => line,
        }
    }

    /// Runs the program and returns its output, of which the last 64 KiB are kept.
    ///
    /// # Errors
    ///
    /// Returns why it failed, in words: it cannot be started, ends with an error, or takes too long.
    pub fn output(&self, input: ProgramInput<'_>, stop: &Stop) -> Result<Vec<u8>, String> {
        self.watch(input, stop, |stdout| Ok(stdout.map(|stdout| last_bytes(stdout, OUTPUT)).unwrap_or_default()))
    }

    /// Runs the program; `read` reads its output while it runs.
    ///
    /// # Errors
    ///
    /// Returns why the program failed, or else the error of `read`.
    pub(crate) fn watch<T>(
        &self,
        input: ProgramInput<'_>,
        stop: &Stop,
        read: impl FnOnce(Option<ChildStdout>) -> Result<T, String>,
    ) -> Result<T, String> {
        // A stop ends the program, and then the command.
        stop.heed();
        let program = self.run.first().ok_or("there is no program in “run”")?;
        let mut process = Process::new(program);
        // In a process group of its own, so that everything the program has started can be stopped with it.
        #[cfg(unix)]
        std::os::unix::process::CommandExt::process_group(&mut process, 0);
        let mut child = process
            .args(&self.run[1..])
            .current_dir(&self.folder)
            .envs(input.variables.iter().copied())
            .stdin(if input.text.is_empty() { Stdio::null() } else { Stdio::piped() })
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .map_err(|error| format!("cannot run “{program}”: {error}; correct “run” in the configuration"))?;
        let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
        let read_out = AtomicBool::new(false);
        thread::scope(|scope| {
            // A program need not read its input.
            scope.spawn(|| stdin.map(|mut stdin| stdin.write_all(input.text)));
            let complaint = scope.spawn(|| stderr.map(last_words).unwrap_or_default());
            let ending = scope.spawn(|| self.look_after(&mut child, &read_out, stop));
            let read = read(stdout);
            read_out.store(true, Ordering::Relaxed);
            let ended = ending.join().unwrap_or_else(|_| Err("it could not be monitored".to_owned()));
            let complaint = complaint.join().unwrap_or_default();
            let said = if complaint.is_empty() { String::new() } else { format!("; it said: {complaint}") };
            ended.map_err(|why| format!("{why}{said}"))?;
            read
        })
    }

    /// Waits until the program has ended and its output is read, up to the time limit. What it has started may keep the
    /// output open when it has ended itself.
    fn look_after(&self, child: &mut Child, read_out: &AtomicBool, asked: &Stop) -> Result<(), String> {
        let started = Instant::now();
        let mut ended = None;
        loop {
            let is_read = read_out.load(Ordering::Relaxed);
            match ended.map_or_else(|| child.try_wait(), |status| Ok(Some(status))) {
                Ok(Some(status)) if !status.success() => {
                    stop(child);
                    return Err(format!("it ended with {status}"));
                }
                Ok(Some(_)) if is_read => return Ok(()),
                Ok(status) => ended = status,
                Err(error) => {
                    stop(child);
                    return Err(format!("it could not be waited for: {error}"));
                }
            }
            if started.elapsed() > self.wait {
                stop(child);
                let limit = count(self.wait.as_secs(), "second", "seconds");
                return Err(match ended {
                    Some(_) => format!(
                        "it ended, but left a program running that kept its output open for longer than {limit} (wait_seconds); both were stopped"
                    ),
                    None => format!("it took longer than {limit} (wait_seconds) and was stopped"),
                });
            }
            if asked.is_asked() {
                stop(child);
                return Err("it was stopped".to_owned());
            }
            // Checked often near the end, and rarely before.
            thread::sleep(if is_read { GLANCE / 10 } else { GLANCE });
        }
    }
}

/// Kills a program and everything it has started, any of which could keep its output open.
fn stop(child: &mut Child) {
    #[cfg(unix)]
    {
        let group = rustix::process::Pid::from_child(child);
        // This fails only if the program has already ended.
        let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
    }
    let _ = child.kill();
    let _ = child.wait();
}

/// The end of a program's error output, in one line.
fn last_words(stderr: impl Read) -> String {
    let kept = last_bytes(stderr, COMPLAINT);
    String::from_utf8_lossy(&kept).split_whitespace().collect::<Vec<_>>().join(" ")
}

/// The end of an output. All of it is read, so that the program never blocks.
fn last_bytes(mut output: impl Read, most: usize) -> Vec<u8> {
    let mut kept: Vec<u8> = Vec::new();
    let mut buffer = [0; 4096];
    while let Ok(length @ 1..) = read_some(&mut output, &mut buffer) {
        kept.extend_from_slice(&buffer[..length]);
        kept.drain(..kept.len().saturating_sub(most));
    }
    kept
}

fn read_some(reader: &mut impl Read, buffer: &mut [u8]) -> io::Result<usize> {
    loop {
        match reader.read(buffer) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            read => return read,
        }
    }
}
