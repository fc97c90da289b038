//! The tables of chunks and their members.

use std::collections::{HashMap, HashSet};

use rusqlite::{Connection, params};

use super::{Changing, Sqlite};
use crate::error::StoreError;
use crate::ledger::{KeepChunks, ReadChunks, WriteChunks};
use crate::model::{KnownChunks, Members, RememberedChunk};

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
}

/// Adds chunks to the remembered ones.
struct Keeping<'w> {
    inner: &'w Connection,
    known: &'w KnownChunks,
    /// The members of forgotten chunks, by print. A chunk in which a row was edited has the same members as before.
    spare: HashMap<u64, i64>,
    next: i64,
    gone: Vec<u64>,
    fresh: Vec<(u64, RememberedChunk)>,
}

impl WriteChunks for Changing<'_> {
    fn forget_chunks(&self) -> Result<(), StoreError> {
        Ok(self.inner.execute_batch("delete from stretch; delete from members;")?)
    }

    fn keep_chunks<'w>(
        &'w self,
        known: &'w KnownChunks,
        came: &HashSet<u64>,
    ) -> Result<Box<dyn KeepChunks + 'w>, StoreError> {
        let gone: Vec<u64> = known.keys().copied().filter(|print| !came.contains(print)).collect();
        let spare = gone.iter().map(|print| (known[print].members_print, known[print].members)).collect();
        let next = self.inner.query_row("select coalesce(max(id), 0) + 1 from members", [], |row| row.get(0))?;
        Ok(Box::new(Keeping { inner: &self.inner, known, spare, next, gone, fresh: Vec::new() }))
    }
}

impl KeepChunks for Keeping<'_> {
    fn keep(&mut self, print: u64, chunk: RememberedChunk, members: &Members) -> Result<(), StoreError> {
        if let Some(known) = self.known.get(&print) {
            let same = known.members_print == chunk.members_print && known.rest == chunk.rest;
            if same {
                return Ok(());
            }
            self.gone.push(print);
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
        for print in &self.gone {
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
