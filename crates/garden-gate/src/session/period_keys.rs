//! What periods ask of rows: each ends after it starts, no two of one key overlap (clause 11.7, WITHOUT OVERLAPS), and each that refers to others
//! is covered by them (clause 11.8, PERIOD).

use super::change::stored;
use super::constraints::{Changer, encoded_keys, key_arrays, shown_row, shown_values};
use crate::bind::{BindContext, index_keys};
use crate::catalog::{ColumnDefinition, ForeignKey, Index, KeyConstraint, MatchType, TableDefinition};
use crate::diagnostic::{BrokenConstraint, ConstraintKind, Error, Result};
use crate::kernel::{Batch, from_integer_lanes, integer_lanes, value_at};
use crate::logical::ScanIndex;
use crate::storage::{PeriodSearch, StoredTable, Wanted};
use arrow::array::{Array, ArrayRef};
use arrow::compute::kernels::cmp;

/// 23000 for a row whose period does not end after it starts.
pub(super) fn check_periods(name: &str, definition: &TableDefinition, rows: &Batch) -> Result<()> {
    for period in &definition.periods {
        let (start, end) = (&rows.columns[period.start], &rows.columns[period.end]);
        let backwards = cmp::lt_eq(end, start)?;
        let Some(row) = (0..rows.rows).find(|row| backwards.is_valid(*row) && backwards.value(*row)) else { continue };
        let (first, last) = (&definition.columns[period.start], &definition.columns[period.end]);
        let message = format!(
            "a row of table {name:?} breaks period {:?}: it starts at {} ({}) and ends at {} ({})",
            period.name,
            value_at(start, first.sql_type, row),
            first.name,
            value_at(end, last.sql_type, row),
            last.name
        );
        let help = format!("a period ends after it starts; the row is {}", shown_row(definition, rows, row));
        let broken = BrokenConstraint::of_table(ConstraintKind::Period, name, &period.name);
        return Err(Error::broken(broken, message).with_help(help));
    }
    Ok(())
}

/// The index that a key is by its nature.
fn index_of(definition: &TableDefinition, key: &KeyConstraint) -> Option<Index> {
    definition.all_indexes().into_iter().find(|index| index.name == key.name)
}

fn shape<'a>(definition: &'a TableDefinition, index: &'a Index, around: &'a BindContext<'a>) -> Result<ScanIndex> {
    index_keys(definition, index, around)
}

/// The columns of a key's period.
fn ends_of(key: &KeyConstraint) -> Option<(usize, usize)> {
    Some((*key.columns.last()?, key.period_end?))
}

/// No row that is added overlaps with another, nor with a row of `table`, which holds none of them.
/// O(added · (log added + parts · log rows)).
pub(super) fn check_overlaps<'a>(
    (name, definition): (&str, &'a TableDefinition),
    key: &KeyConstraint,
    (table, added): (&StoredTable, &Batch),
    around: &'a BindContext<'a>,
) -> Result<()> {
    check_apart((name, definition), key, added)?;
    let (Some(period), Some(index)) = (ends_of(key), index_of(definition, key)) else { return Ok(()) };
    let index = shape(definition, &index, around)?;
    let keys = key_arrays(added, key.scalar_columns());
    let wanted = Wanted { keys: &keys, starts: &added.columns[period.0], ends: &added.columns[period.1] };
    table.overlapping(&PeriodSearch { index: &index, period }, &wanted, |row, place, _| {
        let existing = table.rows_at(&[place])?;
        Err(overlap((name, definition), key, (added, row as usize), (&existing, 0)))
    })
}

/// No two of these rows overlap. O(n log n).
pub(super) fn check_apart(
    (name, definition): (&str, &TableDefinition),
    key: &KeyConstraint,
    rows: &Batch,
) -> Result<()> {
    let Some((start, end)) = ends_of(key) else { return Ok(()) };
    if rows.rows < 2 {
        return Ok(());
    }
    let keys = key_arrays(rows, key.scalar_columns());
    let encoded = encoded_keys(&keys)?;
    let lanes = |at: usize| integer_lanes(&rows.columns[at]).unwrap_or_default();
    let (starts, ends) = (lanes(start), lanes(end));
    let mut order: Vec<usize> = (0..rows.rows).filter(|row| keys.iter().all(|key| key.is_valid(*row))).collect();
    crate::control::sort_by(&mut order, |a, b| {
        encoded.row(*a).cmp(&encoded.row(*b)).then(starts[*a].cmp(&starts[*b]))
    })?;
    // A row that overlaps with any overlaps with the one that starts next.
    let overlaps = |pair: &&[usize]| encoded.row(pair[0]) == encoded.row(pair[1]) && starts[pair[1]] < ends[pair[0]];
    match order.windows(2).find(overlaps) {
        Some(pair) => Err(overlap((name, definition), key, (rows, pair[1]), (rows, pair[0]))),
        None => Ok(()),
    }
}

fn shown_period(definition: &TableDefinition, (start, end): (usize, usize), (rows, row): (&Batch, usize)) -> String {
    let shown = |at: usize| value_at(&rows.columns[at], definition.columns[at].sql_type, row);
    format!("{} to {}", shown(start), shown(end))
}

fn overlap(
    (name, definition): (&str, &TableDefinition),
    key: &KeyConstraint,
    (added, row): (&Batch, usize),
    (existing, at): (&Batch, usize),
) -> Error {
    let values = shown_values(definition, added, key.scalar_columns(), row);
    let period = ends_of(key).unwrap_or_default();
    let message = format!(
        "table {name:?} has a row with {values} from {} already, which overlaps {} ({})",
        shown_period(definition, period, (existing, at)),
        shown_period(definition, period, (added, row)),
        key.name
    );
    let help = format!("the existing row is {}", shown_row(definition, existing, at));
    let kind = if key.primary { ConstraintKind::PrimaryKey } else { ConstraintKind::Unique };
    Error::broken(BrokenConstraint::of_table(kind, name, &key.name), message).with_help(help)
}

impl Changer<'_> {
    /// Each row's period is covered by those of the rows that it refers to, which may meet one another.
    pub(super) fn check_covered(
        &self,
        (name, definition): (&str, &TableDefinition),
        reference: &ForeignKey,
        rows: &Batch,
    ) -> Result<()> {
        let Some([(start, end), parents]) = reference.periods else { return Ok(()) };
        let (parent, parent_definition) = stored(&self.catalog, &reference.table.0, &reference.table.1)?;
        let is_key = |key: &&KeyConstraint| {
            ends_of(key) == Some(parents) && key.scalar_columns().iter().all(|at| reference.referred.contains(at))
        };
        let key = parent_definition.keys.iter().find(is_key);
        let Some(index) = key.and_then(|key| index_of(&parent_definition, key)) else { return Ok(()) };
        let index = shape(&parent_definition, &index, self.around)?;
        let keys = in_order_of(&index, &parent_definition, reference, rows);
        let wanted = Wanted { keys: &keys, starts: &rows.columns[start], ends: &rows.columns[end] };
        let mut cover: Vec<Vec<(i64, i64)>> = vec![Vec::new(); rows.rows];
        parent.overlapping(&PeriodSearch { index: &index, period: parents }, &wanted, |row, _, period| {
            cover[row as usize].push(period);
            Ok(())
        })?;
        let lanes = |at: usize| integer_lanes(&rows.columns[at]).unwrap_or_default();
        let (starts, ends) = (lanes(start), lanes(end));
        for (row, cover) in cover.iter_mut().enumerate() {
            let nulls = keys.iter().filter(|key| key.is_null(row)).count();
            if nulls > 0 && (reference.match_type != MatchType::Full || nulls == keys.len()) {
                continue;
            }
            cover.sort_unstable();
            if let Some(gap) = first_gap(cover, (starts[row], ends[row])) {
                let column = &definition.columns[start];
                let bounds = (rows.columns[start].data_type(), column);
                return Err(not_covered((name, definition), reference, (rows, row), (gap, bounds)));
            }
        }
        Ok(())
    }
}

/// The columns of a reference in the order of the key's index.
fn in_order_of(index: &ScanIndex, parent: &TableDefinition, reference: &ForeignKey, rows: &Batch) -> Vec<ArrayRef> {
    let places = index.keys.iter().filter_map(|key| match key.expr.kind() {
        crate::logical::ExprKind::Slot(at) if *at < parent.columns.len() => Some(*at),
        _ => None,
    });
    let own =
        |at: usize| reference.referred.iter().position(|known| *known == at).map(|place| reference.columns[place]);
    places.filter_map(own).map(|at| ArrayRef::clone(&rows.columns[at])).collect()
}

/// The first stretch of a period that sorted ones do not cover.
fn first_gap(cover: &[(i64, i64)], (start, end): (i64, i64)) -> Option<(i64, i64)> {
    let mut reached = start;
    for (from, to) in cover {
        if *from > reached {
            return Some((reached, (*from).min(end)));
        }
        reached = reached.max(*to);
    }
    (reached < end).then_some((reached, end))
}

fn not_covered(
    (name, definition): (&str, &TableDefinition),
    reference: &ForeignKey,
    (rows, row): (&Batch, usize),
    (gap, (data_type, column)): ((i64, i64), (&arrow::datatypes::DataType, &ColumnDefinition)),
) -> Error {
    let values = shown_values(definition, rows, &reference.columns, row);
    let lanes = from_integer_lanes(vec![gap.0, gap.1], None, data_type);
    let shown = |at: usize| value_at(&lanes, column.sql_type, at);
    let message = format!(
        "a row of table {name:?} breaks {}: {values} is not in table {:?} from {} to {}",
        reference.name,
        reference.table.1,
        shown(0),
        shown(1)
    );
    let broken = BrokenConstraint::of_table(ConstraintKind::ForeignKey, name, &reference.name);
    Error::broken(broken, message).with_help(format!("the row is {}", shown_row(definition, rows, row)))
}

/// Rows of a table whose key is among these, and whose period overlaps that of the key's row.
pub(super) fn rows_that_refer(
    (table, reference): (&StoredTable, &ForeignKey),
    before: &Batch,
) -> Result<Vec<crate::storage::Place>> {
    let Some([own, parents]) = reference.periods else { return Ok(Vec::new()) };
    let keys = key_arrays(before, &reference.referred);
    let mut pairs = Vec::new();
    table.find((&reference.columns, false), (&keys, before.rows), |row, place| {
        pairs.push((row, place));
        Ok(())
    })?;
    let (rows, places): (Vec<u32>, Vec<i64>) = pairs.into_iter().unzip();
    let (children, parents_rows) = (table.rows_at(&places)?, before.take(&rows.into())?);
    let first = cmp::lt(&children.columns[own.0], &parents_rows.columns[parents.1])?;
    let second = cmp::gt(&children.columns[own.1], &parents_rows.columns[parents.0])?;
    let both = arrow::compute::and(&first, &second)?;
    let mut found: Vec<i64> =
        places.iter().enumerate().filter(|(row, _)| both.value(*row)).map(|(_, place)| *place).collect();
    found.sort_unstable();
    found.dedup();
    Ok(found)
}
