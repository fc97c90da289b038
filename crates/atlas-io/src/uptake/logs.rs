//! Reading access logs on all cores.
//!
//! A plain file is cut into blocks, which any thread may read; a compressed one is read by one thread, side by side with
//! others. A log that was read before is continued behind its last line, by whatever name it goes now.

use std::fs::File;
use std::io::{self, Read};
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
use std::sync::{Mutex, PoisonError};
use std::thread;

use atlas_core::fingerprint;
use atlas_store::stop::Stop;
use atlas_store::uptake::{CountedLines, LogMark, LogsRead, Visits, Worker};
use memchr::{memchr, memrchr};

use super::file::{UptakeFile, read_exact_at};
use super::form::LogSyntax;

/// How much of a plain file a thread reads at once.
const BLOCK: usize = 2 << 20;
/// How much of a compressed file is read at once.
const PIECE: usize = 1 << 18;
/// A longer line is no request.
const LONGEST_LINE: usize = 1 << 16;

/// What came of reading a log.
#[derive(Debug, Default)]
pub struct LogReading {
    /// How many of its bytes had been read before, unpacked.
    pub known: u64,
    /// Why it could not be read to its end; what came before counts.
    pub trouble: Option<String>,
    /// How far it has been read.
    pub mark: Option<LogMark>,
}

/// A log, and where to begin.
struct OpenLog<'f> {
    file: &'f UptakeFile,
    form: &'f LogSyntax,
    /// Where to begin, and the end of its last whole line, of a plain file.
    range: (u64, u64),
    first_line: u64,
    /// Marks of the same log, the furthest first.
    marks: Vec<LogMark>,
}

/// A part of the work.
enum Task {
    /// A block of a plain file: which log, and where it begins.
    Block(usize, u64),
    /// A whole compressed file.
    Stream(usize),
}

/// Reads logs and counts their lines. Returns what came of each, and what is to be added to the visits.
///
/// # Errors
///
/// Returns an error if a file cannot be read at all.
pub fn read_logs(
    files: &[(UptakeFile, LogSyntax)],
    visits: &Visits<'_>,
    stop: &Stop,
    progress: &(dyn Fn(u64) + Sync),
) -> io::Result<(Vec<LogReading>, Vec<CountedLines>)> {
    let logs = files.iter().map(|(file, form)| OpenLog::open(file, form, &visits.logs));
    let mut logs: Vec<OpenLog<'_>> = logs.collect::<io::Result<_>>()?;
    leave_out_copies(&mut logs)?;
    let mut readings: Vec<LogReading> = logs.iter().map(OpenLog::begin).collect();
    let mut tasks: Vec<Task> = Vec::new();
    tasks.extend((0..logs.len()).filter(|at| logs[*at].file.plain().is_none()).map(Task::Stream));
    for (at, log) in logs.iter().enumerate().filter(|(_, log)| log.file.plain().is_some()) {
        let (begin, end) = log.range;
        tasks.extend((begin..end).step_by(BLOCK).map(|offset| Task::Block(at, offset)));
    }
    let next = AtomicUsize::new(0);
    let streams: Mutex<Vec<(usize, LogReading)>> = Mutex::default();
    let failed: Mutex<Option<io::Error>> = Mutex::default();
    let work = || {
        let mut worker = visits.worker();
        let mut buffer = Vec::new();
        while let Some(task) = tasks.get(next.fetch_add(1, Relaxed)).filter(|_| !stop.is_asked()) {
            match task {
                Task::Block(at, offset) => {
                    if let Err(error) = logs[*at].block(*offset, &mut buffer, &mut worker) {
                        *failed.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
                    }
                    progress(BLOCK as u64);
                }
                Task::Stream(at) => {
                    let reading = logs[*at].stream(&mut worker, stop, progress);
                    streams.lock().unwrap_or_else(PoisonError::into_inner).push((*at, reading));
                }
            }
        }
        worker.done()
    };
    let threads = thread::available_parallelism().map_or(1, usize::from);
    let counted: Vec<CountedLines> = thread::scope(|scope| {
        let running: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
        running.into_iter().filter_map(|one| one.join().ok()).collect()
    });
    if counted.len() < threads {
        return Err(io::Error::other("a thread that read logs has ended early"));
    }
    if let Some(error) = failed.into_inner().unwrap_or_else(PoisonError::into_inner) {
        return Err(error);
    }
    for (at, reading) in streams.into_inner().unwrap_or_else(PoisonError::into_inner) {
        readings[at] = reading;
    }
    Ok((readings, counted))
}

/// Of plain files that are the same log, only the longest is read.
fn leave_out_copies(logs: &mut [OpenLog<'_>]) -> io::Result<()> {
    for at in 0..logs.len() {
        for other in 0..logs.len() {
            let (one, longer) = (&logs[at], &logs[other]);
            let (Some(plain), Some(other_plain)) = (one.file.plain(), longer.file.plain()) else { continue };
            let (end, longer_end) = (one.range.1, longer.range.1);
            let is_shorter = end < longer_end || (end == longer_end && at > other);
            let is_copy = is_shorter
                && one.first_line == longer.first_line
                && before(plain, end, LogMark::END)? == before(other_plain, end, LogMark::END)?;
            if is_copy {
                logs[at].range.0 = end;
            }
        }
    }
    Ok(())
}

/// The bytes before an offset, at most so many.
fn before(plain: &File, offset: u64, most: usize) -> io::Result<Vec<u8>> {
    let length = offset.min(most as u64);
    let mut bytes = vec![0; length as usize];
    read_exact_at(plain, &mut bytes, offset - length)?;
    Ok(bytes)
}

/// A fingerprint of the end of what was read.
fn print_of_end(read: &[u8]) -> u64 {
    fingerprint::row(&read[read.len().saturating_sub(LogMark::END)..])
}

impl<'f> OpenLog<'f> {
    fn open(file: &'f UptakeFile, form: &'f LogSyntax, read: &LogsRead) -> io::Result<Self> {
        let end = memchr(b'\n', &file.head).unwrap_or(file.head.len());
        let first_line = fingerprint::row(&file.head[..end]);
        let mut log = Self { file, form, range: (0, 0), first_line, marks: read.marks_of(first_line) };
        if let Some(plain) = file.plain() {
            let length = plain.metadata()?.len();
            log.range = (log.known(plain, length)?, log.end(plain, length)?);
        }
        Ok(log)
    }

    /// How much of a plain file is known.
    fn known(&self, plain: &File, length: u64) -> io::Result<u64> {
        for mark in self.marks.iter().filter(|mark| mark.bytes <= length) {
            if print_of_end(&before(plain, mark.bytes, LogMark::END)?) == mark.end {
                return Ok(mark.bytes);
            }
        }
        Ok(0)
    }

    /// Where the last line of a plain file ends that is whole. A last line without an end may still be being written: it
    /// is whole if it can be read.
    fn end(&self, plain: &File, length: u64) -> io::Result<u64> {
        let tail = before(plain, length, LONGEST_LINE)?;
        let after = memrchr(b'\n', &tail).map_or(0, |at| at + 1);
        let last = &tail[after..];
        let is_whole = last.is_empty() || self.form.clone().read(last, |_| ());
        Ok(if is_whole || after == 0 { length } else { length - last.len() as u64 })
    }

    /// What is known before it is read.
    fn begin(&self) -> LogReading {
        let Some(plain) = self.file.plain() else { return LogReading::default() };
        let (known, end) = self.range;
        let last = before(plain, end, LogMark::END).ok();
        let mark = last.map(|last| LogMark { first_line: self.first_line, bytes: end, end: print_of_end(&last) });
        LogReading { known, trouble: None, mark }
    }

    /// Reads the lines that begin in a block.
    fn block(&self, offset: u64, buffer: &mut Vec<u8>, worker: &mut Worker<'_>) -> io::Result<()> {
        let Some(plain) = self.file.plain() else { return Ok(()) };
        let (begin, end) = self.range;
        // With the byte before it, which tells whether a line begins here.
        let from = if offset > begin { offset - 1 } else { offset };
        let length = (end - from).min((BLOCK + LONGEST_LINE) as u64) as usize;
        buffer.resize(length, 0);
        read_exact_at(plain, buffer, from)?;
        let mut at = match offset > begin {
            true => match memchr(b'\n', buffer) {
                Some(newline) => newline + 1,
                None => return Ok(()),
            },
            false => 0,
        };
        let ends = (offset - from) as usize + BLOCK;
        let mut form = self.form.clone();
        while at < buffer.len().min(ends) {
            let rest = &buffer[at..];
            let length = memchr(b'\n', rest);
            let line = &rest[..length.unwrap_or(rest.len())];
            let is_cut = length.is_none() && from + (buffer.len() as u64) < end;
            if is_cut || line.len() > LONGEST_LINE {
                worker.broken();
            } else {
                take(&mut form, line, worker);
            }
            at += line.len() + 1;
        }
        Ok(())
    }

    /// Reads a compressed file.
    fn stream(&self, worker: &mut Worker<'_>, stop: &Stop, progress: &(dyn Fn(u64) + Sync)) -> LogReading {
        let (known, mut reader) = match self.continued() {
            Ok(opened) => opened,
            Err(error) => return LogReading { trouble: Some(error.to_string()), ..LogReading::default() },
        };
        let mut form = self.form.clone();
        let mut reading = LogReading { known, ..LogReading::default() };
        let (mut buffer, mut held, mut done) = (vec![0; PIECE + LONGEST_LINE], 0, known);
        let (mut last, mut too_long) = (Vec::new(), false);
        while !stop.is_asked() {
            let read = match reader.read(&mut buffer[held..]) {
                Ok(read) => read,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => {
                    reading.trouble = Some(error.to_string());
                    break;
                }
            };
            held += read;
            let is_end = read == 0;
            let whole = match memrchr(b'\n', &buffer[..held]) {
                _ if is_end => held,
                Some(at) => at + 1,
                None if held > LONGEST_LINE => held,
                None => continue,
            };
            let mut rest = &buffer[..whole];
            while !rest.is_empty() {
                let length = memchr(b'\n', rest);
                let line = &rest[..length.unwrap_or(rest.len())];
                match (std::mem::replace(&mut too_long, length.is_none() && !is_end), length) {
                    // The rest of a line that is counted already.
                    (true, _) => {}
                    (false, None) if !is_end => worker.broken(),
                    (false, _) if line.len() > LONGEST_LINE => worker.broken(),
                    (false, _) => take(&mut form, line, worker),
                }
                rest = &rest[(line.len() + 1).min(rest.len())..];
            }
            progress(whole as u64);
            done += whole as u64;
            last.extend_from_slice(&buffer[..whole]);
            last.drain(..last.len().saturating_sub(LogMark::END));
            buffer.copy_within(whole..held, 0);
            held -= whole;
            if is_end {
                break;
            }
        }
        // What was counted is counted, even if the rest cannot be read.
        if !stop.is_asked() {
            let known_end = if done - known >= LogMark::END as u64 { None } else { self.end_before(known) };
            let end = [known_end.unwrap_or_default(), last].concat();
            reading.mark = Some(LogMark { first_line: self.first_line, bytes: done, end: print_of_end(&end) });
        }
        reading
    }

    /// A reader behind what is known of a compressed file.
    fn continued(&self) -> io::Result<(u64, Box<dyn Read + Send>)> {
        for mark in &self.marks {
            let mut reader = self.file.reader()?;
            let before = mark.bytes.saturating_sub(LogMark::END as u64);
            if io::copy(&mut (&mut reader).take(before), &mut io::sink())? < before {
                continue;
            }
            let mut end = Vec::new();
            (&mut reader).take(mark.bytes - before).read_to_end(&mut end)?;
            if end.len() as u64 == mark.bytes - before && print_of_end(&end) == mark.end {
                return Ok((mark.bytes, reader));
            }
        }
        Ok((0, self.file.reader()?))
    }

    /// The bytes before an offset in a compressed file, as far as the fingerprint of an end covers them.
    fn end_before(&self, offset: u64) -> Option<Vec<u8>> {
        let mut reader = self.file.reader().ok()?;
        let before = offset.saturating_sub(LogMark::END as u64);
        io::copy(&mut (&mut reader).take(before), &mut io::sink()).ok()?;
        let mut end = Vec::new();
        reader.take(offset - before).read_to_end(&mut end).ok()?;
        Some(end)
    }
}

/// Counts one line.
fn take(form: &mut LogSyntax, line: &[u8], worker: &mut Worker<'_>) {
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    if !line.is_empty() && !form.read(line, |line| worker.line(line)) {
        worker.broken();
    }
}
