use super::{Accumulator, GroupMap, Groups, same};
use crate::diagnostic::Result;
use crate::keys::{from_integer_lanes, integer_lanes};
use crate::types::SqlType;
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, PrimitiveArray, StringViewArray};
use arrow::buffer::NullBuffer;
use arrow::datatypes::{ArrowPrimitiveType, DataType, Decimal128Type, Float32Type, Float64Type};
use std::{any::Any, sync::Arc};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Extremum {
    Least,
    Greatest,
}

/// Whether values of the type are compared here; others are by their sorted order.
pub(super) fn is_simple(argument: SqlType) -> bool {
    !argument.is_binary()
        && !matches!(argument, SqlType::Uuid | SqlType::IpAddress | SqlType::Array(_) | SqlType::Row(_))
}

/// `MIN` and `MAX`: the argument's type, NULL for a group without values.
pub(super) fn accumulator(argument: SqlType, keep: Extremum) -> Box<dyn Accumulator> {
    let data_type = argument.arrow();
    if integer_lanes(&arrow::array::new_empty_array(&data_type)).is_some() {
        return Box::new(Extreme::<i64> { best: Vec::new(), keep, data_type });
    }
    if argument == SqlType::Boolean {
        Box::new(Extreme::<bool> { best: Vec::new(), keep, data_type })
    } else if matches!(argument, SqlType::Numeric { .. }) {
        Box::new(Extreme::<i128> { best: Vec::new(), keep, data_type })
    } else if argument.is_approximate() {
        Box::new(Extreme::<f64> { best: Vec::new(), keep, data_type })
    } else {
        Box::new(Extreme::<Box<str>> { best: Vec::new(), keep, data_type })
    }
}

struct Extreme<V> {
    best: Vec<Option<V>>,
    keep: Extremum,
    data_type: DataType,
}

/// How values of one kind are compared and moved between arrays.
trait Kind: Sized + Send + Sync + 'static {
    /// The value as read from an array, before it is kept.
    type Item<'a>;
    fn beats(seen: &Self::Item<'_>, best: &Self, keep: Extremum) -> bool;
    fn own(seen: Self::Item<'_>) -> Self;
    fn lend(&self) -> Self::Item<'_>;
    fn each(array: &ArrayRef, visit: impl FnMut(usize, Self::Item<'_>));
    fn array(best: Vec<Option<Self>>, data_type: &DataType) -> ArrayRef;
}

fn ordered<T: PartialOrd>(a: &T, b: &T, keep: Extremum) -> bool {
    match keep {
        Extremum::Least => a < b,
        Extremum::Greatest => a > b,
    }
}

fn visit_valid<T>(array: &ArrayRef, lanes: &[T], mut visit: impl FnMut(usize, &T)) {
    match array.nulls().filter(|nulls| nulls.null_count() > 0) {
        None => lanes.iter().enumerate().for_each(|(row, value)| visit(row, value)),
        Some(nulls) => nulls.valid_indices().for_each(|row| visit(row, &lanes[row])),
    }
}

impl Kind for i64 {
    type Item<'a> = i64;
    fn beats(seen: &i64, best: &Self, keep: Extremum) -> bool {
        ordered(seen, best, keep)
    }
    fn own(seen: i64) -> Self {
        seen
    }
    fn lend(&self) -> i64 {
        *self
    }
    fn each(array: &ArrayRef, mut visit: impl FnMut(usize, i64)) {
        visit_valid(array, &integer_lanes(array).unwrap_or_default(), |row, value| visit(row, *value));
    }
    fn array(best: Vec<Option<Self>>, data_type: &DataType) -> ArrayRef {
        let nulls: NullBuffer = best.iter().map(Option::is_some).collect();
        from_integer_lanes(best.into_iter().map(Option::unwrap_or_default).collect(), Some(nulls), data_type)
    }
}

impl Kind for i128 {
    type Item<'a> = i128;
    fn beats(seen: &i128, best: &Self, keep: Extremum) -> bool {
        ordered(seen, best, keep)
    }
    fn own(seen: i128) -> Self {
        seen
    }
    fn lend(&self) -> i128 {
        *self
    }
    fn each(array: &ArrayRef, mut visit: impl FnMut(usize, i128)) {
        visit_valid(array, array.as_primitive::<Decimal128Type>().values(), |row, value| visit(row, *value));
    }
    fn array(best: Vec<Option<Self>>, data_type: &DataType) -> ArrayRef {
        Arc::new(PrimitiveArray::<Decimal128Type>::from_iter(best).with_data_type(data_type.clone()))
    }
}

impl Kind for f64 {
    type Item<'a> = f64;
    fn beats(seen: &f64, best: &Self, keep: Extremum) -> bool {
        match keep {
            Extremum::Least => seen.total_cmp(best).is_lt(),
            Extremum::Greatest => seen.total_cmp(best).is_gt(),
        }
    }
    fn own(seen: f64) -> Self {
        seen
    }
    fn lend(&self) -> f64 {
        *self
    }
    fn each(array: &ArrayRef, mut visit: impl FnMut(usize, f64)) {
        fn run<T: ArrowPrimitiveType>(array: &ArrayRef, mut visit: impl FnMut(usize, f64))
        where
            f64: From<T::Native>,
        {
            visit_valid(array, array.as_primitive::<T>().values(), |row, value| visit(row, f64::from(*value)));
        }
        if *array.data_type() == DataType::Float32 {
            run::<Float32Type>(array, &mut visit);
        } else {
            run::<Float64Type>(array, &mut visit);
        }
    }
    fn array(best: Vec<Option<Self>>, data_type: &DataType) -> ArrayRef {
        if *data_type == DataType::Float32 {
            #[expect(clippy::cast_possible_truncation, reason = "the values came from 32 bits")]
            let narrow = |value: f64| value as f32;
            return Arc::new(PrimitiveArray::<Float32Type>::from_iter(best.into_iter().map(|value| value.map(narrow))));
        }
        Arc::new(PrimitiveArray::<Float64Type>::from_iter(best))
    }
}

impl Kind for bool {
    type Item<'a> = bool;
    fn beats(seen: &bool, best: &Self, keep: Extremum) -> bool {
        ordered(seen, best, keep)
    }
    fn own(seen: bool) -> Self {
        seen
    }
    fn lend(&self) -> bool {
        *self
    }
    fn each(array: &ArrayRef, mut visit: impl FnMut(usize, bool)) {
        array.as_boolean().iter().enumerate().for_each(|(row, value)| {
            if let Some(value) = value {
                visit(row, value);
            }
        });
    }
    fn array(best: Vec<Option<Self>>, _: &DataType) -> ArrayRef {
        Arc::new(BooleanArray::from(best))
    }
}

impl Kind for Box<str> {
    type Item<'a> = &'a str;
    fn beats(seen: &&str, best: &Self, keep: Extremum) -> bool {
        ordered(seen, &best.as_ref(), keep)
    }
    fn own(seen: &str) -> Self {
        seen.into()
    }
    fn lend(&self) -> &str {
        self
    }
    fn each(array: &ArrayRef, mut visit: impl FnMut(usize, &str)) {
        array.as_string_view().iter().enumerate().for_each(|(row, value)| {
            if let Some(value) = value {
                visit(row, value);
            }
        });
    }
    fn array(best: Vec<Option<Self>>, _: &DataType) -> ArrayRef {
        Arc::new(best.into_iter().collect::<StringViewArray>())
    }
}

impl<V: Kind> Extreme<V> {
    fn offer(&mut self, group: usize, seen: V::Item<'_>) {
        let best = &mut self.best[group];
        if best.as_ref().is_none_or(|best| V::beats(&seen, best, self.keep)) {
            *best = Some(V::own(seen));
        }
    }

    fn resize(&mut self, groups: usize) {
        if groups > self.best.len() {
            self.best.resize_with(groups, || None);
        }
    }
}

impl<V: Kind> Accumulator for Extreme<V> {
    fn update(&mut self, groups: Groups<'_>, inputs: &[ArrayRef]) -> Result<()> {
        self.resize(groups.count());
        let Some(array) = inputs.first() else { return Ok(()) };
        V::each(array, |row, seen| {
            let group = if let Groups::Each { ids, .. } = groups { ids[row] as usize } else { 0 };
            self.offer(group, seen);
        });
        Ok(())
    }

    fn merge(&mut self, other: &dyn Accumulator, GroupMap { from, to }: GroupMap<'_>, groups: usize) -> Result<()> {
        let other = same::<Self>(other)?;
        self.resize(groups);
        for (from, to) in from.iter().zip(to) {
            if let Some(Some(best)) = other.best.get(*from as usize) {
                self.offer(*to as usize, best.lend());
            }
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, groups: usize) -> Result<ArrayRef> {
        self.resize(groups);
        Ok(V::array(self.best, &self.data_type))
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn bytes(&self) -> usize {
        self.best.capacity() * size_of::<Option<V>>()
    }
}
