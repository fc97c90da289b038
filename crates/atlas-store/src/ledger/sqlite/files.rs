//! The tables of sitemap files and of files in the web root.

use std::collections::BTreeSet;

use atlas_core::placement::{FileKind, Limits};
use rusqlite::params;

use super::segments::segment_row;
use super::{Changing, Sqlite};
use crate::error::StoreError;
use crate::ledger::{ReadFiles, Remembered, WriteFiles};
use crate::model::{FileDigest, FileRow, OnDisk, OutputRow, OutputRuns, Version};

impl ReadFiles for Sqlite {
    fn remembered(&self) -> Result<Remembered, StoreError> {
        let mut remembered = Remembered::default();
        let connection = &self.connection;
        let mut statement = connection
            .prepare("select id, section, number, most_urls, most_bytes, changed, crc, size, strand, most_media from file order by id")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            remembered.files.push(FileRow {
                id: row.get(0)?,
                section: row.get(1)?,
                number: row.get(2)?,
                kind: kind_of_file(&row.get::<_, String>(8)?)?,
                limits: Limits { urls: row.get(3)?, bytes: row.get::<_, i64>(4)? as u64, media: row.get(9)? },
                digest: FileDigest { changed: row.get(5)?, crc: row.get(6)?, size: row.get::<_, i64>(7)? as u64 },
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
            let kind = kind_of_file(&row.get::<_, String>(1)?)?;
            remembered.next_numbers.insert((row.get(0)?, kind), row.get(2)?);
        }
        let mut statement = connection.prepare("select name, size, modified, crc, retired from output")?;
        let rows = statement.query_map([], |row| {
            let version = Version::new(row.get::<_, i64>(1)? as u64, row.get(2)?);
            Ok((row.get(0)?, OutputRow { on_disk: OnDisk { version, crc: row.get(3)? }, retired: row.get(4)? }))
        })?;
        remembered.outputs = rows.collect::<Result<_, _>>()?;
        let mut statement = connection.prepare("select name from planned")?;
        remembered.planned = statement.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?;
        Ok(remembered)
    }

    fn outputs_after(&self, run: i64) -> Result<Vec<OutputRuns>, StoreError> {
        let query = "select name, made, changed from output where changed > ?1 and retired is null order by name";
        let mut statement = self.connection.prepare_cached(query)?;
        let rows = statement
            .query_map([run], |row| Ok(OutputRuns { name: row.get(0)?, made: row.get(1)?, changed: row.get(2)? }))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn is_planned(&self) -> Result<bool, StoreError> {
        Ok(self.connection.query_row("select exists (select 1 from planned)", [], |row| row.get(0))?)
    }

    fn plan(&mut self, names: &BTreeSet<String>) -> Result<(), StoreError> {
        let transaction = self.connection.transaction()?;
        for name in names {
            transaction.execute("insert or ignore into planned values (?1)", [name])?;
        }
        Ok(transaction.commit()?)
    }
}

fn kind_of_file(word: &str) -> Result<FileKind, StoreError> {
    FileKind::named(word).ok_or(StoreError::LedgerDamaged("a file has an unknown kind"))
}

impl WriteFiles for Changing<'_> {
    fn open_file(&self, section: &str, kind: FileKind, number: u32, limits: Limits) -> Result<i64, StoreError> {
        self.inner.execute(
            "insert into file (section, strand, number, most_urls, most_bytes, most_media, changed, crc, size)
             values (?1, ?2, ?3, ?4, ?5, ?6, 0, 0, 0)",
            params![section, kind.as_str(), number, limits.urls, limits.bytes as i64, limits.media],
        )?;
        Ok(self.inner.last_insert_rowid())
    }

    fn record_file(&self, file: i64, limits: Limits, digest: FileDigest) -> Result<(), StoreError> {
        let mut statement = self.inner.prepare_cached(
            "update file set most_urls = ?2, most_bytes = ?3, most_media = ?4, changed = ?5, crc = ?6, size = ?7 where id = ?1",
        )?;
        let FileDigest { changed, crc, size } = digest;
        let Limits { urls, bytes, media } = limits;
        statement.execute(params![file, urls, bytes as i64, media, changed, crc, size as i64])?;
        Ok(())
    }

    fn drop_file(&self, file: i64) -> Result<(), StoreError> {
        self.drop_segments(file)?;
        self.inner.execute("delete from file where id = ?1", [file])?;
        Ok(())
    }

    fn set_next_number(&self, section: &str, kind: FileKind, number: u32) -> Result<(), StoreError> {
        self.inner.execute(
            "insert or replace into next_number (section, strand, number) values (?1, ?2, ?3)",
            params![section, kind.as_str(), number],
        )?;
        Ok(())
    }

    fn raise_next_number(&self, section: &str, kind: FileKind, number: u32) -> Result<(), StoreError> {
        self.inner.execute(
            "insert into next_number (section, strand, number) values (?1, ?2, ?3)
             on conflict (section, strand) do update set number = max(number, excluded.number)",
            params![section, kind.as_str(), number],
        )?;
        Ok(())
    }

    fn set_output(&self, name: &str, output: &OutputRow) -> Result<(), StoreError> {
        let OnDisk { version, crc } = output.on_disk;
        let (size, modified) = version.to_parts();
        let mut statement = self.inner.prepare_cached(
            "insert into output (name, size, modified, crc, retired, made, changed)
             values (?1, ?2, ?3, ?4, ?5, (select coalesce(max(id), 0) + 1 from run), (select coalesce(max(id), 0) + 1 from run))
             on conflict (name) do update set size = excluded.size, modified = excluded.modified, crc = excluded.crc,
             retired = excluded.retired,
             changed = case when crc = excluded.crc and size = excluded.size then changed else excluded.changed end",
        )?;
        statement.execute(params![name, size as i64, modified, crc, output.retired])?;
        Ok(())
    }

    fn drop_output(&self, name: &str) -> Result<(), StoreError> {
        self.inner.execute("delete from output where name = ?1", [name])?;
        Ok(())
    }

    fn finish_plan(&self) -> Result<(), StoreError> {
        self.inner.execute("delete from planned", [])?;
        Ok(())
    }
}
