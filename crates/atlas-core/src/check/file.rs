//! Judging one file on its own, so that several can be judged at once.

use std::borrow::Cow;

use jiff::tz::TimeZone;

use super::codes::{
    BEFORE_DECLARATION, BYTE_ORDER_MARK, COPY_DIFFERS, DATES_NOW, DISALLOWED, FILE_BROKEN, FILE_HEAVY, FILE_MISSING,
    INDEX_BEHIND, NEWS_TOO_MANY, NOT_UTF8, NOT_WELL_FORMED, NOTHING_IN_IT, OTHER_ROOT, OUT_OF_REACH, SECTION_SHUT,
    SITEMAP_SHUT, TOO_MANY_BYTES, TOO_MANY_FILES, TOO_MANY_URLS,
};
use super::entry::FileJudge;
use super::fetched::{FetchResult, FetchedFile, PackedCopy};
use super::findings::{Findings, Place};
use super::judge::Judge;
use super::request::FileRequest;
use super::returned::Unreturned;
use super::seen::{DateTally, FEW_DATES, FileSeen, Form, JudgedFile};
use crate::address;
use crate::derive::news::MOST_NEWS;
use crate::format::{
    Document, Feed, Oddity, RawSitemap, RawUrl, ReadError, SitemapVisitor, decode, read_feed, read_lines, visit,
};
use crate::lastmod::Lastmod;
use crate::number::count;
use crate::placement::{MOST_BYTES, MOST_FILES, MOST_URLS, packed_name};

/// A file of more bytes is heavy: engines give up on such files sooner.
const HEAVY: u64 = 10 * 1024 * 1024;
/// Dates so near the time of the request, in seconds, are made up.
const NOW_SECONDS: i64 = 120;

impl<'k> Judge<'k> {
    /// Judges one file.
    pub fn file(&self, wanted: &FileRequest, fetched: FetchedFile) -> JudgedFile<'k> {
        let mut judged = JudgedFile {
            findings: Findings::new(self.known),
            seen: None,
            children: Vec::new(),
            keys: Vec::new(),
            unreturned: Unreturned::default(),
            dates: DateTally::default(),
            listed: Vec::new(),
            bytes: Vec::new(),
        };
        let address = wanted.address.as_str();
        let place = Place::file(address);
        let own_host = address::origin(address) == self.origin;
        if let Some(barred) = self.barred(address::path(address)).filter(|_| own_host) {
            judged.findings.add(&SITEMAP_SHUT, place, || barred);
        }
        if let Some(answer) = &fetched.answer {
            answer.judge(wanted, &mut judged.findings);
        }
        match fetched.result {
            FetchResult::Bytes(bytes) => {
                self.copy(address, &fetched.copy, &mut judged.findings);
                self.bytes(wanted, bytes, &mut judged);
                if let (Some(seen), Some(answer)) = (&mut judged.seen, &fetched.answer) {
                    seen.milliseconds = Some(answer.milliseconds);
                }
            }
            FetchResult::OutOfReach => judged.findings.add(&OUT_OF_REACH, place, || {
                format!("not below this web root, so it was not checked; {}", self.named_by(wanted))
            }),
            FetchResult::Missing => judged.findings.add_with(
                &FILE_MISSING,
                place,
                self.mend(&FILE_MISSING, address, "Put the file there, or remove the line that names it."),
                || format!("there is no such file; {}", self.named_by(wanted)),
            ),
            FetchResult::Broken(why) => {
                judged.findings.add_with(&FILE_BROKEN, place, self.mend(&FILE_BROKEN, address, ELSE), || {
                    format!("{why}; {}", self.named_by(wanted))
                })
            }
            FetchResult::Failed => {}
        }
        judged
    }

    fn bytes(&self, wanted: &FileRequest, bytes: Vec<u8>, judged: &mut JudgedFile<'k>) {
        let address = wanted.address.as_str();
        let place = Place::file(address);
        if bytes.len() as u64 > MOST_BYTES {
            return judged.findings.add(&TOO_MANY_BYTES, place, || "more than 52,428,800 bytes".to_owned());
        }
        if bytes.starts_with(b"\xef\xbb\xbf") {
            judged.findings.add(&BYTE_ORDER_MARK, place, || "it begins with a byte-order mark".to_owned());
        }
        let size = bytes.len() as u64;
        let decoded = decode(&bytes);
        if let Some((line, why)) = decoded.trouble {
            judged.findings.add(&NOT_UTF8, place.at(line), || why);
        }
        let mut content: &[u8] = &decoded.bytes;
        let mut skipped = 0;
        let trimmed = content.strip_prefix(b"\xef\xbb\xbf").unwrap_or(content).trim_ascii_start();
        if is_after_blank(content, trimmed) {
            judged.findings.add(&BEFORE_DECLARATION, place.at(1), || ReadError::TextBeforeDeclaration.to_string());
            skipped = memchr::memchr_iter(b'\n', &content[..content.len() - trimmed.len()]).count() as u64;
            content = trimmed;
        }
        let mut file = FileJudge::new(
            self,
            wanted,
            skipped,
            size,
            std::mem::replace(&mut judged.findings, Findings::new(self.known)),
        );
        let outcome = read_any(content, &mut file);
        file.end();
        let FileJudge { findings, mut seen, children, keys, unreturned, dates, listed, weights, .. } = file;
        (judged.findings, judged.children, judged.keys, judged.dates) = (findings, children, keys, dates);
        judged.unreturned = unreturned;
        judged.listed = listed;
        match outcome {
            Ok(form) => {
                seen.form = form;
                self.whole(wanted, &seen, &mut judged.findings);
            }
            Err(why) => self.cannot_read(address, &why, skipped, &mut judged.findings),
        }
        if size > HEAVY {
            judged.findings.add(&FILE_HEAVY, place, || weights.words(size));
        }
        self.made_up(&seen, &judged.dates, &mut judged.findings);
        judged.seen = Some(seen);
        judged.bytes = match decoded.bytes {
            Cow::Borrowed(_) => bytes,
            Cow::Owned(text) => text,
        };
    }

    fn cannot_read(&self, address: &str, why: &ReadError, skipped: u64, findings: &mut Findings<'k>) {
        let place = Place::file(address);
        match why {
            ReadError::TextBeforeDeclaration => findings.add(&BEFORE_DECLARATION, place.at(1), || why.to_string()),
            ReadError::NotWellFormed { line, why } => {
                let mend = self.mend(&NOT_WELL_FORMED, address, ELSE);
                findings.add_with(&NOT_WELL_FORMED, place.at(line + skipped), mend, || why.clone());
            }
            ReadError::OtherRoot(_) | ReadError::OtherNamespace => {
                findings.add(&OTHER_ROOT, place, || why.to_string());
            }
        }
    }

    /// What is wrong with a file that could be read to its end.
    fn whole(&self, wanted: &FileRequest, seen: &FileSeen, findings: &mut Findings<'k>) {
        let place = Place::file(&seen.address);
        if seen.is_index() {
            if seen.entries == 0 {
                findings.add(&NOTHING_IN_IT, place, || "it has no sitemap element".to_owned());
            }
            if seen.entries > MOST_FILES as u64 {
                findings.add(&TOO_MANY_FILES, place, || count(seen.entries, "file", "files"));
            }
            return;
        }
        if seen.entries == 0 {
            let element = if seen.form == Form::Urlset { "url element" } else { "URL" };
            findings.add(&NOTHING_IN_IT, place, || format!("it has no {element}"));
        }
        if seen.entries > 0 && seen.barred == seen.entries {
            findings.forget(&DISALLOWED);
            findings.add(&SECTION_SHUT, place, || {
                format!("robots.txt shuts engines out of {}, which is all of them", count(seen.entries, "URL", "URLs"))
            });
        }
        if seen.news > u64::from(MOST_NEWS) {
            findings.add(&NEWS_TOO_MANY, place, || count(seen.news, "article", "articles"));
        }
        if seen.entries > u64::from(MOST_URLS) {
            findings.add(&TOO_MANY_URLS, place, || count(seen.entries, "URL", "URLs"));
        }
        let index = wanted.trail.last().zip(wanted.stated.as_deref());
        if let Some((index, text)) = index
            && let Some(stated) = Lastmod::read(text, &TimeZone::UTC)
            && let Some(newest) = seen.newest
            && is_behind(stated, newest)
        {
            findings.add(&INDEX_BEHIND, Place::file(index).about(&seen.address), || {
                format!("the index gives {text} for a file that has a page of {newest}")
            });
        }
    }

    /// Whether the dates of a file are the moment of the request.
    fn made_up(&self, seen: &FileSeen, dates: &DateTally, findings: &mut Findings<'k>) {
        let Some((low, high)) = dates.bounds.filter(|_| dates.number >= FEW_DATES) else { return };
        let now = self.now.seconds();
        let has_time = matches!(dates.same, Some(Lastmod::Instant { .. }));
        if has_time && low >= now - NOW_SECONDS && high <= now + NOW_SECONDS {
            findings.add(&DATES_NOW, Place::file(&seen.address), || {
                format!("all {} are the moment of this check", count(dates.number, "date", "dates"))
            });
        }
    }

    /// What is wrong with the compressed copy beside a file.
    fn copy(&self, address: &str, copy: &PackedCopy, findings: &mut Findings<'k>) {
        match copy {
            PackedCopy::Different => {
                let mend = self.mend(&COPY_DIFFERS, address, ELSE);
                let what = || "its .gz copy has other contents".to_owned();
                findings.add_with(&COPY_DIFFERS, Place::file(address), mend, what);
            }
            PackedCopy::Broken(why) => {
                let mend = self.mend(&FILE_BROKEN, address, ELSE);
                findings.add_with(&FILE_BROKEN, Place::file(&packed_name(address)), mend, || why.clone());
            }
            PackedCopy::Absent | PackedCopy::Same => {}
        }
    }
}

/// What to do about a file that no build writes.
const ELSE: &str = "Another tool wrote the file: let that tool write it again, or remove the line that names it.";

/// Whether white space precedes the XML declaration.
fn is_after_blank(content: &[u8], trimmed: &[u8]) -> bool {
    let plain = content.strip_prefix(b"\xef\xbb\xbf").unwrap_or(content);
    trimmed.starts_with(b"<?xml") && trimmed.len() < plain.len()
}

/// Whether the date that an index states is older than the newest in the file; two days are compared as days.
fn is_behind(stated: Lastmod, newest: Lastmod) -> bool {
    match (stated, newest) {
        (Lastmod::Instant { .. }, Lastmod::Instant { .. }) => stated.seconds() < newest.seconds(),
        _ => stated.epoch_day() < newest.epoch_day(),
    }
}

/// Reads a file of any form.
pub(super) fn read_any<'a, V>(bytes: &'a [u8], visitor: &mut V) -> Result<Form, ReadError>
where
    V: SitemapVisitor<'a>,
{
    let content = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    let trimmed = content.trim_ascii_start();
    let is_url = |line: &[u8]| line.starts_with(b"http://") || line.starts_with(b"https://");
    if !trimmed.starts_with(b"<") && is_url(trimmed) {
        read_lines(content).for_each(|url| visitor.url(url));
        return Ok(Form::Text);
    }
    match visit(content, visitor) {
        Ok(Document::Urlset) => Ok(Form::Urlset),
        Ok(Document::Index) => Ok(Form::Index),
        Err(ReadError::OtherRoot(root)) if matches!(local(&root), "rss" | "RDF" | "feed") => {
            read_feed(content, |url| visitor.url(url)).map(|feed| match feed {
                Feed::Rss => Form::Rss,
                Feed::Atom => Form::Atom,
            })
        }
        Err(why) => Err(why),
    }
}

fn local(name: &str) -> &str {
    name.rsplit(':').next().unwrap_or(name)
}

/// Passes on each URL that a file lists, whatever its form, and whether it is that of a file in an index. What cannot be
/// read is passed over.
pub fn each_url(bytes: &[u8], on_url: impl FnMut(&str, bool)) {
    struct Each<F>(F);
    impl<'a, F: FnMut(&str, bool)> SitemapVisitor<'a> for Each<F> {
        fn url(&mut self, url: RawUrl<'a>) {
            url.loc.iter().for_each(|loc| (self.0)(loc, false));
        }

        fn sitemap(&mut self, sitemap: RawSitemap<'a>) {
            sitemap.loc.iter().for_each(|loc| (self.0)(loc, true));
        }

        fn oddity(&mut self, _: Oddity) {}
    }
    // What is wrong with a file is not said here.
    let _ = read_any(decode(bytes).bytes.trim_ascii_start(), &mut Each(on_url));
}
