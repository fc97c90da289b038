//! The tables of what access logs and exports of consoles said.

use atlas_core::uptake::export::Subject;
use rusqlite::{OptionalExtension, params};

use super::{Changing, Sqlite};
use crate::error::StoreError;
use crate::ledger::{ReadUptake, WriteUptake};
use crate::model::{ConsoleLook, LookRecord, NumbersRecord, UptakePart};

/// Of how many looks of an engine and subject the URLs are remembered.
const LOOKS_WITH_URLS: i64 = 2;
/// For how many days of an engine and subject numbers are remembered.
const MOST_DAYS: i64 = 500;

const DAMAGED: StoreError = StoreError::LedgerDamaged("what an export said cannot be read");

impl ReadUptake for Sqlite {
    fn visits(&self, part: UptakePart) -> Result<Vec<u8>, StoreError> {
        let mut statement = self.connection.prepare_cached("select value from visits where part = ?1")?;
        let value = statement.query_row([part.as_str()], |row| row.get(0)).optional()?;
        Ok(value.unwrap_or_default())
    }

    fn looks(&self) -> Result<Vec<(i64, ConsoleLook)>, StoreError> {
        let query = "select id, engine, subject, at, facts from look order by at desc, id desc";
        let mut statement = self.connection.prepare_cached(query)?;
        let rows = statement.query_map([], |row| {
            Ok((row.get(0)?, row.get(1)?, row.get::<_, String>(2)?, row.get(3)?, row.get::<_, String>(4)?))
        })?;
        let looks = rows.map(|row| {
            let (id, engine, subject, at, facts) = row?;
            let subject = Subject::of_word(&subject).ok_or(DAMAGED)?;
            let facts = serde_json::from_str(&facts).map_err(|_| DAMAGED)?;
            Ok((id, ConsoleLook { engine, subject, at, facts }))
        });
        looks.collect()
    }

    fn look_records(&self, look: i64) -> Result<Vec<LookRecord>, StoreError> {
        let mut statement = self.connection.prepare_cached("select records from look_record where look = ?1")?;
        let bytes: Option<Vec<u8>> = statement.query_row([look], |row| row.get(0)).optional()?;
        Ok(LookRecord::read_all(&bytes.unwrap_or_default())?.collect())
    }

    fn numbers(
        &self,
        engine: &str,
        subject: Subject,
        most: usize,
    ) -> Result<Vec<(i32, Vec<NumbersRecord>)>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "select day, records from numbers where engine = ?1 and subject = ?2 order by day desc limit ?3",
        )?;
        let rows = statement.query_map(params![engine, subject.as_str(), most as i64], |row| {
            Ok((row.get(0)?, row.get::<_, Vec<u8>>(1)?))
        })?;
        let days = rows.map(|row| {
            let (day, bytes) = row?;
            Ok((day, NumbersRecord::read_all(&bytes)?.collect()))
        });
        days.collect()
    }
}

impl WriteUptake for Changing<'_> {
    fn keep_visits(&self, part: UptakePart, value: &[u8]) -> Result<(), StoreError> {
        self.inner
            .execute("insert or replace into visits (part, value) values (?1, ?2)", params![part.as_str(), value])?;
        Ok(())
    }

    fn forget_logs(&self) -> Result<(), StoreError> {
        self.inner.execute("delete from visits", [])?;
        Ok(())
    }

    fn forget_looks(&self, engine: &str) -> Result<usize, StoreError> {
        self.inner
            .execute("delete from look_record where look in (select id from look where engine = ?1)", [engine])?;
        self.inner.execute("delete from numbers where engine = ?1", [engine])?;
        Ok(self.inner.execute("delete from look where engine = ?1", [engine])?)
    }

    fn add_look(&self, look: &ConsoleLook, records: &[LookRecord]) -> Result<(), StoreError> {
        let facts = serde_json::to_string(&look.facts).map_err(|_| DAMAGED)?;
        let subject = look.subject.as_str();
        self.inner.execute(
            "insert into look (engine, subject, at, facts) values (?1, ?2, ?3, ?4)",
            params![look.engine, subject, look.at, facts],
        )?;
        let id = self.inner.last_insert_rowid();
        let mut bytes = Vec::new();
        records.iter().for_each(|record| record.write(&mut bytes));
        self.inner.execute("insert into look_record (look, records) values (?1, ?2)", params![id, bytes])?;
        let older =
            "(select id from look where engine = ?1 and subject = ?2 order by at desc, id desc limit -1 offset ?3)";
        let older_of = params![look.engine, subject, LOOKS_WITH_URLS];
        self.inner.execute(&format!("delete from look_record where look in {older}"), older_of)?;
        // Of older ones, only the counts remain.
        let counts_of =
            "json_set(facts, '$.strange', json('{}'), '$.through', json('{}'), '$.sitemap_files', json('[]'))";
        self.inner.execute(&format!("update look set facts = {counts_of} where id in {older}"), older_of)?;
        Ok(())
    }

    fn keep_numbers(
        &self,
        engine: &str,
        subject: Subject,
        day: i32,
        records: &[NumbersRecord],
    ) -> Result<(), StoreError> {
        let mut bytes = Vec::new();
        records.iter().for_each(|record| record.write(&mut bytes));
        let subject = subject.as_str();
        self.inner.execute(
            "insert or replace into numbers (engine, subject, day, records) values (?1, ?2, ?3, ?4)",
            params![engine, subject, day, bytes],
        )?;
        self.inner.execute(
            "delete from numbers where engine = ?1 and subject = ?2 and day <= ?3",
            params![engine, subject, i64::from(day) - MOST_DAYS],
        )?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ledger::Ledger;
    use crate::model::LookFacts;

    #[test]
    fn the_last_two_looks_are_remembered_whole() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        let facts = LookFacts {
            rows: 1,
            reasons: vec![("Indexed".into(), true)],
            strange: [(7, "https://www.marrowvale.example/old/".to_owned())].into(),
            ..LookFacts::default()
        };
        for at in 1..=3 {
            let look = ConsoleLook { engine: "lamp".into(), subject: Subject::Pages, at, facts: facts.clone() };
            let writing = ledger.transaction().unwrap();
            let record = LookRecord { tag: at as u64, reason: 1, picked_up: true, date: 0 };
            writing.add_look(&look, &[record]).unwrap();
            let numbers = [NumbersRecord { tag: 7, shown: at as u32, ..NumbersRecord::default() }];
            writing.keep_numbers("lamp", Subject::Pages, 20_000 + at as i32, &numbers).unwrap();
            writing.keep_visits(UptakePart::Logs, b"{}").unwrap();
            writing.commit().unwrap();
        }
        let looks = ledger.looks().unwrap();
        assert_eq!(looks.iter().map(|(_, look)| look.at).collect::<Vec<_>>(), [3, 2, 1]);
        assert_eq!(looks[0].1.facts, facts);
        assert_eq!(looks[2].1.facts, LookFacts { strange: Default::default(), ..facts });
        let records: Vec<usize> = looks.iter().map(|(id, _)| ledger.look_records(*id).unwrap().len()).collect();
        assert_eq!(records, [1, 1, 0]);
        let days = ledger.numbers("lamp", Subject::Pages, 2).unwrap();
        assert_eq!(
            days.iter().map(|(day, records)| (*day, records[0].shown)).collect::<Vec<_>>(),
            [(20_003, 3), (20_002, 2)]
        );
        assert_eq!(
            (ledger.visits(UptakePart::Logs).unwrap(), ledger.visits(UptakePart::Visits).unwrap()),
            (b"{}".to_vec(), vec![])
        );
    }
}
