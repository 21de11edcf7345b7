//! A session that reads the past: `SET AS OF`.

use super::Session;
use super::session::Call;
use crate::bind::{MissingParameters, moment_of};
use crate::catalog::{Catalog, Table, TableSource};
use crate::diagnostic::{Error, Result, SqlState};
use crate::storage::StoredTable;
use crate::syntax::ast;
use crate::types::{parse_date, parse_timestamp};
use std::any::Any;
use std::sync::Arc;

/// The tables whose past is among what a statement reads: current rows are part of it.
pub(super) fn read_in_the_past(catalog: &Catalog, reads: &[Arc<dyn TableSource>]) -> Vec<Arc<dyn TableSource>> {
    let is_read = |table: &&Table| {
        let any: &dyn Any = table.source.as_ref();
        let Some(stored) = any.downcast_ref::<StoredTable>() else { return false };
        let is_past = |read: &Arc<dyn TableSource>| {
            stored.known_past().is_some_and(|past| std::ptr::addr_eq(Arc::as_ptr(read), Arc::as_ptr(past)))
        };
        reads.iter().any(|read| is_past(read) || stored.has_moment(read))
    };
    catalog.tables().map(|(_, table)| table).filter(is_read).map(|table| Arc::clone(&table.source)).collect()
}

impl Session {
    /// Reads every versioned table as it was at a moment: a day, a timestamp, `COMMIT 3`, or an expression that SET AS OF takes; `None` returns to the
    /// present. Nothing can be changed meanwhile (25006).
    ///
    /// # Errors
    /// 42000 for text that is not a moment, 22000 for a commit that there is not, 25001 while a transaction is open.
    pub fn read_as_of(&mut self, moment: Option<&str>) -> Result<()> {
        let Some(text) = moment.map(str::trim) else {
            self.as_of = None;
            return Ok(());
        };
        let written = match (parse_date(text), parse_timestamp(text)) {
            (Some(_), _) => format!("DATE '{text}'"),
            (None, Some(_)) => format!("TIMESTAMP '{text}'"),
            (None, None) => text.to_owned(),
        };
        self.run(format!("SET AS OF = {written}")).map(|_| ())
    }

    /// `SET AS OF = moment`: every versioned table is read as it was then, until `SET AS OF = DEFAULT`.
    pub(super) fn read_past(&mut self, moment: Option<&ast::SystemTimePoint>, call: &Call<'_>) -> Result<()> {
        let Some(moment) = moment else {
            self.as_of = None;
            return Ok(());
        };
        if self.in_transaction() {
            let message = "a transaction is open, and reads the tables as they are";
            let help = "COMMIT or ROLLBACK it first";
            let error = Error::new(SqlState::ACTIVE_TRANSACTION, message).with_help(help);
            return Err(error.at(moment.expr().span));
        }
        let (catalog, files) = (self.catalog(), self.files());
        let around = self.around(&catalog, &files, call.parameters, MissingParameters::Refuse);
        self.as_of = Some(moment_of(moment, call.source, &around)?);
        Ok(())
    }

    /// An error when the session reads the past, in which nothing changes.
    pub(super) fn check_present(&self) -> Result<()> {
        if self.as_of.is_none() {
            return Ok(());
        }
        let message = "the session reads the past, and nothing changes there";
        Err(Error::new(SqlState::READ_ONLY, message).with_help("SET AS OF = DEFAULT returns to the present"))
    }
}
