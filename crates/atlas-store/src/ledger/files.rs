//! Sitemap files, their segments, and the files in the web root that they became.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use atlas_core::placement::{Limits, Strand};
use rusqlite::params;

use super::interest::Untouched;
use super::segments::segment_row;
use super::{Ledger, Writing};
use crate::disk::spill::Lanes;
use crate::disk::{OnDisk, Stamp};
use crate::error::StoreError;
use crate::model::{FileRow, Known, OutputRow, SegmentRow, Standing};

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
    pub(super) observed: Vec<(u32, i32)>,
    /// The number that the next file of a section's strand gets.
    pub next_numbers: BTreeMap<(String, Strand), u32>,
    /// Files in the web root.
    pub outputs: BTreeMap<String, OutputRow>,
    /// Files that a build had begun to write when it was stopped.
    pub planned: BTreeSet<String>,
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
            let (file, segment): (i64, _) = (row.get(0)?, segment_row(row, remembered.entries)?);
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

impl Writing<'_> {
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

    /// Forgets a file and its segments.
    pub fn drop_file(&self, file: i64) -> Result<(), StoreError> {
        self.drop_segments(file)?;
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
