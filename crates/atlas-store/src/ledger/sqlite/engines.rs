//! The tables of announcements: what engines have been told.

use std::collections::{HashMap, HashSet};

use rusqlite::{OptionalExtension, params};

use super::{Changing, Sqlite};
use crate::error::StoreError;
use crate::ledger::{ReadEngines, WriteEngines};
use crate::model::{Announced, Departure, ToldUrl, Tombstone};
use atlas_core::announce::{Change, EngineState};

impl ReadEngines for Sqlite {
    fn engine(&self, name: &str) -> Result<Option<EngineState>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "select watermark, runs, not_before, was_told, retired, failures, retry_at, baseline from engine where name = ?1",
        )?;
        let state = statement.query_row([name], |row| {
            let state = EngineState {
                watermark: row.get(0)?,
                not_before: row.get(2)?,
                was_told: row.get(3)?,
                retired: row.get::<_, Option<i64>>(4)?.map(|print| print as u64),
                failures: row.get(5)?,
                retry_at: row.get(6)?,
                baseline: row.get(7)?,
                ..EngineState::default()
            };
            Ok((state, row.get::<_, String>(1)?))
        });
        let Some((state, runs)) = state.optional()? else { return Ok(None) };
        let damaged = StoreError::LedgerDamaged("the progress of an engine cannot be read");
        Ok(Some(EngineState { runs: EngineState::runs_of_text(&runs).ok_or(damaged)?, ..state }))
    }

    fn told_urls(&self, engine: &str) -> Result<Vec<ToldUrl>, StoreError> {
        let mut statement =
            self.connection.prepare_cached("select key, url, at, waits, run from told_url where engine = ?1")?;
        let rows = statement.query_map([engine], |row| {
            let waits: Option<String> = row.get(3)?;
            Ok(ToldUrl {
                key: u128::from_be_bytes(row.get(0)?),
                url: row.get(1)?,
                at: row.get(2)?,
                run: row.get(4)?,
                waits: waits.and_then(|word| Change::of_word(&word)),
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn last_success(&self, engine: &str) -> Result<Option<i64>, StoreError> {
        let query = "select max(at) from announcement where engine = ?1 and outcome = 'done'";
        Ok(self.connection.query_row(query, [engine], |row| row.get(0))?)
    }

    fn told_after(&self, engine: &str, after: i64) -> Result<Vec<(i64, u64)>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "select at, urls from announcement where engine = ?1 and at > ?2 and outcome in ('done', 'refused') order by at",
        )?;
        let rows =
            statement.query_map(params![engine, after], |row| Ok((row.get(0)?, row.get::<_, i64>(1)? as u64)))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn departures(&self) -> Result<HashMap<u128, Departure>, StoreError> {
        let mut statement = self.connection.prepare(
            "select key, changed, page, declared from departure
             where run > (select coalesce(max(last_told), 0) from engine)",
        )?;
        let rows = statement.query_map([], |row| {
            let departure =
                Departure { changed: row.get(1)?, page: row.get::<_, i64>(2)? as u64, declared: row.get(3)? };
            Ok((u128::from_be_bytes(row.get(0)?), departure))
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn announcements(&self, most: usize) -> Result<Vec<Announced>, StoreError> {
        let mut statement = self.connection.prepare(
            "select engine, at, run, urls, status, outcome, words, examples from announcement order by id desc limit ?1",
        )?;
        let rows = statement.query_map([most as i64], |row| {
            Ok(Announced {
                engine: row.get(0)?,
                at: row.get(1)?,
                run: row.get(2)?,
                urls: row.get::<_, i64>(3)? as u64,
                status: row.get(4)?,
                outcome: row.get(5)?,
                words: row.get(6)?,
                examples: row.get::<_, String>(7)?.lines().map(str::to_owned).collect(),
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn additions(&self, after: i64) -> Result<HashSet<u128>, StoreError> {
        let mut statement = self.connection.prepare("select keys from addition where run > ?1")?;
        let mut additions = HashSet::new();
        let mut rows = statement.query([after])?;
        while let Some(row) = rows.next()? {
            let (keys, _) = row.get_ref(0)?.as_blob().unwrap_or_default().as_chunks();
            additions.extend(keys.iter().map(|key| u128::from_be_bytes(*key)));
        }
        Ok(additions)
    }

    fn tombstones(&self) -> Result<Vec<(Tombstone, i64)>, StoreError> {
        let mut statement = self.connection.prepare("select key, url, run, cause, section, title from tombstone")?;
        let rows = statement.query_map([], |row| {
            let cause: Option<String> = row.get(3)?;
            let change = cause.map(|cause| match cause == Change::Redirected.as_str() {
                true => Change::Redirected,
                false => Change::Removed,
            });
            let key = u128::from_be_bytes(row.get(0)?);
            Ok((Tombstone { key, url: row.get(1)?, section: row.get(4)?, title: row.get(5)?, change }, row.get(2)?))
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }
}

impl WriteEngines for Changing<'_> {
    fn set_engine(&self, name: &str, state: &EngineState) -> Result<(), StoreError> {
        self.inner.execute(
            "insert or replace into engine (name, watermark, runs, last_told, not_before, was_told, retired, failures, retry_at, baseline)
             values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
            params![
                name,
                state.watermark,
                state.runs_as_text(),
                state.last_told(),
                state.not_before,
                state.was_told,
                state.retired.map(|print| print as i64),
                state.failures,
                state.retry_at,
                state.baseline,
            ],
        )?;
        Ok(())
    }

    fn keep_told(&self, engine: &str, told: &[ToldUrl]) -> Result<(), StoreError> {
        let mut statement = self.inner.prepare_cached(
            "insert or replace into told_url (engine, key, url, at, run, waits) values (?1, ?2, ?3, ?4, ?5, ?6)",
        )?;
        for ToldUrl { key, url, at, run, waits } in told {
            statement.execute(params![engine, key.to_be_bytes(), url, at, run, waits.map(Change::as_str)])?;
        }
        Ok(())
    }

    fn forget_told(&self, engine: &str, before: i64) -> Result<(), StoreError> {
        self.inner
            .execute("delete from told_url where engine = ?1 and at < ?2 and waits is null", params![engine, before])?;
        Ok(())
    }

    fn rename_engine(&self, old: &str, name: &str) -> Result<(), StoreError> {
        for table in [("engine", "name"), ("told_url", "engine")] {
            let rename = format!("update {} set {column} = ?2 where {column} = ?1", table.0, column = table.1);
            self.inner.execute(&rename, [old, name])?;
        }
        Ok(())
    }

    fn add_announcement(&self, announced: &Announced) -> Result<(), StoreError> {
        self.inner.execute(
            "insert into announcement (engine, at, run, urls, status, outcome, words, examples)
             values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
            params![
                announced.engine,
                announced.at,
                announced.run,
                announced.urls as i64,
                announced.status,
                announced.outcome,
                announced.words,
                announced.examples.join("\n"),
            ],
        )?;
        Ok(())
    }

    fn add_tombstone(&self, tombstone: &Tombstone, run: i64) -> Result<(), StoreError> {
        let mut statement = self.inner.prepare_cached(
            "insert or replace into tombstone (key, url, section, title, run, cause) values (?1, ?2, ?3, ?4, ?5, ?6)",
        )?;
        let Tombstone { key, url, section, title, change } = tombstone;
        statement.execute(params![key.to_be_bytes(), url, section, title, run, change.map(Change::as_str)])?;
        Ok(())
    }

    fn add_departure(&self, key: u128, departure: Departure, run: i64) -> Result<(), StoreError> {
        let mut statement = self.inner.prepare_cached(
            "insert or replace into departure (key, run, changed, page, declared) values (?1, ?2, ?3, ?4, ?5)",
        )?;
        let Departure { changed, page, declared } = departure;
        statement.execute(params![key.to_be_bytes(), run, changed, page as i64, declared])?;
        Ok(())
    }

    fn record_additions(&self, keys: &[u128], news: &[u128], run: i64) -> Result<(), StoreError> {
        for table in ["tombstone", "departure"] {
            let any = format!("select exists (select 1 from {table})");
            if self.inner.query_row(&any, [], |row| row.get::<_, bool>(0))? {
                let mut statement = self.inner.prepare_cached(&format!("delete from {table} where key = ?1"))?;
                keys.iter().try_for_each(|key| statement.execute([key.to_be_bytes()]).map(drop))?;
            }
        }
        let news: Vec<u8> = news.iter().flat_map(|key| key.to_be_bytes()).collect();
        if !news.is_empty() {
            self.inner.execute("insert or replace into addition (run, keys) values (?1, ?2)", params![run, news])?;
        }
        Ok(())
    }

    fn forget_progress(&self) -> Result<(), StoreError> {
        for table in ["departure", "addition"] {
            self.inner.execute(
                &format!("delete from {table} where run <= (select min(watermark) from engine where retired is null)"),
                [],
            )?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ledger::{Ledger, pending};

    #[test]
    fn announcement_progress_is_remembered() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        assert_eq!(ledger.engine("test").unwrap(), None);
        let state = EngineState {
            watermark: 3,
            runs: [(5, Some(u128::MAX - 7)), (8, None)].into(),
            not_before: Some(99),
            failures: 3,
            retry_at: Some(120),
            was_told: true,
            retired: Some(u64::MAX - 1),
            baseline: 2,
        };
        let writing = ledger.transaction().unwrap();
        writing.set_engine("test", &state).unwrap();
        writing.set_engine("other", &EngineState::default()).unwrap();
        writing.commit().unwrap();
        assert_eq!(ledger.engine("test").unwrap(), Some(state));
        assert_eq!(ledger.engine("other").unwrap(), Some(EngineState::default()));
    }

    #[test]
    fn announcements_are_listed_newest_first() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        let announced = |at: i64, status: Option<u16>| Announced {
            engine: "test".into(),
            at,
            run: 2,
            urls: 2,
            status,
            outcome: "done".into(),
            words: "taken".into(),
            examples: vec!["https://www.marrowvale.example/a".into(), "https://www.marrowvale.example/b".into()],
        };
        let writing = ledger.transaction().unwrap();
        writing.add_announcement(&announced(1, Some(200))).unwrap();
        writing.add_announcement(&announced(2, None)).unwrap();
        writing.commit().unwrap();
        assert_eq!(ledger.announcements(9).unwrap(), [announced(2, None), announced(1, Some(200))]);
        assert_eq!(ledger.announcements(1).unwrap().len(), 1);
    }

    #[test]
    fn a_tombstone_is_removed_when_its_entry_returns() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        let url = |key| format!("https://www.marrowvale.example/{key}");
        let tombstone = |key, change| {
            let title = (key == 1).then(|| "The weir".to_owned());
            Tombstone { key, url: url(key), section: "pages".into(), title, change: Some(change) }
        };
        let writing = ledger.transaction().unwrap();
        writing.add_tombstone(&tombstone(2, Change::Redirected), 4).unwrap();
        writing.add_tombstone(&tombstone(1, Change::Removed), 4).unwrap();
        writing.add_tombstone(&tombstone(3, Change::Removed), 4).unwrap();
        writing.record_additions(&[3], &[3], 4).unwrap();
        writing.commit().unwrap();
        let told: Vec<_> =
            pending(&ledger, &EngineState::met(3)).unwrap().iter().map(|one| (one.key, one.change)).collect();
        assert_eq!(told, [(1, Change::Removed), (2, Change::Redirected)]);
        assert!(pending(&ledger, &EngineState::met(4)).unwrap().is_empty());
    }

    #[test]
    fn departures_count_until_an_engine_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        let departure = Departure { changed: 2, page: u64::MAX, declared: 7 };
        let writing = ledger.transaction().unwrap();
        writing.add_departure(1, departure, 4).unwrap();
        writing.add_departure(2, departure, 6).unwrap();
        writing.commit().unwrap();
        assert_eq!(ledger.departures().unwrap(), HashMap::from([(1, departure), (2, departure)]));
        let writing = ledger.transaction().unwrap();
        writing
            .set_engine("test", &EngineState { watermark: 3, runs: [(4, Some(9))].into(), ..EngineState::default() })
            .unwrap();
        writing.commit().unwrap();
        assert_eq!(ledger.departures().unwrap(), HashMap::from([(2, departure)]));
        let writing = ledger.transaction().unwrap();
        writing.set_engine("test", &EngineState { watermark: 6, ..EngineState::default() }).unwrap();
        writing.forget_progress().unwrap();
        writing.commit().unwrap();
        assert!(ledger.departures().unwrap().is_empty());
    }
}
