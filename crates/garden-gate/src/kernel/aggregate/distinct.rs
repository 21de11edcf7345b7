use super::{Accumulator, Groups, same};
use crate::diagnostic::Result;
use crate::kernel::GroupTable;
use arrow::array::{Array, ArrayRef, AsArray, UInt32Array};
use arrow::compute;
use arrow::datatypes::{DataType, Int64Type};
use std::{any::Any, sync::Arc};

/// An aggregate over different values only: collects pairs of group and value, and feeds them on at the end.
pub(super) struct Distinct {
    inner: Box<dyn Accumulator>,
    /// Keys are (group, value); the group stands first, as BIGINT.
    pairs: GroupTable,
    ids: Vec<u32>,
}

impl Distinct {
    pub(super) fn new(inner: Box<dyn Accumulator>, argument: &DataType) -> Result<Self> {
        Ok(Self { inner, pairs: GroupTable::new(vec![DataType::Int64, argument.clone()])?, ids: Vec::new() })
    }

    fn add(&mut self, groups: ArrayRef, values: ArrayRef) -> Result<()> {
        let rows = values.len();
        self.pairs.assign(&[groups, values], rows, &mut self.ids)
    }
}

impl Accumulator for Distinct {
    fn update(&mut self, groups: Groups<'_>, argument: Option<&ArrayRef>) -> Result<()> {
        let Some(values) = argument else { return Ok(()) };
        let ids: UInt32Array = match groups {
            Groups::One { rows } => vec![0; rows].into(),
            Groups::Each { ids, .. } => ids.to_vec().into(),
        };
        let present = compute::is_not_null(values)?;
        let ids = compute::cast(&compute::filter(&ids, &present)?, &DataType::Int64)?;
        self.add(ids, compute::filter(values, &present)?)
    }

    fn merge(&mut self, other: Box<dyn Accumulator>, map: &[u32], _: usize) -> Result<()> {
        let other = same::<Self>(other)?;
        let mut keys = other.pairs.keys()?;
        let (Some(values), Some(groups)) = (keys.pop(), keys.pop()) else { return Ok(()) };
        let map: ArrayRef = compute::cast(&UInt32Array::from(map.to_vec()), &DataType::Int64)?;
        let moved = compute::take(&map, &groups, None)?;
        self.add(moved, values)
    }

    fn finish(mut self: Box<Self>, groups: usize) -> Result<ArrayRef> {
        let mut keys = self.pairs.keys()?;
        if let (Some(values), Some(of)) = (keys.pop(), keys.pop()) {
            let of = of.as_primitive::<Int64Type>();
            let ids: Vec<u32> = of.values().iter().map(|id| u32::try_from(*id).unwrap_or(0)).collect();
            self.inner.update(Groups::Each { ids: &ids, groups }, Some(&Arc::clone(&values)))?;
        }
        self.inner.finish(groups)
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }

    fn bytes(&self) -> usize {
        self.pairs.bytes() + self.inner.bytes()
    }
}
