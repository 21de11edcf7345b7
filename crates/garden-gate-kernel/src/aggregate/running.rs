//! SUM, AVG and COUNT over frames as differences of running sums: exact numbers lose nothing by it.
//!
//! ```text
//! value     5   3   –   4        – is NULL
//! sums    0   5   8   8   12     of the rows before
//! counts  0   1   2   2    3     a frame of the last three rows: 12 − 5 of 3 − 1 values
//! ```

use super::sum;
use crate::diagnostic::Result;
use crate::integer_lanes;
use crate::logical::{Aggregate, AggregateFunction};
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, Int64Array};
use arrow::datatypes::{DataType, Decimal128Type};
use std::ops::Range;
use std::sync::Arc;

/// The value for each frame, which is some runs of rows; `None` for other aggregates, for numbers that are rounded, and where a running sum
/// does not fit 128 bits. O(rows), where partial results of blocks cost O(log rows) a row (bench `grouping`).
///
/// # Errors
/// 22003 when a result does not fit its type.
pub(crate) fn of_frames<const RUNS: usize>(
    aggregate: &Aggregate,
    (inputs, filter): (&[ArrayRef], Option<&BooleanArray>),
    frames: &[[Range<usize>; RUNS]],
) -> Result<Option<ArrayRef>> {
    if aggregate.distinct || !aggregate.order.is_empty() {
        return Ok(None);
    }
    let is_sum = match aggregate.function {
        AggregateFunction::Count | AggregateFunction::CountRows => false,
        AggregateFunction::Sum | AggregateFunction::Avg => true,
        AggregateFunction::Min
        | AggregateFunction::Max
        | AggregateFunction::Every
        | AggregateFunction::Any
        | AggregateFunction::AnyValue
        | AggregateFunction::BitAnd
        | AggregateFunction::BitOr
        | AggregateFunction::ListAgg
        | AggregateFunction::ArrayAgg
        | AggregateFunction::PercentileCont
        | AggregateFunction::PercentileDisc
        | AggregateFunction::Mode
        | AggregateFunction::Moment(_)
        | AggregateFunction::Hypothetical(_)
        | AggregateFunction::Program => return Ok(None),
    };
    let rows = inputs.first().map_or(frames.len(), |input| input.len());
    let input = inputs.first();
    let counts = |row: usize| {
        input.is_none_or(|input| input.is_valid(row))
            && filter.is_none_or(|filter| filter.is_valid(row) && filter.value(row))
    };
    let counted = running(rows, |row| i64::from(counts(row)), i64::checked_add);
    let counted = counted.and_then(|counted| of_runs(&counted, frames, i64::checked_sub, i64::checked_add));
    let Some(counted) = counted else { return Ok(None) };
    if !is_sum {
        return Ok(Some(Arc::new(Int64Array::from(counted))));
    }
    let (Some(input), Some(argument)) = (input, aggregate.arguments.first()) else { return Ok(None) };
    let sums = if argument.sql_type().is_approximate() {
        None
    } else if let Some(lanes) = integer_lanes(input) {
        running(rows, |row| if counts(row) { i128::from(lanes[row]) } else { 0 }, i128::checked_add)
    } else if let DataType::Decimal128(..) = input.data_type() {
        let values = input.as_primitive::<Decimal128Type>().values();
        running(rows, |row| if counts(row) { values[row] } else { 0 }, i128::checked_add)
    } else {
        None
    };
    let sums = sums.and_then(|sums| of_runs(&sums, frames, i128::checked_sub, i128::checked_add));
    sums.map(|sums| sum::finished(aggregate, argument.sql_type(), sums, counted)).transpose()
}

/// The sums of the rows before each row, and of all; `None` when one does not fit.
fn running<T: Copy + Default>(
    rows: usize,
    value: impl Fn(usize) -> T,
    add: impl Fn(T, T) -> Option<T>,
) -> Option<Vec<T>> {
    let mut sums = Vec::with_capacity(rows + 1);
    let mut sum = T::default();
    sums.push(sum);
    for row in 0..rows {
        sum = add(sum, value(row))?;
        sums.push(sum);
    }
    Some(sums)
}

/// What the runs of each frame sum up to; `None` when a difference does not fit.
fn of_runs<T: Copy + Default, const RUNS: usize>(
    sums: &[T],
    frames: &[[Range<usize>; RUNS]],
    subtract: impl Fn(T, T) -> Option<T>,
    add: impl Fn(T, T) -> Option<T>,
) -> Option<Vec<T>> {
    let of = |run: &Range<usize>| subtract(sums[run.end], sums[run.start]);
    let of_frame = |frame: &[Range<usize>; RUNS]| frame.iter().try_fold(T::default(), |sum, run| add(sum, of(run)?));
    frames.iter().map(of_frame).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnostic::Span;
    use crate::logical::{Expr, ExprKind};
    use crate::types::SqlType;
    use arrow::array::{Decimal128Array, Int32Array};

    fn aggregate(function: AggregateFunction, sql_type: SqlType) -> Aggregate {
        let argument = Expr::new(ExprKind::Slot(0), SqlType::Integer, Span::default());
        Aggregate::plain(function, Some(argument), sql_type, Span::default())
    }

    #[test]
    fn frames_are_differences_of_running_sums() {
        let values = [Some(5), Some(3), None, Some(4), Some(-9), Some(2)];
        let input: ArrayRef = Arc::new(Int32Array::from(values.to_vec()));
        let filter = BooleanArray::from(vec![true, true, true, false, true, true]);
        // All sorts of frames: nothing, one run, two with a row between them, and all rows.
        let frames: Vec<[Range<usize>; 2]> = (0..=6)
            .flat_map(|to| (0..=to).map(move |from| [from..(from + 1).min(to), (from + 2).min(to)..to]))
            .collect();
        for filter in [None, Some(&filter)] {
            let counts = |row: &usize| values[*row].is_some() && filter.is_none_or(|filter| filter.value(*row));
            let rows =
                |frame: &[Range<usize>; 2]| frame.iter().cloned().flatten().filter(counts).collect::<Vec<usize>>();
            let expected: Vec<Option<i64>> = frames
                .iter()
                .map(|frame| {
                    rows(frame)
                        .iter()
                        .map(|row| values[*row].map(i64::from))
                        .sum::<Option<i64>>()
                        .filter(|_| !rows(frame).is_empty())
                })
                .collect();
            let inputs = std::slice::from_ref(&input);
            let sum = aggregate(AggregateFunction::Sum, SqlType::BigInt);
            let found = of_frames(&sum, (inputs, filter), &frames).unwrap().unwrap();
            assert_eq!(found.as_ref(), &Int64Array::from(expected) as &dyn Array);
            let count = aggregate(AggregateFunction::Count, SqlType::BigInt);
            let found = of_frames(&count, (inputs, filter), &frames).unwrap().unwrap();
            let expected: Vec<i64> = frames.iter().map(|frame| i64::try_from(rows(frame).len()).unwrap()).collect();
            assert_eq!(found.as_ref(), &Int64Array::from(expected) as &dyn Array);
        }
    }

    #[test]
    fn what_does_not_fit_is_left_to_others() {
        let most = 10_i128.pow(38) - 1;
        let input: ArrayRef = Arc::new(Decimal128Array::from(vec![most; 3]).with_precision_and_scale(38, 0).unwrap());
        let argument = Expr::new(ExprKind::Slot(0), SqlType::numeric(38, 0), Span::default());
        let sum = Aggregate::plain(AggregateFunction::Sum, Some(argument), SqlType::numeric(38, 0), Span::default());
        let frames = [[0..1, 0..0], [1..2, 0..0], [2..3, 0..0]];
        assert!(of_frames(&sum, (&[input], None), &frames).unwrap().is_none(), "two of them are past 128 bits");
        let max = aggregate(AggregateFunction::Max, SqlType::Integer);
        let input: ArrayRef = Arc::new(Int32Array::from(vec![1, 2, 3]));
        assert!(of_frames(&max, (&[input], None), &frames).unwrap().is_none());
    }
}
