//! The tables of chunks and their members.

use std::collections::{HashMap, HashSet};

use rusqlite::{Connection, params};

use super::{Changing, Sqlite};
use crate::error::StoreError;
use crate::ledger::{KeepChunks, ReadChunks, WriteChunks};
use crate::model::{ArchiveName, ChunkShare, KnownChunks, Members, RememberedChunk};

impl ReadChunks for Sqlite {
    fn chunks(&self) -> Result<KnownChunks, StoreError> {
        let mut statement = self.connection.prepare("select print, rows, rest, members, members_print from stretch")?;
        let rows = statement.query_map([], |row| {
            let print: i64 = row.get(0)?;
            let rest = row.get_ref(2)?.as_blob()?.as_chunks().0.iter().copied().map(u32::from_le_bytes);
            let rest: Vec<u32> = rest.collect();
            let remembered = RememberedChunk {
                rows: row.get(1)?,
                rest: rest.as_chunks().0.iter().map(|&[start, end]| start..end).collect(),
                members: row.get(3)?,
                members_print: row.get::<_, i64>(4)? as u64,
            };
            Ok((print as u64, remembered))
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn tags(&self, chunks: &mut dyn Iterator<Item = (i64, bool)>) -> Result<Vec<u64>, StoreError> {
        let mut tags = Vec::new();
        let mut statement =
            self.connection.prepare_cached("select rest, iif(?2, quiet, x'') from members where id = ?1")?;
        for (members, all) in chunks {
            let members = statement
                .query_row(params![members, all], |row| Ok(Members { rest: row.get(0)?, quiet: row.get(1)? }))?;
            tags.extend(members.tags());
        }
        Ok(tags)
    }

    fn each_share(&self, take: &mut dyn FnMut(u64, ChunkShare)) -> Result<(), StoreError> {
        let mut statement = self.connection.prepare("select print, counts, keys from share")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            take(row.get::<_, i64>(0)? as u64, ChunkShare { counts: row.get(1)?, keys: row.get(2)? });
        }
        Ok(())
    }

    fn archives(&self) -> Result<Vec<ArchiveName>, StoreError> {
        let mut statement = self.connection.prepare("select kind, slug, name from archive order by number")?;
        let read =
            |row: &rusqlite::Row<'_>| Ok(ArchiveName { kind: row.get(0)?, slug: row.get(1)?, name: row.get(2)? });
        Ok(statement.query_map([], read)?.collect::<Result<_, _>>()?)
    }
}

/// Adds chunks to the remembered ones.
struct Keeping<'w> {
    inner: &'w Connection,
    known: &'w KnownChunks,
    /// The members of forgotten chunks, by print. A chunk in which a row was edited has the same members as before.
    spare: HashMap<u64, i64>,
    next: i64,
    gone: Vec<u64>,
    /// Chunks that came again, but with other members.
    outdated: Vec<u64>,
    fresh: Vec<(u64, RememberedChunk)>,
}

impl WriteChunks for Changing<'_> {
    fn forget_chunks(&self) -> Result<(), StoreError> {
        let forget = "delete from stretch; delete from members; delete from share; delete from archive;";
        Ok(self.inner.execute_batch(forget)?)
    }

    fn keep_archives(&self, first: usize, archives: &[ArchiveName]) -> Result<(), StoreError> {
        self.inner.execute("delete from archive where number >= ?1", [first as i64])?;
        let mut insert = self.inner.prepare_cached("insert into archive values (?1, ?2, ?3, ?4)")?;
        for (number, ArchiveName { kind, slug, name }) in (first as i64..).zip(archives) {
            insert.execute(params![number, kind, slug, name])?;
        }
        Ok(())
    }

    fn keep_chunks<'w>(
        &'w self,
        known: &'w KnownChunks,
        came: &HashSet<u64>,
    ) -> Result<Box<dyn KeepChunks + 'w>, StoreError> {
        let gone: Vec<u64> = known.keys().copied().filter(|print| !came.contains(print)).collect();
        let spare = gone.iter().map(|print| (known[print].members_print, known[print].members)).collect();
        let next = self.inner.query_row("select coalesce(max(id), 0) + 1 from members", [], |row| row.get(0))?;
        Ok(Box::new(Keeping { inner: &self.inner, known, spare, next, gone, outdated: Vec::new(), fresh: Vec::new() }))
    }
}

impl KeepChunks for Keeping<'_> {
    fn keep(
        &mut self,
        print: u64,
        chunk: RememberedChunk,
        members: &Members,
        share: Option<&ChunkShare>,
    ) -> Result<(), StoreError> {
        match share {
            Some(ChunkShare { counts, keys }) => {
                let mut insert = self.inner.prepare_cached("insert or replace into share values (?1, ?2, ?3)")?;
                insert.execute(params![print as i64, counts, keys])?;
            }
            None if !self.known.contains_key(&print) => {}
            None => _ = self.inner.prepare_cached("delete from share where print = ?1")?.execute([print as i64])?,
        }
        if let Some(known) = self.known.get(&print) {
            let same = known.members_print == chunk.members_print && known.rest == chunk.rest;
            if same {
                return Ok(());
            }
            self.outdated.push(print);
        }
        let id = match self.spare.remove(&chunk.members_print) {
            Some(id) => id,
            None => {
                let mut statement =
                    self.inner.prepare_cached("insert into members (id, quiet, rest) values (?1, ?2, ?3)")?;
                statement.execute(params![self.next, members.quiet, members.rest])?;
                self.next += 1;
                self.next - 1
            }
        };
        self.fresh.push((print, RememberedChunk { members: id, ..chunk }));
        Ok(())
    }

    fn done(mut self: Box<Self>) -> Result<(), StoreError> {
        let reused: HashSet<i64> = self.fresh.iter().map(|(_, chunk)| chunk.members).collect();
        let mut forget = self.inner.prepare_cached("delete from stretch where print = ?1")?;
        let mut forget_members = self.inner.prepare_cached("delete from members where id = ?1")?;
        let mut forget_share = self.inner.prepare_cached("delete from share where print = ?1")?;
        for print in &self.gone {
            forget_share.execute([*print as i64])?;
        }
        for print in self.gone.iter().chain(&self.outdated) {
            forget.execute([*print as i64])?;
            let id = self.known[print].members;
            if !reused.contains(&id) {
                forget_members.execute([id])?;
            }
        }
        // In the order of the table, which differs from the order of arrival.
        self.fresh.sort_unstable_by_key(|(print, _)| *print as i64);
        let mut insert = self.inner.prepare_cached("insert or replace into stretch values (?1, ?2, ?3, ?4, ?5)")?;
        for (print, RememberedChunk { rows, rest, members, members_print }) in &self.fresh {
            let rest: Vec<u8> =
                rest.iter().flat_map(|span| [span.start, span.end]).flat_map(u32::to_le_bytes).collect();
            insert.execute(params![*print as i64, rows, rest, members, *members_print as i64])?;
        }
        Ok(())
    }
}
