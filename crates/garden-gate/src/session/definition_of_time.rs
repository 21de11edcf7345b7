//! Periods and system versioning in definitions (clauses 11.3, and 11.27 to 11.30).

use super::Session;
use super::change::stored;
use super::session::Call;
use super::table_definition::{Maker, no_column};
use crate::bind::{MissingParameters, moment_of};
use crate::catalog::{
    Catalog, ColumnDefinition, Filled, HistoryRule, Period, SYSTEM_TIME, SystemTime, Table, TableDefinition,
    TableSource,
};
use crate::diagnostic::{Error, Result, Span, SqlState};
use crate::storage::StoredTable;
use crate::syntax::ast;
use crate::types::SqlType;
use std::sync::Arc;

/// The columns of system time where the statement names none.
const SHORT_FORM: [&str; 2] = ["system_start", "system_end"];

fn rule(message: impl Into<String>, span: Span) -> Error {
    Error::new(SqlState::SYNTAX_OR_RULE, message.into()).at(span)
}

impl Maker<'_> {
    /// `PERIOD FOR name (start, end)`
    pub(super) fn period(&self, made: &mut TableDefinition, period: &ast::PeriodElement) -> Result<()> {
        let place = |name: &ast::Ident| {
            made.columns
                .iter()
                .position(|column| name.matches(&column.name))
                .ok_or_else(|| no_column(made, &self.table.text, name))
        };
        let (start, end) = (place(&period.start)?, place(&period.end)?);
        let table = &self.table.text;
        let name = &period.name;
        let taken = if name.matches(SYSTEM_TIME) {
            made.system_time.is_some()
        } else {
            made.periods.iter().any(|known| name.matches(&known.name))
        };
        if taken {
            return Err(rule(format!("two periods of table {table:?} are called {:?}", name.text), name.span));
        }
        if made.columns.iter().any(|column| name.matches(&column.name)) {
            let message = format!("{:?} is a column of table {table:?}: its period needs another name", name.text);
            return Err(rule(message, name.span));
        }
        if start == end {
            return Err(rule("a period starts and ends in two columns", period.span));
        }
        let (first, last) = (&made.columns[start], &made.columns[end]);
        if first.declared() != last.declared() {
            let message = format!(
                "{:?} is {}, {:?} is {}: a period has one type",
                first.name,
                first.declared(),
                last.name,
                last.declared()
            );
            return Err(rule(message, period.span).with_help("give both columns the same type"));
        }
        if name.matches(SYSTEM_TIME) {
            return self.system_period(made, (start, end), period.span);
        }
        if !matches!(first.sql_type, SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz) {
            let message = format!("a period is made of dates or timestamps, {:?} is {}", first.name, first.declared());
            return Err(rule(message, period.start.span));
        }
        for at in [start, end] {
            made.columns[at].not_null = true;
        }
        made.periods.push(Period { name: name.text.clone(), start, end });
        Ok(())
    }

    fn system_period(&self, made: &mut TableDefinition, (start, end): (usize, usize), span: Span) -> Result<()> {
        for (at, wanted, words) in [(start, "start", "ROW START"), (end, "end", "ROW END")] {
            let column = &mut made.columns[at];
            let fits = match column.filled {
                Filled::RowStart => wanted == "start",
                Filled::RowEnd => wanted == "end",
                Filled::Null | Filled::Default(_) | Filled::Identity(_) | Filled::Generated(_) => false,
            };
            if !fits {
                let message =
                    format!("system time {wanted}s in {:?}, which is not GENERATED ALWAYS AS {words}", column.name);
                let help = format!("{} TIMESTAMP(6) WITH TIME ZONE GENERATED ALWAYS AS {words}", column.name);
                return Err(rule(message, span).with_help(help));
            }
            column.not_null = true;
        }
        made.system_time = Some(SystemTime { start, end, versioned: false, rule: HistoryRule::default() });
        Ok(())
    }

    /// The rules of system time that only the complete definition shows; `versioned` is the place of WITH SYSTEM VERSIONING.
    pub(super) fn settle_system_time(&self, made: &mut TableDefinition, versioned: Option<Span>) -> Result<()> {
        if let Some(span) = versioned {
            if made.temporary.is_some() {
                let message = "a temporary table keeps no history: it is gone with its session";
                return Err(rule(message, span).with_help("CREATE TABLE makes one that stays"));
            }
            if made.system_time.is_none() {
                self.short_form(made, span)?;
            }
            if let Some(period) = &mut made.system_time {
                period.versioned = true;
            }
        }
        let of_period =
            |at: usize| made.system_time.as_ref().is_some_and(|period| at == period.start || at == period.end);
        for (at, column) in made.columns.iter().enumerate() {
            let words = match column.filled {
                Filled::RowStart => "ROW START",
                Filled::RowEnd => "ROW END",
                Filled::Null | Filled::Default(_) | Filled::Identity(_) | Filled::Generated(_) => continue,
            };
            if !of_period(at) {
                let message = format!("column {:?} is {words} of no period", column.name);
                let help = "PERIOD FOR SYSTEM_TIME (start, end) among the columns names both";
                return Err(rule(message, self.table.span).with_help(help));
            }
            if !matches!(column.sql_type, SqlType::Timestamp | SqlType::TimestampTz) || column.limit.is_some() {
                let message = format!("column {:?} holds times of commits, and is {}", column.name, column.declared());
                let help = "make it TIMESTAMP(6), with or without TIME ZONE: commits follow each other fast";
                return Err(rule(message, self.table.span).with_help(help));
            }
        }
        Ok(())
    }

    /// Adds the hidden columns of system time.
    pub(super) fn short_form(&self, made: &mut TableDefinition, span: Span) -> Result<()> {
        for (name, filled) in SHORT_FORM.into_iter().zip([Filled::RowStart, Filled::RowEnd]) {
            if made.columns.iter().any(|column| column.name.eq_ignore_ascii_case(name)) {
                let message = format!("table {:?} has a column {name:?}, which system time needs", self.table.text);
                let help = "name other columns with PERIOD FOR SYSTEM_TIME (start, end)";
                return Err(Error::new(SqlState::COLUMN_EXISTS, message).with_help(help).at(span));
            }
            made.columns.push(system_column(name, filled));
        }
        let end = made.columns.len() - 1;
        made.system_time = Some(SystemTime { start: end - 1, end, versioned: false, rule: HistoryRule::default() });
        Ok(())
    }
}

fn system_column(name: &str, filled: Filled) -> ColumnDefinition {
    ColumnDefinition {
        name: name.to_owned(),
        sql_type: SqlType::TimestampTz,
        limit: None,
        not_null: true,
        filled,
        hidden: true,
        domain: None,
    }
}

/// What ALTER TABLE makes of a table's system time.
pub(super) struct TimeAltered {
    pub(super) definition: TableDefinition,
    pub(super) table: StoredTable,
    /// How many rows of history went.
    pub(super) removed: Option<u64>,
}

impl Session {
    /// ALTER TABLE that is about history alone, and leaves the current rows; `None` for another.
    pub(super) fn alter_history(
        &self,
        catalog: &mut Catalog,
        (schema, name): (&str, &str),
        action: &ast::AlterTable,
    ) -> Result<Option<Option<u64>>> {
        let altered = match action {
            ast::AlterTable::SetHistory { change, span } => set_history(catalog, (schema, name), *change, *span)?,
            ast::AlterTable::DropVersioning { span, .. } => drop_versioning(catalog, (schema, name), *span)?,
            _ => return Ok(None),
        };
        let TimeAltered { definition, table, removed } = altered;
        put(catalog, (schema, name), table, definition);
        Ok(Some(removed))
    }

    /// TRIM HISTORY: takes away what ended before a moment; gives how many rows went.
    pub(super) fn trim_history(&self, catalog: &mut Catalog, trim: &ast::TrimHistory, call: &Call<'_>) -> Result<u64> {
        let (schema, table) = self.place(catalog, &trim.table)?;
        let tables = catalog.schema(&schema).map(|schema| schema.tables.as_slice()).unwrap_or_default();
        let Some(known) = tables.iter().find(|known| table.matches(&known.name)) else {
            return Err(super::definition::no_table(catalog, &schema, table));
        };
        let known = known.name.clone();
        let files = self.files();
        let around = self.around(catalog, &files, call.parameters, MissingParameters::Refuse);
        let moment = moment_of(&trim.before, call.source, &around)?;
        let now = around.moment.micros;
        let (source, definition, period) = versioned(catalog, (&schema, &known), table.span)?;
        if moment > now {
            let message = "history is trimmed before a moment in the past, and this one lies in the future";
            return Err(rule(message, trim.before.expr().span));
        }
        // What an open transaction has ended ends with its commit, after the moment.
        let before = catalog.pending.time.map_or(moment, |time| moment.min(time - 1));
        let mut history = source.history().clone();
        let removed = history.trim(&period, before)?;
        put(catalog, (&schema, &known), source.with_history(history), TableDefinition::clone(&definition));
        Ok(removed)
    }
}

/// A versioned table with its definition; an error for another.
fn versioned(
    catalog: &Catalog,
    (schema, name): (&str, &str),
    span: Span,
) -> Result<(Arc<StoredTable>, Arc<TableDefinition>, SystemTime)> {
    let none = || {
        rule(format!("table {name:?} keeps no history"), span)
            .with_help(format!("ALTER TABLE {name} ADD SYSTEM VERSIONING keeps it from then on"))
    };
    let (source, definition) = stored(catalog, schema, name).map_err(|_| none())?;
    let period = definition.versioning().cloned().ok_or_else(none)?;
    Ok((source, definition, period))
}

fn put(catalog: &mut Catalog, (schema, name): (&str, &str), source: StoredTable, definition: TableDefinition) {
    let Some(table) = catalog.table(schema, name).cloned() else { return };
    let source: Arc<dyn TableSource> = Arc::new(source);
    catalog.put_table(schema, Table { source, definition: Some(Arc::new(definition)), ..table });
}

fn set_history(catalog: &Catalog, place: (&str, &str), change: ast::HistoryChange, span: Span) -> Result<TimeAltered> {
    let (source, definition, mut period) = versioned(catalog, place, span)?;
    change.apply(&mut period.rule);
    let mut history = source.history().clone();
    let rows = history.rows();
    history.keep(&period)?;
    let removed = Some(rows - history.rows()).filter(|rows| *rows > 0);
    let mut definition = TableDefinition::clone(&definition);
    definition.system_time = Some(period);
    Ok(TimeAltered { definition, table: source.with_history(history), removed })
}

/// The table without history; the columns of its period stay as they are, unless it had none of its own.
fn drop_versioning(catalog: &Catalog, place: (&str, &str), span: Span) -> Result<TimeAltered> {
    let (source, definition, mut period) = versioned(catalog, place, span)?;
    let removed = Some(source.history().rows());
    period.versioned = false;
    let mut definition = TableDefinition::clone(&definition);
    definition.system_time = Some(period);
    Ok(TimeAltered { definition, table: source.with_history(crate::storage::History::default()), removed })
}
