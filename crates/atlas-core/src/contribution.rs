//! A contribution: what one source says of one URL, as a compact row of bytes.
//!
//! Sources yield contributions by the million, so a row stays bytes until it is chosen: a tag, a length and the bytes
//! of each field that the source knew. [`Row`] writes one, [`Said`] reads one, [`Said::merge`] joins what several
//! sources say of the same URL.

use std::borrow::Cow;

use serde::Serialize;

use crate::entry::{Changefreq, Priority, Video};
use crate::lastmod::Lastmod;

/// The fields of a row. The numbers are stored in the ledger: they are never given to another field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
enum Field {
    Url = 1,
    Modified = 2,
    Published = 3,
    Title = 4,
    Description = 5,
    Language = 6,
    Image = 7,
    Video = 8,
    Digest = 9,
    Noindex = 10,
    Canonical = 11,
    Refresh = 12,
    Keep = 13,
    Changefreq = 14,
    Priority = 15,
    Section = 16,
    NoHead = 17,
}

impl Field {
    const ALL: [Self; 17] = [
        Self::Url,
        Self::Modified,
        Self::Published,
        Self::Title,
        Self::Description,
        Self::Language,
        Self::Image,
        Self::Video,
        Self::Digest,
        Self::Noindex,
        Self::Canonical,
        Self::Refresh,
        Self::Keep,
        Self::Changefreq,
        Self::Priority,
        Self::Section,
        Self::NoHead,
    ];

    fn from_tag(tag: u8) -> Option<Self> {
        Self::ALL.get(usize::from(tag).checked_sub(1)?).copied()
    }
}

/// Everything that is said of one URL: by one source, or by all of them once merged.
#[derive(Debug, Clone, PartialEq, Default, Serialize)]
pub struct Said<'a> {
    /// The URL, in the spelling of [`Address`](crate::address::Address).
    pub url: Cow<'a, str>,
    /// The declared date of the last change.
    pub modified: Option<Lastmod>,
    /// The declared date of publication.
    pub published: Option<Lastmod>,
    /// The title of the page.
    pub title: Option<Cow<'a, str>>,
    /// A summary.
    pub description: Option<Cow<'a, str>>,
    /// A language tag (BCP 47).
    pub language: Option<Cow<'a, str>>,
    /// Addresses of pictures.
    pub images: Vec<Cow<'a, str>>,
    /// Videos, complete or not.
    pub videos: Vec<Video>,
    /// A digest of the page's main content; present when the page itself was read.
    pub digest: Option<u64>,
    /// The page's robots directive that forbids indexing, in its own words.
    pub noindex: Option<Cow<'a, str>>,
    /// The address that the page names as its canonical one.
    pub canonical: Option<Cow<'a, str>>,
    /// The address that the page sends its visitors on to.
    pub refresh: Option<Cow<'a, str>>,
    /// The page's or row's own word on whether it belongs in the sitemap.
    pub keep: Option<bool>,
    /// The row's own hint.
    pub changefreq: Option<Changefreq>,
    /// The row's own hint.
    pub priority: Option<Priority>,
    /// The section that the source puts its entries in.
    pub section: Option<Cow<'a, str>>,
    /// The page was read and has no `head`: neither title nor canonical can be known.
    pub no_head: bool,
}

impl<'a> Said<'a> {
    /// Reads a row that [`Row`] wrote. Bytes that no row holds are passed over: rows are kept in the ledger, and one that
    /// was damaged on disk must not stop a build.
    pub fn read(row: &'a [u8]) -> Self {
        let mut said = Self::default();
        for (field, bytes) in fields(row) {
            let text = || match std::str::from_utf8(bytes) {
                Ok(text) => Cow::Borrowed(text),
                Err(_) => String::from_utf8_lossy(bytes),
            };
            match field {
                Field::Url => said.url = text(),
                Field::Modified => said.modified = Lastmod::from_bytes(bytes),
                Field::Published => said.published = Lastmod::from_bytes(bytes),
                Field::Title => said.title = Some(text()),
                Field::Description => said.description = Some(text()),
                Field::Language => said.language = Some(text()),
                Field::Image => said.images.push(text()),
                Field::Video => said.videos.extend(serde_json::from_slice::<Video>(bytes)),
                Field::Digest => said.digest = bytes.try_into().ok().map(u64::from_le_bytes),
                Field::Noindex => said.noindex = Some(text()),
                Field::Canonical => said.canonical = Some(text()),
                Field::Refresh => said.refresh = Some(text()),
                Field::Keep => said.keep = bytes.first().map(|&byte| byte != 0),
                Field::Changefreq => said.changefreq = Changefreq::ALL.get(first(bytes)).copied(),
                Field::Priority => {
                    said.priority = bytes.first().and_then(|&number| Priority::from_hundredths(number));
                }
                Field::Section => said.section = Some(text()),
                Field::NoHead => said.no_head = true,
            }
        }
        said
    }

    /// Adds what a later source says. For each field the first source that says it wins; pictures and videos are united;
    /// a noindex from any of them stands.
    pub fn merge(&mut self, other: Self) {
        fn fill<T>(mine: &mut Option<T>, theirs: Option<T>) {
            if mine.is_none() {
                *mine = theirs;
            }
        }
        fill(&mut self.modified, other.modified);
        fill(&mut self.published, other.published);
        fill(&mut self.title, other.title);
        fill(&mut self.description, other.description);
        fill(&mut self.language, other.language);
        fill(&mut self.digest, other.digest);
        fill(&mut self.noindex, other.noindex);
        fill(&mut self.canonical, other.canonical);
        fill(&mut self.refresh, other.refresh);
        fill(&mut self.keep, other.keep);
        fill(&mut self.changefreq, other.changefreq);
        fill(&mut self.priority, other.priority);
        fill(&mut self.section, other.section);
        self.no_head |= other.no_head;
        for image in other.images {
            if !self.images.contains(&image) {
                self.images.push(image);
            }
        }
        for video in other.videos {
            match self.videos.iter_mut().find(|known| known.same_as(&video)) {
                Some(known) => known.complete_from(&video),
                None => self.videos.push(video),
            }
        }
    }

    /// The same, borrowing from nothing.
    pub fn into_owned(self) -> Said<'static> {
        let own = |text: Cow<'_, str>| Cow::Owned(text.into_owned());
        Said {
            url: own(self.url),
            modified: self.modified,
            published: self.published,
            title: self.title.map(own),
            description: self.description.map(own),
            language: self.language.map(own),
            images: self.images.into_iter().map(own).collect(),
            videos: self.videos,
            digest: self.digest,
            noindex: self.noindex.map(own),
            canonical: self.canonical.map(own),
            refresh: self.refresh.map(own),
            keep: self.keep,
            changefreq: self.changefreq,
            priority: self.priority,
            section: self.section.map(own),
            no_head: self.no_head,
        }
    }

    /// When the entry came to be, for the order in which files are filled: published, else modified, in seconds.
    pub fn age(&self) -> Option<i64> {
        self.published.or(self.modified).map(|date| date.seconds())
    }
}

fn first(bytes: &[u8]) -> usize {
    bytes.first().map_or(usize::MAX, |&byte| usize::from(byte))
}

/// The URL of a row, without reading the rest.
pub fn url_of(row: &[u8]) -> &str {
    match fields(row).next() {
        Some((Field::Url, bytes)) => std::str::from_utf8(bytes).unwrap_or(""),
        _ => "",
    }
}

/// The known fields of a row, in the order they were written.
fn fields(row: &[u8]) -> impl Iterator<Item = (Field, &[u8])> {
    let mut rest = row;
    std::iter::from_fn(move || {
        loop {
            let (&tag, after_tag) = rest.split_first()?;
            let (length, after_length) = read_length(after_tag)?;
            let bytes = after_length.get(..length)?;
            rest = &after_length[length..];
            if let Some(field) = Field::from_tag(tag) {
                return Some((field, bytes));
            }
        }
    })
}

/// Base-128, low digits first.
fn read_length(bytes: &[u8]) -> Option<(usize, &[u8])> {
    let mut length = 0usize;
    for (at, &byte) in bytes.iter().enumerate().take(5) {
        length |= usize::from(byte & 0x7f) << (7 * at);
        if byte & 0x80 == 0 {
            return Some((length, &bytes[at + 1..]));
        }
    }
    None
}

/// Writes rows into a buffer, one after the other.
#[derive(Debug)]
pub struct Row<'b> {
    out: &'b mut Vec<u8>,
}

impl<'b> Row<'b> {
    /// Begins a row at the end of `out`, with its URL in normal spelling.
    pub fn begin(out: &'b mut Vec<u8>, url: &str) -> Self {
        let mut row = Self { out };
        row.put(Field::Url, url.as_bytes());
        row
    }

    /// Writes all of it at the end of `out`.
    pub fn write(out: &'b mut Vec<u8>, said: &Said<'_>) {
        let mut row = Self::begin(out, &said.url);
        row.modified(said.modified).published(said.published);
        row.text(Field::Title, said.title.as_deref());
        row.text(Field::Description, said.description.as_deref());
        row.text(Field::Language, said.language.as_deref());
        said.images.iter().for_each(|image| row.put(Field::Image, image.as_bytes()));
        said.videos.iter().for_each(|video| row.video(video));
        if let Some(digest) = said.digest {
            row.put(Field::Digest, &digest.to_le_bytes());
        }
        row.text(Field::Noindex, said.noindex.as_deref());
        row.text(Field::Canonical, said.canonical.as_deref());
        row.text(Field::Refresh, said.refresh.as_deref());
        if let Some(keep) = said.keep {
            row.put(Field::Keep, &[u8::from(keep)]);
        }
        if let Some(changefreq) = said.changefreq {
            row.put(Field::Changefreq, &[changefreq as u8]);
        }
        if let Some(priority) = said.priority {
            row.put(Field::Priority, &[priority.hundredths()]);
        }
        row.section(said.section.as_deref());
        if said.no_head {
            row.put(Field::NoHead, &[]);
        }
    }

    /// Adds the declared date of the last change.
    pub fn modified(&mut self, date: Option<Lastmod>) -> &mut Self {
        if let Some(date) = date {
            self.put(Field::Modified, &date.to_bytes());
        }
        self
    }

    /// Adds the declared date of publication.
    pub fn published(&mut self, date: Option<Lastmod>) -> &mut Self {
        if let Some(date) = date {
            self.put(Field::Published, &date.to_bytes());
        }
        self
    }

    /// Adds the title.
    pub fn title(&mut self, title: &str) -> &mut Self {
        self.text(Field::Title, Some(title));
        self
    }

    /// Adds the section that the source puts its entries in.
    pub fn section(&mut self, section: Option<&str>) -> &mut Self {
        self.text(Field::Section, section);
        self
    }

    fn video(&mut self, video: &Video) {
        // A struct of optional texts and numbers has nothing that JSON could refuse.
        if let Ok(bytes) = serde_json::to_vec(video) {
            self.put(Field::Video, &bytes);
        }
    }

    fn text(&mut self, field: Field, text: Option<&str>) {
        if let Some(text) = text.filter(|text| !text.is_empty()) {
            self.put(field, text.as_bytes());
        }
    }

    fn put(&mut self, field: Field, bytes: &[u8]) {
        self.out.push(field as u8);
        let mut length = bytes.len();
        while length >= 0x80 {
            self.out.push((length & 0x7f) as u8 | 0x80);
            length >>= 7;
        }
        self.out.push(length as u8);
        self.out.extend_from_slice(bytes);
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    use super::*;

    fn day(text: &str) -> Option<Lastmod> {
        Lastmod::read(text, &TimeZone::UTC)
    }

    proptest! {
        #[test]
        fn a_row_comes_back(
            title in proptest::option::of(".{1,300}"),
            images in proptest::collection::vec("[a-z/:.]{1,20}", 0..4),
            digest in proptest::option::of(any::<u64>()),
            keep in proptest::option::of(any::<bool>()),
            seconds in proptest::option::of(0i64..2_000_000_000),
            hundredths in proptest::option::of(0u8..=100),
        ) {
            let said = Said {
                url: "https://www.marrowvale.example/halts/".into(),
                title: title.map(Cow::from),
                images: images.into_iter().map(Cow::from).collect(),
                videos: vec![Video { duration: Some(95), title: Some("Cab ride".into()), ..Video::default() }],
                digest,
                keep,
                modified: seconds.map(|seconds| Lastmod::Instant { seconds, offset: 60 }),
                priority: hundredths.and_then(Priority::from_hundredths),
                changefreq: Some(Changefreq::Never),
                no_head: true,
                ..Said::default()
            };
            let mut bytes = Vec::new();
            Row::write(&mut bytes, &said);
            prop_assert_eq!(url_of(&bytes), "https://www.marrowvale.example/halts/");
            prop_assert_eq!(Said::read(&bytes).into_owned(), said);
        }

        #[test]
        fn any_bytes_can_be_read(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = Said::read(&bytes);
        }
    }

    #[test]
    fn the_first_word_wins_and_lists_unite() {
        let mut page = Said {
            title: Some("Lampworks Halt".into()),
            images: vec!["https://www.marrowvale.example/a.svg".into()],
            videos: vec![Video {
                content_loc: Some("https://www.marrowvale.example/a.webm".into()),
                ..Video::default()
            }],
            ..Said::default()
        };
        page.merge(Said {
            title: Some("lampworks".into()),
            modified: day("2026-03-04"),
            images: vec!["https://www.marrowvale.example/a.svg".into(), "https://www.marrowvale.example/b.svg".into()],
            videos: vec![Video {
                content_loc: Some("https://www.marrowvale.example/a.webm".into()),
                title: Some("From the cab".into()),
                ..Video::default()
            }],
            noindex: Some("noindex".into()),
            ..Said::default()
        });
        assert_eq!(page.title.as_deref(), Some("Lampworks Halt"));
        assert_eq!(page.modified, day("2026-03-04"));
        assert_eq!(page.images.len(), 2);
        assert_eq!(page.videos.len(), 1);
        assert_eq!(page.videos[0].title.as_deref(), Some("From the cab"));
        assert_eq!(page.noindex.as_deref(), Some("noindex"));
    }

    #[test]
    fn age_is_publication_before_change() {
        let said = Said { modified: day("2026-03-04"), published: day("1970-01-02"), ..Said::default() };
        assert_eq!(said.age(), Some(86_400));
        assert_eq!(Said::default().age(), None);
    }
}
