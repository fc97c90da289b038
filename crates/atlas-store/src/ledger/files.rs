//! Sitemap files, their segments, and the files in the web root that they became.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::path::Path;
use std::sync::mpsc::sync_channel;
use std::thread;

use atlas_core::format::Frame;
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::Limits;
use atlas_core::strand::Strand;
use jiff::tz::TimeZone;
use rusqlite::{Connection, OpenFlags, OptionalExtension, params};

use super::interest::{Interest, Untouched, Why};
use super::lane::{LaneEntry, NEVER, from_bytes};
use super::{Ledger, Writing};
use crate::arrival::tag;
use crate::bytes::part;
use crate::disk::OnDisk;
use crate::error::StoreError;
use crate::source::Stamp;
use crate::spill::{Lanes, RECORD, Record};
use crate::squeeze::Segment;

/// A sitemap file as the ledger remembers it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileRow {
    /// Its number in the ledger.
    pub id: i64,
    /// The section it belongs to.
    pub section: String,
    /// The strand of that section.
    pub strand: Strand,
    /// Its number within the strand.
    pub number: u32,
    /// What it may hold.
    pub limits: Limits,
    /// What it holds and when that changed.
    pub standing: Standing,
    /// Its segments, in order.
    pub segments: Vec<SegmentRow>,
}

/// The content of a sitemap file, in brief.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Standing {
    /// When it last changed, in seconds since 1970.
    pub changed: i64,
    /// CRC-32 of the unpacked file.
    pub crc: u32,
    /// Unpacked size.
    pub size: u64,
}

impl FileRow {
    /// Entries in it.
    pub fn urls(&self) -> u32 {
        self.segments.iter().map(|segment| segment.count).sum()
    }

    /// Bytes of its entries.
    pub fn bytes(&self) -> u64 {
        self.segments.iter().map(|segment| segment.size).sum()
    }
}

/// A segment, without its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SegmentRow {
    /// Its number within the file; not all numbers need be taken.
    pub number: u32,
    /// Entries in it.
    pub count: u32,
    /// Unpacked size.
    pub size: u64,
    /// CRC-32 of its unpacked text.
    pub crc: u32,
    /// What it holds.
    pub facts: Facts,
    /// The namespaces it needs.
    pub frame: Frame,
    /// Where its entries begin among all that are remembered.
    pub first: usize,
}

/// What some entries hold, as it is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Facts {
    /// Pictures.
    pub images: u64,
    /// Videos.
    pub videos: u64,
    /// The newest date.
    pub newest: Option<Lastmod>,
}

impl Facts {
    /// Adds those of other entries.
    pub fn add(&mut self, other: Self) {
        self.images += other.images;
        self.videos += other.videos;
        if let Some(date) = other.newest
            && self.newest.is_none_or(|known| known.seconds() < date.seconds())
        {
            self.newest = Some(date);
        }
    }

    /// Pictures and videos.
    pub fn media(&self) -> u64 {
        self.images + self.videos
    }
}

impl SegmentRow {
    /// From its row in the ledger.
    fn of(row: &rusqlite::Row<'_>, first: usize) -> Result<Self, StoreError> {
        let number = |at: usize| row.get::<_, i64>(at).map(|number| number as u64);
        let newest: Option<String> = row.get(7)?;
        let facts = Facts {
            images: number(5)?,
            videos: number(6)?,
            newest: newest.and_then(|text| Lastmod::read(&text, &TimeZone::UTC)),
        };
        Ok(Self {
            number: row.get(1)?,
            count: row.get(2)?,
            size: number(3)?,
            crc: row.get(4)?,
            facts,
            frame: Frame::from_bits(row.get(8)?),
            first,
        })
    }

    /// The places of its entries among all that are remembered.
    pub fn range(&self) -> Range<usize> {
        self.first..self.first + self.count as usize
    }
}

/// What joining needs to know of a remembered entry.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Known {
    pub(crate) key: u128,
    pub(crate) written: u64,
    /// By which its row is known unread; 0 where it is not.
    pub(crate) raw: u64,
    /// Its place among all that are remembered.
    pub(crate) at: u32,
    pub(crate) from_page: bool,
}

impl Record for Known {
    fn key(&self) -> u128 {
        self.key
    }

    fn pack(&self) -> [u8; RECORD] {
        let mut bytes = [0; RECORD];
        bytes[..16].copy_from_slice(&self.key.to_le_bytes());
        bytes[16..24].copy_from_slice(&self.written.to_le_bytes());
        bytes[24..32].copy_from_slice(&self.raw.to_le_bytes());
        bytes[32..36].copy_from_slice(&self.at.to_le_bytes());
        bytes[36] = u8::from(self.from_page);
        bytes
    }

    fn unpack(bytes: &[u8; RECORD]) -> Self {
        Self {
            key: u128::from_le_bytes(part(bytes, 0)),
            written: u64::from_le_bytes(part(bytes, 16)),
            raw: u64::from_le_bytes(part(bytes, 24)),
            at: u32::from_le_bytes(part(bytes, 32)),
            from_page: bytes[36] != 0,
        }
    }
}

/// A file in the web root that is ours.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OutputRow {
    /// How it looked when it was written.
    pub on_disk: OnDisk,
    /// When it left the index, in seconds since 1970.
    pub retired: Option<i64>,
}

/// All that a build needs to know of the one before.
#[derive(Debug)]
pub struct Remembered {
    /// Sitemap files.
    pub files: Vec<FileRow>,
    /// The entries in the strand of the pages that some row may speak of, by their keys.
    pub(crate) known: Lanes<Known>,
    /// Whether each entry is known to be as it was, without any row.
    pub(crate) untouched: Untouched,
    /// How many entries there are, each counted once for every strand that it stands in.
    entries: usize,
    /// The days on which contents were seen to change, where they were, in the order of the entries.
    observed: Vec<(u32, i32)>,
    /// The number that the next file of a section's strand gets.
    pub next_numbers: BTreeMap<(String, Strand), u32>,
    /// Files in the web root.
    pub outputs: BTreeMap<String, OutputRow>,
    /// Files that a build had begun to write when it was stopped.
    pub planned: BTreeSet<String>,
}

/// How many segments are read ahead.
const SEGMENTS_AHEAD: usize = 64;

/// What is remembered of the entries of a segment, as it was read.
struct SegmentRead {
    strand: Strand,
    first: usize,
    count: usize,
    lane: Vec<u8>,
    raws: Vec<u8>,
}

impl Remembered {
    /// Nothing yet.
    fn new(folder: &Path) -> Self {
        Self {
            files: Vec::new(),
            known: Lanes::new(folder, 0),
            untouched: Untouched::None,
            entries: 0,
            observed: Vec::new(),
            next_numbers: BTreeMap::new(),
            outputs: BTreeMap::new(),
            planned: BTreeSet::new(),
        }
    }

    /// How many entries there are, each counted once for every strand that it stands in.
    pub fn entries(&self) -> usize {
        self.entries
    }

    /// The segments of the files of some strands, in the order of their entries.
    pub fn segments(&self, strand: impl Fn(Strand) -> bool) -> impl Iterator<Item = (&FileRow, &SegmentRow)> {
        let files = self.files.iter().filter(move |file| strand(file.strand));
        files.flat_map(|file| file.segments.iter().map(move |segment| (file, segment)))
    }

    /// The strand that an entry stands in.
    pub(crate) fn strand_of(&self, at: u32) -> Strand {
        let mut segments = self.segments(|_| true);
        let found = segments.find(|(_, segment)| segment.range().contains(&(at as usize)));
        found.map_or(Strand::Pages, |(file, _)| file.strand)
    }

    /// The day on which the content of an entry was last seen to change, as of the last build.
    pub(crate) fn observed(&self, at: u32) -> Option<i32> {
        let found = self.observed.binary_search_by_key(&at, |(at, _)| *at).ok()?;
        Some(self.observed[found].1)
    }

    /// Lets go of what only joining needs.
    pub(crate) fn drop_known(&mut self, folder: &Path) {
        self.known = Lanes::new(folder, 0);
    }
}

impl Ledger {
    /// Reads what a build needs, but for the entries.
    pub(crate) fn remembered(&self) -> Result<Remembered, StoreError> {
        let mut remembered = Remembered::new(self.folder());
        let connection = &self.connection;
        let mut statement = connection
            .prepare("select id, section, number, most_urls, most_bytes, changed, crc, size, strand, most_media from file order by id")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            remembered.files.push(FileRow {
                id: row.get(0)?,
                section: row.get(1)?,
                number: row.get(2)?,
                strand: strand_of(&row.get::<_, String>(8)?)?,
                limits: Limits { urls: row.get(3)?, bytes: row.get::<_, i64>(4)? as u64, media: row.get(9)? },
                standing: Standing { changed: row.get(5)?, crc: row.get(6)?, size: row.get::<_, i64>(7)? as u64 },
                segments: Vec::new(),
            });
        }
        let mut statement = connection.prepare(
            "select file, number, count, size, crc, images, videos, newest, frame from segment order by file, number",
        )?;
        let (mut rows, mut at) = (statement.query([])?, 0);
        while let Some(row) = rows.next()? {
            let (file, segment): (i64, _) = (row.get(0)?, SegmentRow::of(row, remembered.entries)?);
            while remembered.files.get(at).is_some_and(|known| known.id < file) {
                at += 1;
            }
            let Some(known) = remembered.files.get_mut(at).filter(|known| known.id == file) else {
                return Err(StoreError::LedgerDamaged("a segment belongs to no file"));
            };
            remembered.entries += segment.count as usize;
            known.segments.push(segment);
        }
        let mut statement = connection.prepare("select section, strand, number from next_number")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let strand = strand_of(&row.get::<_, String>(1)?)?;
            remembered.next_numbers.insert((row.get(0)?, strand), row.get(2)?);
        }
        let mut statement = connection.prepare("select name, size, modified, crc, retired from output")?;
        let rows = statement.query_map([], |row| {
            let stamp = Stamp { size: row.get::<_, i64>(1)? as u64, modified: row.get(2)? };
            Ok((row.get(0)?, OutputRow { on_disk: OnDisk { stamp, crc: row.get(3)? }, retired: row.get(4)? }))
        })?;
        remembered.outputs = rows.collect::<Result<_, _>>()?;
        let mut statement = connection.prepare("select name from planned")?;
        remembered.planned = statement.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?;
        Ok(remembered)
    }

    /// Reads what is remembered of the entries, in about so much memory: of all of them, or of those that there is interest in,
    /// the others being as they were. Tells how many those are; `None` where a row speaks of one of them all the same.
    pub(crate) fn recollect(
        &self,
        remembered: &mut Remembered,
        memory: usize,
        interest: Option<&Interest>,
    ) -> Result<Option<usize>, StoreError> {
        let Remembered { files, known, observed, .. } = remembered;
        *known = Lanes::new(self.folder(), memory);
        observed.clear();
        let (mut untouched, mut quiet, mut sound) = (Vec::new(), 0, true);
        self.each_segment(files, |SegmentRead { strand, first, count, lane, raws }| {
            untouched.resize(if interest.is_some() { (first + count).div_ceil(64) } else { 0 }, 0u64);
            if strand != Strand::Pages {
                return Ok(());
            }
            let raws = raws.as_chunks().0;
            for (entry, nth) in from_bytes(&lane, count)?.zip(0..) {
                let (at, LaneEntry { key, written, observed: seen, from_page, .. }) = (first + nth, entry);
                match interest.map(|interest| interest.of(tag(key))) {
                    None | Some(Some(Why::Open)) => {}
                    Some(None) => {
                        untouched[at / 64] |= 1 << (at % 64);
                        quiet += 1;
                        continue;
                    }
                    Some(Some(Why::Spoken)) => sound = false,
                }
                let at = at as u32;
                if seen != NEVER {
                    observed.push((at, seen));
                }
                let raw = raws.get(nth).map_or(0, |raw| u64::from_le_bytes(*raw));
                let dealt = known.push(Known { key, written, raw, at, from_page });
                dealt.map_err(StoreError::io("cannot put entries aside in", self.folder()))?;
            }
            Ok(())
        })?;
        remembered.untouched = if interest.is_some() { Untouched::Some(untouched) } else { Untouched::None };
        Ok(sound.then_some(quiet))
    }

    /// Reads the entries of all segments in the order of their files, in a thread of its own: what comes of one is taken while
    /// the next is read.
    fn each_segment(
        &self,
        files: &[FileRow],
        mut take: impl FnMut(SegmentRead) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let path = self.path();
        let segments = || files.iter().flat_map(|file| file.segments.iter().map(move |segment| (file.strand, segment)));
        thread::scope(|scope| {
            let (sender, read) = sync_channel(SEGMENTS_AHEAD);
            let reading = scope.spawn(move || -> Result<(), StoreError> {
                let connection = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
                let mut statement =
                    connection.prepare("select lane, raws, lane_crc from segment order by file, number")?;
                let (mut rows, mut segments) = (statement.query([])?, segments());
                while let Some((row, (strand, segment))) = rows.next()?.zip(segments.next()) {
                    let lane: Vec<u8> = row.get(0)?;
                    check_lane(&lane, row.get(2)?)?;
                    let (first, count) = (segment.first, segment.count as usize);
                    // Nobody listens any more when what came before was refused.
                    if sender.send(SegmentRead { strand, first, count, lane, raws: row.get(1)? }).is_err() {
                        break;
                    }
                }
                Ok(())
            });
            let taken = read.into_iter().try_for_each(&mut take);
            let read = reading.join().unwrap_or(Err(StoreError::Stopped));
            taken.and(read)
        })
    }

    /// The compressed text of a segment.
    pub fn body(&self, file: i64, segment: u32) -> Result<Vec<u8>, StoreError> {
        body(&self.connection, file, segment)
    }

    /// A segment as it is kept, with its text or, where that is at hand, without.
    pub(crate) fn whole(&self, file: i64, segment: u32, with_text: bool) -> Result<Whole, StoreError> {
        whole(&self.connection, file, segment, with_text)
    }

    /// The entries of a segment.
    pub fn lane(&self, file: i64, segment: &SegmentRow) -> Result<Vec<LaneEntry>, StoreError> {
        let mut statement =
            self.connection.prepare_cached("select lane, lane_crc from segment where file = ?1 and number = ?2")?;
        let lane = statement.query_row(params![file, segment.number], |row| Ok((row.get(0)?, row.get(1)?)));
        let missing = StoreError::LedgerDamaged("a segment is missing");
        let (lane, crc): (Vec<u8>, Option<u32>) = lane.optional()?.ok_or(missing)?;
        check_lane(&lane, crc)?;
        Ok(from_bytes(&lane, segment.count as usize)?.collect())
    }

    /// Whether a build was stopped while it wrote files.
    pub fn is_planned(&self) -> Result<bool, StoreError> {
        Ok(self.connection.query_row("select exists (select 1 from planned)", [], |row| row.get(0))?)
    }

    /// Writes down, at once, which files are about to be written.
    pub fn plan(&mut self, names: impl IntoIterator<Item = String>) -> Result<(), StoreError> {
        let transaction = self.connection.transaction()?;
        for name in names {
            transaction.execute("insert or ignore into planned values (?1)", [name])?;
        }
        Ok(transaction.commit()?)
    }
}

fn strand_of(word: &str) -> Result<Strand, StoreError> {
    Strand::named(word).ok_or(StoreError::LedgerDamaged("a file is of a strand that there is not"))
}

fn body(connection: &Connection, file: i64, segment: u32) -> Result<Vec<u8>, StoreError> {
    let mut statement = connection.prepare_cached("select body from segment where file = ?1 and number = ?2")?;
    let body = statement.query_row(params![file, segment], |row| row.get(0)).optional()?;
    body.ok_or(StoreError::LedgerDamaged("a segment is missing"))
}

fn whole(connection: &Connection, file: i64, segment: u32, with_text: bool) -> Result<Whole, StoreError> {
    let mut statement = connection.prepare_cached(
        "select lane, raws, iif(?3, body, x''), lane_crc from segment where file = ?1 and number = ?2",
    )?;
    let whole = statement.query_row(params![file, segment, with_text], |row| {
        Ok((Whole { lane: row.get(0)?, raws: row.get(1)?, body: row.get(2)? }, row.get(3)?))
    });
    let (whole, crc) = whole.optional()?.ok_or(StoreError::LedgerDamaged("a segment is missing"))?;
    check_lane(&whole.lane, crc)?;
    Ok(whole)
}

/// Refuses a lane that is not what was written.
fn check_lane(lane: &[u8], crc: Option<u32>) -> Result<(), StoreError> {
    match crc {
        Some(crc) if crc != crc32fast::hash(lane) => {
            Err(StoreError::LedgerDamaged("what is remembered of some entries is not what was written"))
        }
        _ => Ok(()),
    }
}

/// A segment as it is kept.
#[derive(Debug)]
pub(crate) struct Whole {
    lane: Vec<u8>,
    raws: Vec<u8>,
    /// Its compressed text; empty where it was asked for without.
    pub(crate) body: Vec<u8>,
}

impl Whole {
    /// What is kept of one of its entries: the bytes of its lane, and of that by which its row is known unread.
    pub(crate) fn entry(&self, at: u32) -> Option<(&[u8], [u8; 8])> {
        let entry = self.lane.as_chunks::<{ LaneEntry::BYTES }>().0.get(at as usize)?;
        Some((entry, self.raws.as_chunks().0.get(at as usize).copied().unwrap_or_default()))
    }

    /// By what its rows are known unread, 8 bytes an entry.
    pub(crate) fn into_raws(mut self) -> Vec<u8> {
        self.raws.resize(self.lane.len() / LaneEntry::BYTES * 8, 0);
        self.raws
    }
}

impl Writing<'_> {
    /// A segment as it is kept, with its text or, where that is at hand, without.
    pub(crate) fn whole(&self, file: i64, segment: u32, with_text: bool) -> Result<Whole, StoreError> {
        whole(&self.inner, file, segment, with_text)
    }

    /// The compressed text of a segment.
    pub fn body(&self, file: i64, segment: u32) -> Result<Vec<u8>, StoreError> {
        body(&self.inner, file, segment)
    }

    /// Opens a file and returns its number in the ledger.
    pub fn open_file(&self, section: &str, strand: Strand, number: u32, limits: Limits) -> Result<i64, StoreError> {
        self.inner.execute(
            "insert into file (section, strand, number, most_urls, most_bytes, most_media, changed, crc, size)
             values (?1, ?2, ?3, ?4, ?5, ?6, 0, 0, 0)",
            params![section, strand.as_str(), number, limits.urls, limits.bytes as i64, limits.media],
        )?;
        Ok(self.inner.last_insert_rowid())
    }

    /// Notes what a file holds and may hold.
    pub fn file_stands(&self, file: i64, limits: Limits, standing: Standing) -> Result<(), StoreError> {
        let mut statement = self.inner.prepare_cached(
            "update file set most_urls = ?2, most_bytes = ?3, most_media = ?4, changed = ?5, crc = ?6, size = ?7 where id = ?1",
        )?;
        let Standing { changed, crc, size } = standing;
        let Limits { urls, bytes, media } = limits;
        statement.execute(params![file, urls, bytes as i64, media, changed, crc, size as i64])?;
        Ok(())
    }

    /// Keeps a segment, in place of the one with its number.
    pub fn keep_segment(
        &self,
        file: i64,
        number: u32,
        (frame, facts): (Frame, Facts),
        segment: &Segment,
        (lane, raws): (&[u8], &[u8]),
    ) -> Result<(), StoreError> {
        let mut statement = self.inner.prepare_cached(
            "insert or replace into segment (file, number, count, size, crc, images, videos, newest, frame, lane_crc, lane, raws, body)
             values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)",
        )?;
        statement.execute(params![
            file,
            number,
            (lane.len() / LaneEntry::BYTES) as i64,
            segment.raw_size as i64,
            segment.crc,
            facts.images as i64,
            facts.videos as i64,
            facts.newest.map(|date| date.to_string()),
            frame.bits(),
            crc32fast::hash(lane),
            lane,
            raws,
            segment.body,
        ])?;
        Ok(())
    }

    /// Keeps by what the rows of a segment are known unread.
    pub fn keep_raws(&self, file: i64, number: u32, raws: &[u8]) -> Result<(), StoreError> {
        let mut statement =
            self.inner.prepare_cached("update segment set raws = ?3 where file = ?1 and number = ?2")?;
        statement.execute(params![file, number, raws])?;
        Ok(())
    }

    /// Forgets a segment.
    pub fn drop_segment(&self, file: i64, number: u32) -> Result<(), StoreError> {
        self.inner.execute("delete from segment where file = ?1 and number = ?2", params![file, number])?;
        Ok(())
    }

    /// Forgets a file and its segments.
    pub fn drop_file(&self, file: i64) -> Result<(), StoreError> {
        self.inner.execute("delete from segment where file = ?1", [file])?;
        self.inner.execute("delete from file where id = ?1", [file])?;
        Ok(())
    }

    /// Notes the number that the next file of a section's strand gets.
    pub fn set_next_number(&self, section: &str, strand: Strand, number: u32) -> Result<(), StoreError> {
        self.inner.execute(
            "insert or replace into next_number (section, strand, number) values (?1, ?2, ?3)",
            params![section, strand.as_str(), number],
        )?;
        Ok(())
    }

    /// Notes that the next file of a section's strand gets at least this number.
    pub fn raise_next_number(&self, section: &str, strand: Strand, number: u32) -> Result<(), StoreError> {
        self.inner.execute(
            "insert into next_number (section, strand, number) values (?1, ?2, ?3)
             on conflict (section, strand) do update set number = max(number, excluded.number)",
            params![section, strand.as_str(), number],
        )?;
        Ok(())
    }

    /// Notes a file in the web root.
    pub fn set_output(&self, name: &str, output: &OutputRow) -> Result<(), StoreError> {
        let OnDisk { stamp, crc } = output.on_disk;
        let mut statement = self.inner.prepare_cached(
            "insert or replace into output (name, size, modified, crc, retired) values (?1, ?2, ?3, ?4, ?5)",
        )?;
        statement.execute(params![name, stamp.size as i64, stamp.modified, crc, output.retired])?;
        Ok(())
    }

    /// Forgets a file in the web root.
    pub fn drop_output(&self, name: &str) -> Result<(), StoreError> {
        self.inner.execute("delete from output where name = ?1", [name])?;
        Ok(())
    }

    /// Notes that everything planned has been done.
    pub fn plan_is_done(&self) -> Result<(), StoreError> {
        self.inner.execute("delete from planned", [])?;
        Ok(())
    }
}
