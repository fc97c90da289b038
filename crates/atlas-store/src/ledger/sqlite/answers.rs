//! What engines have answered, on its own: the part of a ledger that must not be lost with the machine that it is on.

use rusqlite::types::{Value, ValueRef};
use rusqlite::{Connection, params_from_iter};
use serde::{Deserialize, Serialize};

use crate::error::StoreError;

/// The tables that are taken as a whole, and that of which only later rows are.
const WHOLE: [&str; 2] = ["engine", "told_url"];
const GROWING: &str = "announcement";

/// Rows of tables.
#[derive(Debug, Serialize, Deserialize)]
struct Answers {
    engine: Vec<Vec<StoredValue>>,
    told_url: Vec<Vec<StoredValue>>,
    announcement: Vec<Vec<StoredValue>>,
}

/// A value of a row.
#[derive(Debug, Serialize, Deserialize)]
#[serde(untagged)]
enum StoredValue {
    Nothing,
    Integer(i64),
    Text(String),
    Blob(Vec<u8>),
}

/// The number of the last announcement.
pub(super) fn last(connection: &Connection) -> Result<i64, StoreError> {
    let sql = "select coalesce(max(id), 0) from announcement";
    Ok(connection.query_row(sql, [], |row| row.get(0))?)
}

/// The answers, of announcements those after this one.
pub(super) fn export(connection: &Connection, after: i64) -> Result<Vec<u8>, StoreError> {
    let [engine, told_url] = WHOLE.map(|table| rows(connection, &format!("select * from {table}")));
    let announcement = rows(connection, &format!("select * from {GROWING} where id > {after} order by id"))?;
    let answers = Answers { engine: engine?, told_url: told_url?, announcement };
    serde_json::to_vec(&answers).map_err(|_| StoreError::LedgerDamaged("answers that cannot be written"))
}

/// Takes answers over into a ledger that was left before them.
pub(super) fn import(connection: &mut Connection, bytes: &[u8]) -> Result<(), StoreError> {
    let Answers { engine, told_url, announcement } =
        serde_json::from_slice(bytes).map_err(|_| StoreError::LedgerDamaged("answers that cannot be read"))?;
    let transaction = connection.transaction()?;
    for (table, rows) in WHOLE.into_iter().zip([engine, told_url]) {
        transaction.execute(&format!("delete from {table}"), [])?;
        insert(&transaction, table, rows)?;
    }
    insert(&transaction, GROWING, announcement)?;
    Ok(transaction.commit()?)
}

fn rows(connection: &Connection, sql: &str) -> Result<Vec<Vec<StoredValue>>, StoreError> {
    let mut statement = connection.prepare(sql)?;
    let columns = statement.column_count();
    let mut found = statement.query([])?;
    let mut rows = Vec::new();
    while let Some(row) = found.next()? {
        let cell = |at| {
            Ok(match row.get_ref(at)? {
                ValueRef::Null => StoredValue::Nothing,
                ValueRef::Integer(number) => StoredValue::Integer(number),
                ValueRef::Text(text) => StoredValue::Text(String::from_utf8_lossy(text).into_owned()),
                ValueRef::Blob(bytes) => StoredValue::Blob(bytes.to_vec()),
                ValueRef::Real(_) => return Err(StoreError::LedgerDamaged("a number that is not whole")),
            })
        };
        rows.push((0..columns).map(cell).collect::<Result<_, StoreError>>()?);
    }
    Ok(rows)
}

fn insert(connection: &Connection, table: &str, rows: Vec<Vec<StoredValue>>) -> Result<(), StoreError> {
    for row in rows {
        let places = vec!["?"; row.len()].join(", ");
        let values = row.into_iter().map(|cell| match cell {
            StoredValue::Nothing => Value::Null,
            StoredValue::Integer(number) => Value::Integer(number),
            StoredValue::Text(text) => Value::Text(text),
            StoredValue::Blob(bytes) => Value::Blob(bytes),
        });
        let mut statement = connection.prepare_cached(&format!("insert or replace into {table} values ({places})"))?;
        statement.execute(params_from_iter(values))?;
    }
    Ok(())
}
