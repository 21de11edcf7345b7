//! INSERT, UPDATE, DELETE and TRUNCATE: runs the query that finds the rows, and puts them into a new version of the table.

use super::change_plan::change_plan;
use super::constraints::{Changer, Delta};
use super::load::FromFile;
use super::result_set::ResultSet;
use super::session::Call;
use super::{Outcome, Session};
use crate::bind::{
    BoundChange, Meaning, MissingParameters, OpenFile, Portion, bind_change, bind_hidden_rows, bind_returning, done,
};
use crate::catalog::{Catalog, Column, Filled, Numbers, TableDefinition, TableSource};
use crate::diagnostic::{Error, Note, Result, Span, SqlState};
use crate::kernel::{Batch, cast_values, evaluate};
use crate::logical::{Expr, ExprKind};
use crate::storage::{MemoryTable, StoredTable};
use crate::syntax::ast;
use crate::types::{CompareOp, SqlType, Value};
use arrow::array::{Array, ArrayRef, AsArray, Int64Array, new_null_array};
use arrow::datatypes::Int64Type;
use std::any::Any;
use std::sync::Arc;

/// What a change came to.
pub(super) struct Changed {
    pub(super) affected: u64,
    pub(super) returned: Option<ResultSet>,
    pub(super) notes: Vec<Note>,
}

impl Session {
    /// INSERT, UPDATE, DELETE or MERGE.
    pub(super) fn change(&mut self, change: &ast::Change, call: &Call<'_>) -> Result<Outcome> {
        if let ast::ChangeKind::Insert(ast::Insert { rows: ast::InsertRows::File { path, options, span }, .. }) =
            &change.kind
        {
            return self.load(change, FromFile { path, options, span: *span }, call);
        }
        let changed = self
            .change_catalog(|session, catalog| session.changed(change, call, (catalog, &session.files())))
            .map_err(|error| if error.span().is_none() { error.at(change.span) } else { error })?;
        let elapsed = call.started.elapsed();
        Ok(match changed.returned {
            Some(rows) => Outcome::Rows(ResultSet { elapsed, affected: Some(changed.affected), ..rows }),
            None => Outcome::Changed {
                what: super::words::of_change(change, changed.affected),
                affected: changed.affected,
                elapsed,
                notes: changed.notes,
            },
        })
    }

    /// What a change makes of the database; `files` are those that it reads.
    pub(super) fn changed(
        &self,
        change: &ast::Change,
        call: &Call<'_>,
        (catalog, files): (&Arc<Catalog>, &dyn OpenFile),
    ) -> Result<(Catalog, Changed)> {
        let around = self.around(catalog, files, call.parameters, MissingParameters::Refuse);
        let BoundChange { schema, table, rows, meaning, checks, .. } = bind_change(change, call.source, &around)?;
        let (old, definition) = stored(catalog, &schema, &table)?;
        self.note_use(catalog, &schema, &table);
        // What is wrong with RETURNING is reported before anything is done.
        let returning = |new: &Batch, before: &Batch| -> Result<Option<ResultSet>> {
            let Some(items) = &change.returning else { return Ok(None) };
            let rows = both(&definition, new, before);
            let bound = bind_returning(change, items, call.source, (&around, Arc::new(rows)))?;
            self.run_prepared(&self.prepare_bound(bound, call)?, None).map(Some)
        };
        let nothing = empty(&definition);
        returning(&nothing, &nothing)?;
        let prepared = self.prepare_bound(rows, call)?;
        let measures = call.measured.map(|_| prepared.measures());
        let found = self.run_prepared(&prepared, measures.as_ref())?;
        if let Some(measured) = call.measured {
            let plan = change_plan(change, catalog, (&schema, &table), (&prepared, measures.as_ref()))?;
            measured.replace(Some(plan));
        }
        let rows = if found.batches.is_empty() { None } else { Some(Batch::concat(&found.batches, None)?) };
        let mut changer = Changer::new(Catalog::clone(catalog), &around, is_unchecked(change), self.deferral());
        let is_insert = matches!(meaning, Meaning::Added { .. });
        let target = (schema.as_str(), table.as_str());
        let is_portion = meaning.portion().is_some();
        let (mut delta, next_number) = delta_of(meaning, rows, (&changer, target), (&old, &definition))?;
        check_option(&checks.plain, &delta.added, &definition)?;
        changer.fill_times(target, &mut delta)?;
        // Rows that an INSERT takes away are no rows of its own.
        let gone = if is_insert { &delta.removed[..delta.replaced] } else { delta.removed.as_slice() };
        // What FOR PORTION OF leaves of a row is no row of the statement's own.
        let split = if is_portion { delta.added.rows - delta.replaced } else { 0 };
        let affected = (delta.added.rows + gone.len() - delta.replaced - split) as u64;
        let before = if change.returning.is_some() { Some(old.rows_at(gone)?) } else { None };
        let after = changer.apply(target, &delta)?;
        let restarts = matches!(change.kind, ast::ChangeKind::Truncate { restart: true });
        if let Some(next) = if restarts { Some(first_number(&definition)) } else { next_number } {
            changer.set_next_number(target, next)?;
        }
        if checks.with_queries && delta.added.rows > 0 {
            self.check_option_queries(change, (&changer.catalog, &definition, &delta.added), call)?;
        }
        let returned = match before {
            Some(before) => {
                // Referential actions may have changed rows of the statement; those that they deleted are shown as it made them.
                let new = if after.rows == delta.added.rows { &after } else { &delta.added };
                let new = new.slice(0, new.rows - split);
                let (new, before) = beside(&new, &before, delta.replaced)?;
                returning(&new, &before)?
            }
            None => None,
        };
        let notes = [found.notes, changer.notes].concat();
        let returned = returned.map(|rows| ResultSet { notes: [rows.notes, notes.clone()].concat(), ..rows });
        Ok((changer.catalog, Changed { affected, returned, notes }))
    }
}

impl Session {
    /// An error when a view whose condition holds queries would not show a new row, as the database is after the change.
    fn check_option_queries(
        &self,
        change: &ast::Change,
        (catalog, definition, added): (&Catalog, &TableDefinition, &Batch),
        call: &Call<'_>,
    ) -> Result<()> {
        let files = self.files();
        let around = self.around(catalog, &files, call.parameters, MissingParameters::Refuse);
        let segment = crate::catalog::Segment { columns: added.columns.clone(), rows: added.rows };
        let rows: Arc<dyn TableSource> =
            Arc::new(MemoryTable::new(super::constraints::table_columns(definition), vec![segment]));
        for (view, query) in bind_hidden_rows(change, (&around, &rows))? {
            let hidden = self.run_prepared(&self.prepare_bound(query, call)?, None)?;
            if let Some(batch) = hidden.batches.iter().find(|batch| batch.rows > 0) {
                return Err(not_shown(&view, definition, (batch, 0)));
            }
        }
        Ok(())
    }
}

/// What the rows of a bound change make of its table; and, where rows are numbered, the number that comes next.
fn delta_of(
    meaning: Meaning,
    rows: Option<Batch>,
    (changer, target): (&Changer<'_>, (&str, &str)),
    (old, definition): (&StoredTable, &TableDefinition),
) -> Result<(Delta, Option<Option<i64>>)> {
    let nothing = empty(definition);
    let places = |rows: &Batch| rows.columns[0].as_primitive::<Int64Type>().values().to_vec();
    Ok(match meaning {
        Meaning::Added { numbered, duplicates } => {
            let mut rows = rows.unwrap_or(nothing);
            let next_number = number(&mut rows, &numbered, (old.next_number, definition))?;
            changer.generate_anew(&mut rows, &numbered, definition)?;
            (changer.without_duplicates(target, rows, duplicates)?, Some(next_number))
        }
        Meaning::Replaced { numbered, portion: Some(portion) } => {
            let (delta, none) =
                delta_of(Meaning::Replaced { numbered, portion: None }, rows, (changer, target), (old, definition))?;
            let next = none.unwrap_or(old.next_number);
            split_rows(delta, &portion, changer, (old, definition, next))?
        }
        Meaning::Removed { portion: Some(portion) } => {
            let removed = rows.as_ref().map(places).unwrap_or_default();
            let delta = Delta { removed, added: nothing, replaced: 0 };
            split_rows(delta, &portion, changer, (old, definition, old.next_number))?
        }
        Meaning::Replaced { numbered, portion: None } => {
            let rows = rows.unwrap_or_else(|| with_place(&nothing));
            let mut added = Batch::new(rows.columns[1..].to_vec(), rows.rows);
            let next_number = if numbered.is_empty() {
                None
            } else {
                let next = number(&mut added, &numbered, (old.next_number, definition))?;
                changer.generate_anew(&mut added, &numbered, definition)?;
                Some(next)
            };
            (Delta { removed: places(&rows), replaced: added.rows, added }, next_number)
        }
        Meaning::Merged { numbered, renumbered } => {
            let rows = rows.unwrap_or_else(|| with_place(&with_place(&nothing)));
            let (delta, next_number) = merged(&rows, (&numbered, &renumbered, changer), (old, definition))?;
            (delta, Some(next_number))
        }
        Meaning::Removed { portion: None } => {
            let removed = rows.as_ref().map(places).unwrap_or_default();
            (Delta { removed, added: nothing, replaced: 0 }, None)
        }
    })
}

/// A change of a portion of rows: what is left of each row before and after the portion becomes a row of its own. Its identity columns are
/// numbered and its generated columns computed as for a row that is inserted (clause 14.14, general rule 9).
fn split_rows(
    delta: Delta,
    portion: &Portion,
    changer: &Changer<'_>,
    (old, definition, next_number): (&StoredTable, &TableDefinition, Option<i64>),
) -> Result<(Delta, Option<Option<i64>>)> {
    let rows = old.rows_at(&delta.removed)?;
    let part = |at: usize, other: usize, bound: &Value, outside: CompareOp| -> Result<Batch> {
        let sql_type = definition.columns[at].sql_type;
        let slot = Expr::new(ExprKind::Slot(at), sql_type, Span::default());
        let bound = Expr::literal(bound.clone(), sql_type, Span::default());
        let left = evaluate(&Expr::compare(outside, slot, bound.clone(), Span::default()), &rows)?;
        let left = left.into_array(rows.rows)?;
        let left = left.as_boolean();
        let mut rows = rows.filter(left, left.true_count())?;
        rows.columns[other] = evaluate(&bound, &rows)?.into_array(rows.rows)?;
        Ok(rows)
    };
    let before = part(portion.start, portion.end, &portion.from, CompareOp::Less)?;
    let after = part(portion.end, portion.start, &portion.to, CompareOp::Greater)?;
    let mut left = Batch::concat(&[before, after], None)?;
    let is_identity = |at: &usize| matches!(definition.columns[*at].filled, Filled::Identity(_));
    let numbered: Vec<usize> = (0..definition.columns.len()).filter(is_identity).collect();
    for at in &numbered {
        left.columns[*at] = new_null_array(left.columns[*at].data_type(), left.rows);
    }
    let next = number(&mut left, &numbered, (next_number, definition))?;
    let all: Vec<usize> = (0..definition.columns.len()).collect();
    changer.generate_anew(&mut left, &all, definition)?;
    let added = Batch::concat(&[delta.added, left], None)?;
    Ok((Delta { added, ..delta }, (!numbered.is_empty()).then_some(next)))
}

/// An error for a new row that a view with CHECK OPTION would not show.
fn check_option(checks: &[(String, Expr)], rows: &Batch, definition: &TableDefinition) -> Result<()> {
    for (view, condition) in checks {
        let truth = evaluate(condition, rows)?.into_array(rows.rows)?;
        let truth = truth.as_boolean();
        if let Some(row) = (0..rows.rows).find(|row| truth.is_null(*row) || !truth.value(*row)) {
            return Err(not_shown(view, definition, (rows, row)));
        }
    }
    Ok(())
}

fn not_shown(view: &str, definition: &TableDefinition, (rows, row): (&Batch, usize)) -> Error {
    let row = super::constraints::shown_row(definition, rows, row);
    Error::new(SqlState::CHECK_OPTION, format!("view {view:?} would not show the row: CHECK OPTION"))
        .with_help(format!("the row is {row}"))
}

/// Whether CHECK constraints and foreign keys are not looked at.
fn is_unchecked(change: &ast::Change) -> bool {
    match &change.kind {
        ast::ChangeKind::Insert(ast::Insert { rows: ast::InsertRows::File { options, .. }, .. }) => {
            options.load.unchecked
        }
        _ => false,
    }
}

/// The version of a table that the catalog holds, and how the table is defined.
pub(super) fn stored(catalog: &Catalog, schema: &str, table: &str) -> Result<(Arc<StoredTable>, Arc<TableDefinition>)> {
    let missing = || Error::new(SqlState::GENERAL, format!("internal error: table {table:?} is not stored"));
    let table = catalog.table(schema, table).ok_or_else(missing)?;
    let definition = table.definition.clone().ok_or_else(missing)?;
    let source: Arc<dyn Any + Send + Sync> = table.source.clone();
    Ok((source.downcast::<StoredTable>().map_err(|_| missing())?, definition))
}

/// No rows of a table.
pub(super) fn empty(definition: &TableDefinition) -> Batch {
    let column = |column: &crate::catalog::ColumnDefinition| arrow::array::new_empty_array(&column.sql_type.arrow());
    Batch::new(definition.columns.iter().map(column).collect(), 0)
}

fn with_place(batch: &Batch) -> Batch {
    let place: ArrayRef = Arc::new(Int64Array::from(Vec::<i64>::new()));
    Batch::new(std::iter::once(place).chain(batch.columns.iter().cloned()).collect(), 0)
}

/// Rows as they are and as they were, side by side.
fn both(definition: &TableDefinition, new: &Batch, old: &Batch) -> MemoryTable {
    let columns = definition.columns.iter().map(|column| Column::new(column.name.clone(), column.sql_type));
    let columns: Vec<Column> = columns.collect();
    let arrays = new.columns.iter().chain(&old.columns).cloned().collect();
    let segment = crate::catalog::Segment { columns: arrays, rows: new.rows };
    MemoryTable::new([columns.clone(), columns].concat(), vec![segment])
}

/// The rows of a MERGE as a change: those replaced first, then deleted and new ones.
fn merged(
    rows: &Batch,
    (numbered, renumbered, changer): (&[usize], &[usize], &Changer<'_>),
    table: (&StoredTable, &TableDefinition),
) -> Result<(Delta, Option<i64>)> {
    let what = cast_values(&rows.columns[0], SqlType::Integer, SqlType::BigInt)?;
    let (what, places) = (what.as_primitive::<Int64Type>(), rows.columns[1].as_primitive::<Int64Type>());
    let of = |wanted: i64| -> Vec<u32> {
        (0..rows.rows).filter(|row| what.value(*row) == wanted).map(crate::types::index).collect()
    };
    let (updated, deleted, inserted) = (of(done::UPDATE), of(done::DELETE), of(done::INSERT));
    let removed: Vec<i64> = updated.iter().chain(&deleted).map(|row| places.value(*row as usize)).collect();
    let mut sorted = removed.clone();
    sorted.sort_unstable();
    if let Some(twice) = sorted.windows(2).find(|pair| pair[0] == pair[1]) {
        let row = super::constraints::shown_row(table.1, &table.0.rows_at(&twice[..1])?, 0);
        return Err(Error::new(SqlState::CARDINALITY, "a row is matched by more than one row of the source")
            .with_help(format!("make the source's rows unique for ON; the row is {row}")));
    }
    let columns = Batch::new(rows.columns[2..].to_vec(), rows.rows);
    let mut fresh = columns.take(&inserted.into())?;
    let next_number = number(&mut fresh, numbered, (table.0.next_number, table.1))?;
    changer.generate_anew(&mut fresh, numbered, table.1)?;
    let replaced = updated.len();
    let mut changed = columns.take(&updated.into())?;
    let next_number = number(&mut changed, renumbered, (next_number, table.1))?;
    changer.generate_anew(&mut changed, renumbered, table.1)?;
    let added = Batch::concat(&[changed, fresh], None)?;
    Ok((Delta { removed, added, replaced }, next_number))
}

/// New rows and the old ones that so many of them replace, side by side; NULL stands for what there is not.
fn beside(new: &Batch, old: &Batch, replaced: usize) -> Result<(Batch, Batch)> {
    let (gone, fresh) = (old.rows - replaced, new.rows - replaced);
    let nulls = |like: &Batch, rows: usize| {
        Batch::new(like.columns.iter().map(|column| new_null_array(column.data_type(), rows)).collect(), rows)
    };
    let new = Batch::concat(&[new.clone(), nulls(new, gone)], None)?;
    let old = Batch::concat(&[old.slice(0, replaced), nulls(old, fresh), old.slice(replaced, gone)], None)?;
    Ok((new, old))
}

fn first_number(definition: &TableDefinition) -> Option<i64> {
    definition.columns.iter().find_map(|column| match &column.filled {
        Filled::Identity(identity) => Some(identity.numbers.start),
        _ => None,
    })
}

/// Numbers the rows that have no number yet, and gives the next one.
fn number(
    rows: &mut Batch,
    numbered: &[usize],
    (mut next, definition): (Option<i64>, &TableDefinition),
) -> Result<Option<i64>> {
    for at in numbered {
        let column = &definition.columns[*at];
        let Filled::Identity(identity) = &column.filled else { continue };
        let mut number = next.unwrap_or(identity.numbers.start);
        let given = cast_values(&rows.columns[*at], column.sql_type, SqlType::BigInt)?;
        let given = given.as_primitive::<Int64Type>();
        let mut values = Vec::with_capacity(rows.rows);
        for row in 0..rows.rows {
            if given.is_valid(row) {
                values.push(given.value(row));
                continue;
            }
            let Numbers { least, most, increment, .. } = identity.numbers;
            let used_up = || {
                let message = format!("the numbers of column {:?} are used up", column.name);
                Error::new(SqlState::NUMERIC_OUT_OF_RANGE, message).with_help(format!(
                    "they go from {least} to {most}; ALTER TABLE … ALTER COLUMN … SET MAXVALUE allows more"
                ))
            };
            if !(least..=most).contains(&number) {
                return Err(used_up());
            }
            values.push(number);
            // What lies after the last number says that there is none.
            number = match identity.numbers.after(number) {
                Some(next) => next,
                None => number.checked_add(increment).ok_or_else(used_up)?,
            };
        }
        let values: ArrayRef = Arc::new(Int64Array::from(values));
        rows.columns[*at] = cast_values(&values, SqlType::BigInt, column.sql_type)?;
        next = Some(number);
    }
    Ok(next)
}
