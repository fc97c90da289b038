//! Fingerprints: what lets a build know an entry again and know what about it moved, without keeping its text.
//!
//! | fingerprint | of | moves when | decides |
//! |---|---|---|---|
//! | [`key`] | the address | never | which entry this is |
//! | [`row`] | all that the sources say, byte for byte | anything at all was said differently | whether the file may differ |
//! | [`raw`] | a row as it came, unread | its bytes move, or how they are read | whether it has to be read at all |
//! | [`decided`] | what is said, and how it goes in | either moves | together with date and group: [`written`] |
//! | [`Prints::page`] | what the *page* says | its content, title, pictures … move | observed dates, announcements |
//! | [`Prints::declared`] | the declared dates | they move | announcements; tells an edit from a redesign |

use std::borrow::Cow;

use serde::{Deserialize, Serialize};
use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed, xxh3_128_with_seed};

use crate::choose::Kept;
use crate::contribution::{Alternate, Said};
use crate::lastmod::{BYTES, Lastmod};
use crate::strand::Strand;

/// The address of an entry as 128 bits. The seed is the ledger's own, so that nobody can prepare collisions.
pub fn key(seed: u64, address: &str) -> u128 {
    xxh3_128_with_seed(address.as_bytes(), seed)
}

/// One contribution, byte for byte. The rows of one entry are summed, so that their order does not matter.
pub fn row(bytes: &[u8]) -> u64 {
    xxh3_64(bytes)
}

/// One contribution as it came, before it was read; `reading` is a fingerprint of how it is read.
pub fn raw(bytes: &[u8], reading: u64) -> u64 {
    xxh3_64_with_seed(bytes, reading)
}

/// What was decided of an entry in a strand: what the sources say of it, and how it goes in.
pub fn decided(said: u64, kept: &Kept, strand: Strand) -> u64 {
    let hints = [
        kept.changefreq.map_or(0, |hint| hint as u8 + 1),
        kept.priority.map_or(0, |hint| hint.hundredths() + 1),
        kept.date_policy as u8,
        strand as u8,
    ];
    let section = u32::from(kept.section);
    xxh3_64_with_seed(&(u64::from(u32::from_le_bytes(hints)) << 32 | u64::from(section)).to_le_bytes(), said)
}

/// What is written of an entry of which this was [`decided`]: under these settings, with this date, in this group of
/// translations. Moves at least whenever the bytes in the file would.
pub fn written(decided: u64, settings: u64, observed: Option<i32>, group: u64) -> u64 {
    let observed = observed.map_or(0, |day| (i64::from(day) << 1 | 1) as u64);
    xxh3_64_with_seed([decided, observed ^ group.rotate_left(32)].map(u64::to_le_bytes).as_flattened(), settings)
}

/// A group of translations, as it is written.
pub fn group(alternates: &[Alternate<'_>]) -> u64 {
    let mut bytes = Vec::new();
    for Alternate { language, url } in alternates {
        bytes.extend_from_slice(language.as_bytes());
        bytes.push(0);
        bytes.extend_from_slice(url.as_bytes());
        bytes.push(0);
    }
    xxh3_64(&bytes)
}

/// Settings that have a say in what is written, from any text that spells them out.
pub fn settings(text: &str) -> u64 {
    xxh3_64(text.as_bytes())
}

/// What a page may say of itself, field by field: what [`Prints`] are taken of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[repr(u8)]
pub enum Field {
    /// Its title.
    Title,
    /// Its summary.
    Description,
    /// Its language.
    Language,
    /// Its canonical address.
    Canonical,
    /// Its directive that forbids indexing.
    Noindex,
    /// Where it sends its visitors on to.
    Refresh,
    /// The digest of its content.
    Content,
    /// Its pictures.
    Images,
    /// Its videos.
    Videos,
    /// The declared date of its last change.
    Modified,
    /// The declared date of its publication.
    Published,
}

impl Field {
    /// All of them.
    pub const ALL: [Self; 11] = [
        Self::Title,
        Self::Description,
        Self::Language,
        Self::Canonical,
        Self::Noindex,
        Self::Refresh,
        Self::Content,
        Self::Images,
        Self::Videos,
        Self::Modified,
        Self::Published,
    ];

    /// The part of [`Prints::page`] that it goes into; `None` for dates.
    pub fn part(self) -> Option<usize> {
        match self {
            Self::Title => Some(0),
            Self::Description | Self::Language | Self::Canonical | Self::Noindex | Self::Refresh => Some(1),
            Self::Content => Some(2),
            Self::Images | Self::Videos => Some(3),
            Self::Modified | Self::Published => None,
        }
    }
}

/// Some fields.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Fields(u16);

impl Fields {
    /// Those that something is said of.
    pub fn of(said: &Said<'_>) -> Self {
        let given = [
            (Field::Title, said.title.is_some()),
            (Field::Description, said.description.is_some()),
            (Field::Language, said.language.is_some()),
            (Field::Canonical, said.canonical.is_some()),
            (Field::Noindex, said.noindex.is_some()),
            (Field::Refresh, said.refresh.is_some()),
            (Field::Content, said.digest.is_some()),
            (Field::Images, !said.images.is_empty()),
            (Field::Videos, !said.videos.is_empty()),
            (Field::Modified, said.modified.is_some()),
            (Field::Published, said.published.is_some()),
        ];
        given.into_iter().filter_map(|(field, is_given)| is_given.then_some(field)).collect()
    }

    /// Whether a field is among them.
    pub fn has(self, field: Field) -> bool {
        self.0 & 1 << field as u8 != 0
    }

    /// These and those.
    pub fn and(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// What is said in these fields, and nothing else.
    pub fn select<'a>(self, said: &Said<'a>) -> Said<'a> {
        let text = |field: Field, text: &Option<Cow<'a, str>>| text.clone().filter(|_| self.has(field));
        Said {
            url: said.url.clone(),
            title: text(Field::Title, &said.title),
            description: text(Field::Description, &said.description),
            language: text(Field::Language, &said.language),
            canonical: text(Field::Canonical, &said.canonical),
            noindex: text(Field::Noindex, &said.noindex),
            refresh: text(Field::Refresh, &said.refresh),
            digest: said.digest.filter(|_| self.has(Field::Content)),
            images: if self.has(Field::Images) { said.images.clone() } else { Vec::new() },
            videos: if self.has(Field::Videos) { said.videos.clone() } else { Vec::new() },
            modified: said.modified.filter(|_| self.has(Field::Modified)),
            published: said.published.filter(|_| self.has(Field::Published)),
            ..Said::default()
        }
    }
}

impl FromIterator<Field> for Fields {
    fn from_iter<I: IntoIterator<Item = Field>>(fields: I) -> Self {
        Self(fields.into_iter().fold(0, |bits, field| bits | 1 << field as u8))
    }
}

/// What the page says, in two parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Prints {
    /// Content, title, description, language, pictures, videos, canonical and noindex. Its lower half holds a byte for each of four
    /// parts (see [`Field::part`]), so that one can be compared where another cannot; its upper half is of all.
    pub page: u64,
    /// The declared dates; 0 where there are none.
    pub declared: u32,
}

/// How many parts a print of a page has.
pub const PARTS: usize = 4;

impl Prints {
    /// Takes both prints; `scratch` is used again from entry to entry. Hints and the choice of section are the site's
    /// settings, not the page's word: they do not count.
    pub fn of(said: &Said<'_>, scratch: &mut Vec<u8>) -> Self {
        let mut parts = [0u64; PARTS];
        if let Some(title) = said.title.as_deref().filter(|title| !title.is_empty()) {
            parts[0] = xxh3_64(title.as_bytes());
        }
        let texts = [&said.description, &said.language, &said.canonical, &said.noindex, &said.refresh];
        if texts.iter().any(|text| text.as_deref().is_some_and(|text| !text.is_empty())) {
            scratch.clear();
            (2..).zip(texts).for_each(|(tag, text)| part(scratch, tag, text.as_deref().unwrap_or("").as_bytes()));
            parts[1] = xxh3_64(scratch);
        }
        if let Some(digest) = said.digest {
            parts[2] = xxh3_64(&digest.to_le_bytes());
        }
        if !said.images.is_empty() || !said.videos.is_empty() {
            scratch.clear();
            said.images.iter().for_each(|image| part(scratch, 8, image.as_bytes()));
            for video in &said.videos {
                part(scratch, 9, &serde_json::to_vec(video).unwrap_or_default());
            }
            parts[3] = xxh3_64(scratch);
        }
        let whole = xxh3_64(parts.map(u64::to_le_bytes).as_flattened());
        let low = parts.iter().rev().fold(0, |low, part| low << 8 | part >> 56);
        Self { page: whole << 32 | low, declared: declared(said) }
    }

    /// Whether a part of two prints of a page is the same.
    pub fn same_part(one: u64, other: u64, part: usize) -> bool {
        (one ^ other) >> (8 * part) & 0xff == 0
    }
}

/// Appends a part: what it is, how long it is, and its bytes.
fn part(out: &mut Vec<u8>, tag: u8, bytes: &[u8]) {
    let mut head = [tag; 9];
    head[1..].copy_from_slice(&(bytes.len() as u64).to_le_bytes());
    out.extend_from_slice(&head);
    out.extend_from_slice(bytes);
}

/// A date as it is written, in 32 bits; 0 where there is none. All that is known of an entry that was recalled from a sitemap.
pub fn written_date(date: Option<Lastmod>) -> u32 {
    date.map_or(0, |date| (xxh3_64(date.to_string().as_bytes()) as u32).max(1))
}

/// The declared dates, in 32 bits: never 0 where there is one.
fn declared(said: &Said<'_>) -> u32 {
    if said.modified.is_none() && said.published.is_none() {
        return 0;
    }
    let bytes = [said.modified, said.published].map(|date| date.map_or([0; BYTES], |date| date.to_bytes()));
    (xxh3_64(bytes.as_flattened()) as u32).max(1)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn prints(said: &Said<'_>) -> Prints {
        Prints::of(said, &mut Vec::new())
    }

    use crate::entry::{Changefreq, DatePolicy, Priority};

    fn page() -> Said<'static> {
        Said { title: Some("Fares".into()), digest: Some(7), ..Said::default() }
    }

    #[rstest]
    #[case::hint(Said { priority: Priority::new(0.3), changefreq: Some(Changefreq::Daily), ..page() }, false)]
    #[case::section(Said { section: Some("journal".into()), ..page() }, false)]
    #[case::text(Said { digest: Some(8), ..page() }, true)]
    #[case::picture(Said { images: vec!["https://www.marrowvale.example/a.svg".into()], ..page() }, true)]
    #[case::title(Said { title: Some("Fares 2027".into()), ..page() }, true)]
    fn only_the_page_itself_moves_its_print(#[case] other: Said<'static>, #[case] moves: bool) {
        assert_eq!(prints(&page()).page != prints(&other).page, moves);
    }

    /// Each field moves its own part, and what is selected of fields is what was said in them.
    #[rstest]
    #[case::title(Said { title: Some("Fares 2027".into()), ..page() }, Field::Title)]
    #[case::summary(Said { description: Some("What it costs".into()), ..page() }, Field::Description)]
    #[case::language(Said { language: Some("cy".into()), ..page() }, Field::Language)]
    #[case::content(Said { digest: Some(8), ..page() }, Field::Content)]
    #[case::pictures(Said { images: vec!["https://www.marrowvale.example/a.svg".into()], ..page() }, Field::Images)]
    fn parts_move_alone(#[case] other: Said<'static>, #[case] moved: Field) {
        let (one, two) = (prints(&page()).page, prints(&other).page);
        let parts: Vec<usize> = (0..PARTS).filter(|part| !Prints::same_part(one, two, *part)).collect();
        assert_eq!(parts, [moved.part().unwrap()]);
        let rest: Fields = Field::ALL.into_iter().filter(|field| *field != moved).collect();
        assert_eq!(prints(&rest.select(&page())), prints(&rest.select(&other)));
        assert_eq!(Fields::of(&other).select(&other), other);
    }

    #[test]
    fn a_text_with_nothing_in_it_is_none() {
        let empty = Said { description: Some("".into()), ..page() };
        assert_eq!(prints(&empty), prints(&page()));
    }

    #[test]
    fn a_declared_date_has_a_print_of_its_own() {
        let dated = Said { modified: Lastmod::from_epoch_day(20_000), ..page() };
        assert_eq!(prints(&dated).page, prints(&page()).page);
        assert_ne!(prints(&dated).declared, prints(&page()).declared);
        assert_eq!(prints(&page()).declared, 0);
    }

    #[test]
    fn keys_depend_on_the_seed() {
        assert_ne!(key(1, "https://www.marrowvale.example/"), key(2, "https://www.marrowvale.example/"));
    }

    #[test]
    fn written_follows_all_that_is_written() {
        let kept = Kept { section: 1, changefreq: None, priority: None, date_policy: DatePolicy::Usual };
        let told = |said, settings, observed, kept: &Kept, group, strand| {
            written(decided(said, kept, strand), settings, observed, group)
        };
        let base = told(1, 2, None, &kept, 0, Strand::Pages);
        let others = [
            told(2, 2, None, &kept, 0, Strand::Pages),
            told(1, 3, None, &kept, 0, Strand::Pages),
            told(1, 2, Some(0), &kept, 0, Strand::Pages),
            told(1, 2, None, &Kept { priority: Priority::new(0.0), ..kept }, 0, Strand::Pages),
            told(1, 2, None, &Kept { changefreq: Some(Changefreq::Always), ..kept }, 0, Strand::Pages),
            told(1, 2, None, &Kept { date_policy: DatePolicy::None, ..kept }, 0, Strand::Pages),
            told(1, 2, None, &Kept { section: 2, ..kept }, 0, Strand::Pages),
            told(1, 2, None, &kept, 9, Strand::Pages),
            told(1, 2, None, &kept, 0, Strand::News),
        ];
        assert!(others.iter().all(|other| *other != base));
    }
}
