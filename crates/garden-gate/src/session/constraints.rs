//! Changes of tables, with all that their constraints ask for (clauses 4.25 and 11.6 to 11.9): each change is checked when its statement
//! ends, and what refers to a row goes or changes with it.

use super::change::stored;
use super::deferred::Deferral;
use super::key_types::keys_as;
use super::partial_match::{self, PartialKeys};
use super::period_keys::{check_apart, check_overlaps, check_periods};
use super::referential::Actions;
use super::unique_index::{check_unique, is_kept};
use crate::bind::{BindContext, bind_checks, generated_values};
use crate::catalog::{
    Catalog, CheckConstraint, Filled, ForeignKey, KeyConstraint, MatchType, Period, Table, TableDefinition,
};
use crate::diagnostic::{BrokenConstraint, ConstraintKind, Error, Note, Result};
use crate::kernel::{Batch, array_of, evaluate, lane_bounds, value_at};
use crate::storage::{Place, StoredTable};
use crate::types::{SqlType, Value};
use arrow::array::{Array, ArrayRef, AsArray, UInt32Array};
use arrow::row::{RowConverter, Rows, SortField};
use std::sync::Arc;

/// What becomes of a table's rows.
pub(super) struct Delta {
    pub(super) removed: Vec<Place>,
    pub(super) added: Batch,
    /// So many of the removed rows are replaced by the added row of the same number; the others are deleted or new.
    pub(super) replaced: usize,
}

impl Delta {
    fn is_empty(&self) -> bool {
        self.removed.is_empty() && self.added.rows == 0
    }
}

pub(super) type TableName<'n> = (&'n str, &'n str);

/// A database on which a statement works; dropped when it fails.
pub(super) struct Changer<'a> {
    pub(super) catalog: Catalog,
    pub(super) around: &'a BindContext<'a>,
    /// CHECK constraints and foreign keys are not looked at.
    unchecked: bool,
    /// Which constraints are left to the end of the transaction.
    pub(super) deferral: Deferral,
    /// What is worth knowing about the change.
    pub(super) notes: Vec<Note>,
}

impl<'a> Changer<'a> {
    /// Changes of a catalog; with `unchecked` constraints are tested later, all at once.
    pub(super) fn new(catalog: Catalog, around: &'a BindContext<'a>, unchecked: bool, deferral: Deferral) -> Self {
        Self { catalog, around, unchecked, deferral, notes: Vec::new() }
    }

    fn put(&mut self, (schema, name): TableName<'_>, source: StoredTable, definition: Arc<TableDefinition>) {
        let kind = crate::catalog::TableKind::Table;
        let groups = self.catalog.table(schema, name).map(|table| Arc::clone(&table.groups)).unwrap_or_default();
        let definition = Some(definition);
        let table = Table { name: name.to_owned(), kind, source: Arc::new(source), definition, groups };
        self.catalog.put_table(schema, table);
    }

    /// Sets the number that IDENTITY gives next.
    pub(super) fn set_next_number(&mut self, (schema, name): TableName<'_>, next: Option<i64>) -> Result<()> {
        let (table, definition) = stored(&self.catalog, schema, name)?;
        if table.next_number != next {
            let mut table = table.changed(&[], &[])?;
            table.next_number = next;
            self.put((schema, name), table, definition);
        }
        Ok(())
    }

    /// Works out generated columns once more, for rows that have got their numbers since.
    pub(super) fn generate_anew(
        &self,
        rows: &mut Batch,
        numbered: &[usize],
        definition: &TableDefinition,
    ) -> Result<()> {
        let generated = |at: &usize| matches!(definition.columns[*at].filled, Filled::Generated(_));
        for at in (0..definition.columns.len()).filter(|_| !numbered.is_empty()).filter(generated) {
            let value = generated_values(definition, at, self.around)?;
            rows.columns[at] = evaluate(&value, rows)?.into_array(rows.rows)?;
        }
        Ok(())
    }

    /// Changes a table and what refers to it, then checks all that was changed. Gives the rows that were added or replaced others, as they
    /// are when all is done.
    pub(super) fn apply(&mut self, target: TableName<'_>, delta: &Delta) -> Result<Batch> {
        let (mut deltas, settlement) = Actions::follow(self, target, delta)?.finish()?;
        for ((schema, name), delta) in deltas.iter_mut().filter(|(_, delta)| !delta.is_empty()) {
            self.fill_times((schema, name), delta)?;
        }
        for ((schema, name), delta) in deltas.iter().filter(|(_, delta)| !delta.is_empty()) {
            self.check_no_overlaps((schema, name), delta)?;
            self.put_rows((schema, name), delta)?;
        }
        for ((schema, name), delta) in &deltas {
            self.check((schema, name), delta)?;
        }
        settlement.check(self)?;
        let first = deltas.into_iter().next();
        Ok(first.map_or_else(|| delta.added.clone(), |(_, delta)| delta.added))
    }

    /// Keys WITHOUT OVERLAPS, against the rows that stay.
    fn check_no_overlaps(&self, (schema, name): TableName<'_>, delta: &Delta) -> Result<()> {
        let (table, definition) = stored(&self.catalog, schema, name)?;
        let due =
            |key: &&KeyConstraint| key.period_end.is_some() && !self.deferral.defers(schema, &key.name, key.timing);
        let keys: Vec<&KeyConstraint> = definition.keys.iter().filter(due).collect();
        if keys.is_empty() || delta.added.rows == 0 {
            return Ok(());
        }
        // A row without an end is reported with the others; one that starts and ends at once would overlap with nothing.
        check_periods(name, &definition, &delta.added)?;
        if definition.periods.iter().any(|period| has_null(&delta.added, period)) {
            return Ok(());
        }
        let kept = if delta.removed.is_empty() { table } else { Arc::new(table.changed(&delta.removed, &[])?) };
        for key in keys {
            check_overlaps((name, &definition), key, (&kept, &delta.added), self.around)?;
        }
        Ok(())
    }

    /// Makes the new version of a table.
    fn put_rows(&mut self, (schema, name): TableName<'_>, delta: &Delta) -> Result<()> {
        let (old, definition) = stored(&self.catalog, schema, name)?;
        let new = old.changed(&delta.removed, std::slice::from_ref(&delta.added))?;
        let new = self.keep_history((schema, name), (&old, new), (&definition, delta))?;
        let unproven = self.unchecked && delta.added.rows > 0;
        let kept =
            if unproven { Arc::new(TableDefinition::clone(&definition).with_unproven(true)) } else { definition };
        self.put((schema, name), new, kept);
        Ok(())
    }

    /// Checks the rows that were added to a table.
    fn check(&self, (schema, name): TableName<'_>, delta: &Delta) -> Result<()> {
        if delta.added.rows == 0 {
            return Ok(());
        }
        let (table, definition) = stored(&self.catalog, schema, name)?;
        self.check_rows((schema, name), &definition, &delta.added)?;
        let plain = definition.keys.iter().filter(|key| key.period_end.is_none());
        for key in plain.filter(|key| !self.deferral.defers(schema, &key.name, key.timing)) {
            check_key(name, &definition, key, (&table, &delta.added))?;
        }
        for index in definition.indexes.iter().filter(|index| is_kept(index)) {
            check_unique((name, &definition), index, (&table, &delta.added), self.around)?;
        }
        let references = definition.references.iter().filter(|_| !self.unchecked);
        for reference in references.filter(|known| !self.deferral.defers(schema, &known.name, known.timing)) {
            self.check_reference(name, &definition, reference, &delta.added)?;
        }
        Ok(())
    }

    /// NOT NULL and CHECK.
    pub(super) fn check_rows(
        &self,
        (schema, name): TableName<'_>,
        definition: &TableDefinition,
        rows: &Batch,
    ) -> Result<()> {
        if rows.rows == 0 {
            return Ok(());
        }
        for (column, array) in definition.columns.iter().zip(&rows.columns) {
            if column.not_null
                && let Some(row) = (0..rows.rows).find(|row| array.is_null(*row))
            {
                let message = format!("column {:?} of table {name:?} can't be NULL", column.name);
                let help = format!("the row is {}", shown_row(definition, rows, row));
                let broken = BrokenConstraint::of_table(ConstraintKind::NotNull, name, &column.name);
                return Err(Error::broken(broken, message).with_help(help));
            }
        }
        check_periods(name, definition, rows)?;
        if self.unchecked {
            return Ok(());
        }
        let put_off = |check: &CheckConstraint| self.deferral.defers(schema, &check.name, check.timing);
        self.check_conditions(name, definition, (rows, &|check| !put_off(check)))
    }

    /// The conditions of those checks that are chosen.
    pub(super) fn check_conditions(
        &self,
        name: &str,
        definition: &TableDefinition,
        (rows, chosen): (&Batch, &dyn Fn(&CheckConstraint) -> bool),
    ) -> Result<()> {
        for (check, condition) in definition.checks.iter().zip(bind_checks(definition, self.around)?) {
            if !chosen(check) {
                continue;
            }
            let truth = evaluate(&condition, rows)?.into_array(rows.rows)?;
            let truth = truth.as_boolean();
            if let Some(row) = (0..rows.rows).find(|row| truth.is_valid(*row) && !truth.value(*row)) {
                let text = check.condition.text().trim();
                let message = format!("a row of table {name:?} breaks {}: CHECK ({text}) is FALSE", check.name);
                let help = format!("the row is {}", shown_row(definition, rows, row));
                let broken = BrokenConstraint::of_table(ConstraintKind::Check, name, &check.name);
                return Err(Error::broken(broken, message).with_help(help));
            }
        }
        Ok(())
    }

    /// Each new row's reference has its row.
    pub(super) fn check_reference(
        &self,
        name: &str,
        definition: &TableDefinition,
        reference: &ForeignKey,
        rows: &Batch,
    ) -> Result<()> {
        if reference.periods.is_some() {
            return self.check_covered((name, definition), reference, rows);
        }
        let keys = key_arrays(rows, &reference.columns);
        let (parent, parent_definition) = stored(&self.catalog, &reference.table.0, &reference.table.1)?;
        let mut known = vec![false; rows.rows];
        let sought = keys_as(keys.clone(), parent_definition.types_of(&reference.referred))?;
        let mut found = |row: u32, _| {
            known[row as usize] = true;
            Ok(())
        };
        match reference.match_type {
            MatchType::Partial => {
                let keys = PartialKeys { given: &keys, sought: &sought, rows: rows.rows };
                partial_match::parents((&parent, &reference.referred), &keys, &mut found)?;
            }
            MatchType::Simple | MatchType::Full => {
                parent.find((&reference.referred, false), (&sought, rows.rows), &mut found)?;
            }
        }
        for row in (0..rows.rows).filter(|row| !known[*row]) {
            let nulls = keys.iter().filter(|key| key.is_null(row)).count();
            if nulls == keys.len() || nulls > 0 && reference.match_type == MatchType::Simple {
                continue;
            }
            let values = shown_values(definition, rows, &reference.columns, row);
            let target = &reference.table.1;
            let in_part = nulls > 0 && reference.match_type == MatchType::Full;
            let what = if in_part { "is NULL in part".to_owned() } else { format!("is not in table {target:?}") };
            let message = format!("a row of table {name:?} breaks {}: {values} {what}", reference.name);
            let broken = BrokenConstraint::of_table(ConstraintKind::ForeignKey, name, &reference.name);
            return Err(
                Error::broken(broken, message).with_help(format!("the row is {}", shown_row(definition, rows, row)))
            );
        }
        Ok(())
    }
}

fn has_null(rows: &Batch, period: &Period) -> bool {
    [period.start, period.end].iter().any(|at| rows.columns[*at].null_count() > 0)
}

/// One value, so many times.
pub(super) fn repeat(value: &Value, sql_type: SqlType, rows: usize) -> Result<ArrayRef> {
    let one = array_of(value, sql_type)?;
    Ok(arrow::compute::take(&one, &UInt32Array::from(vec![0; rows]), None)?)
}

/// The columns of a definition, as a source has them.
pub(super) fn table_columns(definition: &TableDefinition) -> Vec<crate::catalog::Column> {
    let column =
        |column: &crate::catalog::ColumnDefinition| crate::catalog::Column::new(column.name.clone(), column.sql_type);
    definition.columns.iter().map(column).collect()
}

/// The columns of a key.
pub(super) fn key_arrays(rows: &Batch, columns: &[usize]) -> Vec<ArrayRef> {
    columns.iter().map(|at| Arc::clone(&rows.columns[*at])).collect()
}

/// Keys of rows, encoded so that equal ones have equal bytes.
pub(super) fn encoded_keys(keys: &[ArrayRef]) -> Result<Rows> {
    let fields = keys.iter().map(|key| SortField::new(key.data_type().clone())).collect();
    Ok(RowConverter::new(fields)?.convert_columns(keys)?)
}

/// No added row has the key of another; of a key WITHOUT OVERLAPS all rows are to be given. Expected O(added rows), also where many have one key: the first that is there twice ends the search.
pub(super) fn check_key(
    name: &str,
    definition: &TableDefinition,
    key: &KeyConstraint,
    (table, added): (&StoredTable, &Batch),
) -> Result<()> {
    if key.period_end.is_some() {
        return check_apart((name, definition), key, added);
    }
    // Keys mostly come in order, and then none is there twice.
    if let Some(first) = key.columns.first().filter(|_| !key.nulls_same)
        && let Some(bounds) = lane_bounds(&added.columns[*first])
        && table.ascends(*first, bounds)?
    {
        return Ok(());
    }
    let mut seen: Vec<Option<Place>> = vec![None; added.rows];
    let keys = key_arrays(added, &key.columns);
    table.find((&key.columns, key.nulls_same), (&keys, added.rows), |row, place| match seen[row as usize] {
        Some(first) => Err(key_twice(name, definition, key, (added, row as usize), &table.rows_at(&[first])?)),
        None => {
            seen[row as usize] = Some(place);
            Ok(())
        }
    })
}

fn key_twice(
    name: &str,
    definition: &TableDefinition,
    key: &KeyConstraint,
    (added, row): (&Batch, usize),
    standing: &Batch,
) -> Error {
    let kind = if key.primary { "primary key" } else { "unique key" };
    let values = shown_values(definition, added, &key.columns, row);
    let message = format!("table {name:?} has a row with the {kind} {values} already ({})", key.name);
    let help = format!("the existing row is {}", shown_row(definition, standing, 0));
    let kind = if key.primary { ConstraintKind::PrimaryKey } else { ConstraintKind::Unique };
    Error::broken(BrokenConstraint::of_table(kind, name, &key.name), message).with_help(help)
}

/// `name = value` of some columns of a row.
pub(super) fn shown_values(definition: &TableDefinition, rows: &Batch, columns: &[usize], row: usize) -> String {
    let shown = |at: &usize| {
        let column = &definition.columns[*at];
        format!("{} = {}", column.name, value_at(&rows.columns[*at], column.sql_type, row))
    };
    columns.iter().map(shown).collect::<Vec<_>>().join(", ")
}

/// A row for a message: its columns that are not hidden.
pub(super) fn shown_row(definition: &TableDefinition, rows: &Batch, row: usize) -> String {
    let shown = (0..definition.columns.len()).filter(|at| !definition.columns[*at].hidden);
    shown_values(definition, rows, &shown.collect::<Vec<_>>(), row)
}
