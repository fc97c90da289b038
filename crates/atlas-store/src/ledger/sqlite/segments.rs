//! The tables of segments: some hundreds of consecutive entries of a sitemap file.
//!
//! The contents of segments are in a table of their own, so that a build that looks for changes need not read past
//! them.

use std::sync::mpsc::sync_channel;
use std::thread;

use atlas_core::format::Frame;
use atlas_core::lastmod::Lastmod;
use jiff::tz::TimeZone;
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::{Changing, Sqlite};
use crate::disk::segmented_gzip::Segment;
use crate::error::StoreError;
use crate::ledger::{ReadSegments, WriteSegments};
use crate::model::{ContentCounts, PackedEntries, RememberedEntry, SegmentRow, Whole, from_bytes};

/// A segment from its row.
pub(super) fn segment_row(row: &Row<'_>, first: usize) -> Result<SegmentRow, StoreError> {
    let number = |at: usize| row.get::<_, i64>(at).map(|number| number as u64);
    let newest: Option<String> = row.get(7)?;
    let facts = ContentCounts {
        images: number(5)?,
        videos: number(6)?,
        newest: newest.and_then(|text| Lastmod::read(&text, &TimeZone::UTC)),
    };
    Ok(SegmentRow {
        number: row.get(1)?,
        count: row.get(2)?,
        size: number(3)?,
        crc: row.get(4)?,
        facts,
        frame: Frame::from_bits(row.get(8)?),
        first,
    })
}

const MISSING: StoreError = StoreError::LedgerDamaged("a segment is missing");

/// How many segments are read ahead.
const SEGMENTS_AHEAD: usize = 64;

/// How many contents without a segment may take up room in the ledger, some 18 KB each.
const MOST_OUTGROWN: usize = 2048;

impl ReadSegments for Sqlite {
    fn each_segment_entries(
        &self,
        take: &mut (dyn FnMut(PackedEntries) -> Result<(), StoreError> + Send),
    ) -> Result<(), StoreError> {
        thread::scope(|scope| {
            let (sender, packed) = sync_channel(SEGMENTS_AHEAD);
            let taking = scope.spawn(move || packed.into_iter().try_for_each(take));
            let read = (|| {
                let mut statement = self.connection.prepare_cached(
                    "select lane, raws, lane_crc from segment left join content on id = content order by file, number",
                )?;
                let mut rows = statement.query([])?;
                while let Some(row) = rows.next()? {
                    // If it were skipped, the following ones would be mistaken for it.
                    let entries: Vec<u8> = row.get::<_, Option<_>>(0)?.ok_or(MISSING)?;
                    check_entries(&entries, row.get(2)?)?;
                    // The receiver is gone if it rejected an earlier segment.
                    if sender.send(PackedEntries { entries, raws: row.get(1)? }).is_err() {
                        break;
                    }
                }
                Ok(())
            })();
            drop(sender);
            taking.join().unwrap_or(Err(StoreError::Stopped)).and(read)
        })
    }

    fn body(&self, file: i64, segment: u32) -> Result<Vec<u8>, StoreError> {
        body(&self.connection, file, segment)
    }

    fn whole(&self, file: i64, segment: u32, with_text: bool) -> Result<Whole, StoreError> {
        whole(&self.connection, file, segment, with_text)
    }

    fn entries_of(&self, file: i64, segment: &SegmentRow) -> Result<Vec<RememberedEntry>, StoreError> {
        let (entries, crc): (Vec<u8>, Option<u32>) =
            content(&self.connection, "lane, lane_crc", (file, segment.number), |row| Ok((row.get(0)?, row.get(1)?)))?;
        check_entries(&entries, crc)?;
        Ok(from_bytes(&entries, segment.count as usize)?.collect())
    }
}

/// Some columns of a segment's contents.
fn content<T>(
    connection: &Connection,
    columns: &str,
    (file, number): (i64, u32),
    take: impl FnOnce(&Row<'_>) -> rusqlite::Result<T>,
) -> Result<T, StoreError> {
    let mut statement = connection.prepare_cached(&format!(
        "select {columns} from segment cross join content on id = content where file = ?1 and number = ?2"
    ))?;
    let taken = statement.query_row(params![file, number], take).optional()?;
    taken.ok_or(MISSING)
}

fn body(connection: &Connection, file: i64, segment: u32) -> Result<Vec<u8>, StoreError> {
    content(connection, "body", (file, segment), |row| row.get(0))
}

fn whole(connection: &Connection, file: i64, segment: u32, with_text: bool) -> Result<Whole, StoreError> {
    let columns = if with_text { "lane, raws, lane_crc, body" } else { "lane, raws, lane_crc, x''" };
    let (whole, crc) = content(connection, columns, (file, segment), |row| {
        Ok((Whole { entries: row.get(0)?, raws: row.get(1)?, body: row.get(3)? }, row.get(2)?))
    })?;
    check_entries(&whole.entries, crc)?;
    Ok(whole)
}

/// Rejects remembered entries that are not what was written.
fn check_entries(entries: &[u8], crc: Option<u32>) -> Result<(), StoreError> {
    match crc {
        Some(crc) if crc != crc32fast::hash(entries) => {
            Err(StoreError::LedgerDamaged("what is remembered of some entries is not what was written"))
        }
        _ => Ok(()),
    }
}

impl WriteSegments for Changing<'_> {
    fn whole(&self, file: i64, segment: u32, with_text: bool) -> Result<Whole, StoreError> {
        whole(&self.inner, file, segment, with_text)
    }

    fn body(&self, file: i64, segment: u32) -> Result<Vec<u8>, StoreError> {
        body(&self.inner, file, segment)
    }

    fn keep_segment(
        &self,
        file: i64,
        number: u32,
        (frame, facts): (Frame, ContentCounts),
        segment: &Segment,
        (entries, raws): (&[u8], &[u8]),
    ) -> Result<(), StoreError> {
        self.drop_segment(file, number)?;
        let mut hold =
            self.inner.prepare_cached("insert into content (lane_crc, lane, raws, body) values (?1, ?2, ?3, ?4)")?;
        let content = hold.insert(params![crc32fast::hash(entries), entries, raws, segment.body])?;
        let mut stand =
            self.inner.prepare_cached("insert into segment values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)")?;
        stand.execute(params![
            file,
            number,
            (entries.len() / RememberedEntry::BYTES) as i64,
            segment.raw_size as i64,
            segment.crc,
            facts.images as i64,
            facts.videos as i64,
            facts.newest.map(|date| date.to_string()),
            frame.bits(),
            content,
        ])?;
        Ok(())
    }

    fn keep_raws(&self, file: i64, number: u32, raws: &[u8]) -> Result<(), StoreError> {
        let mut statement = self.inner.prepare_cached(
            "update content set raws = ?3 where id = (select content from segment where file = ?1 and number = ?2)",
        )?;
        statement.execute(params![file, number, raws])?;
        Ok(())
    }

    fn drop_segment(&self, file: i64, number: u32) -> Result<(), StoreError> {
        let mut statement =
            self.inner.prepare_cached("delete from segment where file = ?1 and number = ?2 returning content")?;
        self.outgrow(statement.query_map(params![file, number], |row| row.get(0))?)
    }
}

impl Changing<'_> {
    /// Lowers the days on which entries were seen to change to `today`.
    pub(super) fn lower_days(&self, today: i32) -> Result<(), StoreError> {
        let ids: Vec<i64> =
            self.inner.prepare("select id from content")?.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?;
        let mut read = self.inner.prepare("select lane from content where id = ?1")?;
        let mut write = self.inner.prepare("update content set lane = ?2, lane_crc = ?3 where id = ?1")?;
        for id in ids {
            let packed: Vec<u8> = read.query_row([id], |row| row.get(0))?;
            let entries = from_bytes(&packed, packed.len() / RememberedEntry::BYTES)?;
            let mut lowered = Vec::with_capacity(packed.len());
            entries.for_each(|entry| {
                RememberedEntry { observed: entry.observed.min(today), ..entry }.write(&mut lowered);
            });
            if lowered != packed {
                write.execute(params![id, lowered, crc32fast::hash(&lowered)])?;
            }
        }
        Ok(())
    }

    /// Notes contents that no segment has any more. Deleting each at once would let the next one take its place, and
    /// the old pages would first have to be saved in the journal; so most are deleted at the end.
    fn outgrow(&self, contents: impl Iterator<Item = rusqlite::Result<i64>>) -> Result<(), StoreError> {
        let mut outgrown = self.outgrown.borrow_mut();
        for content in contents {
            outgrown.push(content?);
        }
        if outgrown.len() >= MOST_OUTGROWN { forget(&self.inner, &mut outgrown) } else { Ok(()) }
    }

    /// Deletes the segments of a file.
    pub(super) fn drop_segments(&self, file: i64) -> Result<(), StoreError> {
        let mut statement = self.inner.prepare_cached("delete from segment where file = ?1 returning content")?;
        self.outgrow(statement.query_map([file], |row| row.get(0))?)
    }

    /// Deletes the contents that no segment has any more.
    pub(super) fn forget_outgrown(&self) -> Result<(), StoreError> {
        forget(&self.inner, &mut self.outgrown.borrow_mut())
    }
}

fn forget(connection: &Connection, contents: &mut Vec<i64>) -> Result<(), StoreError> {
    let mut statement = connection.prepare_cached("delete from content where id = ?1")?;
    contents.sort_unstable();
    contents.drain(..).try_for_each(|content| statement.execute([content]).map(drop))?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use atlas_core::placement::Limits;

    use std::collections::HashSet;

    use super::*;
    use crate::ledger::{Ledger, ReadFiles, ReadSegments, Writing, lookup};
    use atlas_core::placement::FileKind;

    fn keep(writing: &dyn Writing, file: i64, number: u32, text: &str) {
        let body = text.as_bytes().to_vec();
        let segment = Segment { crc: crc32fast::hash(&body), raw_size: body.len() as u64, body };
        let entries = [number as u8; RememberedEntry::BYTES];
        writing
            .keep_segment(file, number, (Frame::default(), ContentCounts::default()), &segment, (&entries, &[]))
            .unwrap();
    }

    fn contents(ledger: &Sqlite) -> u32 {
        ledger.connection.query_row("select count(*) from content", [], |row| row.get(0)).unwrap()
    }

    #[test]
    fn replaced_segments_are_forgotten() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        let all = MOST_OUTGROWN as u32 + 40;
        let writing = ledger.transaction().unwrap();
        let limits = Limits { urls: 1, bytes: 1, media: 1 };
        let [file, other] = [1, 2].map(|number| writing.open_file("pages", FileKind::Pages, number, limits).unwrap());
        (0..all).for_each(|number| keep(&*writing, file, number, "before"));
        keep(&*writing, other, 0, "other");
        writing.commit().unwrap();
        assert_eq!(contents(&ledger), all + 1);

        let writing = ledger.transaction().unwrap();
        (0..all - 1).for_each(|number| keep(&*writing, file, number, "after"));
        keep(&*writing, file, 7, "again");
        writing.drop_segment(file, 8).unwrap();
        drop(writing);
        assert_eq!(contents(&ledger), all + 1, "not committed");
        assert_eq!(ledger.body(file, 7).unwrap(), b"before");

        let writing = ledger.transaction().unwrap();
        (0..all - 1).for_each(|number| keep(&*writing, file, number, "after"));
        keep(&*writing, file, 7, "again");
        writing.drop_segment(file, 8).unwrap();
        writing.drop_file(other).unwrap();
        writing.commit().unwrap();
        assert_eq!(contents(&ledger), all - 1);
        let body = |file, number| ledger.body(file, number).ok();
        let bodies = [6, 7, 8, all - 1].map(|number| body(file, number));
        assert_eq!(bodies, [Some(b"after".to_vec()), Some(b"again".to_vec()), None, Some(b"before".to_vec())]);
        assert_eq!(body(other, 0), None);
    }

    #[test]
    fn a_segment_without_content_is_reported() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        let writing = ledger.transaction().unwrap();
        let file = writing.open_file("pages", FileKind::Pages, 1, Limits { urls: 9, bytes: 9, media: 9 }).unwrap();
        (0..3).for_each(|number| keep(&*writing, file, number, "text"));
        writing.commit().unwrap();
        let recollect = |ledger: &Sqlite| lookup(ledger, &ledger.remembered().unwrap(), &HashSet::new());
        assert!(recollect(&ledger).unwrap().is_empty());
        ledger.connection.execute("delete from content where id = 2", []).unwrap();
        assert!(recollect(&ledger).unwrap_err().to_string().contains("a segment is missing"));
        assert!(ledger.body(file, 1).unwrap_err().to_string().contains("a segment is missing"));
        assert_eq!(ledger.body(file, 2).unwrap(), b"text");
    }
}
