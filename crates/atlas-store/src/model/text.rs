//! The text of a segment, divided into its elements.

use atlas_core::format::{Frame, URL_END, read};
use atlas_core::lastmod::Lastmod;
use jiff::tz::TimeZone;
use memchr::memmem;
use std::borrow::Cow;

use super::file::{ContentCounts, SegmentRow};
use crate::disk::segmented_gzip::decompress;
use crate::error::StoreError;

/// The decompressed text of a segment.
#[derive(Debug)]
pub(crate) struct SegmentText {
    raw: Vec<u8>,
    ends: Vec<u32>,
}

impl SegmentText {
    /// Decompresses the text of a segment.
    pub(crate) fn read(body: &[u8], segment: &SegmentRow) -> Result<Self, StoreError> {
        let damaged = |_| StoreError::LedgerDamaged("the text of a segment cannot be read");
        let raw = decompress(body, segment.size).map_err(damaged)?;
        if crc32fast::hash(&raw) != segment.crc {
            return Err(StoreError::LedgerDamaged("the text of a segment is not what was written"));
        }
        let ends: Vec<u32> = memmem::find_iter(&raw, URL_END).map(|at| (at + URL_END.len()) as u32).collect();
        if ends.len() != segment.count as usize || ends.last().is_some_and(|end| *end as usize != raw.len()) {
            return Err(StoreError::LedgerDamaged("a segment has the wrong number of entries"));
        }
        Ok(Self { raw, ends })
    }

    /// One of its elements.
    pub(crate) fn element(&self, at: u32) -> &[u8] {
        let at = at as usize;
        let start = at.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.raw[start as usize..self.ends[at] as usize]
    }

    /// How much memory it uses, in bytes.
    pub(crate) fn size(&self) -> usize {
        self.raw.len() + size_of_val(&self.ends[..])
    }

    /// What some of its elements contain. If they are the majority, this follows from the counts of the whole segment,
    /// and only the other elements are read.
    pub(crate) fn facts(&self, segment: &SegmentRow, wanted: impl Fn(u32) -> bool) -> ContentCounts {
        let count = |these: &dyn Fn(u32) -> bool| {
            let mut facts = ContentCounts::default();
            let some = (0..segment.count).filter(|at| these(*at));
            some.for_each(|at| facts.add(facts_of(self.element(at), segment.frame).1));
            facts
        };
        let all = segment.facts;
        if (0..segment.count).filter(|at| wanted(*at)).count() * 2 > segment.count as usize {
            let others = count(&|at| !wanted(at));
            let older =
                others.newest.is_none_or(|date| all.newest.is_some_and(|newest| date.seconds() < newest.seconds()));
            if let (true, Some(images), Some(videos)) =
                (older, all.images.checked_sub(others.images), all.videos.checked_sub(others.videos))
            {
                return ContentCounts { images, videos, newest: all.newest };
            }
        }
        count(&wanted)
    }
}

/// The namespaces that an element needs, and what it contains; `within` are all namespaces that are possible. For
/// several elements, the date is that of the first.
pub(crate) fn facts_of(element: &[u8], within: Frame) -> (Frame, ContentCounts) {
    let count = |may_be: bool, tag: &str| {
        if may_be { memmem::find_iter(element, tag).count() as u64 } else { 0 }
    };
    let (images, videos) = (count(within.images, "<image:image>"), count(within.videos, "<video:video>"));
    let frame = Frame {
        images: images > 0,
        videos: videos > 0,
        news: count(within.news, "<news:news>") > 0,
        alternates: count(within.alternates, "<xhtml:link ") > 0,
    };
    // The date comes directly after the address.
    let newest = element.strip_prefix(b"<url><loc>").and_then(|rest| {
        let date = rest[memchr::memchr(b'<', rest)?..].strip_prefix(b"</loc><lastmod>")?;
        let date = std::str::from_utf8(&date[..memchr::memchr(b'<', date)?]).ok()?;
        Lastmod::read(date, &TimeZone::UTC)
    });
    (frame, ContentCounts { images, videos, newest })
}

/// The URLs of a segment, in order.
pub(crate) fn urls_of(body: &[u8], raw_size: u64) -> Result<Vec<String>, StoreError> {
    Ok(urls_and_dates_of(body, raw_size)?.into_iter().map(|(url, _)| url).collect())
}

/// The URLs of a segment, in order, each with its written date.
pub(crate) fn urls_and_dates_of(body: &[u8], raw_size: u64) -> Result<Vec<(String, Option<String>)>, StoreError> {
    let damaged = |_| StoreError::LedgerDamaged("the text of a segment cannot be read");
    let raw = decompress(body, raw_size).map_err(damaged)?;
    let frame = Frame::ALL;
    let file = [&frame.open(None)[..], &raw, Frame::CLOSE].concat();
    let mut urls = Vec::new();
    read(&file, |url| urls.extend(url.loc.map(|loc| (loc.into_owned(), url.lastmod.map(Cow::into_owned)))), |_| ())
        .map_err(|_| StoreError::LedgerDamaged("the text of a segment is not what was written"))?;
    Ok(urls)
}
