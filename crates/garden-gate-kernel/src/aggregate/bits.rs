use super::{Accumulator, GroupMap, Groups, same};
use crate::diagnostic::Result;
use crate::keys::{from_integer_lanes, integer_lanes};
use crate::logical::{Aggregate, AggregateFunction};
use arrow::array::{Array, ArrayRef};
use arrow::datatypes::DataType;
use std::any::Any;

/// `BIT_AND_AGG` and `BIT_OR_AGG`: NULL for a group without values.
#[derive(Debug)]
pub(super) struct Bits {
    values: Vec<Option<i64>>,
    and: bool,
    data_type: DataType,
}

impl Bits {
    /// `BIT_AND` or `BIT_OR` of integers.
    pub(super) fn new(aggregate: &Aggregate) -> Self {
        let and = aggregate.function == AggregateFunction::BitAnd;
        Self { values: Vec::new(), and, data_type: aggregate.sql_type.arrow() }
    }

    fn add(&mut self, group: usize, value: i64) {
        let known = &mut self.values[group];
        *known = Some(match *known {
            None => value,
            Some(known) if self.and => known & value,
            Some(known) => known | value,
        });
    }

    fn resize(&mut self, groups: usize) {
        self.values.resize(self.values.len().max(groups), None);
    }
}

impl Accumulator for Bits {
    fn update(&mut self, groups: Groups<'_>, inputs: &[ArrayRef]) -> Result<()> {
        self.resize(groups.count());
        let Some(array) = inputs.first() else { return Ok(()) };
        for (row, value) in integer_lanes(array).unwrap_or_default().iter().enumerate() {
            if array.is_valid(row) {
                self.add(groups.of(row), *value);
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: &dyn Accumulator, GroupMap { from, to }: GroupMap<'_>, groups: usize) -> Result<()> {
        let other = same::<Self>(other)?;
        self.resize(groups);
        for (from, to) in from.iter().zip(to) {
            if let Some(Some(value)) = other.values.get(*from as usize) {
                self.add(*to as usize, *value);
            }
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, groups: usize) -> Result<ArrayRef> {
        self.resize(groups);
        let nulls = self.values.iter().map(Option::is_some).collect();
        let lanes = self.values.iter().map(|value| value.unwrap_or(0)).collect();
        Ok(from_integer_lanes(lanes, Some(nulls), &self.data_type))
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn bytes(&self) -> usize {
        self.values.capacity() * 16
    }
}
