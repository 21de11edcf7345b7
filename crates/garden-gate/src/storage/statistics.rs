//! Column statistics. Up to [`SAMPLE_ROWS`] rows all values are looked at; past that, evenly spread runs of rows, and the
//! distinct count is scaled up by the estimator of Charikar et al. (PODS 2000): values seen once stand for √(n/sample) of them.

use crate::catalog::{ColumnStatistics, CommonValue};
use crate::diagnostic::{Result, Span};
use crate::kernel::{Accumulator, GroupTable, Groups, accumulator, array_of, value_at};
use crate::logical::{Aggregate, AggregateFunction, Expr, ExprKind};
use crate::types::{SqlType, Value, approximate};
use arrow::array::{Array, ArrayRef};

/// Rows looked at for distinct counts and frequent values.
const SAMPLE_ROWS: usize = 1_000_000;
/// Frequent values kept for a column.
const MOST_COMMON: usize = 64;
/// Rows of one run of the sample.
const RUN_ROWS: usize = 4096;

/// The statistics of one column, given as its segments. O(rows) for NULLs, least and greatest value, O(sample) for the rest.
pub(crate) fn collect(segments: &[ArrayRef], sql_type: SqlType) -> Result<ColumnStatistics> {
    let rows: usize = segments.iter().map(|segment| segment.len()).sum();
    let nulls: usize = segments.iter().map(|segment| segment.null_count()).sum();
    let frequencies = Frequencies::count(segments, sql_type, rows)?;
    Ok(ColumnStatistics {
        rows: rows as u64,
        nulls: nulls as u64,
        distinct: frequencies.distinct(rows - nulls),
        min: extreme(segments, sql_type, AggregateFunction::Min)?,
        max: extreme(segments, sql_type, AggregateFunction::Max)?,
        most_common: frequencies.most_common(sql_type, nulls, rows)?,
        exact: rows <= SAMPLE_ROWS,
    })
}

fn extreme(segments: &[ArrayRef], sql_type: SqlType, function: AggregateFunction) -> Result<Value> {
    let argument = Expr::new(ExprKind::Slot(0), sql_type, Span::default());
    let aggregate = Aggregate::plain(function, Some(argument), sql_type, Span::default());
    let mut state: Box<dyn Accumulator> = accumulator(&aggregate)?;
    for segment in segments {
        state.update(Groups::One { rows: segment.len() }, std::slice::from_ref(segment))?;
    }
    Ok(value_at(&state.finish(1)?, sql_type, 0))
}

/// How often each value stands in the sample.
struct Frequencies {
    table: GroupTable,
    counts: Vec<u64>,
    sampled: u64,
}

impl Frequencies {
    fn count(segments: &[ArrayRef], sql_type: SqlType, rows: usize) -> Result<Self> {
        let mut table = GroupTable::new(vec![sql_type.arrow()])?;
        let mut counts: Vec<u64> = Vec::new();
        let mut ids = Vec::new();
        let mut sampled = 0;
        let every = rows.div_ceil(SAMPLE_ROWS).max(1);
        for segment in segments {
            for start in (0..segment.len()).step_by(RUN_ROWS * every) {
                let run = segment.slice(start, RUN_ROWS.min(segment.len() - start));
                let present = arrow::compute::filter(&run, &arrow::compute::is_not_null(&run)?)?;
                sampled += present.len() as u64;
                let length = present.len();
                table.assign(&[present], length, &mut ids)?;
                counts.resize(table.len(), 0);
                ids.iter().for_each(|id| counts[*id as usize] += 1);
            }
        }
        Ok(Self { table, counts, sampled })
    }

    fn distinct(&self, present: usize) -> f64 {
        let seen = approximate(self.counts.len());
        if self.sampled == present as u64 || self.sampled == 0 {
            return seen;
        }
        let once = approximate(self.counts.iter().filter(|count| **count == 1).count());
        let scale = (approximate(present) / approximate(self.sampled)).sqrt();
        (seen - once + once * scale).min(approximate(present))
    }

    /// Values that are more frequent than the average, most frequent first; equally frequent ones in order of appearance.
    fn most_common(&self, sql_type: SqlType, nulls: usize, rows: usize) -> Result<Vec<CommonValue>> {
        if self.counts.is_empty() || rows == 0 {
            return Ok(Vec::new());
        }
        let average = approximate(self.sampled) / approximate(self.counts.len());
        let all_fit = self.counts.len() <= MOST_COMMON;
        let mut order: Vec<usize> = (0..self.counts.len())
            .filter(|group| all_fit || approximate(self.counts[*group]) > average * 1.25 && self.counts[*group] > 1)
            .collect();
        order.sort_by_key(|group| std::cmp::Reverse(self.counts[*group]));
        order.truncate(MOST_COMMON);
        let keys = self.table.keys()?;
        let present = approximate(rows - nulls) / approximate(rows);
        let share = |count: u64| approximate(count) / approximate(self.sampled) * present;
        let common =
            |group: usize| CommonValue { value: value_at(&keys[0], sql_type, group), share: share(self.counts[group]) };
        Ok(order.into_iter().map(common).collect())
    }
}

/// An array of literal values, for tables that are made row by row.
pub(super) fn column_of(values: &[Value], sql_type: SqlType) -> Result<ArrayRef> {
    if values.is_empty() {
        return Ok(arrow::array::new_empty_array(&sql_type.arrow()));
    }
    let arrays = values.iter().map(|value| array_of(value, sql_type)).collect::<Result<Vec<_>>>()?;
    let parts: Vec<&dyn Array> = arrays.iter().map(AsRef::as_ref).collect();
    Ok(arrow::compute::concat(&parts)?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::Int32Array;
    use std::sync::Arc;

    #[test]
    fn small_columns_are_counted_exactly() {
        // 10 rows: 7 seven times, 1 and 2 once, one NULL.
        let values = Int32Array::from(vec![
            Some(7),
            Some(7),
            None,
            Some(1),
            Some(7),
            Some(7),
            Some(2),
            Some(7),
            Some(7),
            Some(7),
        ]);
        let statistics = collect(&[Arc::new(values)], SqlType::Integer).unwrap();
        assert_eq!((statistics.rows, statistics.nulls, statistics.exact), (10, 1, true));
        assert!((statistics.distinct - 3.0).abs() < 1e-9);
        assert_eq!((statistics.min, statistics.max), (Value::Integer(1), Value::Integer(7)));
        assert_eq!(statistics.most_common[0].value, Value::Integer(7));
        assert!((statistics.most_common[0].share - 0.7).abs() < 1e-9);
        let empty = collect(&[], SqlType::Integer).unwrap();
        assert_eq!((empty.rows, empty.min, empty.most_common.len()), (0, Value::Null, 0));
    }

    #[test]
    fn large_columns_are_sampled() {
        // 2,000,000 rows, each of 1,000 values 2,000 times.
        let segment: ArrayRef = Arc::new((0..2_000_000).map(|row| Some(row % 1_000)).collect::<Int32Array>());
        let statistics = collect(&[segment], SqlType::Integer).unwrap();
        assert!(!statistics.exact);
        assert!((990.0..1010.0).contains(&statistics.distinct), "{}", statistics.distinct);
        assert_eq!(statistics.max, Value::Integer(999));
    }
}
