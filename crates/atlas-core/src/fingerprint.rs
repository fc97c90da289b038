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

use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed, xxh3_128_with_seed};

use crate::choose::Kept;
use crate::contribution::{Alternate, Said};
use crate::lastmod::BYTES;
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

/// What the page says, in two parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Prints {
    /// Content, title, description, language, pictures, videos, canonical and noindex.
    pub page: u64,
    /// The declared dates; 0 where there are none.
    pub declared: u32,
}

impl Prints {
    /// Takes both prints; `scratch` is used again from entry to entry. Hints and the choice of section are the site's
    /// settings, not the page's word: they do not count.
    pub fn of(said: &Said<'_>, scratch: &mut Vec<u8>) -> Self {
        let text = |text: &Option<Cow<'_, str>>, tag: u8, out: &mut Vec<u8>| {
            part(out, tag, text.as_deref().unwrap_or("").as_bytes());
        };
        scratch.clear();
        text(&said.title, 1, scratch);
        let texts = [&said.description, &said.language, &said.canonical, &said.noindex, &said.refresh];
        match texts.iter().all(|text| text.is_none()) {
            true => scratch.extend_from_slice(&NO_TEXTS),
            false => (2..).zip(texts).for_each(|(tag, one)| text(one, tag, scratch)),
        }
        part(scratch, 7, &said.digest.unwrap_or(0).to_le_bytes());
        said.images.iter().for_each(|image| part(scratch, 8, image.as_bytes()));
        for video in &said.videos {
            part(scratch, 9, &serde_json::to_vec(video).unwrap_or_default());
        }
        Self { page: xxh3_64(scratch), declared: declared(said) }
    }
}

/// Appends a part: what it is, how long it is, and its bytes.
fn part(out: &mut Vec<u8>, tag: u8, bytes: &[u8]) {
    let mut head = [tag; 9];
    head[1..].copy_from_slice(&(bytes.len() as u64).to_le_bytes());
    out.extend_from_slice(&head);
    out.extend_from_slice(bytes);
}

/// The parts of the texts besides the title, where there are none of them: as it is with most rows.
const NO_TEXTS: [u8; 45] = {
    let mut parts = [0; 45];
    let mut tag = 2;
    while tag <= 6 {
        parts[(tag - 2) * 9] = tag as u8;
        tag += 1;
    }
    parts
};

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
    use crate::lastmod::Lastmod;

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
