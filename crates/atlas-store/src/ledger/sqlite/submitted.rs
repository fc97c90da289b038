//! The tables of what the user submitted in consoles.

use std::collections::HashMap;

use rusqlite::params;

use super::{Changing, Sqlite};
use crate::error::StoreError;
use crate::ledger::{ReadSubmitted, WriteSubmitted};
use crate::model::{SubmittedFile, SubmittedUrl};

impl ReadSubmitted for Sqlite {
    fn submitted_urls(&self) -> Result<HashMap<u128, SubmittedUrl>, StoreError> {
        let mut statement = self.connection.prepare_cached("select key, url, at, run from submitted_url")?;
        let rows = statement.query_map([], |row| {
            let submitted = SubmittedUrl { url: row.get(1)?, at: row.get(2)?, run: row.get(3)? };
            Ok((u128::from_be_bytes(row.get(0)?), submitted))
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn submitted_files(&self) -> Result<Vec<SubmittedFile>, StoreError> {
        let query = "select console, address, at from submitted_file order by console, address";
        let mut statement = self.connection.prepare_cached(query)?;
        let rows = statement
            .query_map([], |row| Ok(SubmittedFile { console: row.get(0)?, address: row.get(1)?, at: row.get(2)? }))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }
}

impl WriteSubmitted for Changing<'_> {
    fn submit_url(&self, key: u128, submitted: &SubmittedUrl) -> Result<(), StoreError> {
        let SubmittedUrl { url, at, run } = submitted;
        self.inner.execute(
            "insert or replace into submitted_url (key, url, at, run) values (?1, ?2, ?3, ?4)",
            params![key.to_be_bytes(), url, at, run],
        )?;
        Ok(())
    }

    fn submit_file(&self, file: &SubmittedFile) -> Result<(), StoreError> {
        self.inner.execute(
            "insert or replace into submitted_file (console, address, at) values (?1, ?2, ?3)",
            params![file.console, file.address, file.at],
        )?;
        Ok(())
    }

    fn withdraw_file(&self, console: &str, address: &str) -> Result<(), StoreError> {
        self.inner.execute("delete from submitted_file where console = ?1 and address = ?2", [console, address])?;
        Ok(())
    }
}
