//! Samples of tables in databases.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

use super::rows::{MOST_ROWS, RowSample};
use super::tables::files_below;
use crate::sources::sql::{Database, SelectedRows, select};

/// The most tables that are looked at.
const MOST_TABLES: usize = 300;
/// How an SQLite file begins.
const SQLITE: &[u8] = b"SQLite format 3\0";

/// A table or view of a database.
#[derive(Debug, Clone)]
pub struct DatabaseTable {
    /// Its name as it is written in a query.
    pub name: String,
    /// Its first rows.
    pub sample: RowSample,
}

/// The SQLite files in a folder and the folders directly below it, except in folders that are left out.
pub fn sqlite_files(folder: &Path, but: &[PathBuf]) -> Vec<String> {
    let is_one = |path: &PathBuf| {
        let mut head = [0; SQLITE.len()];
        File::open(path).is_ok_and(|mut file| file.read_exact(&mut head).is_ok()) && head == SQLITE
    };
    let below = |path: PathBuf| path.strip_prefix(folder).unwrap_or(&path).to_string_lossy().into_owned();
    files_below(folder, but).filter(is_one).map(below).collect()
}

/// The tables and views of a database, by name, with their first rows.
///
/// # Errors
///
/// Returns in words why the database cannot be read. A table that cannot be read is left out.
pub fn database_tables(database: &Database) -> Result<Vec<DatabaseTable>, String> {
    let list = match database {
        Database::Sqlite(_) => {
            "select '' as place, name from sqlite_schema where type in ('table', 'view') and name not like 'sqlite_%' order by name"
        }
        #[cfg(feature = "sql-servers")]
        Database::Postgres(_) => {
            "select case table_schema when 'public' then '' else table_schema end as place, table_name as name from information_schema.tables where table_schema not in ('pg_catalog', 'information_schema') order by 1, 2"
        }
        #[cfg(feature = "sql-servers")]
        Database::MySql(_) => {
            "select '' as place, table_name as name from information_schema.tables where table_schema = database() order by 1, 2"
        }
    };
    let tables = select(database, list)?;
    let named = |cells: &Vec<String>| {
        let [place, name, ..] = &cells[..] else { return None };
        let name = database.quoted(name);
        Some(if place.is_empty() { name } else { format!("{}.{name}", database.quoted(place)) })
    };
    let names: Vec<String> = tables.rows.iter().filter_map(named).take(MOST_TABLES).collect();
    let sample = |name: String| {
        let SelectedRows { columns, rows } =
            select(database, &format!("select * from {name} limit {MOST_ROWS}")).ok()?;
        Some(DatabaseTable { name, sample: RowSample { columns, rows } })
    };
    Ok(names.into_iter().filter_map(sample).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_of_an_sqlite_file_are_sampled() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("shop.db");
        let connection = rusqlite::Connection::open(&path).unwrap();
        connection
            .execute_batch("create table goods (slug text, name text, price real); insert into goods values ('oil-can', 'Oil, 1 l', 3.5), ('wick', null, 1); create table \"Odd name\" (a); create view dear as select * from goods where price > 2;")
            .unwrap();
        drop(connection);
        std::fs::write(folder.path().join("notes.db"), "no database").unwrap();
        assert_eq!(sqlite_files(folder.path(), &[]), ["shop.db"]);
        let tables = database_tables(&Database::Sqlite(path)).unwrap();
        let names: Vec<(&str, usize)> = tables.iter().map(|one| (one.name.as_str(), one.sample.rows.len())).collect();
        assert_eq!(names, [("\"Odd name\"", 0), ("dear", 1), ("goods", 2)]);
        assert_eq!(tables[2].sample.columns, ["slug", "name", "price"]);
        assert_eq!(tables[2].sample.rows[0], ["oil-can", "Oil, 1 l", "3.5"]);
        assert!(database_tables(&Database::Sqlite(folder.path().join("notes.db"))).is_err());
    }
}
