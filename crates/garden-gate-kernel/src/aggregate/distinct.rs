use super::{Accumulator, GroupMap, Groups, moved, same};
use crate::GroupTable;
use crate::diagnostic::Result;
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, Int64Array, UInt32Array};
use arrow::compute;
use arrow::datatypes::{DataType, Int64Type};
use std::{any::Any, sync::Arc};

/// An aggregate over distinct values only: collects pairs of group and values, and feeds them on at the end.
pub(super) struct Distinct {
    inner: Box<dyn Accumulator>,
    /// Keys are (group, values); the group appears first, as BIGINT.
    pairs: GroupTable,
    ids: Vec<u32>,
}

impl Distinct {
    /// `inner` over the different arguments of each group.
    pub(super) fn new(inner: Box<dyn Accumulator>, arguments: Vec<DataType>) -> Result<Self> {
        let types = std::iter::once(DataType::Int64).chain(arguments).collect();
        Ok(Self { inner, pairs: GroupTable::new(types)?, ids: Vec::new() })
    }

    fn add(&mut self, keys: &[ArrayRef]) -> Result<()> {
        let rows = keys.first().map_or(0, |key| key.len());
        self.pairs.assign(keys, rows, &mut self.ids)
    }
}

impl Accumulator for Distinct {
    fn update(&mut self, groups: Groups<'_>, inputs: &[ArrayRef]) -> Result<()> {
        let rows = inputs.first().map_or(0, |input| input.len());
        let ids: UInt32Array = match groups {
            Groups::One { .. } => vec![0; rows].into(),
            Groups::Each { ids, .. } => ids.to_vec().into(),
        };
        let present: BooleanArray = (0..rows).map(|row| Some(super::present(inputs, row))).collect();
        let mut keys = vec![compute::cast(&compute::filter(&ids, &present)?, &DataType::Int64)?];
        for input in inputs {
            keys.push(compute::filter(input, &present)?);
        }
        self.add(&keys)
    }

    fn merge(&mut self, other: &dyn Accumulator, pairs: GroupMap<'_>, _: usize) -> Result<()> {
        let other = same::<Self>(other)?;
        let keys = other.pairs.keys()?;
        let Some((of, values)) = keys.split_first() else { return Ok(()) };
        let of = of.as_primitive::<Int64Type>().values();
        let (groups, rows) = moved(of.iter().map(|id| usize::try_from(*id).unwrap_or(usize::MAX)), pairs);
        let groups: ArrayRef = Arc::new(groups.into_iter().map(i64::from).collect::<Int64Array>());
        let values = values.iter().map(|value| compute::take(value, &rows, None));
        let keys = std::iter::once(Ok(groups)).chain(values).collect::<Result<Vec<_>, _>>()?;
        self.add(&keys)
    }

    fn is_mergeable(&self) -> bool {
        false
    }

    fn finish(mut self: Box<Self>, groups: usize) -> Result<ArrayRef> {
        let keys = self.pairs.keys()?;
        if let Some((of, values)) = keys.split_first() {
            let of = of.as_primitive::<Int64Type>();
            let ids: Vec<u32> = of.values().iter().map(|id| u32::try_from(*id).unwrap_or(0)).collect();
            let values: Vec<ArrayRef> = values.iter().map(Arc::clone).collect();
            self.inner.update(Groups::Each { ids: &ids, groups }, &values)?;
        }
        self.inner.finish(groups)
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn bytes(&self) -> usize {
        self.pairs.bytes() + self.inner.bytes()
    }
}
