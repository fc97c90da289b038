//! The tables of facts, provenances and runs.

use std::path::Path;

use rusqlite::{OptionalExtension, Row, params};

use super::{Changing, Sqlite};
use crate::disk::segmented_gzip::{compress, decompress};
use crate::error::StoreError;
use crate::ledger::{ReadRuns, WriteRuns};
use crate::model::{AttemptEnd, AttemptRow, RunCounts, RunRow, RunUrls, StartedBy};

/// The seconds of a day.
const DAY: i64 = 86_400;
/// For how many days runs that changed nothing are remembered.
const QUIET_DAYS: i64 = 7;
/// How many runs are remembered with their report.
const WITH_REPORT: i64 = 30;
/// How many URLs of runs are remembered, but for those of the last run: as many as the site has entries, or so many.
const LEAST_URLS: i64 = 100_000;
/// How many builds that did not go through are remembered.
const MOST_ATTEMPTS: i64 = 1_000;
/// For how many days announcements are remembered with some of their URLs.
const EXAMPLE_DAYS: i64 = 30;

const COLUMNS: &str = "id, at, entries, added, changed, removed, left_out, files_written, files, bytes, warnings, took_ms, started_by, gzip";

fn run_row(row: &Row<'_>) -> rusqlite::Result<RunRow> {
    let count = |at: usize| row.get::<_, i64>(at).map(|number| number as u64);
    let counts = RunCounts {
        entries: count(2)?,
        added: count(3)?,
        changed: count(4)?,
        removed: count(5)?,
        left_out: count(6)?,
        files_written: count(7)?,
        files: count(8)?,
        bytes: count(9)?,
        warnings: count(10)?,
    };
    let started_by = StartedBy::of_word(&row.get::<_, String>(12)?).unwrap_or_default();
    let (run, at, took_ms) = (row.get(0)?, row.get(1)?, count(11)?);
    Ok(RunRow { run, at, took_ms, started_by, gzip: row.get(13)?, counts })
}

impl ReadRuns for Sqlite {
    fn last_run(&self) -> Result<i64, StoreError> {
        Ok(self.connection.query_row("select coalesce(max(id), 0) from run", [], |row| row.get(0))?)
    }

    fn runs(&self, most: usize) -> Result<Vec<RunRow>, StoreError> {
        let mut statement = self.connection.prepare(&format!("select {COLUMNS} from run order by id desc limit ?1"))?;
        let rows = statement.query_map([most as i64], run_row)?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn run(&self, run: i64) -> Result<Option<(RunRow, String)>, StoreError> {
        let query = format!(
            "select {COLUMNS}, coalesce(report, '') from run left join report on report.run = id where id = ?1"
        );
        let mut statement = self.connection.prepare(&query)?;
        Ok(statement.query_row([run], |row| Ok((run_row(row)?, row.get(14)?))).optional()?)
    }

    fn attempts(&self, most: usize) -> Result<Vec<AttemptRow>, StoreError> {
        let query = "select at, ended, reason, started_by from attempt order by id desc limit ?1";
        let mut statement = self.connection.prepare(query)?;
        let rows = statement.query_map([most as i64], |row| {
            Ok(AttemptRow {
                at: row.get(0)?,
                ended: AttemptEnd::of_word(&row.get::<_, String>(1)?),
                reason: row.get(2)?,
                started_by: StartedBy::of_word(&row.get::<_, String>(3)?).unwrap_or_default(),
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn urls_of_run(&self, run: i64) -> Result<RunUrls, StoreError> {
        let mut statement = self.connection.prepare("select kind, size, urls from run_url where run = ?1")?;
        let mut rows = statement.query([run])?;
        let mut urls = RunUrls::default();
        let damaged = || StoreError::LedgerDamaged("the URLs of a run cannot be read");
        while let Some(row) = rows.next()? {
            let body = row.get_ref(2)?.as_blob().unwrap_or_default();
            let text = decompress(body, row.get::<_, i64>(1)? as u64).map_err(|_| damaged())?;
            let text = String::from_utf8(text).map_err(|_| damaged())?;
            let list = urls.of_kind(&row.get::<_, String>(0)?).ok_or_else(damaged)?;
            list.extend(text.lines().map(str::to_owned));
        }
        Ok(urls)
    }
}

impl WriteRuns for Changing<'_> {
    fn add_run(&self, row: &RunRow, report: &str) -> Result<(), StoreError> {
        let RunCounts { entries, added, changed, removed, left_out, files_written, files, bytes, warnings } =
            row.counts;
        self.inner.execute(
            &format!(
                "insert into run ({COLUMNS}) values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)"
            ),
            params![
                row.run,
                row.at,
                entries as i64,
                added as i64,
                changed as i64,
                removed as i64,
                left_out as i64,
                files_written as i64,
                files as i64,
                bytes as i64,
                warnings as i64,
                row.took_ms as i64,
                row.started_by.as_str(),
                row.gzip,
            ],
        )?;
        self.inner.execute("insert into report values (?1, ?2)", params![row.run, report])?;
        Ok(())
    }

    fn add_attempt(&self, attempt: &AttemptRow) -> Result<(), StoreError> {
        let AttemptRow { at, ended, reason, started_by } = attempt;
        let row = params![at, ended.as_str(), reason, started_by.as_str()];
        self.inner.execute("insert into attempt (at, ended, reason, started_by) values (?1, ?2, ?3, ?4)", row)?;
        self.inner.execute("delete from attempt where id <= (select max(id) from attempt) - ?1", [MOST_ATTEMPTS])?;
        Ok(())
    }

    fn add_run_urls(&self, run: i64, urls: &RunUrls) -> Result<(), StoreError> {
        for (kind, urls) in urls.kinds().into_iter().filter(|(_, urls)| !urls.is_empty()) {
            let text = urls.join("\n");
            let body = compress(text.as_bytes())
                .map_err(StoreError::io("cannot compress URLs for", Path::new("the ledger")))?
                .body;
            let row = params![run, kind, urls.len() as i64, text.len() as i64, body];
            self.inner.execute("insert into run_url values (?1, ?2, ?3, ?4, ?5)", row)?;
        }
        Ok(())
    }

    fn forget_history(&self, now: i64, keep_days: u32) -> Result<(), StoreError> {
        let before = |days: i64| now - days * DAY;
        let old = before(i64::from(keep_days));
        let last: i64 = self.inner.query_row("select coalesce(max(id), 0) from run", [], |row| row.get(0))?;
        let run = "select coalesce(max(id), 0) from run where at < ?1";
        let old_run: i64 = self.inner.query_row(run, [old], |row| row.get(0))?;
        for table in ["tombstone", "departure", "addition"] {
            self.inner.execute(&format!("delete from {table} where run <= ?1"), [old_run])?;
        }
        for table in ["announcement", "attempt"] {
            self.inner.execute(&format!("delete from {table} where at < ?1"), [old])?;
        }
        self.inner.execute("delete from look where at < ?1 and id not in (select look from look_record)", [old])?;
        self.inner.execute("delete from numbers where day < ?1", [old / DAY])?;
        self.inner.execute("delete from run where at < ?1 and id < ?2", [old, last])?;
        let quiet = "delete from run where at < ?1 and id < ?2 and added + changed + removed + files_written = 0";
        self.inner.execute(quiet, [before(QUIET_DAYS), last])?;
        self.inner.execute("delete from report where run <= ?1", [last - WITH_REPORT])?;
        let entries: i64 = self.inner.query_row("select entries from run where id = ?1", [last], |row| row.get(0))?;
        let urls = "delete from run_url where run < ?1 and (run not in (select id from run) or run in (
             select run from (select run, sum(sum(count)) over (order by run desc) as so_far from run_url group by run)
             where so_far > ?2))";
        self.inner.execute(urls, [last, entries.max(LEAST_URLS)])?;
        let examples = "update announcement set examples = '' where at < ?1 and examples <> ''";
        self.inner.execute(examples, [before(EXAMPLE_DAYS)])?;
        Ok(())
    }

    fn lower_dates(&self, now: i64, today: i32) -> Result<(), StoreError> {
        for (table, column) in [
            ("file", "changed"),
            ("output", "retired"),
            ("engine", "not_before"),
            ("engine", "retry_at"),
            ("announcement", "at"),
        ] {
            self.inner.execute(&format!("update {table} set {column} = ?1 where {column} > ?1"), [now])?;
        }
        self.lower_days(today)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ledger::Ledger;

    #[test]
    fn runs_are_listed_newest_first_and_one_in_full() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        assert_eq!(ledger.last_run().unwrap(), 0);
        let counts = RunCounts {
            entries: 9,
            added: 1,
            changed: 2,
            removed: 3,
            left_out: 4,
            files_written: 5,
            files: 6,
            bytes: 7,
            warnings: 8,
        };
        let started_by = StartedBy::Unit;
        let row = |run| RunRow { run, at: 1_795_435_200 + run, took_ms: 12, started_by, gzip: "only".into(), counts };
        let writing = ledger.transaction().unwrap();
        writing.add_run(&row(1), "{}").unwrap();
        writing.add_run(&row(2), "{\"main\": \"x\"}").unwrap();
        writing.commit().unwrap();
        assert_eq!(ledger.last_run().unwrap(), 2);
        assert_eq!(ledger.runs(9).unwrap(), [row(2), row(1)]);
        assert_eq!(ledger.run(2).unwrap(), Some((row(2), "{\"main\": \"x\"}".to_owned())));
        assert_eq!(ledger.run(3).unwrap(), None);
    }

    #[test]
    fn urls_of_old_runs_make_room_for_those_of_new_ones() {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        let counts = RunCounts { entries: 9, added: 1, files_written: 1, ..RunCounts::default() };
        let urls = |run: i64| {
            let urls = (0..10_000).map(|nth| format!("https://www.marrowvale.example/halts/{run}-{nth}/"));
            RunUrls { added: urls.collect(), removed: vec!["/gone".to_owned()], ..RunUrls::default() }
        };
        for run in 1..=12 {
            let writing = ledger.transaction().unwrap();
            let (started_by, gzip) = (StartedBy::Hand, String::new());
            writing.add_run(&RunRow { run, at: run, took_ms: 0, started_by, gzip, counts }, "{}").unwrap();
            writing.add_run_urls(run, &urls(run)).unwrap();
            writing.forget_history(run, 400).unwrap();
            writing.commit().unwrap();
        }
        assert_eq!(ledger.urls_of_run(12).unwrap(), urls(12));
        let kept = (1..=12).filter(|run| ledger.urls_of_run(*run).unwrap() != RunUrls::default());
        assert_eq!(kept.collect::<Vec<_>>(), [4, 5, 6, 7, 8, 9, 10, 11, 12], "100,000 of the last runs");
    }
}
