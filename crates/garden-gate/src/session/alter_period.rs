//! Periods and history of a table that ALTER TABLE changes.

use super::alter::{Altered, drop_column};
use super::constraints::repeat;
use super::versioning::time_value;
use crate::catalog::{FOREVER, Filled, ForeignKey, KeyConstraint, SYSTEM_TIME};
use crate::diagnostic::{Error, Result, Span, SqlState, suggestion};
use crate::syntax::ast;
use crate::types::SqlType;

impl Altered<'_> {
    /// An error for a change of a column that is an end of a period.
    pub(super) fn refuse_period_end(&self, name: &ast::Ident, why: &str) -> Result<()> {
        let own = self.made.periods.iter().map(|period| (period.name.as_str(), period.start, period.end));
        let system = self.made.system_time.iter().map(|period| (SYSTEM_TIME, period.start, period.end));
        let is_end = |at: usize| name.matches(&self.made.columns[at].name);
        let Some((period, ..)) = own.chain(system).find(|(_, start, end)| is_end(*start) || is_end(*end)) else {
            return Ok(());
        };
        let message = format!("column {:?} is an end of the period {period:?}, and {why}", name.text);
        let help = "ALTER TABLE … DROP PERIOD FOR … first";
        Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help).at(name.span))
    }

    /// `ADD PERIOD FOR name (start, end)`, with new columns where it has some; those of system time are made where it names none.
    pub(super) fn add_period(&mut self, period: &ast::PeriodElement, columns: &[ast::ColumnElement]) -> Result<()> {
        for column in columns {
            self.add_column(column)?;
        }
        if period.name.matches(SYSTEM_TIME) && columns.is_empty() {
            for (name, filled) in [(&period.start, ast::FilledBy::RowStart), (&period.end, ast::FilledBy::RowEnd)] {
                if !self.made.columns.iter().any(|column| name.matches(&column.name)) {
                    let element = ast::ColumnElement::filled(name.clone(), SqlType::TimestampTz.into(), filled);
                    self.add_column(&element)?;
                }
            }
        }
        self.maker.period(&mut self.made, period)?;
        self.maker.settle_system_time(&mut self.made, None)
    }

    /// DROP PERIOD.
    pub(super) fn drop_period(&mut self, name: &ast::Ident, drop: ast::Drop) -> Result<()> {
        let at = |message: String| Error::new(SqlState::SYNTAX_OR_RULE, message).at(name.span);
        if name.matches(SYSTEM_TIME) {
            let Some(period) = self.made.system_time.clone() else {
                return Err(at(format!("table {:?} has no period SYSTEM_TIME", self.name)));
            };
            if period.versioned {
                let message = format!("table {:?} keeps its history by the period SYSTEM_TIME", self.name);
                let help = format!("ALTER TABLE {} DROP SYSTEM VERSIONING first", self.name);
                return Err(at(message).with_help(help));
            }
            self.made.system_time = None;
            for column in [period.start.max(period.end), period.start.min(period.end)] {
                drop_column(&mut self.made, column, drop).map_err(|error| error.at(name.span))?;
                self.rows.columns.remove(column);
            }
            return Ok(());
        }
        let Some(place) = self.made.periods.iter().position(|period| name.matches(&period.name)) else {
            let known: Vec<&str> = self.made.periods.iter().map(|period| period.name.as_str()).collect();
            let error = at(format!("no period {:?}", name.text));
            return Err(if known.is_empty() {
                error
            } else {
                error.with_help(suggestion(&name.text, &known, "the periods are"))
            });
        };
        let period = self.made.periods.remove(place);
        let of_key = |key: &&KeyConstraint| key.period_end == Some(period.end);
        let of_reference =
            |key: &&ForeignKey| key.periods.is_some_and(|periods| periods[0] == (period.start, period.end));
        let keys = self.made.keys.iter().filter(of_key).map(|key| key.name.clone());
        let used: Vec<String> =
            keys.chain(self.made.references.iter().filter(of_reference).map(|key| key.name.clone())).collect();
        if !used.is_empty() && !drop.cascade {
            let quoted: Vec<String> = used.iter().map(|name| format!("{name:?}")).collect();
            let message = format!("period {:?} is part of {}", period.name, super::table_definition::names(&quoted));
            return Err(at(message).with_help("CASCADE drops these as well"));
        }
        self.made.keys.retain(|key| !used.contains(&key.name));
        self.made.references.retain(|key| !used.contains(&key.name));
        Ok(())
    }

    /// ADD SYSTEM VERSIONING: the rows that are there have been there since their start.
    pub(super) fn add_versioning(&mut self, span: Span) -> Result<()> {
        if self.made.versioning().is_some() {
            let message = format!("table {:?} keeps its history already", self.name);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(span));
        }
        let width = self.made.columns.len();
        self.maker.settle_system_time(&mut self.made, Some(span))?;
        for at in width..self.made.columns.len() {
            let time = if matches!(self.made.columns[at].filled, Filled::RowStart) { self.now } else { FOREVER };
            let sql_type = self.made.columns[at].sql_type;
            self.rows.columns.push(repeat(&time_value(time, sql_type), sql_type, self.rows.rows)?);
        }
        Ok(())
    }
}
