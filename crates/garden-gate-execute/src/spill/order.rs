use crate::diagnostic::Result;
use crate::kernel::{Batch, evaluate, integer_lanes, sort_options};
use crate::logical::SortKey;
use crate::types::index;
use arrow::array::{Array, ArrayRef, UInt32Array};
use arrow::compute::SortOptions;
use arrow::row::{RowConverter, Rows, SortField};

/// Rows whose keys are evaluated and encoded between two looks at the limits of the statement.
const SLICE_ROWS: usize = 65_536;

/// An order of rows, by keys that are encoded so that their bytes compare as the rows do.
pub(crate) struct Order<'k> {
    keys: &'k [SortKey],
    converter: RowConverter,
}

impl<'k> Order<'k> {
    /// The order of these keys, whose columns are sorted as encoded bytes.
    pub(crate) fn new(keys: &'k [SortKey]) -> Result<Self> {
        let field = |key: &SortKey| SortField::new_with_options(key.expr.sql_type().arrow(), sort_options(key));
        Ok(Self { keys, converter: RowConverter::new(keys.iter().map(field).collect())? })
    }

    /// Whether rows stay as they come.
    pub(crate) fn is_empty(&self) -> bool {
        self.keys.is_empty()
    }

    /// The encoded keys of all rows, made a slice at a time: a run of rows is long, and a key may be any expression.
    pub(crate) fn encoded(&self, batch: &Batch) -> Result<Rows> {
        let mut encoded = self.converter.empty_rows(batch.rows, 0);
        for start in (0..batch.rows).step_by(SLICE_ROWS) {
            crate::control::checkpoint()?;
            let slice = batch.slice(start, SLICE_ROWS.min(batch.rows - start));
            let arrays = self.keys.iter().map(|key| evaluate(&key.expr, &slice)?.into_array(slice.rows));
            self.converter.append(&mut encoded, &arrays.collect::<Result<Vec<_>>>()?)?;
        }
        Ok(encoded)
    }

    /// The rows of a batch in this order, equal ones as they came.
    pub(crate) fn sorted(&self, batch: &Batch) -> Result<Batch> {
        // The rows of a window over all of them come as they are.
        if self.is_empty() {
            return Ok(batch.clone());
        }
        if let [key] = self.keys {
            let values = evaluate(&key.expr, batch)?.into_array(batch.rows)?;
            if let Some(lanes) = integer_lanes(&values) {
                return batch.take(&UInt32Array::from(order_of_lanes(&lanes, &values, sort_options(key))?));
            }
        }
        let rows = self.encoded(batch)?;
        let mut order: Vec<u32> = (0..index(batch.rows)).collect();
        crate::control::sort_by(&mut order, |a, b| rows.row(*a as usize).cmp(&rows.row(*b as usize)).then(a.cmp(b)))?;
        drop(rows);
        batch.take(&UInt32Array::from(order))
    }
}

/// The order of one key of integers, equal ones as they came: numbers are sorted with the numbers of their rows beside them.
fn order_of_lanes(lanes: &[i64], values: &ArrayRef, options: SortOptions) -> Result<Vec<u32>> {
    let mut pairs: Vec<(i64, u32)> = Vec::with_capacity(lanes.len());
    let mut nulls: Vec<u32> = Vec::new();
    for (row, lane) in (0..).zip(lanes) {
        if values.is_null(row as usize) {
            nulls.push(row);
        } else {
            // The complement of a number orders the other way round.
            pairs.push((if options.descending { !*lane } else { *lane }, row));
        }
    }
    crate::control::sort_by(&mut pairs, Ord::cmp)?;
    let rows = pairs.into_iter().map(|(_, row)| row);
    Ok(if options.nulls_first { nulls.into_iter().chain(rows).collect() } else { rows.chain(nulls).collect() })
}
