//! A query whose few rows are wanted at once.

use std::time::Duration;

use atlas_store::stop::Stop;

use super::connection::Database;
use super::query::Query;
use super::rows::RowWriter;
use super::shared::SharedConnection;
use crate::reading::csv_split::Separators;
use crate::reading::pipe::collected;

/// The time limit.
const WAIT: Duration = Duration::from_secs(30);

/// The result of a query.
#[derive(Debug, Clone, Default)]
pub struct SelectedRows {
    /// The names of the columns.
    pub columns: Vec<String>,
    /// The rows, each with as many cells; a null is empty.
    pub rows: Vec<Vec<String>>,
}

/// Runs a query that selects few rows, in a connection of its own.
///
/// # Errors
///
/// Returns in words why it failed; a connection with a password is not repeated.
pub fn select(database: &Database, text: &str) -> Result<SelectedRows, String> {
    let query = Query { text, wait: WAIT, zone: "UTC".to_owned() };
    let connection = SharedConnection::default();
    let bytes = collected(|pipe| {
        let mut writer = RowWriter::new(pipe);
        connection.read((database, 0), &query, &mut writer, &Stop::default())?;
        writer.finish().map(drop)
    });
    connection.close();
    let bytes = bytes.map_err(|error| error.to_string())?;
    let mut reader = Separators::OF_ROWS.csv().from_reader(&bytes[..]);
    let mut columns: Vec<String> = match reader.headers() {
        Ok(header) => header.iter().map(str::to_owned).collect(),
        Err(error) => return Err(error.to_string()),
    };
    // The last column is empty: it ends each line.
    columns.pop();
    let cells = |row: csv::StringRecord| row.iter().take(columns.len()).map(str::to_owned).collect();
    let rows = reader.records().map_while(Result::ok).map(cells).collect();
    Ok(SelectedRows { columns, rows })
}
