//! Recalling: a lost ledger is rebuilt from the site's own sitemaps, so that entries stay in their files, dates stay
//! what they were, and nothing is announced again.
//!
//! The sitemaps do not record what the pages said, so the next build takes what a recalled entry says now for what it
//! said then.

use std::collections::{BTreeMap, HashSet};
use std::io;
use std::path::Path;

use atlas_core::choose::DEFAULT_SECTION;
use atlas_core::fingerprint;
use atlas_core::format::{Document, Frame, RawUrl, URL_END, read};
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::{
    CHILD_PREFIX, FileKind, Limits, MOST_BYTES, MOST_URLS, is_further_index, is_packed, parts_of, plain_name,
};
use jiff::tz::TimeZone;
use rayon::prelude::*;
use serde::Serialize;

use super::job::Job;
use crate::arrange::SEGMENT;
use crate::destination::{Destination, Names};
use crate::disk::segmented_gzip::{SegmentCompressor, unpack};
use crate::error::StoreError;
use crate::guard::is_ours;
use crate::ledger::{Ledger, Writing};
use crate::model::{
    ContentCounts, Fact, FileDigest, NEVER, OnDisk, OutputRow, RememberedEntry, RunCounts, RunRow, facts_of,
};

/// How many files are read at a time.
const AT_ONCE: usize = 4;

/// The result of recalling.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Recalled {
    /// The number of sitemap files.
    pub files: u64,
    /// The number of entries in them.
    pub entries: u64,
    /// Files that this tool did not write, or that were changed since. Their entries will be placed anew.
    pub passed_over: Vec<String>,
}

/// A sitemap file that was read back.
struct ReadBackFile {
    section: String,
    kind: FileKind,
    number: u32,
    changed: i64,
    crc: u32,
    size: u64,
    /// Its elements, one after the other, and their contents.
    text: Vec<u8>,
    urls: Vec<RawUrl<'static>>,
}

/// Fills a ledger without runs from the existing sitemaps; `fetch` reads a file beside the main file by name. Returns
/// `None` if there is nothing to recall: no main file, one by another tool, or a ledger that knows more.
///
/// # Errors
///
/// Returns an error if `fetch` fails, a sitemap file is malformed, or the ledger cannot be written.
pub fn recall(
    job: &Job<'_>,
    ledger: &mut dyn Ledger,
    fetch: impl Fn(&str) -> Result<Option<Vec<u8>>, StoreError>,
) -> Result<Option<Recalled>, StoreError> {
    if ledger.last_run()? > 0 || ledger.is_planned()? {
        return Ok(None);
    }
    let names = job.names;
    let mut recalled = Recalled { files: 0, entries: 0, passed_over: Vec::new() };
    let mut children = BTreeMap::new();
    let (mut form, mut alone) = (None, None);
    for nth in 1.. {
        let name = names.index_names(nth * names.files_per_index).pop().unwrap_or_default();
        let Some(bytes) = fetch(&name)? else { break };
        let before = children.len();
        let document = read(
            &bytes,
            |_| (),
            |child| {
                let name = child.loc.unwrap_or_default();
                let name = name.strip_prefix(names.address.as_str()).unwrap_or(&name).to_owned();
                children.insert(name, child.lastmod.and_then(|text| Lastmod::read(&text, &TimeZone::UTC)));
            },
        );
        form = form.or(document.ok());
        if form == Some(Document::Urlset) && is_ours(&bytes) {
            alone = file(&bytes, (DEFAULT_SECTION, FileKind::Pages, 1), job.now.as_second());
        }
        if children.len() == before {
            break;
        }
    }
    if children.keys().any(|name| !name.starts_with(CHILD_PREFIX)) {
        return Ok(None);
    }
    let seed = ledger.seed()?;
    let writing = ledger.transaction()?;
    let mut recalling = Recalling { writing: &*writing, seed, files: Vec::new() };
    if let Some(alone) = alone {
        recalling.take(&alone)?;
    }
    // A few at a time, because the text of a large site does not fit into memory.
    let children_in_order: Vec<_> = children.iter().collect();
    for some in children_in_order.chunks(AT_ONCE) {
        let fetched = some.iter().map(|(name, _)| Ok(if parts_of(name).is_some() { fetch(name)? } else { None }));
        let fetched: Vec<Option<Vec<u8>>> = fetched.collect::<Result<_, StoreError>>()?;
        let known = some.par_iter().zip(fetched).map(|((name, changed), bytes)| {
            let (parts, bytes) = parts_of(name).zip(bytes)?;
            let bytes = if is_packed(name) { unpack(&bytes, MOST_BYTES).ok()? } else { bytes };
            file(&bytes, parts, changed.map_or(0, |date| date.seconds()))
        });
        for ((name, _), known) in some.iter().zip(known.collect::<Vec<_>>()) {
            match known {
                Some(known) => recalling.take(&known)?,
                None => recalled.passed_over.push((*name).clone()),
            }
        }
    }
    let files = recalling.files;
    let Some(at) = files.iter().map(|file| file.digest.changed).max() else { return Ok(None) };
    recalled.files = files.len() as u64;
    recalled.entries = files.iter().filter(|file| file.kind == FileKind::Pages).map(|file| u64::from(file.urls)).sum();
    limit(&*writing, job, &files)?;
    outputs(&*writing, (job.destination, names), &children, job.now.as_second())?;
    if form == Some(Document::Index) {
        writing.set_fact(Fact::MainFile, Some("index"))?;
    }
    let counts = RunCounts { entries: recalled.entries, files: recalled.files, ..RunCounts::default() };
    writing.add_run(
        &RunRow {
            run: 1,
            at,
            took_ms: 0,
            started_by: job.started_by,
            gzip: job.names.gzip.as_str().to_owned(),
            counts,
        },
        &serde_json::to_string(&recalled).unwrap_or_default(),
    )?;
    writing.commit()?;
    Ok(Some(recalled))
}

/// Reads a file that this tool wrote; `None` if it does not look like one.
fn file(bytes: &[u8], (section, kind, number): (&str, FileKind, u32), changed: i64) -> Option<ReadBackFile> {
    let start = memchr::memmem::find(bytes, b"<url>")?;
    let text = bytes[start..].strip_suffix(Frame::CLOSE)?;
    let mut urls = Vec::new();
    read(bytes, |url| urls.extend(url.loc.is_some().then(|| url.into_owned())), |_| ()).ok()?;
    let elements = memchr::memmem::find_iter(text, URL_END).count();
    let whole = text.ends_with(URL_END) && elements == urls.len() && !urls.is_empty();
    whole.then(|| ReadBackFile {
        section: section.to_owned(),
        kind,
        number,
        changed,
        crc: crc32fast::hash(bytes),
        size: bytes.len() as u64,
        text: text.to_vec(),
        urls,
    })
}

/// Files that are being added to the ledger.
struct Recalling<'w> {
    writing: &'w dyn Writing,
    seed: u64,
    files: Vec<RecalledFile>,
}

/// A file that was added.
struct RecalledFile {
    id: i64,
    section: String,
    kind: FileKind,
    number: u32,
    urls: u32,
    digest: FileDigest,
}

impl Recalling<'_> {
    fn take(&mut self, file: &ReadBackFile) -> Result<(), StoreError> {
        let Self { writing, seed, .. } = self;
        let urls = file.urls.len() as u32;
        let limits = Limits { urls, bytes: MOST_BYTES, media: u32::MAX };
        let id = writing.open_file(&file.section, file.kind, file.number, limits)?;
        let mut rest = &file.text[..];
        let segments = file.urls.chunks(SEGMENT).map(|urls| {
            let end = memchr::memmem::find_iter(rest, URL_END).nth(urls.len() - 1).map_or(0, |at| at + URL_END.len());
            let (text, after) = rest.split_at(end);
            rest = after;
            (text, urls)
        });
        let segments: Vec<(&[u8], &[RawUrl<'_>])> = segments.collect();
        // It is unknown what the entries said, so the next build rebuilds every segment.
        let made = segments.par_iter().map_init(SegmentCompressor::hasty, |compressor, (text, urls)| {
            let frame = facts_of(text, Frame::ALL).0;
            let mut facts = ContentCounts::default();
            text.split_inclusive(|byte| *byte == b'\n').for_each(|element| facts.add(facts_of(element, frame).1));
            let mut entries = Vec::with_capacity(urls.len() * RememberedEntry::BYTES);
            urls.iter().for_each(|url| entry(url, *seed).write(&mut entries));
            Ok(((frame, facts), compressor.compress(text)?, entries))
        });
        let made: Vec<_> =
            made.collect::<io::Result<_>>().map_err(StoreError::io("cannot compress for", Path::new(&file.section)))?;
        for (number, (holds, segment, entries)) in (0u32..).zip(&made) {
            writing.keep_segment(id, number, *holds, segment, (entries, &[]))?;
        }
        let ReadBackFile { changed, crc, size, kind, number, .. } = *file;
        let digest = FileDigest { changed, crc, size };
        self.files.push(RecalledFile { id, section: file.section.clone(), kind, number, urls, digest });
        Ok(())
    }
}

/// Sets the limits of the files as if this configuration had opened them. The original limits are unknown, except that
/// a file which is not the last holds as many entries as it may; a single file goes on filling up.
fn limit(writing: &dyn Writing, job: &Job<'_>, files: &[RecalledFile]) -> Result<(), StoreError> {
    let mut kinds: BTreeMap<(&str, FileKind), Vec<&RecalledFile>> = BTreeMap::new();
    for file in files {
        kinds.entry((&file.section, file.kind)).or_default().push(file);
    }
    let sections = &job.choices.sections;
    for ((section, kind), files) in kinds {
        let entries: usize = files.iter().map(|file| file.urls as usize).sum();
        let known = sections.named(section).map(|at| &sections.list()[at]);
        let opened = job.cut.limits(known, kind, job.names.style, entries);
        let most = files.iter().map(|file| file.urls).max().unwrap_or(0).clamp(1, MOST_URLS);
        let urls = if files.len() == 1 { opened.urls.max(most) } else { most };
        for file in &files {
            writing.record_file(file.id, Limits { urls, ..opened }, file.digest)?;
        }
        let last = files.iter().map(|file| file.number).max().unwrap_or(0);
        writing.set_next_number(section, kind, last + 1)?;
    }
    Ok(())
}

/// What can be remembered of an entry. A day may have been that of a change that was seen.
fn entry(url: &RawUrl<'_>, seed: u64) -> RememberedEntry {
    let stated = url.lastmod.as_deref().and_then(|text| Lastmod::read(text, &TimeZone::UTC));
    let observed = match stated {
        Some(day @ Lastmod::Day(_)) => day.epoch_day(),
        _ => NEVER,
    };
    let key = fingerprint::key(seed, url.loc.as_deref().unwrap_or_default());
    RememberedEntry { observed, declared: fingerprint::written_date(stated), ..RememberedEntry::recalled(key) }
}

/// Records all existing files of this tool, including those that have left the index, so that no number is used twice.
fn outputs(
    writing: &dyn Writing,
    (destination, names): (&dyn Destination, &Names),
    children: &BTreeMap<String, Option<Lastmod>>,
    now: i64,
) -> Result<(), StoreError> {
    let candidates: HashSet<&str> = children.keys().map(|name| plain_name(name)).collect();
    for name in destination.list()? {
        let plain = plain_name(&name);
        let is_main = plain == names.main || is_further_index(&names.main, plain);
        let parts = parts_of(&name);
        if !is_main && parts.is_none() {
            continue;
        }
        let Some((version, bytes)) = destination.version(&name)?.zip(destination.read(&name)?) else { continue };
        let on_disk = OnDisk { version, crc: crc32fast::hash(&bytes) };
        let retired = (!is_main && !candidates.contains(plain)).then_some(now);
        writing.set_output(&name, &OutputRow { on_disk, retired })?;
        if let Some((section, kind, number)) = parts {
            writing.raise_next_number(section, kind, number + 1)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_that_was_laid_out_anew_is_not_taken_apart() {
        let ours = b"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">\n<url><loc>https://a.example/</loc></url>\n</urlset>\n";
        let known = file(ours, ("pages", FileKind::Pages, 1), 7).unwrap();
        assert_eq!((known.urls.len(), &known.text[..]), (1, &b"<url><loc>https://a.example/</loc></url>\n"[..]));
        let other = String::from_utf8_lossy(ours).replace("</url>\n", "</url>");
        assert!(file(other.as_bytes(), ("pages", FileKind::Pages, 1), 7).is_none());
    }
}
