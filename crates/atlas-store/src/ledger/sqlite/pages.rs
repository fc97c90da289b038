//! The tables of what sources learnt about their files.

use std::collections::HashMap;

use rusqlite::{OptionalExtension, params};

use super::{Changing, Sqlite};
use crate::disk::Stamp;
use crate::error::StoreError;
use crate::ledger::{ReadMemories, WriteMemories};
use crate::model::{Learnt, Memory};

impl ReadMemories for Sqlite {
    fn memory(&self, source: &str, settings: u64, links: bool) -> Result<Memory, StoreError> {
        let mut statement =
            self.connection.prepare_cached("select settings, note from page_settings where source = ?1")?;
        let known = statement.query_row([source], |row| Ok((row.get::<_, i64>(0)?, row.get(1)?))).optional()?;
        let Some((_, note)) = known.filter(|(known, _)| *known == settings as i64) else {
            return Ok(Memory::default());
        };
        let mut statement = self.connection.prepare_cached(
            "select path, size, modified, row, validators, case when ?2 then links else x'' end from page where source = ?1",
        )?;
        let rows = statement.query_map(params![source, links], |row| {
            let stamp = Stamp { size: row.get::<_, i64>(1)? as u64, modified: row.get(2)? };
            Ok((row.get(0)?, Learnt { stamp, row: row.get(3)?, validators: row.get(4)?, links: row.get(5)? }))
        })?;
        Ok(Memory { known: rows.collect::<Result<HashMap<_, _, _>, _>>()?, note, ..Memory::default() })
    }
}

impl WriteMemories for Changing<'_> {
    fn remember(&self, source: &str, settings: u64, memory: &Memory) -> Result<(), StoreError> {
        let forgotten = memory.known.len() as u64 > (memory.met + memory.fresh.len() as u64) * 2;
        if memory.known.is_empty() && memory.met == 0 || forgotten {
            self.inner.execute("delete from page where source = ?1", [source])?;
        }
        self.learnt(source, settings, memory)
    }

    fn learnt(&self, source: &str, settings: u64, memory: &Memory) -> Result<(), StoreError> {
        let changed = self.inner.execute(
            "insert into page_settings (source, settings, note) values (?1, ?2, ?3)
             on conflict (source) do update set settings = excluded.settings, note = excluded.note where settings <> excluded.settings",
            params![source, settings as i64, memory.note],
        )?;
        if changed > 0 {
            self.inner.execute("delete from page where source = ?1", [source])?;
        }
        self.inner.execute("update page_settings set note = ?2 where source = ?1", params![source, memory.note])?;
        let mut statement = self.inner.prepare_cached(
            "insert or replace into page (source, path, size, modified, row, links, validators)
             values (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        )?;
        for (path, learnt) in &memory.fresh {
            let Stamp { size, modified } = learnt.stamp;
            let Learnt { row, links, validators, .. } = learnt;
            statement.execute(params![source, path, size as i64, modified, row, links, validators])?;
        }
        let mut statement = self.inner.prepare_cached("delete from page where source = ?1 and path = ?2")?;
        for path in &memory.forgotten {
            statement.execute([source, path])?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ledger::Ledger;

    #[test]
    fn memories_last_until_settings_change() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        let learnt =
            Learnt { stamp: Stamp { size: 3, modified: 7 }, row: vec![1, 2], links: vec![3], validators: "tag".into() };
        let memory = Memory { fresh: vec![("a.html".into(), learnt.clone())], ..Memory::default() };
        let writing = ledger.transaction().unwrap();
        writing.remember("html public", u64::MAX, &memory).unwrap();
        writing.commit().unwrap();
        assert_eq!(ledger.memory("html public", u64::MAX, true).unwrap().known["a.html"], learnt);
        assert!(ledger.memory("html public", u64::MAX, false).unwrap().known["a.html"].links.is_empty());
        assert!(ledger.memory("html public", 1, true).unwrap().known.is_empty());
        assert!(ledger.memory("html other", u64::MAX, true).unwrap().known.is_empty());
    }
}
