//! A session that reads the past: `SET AS OF`.

use super::Session;
use super::session::Call;
use crate::bind::{MissingParameters, moment_of};
use crate::diagnostic::{Error, Result, SqlState};
use crate::syntax::ast;

impl Session {
    /// `SET AS OF = moment`: every versioned table is read as it was then, until `SET AS OF = DEFAULT`.
    pub(super) fn read_past(&mut self, moment: Option<&ast::Moment>, call: &Call<'_>) -> Result<()> {
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
