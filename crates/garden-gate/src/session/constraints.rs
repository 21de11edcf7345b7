//! Changes of tables, with all that their constraints ask for (clauses 4.25 and 11.6 to 11.9): each change is checked when its statement
//! ends, and what refers to a row goes or changes with it.

use super::change::{empty, stored};
use super::deferred::Deferral;
use super::unique_index::{check_unique, is_kept};
use crate::bind::{Surroundings, bind_checks, default_value, generated_values};
use crate::catalog::{
    Catalog, CheckConstraint, Filled, ForeignKey, KeyConstraint, ReferentialAction, Table, TableDefinition,
};
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::{Batch, array_of, evaluate, lane_bounds, value_at};
use crate::storage::{Place, StoredTable};
use crate::syntax::ast::Duplicates;
use crate::types::{SqlType, Value, index};
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, UInt32Array};
use std::collections::HashSet;
use std::sync::Arc;

/// How deep changes may cause further changes.
const MOST_CASCADES: usize = 128;

/// What becomes of a table's rows.
pub(super) struct Delta {
    pub(super) removed: Vec<Place>,
    pub(super) added: Batch,
    /// So many of the removed rows are replaced by the added row of the same number; the others are deleted or new.
    pub(super) replaced: usize,
}

type TableName<'n> = (&'n str, &'n str);

/// A database on which a statement works; dropped when it fails.
pub(super) struct Changer<'a> {
    pub(super) catalog: Catalog,
    around: &'a Surroundings<'a>,
    /// CHECK constraints and foreign keys are not looked at.
    unchecked: bool,
    /// Which constraints are left to the end of the transaction.
    deferral: Deferral,
    depth: usize,
}

impl<'a> Changer<'a> {
    pub(super) fn new(catalog: Catalog, around: &'a Surroundings<'a>, unchecked: bool, deferral: Deferral) -> Self {
        Self { catalog, around, unchecked, deferral, depth: 0 }
    }

    fn put(&mut self, (schema, name): TableName<'_>, source: StoredTable, definition: Arc<TableDefinition>) {
        let kind = crate::catalog::TableKind::Table;
        let groups = self.catalog.table(schema, name).map(|table| Arc::clone(&table.groups)).unwrap_or_default();
        let definition = Some(definition);
        let table = Table { name: name.to_owned(), kind, source: Arc::new(source), definition, groups };
        self.catalog.put_table(schema, table);
    }

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

    /// What is to be added of `rows`: with SKIP DUPLICATES not those whose key there is already, with REPLACE DUPLICATES in their place.
    pub(super) fn without_duplicates(
        &self,
        (schema, name): TableName<'_>,
        rows: Batch,
        duplicates: Duplicates,
    ) -> Result<Delta> {
        if duplicates == Duplicates::Refuse {
            return Ok(Delta { removed: Vec::new(), added: rows, replaced: 0 });
        }
        let (table, definition) = stored(&self.catalog, schema, name)?;
        let new = StoredTable::new(table_columns(&definition), Vec::new()).changed(&[], std::slice::from_ref(&rows))?;
        let mut dropped: HashSet<u32> = HashSet::new();
        let mut removed: HashSet<Place> = HashSet::new();
        for key in &definition.keys {
            let keys = key_arrays(&rows, &key.columns);
            table.find((&key.columns, key.nulls_same), (&keys, rows.rows), |row, place| {
                if duplicates == Duplicates::Skip {
                    dropped.insert(row);
                } else {
                    removed.insert(place);
                }
            })?;
            // Of new rows with the same key the first stays, or with REPLACE the last.
            let places = new.places()?;
            new.find((&key.columns, key.nulls_same), (&keys, rows.rows), |row, place| {
                let other = places.binary_search(&place).map_or(row, index);
                if (duplicates == Duplicates::Skip && other < row) || (duplicates == Duplicates::Replace && other > row)
                {
                    dropped.insert(row);
                }
            })?;
        }
        let kept: BooleanArray = (0..index(rows.rows)).map(|row| Some(!dropped.contains(&row))).collect();
        let added = rows.filter(&kept, rows.rows - dropped.len())?;
        let mut removed: Vec<Place> = removed.into_iter().collect();
        removed.sort_unstable();
        Ok(Delta { removed, added, replaced: 0 })
    }

    /// Changes a table, checks it, and changes what refers to it.
    pub(super) fn apply(&mut self, (schema, name): TableName<'_>, delta: &Delta) -> Result<()> {
        if self.depth >= MOST_CASCADES {
            return Err(Error::new(SqlState::CONSTRAINT, "changes cause changes more than 128 tables deep"));
        }
        let (old, definition) = stored(&self.catalog, schema, name)?;
        self.check_rows((schema, name), &definition, &delta.added)?;
        let added = if delta.added.rows > 0 { vec![delta.added.clone()] } else { Vec::new() };
        let new = old.changed(&delta.removed, &added)?;
        for key in definition.keys.iter().filter(|key| !self.deferral.defers(schema, &key.name, key.timing)) {
            check_key(name, &definition, key, (&new, &delta.added))?;
        }
        for index in definition.indexes.iter().filter(|index| delta.added.rows > 0 && is_kept(index)) {
            check_unique((name, &definition), index, (&new, &delta.added), self.around)?;
        }
        let unproven = self.unchecked && delta.added.rows > 0;
        let kept = if unproven {
            Arc::new(TableDefinition::clone(&definition).with_unproven(true))
        } else {
            Arc::clone(&definition)
        };
        self.put((schema, name), new, kept);
        for reference in definition.references.iter().filter(|_| !self.unchecked) {
            if self.deferral.defers(schema, &reference.name, reference.timing) {
                continue;
            }
            self.check_reference(name, &definition, reference, &delta.added)?;
        }
        let referring = self.referring(schema, name);
        if delta.removed.is_empty() || referring.is_empty() {
            return Ok(());
        }
        self.depth += 1;
        let before = old.rows_at(&delta.removed)?;
        for (child_schema, child, reference) in referring {
            self.referred((schema, name), (&child_schema, &child, &reference), (&before, delta))?;
        }
        self.depth -= 1;
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
                return Err(Error::new(SqlState::CONSTRAINT, message).with_help(help));
            }
        }
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
                return Err(Error::new(SqlState::CONSTRAINT, message).with_help(help));
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
        let keys = key_arrays(rows, &reference.columns);
        let (parent, _) = stored(&self.catalog, &reference.table.0, &reference.table.1)?;
        let mut known = vec![false; rows.rows];
        parent.find((&reference.referred, false), (&keys, rows.rows), |row, _| known[row as usize] = true)?;
        for row in (0..rows.rows).filter(|row| !known[*row]) {
            let nulls = keys.iter().filter(|key| key.is_null(row)).count();
            if nulls == keys.len() || nulls > 0 && !reference.full {
                continue;
            }
            let values = shown_values(definition, rows, &reference.columns, row);
            let target = &reference.table.1;
            let what = if nulls > 0 { "is NULL in part".to_owned() } else { format!("is not in table {target:?}") };
            let message = format!("a row of table {name:?} breaks {}: {values} {what}", reference.name);
            return Err(Error::new(SqlState::CONSTRAINT, message)
                .with_help(format!("the row is {}", shown_row(definition, rows, row))));
        }
        Ok(())
    }

    /// The foreign keys that refer to a table, with their tables.
    fn referring(&self, schema: &str, name: &str) -> Vec<(String, String, ForeignKey)> {
        let mut found = Vec::new();
        for (child_schema, child) in self.catalog.tables() {
            for reference in child.definition.iter().flat_map(|definition| &definition.references) {
                if reference.table.0 == schema && reference.table.1 == name {
                    found.push((child_schema.to_owned(), child.name.clone(), reference.clone()));
                }
            }
        }
        found
    }

    /// What becomes of the rows that refer to rows that are gone, or have another key now. A MERGE has rows of both kinds.
    fn referred(
        &mut self,
        parent: TableName<'_>,
        child: (&str, &str, &ForeignKey),
        (before, delta): (&Batch, &Delta),
    ) -> Result<()> {
        if delta.replaced > 0 {
            self.act(parent, (child, child.2.on_update, true), (before, delta))?;
        }
        if delta.replaced < before.rows {
            self.act(parent, (child, child.2.on_delete, false), (before, delta))?;
        }
        Ok(())
    }

    /// Does what the foreign key says to rows that refer to those that were updated, or to those that were deleted.
    fn act(
        &mut self,
        (schema, name): TableName<'_>,
        ((child_schema, child, reference), action, is_update): ((&str, &str, &ForeignKey), ReferentialAction, bool),
        (before, delta): (&Batch, &Delta),
    ) -> Result<()> {
        let (parent, parent_definition) = stored(&self.catalog, schema, name)?;
        let keys = key_arrays(before, &reference.referred);
        let mut there = vec![false; before.rows];
        parent.find((&reference.referred, false), (&keys, before.rows), |row, _| there[row as usize] = true)?;
        let (table, definition) = stored(&self.catalog, child_schema, child)?;
        let mut children: Vec<(u32, Place)> = Vec::new();
        table.find((&reference.columns, false), (&keys, before.rows), |row, place| {
            if !there[row as usize] && ((row as usize) < delta.replaced) == is_update {
                children.push((row, place));
            }
        })?;
        let Some((first, _)) = children.first() else { return Ok(()) };
        if action == ReferentialAction::NoAction
            && self.deferral.defers(child_schema, &reference.name, reference.timing)
        {
            return Ok(());
        }
        let places: Vec<Place> = children.iter().map(|(_, place)| *place).collect();
        if matches!(action, ReferentialAction::NoAction | ReferentialAction::Restrict) {
            let values = shown_values(&parent_definition, before, &reference.referred, *first as usize);
            let message =
                format!("a row of table {name:?} is needed by {} of table {child:?}: {values}", reference.name);
            let help = format!("it refers to it: {}", shown_row(&definition, &table.rows_at(&places[..1])?, 0));
            let state = if action == ReferentialAction::Restrict { SqlState::RESTRICT } else { SqlState::CONSTRAINT };
            return Err(Error::new(state, message).with_help(help));
        }
        if action == ReferentialAction::Cascade && !is_update {
            let delta = Delta { removed: places, added: empty(&definition), replaced: 0 };
            return self.apply((child_schema, child), &delta);
        }
        let mut rows = table.rows_at(&places)?;
        let from: UInt32Array = children.iter().map(|(row, _)| *row).collect::<Vec<u32>>().into();
        for (at, referred) in reference.columns.iter().zip(&reference.referred) {
            let column = &definition.columns[*at];
            rows.columns[*at] = match action {
                ReferentialAction::Cascade => arrow::compute::take(&delta.added.columns[*referred], &from, None)?,
                ReferentialAction::SetDefault => {
                    repeat(&default_value(&definition, *at, self.around)?, column.sql_type, rows.rows)?
                }
                _ => repeat(&Value::Null, column.sql_type, rows.rows)?,
            };
        }
        self.apply((child_schema, child), &Delta { replaced: rows.rows, removed: places, added: rows })
    }
}

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

fn key_arrays(rows: &Batch, columns: &[usize]) -> Vec<ArrayRef> {
    columns.iter().map(|at| Arc::clone(&rows.columns[*at])).collect()
}

/// No added row has the key of another.
pub(super) fn check_key(
    name: &str,
    definition: &TableDefinition,
    key: &KeyConstraint,
    (table, added): (&StoredTable, &Batch),
) -> Result<()> {
    // Keys mostly come in order, and then none is there twice.
    if let Some(first) = key.columns.first().filter(|_| !key.nulls_same)
        && let Some(bounds) = lane_bounds(&added.columns[*first])
        && table.ascends(*first, bounds)?
    {
        return Ok(());
    }
    let mut seen: Vec<Option<Place>> = vec![None; added.rows];
    let mut twice: Option<(u32, [Place; 2])> = None;
    table.find(
        (&key.columns, key.nulls_same),
        (&key_arrays(added, &key.columns), added.rows),
        |row, place| match seen[row as usize] {
            Some(first) if twice.is_none() => twice = Some((row, [first, place])),
            Some(_) => {}
            None => seen[row as usize] = Some(place),
        },
    )?;
    let Some((row, places)) = twice else { return Ok(()) };
    let kind = if key.primary { "primary key" } else { "unique key" };
    let values = shown_values(definition, added, &key.columns, row as usize);
    let message = format!("table {name:?} has a row with the {kind} {values} already ({})", key.name);
    let standing = table.rows_at(&places)?;
    let help = format!("the row that stands is {}", shown_row(definition, &standing, 0));
    Err(Error::new(SqlState::CONSTRAINT, message).with_help(help))
}

/// `name = value` of some columns of a row.
fn shown_values(definition: &TableDefinition, rows: &Batch, columns: &[usize], row: usize) -> String {
    let shown = |at: &usize| {
        let column = &definition.columns[*at];
        format!("{} = {}", column.name, value_at(&rows.columns[*at], column.sql_type, row))
    };
    columns.iter().map(shown).collect::<Vec<_>>().join(", ")
}

pub(super) fn shown_row(definition: &TableDefinition, rows: &Batch, row: usize) -> String {
    shown_values(definition, rows, &(0..definition.columns.len()).collect::<Vec<_>>(), row)
}
