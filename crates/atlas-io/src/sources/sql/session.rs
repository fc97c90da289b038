//! Sessions: a connection and the one read-only transaction in which all sources with this connection read.

use atlas_store::stop::Stop;

use super::failure::QueryFailure;
use super::query::Query;
use super::rows::RowWriter;

/// An open transaction.
pub(super) trait DatabaseSession: Send {
    /// Passes on the rows of a query.
    fn read(&mut self, query: &Query<'_>, rows: &mut RowWriter<'_>, stop: &Stop) -> Result<(), QueryFailure>;

    /// A remark on how the server is set up.
    fn remark(&mut self) -> Option<String> {
        None
    }

    /// Ends the transaction and the connection.
    fn close(self: Box<Self>);

    /// Ends a query that the server may still be busy with, and the connection.
    fn cancel(self: Box<Self>);
}
