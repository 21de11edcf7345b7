//! The build side of a merge join.

use super::join_table::is_key;
use crate::diagnostic::Result;
use crate::types::index;
use arrow::array::ArrayRef;
use arrow::row::{RowConverter, Rows, SortField};

/// The rows of a build side in the order of their keys, as bytes that compare like them. A key with a NULL matches nothing and is left
/// out (clause 8.2). Probe rows that come in the same order are merged with them in one pass; O(log rows) for one out of order.
#[derive(Debug)]
pub struct SortedTable {
    /// Row numbers in the order of their keys; rows of one key in row order.
    order: Vec<u32>,
    keys: Rows,
    converter: RowConverter,
    null_same: Vec<bool>,
}

impl SortedTable {
    /// A table over all rows, whose keys these are. Rows that come sorted are not sorted again.
    pub fn build(keys: &[ArrayRef], rows: usize, null_same: &[bool]) -> Result<Self> {
        let converter = RowConverter::new(keys.iter().map(|key| SortField::new(key.data_type().clone())).collect())?;
        let encoded = converter.convert_columns(keys)?;
        let mut order: Vec<u32> = (0..rows).filter(|row| is_key(keys, null_same, *row)).map(index).collect();
        let key = |row: &u32| encoded.row(*row as usize);
        if !order.is_sorted_by(|a, b| key(a) <= key(b)) {
            order.sort_by(|a, b| key(a).cmp(&key(b)));
        }
        Ok(Self { order, keys: encoded, converter, null_same: null_same.to_vec() })
    }

    /// Calls `found` with each pair of a probe row and a build row that have the same key, probe rows in order.
    pub fn probe(&self, keys: &[ArrayRef], rows: usize, mut found: impl FnMut(u32, u32) -> Result<()>) -> Result<()> {
        let encoded = self.converter.convert_columns(keys)?;
        let mut at = 0;
        for row in (0..rows).filter(|row| is_key(keys, &self.null_same, *row)) {
            let key = encoded.row(row);
            let below = |place: &u32| self.keys.row(*place as usize) < key;
            if at > 0 && !below(&self.order[at - 1]) {
                // Not in order: look in all of them.
                at = 0;
            }
            at += gallop(&self.order[at..], below);
            let same = self.order[at..].iter().take_while(|place| self.keys.row(**place as usize) == key);
            for place in same {
                found(index(row), *place)?;
            }
        }
        Ok(())
    }

    /// Memory held, in bytes.
    pub fn bytes(&self) -> usize {
        self.keys.size() + self.order.len() * 4
    }
}

/// How many at the beginning are below, in O(log of that number).
fn gallop(places: &[u32], below: impl Fn(&u32) -> bool) -> usize {
    let mut step = 1;
    while step < places.len() && below(&places[step - 1]) {
        step *= 2;
    }
    let from = step / 2;
    from + places[from..step.min(places.len())].partition_point(below)
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::Int32Array;
    use std::sync::Arc;

    #[test]
    fn pairs_come_in_order_whatever_the_order_of_the_sides() {
        let numbers = |values: &[Option<i32>]| -> ArrayRef { Arc::new(Int32Array::from(values.to_vec())) };
        let build = [Some(5), None, Some(2), Some(5), Some(9)];
        let table = SortedTable::build(&[numbers(&build)], 5, &[false]).unwrap();
        for probe in
            [&[Some(2), Some(5), Some(7), Some(9)][..], &[Some(9), None, Some(1), Some(5), Some(2), Some(5)], &[]]
        {
            let mut found = Vec::new();
            let mut add = |a, b| {
                found.push((a, b));
                Ok(())
            };
            table.probe(&[numbers(probe)], probe.len(), &mut add).unwrap();
            let mut expected = Vec::new();
            for (a, left) in probe.iter().enumerate() {
                for (b, right) in build.iter().enumerate() {
                    if left.is_some() && left == right {
                        expected.push((index(a), index(b)));
                    }
                }
            }
            assert_eq!(found, expected, "{probe:?}");
        }
    }
}
