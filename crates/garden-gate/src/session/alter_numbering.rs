//! The numbers of an identity column, changed (clause 11.20).

use super::alter::Altered;
use super::objects::numbers;
use super::table_definition::numbered_as;
use crate::catalog::{Filled, Identity};
use crate::diagnostic::{Error, Result, SqlState};
use crate::syntax::ast::{self, NumberingChange};

impl Altered<'_> {
    /// Rows keep the numbers they have; the next one begins where RESTART says, or goes on.
    pub(super) fn numbering(&mut self, name: &ast::Ident, change: NumberingChange) -> Result<()> {
        let column = self.column_mut(name)?;
        let (sql_type, Filled::Identity(identity)) = (column.sql_type, &mut column.filled) else {
            let message = format!("column {:?} is not numbered by the database", name.text);
            let help = "GENERATED ALWAYS AS IDENTITY among the words of a column numbers its rows";
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help).at(name.span));
        };
        let (always, change) = match change {
            NumberingChange::Drop => {
                column.filled = Filled::Null;
                return Ok(());
            }
            NumberingChange::Alter { always, change } => (always, change),
        };
        let options = ast::SequenceOptions { sql_type: Some(numbered_as(sql_type)), ..change.options };
        let made = numbers(&options, Some(identity.numbers), name)?;
        *identity = Identity { always: always.unwrap_or(identity.always), numbers: made };
        if let Some(first) = change.restart {
            let first = first.unwrap_or(made.start);
            if !(made.least..=made.most).contains(&first) {
                let message = format!("column {:?} can't go on with {first}", name.text);
                let help = format!("its numbers go from {} to {}", made.least, made.most);
                return Err(Error::new(SqlState::NUMERIC_OUT_OF_RANGE, message).with_help(help).at(name.span));
            }
            self.next_number = Some(first);
        }
        Ok(())
    }
}
