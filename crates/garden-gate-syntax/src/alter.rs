//! ALTER (clauses 11.10 to 11.31).

use super::ast::{AlterTable, Definition, NumberingChange, SequenceChange, SequenceOptions};
use super::keyword::Keyword as K;
use super::parser::Parser;
use crate::diagnostic::{Result, Span};

impl Parser<'_> {
    /// What follows ALTER.
    pub(super) fn alter(&mut self) -> Result<Definition> {
        if self.accept_word(K::Sequence) {
            return self.alter_sequence();
        }
        if self.accept_word(K::Domain) {
            return self.alter_domain();
        }
        self.expect_either(K::Table, "TABLE, SEQUENCE or DOMAIN")?;
        let name = self.qualified_name("the name of a table")?;
        let action = self.alter_table()?;
        Ok(Definition::AlterTable { name, action })
    }

    fn alter_table(&mut self) -> Result<AlterTable> {
        if self.accept_words(&[K::Check, K::Constraints]) {
            return Ok(AlterTable::CheckConstraints);
        }
        if self.accept_word(K::Add) {
            return self.alter_add();
        }
        let start = self.span();
        if self.accept_words(&[K::Set, K::History]) {
            let change = self.history_rule()?;
            return Ok(AlterTable::SetHistory { change, span: start.to(self.last_span()) });
        }
        if self.accept_word(K::Drop) {
            return self.alter_drop(start);
        }
        if self.accept_word(K::Rename) {
            if self.accept_word(K::To) {
                return self.name("the new name").map(AlterTable::Rename);
            }
            self.accept_word(K::Column);
            let name = self.name("a column")?;
            self.expect_word(K::To)?;
            return Ok(AlterTable::RenameColumn { name, to: self.name("the new name")? });
        }
        if !self.accept_word(K::Alter) {
            let error = self.expected("ADD, DROP, RENAME, ALTER, SET HISTORY or CHECK CONSTRAINTS");
            let next = usize::from(self.is_word_at(1, K::Column)) + 1;
            let column = self.raw(self.ahead(next));
            let help = super::thesaurus::for_alteration(self.raw(self.current()), column);
            return Err(help.into_iter().fold(error, |error, help| error.with_help(help)));
        }
        self.alter_column()
    }

    /// What follows ADD.
    fn alter_add(&mut self) -> Result<AlterTable> {
        let constraint = self.at_any(&[K::Constraint, K::Check, K::Unique])
            || self.at_words(&[K::Primary, K::Key])
            || self.at_words(&[K::Foreign, K::Key]);
        if constraint {
            return self.table_constraint().map(AlterTable::AddConstraint);
        }
        let start = self.span();
        if self.accept_words(&[K::System, K::Versioning]) {
            return Ok(AlterTable::AddVersioning(start.to(self.last_span())));
        }
        if self.at_words(&[K::Period, K::For]) {
            let period = self.period_element()?;
            let mut columns = Vec::new();
            while self.accept_word(K::Add) {
                self.accept_word(K::Column);
                columns.push(self.column_element()?);
            }
            return Ok(AlterTable::AddPeriod { period, columns });
        }
        self.accept_word(K::Column);
        self.column_element().map(AlterTable::AddColumn)
    }

    /// What follows DROP, which is at `start`.
    fn alter_drop(&mut self, start: Span) -> Result<AlterTable> {
        if self.accept_words(&[K::System, K::Versioning]) {
            let span = start.to(self.last_span());
            return Ok(AlterTable::DropVersioning { drop: self.drop_behaviour(false), span });
        }
        if self.accept_words(&[K::Period, K::For]) {
            let name = self.name("SYSTEM_TIME or the name of a period")?;
            return Ok(AlterTable::DropPeriod { name, drop: self.drop_behaviour(false) });
        }
        let constraint = self.accept_word(K::Constraint);
        if !constraint {
            self.accept_word(K::Column);
        }
        let if_exists = self.accept_words(&[K::If, K::Exists]);
        let name = self.name("a name")?;
        let drop = self.drop_behaviour(if_exists);
        Ok(match constraint {
            true => AlterTable::DropConstraint { name, drop },
            false => AlterTable::DropColumn { name, drop },
        })
    }

    /// What follows `ALTER [COLUMN]`.
    fn alter_column(&mut self) -> Result<AlterTable> {
        self.accept_word(K::Column);
        let column = self.name("a column")?;
        if self.accept_words(&[K::Set, K::Default]) {
            return Ok(AlterTable::SetDefault { column, value: Some(self.expression()?) });
        }
        if self.accept_words(&[K::Drop, K::Default]) {
            return Ok(AlterTable::SetDefault { column, value: None });
        }
        if let Some(change) = self.numbering()? {
            return Ok(AlterTable::Numbering { column, change });
        }
        if self.accept_words(&[K::Set, K::Not, K::Null]) {
            return Ok(AlterTable::SetNotNull { column, not_null: true });
        }
        if self.accept_words(&[K::Drop, K::Not, K::Null]) {
            return Ok(AlterTable::SetNotNull { column, not_null: false });
        }
        if self.accept_words(&[K::Set, K::Data, K::Type]) {
            return Ok(AlterTable::SetType { column, declared: self.declared_type()? });
        }
        Err(self.expected(
            "SET DEFAULT, DROP DEFAULT, SET NOT NULL, DROP NOT NULL, SET DATA TYPE, SET GENERATED, RESTART or DROP IDENTITY",
        ))
    }

    /// What ALTER COLUMN says of the numbers of an identity column (clause 11.20), if it does.
    fn numbering(&mut self) -> Result<Option<NumberingChange>> {
        if self.accept_words(&[K::Drop, K::Identity]) {
            return Ok(Some(NumberingChange::Drop));
        }
        let (mut always, mut restart, mut options) = (None, None, SequenceOptions::default());
        let mut any = false;
        loop {
            if self.accept_words(&[K::Set, K::Generated, K::Always]) {
                always = Some(true);
            } else if self.accept_words(&[K::Set, K::Generated, K::By, K::Default]) {
                always = Some(false);
            } else if self.accept_word(K::Restart) {
                restart = Some(if self.accept_word(K::With) { Some(self.whole_number()?) } else { None });
            } else if self.at_word(K::Set)
                && [K::Increment, K::Minvalue, K::Maxvalue, K::No, K::Cycle, K::Start]
                    .iter()
                    .any(|word| self.is_word_at(1, *word))
                && !self.is_word_at(2, K::Null)
            {
                self.advance();
                if !self.sequence_option(&mut options)? {
                    return Err(self.expected("INCREMENT BY, MINVALUE, MAXVALUE or CYCLE"));
                }
            } else {
                break;
            }
            any = true;
        }
        Ok(any.then_some(NumberingChange::Alter { always, change: SequenceChange { restart, options } }))
    }
}
