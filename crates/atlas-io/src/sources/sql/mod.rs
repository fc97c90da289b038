//! The source `sql`: a query of the user's on SQLite, PostgreSQL, MySQL or MariaDB, whose columns are the fields.
//!
//! Rows are streamed as separated values, so that a row whose bytes are as last time is recognised like a line of a
//! table. All sources with the same connection read in one read-only transaction, and so see the database at one
//! instant. Its time zone is the site's, so that times that the query formats, and values without a zone, mean the same
//! on both sides. A query that nobody waits for is ended on the server. No setting outlives the transaction, because a
//! pooler may pass the session on to others. A connection with a password is never shown, not even in errors.
//!
//! | file | contents |
//! |---|---|
//! | `connection`, `query` | what the configuration says |
//! | `since` | the instant since when changes are wanted |
//! | `rows` | rows on their way to the reader |
//! | `failure`, `server` | failures in words, and limits |
//! | `session` | an open transaction |
//! | `sqlite`, `postgres`, `mysql` | the transactions of one kind of database each |
//! | `shared` | the transaction that sources share, and new tries |
//! | `source` | the source itself |
//! | `select` | a query whose few rows are wanted at once |

mod connection;
mod failure;
mod since;
mod query;
mod rows;
mod session;
mod sqlite;
#[cfg(feature = "sql-servers")]
mod server;
#[cfg(feature = "sql-servers")]
mod postgres;
#[cfg(feature = "sql-servers")]
mod mysql;
mod shared;
mod source;
mod select;

pub use self::connection::{ConnectionError, Database, encode_variable, has_plain_password, shown};
pub use self::select::{SelectedRows, select};
pub use self::shared::SharedConnection;
pub use self::since::names_since;
pub use self::source::SqlSource;
