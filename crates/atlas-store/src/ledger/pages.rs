//! What was learnt of the files that sources read, so that a file that was not touched is not read again.

use std::collections::HashMap;

use rusqlite::{OptionalExtension, params};

use super::{Ledger, Writing};
use crate::error::StoreError;
use crate::source::{Learnt, Memory, Stamp};

impl Ledger {
    /// What a source remembers, if it learnt it under the same settings.
    pub fn memory(&self, source: &str, settings: u64) -> Result<Memory, StoreError> {
        let mut statement = self.connection.prepare_cached("select settings from page_settings where source = ?1")?;
        let known: Option<i64> = statement.query_row([source], |row| row.get(0)).optional()?;
        if known != Some(settings as i64) {
            return Ok(Memory::default());
        }
        let mut statement =
            self.connection.prepare_cached("select path, size, modified, row from page where source = ?1")?;
        let rows = statement.query_map([source], |row| {
            let stamp = Stamp { size: row.get::<_, i64>(1)? as u64, modified: row.get(2)? };
            Ok((row.get(0)?, Learnt { stamp, row: row.get(3)? }))
        })?;
        Ok(Memory { known: rows.collect::<Result<HashMap<_, _>, _>>()?, ..Memory::default() })
    }
}

impl Writing<'_> {
    /// Keeps what a source learnt. Files that it no longer met are forgotten when they are many.
    pub fn remember(&self, source: &str, settings: u64, memory: &Memory) -> Result<(), StoreError> {
        let forgotten = memory.known.len() as u64 > (memory.met + memory.fresh.len() as u64) * 2;
        if memory.known.is_empty() || forgotten {
            self.inner.execute("delete from page where source = ?1", [source])?;
        }
        self.inner.execute(
            "insert or replace into page_settings (source, settings) values (?1, ?2)",
            params![source, settings as i64],
        )?;
        let mut statement = self.inner.prepare_cached(
            "insert or replace into page (source, path, size, modified, row) values (?1, ?2, ?3, ?4, ?5)",
        )?;
        for (path, learnt) in &memory.fresh {
            let Stamp { size, modified } = learnt.stamp;
            statement.execute(params![source, path, size as i64, modified, learnt.row])?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_learnt_stays_until_settings_change() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Ledger::open(folder.path()).unwrap();
        let learnt = Learnt { stamp: Stamp { size: 3, modified: 7 }, row: vec![1, 2] };
        let memory = Memory { fresh: vec![("a.html".into(), learnt.clone())], ..Memory::default() };
        let writing = ledger.transaction().unwrap();
        writing.remember("html public", u64::MAX, &memory).unwrap();
        writing.commit().unwrap();
        assert_eq!(ledger.memory("html public", u64::MAX).unwrap().known["a.html"], learnt);
        assert!(ledger.memory("html public", 1).unwrap().known.is_empty());
        assert!(ledger.memory("html other", u64::MAX).unwrap().known.is_empty());
    }
}
