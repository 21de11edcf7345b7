use super::{Accumulator, GroupMap, Groups, same, small_sums};
use crate::diagnostic::{Error, Result, Span};
use crate::logical::{Aggregate, AggregateFunction};
use crate::types::{SqlType, approximate, power_of_ten};
use crate::{arithmetic::average, keys::integer_lanes, problem::Problem};
use arrow::array::{
    Array, ArrayRef, AsArray, Decimal128Array, DurationMicrosecondArray, Float64Array, Int64Array,
    IntervalYearMonthArray,
};
use arrow::compute;
use arrow::datatypes::{DataType, Decimal128Type, Float64Type};
use std::{any::Any, sync::Arc};

/// Whether two aggregates are computed from the same sums and counts: SUM and AVG of one exact argument.
pub fn share_state(a: &Aggregate, b: &Aggregate) -> bool {
    let is_sum = |aggregate: &Aggregate| {
        let is_exact = aggregate.arguments.first().is_some_and(|argument| !argument.sql_type().is_approximate());
        matches!(aggregate.function, AggregateFunction::Sum | AggregateFunction::Avg)
            && is_exact
            && !aggregate.distinct
            && aggregate.filter.is_none()
            && aggregate.order.is_empty()
    };
    is_sum(a) && is_sum(b) && a.arguments[0].same_as(&b.arguments[0])
}

/// SUM or AVG of numbers of a type; exact numbers are summed without rounding, so that the order of rows does not matter.
pub(super) fn accumulator(aggregate: &Aggregate, argument: SqlType) -> Box<dyn Accumulator> {
    let result = Finish::of(aggregate, argument);
    if argument.is_approximate() {
        Box::new(FloatSum { sums: Vec::new(), counts: Vec::new(), result })
    } else {
        Box::new(ExactSum { sums: Vec::new(), counts: Vec::new(), result })
    }
}

/// SUM or AVG of exact numbers from the sum and the number of values of each group.
///
/// # Errors
/// 22003 when a result does not fit its type.
pub(super) fn finished(
    aggregate: &Aggregate,
    argument: SqlType,
    sums: Vec<i128>,
    counts: Vec<i64>,
) -> Result<ArrayRef> {
    let groups = sums.len();
    Box::new(ExactSum { sums, counts, result: Finish::of(aggregate, argument) }).finish(groups)
}

/// How sums and counts become results.
#[derive(Clone, Copy, Debug)]
struct Finish {
    average: bool,
    /// Fractional digits of the argument.
    scale: u8,
    sql_type: SqlType,
    span: Span,
}

impl Finish {
    fn of(aggregate: &Aggregate, argument: SqlType) -> Self {
        Self {
            average: aggregate.function == AggregateFunction::Avg,
            scale: argument.digits().map_or(0, |(_, scale)| scale),
            sql_type: aggregate.sql_type,
            span: aggregate.span,
        }
    }

    fn overflow(&self) -> Error {
        Error::from_facts(&Problem::Overflow(self.sql_type)).at(self.span)
    }
}

/// `SUM` and `AVG` of integers, decimals and intervals, in 128 bits; NULL for a group without values.
#[derive(Debug)]
struct ExactSum {
    sums: Vec<i128>,
    counts: Vec<i64>,
    result: Finish,
}

impl ExactSum {
    fn resize(&mut self, groups: usize) {
        self.sums.resize(self.sums.len().max(groups), 0);
        self.counts.resize(self.sums.len(), 0);
    }

    /// 64-bit lanes cannot overflow 128 bits within 2^64 rows, so this loop does not check.
    fn add_narrow(&mut self, groups: Groups<'_>, lanes: &[i64], array: &ArrayRef) {
        let nulls = array.nulls().filter(|nulls| nulls.null_count() > 0);
        match (groups, nulls) {
            (Groups::One { rows }, None) => {
                self.sums[0] += total(lanes);
                self.counts[0] += i64::try_from(rows).unwrap_or(i64::MAX);
            }
            (Groups::One { .. }, Some(nulls)) => {
                for row in nulls.valid_indices() {
                    self.sums[0] += i128::from(lanes[row]);
                }
                self.counts[0] += i64::try_from(lanes.len() - nulls.null_count()).unwrap_or(i64::MAX);
            }
            (Groups::Each { ids, .. }, None) if small_sums::add(ids, lanes, (&mut self.sums, &mut self.counts)) => {}
            (Groups::Each { ids, .. }, None) => {
                for (id, value) in ids.iter().zip(lanes) {
                    self.sums[*id as usize] += i128::from(*value);
                    self.counts[*id as usize] += 1;
                }
            }
            (Groups::Each { ids, .. }, Some(nulls)) => {
                for row in nulls.valid_indices() {
                    self.sums[ids[row] as usize] += i128::from(lanes[row]);
                    self.counts[ids[row] as usize] += 1;
                }
            }
        }
    }

    /// 128-bit lanes: whether some sum did not fit is asked once.
    fn add_wide(&mut self, groups: Groups<'_>, array: &Decimal128Array) -> Result<()> {
        if let (Groups::Each { ids, .. }, 0) = (groups, array.null_count())
            && self.sums.len() <= small_sums::MOST_GROUPS
            && let Some(lanes) = narrow_lanes(array.values())
            && small_sums::add(ids, &lanes, (&mut self.sums, &mut self.counts))
        {
            return Ok(());
        }
        let mut has_overflown = false;
        let mut add = |group: usize, value: i128| {
            let (sum, overflow) = self.sums[group].overflowing_add(value);
            self.sums[group] = sum;
            self.counts[group] += 1;
            has_overflown |= overflow;
        };
        let (values, nulls) = (array.values(), array.nulls().filter(|nulls| nulls.null_count() > 0));
        match (groups, nulls) {
            (Groups::One { .. }, None) => values.iter().for_each(|value| add(0, *value)),
            (Groups::One { .. }, Some(nulls)) => nulls.valid_indices().for_each(|row| add(0, values[row])),
            (Groups::Each { ids, .. }, None) => {
                ids.iter().zip(values).for_each(|(id, value)| add(*id as usize, *value))
            }
            (Groups::Each { ids, .. }, Some(nulls)) => {
                nulls.valid_indices().for_each(|row| add(ids[row] as usize, values[row]));
            }
        }
        if has_overflown { Err(self.result.overflow()) } else { Ok(()) }
    }

    fn add(&mut self, group: usize, value: i128, count: i64) -> Result<()> {
        let sum = self.sums[group].checked_add(value).ok_or_else(|| self.result.overflow())?;
        self.sums[group] = sum;
        self.counts[group] += count;
        Ok(())
    }
}

/// The sum of lanes: high and low halves are summed apart, in 64 bits each, which vectorises.
fn total(lanes: &[i64]) -> i128 {
    lanes
        .chunks(1 << 20)
        .map(|chunk| {
            let high: i64 = chunk.iter().map(|value| value >> 32).sum();
            let low: i64 = chunk.iter().map(|value| value & 0xffff_ffff).sum();
            (i128::from(high) << 32) + i128::from(low)
        })
        .sum()
}

impl Accumulator for ExactSum {
    fn update(&mut self, groups: Groups<'_>, inputs: &[ArrayRef]) -> Result<()> {
        self.resize(groups.count());
        let Some(array) = inputs.first() else { return Ok(()) };
        if let Some(lanes) = integer_lanes(array) {
            self.add_narrow(groups, &lanes, array);
        } else if matches!(array.data_type(), DataType::Decimal128(..)) {
            self.add_wide(groups, array.as_primitive::<Decimal128Type>())?;
        }
        Ok(())
    }

    fn merge(&mut self, other: &dyn Accumulator, GroupMap { from, to }: GroupMap<'_>, groups: usize) -> Result<()> {
        let other = same::<Self>(other)?;
        self.resize(groups);
        for (from, to) in from.iter().zip(to) {
            if let Some(sum) = other.sums.get(*from as usize) {
                self.add(*to as usize, *sum, other.counts[*from as usize])?;
            }
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, groups: usize) -> Result<ArrayRef> {
        self.resize(groups);
        let result = self.result;
        if let (SqlType::Numeric { precision, scale }, false) = (result.sql_type, result.average) {
            // A group without values has the sum 0.
            fit(&self.sums, precision).then_some(()).ok_or_else(|| result.overflow())?;
            let nulls = self.counts.contains(&0).then(|| self.counts.iter().map(|count| *count > 0).collect());
            let sums = Decimal128Array::new(self.sums.into(), nulls);
            return Ok(Arc::new(sums.with_precision_and_scale(precision, scale.cast_signed())?));
        }
        let to = result.sql_type.digits().map_or(0, |(_, scale)| scale);
        let value = |(sum, count): (&i128, &i64)| match (count, result.average) {
            (0, _) => Ok(None),
            (_, false) => Ok(Some(*sum)),
            (count, true) => average(*sum, *count, result.scale, to).map(Some).ok_or_else(|| result.overflow()),
        };
        let values = self.sums.iter().zip(&self.counts).map(value).collect::<Result<Vec<Option<i128>>>>()?;
        exact_array(&values, result)
    }

    fn finishing_as(&self, aggregate: &Aggregate) -> Option<Box<dyn Accumulator>> {
        let argument = aggregate.arguments.first()?.sql_type();
        let (sums, counts) = (self.sums.clone(), self.counts.clone());
        Some(Box::new(Self { sums, counts, result: Finish::of(aggregate, argument) }))
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn bytes(&self) -> usize {
        self.sums.capacity() * 24
    }
}

/// Values of 128 bits that all fit 64.
fn narrow_lanes(values: &[i128]) -> Option<Vec<i64>> {
    let bits = values.iter().fold(0, |bits, value| bits | (value ^ (value >> 127)));
    #[expect(clippy::cast_possible_truncation, reason = "all values fit")]
    (bits >> 63 == 0).then(|| values.iter().map(|value| *value as i64).collect())
}

/// Whether values have no more digits than that: past 38 nothing is held.
fn fit(values: &[i128], precision: u8) -> bool {
    let limit = power_of_ten(precision).unwrap_or(i128::MAX);
    values.iter().all(|value| -limit < *value && *value < limit)
}

fn exact_array(values: &[Option<i128>], result: Finish) -> Result<ArrayRef> {
    let narrow = |value: &Option<i128>| value.map(i64::try_from).transpose().map_err(|_| result.overflow());
    if let SqlType::Numeric { precision, scale } = result.sql_type {
        if !values.iter().flatten().all(|value| fit(&[*value], precision)) {
            return Err(result.overflow());
        }
        let sums = values
            .iter()
            .copied()
            .collect::<Decimal128Array>()
            .with_precision_and_scale(precision, scale.cast_signed())?;
        return Ok(Arc::new(sums));
    }
    if result.sql_type == SqlType::YearMonth {
        let months = |value: &Option<i128>| value.map(i32::try_from).transpose().map_err(|_| result.overflow());
        let sums = values.iter().map(months).collect::<Result<Vec<_>>>()?;
        return Ok(Arc::new(sums.into_iter().collect::<IntervalYearMonthArray>()));
    }
    let sums = values.iter().map(narrow).collect::<Result<Vec<_>>>()?.into_iter();
    Ok(if result.sql_type == SqlType::DayTime {
        Arc::new(sums.collect::<DurationMicrosecondArray>())
    } else {
        Arc::new(sums.collect::<Int64Array>())
    })
}

/// `SUM` and `AVG` of REAL and DOUBLE PRECISION, in 64 bits.
#[derive(Debug)]
struct FloatSum {
    sums: Vec<f64>,
    counts: Vec<i64>,
    result: Finish,
}

impl FloatSum {
    fn resize(&mut self, groups: usize) {
        self.sums.resize(self.sums.len().max(groups), 0.0);
        self.counts.resize(self.sums.len(), 0);
    }
}

impl Accumulator for FloatSum {
    fn update(&mut self, groups: Groups<'_>, inputs: &[ArrayRef]) -> Result<()> {
        self.resize(groups.count());
        let Some(array) = inputs.first() else { return Ok(()) };
        let array = compute::cast(array, &DataType::Float64)?;
        for (row, value) in array.as_primitive::<Float64Type>().iter().enumerate() {
            let group = if let Groups::Each { ids, .. } = groups { ids[row] as usize } else { 0 };
            if let Some(value) = value {
                self.sums[group] += value;
                self.counts[group] += 1;
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: &dyn Accumulator, GroupMap { from, to }: GroupMap<'_>, groups: usize) -> Result<()> {
        let other = same::<Self>(other)?;
        self.resize(groups);
        for (from, to) in from.iter().zip(to) {
            if let Some(sum) = other.sums.get(*from as usize) {
                self.sums[*to as usize] += sum;
                self.counts[*to as usize] += other.counts[*from as usize];
            }
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, groups: usize) -> Result<ArrayRef> {
        self.resize(groups);
        let mut values = Vec::with_capacity(groups);
        for (sum, count) in self.sums.iter().zip(&self.counts) {
            let value = if self.result.average { sum / approximate(*count) } else { *sum };
            if *count > 0 && !value.is_finite() {
                return Err(self.result.overflow());
            }
            values.push((*count > 0).then_some(value));
        }
        Ok(Arc::new(Float64Array::from(values)))
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn bytes(&self) -> usize {
        self.sums.capacity() * 16
    }
}

#[cfg(test)]
mod tests {
    use super::total;

    #[test]
    fn halves_add_up() {
        let cases: [&[i64]; 5] =
            [&[], &[i64::MIN, i64::MIN], &[i64::MAX; 9], &[-1, 1, -5_000_000_000], &[i64::MIN, i64::MAX]];
        for lanes in cases {
            assert_eq!(total(lanes), lanes.iter().map(|value| i128::from(*value)).sum(), "{lanes:?}");
        }
    }
}
