//! Fingerprints of what is written for an entry.

use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed};

use crate::choose::Kept;
use crate::language::Alternate;
use crate::lastmod::Lastmod;
use crate::placement::FileKind;

/// The decision about an entry in one kind of file: what the sources say of it, and how it is written.
pub fn decided(row_print: u64, kept: &Kept, kind: FileKind) -> u64 {
    let hints = [
        kept.changefreq.map_or(0, |hint| hint as u8 + 1),
        kept.priority.map_or(0, |hint| hint.hundredths() + 1),
        kept.date_policy as u8,
        kind as u8,
    ];
    let section = u32::from(kept.section) | u32::from(!kept.announce) << 16;
    xxh3_64_with_seed(&(u64::from(u32::from_le_bytes(hints)) << 32 | u64::from(section)).to_le_bytes(), row_print)
}

/// What is written for an entry with this [`decided`] fingerprint, under these settings, with this date, in this group
/// of translations. It changes whenever the bytes in the file would.
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

/// A date as it is written, in 32 bits; 0 for none. It is all that is known of an entry that was recalled from a
/// sitemap.
pub fn written_date(date: Option<Lastmod>) -> u32 {
    date.map_or(0, |date| (xxh3_64(date.to_string().as_bytes()) as u32).max(1))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::entry::{Changefreq, DatePolicy, Priority};

    #[test]
    fn the_fingerprint_covers_everything_written() {
        let kept =
            Kept { section: 1, changefreq: None, priority: None, date_policy: DatePolicy::Usual, announce: true };
        let told = |row_print, settings, observed, kept: &Kept, group, kind| {
            written(decided(row_print, kept, kind), settings, observed, group)
        };
        let base = told(1, 2, None, &kept, 0, FileKind::Pages);
        let others = [
            told(2, 2, None, &kept, 0, FileKind::Pages),
            told(1, 3, None, &kept, 0, FileKind::Pages),
            told(1, 2, Some(0), &kept, 0, FileKind::Pages),
            told(1, 2, None, &Kept { priority: Priority::new(0.0), ..kept }, 0, FileKind::Pages),
            told(1, 2, None, &Kept { changefreq: Some(Changefreq::Always), ..kept }, 0, FileKind::Pages),
            told(1, 2, None, &Kept { date_policy: DatePolicy::None, ..kept }, 0, FileKind::Pages),
            told(1, 2, None, &Kept { announce: false, ..kept }, 0, FileKind::Pages),
            told(1, 2, None, &Kept { section: 2, ..kept }, 0, FileKind::Pages),
            told(1, 2, None, &kept, 9, FileKind::Pages),
            told(1, 2, None, &kept, 0, FileKind::News),
        ];
        assert!(others.iter().all(|other| *other != base));
    }
}
