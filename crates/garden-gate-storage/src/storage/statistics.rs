//! Column statistics. Up to [`EXACT_ROWS`] rows all values are looked at; past that, [`SAMPLE_ROWS`] in evenly spread runs, but for the least
//! and greatest value, which are those of all rows, and the number of distinct values, which is sketched over all rows.

use super::histogram::{bounds, correlation};
use crate::catalog::{Column, ColumnStatistics, CommonValue, GroupStatistics};
use crate::diagnostic::{Error, Result, Span};
use crate::kernel::{Accumulator, Extremes, GroupTable, Groups, Sketch, accumulator, array_of, extremes, value_at};
use crate::logical::{Aggregate, AggregateFunction, Expr, ExprKind};
use crate::types::{SqlType, Value, approximate};
use arrow::array::{Array, ArrayRef, BooleanArray};

/// Up to so many rows all are looked at for frequent values and histograms.
const EXACT_ROWS: usize = 1 << 18;
/// Of more, at most so many: the share of a value that one row in a hundred has is then known to 3 or 4 % of itself.
const SAMPLE_ROWS: usize = 1 << 17;
/// Frequent values kept for a column.
const MOST_COMMON: usize = 64;
/// Rows of one run of the sample.
const RUN_ROWS: usize = 4096;

/// The statistics of one column, given as its segments. O(rows) for NULLs, distinct values, minimum and maximum value, O(sample · log
/// sample) for the rest.
pub(crate) fn collect(segments: &[ArrayRef], sql_type: SqlType) -> Result<ColumnStatistics> {
    let sketch = |all: &mut Sketch| segments.iter().try_for_each(|segment| all.add(segment));
    collect_with(segments, sql_type, &sketch)
}

/// [`collect`] for a column whose values `sketch` adds to a sketch, perhaps from sketches of its parts.
pub(super) fn collect_with(
    segments: &[ArrayRef],
    sql_type: SqlType,
    sketch: &dyn Fn(&mut Sketch) -> Result<()>,
) -> Result<ColumnStatistics> {
    let rows: usize = segments.iter().map(|segment| segment.len()).sum();
    let nulls: usize = segments.iter().map(|segment| segment.null_count()).sum();
    let frequencies = Frequencies::count(segments, sql_type, rows)?;
    let common = frequencies.most_common();
    let distinct = match rows <= EXACT_ROWS {
        true => approximate(frequencies.counts.len()),
        false => {
            let mut all = Sketch::default();
            sketch(&mut all)?;
            all.distinct().min(approximate(rows - nulls))
        }
    };
    let keys = &frequencies.table.keys()?;
    let weighted = |group: usize| (group, frequencies.counts[group]);
    let is_common: std::collections::HashSet<usize> = common.iter().copied().collect();
    let others = (0..frequencies.counts.len()).filter(|group| !is_common.contains(group)).map(weighted).collect();
    let outermost = outermost_values(segments)?;
    let outermost = outermost.as_ref().map_or(segments, std::slice::from_ref);
    Ok(ColumnStatistics {
        rows: rows as u64,
        nulls: nulls as u64,
        distinct,
        min: extreme(outermost, sql_type, AggregateFunction::Min)?,
        max: extreme(outermost, sql_type, AggregateFunction::Max)?,
        most_common: frequencies.common_values(&common, (&keys[0], sql_type), (nulls, rows)),
        histogram: bounds(&keys[0], others, sql_type)?,
        correlation: correlation(segments, rows, sql_type)?,
        exact: rows <= EXACT_ROWS,
    })
}

/// The least and the greatest value of each segment; `None` where these are not found faster than by comparing all.
fn outermost_values(segments: &[ArrayRef]) -> Result<Option<ArrayRef>> {
    let mut found: Vec<ArrayRef> = Vec::new();
    for segment in segments.iter().filter(|segment| segment.null_count() < segment.len()) {
        crate::control::checkpoint()?;
        let Some(Extremes { least, greatest }) = extremes(segment) else { return Ok(None) };
        found.extend([segment.slice(least, 1), segment.slice(greatest, 1)]);
    }
    let parts: Vec<&dyn Array> = found.iter().map(AsRef::as_ref).collect();
    if parts.is_empty() { Ok(None) } else { Ok(Some(arrow::compute::concat(&parts)?)) }
}

fn extreme(segments: &[ArrayRef], sql_type: SqlType, function: AggregateFunction) -> Result<Value> {
    let argument = Expr::new(ExprKind::Slot(0), sql_type, Span::default());
    let aggregate = Aggregate::plain(function, Some(argument), sql_type, Span::default());
    let mut state: Box<dyn Accumulator> = accumulator(&aggregate)?;
    for segment in segments {
        crate::control::checkpoint()?;
        state.update(Groups::One { rows: segment.len() }, std::slice::from_ref(segment))?;
    }
    Ok(value_at(&state.finish(1)?, sql_type, 0))
}

/// What is known of several columns together. Each segment has all of them. O(sample).
pub fn collect_group(columns: &[(usize, SqlType)], segments: &[(Vec<ArrayRef>, usize)]) -> Result<GroupStatistics> {
    let rows: usize = segments.iter().map(|(_, rows)| rows).sum();
    let types = columns.iter().map(|(_, sql_type)| sql_type.arrow()).collect();
    let frequencies = Frequencies::of(types, segments.iter().map(|(arrays, rows)| (arrays.as_slice(), *rows)), rows)?;
    let keys = frequencies.table.keys()?;
    let values = |group: usize| -> Vec<Value> {
        columns.iter().zip(&keys).map(|((_, sql_type), key)| value_at(key, *sql_type, group)).collect()
    };
    let share = |group: usize| approximate(frequencies.counts[group]) / approximate(frequencies.sampled.max(1));
    Ok(GroupStatistics {
        columns: columns.iter().map(|(at, _)| *at).collect(),
        rows: rows as u64,
        distinct: frequencies.distinct(rows),
        most_common: frequencies.most_common().into_iter().map(|group| (values(group), share(group))).collect(),
    })
}

/// How often each value, or combination of values, appears in the sample.
struct Frequencies {
    table: GroupTable,
    counts: Vec<u64>,
    sampled: u64,
}

impl Frequencies {
    /// Of the values of one column, without NULL.
    fn count(segments: &[ArrayRef], sql_type: SqlType, rows: usize) -> Result<Self> {
        let segments = segments.iter().map(|segment| (std::slice::from_ref(segment), segment.len()));
        Self::of(vec![sql_type.arrow()], segments, rows)
    }

    /// The sample belongs to the table, whatever statement is the first to ask.
    fn of<'s>(
        types: Vec<arrow::datatypes::DataType>,
        segments: impl Iterator<Item = (&'s [ArrayRef], usize)>,
        rows: usize,
    ) -> Result<Self> {
        crate::control::beyond_memory(|| Self::sample(types, segments, rows))
    }

    fn sample<'s>(
        types: Vec<arrow::datatypes::DataType>,
        segments: impl Iterator<Item = (&'s [ArrayRef], usize)>,
        rows: usize,
    ) -> Result<Self> {
        let alone = types.len() == 1;
        let mut table = GroupTable::new(types)?;
        let mut counts: Vec<u64> = Vec::new();
        let mut ids = Vec::new();
        let mut sampled = 0;
        let every = if rows <= EXACT_ROWS { 1 } else { rows.div_ceil(SAMPLE_ROWS) };
        for (arrays, length) in segments {
            for start in (0..length).step_by(RUN_ROWS * every) {
                crate::control::checkpoint()?;
                let count = RUN_ROWS.min(length - start);
                let run: Vec<ArrayRef> = arrays.iter().map(|array| array.slice(start, count)).collect();
                let run = if alone { present(&run)? } else { run };
                let count = run.first().map_or(0, |array| array.len());
                sampled += count as u64;
                table.assign(&run, count, &mut ids)?;
                counts.resize(table.len(), 0);
                ids.iter().for_each(|id| counts[*id as usize] += 1);
            }
        }
        Ok(Self { table, counts, sampled })
    }

    /// How many different ones there are among `rows` rows, from those in the sample: each that was met once stands for √(n/sample) of
    /// them (Charikar et al., PODS 2000).
    fn distinct(&self, rows: usize) -> f64 {
        let seen = approximate(self.counts.len());
        if self.sampled == rows as u64 || self.sampled == 0 {
            return seen;
        }
        let once = approximate(self.counts.iter().filter(|count| **count == 1).count());
        let scale = (approximate(rows) / approximate(self.sampled)).sqrt();
        (seen - once + once * scale).min(approximate(rows))
    }

    /// Those that are more frequent than the average, most common first; equally frequent ones in order of appearance.
    fn most_common(&self) -> Vec<usize> {
        if self.counts.is_empty() {
            return Vec::new();
        }
        let average = approximate(self.sampled) / approximate(self.counts.len());
        let all_fit = self.counts.len() <= MOST_COMMON;
        let mut order: Vec<usize> = (0..self.counts.len())
            .filter(|group| all_fit || approximate(self.counts[*group]) > average * 1.25 && self.counts[*group] > 1)
            .collect();
        order.sort_by_key(|group| std::cmp::Reverse(self.counts[*group]));
        order.truncate(MOST_COMMON);
        order
    }

    fn common_values(
        &self,
        groups: &[usize],
        (keys, sql_type): (&ArrayRef, SqlType),
        (nulls, rows): (usize, usize),
    ) -> Vec<CommonValue> {
        let present = approximate(rows - nulls) / approximate(rows.max(1));
        let share = |group: usize| approximate(self.counts[group]) / approximate(self.sampled) * present;
        let common = |group: &usize| CommonValue { value: value_at(keys, sql_type, *group), share: share(*group) };
        groups.iter().map(common).collect()
    }
}

/// A run of one column without its NULLs.
fn present(run: &[ArrayRef]) -> Result<Vec<ArrayRef>> {
    let [array] = run else { return Ok(run.to_vec()) };
    if array.null_count() == 0 {
        return Ok(run.to_vec());
    }
    let mask: BooleanArray = arrow::compute::is_not_null(array)?;
    Ok(vec![arrow::compute::filter(array, &mask)?])
}

/// An array of literal values, for tables that are made row by row.
///
/// # Errors
/// As [`array_of`], with the row, counted from 1 after `before` others, and the column.
pub(super) fn column_of(values: &[Value], column: &Column, before: usize) -> Result<ArrayRef> {
    let sql_type = column.sql_type;
    if values.is_empty() {
        return Ok(arrow::array::new_empty_array(&sql_type.arrow()));
    }
    let array = |(row, value): (usize, &Value)| {
        array_of(value, sql_type).map_err(|error| {
            let message = format!("row {}, column {:?}: {}", before + row + 1, column.name, error.message());
            Error::new(error.sqlstate(), message)
        })
    };
    let arrays = values.iter().enumerate().map(array).collect::<Result<Vec<_>>>()?;
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
        let values = [Some(7), Some(7), None, Some(1), Some(7), Some(7), Some(2), Some(7), Some(7), Some(7)];
        let statistics = collect(&[Arc::new(Int32Array::from(values.to_vec()))], SqlType::Integer).unwrap();
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
        assert!((960.0..1040.0).contains(&statistics.distinct), "{}", statistics.distinct);
        assert_eq!(statistics.max, Value::Integer(999));
    }

    #[test]
    fn bounds_of_the_histogram_have_equally_many_rows_between_them() {
        // Squares: half of them lie below a quarter of the greatest. Descending, so that the correlation is -1.
        let squares: ArrayRef = Arc::new((0..10_000).rev().map(|n| Some(n * n)).collect::<Int32Array>());
        let statistics = collect(&[squares], SqlType::Integer).unwrap();
        assert!(statistics.most_common.is_empty(), "no value is more frequent than another");
        let histogram = &statistics.histogram;
        let middle = &histogram[histogram.len() / 2];
        assert!(matches!(middle, Value::Integer(n) if (4_800 * 4_800..5_200 * 5_200).contains(n)), "{middle}");
        assert_eq!((&histogram[0], histogram.last()), (&statistics.min, Some(&statistics.max)));
        assert!((statistics.correlation + 1.0).abs() < 1e-6, "{}", statistics.correlation);
    }

    #[test]
    fn columns_that_go_together_are_counted_together() {
        // The second column is the first divided by ten: 100 combinations, not 1,000; every third row has (7, 0).
        let first: Vec<i32> = (0..900).map(|row| if row % 3 == 0 { 7 } else { row % 100 }).collect();
        let second: ArrayRef = Arc::new(first.iter().map(|value| Some(value / 10)).collect::<Int32Array>());
        let first: ArrayRef = Arc::new(Int32Array::from(first));
        let columns = [(0, SqlType::Integer), (2, SqlType::Integer)];
        let group = collect_group(&columns, &[(vec![first, second], 900)]).unwrap();
        assert_eq!((group.columns, group.rows), (vec![0, 2], 900));
        assert!((group.distinct - 100.0).abs() < 1e-9, "{}", group.distinct);
        assert_eq!(group.most_common[0].0, [Value::Integer(7), Value::Integer(0)]);
        // 300 rows by rule; of rows 7, 107, … 807, six are no multiples of three.
        assert!((group.most_common[0].1 - 306.0 / 900.0).abs() < 1e-9, "{}", group.most_common[0].1);
    }
}
