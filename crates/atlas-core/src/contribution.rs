//! A contribution: what one source says of one URL, as a compact row of bytes.
//!
//! Sources yield contributions by the million, so a row stays bytes until it is chosen: a tag, a length and the bytes
//! of each field that the source knew. [`Row`] writes one, [`Said`] reads one, [`Said::merge`] joins what several
//! sources say of the same URL.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

use crate::entry::{Changefreq, DatePolicy, Priority};
use crate::lastmod::Lastmod;
use crate::titles::is_same;
use crate::varint;
use crate::video::{self, Video};

/// Numbers the fields of a row. The numbers are stored in the ledger: they are never given to another field.
macro_rules! numbered {
    ($($name:ident = $number:literal),* $(,)?) => {
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        #[repr(u8)]
        enum Field {
            $($name = $number),*
        }

        impl Field {
            fn from_tag(tag: u8) -> Option<Self> {
                match tag {
                    $($number => Some(Self::$name),)*
                    _ => None,
                }
            }
        }
    };
}

numbered! {
    Url = 1, Modified = 2, Published = 3, Title = 4, Description = 5, Language = 6, Image = 7, Video = 8, Digest = 9,
    Noindex = 10, Canonical = 11, Refresh = 12, Keep = 13, Changefreq = 14, Priority = 15, Section = 16, NoHead = 17,
    Id = 18, Slug = 19, Kind = 20, Parent = 21, LanguageGroup = 22, Expires = 23, Category = 24, Tag = 25, Author = 26,
    Alternate = 27, Failure = 28, Draft = 29, Barred = 30, OwnSection = 31, DatePolicy = 32, Archive = 33, Members = 34,
    Share = 35, NotThere = 36, StatedVideo = 37, Unreadable = 38, NotInFolder = 39, Headline = 40, Recorded = 41,
    Redirected = 42, UnknownPlayer = 43,
}

/// The fields that hold one text, with their numbers: for what is done to each of them alike.
macro_rules! each_text {
    ($act:ident) => {
        $act!(title Title);
        $act!(headline Headline);
        $act!(description Description);
        $act!(language Language);
        $act!(noindex Noindex);
        $act!(canonical Canonical);
        $act!(refresh Refresh);
        $act!(redirected Redirected);
        $act!(section Section);
        $act!(id Id);
        $act!(slug Slug);
        $act!(kind Kind);
        $act!(parent Parent);
        $act!(language_group LanguageGroup);
        $act!(failure Failure);
        $act!(barred Barred);
        $act!(own_section OwnSection);
        $act!(archive Archive);
        $act!(unreadable Unreadable);
    };
}

/// The fields that hold one date.
macro_rules! each_date {
    ($act:ident) => {
        $act!(modified Modified);
        $act!(published Published);
        $act!(expires Expires);
        $act!(recorded Recorded);
    };
}

/// The fields that hold a list of texts.
macro_rules! each_list {
    ($act:ident) => {
        $act!(images Image);
        $act!(categories Category);
        $act!(tags Tag);
        $act!(authors Author);
        $act!(unknown_players UnknownPlayer);
    };
}

/// The same page in another language.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Alternate<'a> {
    /// A language tag, or `x-default`.
    #[serde(alias = "hreflang")]
    pub language: Cow<'a, str>,
    /// Where it is.
    #[serde(alias = "href")]
    pub url: Cow<'a, str>,
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
    /// The date that a sitemap gave which this tool wrote over: its last change as far as anybody knew then.
    pub recorded: Option<Lastmod>,
    /// When it is over: from then on it does not go in.
    pub expires: Option<Lastmod>,
    /// The title of the page.
    pub title: Option<Cow<'a, str>>,
    /// What the page calls itself, without the site's name.
    pub headline: Option<Cow<'a, str>>,
    /// A summary.
    pub description: Option<Cow<'a, str>>,
    /// A language tag (BCP 47).
    pub language: Option<Cow<'a, str>>,
    /// What links the translations of one piece: the same word on each of them.
    pub language_group: Option<Cow<'a, str>>,
    /// How the source knows the entry, besides its URL.
    pub id: Option<Cow<'a, str>>,
    /// The entry's own part of its URL.
    pub slug: Option<Cow<'a, str>>,
    /// What kind of thing it is, in the site's own words.
    pub kind: Option<Cow<'a, str>>,
    /// What it belongs to, as an attachment does to its article: the id or URL of that.
    pub parent: Option<Cow<'a, str>>,
    /// Categories it is filed under.
    pub categories: Vec<Cow<'a, str>>,
    /// Tags it bears.
    pub tags: Vec<Cow<'a, str>>,
    /// Who wrote it.
    pub authors: Vec<Cow<'a, str>>,
    /// Addresses of frames that look like players and fit none that the configuration tells of.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub unknown_players: Vec<Cow<'a, str>>,
    /// Addresses of pictures.
    pub images: Vec<Cow<'a, str>>,
    /// Videos, complete or not.
    pub videos: Vec<Video>,
    /// The same page in other languages, itself included where the source does.
    pub alternates: Vec<Alternate<'a>>,
    /// A digest of the page's main content; present when the page itself was read.
    pub digest: Option<u64>,
    /// The page's robots directive that forbids indexing, in its own words.
    pub noindex: Option<Cow<'a, str>>,
    /// The address that the page names as its canonical one.
    pub canonical: Option<Cow<'a, str>>,
    /// The address that the page or its server sends visitors on to.
    pub refresh: Option<Cow<'a, str>>,
    /// The status with which the server sends visitors on, in words: `301 Moved Permanently`; `None` where the page does so.
    pub redirected: Option<Cow<'a, str>>,
    /// Why there is no page there, in words: a status, `404 Not Found`, or [`NO_ANSWER`] comes first; without either, what is there is
    /// not a page.
    pub failure: Option<Cow<'a, str>>,
    /// What the live site's robots.txt says against fetching it, in words.
    pub barred: Option<Cow<'a, str>>,
    /// What decides whether it goes in and cannot be read: the field and its value, `published “infinity”`.
    pub unreadable: Option<Cow<'a, str>>,
    /// It is not meant for the public yet.
    pub draft: bool,
    /// The page's or row's own word on whether it belongs in the sitemap.
    pub keep: Option<bool>,
    /// The row's own hint.
    pub changefreq: Option<Changefreq>,
    /// The row's own hint.
    pub priority: Option<Priority>,
    /// The section that the source puts its entries in.
    pub section: Option<Cow<'a, str>>,
    /// The page's or row's own word on its section.
    pub own_section: Option<Cow<'a, str>>,
    /// The page's or row's own word on which date is written of it.
    pub date_policy: Option<DatePolicy>,
    /// Which archive it is the page of, as [`ArchivePage`](crate::archive::ArchivePage) names it.
    pub archive: Option<Cow<'a, str>>,
    /// Of an archive page, how many entries the archive has.
    pub members: Option<u64>,
    /// Of an archive page, the hint that its share of the entries makes.
    pub share: Option<Priority>,
    /// Of an archive page: the site's pages are known, and it is not among them.
    pub not_there: bool,
    /// The folder that serves its URL was read, and has no page there.
    pub not_in_folder: bool,
    /// The videos that the page itself describes as linked data (schema.org `VideoObject`).
    pub stated_videos: Vec<Video>,
    /// The page was read and has no `head`: neither title nor canonical can be known.
    pub no_head: bool,
}

impl<'a> Said<'a> {
    /// Reads a row that [`Row`] wrote. Bytes that no row holds are passed over: rows are kept in the ledger, and one that
    /// was damaged on disk must not stop a build.
    pub fn read(row: &'a [u8]) -> Self {
        let mut said = Self::default();
        for (field, bytes) in fields(row) {
            said.take(field, bytes);
        }
        said
    }

    fn take(&mut self, field: Field, bytes: &'a [u8]) {
        let text = || match std::str::from_utf8(bytes) {
            Ok(text) => Cow::Borrowed(text),
            Err(_) => String::from_utf8_lossy(bytes),
        };
        macro_rules! take_text {
            ($name:ident $number:ident) => {
                if field == Field::$number {
                    self.$name = Some(text());
                    return;
                }
            };
        }
        match field {
            Field::Url => self.url = text(),
            Field::Modified => self.modified = Lastmod::from_bytes(bytes),
            Field::Published => self.published = Lastmod::from_bytes(bytes),
            Field::Expires => self.expires = Lastmod::from_bytes(bytes),
            Field::Recorded => self.recorded = Lastmod::from_bytes(bytes),
            Field::Image => self.images.push(text()),
            Field::Category => self.categories.push(text()),
            Field::Tag => self.tags.push(text()),
            Field::Author => self.authors.push(text()),
            Field::UnknownPlayer => self.unknown_players.push(text()),
            Field::Video => self.videos.extend(serde_json::from_slice::<Video>(bytes)),
            Field::StatedVideo => self.stated_videos.extend(serde_json::from_slice::<Video>(bytes)),
            Field::DatePolicy => self.date_policy = DatePolicy::ALL.get(first(bytes)).copied(),
            Field::Members => self.members = bytes.try_into().ok().map(u64::from_le_bytes),
            Field::Share => self.share = bytes.first().and_then(|&number| Priority::from_hundredths(number)),
            Field::NotThere => self.not_there = true,
            Field::NotInFolder => self.not_in_folder = true,
            Field::Alternate => {
                if let Some((language, url)) = std::str::from_utf8(bytes).ok().and_then(|text| text.split_once('\0')) {
                    self.alternates.push(Alternate { language: language.into(), url: url.into() });
                }
            }
            Field::Digest => self.digest = bytes.try_into().ok().map(u64::from_le_bytes),
            Field::Keep => self.keep = bytes.first().map(|&byte| byte != 0),
            Field::Changefreq => self.changefreq = Changefreq::ALL.get(first(bytes)).copied(),
            Field::Priority => {
                self.priority = bytes.first().and_then(|&number| Priority::from_hundredths(number));
            }
            Field::NoHead => self.no_head = true,
            Field::Draft => self.draft = true,
            _ => {
                each_text!(take_text);
            }
        }
    }

    /// Adds what a later source says. For each field the first source that says it wins; lists are united; a noindex, a
    /// failure or a draft from any of them stands.
    pub fn merge(&mut self, other: Self) {
        fn fill<T>(mine: &mut Option<T>, theirs: Option<T>) {
            if mine.is_none() {
                *mine = theirs;
            }
        }
        fn unite<T: PartialEq>(mine: &mut Vec<T>, theirs: Vec<T>) {
            for one in theirs {
                if !mine.contains(&one) {
                    mine.push(one);
                }
            }
        }
        macro_rules! fill_field {
            ($name:ident $number:ident) => {
                fill(&mut self.$name, other.$name);
            };
        }
        macro_rules! unite_field {
            ($name:ident $number:ident) => {
                unite(&mut self.$name, other.$name);
            };
        }
        each_text!(fill_field);
        each_date!(fill_field);
        each_list!(unite_field);
        unite(&mut self.alternates, other.alternates);
        fill(&mut self.digest, other.digest);
        fill(&mut self.keep, other.keep);
        fill(&mut self.changefreq, other.changefreq);
        fill(&mut self.priority, other.priority);
        fill(&mut self.date_policy, other.date_policy);
        fill(&mut self.members, other.members);
        fill(&mut self.share, other.share);
        unite(&mut self.stated_videos, other.stated_videos);
        self.not_there |= other.not_there;
        self.not_in_folder |= other.not_in_folder;
        self.no_head |= other.no_head;
        self.draft |= other.draft;
        other.videos.into_iter().for_each(|video| video::unite(&mut self.videos, video));
    }

    /// The fields on which another source says something else, by name. Lists are united and hence never at odds; nor are titles that
    /// differ by the name of the site, and instants that differ by their zone.
    pub fn at_odds(&self, other: &Said<'_>) -> Vec<&'static str> {
        let mut fields = Vec::new();
        macro_rules! compare {
            ($name:ident $number:ident) => {
                if self.$name.is_some() && other.$name.is_some() && self.$name != other.$name {
                    fields.push(stringify!($name));
                }
            };
        }
        each_text!(compare);
        each_date!(compare);
        compare!(keep Keep);
        compare!(changefreq Changefreq);
        compare!(priority Priority);
        compare!(date_policy DatePolicy);
        // The name of the site at its end makes no other title, a zone makes no other instant.
        let one_title =
            || self.title.as_deref().zip(other.title.as_deref()).is_some_and(|(one, other)| is_same(one, other));
        let mut one_date = Vec::new();
        macro_rules! is_one_date {
            ($name:ident $number:ident) => {
                if self.$name.zip(other.$name).is_some_and(|(one, other)| one.is_same(&other)) {
                    one_date.push(stringify!($name));
                }
            };
        }
        each_date!(is_one_date);
        let means_the_same = |field: &&str| one_date.contains(field) || *field == "title" && one_title();
        fields.retain(|field| !means_the_same(field));
        fields
    }

    /// All that is said besides the URL, field by field, in words. A list has a line for each of its items.
    pub fn words(&self) -> Vec<(&'static str, String)> {
        let mut words = Vec::new();
        macro_rules! tell {
            ($name:ident $number:ident) => {
                words.extend(self.$name.iter().map(|word| (stringify!($name), word.to_string())));
            };
        }
        each_text!(tell);
        each_date!(tell);
        each_list!(tell);
        words.extend(self.alternates.iter().map(|one| ("alternates", format!("{} {}", one.language, one.url))));
        words.extend(
            self.videos.iter().map(|video| ("videos", video.place().unwrap_or("(no file or player)").to_owned())),
        );
        words.extend(self.draft.then(|| ("draft", "yes".to_owned())));
        words.extend(self.keep.map(|keep| ("keep", if keep { "yes" } else { "no" }.to_owned())));
        words.extend(self.changefreq.map(|hint| ("changefreq", hint.as_str().to_owned())));
        words.extend(self.priority.map(|hint| ("priority", hint.to_string())));
        words.extend(self.date_policy.map(|policy| ("date_policy", policy.as_str().to_owned())));
        words.extend(self.members.map(|members| ("members", members.to_string())));
        words.extend(self.digest.map(|digest| ("content", format!("digest {digest:016x}"))));
        words
    }

    /// The same, borrowing from nothing.
    pub fn into_owned(self) -> Said<'static> {
        let mut owned = Said::<'static> {
            url: Cow::Owned(self.url.into_owned()),
            videos: self.videos,
            digest: self.digest,
            draft: self.draft,
            keep: self.keep,
            changefreq: self.changefreq,
            priority: self.priority,
            date_policy: self.date_policy,
            members: self.members,
            share: self.share,
            not_there: self.not_there,
            not_in_folder: self.not_in_folder,
            stated_videos: self.stated_videos,
            no_head: self.no_head,
            ..Said::default()
        };
        let own = |text: Cow<'_, str>| Cow::Owned(text.into_owned());
        macro_rules! own_text {
            ($name:ident $number:ident) => {
                owned.$name = self.$name.map(own);
            };
        }
        macro_rules! copy_date {
            ($name:ident $number:ident) => {
                owned.$name = self.$name;
            };
        }
        macro_rules! own_list {
            ($name:ident $number:ident) => {
                owned.$name = self.$name.into_iter().map(own).collect();
            };
        }
        each_text!(own_text);
        each_date!(copy_date);
        each_list!(own_list);
        let own_alternate = |one: Alternate<'_>| Alternate { language: own(one.language), url: own(one.url) };
        owned.alternates = self.alternates.into_iter().map(own_alternate).collect();
        owned
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
    std::str::from_utf8(address_of(row)).unwrap_or("")
}

/// The bytes of the URL of a row, without looking at them.
pub fn address_of(row: &[u8]) -> &[u8] {
    match fields(row).next() {
        Some((Field::Url, bytes)) => bytes,
        _ => b"",
    }
}

/// How a failure begins where the server gave no answer.
pub const NO_ANSWER: &str = "no answer";

/// Why there is no page at a URL.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Absence {
    /// The server says so.
    NotThere,
    /// The server failed, or did not answer: it may do better another time.
    ServerError,
    /// What is there is not a page.
    OtherThing,
}

impl Absence {
    /// Reads [`Said::failure`].
    pub fn of(failure: &str) -> Self {
        if failure.starts_with(['5']) || failure.starts_with("429") || failure.starts_with(NO_ANSWER) {
            Self::ServerError
        } else if failure.starts_with(|letter: char| letter.is_ascii_digit()) {
            Self::NotThere
        } else {
            Self::OtherThing
        }
    }
}

/// Whether a row says that the server has nothing there, without reading the rest.
pub fn is_dead(row: &[u8]) -> bool {
    let says = |bytes: &[u8]| std::str::from_utf8(bytes).is_ok_and(|words| Absence::of(words) == Absence::NotThere);
    fields(row).any(|(field, bytes)| field == Field::Failure && says(bytes))
}

/// The known fields of a row, in the order they were written.
fn fields(row: &[u8]) -> impl Iterator<Item = (Field, &[u8])> {
    let mut rest = row;
    std::iter::from_fn(move || {
        loop {
            let (&tag, after_tag) = rest.split_first()?;
            let (length, after_length) = varint::read(after_tag)?;
            let bytes = after_length.get(..length)?;
            rest = &after_length[length..];
            if let Some(field) = Field::from_tag(tag) {
                return Some((field, bytes));
            }
        }
    })
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
        macro_rules! put_text {
            ($name:ident $number:ident) => {
                row.text(Field::$number, said.$name.as_deref());
            };
        }
        macro_rules! put_date {
            ($name:ident $number:ident) => {
                row.date(Field::$number, said.$name);
            };
        }
        macro_rules! put_list {
            ($name:ident $number:ident) => {
                said.$name.iter().for_each(|text| row.text(Field::$number, Some(text)));
            };
        }
        each_date!(put_date);
        each_text!(put_text);
        each_list!(put_list);
        for Alternate { language, url } in &said.alternates {
            row.put(Field::Alternate, [language.as_bytes(), b"\0", url.as_bytes()].concat().as_slice());
        }
        said.videos.iter().for_each(|video| row.video(Field::Video, video));
        said.stated_videos.iter().for_each(|video| row.video(Field::StatedVideo, video));
        if let Some(policy) = said.date_policy {
            row.put(Field::DatePolicy, &[policy as u8]);
        }
        if let Some(members) = said.members {
            row.put(Field::Members, &members.to_le_bytes());
        }
        if let Some(share) = said.share {
            row.put(Field::Share, &[share.hundredths()]);
        }
        if let Some(digest) = said.digest {
            row.put(Field::Digest, &digest.to_le_bytes());
        }
        if let Some(keep) = said.keep {
            row.put(Field::Keep, &[u8::from(keep)]);
        }
        if let Some(changefreq) = said.changefreq {
            row.put(Field::Changefreq, &[changefreq as u8]);
        }
        if let Some(priority) = said.priority {
            row.put(Field::Priority, &[priority.hundredths()]);
        }
        for (flag, field) in [
            (said.no_head, Field::NoHead),
            (said.draft, Field::Draft),
            (said.not_there, Field::NotThere),
            (said.not_in_folder, Field::NotInFolder),
        ] {
            if flag {
                row.put(field, &[]);
            }
        }
    }

    fn date(&mut self, field: Field, date: Option<Lastmod>) {
        if let Some(date) = date {
            self.put(field, &date.to_bytes());
        }
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

    fn video(&mut self, field: Field, video: &Video) {
        // A struct of optional texts and numbers has nothing that JSON could refuse.
        if let Ok(bytes) = serde_json::to_vec(video) {
            self.put(field, &bytes);
        }
    }

    fn text(&mut self, field: Field, text: Option<&str>) {
        if let Some(text) = text.filter(|text| !text.is_empty()) {
            self.put(field, text.as_bytes());
        }
    }

    fn put(&mut self, field: Field, bytes: &[u8]) {
        self.out.push(field as u8);
        varint::push(self.out, bytes.len());
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
            words in proptest::collection::vec(".{1,20}", 0..3),
        ) {
            let words: Vec<Cow<'static, str>> = words.into_iter().map(Cow::from).collect();
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
                draft: true,
                expires: seconds.map(|seconds| Lastmod::Instant { seconds, offset: 0 }),
                categories: words.clone(),
                unknown_players: words.clone(),
                redirected: Some("301 Moved Permanently".into()),
                authors: words,
                own_section: Some("halts".into()),
                date_policy: Some(DatePolicy::Seen),
                archive: Some("category halts".into()),
                members: digest,
                share: hundredths.and_then(Priority::from_hundredths),
                not_there: true,
                not_in_folder: true,
                unreadable: Some("published “soon”".into()),
                stated_videos: vec![Video { title: Some("Cab ride".into()), ..Video::default() }],
                failure: Some("404 Not Found".into()),
                language_group: Some("halts".into()),
                alternates: vec![Alternate { language: "cy".into(), url: "https://www.marrowvale.example/cy/".into() }],
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
    fn a_dead_page_is_told_without_reading_it() {
        let dead = |failure: Option<&'static str>| {
            let mut row = Vec::new();
            let failure = failure.map(Cow::Borrowed);
            Row::write(&mut row, &Said { title: Some("7".into()), failure, ..Said::default() });
            is_dead(&row)
        };
        assert!(dead(Some("404 Not Found")) && dead(Some("302 Found that leads nowhere")));
        assert!(!dead(Some("500 Internal Server Error")) && !dead(Some("no answer: connection refused")));
        assert!(!dead(Some("image/png, which is no page")) && !dead(None));
    }

    #[test]
    fn sources_differ_only_where_they_mean_something_else() {
        let said = |title: &'static str, modified: &str| Said {
            title: Some(title.into()),
            modified: day(modified),
            ..Said::default()
        };
        let page = said("Frost | Marrow Vale", "2026-07-01T01:38:00+01:00");
        assert!(page.at_odds(&said("Frost", "2026-07-01T00:38:00Z")).is_empty());
        assert_eq!(page.at_odds(&said("Thaw", "2026-07-01T00:39:00Z")), ["title", "modified"]);
        assert_eq!(page.at_odds(&said("Frost", "2026-07-01")), ["modified"]);
    }

    #[test]
    fn age_is_publication_before_change() {
        let said = Said { modified: day("2026-03-04"), published: day("1970-01-02"), ..Said::default() };
        assert_eq!(said.age(), Some(86_400));
        assert_eq!(Said::default().age(), None);
    }
}
