//! The source `command`: a program of the user's that writes JSON Lines to its standard output, one object per entry.
//! It makes it possible to gather from anything that this tool does not know. If the program fails, the source fails.

use std::io::{self, Read};
use std::path::PathBuf;
use std::process::{Child, Command as Process, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use atlas_core::fingerprint;
use atlas_core::number::count;
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Source};
use atlas_store::stop::Stop;

use crate::reading::record::RecordSettings;
use crate::reading::rows::{RecordLayout, RecordUnit, RowInput, RowsError};
use crate::sources::failed;

/// How many bytes of the program's error output are shown.
const COMPLAINT: usize = 1000;
/// How many characters of the command line are shown.
const LONGEST_NAME: usize = 40;
/// How often a running program is checked.
const GLANCE: Duration = Duration::from_millis(20);

/// A program that yields entries.
#[derive(Debug, Clone)]
pub struct CommandSource {
    /// The program and its arguments. No shell is involved.
    pub run: Vec<String>,
    /// The folder it runs in.
    pub folder: PathBuf,
    /// How its records are read.
    pub records: RecordSettings,
    /// Its time limit.
    pub wait: Duration,
}

impl Source for CommandSource {
    fn name(&self) -> String {
        let words: Vec<&str> = self.run.iter().flat_map(|argument| argument.split_whitespace()).collect();
        let line = words.join(" ");
        match line.char_indices().nth(LONGEST_NAME) {
            // Command lines that differ only in what was cut off are still different sources.
            Some((end, _)) => format!("command {}… {:04x}", &line[..end], fingerprint::settings(&line) & 0xffff),
            None => format!("command {line}"),
        }
    }

    fn settings(&self) -> u64 {
        fingerprint::settings("")
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        self.watch(gathering).map_err(|why| failed(self.name(), why))
    }
}

impl CommandSource {
    fn watch(&self, gathering: &mut Gathering<'_>) -> Result<(), String> {
        let program = self.run.first().ok_or("there is no program in “run”")?;
        let mut process = Process::new(program);
        // In a process group of its own, so that everything the program has started can be stopped with it.
        #[cfg(unix)]
        std::os::unix::process::CommandExt::process_group(&mut process, 0);
        let mut child = process
            .args(&self.run[1..])
            .current_dir(&self.folder)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .map_err(|error| format!("cannot run “{program}”: {error}; correct “run” in the configuration"))?;
        let (stdout, stderr) = (child.stdout.take(), child.stderr.take());
        let shown = format!("output of {program}");
        let rows = RowInput {
            settings: &self.records,
            layout: RecordLayout::JsonLines,
            shown: &shown,
            unit: RecordUnit::Line,
        };
        let read_out = AtomicBool::new(false);
        let asked = gathering.stop();
        thread::scope(|scope| {
            let complaint = scope.spawn(|| stderr.map(last_words).unwrap_or_default());
            let ending = scope.spawn(|| self.look_after(&mut child, &read_out, asked));
            let read = stdout.map_or(Ok(()), |stdout| rows.gather(stdout, gathering));
            read_out.store(true, Ordering::Relaxed);
            let ended = ending.join().unwrap_or_else(|_| Err("it could not be monitored".to_owned()));
            let complaint = complaint.join().unwrap_or_default();
            let said = if complaint.is_empty() { String::new() } else { format!("; it said: {complaint}") };
            ended.map_err(|why| format!("{why}{said}"))?;
            read.map_err(|error| match error {
                RowsError::Read(error) => format!("its output cannot be read: {error}"),
                RowsError::Header(why) => why,
            })
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
                    return Err(format!("it ended with {status}, so its output is not trusted"));
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

/// The end of a program's error output, in one line. All of it is read, so that the program never blocks.
fn last_words(mut stderr: impl Read) -> String {
    let mut kept: Vec<u8> = Vec::new();
    let mut buffer = [0; 4096];
    while let Ok(length @ 1..) = read_some(&mut stderr, &mut buffer) {
        kept.extend_from_slice(&buffer[..length]);
        kept.drain(..kept.len().saturating_sub(COMPLAINT));
    }
    String::from_utf8_lossy(&kept).split_whitespace().collect::<Vec<_>>().join(" ")
}

fn read_some(reader: &mut impl Read, buffer: &mut [u8]) -> io::Result<usize> {
    loop {
        match reader.read(buffer) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            read => return read,
        }
    }
}
