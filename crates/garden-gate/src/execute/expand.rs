//! Table functions: for each input row the elements of arrays, or the values of a series.

use super::join::From;
use super::pipeline::Transform;
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::{Batch, evaluate, series};
use crate::logical::{Expand, Expr};
use crate::types::{SqlType, index};
use arrow::array::{Array, ArrayRef, AsArray, Int64Array, UInt32Array, new_null_array};
use std::sync::Arc;

pub(super) struct ExpandRows {
    pub(super) expand: Expand,
    /// The types of the columns that are made.
    pub(super) types: Vec<SqlType>,
    /// A column of the input, or one of those made; past these, the ordinality.
    pub(super) output: Vec<From>,
    pub(super) batch_rows: usize,
}

impl ExpandRows {
    /// Of each input row, how many rows come of it, and the columns made for all of them.
    fn rows(&self, batch: &Batch) -> Result<(Vec<usize>, Vec<ArrayRef>)> {
        let all = |exprs: &[Expr]| -> Result<Vec<ArrayRef>> {
            exprs.iter().map(|expr| evaluate(expr, batch)?.into_array(batch.rows)).collect()
        };
        match &self.expand {
            Expand::Series(bounds) => {
                let arrays = all(bounds.as_slice())?;
                let sql_type = self.types.first().copied().unwrap_or(SqlType::BigInt);
                series(&arrays, (sql_type, bounds[2].sql_type())).map_err(|error| error.at(bounds[2].span()))
            }
            Expand::Unnest(exprs) => unnest(&all(exprs)?, &self.types, batch.rows),
        }
    }
}

/// Arrays side by side: as many rows as the longest has elements, NULL for those that are shorter.
fn unnest(arrays: &[ArrayRef], types: &[SqlType], rows: usize) -> Result<(Vec<usize>, Vec<ArrayRef>)> {
    let length = |array: &ArrayRef, row: usize| -> usize {
        if array.is_null(row) { 0 } else { usize::try_from(array.as_list::<i32>().value_length(row)).unwrap_or(0) }
    };
    let counts: Vec<usize> =
        (0..rows).map(|row| arrays.iter().map(|array| length(array, row)).max().unwrap_or(0)).collect();
    let mut columns = Vec::new();
    for (array, sql_type) in arrays.iter().zip(types) {
        let list = array.as_list::<i32>();
        let mut places: Vec<Option<u32>> = Vec::new();
        for (row, count) in counts.iter().enumerate() {
            let (start, own) = (usize::try_from(list.value_offsets()[row]).unwrap_or(0), length(array, row));
            places.extend((0..*count).map(|at| (at < own).then(|| index(start + at))));
        }
        columns.push(if list.values().is_empty() {
            new_null_array(&sql_type.arrow(), places.len())
        } else {
            arrow::compute::take(list.values(), &UInt32Array::from(places), None)?
        });
    }
    Ok((counts, columns))
}

impl Transform for ExpandRows {
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<()>) -> Result<()> {
        let (counts, made) = self.rows(&batch)?;
        let total: usize = counts.iter().sum();
        if total > u32::MAX as usize {
            return Err(Error::new(SqlState::MEMORY, "a table function gives more than 4,294,967,295 rows at once"));
        }
        let mut rows = Vec::with_capacity(total);
        let mut ordinals: Vec<i64> = Vec::with_capacity(total);
        for (row, count) in counts.iter().enumerate() {
            rows.extend(std::iter::repeat_n(index(row), *count));
            ordinals.extend((1_i64..).take(*count));
        }
        for start in (0..total).step_by(self.batch_rows) {
            let count = self.batch_rows.min(total - start);
            let places = UInt32Array::from(rows[start..start + count].to_vec());
            let column = |from: &From| -> Result<ArrayRef> {
                Ok(match from {
                    From::Probe(at) => arrow::compute::take(&batch.columns[*at], &places, None)?,
                    From::Build(at) => made[*at].slice(start, count),
                    From::Several => Arc::new(Int64Array::from(ordinals[start..start + count].to_vec())),
                })
            };
            emit(Batch::new(self.output.iter().map(column).collect::<Result<_>>()?, count))?;
        }
        Ok(())
    }
}
