//! What is remembered of crawlers' visits and of consoles' exports.

use std::collections::BTreeMap;

use atlas_core::uptake::export::Subject;
use serde::{Deserialize, Serialize};

use crate::bytes::part;
use crate::error::StoreError;

/// A part of what is remembered of access logs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UptakePart {
    /// [`VisitRecord`]s.
    Visits,
    /// Crawlers and how far logs were read: JSON.
    Logs,
    /// [`OtherRecord`]s: URLs that crawlers fetched and no sitemap lists.
    Others,
}

impl UptakePart {
    /// Its name in the ledger.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Visits => "visits",
            Self::Logs => "logs",
            Self::Others => "others",
        }
    }
}

/// The visits of crawlers to one entry, and since when an engine has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct VisitRecord {
    /// The tag of its key.
    pub tag: u64,
    /// The first visit, in seconds since 1970; 0 if there was none.
    pub first: u32,
    /// The first visit since it last changed; 0 if there was none.
    pub since: u32,
    /// The run in which it had last changed when that was recorded.
    pub changed: u32,
    /// The number of visits.
    pub count: u32,
    /// The last visit, in seconds since 1970.
    pub last: u32,
    /// The status of the last answer.
    pub status: u16,
    /// The longest time an answer took, in milliseconds; 0 if logs do not tell.
    pub slowest: u32,
    /// The first export that named it as picked up, in seconds since 1970; 0 if none did.
    pub picked_up: u32,
    /// The crawlers that came, as bits in their order.
    pub by: u64,
}

impl VisitRecord {
    /// The size of one record in bytes.
    pub(crate) const BYTES: usize = 46;

    /// Appends it as bytes.
    pub fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.tag.to_le_bytes());
        for number in [self.first, self.since, self.changed, self.count, self.last, self.slowest, self.picked_up] {
            out.extend_from_slice(&number.to_le_bytes());
        }
        out.extend_from_slice(&self.by.to_le_bytes());
        out.extend_from_slice(&self.status.to_le_bytes());
    }

    /// Reads records from bytes.
    ///
    /// # Errors
    ///
    /// Returns an error if the bytes do not consist of whole records.
    pub fn read_all(bytes: &[u8]) -> Result<impl Iterator<Item = Self>, StoreError> {
        let records = whole::<{ Self::BYTES }>(bytes)?.iter();
        Ok(records.map(|bytes| {
            let number = |nth: usize| u32::from_le_bytes(part(bytes, 8 + 4 * nth));
            Self {
                tag: u64::from_le_bytes(part(bytes, 0)),
                first: number(0),
                since: number(1),
                changed: number(2),
                count: number(3),
                last: number(4),
                slowest: number(5),
                picked_up: number(6),
                by: u64::from_le_bytes(part(bytes, 36)),
                status: u16::from_le_bytes(part(bytes, 44)),
            }
        }))
    }
}

/// A URL that crawlers fetched and that no sitemap lists.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct OtherRecord {
    /// The tag of its key.
    pub tag: u64,
    /// The number of visits.
    pub count: u32,
}

impl OtherRecord {
    const BYTES: usize = 12;

    /// Appends it as bytes.
    pub fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.tag.to_le_bytes());
        out.extend_from_slice(&self.count.to_le_bytes());
    }

    /// Reads records from bytes.
    ///
    /// # Errors
    ///
    /// Returns an error if the bytes do not consist of whole records.
    pub fn read_all(bytes: &[u8]) -> Result<impl Iterator<Item = Self>, StoreError> {
        let records = whole::<{ Self::BYTES }>(bytes)?.iter();
        Ok(records
            .map(|bytes| Self { tag: u64::from_le_bytes(part(bytes, 0)), count: u32::from_le_bytes(part(bytes, 8)) }))
    }
}

/// What the exports of one console said at one time of pages, pictures, videos or sitemap files.
#[derive(Debug, Clone, PartialEq)]
pub struct ConsoleLook {
    /// The name by which the user knows the engine.
    pub engine: String,
    /// What they are of.
    pub subject: Subject,
    /// When, in seconds since 1970.
    pub at: i64,
    /// What they said as a whole.
    pub facts: LookFacts,
}

/// What exports said as a whole.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LookFacts {
    /// The files.
    pub files: Vec<String>,
    /// The rows with a URL of the site.
    pub rows: u64,
    /// Whether what they do not name is not in the index: they list what is.
    pub is_whole: bool,
    /// URLs that they say are in the index.
    pub picked_up: u64,
    /// The reasons that they give, and whether each means “picked up”.
    pub reasons: Vec<(String, bool)>,
    /// URLs that no sitemap listed when they were read, by tag: the first of them.
    pub strange: BTreeMap<u64, String>,
    /// Sitemap files.
    pub sitemap_files: Vec<SitemapFileLook>,
    /// Through which sitemap file the engine knows the URLs: how many, and how many of them are in its index.
    pub through: BTreeMap<String, (u64, u64)>,
}

/// What a console says of a sitemap file.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SitemapFileLook {
    /// Its address.
    pub address: String,
    /// When the engine last read it, in seconds since 1970.
    pub read: Option<i64>,
    /// The URLs that it found in it.
    pub found: Option<u64>,
    /// The URLs of it that are in its index.
    pub in_index: Option<u64>,
    /// Its words for the state.
    pub words: Option<String>,
}

/// What an export said of one URL.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct LookRecord {
    /// The tag of its key.
    pub tag: u64,
    /// The place of the reason in [`LookFacts::reasons`], counted from 1; 0 if none was given.
    pub reason: u16,
    /// Whether it is picked up.
    pub picked_up: bool,
    /// The date of the row, in seconds since 1970; 0 if none was given.
    pub date: u32,
}

impl LookRecord {
    const BYTES: usize = 15;

    /// Appends it as bytes.
    pub fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.tag.to_le_bytes());
        out.extend_from_slice(&self.date.to_le_bytes());
        out.extend_from_slice(&self.reason.to_le_bytes());
        out.push(u8::from(self.picked_up));
    }

    /// Reads records from bytes.
    ///
    /// # Errors
    ///
    /// Returns an error if the bytes do not consist of whole records.
    pub fn read_all(bytes: &[u8]) -> Result<impl Iterator<Item = Self>, StoreError> {
        let records = whole::<{ Self::BYTES }>(bytes)?.iter();
        Ok(records.map(|bytes| Self {
            tag: u64::from_le_bytes(part(bytes, 0)),
            date: u32::from_le_bytes(part(bytes, 8)),
            reason: u16::from_le_bytes(part(bytes, 12)),
            picked_up: bytes[14] != 0,
        }))
    }
}

/// What searchers did with one URL on one day, or until the day of an export.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct NumbersRecord {
    /// The tag of its key.
    pub tag: u64,
    /// How often it was shown.
    pub shown: u32,
    /// How often it was clicked.
    pub clicked: u32,
    /// Its average position; 0 if that was not told.
    pub position: f32,
}

impl NumbersRecord {
    const BYTES: usize = 20;

    /// Appends it as bytes.
    pub fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.tag.to_le_bytes());
        out.extend_from_slice(&self.shown.to_le_bytes());
        out.extend_from_slice(&self.clicked.to_le_bytes());
        out.extend_from_slice(&self.position.to_le_bytes());
    }

    /// Reads records from bytes.
    ///
    /// # Errors
    ///
    /// Returns an error if the bytes do not consist of whole records.
    pub fn read_all(bytes: &[u8]) -> Result<impl Iterator<Item = Self>, StoreError> {
        let records = whole::<{ Self::BYTES }>(bytes)?.iter();
        Ok(records.map(|bytes| Self {
            tag: u64::from_le_bytes(part(bytes, 0)),
            shown: u32::from_le_bytes(part(bytes, 8)),
            clicked: u32::from_le_bytes(part(bytes, 12)),
            position: f32::from_le_bytes(part(bytes, 16)),
        }))
    }
}

/// Bytes as whole records.
fn whole<const BYTES: usize>(bytes: &[u8]) -> Result<&[[u8; BYTES]], StoreError> {
    match bytes.as_chunks() {
        (records, []) => Ok(records),
        _ => Err(StoreError::LedgerDamaged("records of visits or exports have the wrong length")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_round_trip() {
        let visit = VisitRecord {
            tag: u64::MAX / 3,
            first: 1,
            since: 2,
            changed: 3,
            count: 4,
            last: 5,
            status: 404,
            slowest: 6,
            picked_up: 7,
            by: 1 << 63,
        };
        let (mut visits, mut others, mut looks, mut numbers) = (vec![], vec![], vec![], vec![]);
        let other = OtherRecord { tag: 8, count: 9 };
        let look = LookRecord { tag: 10, reason: 11, picked_up: true, date: 12 };
        let number = NumbersRecord { tag: 13, shown: 14, clicked: 15, position: 4.5 };
        for _ in 0..2 {
            visit.write(&mut visits);
            other.write(&mut others);
            look.write(&mut looks);
            number.write(&mut numbers);
        }
        assert_eq!(VisitRecord::read_all(&visits).unwrap().collect::<Vec<_>>(), [visit, visit]);
        assert_eq!(OtherRecord::read_all(&others).unwrap().collect::<Vec<_>>(), [other, other]);
        assert_eq!(LookRecord::read_all(&looks).unwrap().collect::<Vec<_>>(), [look, look]);
        assert_eq!(NumbersRecord::read_all(&numbers).unwrap().collect::<Vec<_>>(), [number, number]);
        assert!(VisitRecord::read_all(&visits[1..]).is_err());
    }
}
