//! Aggregates that need all rows of a group, in order: LISTAGG, `ARRAY_AGG`, the inverse distribution functions, MODE and the
//! hypothetical-set functions (clause 10.9). Rows are kept until the end, then sorted by group and order. O(n log n).

use super::{Accumulator, GroupMap, Groups, moved, same};
use crate::composite::list_of;
use crate::diagnostic::{Error, Result};
use crate::keys::{from_integer_lanes, integer_lanes};
use crate::logical::{Aggregate, AggregateFunction as A, HypotheticalFunction as H, Overflow};
use crate::types::{SqlType, approximate, index};
use crate::{Batch, problem::Problem, sort_options};
use arrow::array::{
    Array, ArrayRef, AsArray, Float64Array, Int64Array, StringViewBuilder, UInt32Array, new_null_array,
};
use arrow::buffer::OffsetBuffer;
use arrow::compute;
use arrow::datatypes::Float64Type;
use arrow::row::{RowConverter, Rows, SortField};
use std::ops::Range;
use std::{any::Any, sync::Arc};

/// What finishing takes, as times what is held.
const COPIES: usize = 2;

/// Characters of a LISTAGG at most.
const MOST_CHARACTERS: usize = 65_535;

#[derive(Debug)]
pub(super) struct Ordered {
    aggregate: Aggregate,
    /// For each batch the groups of its rows and the inputs: arguments, then what is ordered by.
    batches: Vec<(Vec<u32>, Vec<ArrayRef>)>,
    /// Bytes of these.
    held: usize,
}

impl Ordered {
    /// An aggregate that needs all rows of a group before its first value: `WITHIN GROUP`, or ORDER BY in its arguments.
    pub(super) fn new(aggregate: &Aggregate) -> Self {
        Self { aggregate: aggregate.clone(), batches: Vec::new(), held: 0 }
    }

    fn keep(&mut self, ids: Vec<u32>, inputs: Vec<ArrayRef>) {
        // Batches may share their buffers: of each only its own rows count.
        let batch = Batch::new(inputs, ids.len());
        self.held += ids.len() * 4 + batch.bytes();
        self.batches.push((ids, batch.columns));
    }

    /// All rows in the order of their groups and, within, of the keys: the inputs, and where each group lies.
    fn sorted(&self, groups: usize) -> Result<(Vec<ArrayRef>, Vec<Range<usize>>)> {
        // The rows in one piece, their keys, and the rows in their order.
        crate::control::reserve(COPIES * self.bytes(), 1)?;
        let ids: Vec<u32> = self.batches.iter().flat_map(|(ids, _)| ids.iter().copied()).collect();
        let width = self.batches.first().map_or(0, |(_, inputs)| inputs.len());
        let mut inputs = Vec::with_capacity(width);
        for at in 0..width {
            let parts: Vec<&dyn Array> = self.batches.iter().map(|(_, inputs)| inputs[at].as_ref()).collect();
            inputs.push(compute::concat(&parts)?);
        }
        let keys = self.keys(&inputs)?;
        let mut order: Vec<u32> = (0..index(ids.len())).collect();
        crate::control::sort_by(&mut order, |a, b| {
            let (a, b) = (*a as usize, *b as usize);
            let by_key = || keys.as_ref().map_or(std::cmp::Ordering::Equal, |keys| keys.row(a).cmp(&keys.row(b)));
            ids[a].cmp(&ids[b]).then_with(by_key).then_with(|| a.cmp(&b))
        })?;
        let mut ranges = vec![0..0; groups];
        let mut start = 0;
        for end in 1..=order.len() {
            if end == order.len() || ids[order[end] as usize] != ids[order[start] as usize] {
                if let Some(range) = ranges.get_mut(ids[order[start] as usize] as usize) {
                    *range = start..end;
                }
                start = end;
            }
        }
        let order = UInt32Array::from(order);
        let inputs = inputs.iter().map(|input| compute::take(input, &order, None)).collect::<Result<_, _>>()?;
        Ok((inputs, ranges))
    }

    fn fields(&self) -> Vec<SortField> {
        let key =
            |key: &crate::logical::SortKey| SortField::new_with_options(key.expr.sql_type().arrow(), sort_options(key));
        self.aggregate.order.iter().map(key).collect()
    }

    /// The encoded order of rows: what is ordered by, or for MIN, MAX and `ANY_VALUE` the argument itself.
    fn keys(&self, inputs: &[ArrayRef]) -> Result<Option<Rows>> {
        if inputs.is_empty() {
            return Ok(None);
        }
        let (fields, columns) = if matches!(self.aggregate.function, A::Min | A::Max | A::AnyValue) {
            let options = compute::SortOptions { descending: self.aggregate.function == A::Max, nulls_first: false };
            (vec![SortField::new_with_options(inputs[0].data_type().clone(), options)], &inputs[..1])
        } else {
            (self.fields(), &inputs[self.aggregate.arguments.len()..])
        };
        if fields.is_empty() { Ok(None) } else { Ok(Some(RowConverter::new(fields)?.convert_columns(columns)?)) }
    }

    /// The places of the group's rows in which `values` is not NULL.
    fn present(values: &ArrayRef, range: Range<usize>) -> Vec<usize> {
        range.filter(|row| values.is_valid(*row)).collect()
    }

    /// Of each run of equal values the first place only, when DISTINCT asks for it.
    fn different(&self, values: &ArrayRef, rows: Vec<usize>) -> Result<Vec<usize>> {
        if !self.aggregate.distinct {
            return Ok(rows);
        }
        let encoded = RowConverter::new(vec![SortField::new(values.data_type().clone())])?
            .convert_columns(std::slice::from_ref(values))?;
        let mut seen = std::collections::HashSet::new();
        Ok(rows.into_iter().filter(|row| seen.insert(encoded.row(*row).as_ref().to_vec())).collect())
    }

    fn list(&self, inputs: &[ArrayRef], ranges: &[Range<usize>]) -> Result<ArrayRef> {
        let (values, separators) = (inputs[0].as_string_view(), inputs[1].as_string_view());
        let mut builder = StringViewBuilder::new();
        for range in ranges {
            let rows = self.different(&inputs[0], Self::present(&inputs[0], range.clone()))?;
            if rows.is_empty() {
                builder.append_null();
                continue;
            }
            let mut text = String::new();
            let mut length = 0;
            for (at, row) in rows.iter().enumerate() {
                let separator = if at == 0 || separators.is_null(*row) { "" } else { separators.value(*row) };
                length += separator.chars().count() + values.value(*row).chars().count();
                if length > MOST_CHARACTERS {
                    text.push_str(&self.overflow(separator, rows.len() - at)?);
                    break;
                }
                text.push_str(separator);
                text.push_str(values.value(*row));
            }
            builder.append_value(&text);
        }
        Ok(Arc::new(builder.finish()))
    }

    /// What appears instead of the values that do not fit.
    fn overflow(&self, separator: &str, left_out: usize) -> Result<String> {
        match &self.aggregate.overflow {
            Overflow::Error => {
                Err(Error::from_facts(&Problem::ListTooLong { most: MOST_CHARACTERS }).at(self.aggregate.span))
            }
            Overflow::Truncate { filler, with_count: true } => Ok(format!("{separator}{filler}({left_out})")),
            Overflow::Truncate { filler, with_count: false } => Ok(format!("{separator}{filler}")),
        }
    }

    fn array(&self, inputs: &[ArrayRef], ranges: &[Range<usize>]) -> Result<ArrayRef> {
        let SqlType::Array(element) = self.aggregate.sql_type else {
            return Ok(new_null_array(&self.aggregate.sql_type.arrow(), ranges.len()));
        };
        let mut rows: Vec<u32> = Vec::new();
        let mut lengths = Vec::with_capacity(ranges.len());
        for range in ranges {
            let kept = self.different(&inputs[0], range.clone().collect())?;
            lengths.push(kept.len());
            rows.extend(kept.into_iter().map(index));
        }
        let values = compute::take(&inputs[0], &UInt32Array::from(rows), None)?;
        let lists = list_of(values, OffsetBuffer::from_lengths(lengths.iter().copied()), *element);
        let empty = lengths.iter().map(|length| Some(*length == 0)).collect();
        Ok(compute::nullif(&lists, &empty)?)
    }

    /// The share asked for, of the group's first row; it is the same for all rows.
    fn share(&self, inputs: &[ArrayRef], range: &Range<usize>) -> Result<Option<f64>> {
        let shares = inputs[0].as_primitive::<Float64Type>();
        if range.is_empty() || shares.is_null(range.start) {
            return Ok(None);
        }
        let share = shares.value(range.start);
        if (0.0..=1.0).contains(&share) {
            return Ok(Some(share));
        }
        Err(Error::from_facts(&Problem::BadShare { share: share.to_string() }).at(self.aggregate.span))
    }

    /// `PERCENTILE_CONT`: the value at the share, between its two neighbours in proportion.
    fn percentile_cont(&self, inputs: &[ArrayRef], ranges: &[Range<usize>]) -> Result<ArrayRef> {
        let values = &inputs[1];
        let lanes = integer_lanes(values);
        let number = |row: usize| match &lanes {
            Some(lanes) => approximate(lanes[row]),
            None => values.as_primitive::<Float64Type>().value(row),
        };
        let mut results: Vec<Option<f64>> = Vec::new();
        for range in ranges {
            let rows = Self::present(values, range.clone());
            let share = self.share(inputs, range)?;
            results.push(match (share, rows.len()) {
                (None, _) | (_, 0) => None,
                (Some(share), count) => {
                    let place = share * approximate(count - 1);
                    let (low, high) = (floor_index(place), floor_index(place.ceil()).min(count - 1));
                    let (a, b) = (number(rows[low]), number(rows[high]));
                    let (way, part) = (b - a, place - place.floor());
                    // Two numbers may lie further apart than the largest one is from zero.
                    Some(if way.is_finite() { a + way * part } else { a * (1.0 - part) + b * part })
                }
            });
        }
        if self.aggregate.sql_type == SqlType::Double {
            return Ok(Arc::new(Float64Array::from(results)));
        }
        let nulls = results.iter().map(Option::is_some).collect();
        #[expect(clippy::cast_possible_truncation, reason = "between two values of the type")]
        let lanes = results.iter().map(|value| value.unwrap_or(0.0).round() as i64).collect();
        Ok(from_integer_lanes(lanes, Some(nulls), &self.aggregate.sql_type.arrow()))
    }

    /// One row of each group, or none.
    fn pick(values: &ArrayRef, picked: Vec<Option<usize>>) -> Result<ArrayRef> {
        let rows: UInt32Array = picked.into_iter().map(|row| row.map(index)).collect();
        Ok(compute::take(values, &rows, None)?)
    }

    fn percentile_disc(&self, inputs: &[ArrayRef], ranges: &[Range<usize>]) -> Result<ArrayRef> {
        let mut picked = Vec::new();
        for range in ranges {
            let rows = Self::present(&inputs[1], range.clone());
            let share = self.share(inputs, range)?;
            picked.push(share.and_then(|share| {
                // The first value with at least this share of all values up to it.
                let place = floor_index((share * approximate(rows.len())).ceil());
                rows.get(place.max(1) - 1).copied()
            }));
        }
        Self::pick(&inputs[1], picked)
    }

    /// The most common value; among equally frequent ones the first in the order.
    fn mode(inputs: &[ArrayRef], ranges: &[Range<usize>]) -> Result<ArrayRef> {
        let values = &inputs[0];
        let equal = arrow::array::make_comparator(values, values, compute::SortOptions::default())?;
        let mut picked = Vec::new();
        for range in ranges {
            let rows = Self::present(values, range.clone());
            let mut best: Option<(usize, usize)> = None;
            let mut start = 0;
            for end in 1..=rows.len() {
                if end == rows.len() || equal(rows[start], rows[end]).is_ne() {
                    if best.is_none_or(|(_, count)| end - start > count) {
                        best = Some((rows[start], end - start));
                    }
                    start = end;
                }
            }
            picked.push(best.map(|(row, _)| row));
        }
        Self::pick(values, picked)
    }

    /// The place that a row of the arguments would have among the rows of the group.
    fn hypothetical(&self, inputs: &[ArrayRef], ranges: &[Range<usize>]) -> Result<ArrayRef> {
        let (row, keys) = inputs.split_at(self.aggregate.arguments.len());
        let converter = RowConverter::new(self.fields())?;
        let (row, keys) = (converter.convert_columns(row)?, converter.convert_columns(keys)?);
        let mut whole = Vec::new();
        let mut shares = Vec::new();
        for range in ranges {
            let wanted = |at: usize| keys.row(at).cmp(&row.row(range.start));
            let before = range.clone().filter(|at| wanted(*at).is_lt()).count();
            let up_to = range.clone().filter(|at| wanted(*at).is_le()).count();
            let different = range
                .clone()
                .filter(|at| wanted(*at).is_lt() && (*at == range.start || keys.row(*at) != keys.row(at - 1)));
            let count = range.len();
            whole.push(
                i64::from(index(if self.aggregate.function == A::Hypothetical(H::DenseRank) {
                    different.count()
                } else {
                    before
                })) + 1,
            );
            shares.push(if self.aggregate.function == A::Hypothetical(H::CumeDist) {
                approximate(up_to + 1) / approximate(count + 1)
            } else if count == 0 {
                0.0
            } else {
                approximate(before) / approximate(count)
            });
        }
        Ok(if self.aggregate.sql_type == SqlType::Double {
            Arc::new(Float64Array::from(shares))
        } else {
            Arc::new(Int64Array::from(whole))
        })
    }
}

/// A place that is known to be a small integer.
#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a place among the rows of a group")]
fn floor_index(place: f64) -> usize {
    place.max(0.0) as usize
}

impl Accumulator for Ordered {
    fn update(&mut self, groups: Groups<'_>, inputs: &[ArrayRef]) -> Result<()> {
        let rows = inputs.first().map_or(0, |input| input.len());
        let ids = match groups {
            Groups::One { .. } => vec![0; rows],
            Groups::Each { ids, .. } => ids.to_vec(),
        };
        self.keep(ids, inputs.to_vec());
        Ok(())
    }

    fn merge(&mut self, other: &dyn Accumulator, pairs: GroupMap<'_>, _: usize) -> Result<()> {
        let other = same::<Self>(other)?;
        for (ids, inputs) in &other.batches {
            let (groups, rows) = moved(ids.iter().map(|id| *id as usize), pairs);
            let inputs = if groups.len() == ids.len() {
                inputs.clone()
            } else {
                inputs.iter().map(|input| compute::take(input, &rows, None)).collect::<Result<_, _>>()?
            };
            if !groups.is_empty() {
                self.keep(groups, inputs);
            }
        }
        Ok(())
    }

    fn is_mergeable(&self) -> bool {
        false
    }

    fn finish(self: Box<Self>, groups: usize) -> Result<ArrayRef> {
        let function = self.aggregate.function;
        if self.batches.is_empty() {
            let A::Hypothetical(function) = function else {
                return Ok(new_null_array(&self.aggregate.sql_type.arrow(), groups));
            };
            return Ok(match function {
                H::Rank | H::DenseRank => Arc::new(Int64Array::from(vec![1; groups])),
                H::PercentRank => Arc::new(Float64Array::from(vec![0.0; groups])),
                H::CumeDist => Arc::new(Float64Array::from(vec![1.0; groups])),
            });
        }
        let (inputs, ranges) = self.sorted(groups)?;
        match function {
            A::ListAgg => self.list(&inputs, &ranges),
            A::ArrayAgg => self.array(&inputs, &ranges),
            A::PercentileCont => self.percentile_cont(&inputs, &ranges),
            A::PercentileDisc => self.percentile_disc(&inputs, &ranges),
            A::Mode => Self::mode(&inputs, &ranges),
            A::Min | A::Max | A::AnyValue => {
                let first = |range: &Range<usize>| Self::present(&inputs[0], range.clone()).first().copied();
                Self::pick(&inputs[0], ranges.iter().map(first).collect())
            }
            A::Hypothetical(_) => self.hypothetical(&inputs, &ranges),
            A::CountRows
            | A::Count
            | A::Sum
            | A::Avg
            | A::Every
            | A::Any
            | A::Moment(_)
            | A::BitAnd
            | A::BitOr
            | A::Program => Err(Error::from_facts(&Problem::Internal("an aggregate that needs an order was expected"))),
        }
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn bytes(&self) -> usize {
        self.held
    }
}
