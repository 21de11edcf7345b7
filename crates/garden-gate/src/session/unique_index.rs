//! Unique indexes on expressions: no two rows have the same values of the keys, unless one of those is NULL.

use super::constraints::{encoded_keys, shown_row};
use crate::bind::{BindContext, index_keys};
use crate::catalog::{Index, IndexPart, TableDefinition};
use crate::collections::HashSet;
use crate::diagnostic::{BrokenConstraint, ConstraintKind, Error, Result};
use crate::kernel::{Batch, evaluate, value_at};
use crate::logical::ScanIndex;
use crate::storage::{IndexRead, KeyRange, StoredTable};
use arrow::array::{Array, ArrayRef};

/// Whether an index is kept unique here; one of columns alone has a key of its name that is.
pub(super) fn is_kept(index: &Index) -> bool {
    index.unique && index.keys.iter().any(|key| matches!(key.part, IndexPart::Expression(_)))
}

/// Whether the rows that were added to a table, and are in it, have keys of their own. O(added · parts · log rows).
///
/// # Errors
/// 23000 with the row that appears already; whatever the expressions raise.
pub(super) fn check_unique<'a>(
    (name, definition): (&str, &'a TableDefinition),
    index: &'a Index,
    (table, added): (&StoredTable, &Batch),
    around: &'a BindContext<'a>,
) -> Result<()> {
    let shape = index_keys(definition, index, around)?;
    let keys = shape.keys.iter().map(|key| evaluate(&key.expr, added)?.into_array(added.rows));
    let keys: Vec<ArrayRef> = keys.collect::<Result<_>>()?;
    let whole: Vec<usize> = (0..added.rows).filter(|row| keys.iter().all(|key| key.is_valid(*row))).collect();
    if whole.is_empty() {
        return Ok(());
    }
    let encoded = encoded_keys(&keys)?;
    let mut seen = HashSet::default();
    let twice = whole.iter().find(|row| !seen.insert(encoded.row(**row)));
    let range =
        |row: usize| KeyRange { equal: keys.iter().map(|key| key.slice(row, 1)).collect(), low: None, high: None };
    let all = found(table, &shape, whole.iter().map(|row| range(*row)).collect())?;
    if twice.is_none() && all.rows == whole.len() {
        return Ok(());
    }
    for row in whole {
        let same = found(table, &shape, vec![range(row)])?;
        if same.rows > 1 {
            let parts = shape.keys.iter().zip(&index.keys).zip(&keys);
            let values = parts.map(|((key, written), array)| {
                let text = match &written.part {
                    IndexPart::Column(at) => definition.columns[*at].name.clone(),
                    IndexPart::Expression(text) => text.text().trim().to_owned(),
                };
                format!("{text} = {}", value_at(array, key.expr.sql_type(), row))
            });
            let values = values.collect::<Vec<_>>().join(", ");
            let message = format!("table {name:?} has a row with {values} already ({})", index.name);
            let help = format!("the existing row is {}", shown_row(definition, &same, 0));
            let broken = BrokenConstraint::of_table(ConstraintKind::Unique, name, &index.name);
            return Err(Error::broken(broken, message).with_help(help));
        }
    }
    Ok(())
}

/// The rows whose keys lie in any of the ranges, in the order of the table.
fn found(table: &StoredTable, shape: &ScanIndex, ranges: Vec<KeyRange>) -> Result<Batch> {
    let columns: Vec<usize> = (0..table.place_column()).collect();
    let read = IndexRead { index: shape, ranges, columns: &columns, only: false, order: None };
    let segments = table.read_index(&read)?;
    let batches: Vec<Batch> = segments.into_iter().map(|segment| Batch::new(segment.columns, segment.rows)).collect();
    if batches.is_empty() { table.rows_at(&[]) } else { Batch::concat(&batches, None) }
}
