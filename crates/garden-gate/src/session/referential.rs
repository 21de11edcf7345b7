//! What becomes of the rows that refer to rows that are deleted or get another key (clause 11.8, referential actions).
//!
//! 1. Matching rows are those of the state before the statement; the actions follow each changed row, not the set of keys before and after:
//!    `UPDATE p SET k = k + 1` moves every child with its own parent though another row takes the old key.
//! 2. A matching row that the statement itself deletes, or whose referencing columns it changes, is a matching row no longer.
//! 3. RESTRICT is checked where the parent changes; NO ACTION, like every other constraint, over the state that all actions have left.
//! 4. Each row is deleted at most once, a step follows only the keys that it changed itself, and an action gives a row no key but that of the
//!    parent that it refers to: the work list ends.

use super::change::stored;
use super::constraints::{Changer, Delta, encoded_keys, key_arrays, repeat, shown_row, shown_values};
use super::key_types::keys_as;
use super::partial_match::{self, Matching};
use super::period_keys::rows_that_refer;
use crate::bind::default_value;
use crate::catalog::{Catalog, ForeignKey, MatchType, ReferentialAction, TableDefinition};
use crate::collections::{HashMap, HashSet};
use crate::diagnostic::{BrokenConstraint, ConstraintKind, Error, Result, SqlState};
use crate::kernel::{Batch, cast_values};
use crate::storage::{Place, StoredTable};
use crate::types::{Value, index};
use arrow::array::{ArrayRef, BooleanArray, UInt32Array};
use arrow::compute::{kernels::cmp::distinct, nullif};
use std::collections::VecDeque;
use std::sync::Arc;

/// Schema and name of a table.
type OwnedName = (String, String);

/// What a statement does to a row that was there before it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fate {
    Deleted,
    /// The row of [`RowChanges::rows`] that replaces it.
    Updated(u32),
}

/// What a statement makes of one table; places are those of its version before the statement.
struct RowChanges {
    name: OwnedName,
    old: Arc<StoredTable>,
    definition: Arc<TableDefinition>,
    deleted: Vec<Place>,
    updated: Vec<Place>,
    /// The rows that replace those at `updated`, then the new ones.
    rows: Batch,
    /// By place; made when an action first reaches the table.
    fates: Option<HashMap<Place, Fate>>,
}

impl RowChanges {
    fn fates(&mut self) -> &mut HashMap<Place, Fate> {
        let (deleted, updated) = (&self.deleted, &self.updated);
        self.fates.get_or_insert_with(|| {
            let updated = updated.iter().enumerate().map(|(row, place)| (*place, Fate::Updated(index(row))));
            deleted.iter().map(|place| (*place, Fate::Deleted)).chain(updated).collect()
        })
    }

    fn delete(&mut self, places: &[Place]) {
        for place in places {
            self.fates().insert(*place, Fate::Deleted);
        }
        self.deleted.extend_from_slice(places);
    }

    /// The rows at these places as the statement has left them so far.
    fn current(&mut self, places: &[Place]) -> Result<Batch> {
        let before = self.old.rows_at(places)?;
        let fates = self.fates();
        let of = |(row, place): (usize, &Place)| match fates.get(place) {
            Some(Fate::Updated(at)) => (1, *at as usize),
            Some(Fate::Deleted) | None => (0, row),
        };
        let picks: Vec<(usize, usize)> = places.iter().enumerate().map(of).collect();
        let pick = |(old, new): (&ArrayRef, &ArrayRef)| arrow::compute::interleave(&[old, new], &picks);
        let columns = before.columns.iter().zip(&self.rows.columns).map(pick).collect::<Result<_, _>>()?;
        Ok(Batch::new(columns, places.len()))
    }

    /// Puts `rows` in the places of those that are there.
    fn update(&mut self, places: &[Place], rows: &Batch) -> Result<()> {
        let (updated, all) = (self.updated.len(), self.rows.rows);
        let mut source: Vec<(usize, usize)> = (0..all).map(|row| (0, row)).collect();
        let mut more = Vec::new();
        for (row, place) in places.iter().enumerate() {
            let next = index(updated + more.len());
            match self.fates().entry(*place).or_insert(Fate::Updated(next)) {
                Fate::Updated(at) if *at == next => {
                    more.push((1, row));
                    self.updated.push(*place);
                }
                Fate::Updated(at) => source[*at as usize] = (1, row),
                Fate::Deleted => {}
            }
        }
        source.splice(updated..updated, more);
        let join = |(old, new): (&ArrayRef, &ArrayRef)| arrow::compute::interleave(&[old, new], &source);
        let columns = self.rows.columns.iter().zip(&rows.columns).map(join).collect::<Result<_, _>>()?;
        self.rows = Batch::new(columns, source.len());
        Ok(())
    }

    /// The change as one of a version: rows that were updated and deleted after that are gone.
    fn into_delta(mut self) -> Result<(OwnedName, Delta)> {
        if self.fates.is_some() {
            let fates = self.fates.take().unwrap_or_default();
            let left: Vec<bool> = self.updated.iter().map(|place| fates.get(place) != Some(&Fate::Deleted)).collect();
            let kept = left.iter().filter(|left| **left).count();
            if kept < left.len() {
                let gone = left.len() - kept;
                let fresh = std::iter::repeat_n(true, self.rows.rows - left.len());
                let mask: BooleanArray = left.iter().copied().chain(fresh).map(Some).collect();
                self.rows = self.rows.filter(&mask, self.rows.rows - gone)?;
                let mut left = left.into_iter();
                self.updated.retain(|_| left.next().unwrap_or(true));
            }
        }
        let replaced = self.updated.len();
        self.updated.extend(self.deleted);
        Ok((self.name, Delta { removed: self.updated, added: self.rows, replaced }))
    }
}

/// Rows of a table that were deleted, or got other values.
struct Event {
    table: usize,
    /// The rows as they were before the statement.
    before: Batch,
    /// The rows as they were before this step of it: only what the step itself changed is followed.
    previous: Batch,
    /// The rows as they are now; `None` when they are deleted.
    after: Option<Batch>,
}

impl Event {
    fn deleted(table: usize, before: Batch) -> Self {
        Self { table, previous: before.clone(), before, after: None }
    }
}

/// Keys that rows lost, for a foreign key whose action is NO ACTION.
struct LostKeys {
    child: OwnedName,
    reference: ForeignKey,
    parent: OwnedName,
    before: Batch,
}

/// A statement with all that its referential actions do.
pub(super) struct Actions<'c, 'a> {
    changer: &'c Changer<'a>,
    tables: Vec<RowChanges>,
    events: VecDeque<Event>,
    lost: Vec<LostKeys>,
    /// Foreign keys, by name of table and constraint, and the places of rows that they have changed.
    acted: HashSet<(usize, String, Place)>,
}

impl<'c, 'a> Actions<'c, 'a> {
    /// Follows a change of a table through all tables that refer to it. Expected O(changed rows + matching rows) once the referencing
    /// columns of a table are known by their values.
    pub(super) fn follow(changer: &'c Changer<'a>, name: (&str, &str), delta: &Delta) -> Result<Self> {
        let mut actions =
            Self { changer, tables: Vec::new(), events: VecDeque::new(), lost: Vec::new(), acted: HashSet::default() };
        let (updated, deleted) = delta.removed.split_at(delta.replaced);
        let table = actions.table(name)?;
        let changes = &mut actions.tables[table];
        changes.updated = updated.to_vec();
        changes.deleted = deleted.to_vec();
        changes.rows = delta.added.clone();
        if !delta.removed.is_empty() && !referring(&changer.catalog, name).is_empty() {
            let before = changes.old.rows_at(&delta.removed)?;
            if !updated.is_empty() {
                let after = Some(delta.added.slice(0, updated.len()));
                let before = before.slice(0, updated.len());
                actions.events.push_back(Event { table, previous: before.clone(), before, after });
            }
            if !deleted.is_empty() {
                actions.events.push_back(Event::deleted(table, before.slice(updated.len(), deleted.len())));
            }
        }
        while let Some(event) = actions.events.pop_front() {
            crate::control::checkpoint()?;
            actions.event(&event)?;
        }
        Ok(actions)
    }

    /// The changes of each table, that of the statement first, and what is left to check of NO ACTION.
    pub(super) fn finish(self) -> Result<(Vec<(OwnedName, Delta)>, Settlement)> {
        let deltas = self.tables.into_iter().map(RowChanges::into_delta).collect::<Result<_>>()?;
        Ok((deltas, Settlement(self.lost)))
    }

    fn table(&mut self, (schema, name): (&str, &str)) -> Result<usize> {
        if let Some(known) = self.tables.iter().position(|table| table.name.0 == schema && table.name.1 == name) {
            return Ok(known);
        }
        let (old, definition) = stored(&self.changer.catalog, schema, name)?;
        let rows = super::change::empty(&definition);
        let name = (schema.to_owned(), name.to_owned());
        let (deleted, updated) = (Vec::new(), Vec::new());
        self.tables.push(RowChanges { name, old, definition, deleted, updated, rows, fates: None });
        Ok(self.tables.len() - 1)
    }

    fn event(&mut self, event: &Event) -> Result<()> {
        let parent = self.tables[event.table].name.clone();
        let mut referring = referring(&self.changer.catalog, (&parent.0, &parent.1));
        // RESTRICT looks at the rows before any other action of the same event takes them away.
        referring.sort_by_key(|(_, reference)| action(reference, event) != ReferentialAction::Restrict);
        for (child, reference) in referring {
            let changed = changed_keys(event, &event_columns(&reference))?;
            if changed.is_empty() {
                continue;
            }
            let before = event.before.take(&changed.clone().into())?;
            if action(&reference, event) == ReferentialAction::NoAction {
                self.lost.push(LostKeys { child, reference, parent: parent.clone(), before });
                continue;
            }
            let after = event.after.as_ref().map(|after| after.take(&changed.into())).transpose()?;
            let event = Event { table: event.table, previous: before.clone(), before, after };
            self.act(&event, &child, &reference)?;
        }
        Ok(())
    }

    /// Does what a foreign key says to the rows that refer to those of an event, all of whose keys have changed.
    fn act(&mut self, event: &Event, child: &OwnedName, reference: &ForeignKey) -> Result<()> {
        let table = self.table((&child.0, &child.1))?;
        let matching = self.matching(event, table, reference)?;
        let Some(first) = matching.first() else { return Ok(()) };
        let places: Vec<Place> = matching.iter().map(|(_, place)| *place).collect();
        let changes = &mut self.tables[table];
        match action(reference, event) {
            ReferentialAction::NoAction => {}
            ReferentialAction::Restrict => {
                let needed = changes.old.rows_at(&places[..1])?;
                let parent = &self.tables[event.table];
                let needed = (self.tables[table].definition.as_ref(), &needed);
                let (parent, row) =
                    ((parent.name.1.as_str(), parent.definition.as_ref()), (&event.before, first.0 as usize));
                return Err(needed_by(SqlState::RESTRICT, parent, row, reference, (&child.1, needed)));
            }
            ReferentialAction::Cascade if event.after.is_none() => {
                let before = changes.old.rows_at(&places)?;
                changes.delete(&places);
                self.events.push_back(Event::deleted(table, before));
            }
            ReferentialAction::Cascade | ReferentialAction::SetNull | ReferentialAction::SetDefault => {
                let previous = changes.current(&places)?;
                let mut rows = previous.clone();
                self.give_keys(&mut rows, event, (table, reference), &matching)?;
                let changes = &mut self.tables[table];
                changes.update(&places, &rows)?;
                let before = changes.old.rows_at(&places)?;
                self.acted.extend(places.into_iter().map(|place| (table, reference.name.clone(), place)));
                self.events.push_back(Event { table, before, previous, after: Some(rows) });
            }
        }
        Ok(())
    }

    /// Gives matching rows the values that the action of an event says, and computes what is generated from these.
    fn give_keys(
        &self,
        rows: &mut Batch,
        event: &Event,
        (table, reference): (usize, &ForeignKey),
        matching: &Matching,
    ) -> Result<()> {
        let (parent, child) = (&self.tables[event.table].definition, &self.tables[table].definition);
        let from: UInt32Array = matching.iter().map(|(row, _)| *row).collect::<Vec<u32>>().into();
        for (at, referred) in reference.columns.iter().zip(&reference.referred) {
            let column = &child.columns[*at];
            rows.columns[*at] = match (action(reference, event), &event.after) {
                (ReferentialAction::Cascade, Some(after)) => {
                    let keys = arrow::compute::take(&after.columns[*referred], &from, None)?;
                    let keys = cast_values(&keys, parent.columns[*referred].sql_type, column.sql_type)?;
                    if reference.match_type == MatchType::Partial {
                        // What a row does not say it does not say after that either.
                        nullif(&keys, &arrow::compute::is_null(&rows.columns[*at])?)?
                    } else {
                        keys
                    }
                }
                (ReferentialAction::SetNull, Some(after)) if reference.match_type != MatchType::Full => {
                    // Only what has changed is forgotten.
                    let (before, after) = (&event.before.columns[*referred], &after.columns[*referred]);
                    let changed = distinct(before, after)?;
                    let changed: BooleanArray =
                        matching.iter().map(|(row, _)| Some(changed.value(*row as usize))).collect();
                    nullif(&rows.columns[*at], &changed)?
                }
                (ReferentialAction::SetDefault, _) => {
                    repeat(&default_value(child, *at, self.changer.around)?, column.sql_type, rows.rows)?
                }
                _ => repeat(&Value::Null, column.sql_type, rows.rows)?,
            };
        }
        self.changer.generate_anew(rows, &reference.columns, child)
    }

    /// The rows that referred to those of an event before the statement, and whose reference the statement has not changed otherwise.
    fn matching(&mut self, event: &Event, table: usize, reference: &ForeignKey) -> Result<Matching> {
        let keys = key_arrays(&event.before, &reference.referred);
        let keys = keys_as(keys, self.tables[table].definition.types_of(&reference.columns))?;
        let old = Arc::clone(&self.tables[table].old);
        let mut found = Matching::new();
        match reference.match_type {
            MatchType::Partial => found = self.unique_matching(event, (table, reference), &keys)?,
            MatchType::Simple | MatchType::Full => {
                old.find((&reference.columns, false), (&keys, event.before.rows), |row, place| {
                    found.push((row, place));
                    Ok(())
                })?;
            }
        }
        if found.is_empty() {
            return Ok(found);
        }
        let fates = self.tables[table].fates();
        found.retain(|(_, place)| fates.get(place) != Some(&Fate::Deleted));
        let is_updated = |place: &Place| matches!(fates.get(place), Some(Fate::Updated(_)));
        let updated: Vec<Place> = found.iter().map(|(_, place)| *place).filter(is_updated).collect();
        if updated.is_empty() {
            return Ok(found);
        }
        let (before, after) = (old.rows_at(&updated)?, Some(self.tables[table].current(&updated)?));
        let previous = before.clone();
        let changed = changed_keys(&Event { table, before, previous, after }, &reference.columns)?;
        let elsewhere: HashSet<Place> = changed
            .into_iter()
            .map(|row| updated[row as usize])
            .filter(|place| !self.acted.contains(&(table, reference.name.clone(), *place)))
            .collect();
        found.retain(|(_, place)| !elsewhere.contains(place));
        Ok(found)
    }

    /// Of a foreign key with MATCH PARTIAL, the rows that match only rows which the statement takes away or gives another key.
    fn unique_matching(
        &mut self,
        event: &Event,
        (table, reference): (usize, &ForeignKey),
        keys: &[ArrayRef],
    ) -> Result<Matching> {
        let (old, definition) = (Arc::clone(&self.tables[table].old), Arc::clone(&self.tables[table].definition));
        let found = partial_match::children((&old, &definition), &reference.columns, (keys, event.before.rows))?;
        let parent = &mut self.tables[event.table];
        let fates = parent.fates();
        let mut gone: HashSet<Place> =
            fates.iter().filter(|(_, fate)| **fate == Fate::Deleted).map(|(place, _)| *place).collect();
        let mut updated: Vec<Place> = fates.keys().copied().filter(|place| !gone.contains(place)).collect();
        updated.sort_unstable();
        let (before, after) = (parent.old.rows_at(&updated)?, Some(parent.current(&updated)?));
        let changed = Event { table: event.table, previous: before.clone(), before, after };
        gone.extend(changed_keys(&changed, &reference.referred)?.into_iter().map(|row| updated[row as usize]));
        let parent = (parent.old.as_ref(), parent.definition.as_ref());
        let found = partial_match::unique(found, (&old, reference), parent, |place| !gone.contains(&place))?;
        let follows = reference.on_update == ReferentialAction::Cascade;
        let after = event.after.as_ref().filter(|_| follows);
        partial_match::one_of_each(&found, (&old, reference), after)
    }
}

/// What is left to check when all actions are done.
pub(super) struct Settlement(Vec<LostKeys>);

impl Settlement {
    /// Whether no row refers to a key that no row has any longer.
    pub(super) fn check(&self, changer: &Changer<'_>) -> Result<()> {
        for lost in &self.0 {
            let LostKeys { child, reference, parent, before } = lost;
            if changer.deferral.defers(&child.0, &reference.name, reference.timing) {
                continue;
            }
            if reference.periods.is_some() || reference.match_type == MatchType::Partial {
                let (children, definition) = stored(&changer.catalog, &child.0, &child.1)?;
                let places = if reference.periods.is_some() {
                    rows_that_refer((&children, reference), before)?
                } else {
                    let keys = key_arrays(before, &reference.referred);
                    let keys = keys_as(keys, definition.types_of(&reference.columns))?;
                    let columns = reference.columns.as_slice();
                    let found = partial_match::children((&children, &definition), columns, (&keys, before.rows))?;
                    found.into_iter().map(|(_, place)| place).collect()
                };
                changer.check_reference(&child.1, &definition, reference, &children.rows_at(&places)?)?;
                continue;
            }
            let (parent_rows, parent_definition) = stored(&changer.catalog, &parent.0, &parent.1)?;
            let keys = key_arrays(before, &reference.referred);
            let mut there = vec![false; before.rows];
            let referred = (reference.referred.as_slice(), false);
            parent_rows.find(referred, (&keys, before.rows), |row, _| {
                there[row as usize] = true;
                Ok(())
            })?;
            let (child_rows, definition) = stored(&changer.catalog, &child.0, &child.1)?;
            let keys = keys_as(keys, definition.types_of(&reference.columns))?;
            child_rows.find((&reference.columns, false), (&keys, before.rows), |row, place| {
                if there[row as usize] {
                    return Ok(());
                }
                let needed = (definition.as_ref(), &child_rows.rows_at(&[place])?);
                let parent = (parent.1.as_str(), parent_definition.as_ref());
                let row = (before, row as usize);
                Err(needed_by(SqlState::CONSTRAINT, parent, row, reference, (&child.1, needed)))
            })?;
        }
        Ok(())
    }
}

/// The columns of a referenced row by whose values it is referred to.
fn event_columns(reference: &ForeignKey) -> Vec<usize> {
    let period = reference.periods.iter().flat_map(|[_, (start, end)]| [*start, *end]);
    reference.referred.iter().copied().chain(period).collect()
}

fn action(reference: &ForeignKey, event: &Event) -> ReferentialAction {
    if event.after.is_some() { reference.on_update } else { reference.on_delete }
}

/// The rows of an event that were deleted, or got another value in one of these columns.
fn changed_keys(event: &Event, columns: &[usize]) -> Result<Vec<u32>> {
    let Some(after) = &event.after else { return Ok((0..index(event.before.rows)).collect()) };
    let (before, after) = (key_arrays(&event.previous, columns), key_arrays(after, columns));
    let (before, after) = (encoded_keys(&before)?, encoded_keys(&after)?);
    let rows = before.iter().zip(after.iter()).enumerate();
    Ok(rows.filter(|(_, (before, after))| before != after).map(|(row, _)| index(row)).collect())
}

/// The foreign keys that refer to a table, with their tables.
fn referring(catalog: &Catalog, (schema, name): (&str, &str)) -> Vec<(OwnedName, ForeignKey)> {
    let mut found = Vec::new();
    for (child_schema, child) in catalog.tables() {
        for reference in child.definition.iter().flat_map(|definition| &definition.references) {
            if reference.table.0 == schema && reference.table.1 == name {
                found.push(((child_schema.to_owned(), child.name.clone()), reference.clone()));
            }
        }
    }
    found
}

/// An error for a row that has to stay as another refers to it.
fn needed_by(
    state: SqlState,
    (parent, definition): (&str, &TableDefinition),
    (before, row): (&Batch, usize),
    reference: &ForeignKey,
    (child, (child_definition, needed)): (&str, (&TableDefinition, &Batch)),
) -> Error {
    let values = shown_values(definition, before, &reference.referred, row);
    let message = format!("a row of table {parent:?} is needed by {} of table {child:?}: {values}", reference.name);
    let broken = BrokenConstraint::of_table(ConstraintKind::ForeignKey, child, &reference.name);
    Error::new(state, message)
        .about(broken)
        .with_help(format!("it refers to it: {}", shown_row(child_definition, needed, 0)))
}
