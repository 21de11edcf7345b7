//! Record batches that go into a table of the database.

use super::Session;
use super::add_table::check_columns;
use super::files::Files;
use super::script::one_statement;
use super::session::Call;
use crate::bind::{OpenFile, Parameters};
use crate::catalog::{FileOptions, TableSource};
use crate::control;
use crate::diagnostic::{Error, Result, SourceText, SqlState};
use crate::storage::{MemoryTable, conforming};
use crate::syntax::ast;
use arrow::array::RecordBatch;
use std::sync::Arc;
use std::time::Instant;

/// The name of the batch in the text of its INSERT.
const BATCH: &str = "record batch";

/// The files of the session, and the batch.
struct WithBatch<'f> {
    rows: Arc<dyn TableSource>,
    files: Files<'f>,
}

impl OpenFile for WithBatch<'_> {
    fn open(&self, path: &str, options: &FileOptions) -> Result<Arc<dyn TableSource>> {
        if path == BATCH { Ok(Arc::clone(&self.rows)) } else { self.files.open(path, options) }
    }

    fn broken(&self, schema: &str, name: &str) -> Option<Error> {
        self.files.broken(schema, name)
    }
}

impl Session {
    /// Inserts the rows of a record batch into a table, by the names of its columns, and gives how many they were. It is an INSERT: defaults
    /// fill columns that the batch does not have, values take the types of the columns, constraints are checked, and it belongs to the
    /// transaction that is open. Arrays may have any Arrow type that [`Database::add_batches`](crate::Database::add_batches) takes.
    ///
    /// # Errors
    /// As [`Session::execute`] for such an INSERT; 0A000 for an Arrow type without an SQL type, 22xxx with row and column for values that
    /// do not fit.
    pub fn append(&mut self, table: &str, batch: &RecordBatch) -> Result<u64> {
        control::large_stack(|| {
            let name = crate::syntax::name_of(table).unwrap_or_default();
            let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
            let written = |part: &ast::Ident| if part.quoted { quoted(&part.text) } else { part.text.clone() };
            if table.is_empty() || name.iter().map(written).collect::<Vec<_>>().join(".") != table {
                let message = format!("{table:?} is not the name of a table");
                return Err(Error::new(SqlState::INVALID_NAME, message)
                    .with_help("write it as in SQL: bed, north.bed, \"wet bed\""));
            }
            let _entered = self.enter_statement();
            let (columns, segments) = crate::file::columns_of(&batch.schema(), std::iter::once(Ok(batch.clone())))?;
            check_columns(&columns)?;
            let names = columns.iter().map(|column| quoted(&column.name)).collect::<Vec<_>>().join(", ");
            let segments = conforming(&columns, segments)?;
            let rows: Arc<dyn TableSource> = Arc::new(MemoryTable::new(columns, segments));
            let source = SourceText::new(format!("INSERT INTO {table} ({names}) SELECT {names} FROM FILE '{BATCH}'"));
            let statement = one_statement(&source)?;
            let ast::StatementKind::Change(change) = &statement.kind else {
                return Err(Error::new(SqlState::GENERAL, "internal error: an INSERT was expected"));
            };
            let call =
                Call { source: &source, parameters: &Parameters::new(), started: Instant::now(), measured: None };
            let changed = self.change_catalog(|session, catalog| {
                let files = WithBatch { rows: Arc::clone(&rows), files: session.files() };
                session.changed(change, &call, (catalog, &files))
            });
            changed.map(|changed| changed.affected).map_err(|error| error.in_source(&source))
        })
    }
}
