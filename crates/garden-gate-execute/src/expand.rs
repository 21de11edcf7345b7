//! Table functions: for each input row the elements of arrays, or the values of a series, made as far as they are asked for.

use super::join::ColumnSource;
use super::pipeline::{Flow, Transform};
use crate::control::checkpoint;
use crate::diagnostic::{Error, Result};
use crate::kernel::{Batch, Progression, evaluate};
use crate::logical::{Expand, Expr};
use crate::types::{SqlType, index};
use arrow::array::{Array, ArrayRef, AsArray, Int64Array, UInt32Array, new_null_array};
use std::sync::Arc;

pub(super) struct ExpandRows {
    pub(super) expand: Expand,
    /// The types of the columns that are made.
    pub(super) types: Vec<SqlType>,
    /// A column of the input, or one of those made; past these, the ordinality.
    pub(super) output: Vec<ColumnSource>,
    pub(super) batch_rows: usize,
}

/// What becomes of the rows of a batch.
enum Made {
    /// For each row its series.
    Series(Vec<Progression>),
    /// Arrays side by side: as many rows as the longest has elements, NULL for those that are shorter.
    Unnest(Vec<ArrayRef>),
}

/// A stretch of the rows that come of one input row.
#[derive(Clone, Copy)]
struct ExpandedRows {
    row: usize,
    start: u64,
    count: usize,
}

impl ExpandRows {
    fn made(&self, batch: &Batch) -> Result<Made> {
        let all = |exprs: &[Expr]| -> Result<Vec<ArrayRef>> {
            exprs.iter().map(|expr| evaluate(expr, batch)?.into_array(batch.rows)).collect()
        };
        Ok(match &self.expand {
            Expand::Series(bounds) => {
                let arrays = all(bounds.as_slice())?;
                let types = (self.series_type(), bounds[2].sql_type());
                let one = |row: usize| Progression::of(&arrays, types, row);
                let at = |error: Error| error.at(bounds[2].span());
                Made::Series((0..batch.rows).map(one).collect::<Result<_>>().map_err(at)?)
            }
            Expand::Unnest(exprs) => Made::Unnest(all(exprs)?),
        })
    }

    fn series_type(&self) -> SqlType {
        self.types.first().copied().unwrap_or(SqlType::BigInt)
    }

    /// A column that is made, for these runs.
    fn column(&self, made: &Made, at: usize, runs: &[ExpandedRows]) -> Result<ArrayRef> {
        match made {
            Made::Series(series) => {
                let sql_type = self.series_type();
                let part = |run: &ExpandedRows| series[run.row].values(sql_type, run.start, run.count);
                let parts = runs.iter().map(part).collect::<Result<Vec<ArrayRef>>>()?;
                if let [one] = parts.as_slice() {
                    return Ok(Arc::clone(one));
                }
                Ok(arrow::compute::concat(&parts.iter().map(AsRef::as_ref).collect::<Vec<_>>())?)
            }
            Made::Unnest(arrays) => {
                let (array, sql_type) = (&arrays[at], self.types[at]);
                let list = array.as_list::<i32>();
                let mut places: Vec<Option<u32>> = Vec::new();
                for run in runs {
                    let own = length(array, run.row);
                    let first = u64::try_from(list.value_offsets()[run.row]).unwrap_or(0);
                    let place = |at: u64| u32::try_from(first + at).ok().filter(|_| at < own);
                    places.extend((run.start..run.start + run.count as u64).map(place));
                }
                if list.values().is_empty() {
                    return Ok(new_null_array(&sql_type.arrow(), places.len()));
                }
                Ok(arrow::compute::take(list.values(), &UInt32Array::from(places), None)?)
            }
        }
    }

    fn rows(&self, batch: &Batch, made: &Made, runs: &[ExpandedRows]) -> Result<Batch> {
        let count: usize = runs.iter().map(|run| run.count).sum();
        let of_row = |run: &ExpandedRows| std::iter::repeat_n(index(run.row), run.count);
        let places: UInt32Array = runs.iter().flat_map(of_row).collect::<Vec<u32>>().into();
        let column = |from: &ColumnSource| -> Result<ArrayRef> {
            Ok(match from {
                ColumnSource::Probe(at) => arrow::compute::take(&batch.columns[*at], &places, None)?,
                ColumnSource::Build(at) => self.column(made, *at, runs)?,
                ColumnSource::Several => {
                    let first = |run: &ExpandedRows| i64::try_from(run.start).unwrap_or(i64::MAX - 1) + 1;
                    let numbers = runs.iter().flat_map(|run| (first(run)..).take(run.count));
                    Arc::new(numbers.collect::<Int64Array>())
                }
            })
        };
        Ok(Batch::new(self.output.iter().map(column).collect::<Result<_>>()?, count))
    }
}

impl Made {
    /// How many rows come of an input row.
    fn count(&self, row: usize) -> u64 {
        match self {
            Self::Series(series) => series[row].len(),
            Self::Unnest(arrays) => arrays.iter().map(|array| length(array, row)).max().unwrap_or(0),
        }
    }
}

fn length(array: &ArrayRef, row: usize) -> u64 {
    if array.is_null(row) { 0 } else { u64::try_from(array.as_list::<i32>().value_length(row)).unwrap_or(0) }
}

impl Transform for ExpandRows {
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        let made = self.made(&batch)?;
        let mut runs: Vec<ExpandedRows> = Vec::new();
        let mut gathered = 0;
        for row in 0..batch.rows {
            let (mut start, end) = (0, made.count(row));
            while start < end {
                let count = usize::try_from(end - start).unwrap_or(usize::MAX).min(self.batch_rows - gathered);
                runs.push(ExpandedRows { row, start, count });
                start += count as u64;
                gathered += count;
                if gathered == self.batch_rows {
                    checkpoint()?;
                    if emit(self.rows(&batch, &made, &runs)?)? == Flow::Enough {
                        return Ok(Flow::Enough);
                    }
                    runs.clear();
                    gathered = 0;
                }
            }
        }
        if runs.is_empty() { Ok(Flow::More) } else { emit(self.rows(&batch, &made, &runs)?) }
    }
}
