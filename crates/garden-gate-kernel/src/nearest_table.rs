//! The build side of a nearest join: rows in a wanted order within groups of equal keys, of which each probe row takes the first few.

use super::join_table::is_key;
use super::partition_order::RowOrder;
use super::sorted_values::{KeyGroups, Sorted};
use crate::diagnostic::Result;
use crate::logical::CompareOp;
use crate::types::index;
use arrow::array::{Array, ArrayRef};
use arrow::compute::SortOptions;
use rayon::ThreadPool;
use std::cmp::Ordering;
use std::ops::Range;

/// A column of the wanted order, for all build rows.
#[derive(Debug)]
pub struct OrderColumn {
    pub values: ArrayRef,
    pub options: SortOptions,
}

/// Rows of a build side in order. Build: O(rows × log rows). A probe row: O(log rows + the rows it takes).
#[derive(Debug)]
pub struct NearestTable {
    groups: KeyGroups,
    /// Row numbers, by group and then in the wanted order; rows that are alike in it in row order.
    order: Vec<u32>,
    bound: Option<FirstBound>,
}

/// An inequality with the first column of the order, of which a value of the probe side is the left operand.
#[derive(Debug)]
struct FirstBound {
    op: CompareOp,
    descending: bool,
    values: Sorted,
}

impl NearestTable {
    /// A table over all rows: `keys` are those of equalities, `bound` compares the first column of the order with a value of the probe side.
    pub fn build(
        (keys, null_same): (&[ArrayRef], &[bool]),
        columns: &[OrderColumn],
        (bound, rows): (Option<CompareOp>, usize),
        threads: Option<&ThreadPool>,
    ) -> Result<Self> {
        let first = columns.first().filter(|_| bound.is_some());
        let has_value = |row: &usize| first.is_none_or(|column| column.values.is_valid(*row));
        let mut order: Vec<u32> =
            (0..rows).filter(|row| has_value(row) && is_key(keys, null_same, *row)).map(index).collect();
        RowOrder::of(columns)?.sort(&mut order)?;
        let groups = KeyGroups::of(&mut order, (keys, null_same), threads)?;
        let bound = match (bound, first) {
            (Some(op), Some(column)) => {
                let values = Sorted::of(&column.values, &order)?;
                Some(FirstBound { op, descending: column.options.descending, values })
            }
            _ => None,
        };
        Ok(Self { groups, order, bound })
    }

    /// For each probe row the places of its matches in the order, the nearest first; see [`NearestTable::row`].
    pub fn matches(&self, keys: &[ArrayRef], bound: Option<&ArrayRef>, rows: usize) -> Result<Vec<Range<usize>>> {
        let groups = self.groups.of_probes(keys, (rows, self.order.len()))?;
        let groups = groups.into_iter().map(|group| group.unwrap_or(0..0));
        let (Some(own), Some(values)) = (&self.bound, bound) else { return Ok(groups.collect()) };
        let probes = own.values.probes(values)?;
        let within = |(row, group): (usize, Range<usize>)| {
            if values.is_null(row) {
                0..0
            } else {
                own.part(&group, |precedes| own.values.count_before(&group, (&probes, row), precedes))
            }
        };
        Ok(groups.enumerate().map(within).collect())
    }

    /// The build row at a place of the order.
    pub fn row(&self, place: usize) -> u32 {
        self.order[place]
    }

    /// Memory held, in bytes.
    pub fn bytes(&self) -> usize {
        let bound = self.bound.as_ref().map_or(0, |bound| bound.values.bytes());
        self.groups.bytes() + self.order.len() * 4 + bound
    }
}

impl FirstBound {
    /// The part of a group that fulfils the inequality; `count` tells how many values, from its start on, stand so to that of the probe row.
    fn part(&self, group: &Range<usize>, count: impl Fn(&dyn Fn(Ordering) -> bool) -> usize) -> Range<usize> {
        let nearer = if self.descending { Ordering::Greater } else { Ordering::Less };
        // Whether what is equal comes before the place that parts those that fulfil it from the others.
        let below = matches!(self.op, CompareOp::Greater | CompareOp::GreaterOrEqual);
        let is_prefix = below != self.descending;
        let equal_fits = matches!(self.op, CompareOp::GreaterOrEqual | CompareOp::LessOrEqual);
        let with_equal = is_prefix == equal_fits;
        let at = group.start + count(&|order| order == nearer || with_equal && order == Ordering::Equal);
        if is_prefix { group.start..at } else { at..group.end }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::Int32Array;
    use std::sync::Arc;

    #[test]
    fn the_matches_of_a_row_are_those_that_fulfil_the_inequality_nearest_first() {
        let numbers = |values: &[Option<i32>]| -> ArrayRef { Arc::new(Int32Array::from(values.to_vec())) };
        let build = [Some(5), None, Some(2), Some(5), Some(9), Some(1)];
        let probe = [Some(5), None, Some(0), Some(10), Some(3)];
        for op in [CompareOp::Less, CompareOp::LessOrEqual, CompareOp::Greater, CompareOp::GreaterOrEqual] {
            for descending in [false, true] {
                let options = SortOptions { descending, nulls_first: false };
                let column = OrderColumn { values: numbers(&build), options };
                let table = NearestTable::build((&[], &[]), &[column], (Some(op), build.len()), None).unwrap();
                let found = table.matches(&[], Some(&numbers(&probe)), probe.len()).unwrap();
                for (value, places) in probe.iter().zip(found) {
                    let rows: Vec<Option<i32>> = places.map(|place| build[table.row(place) as usize]).collect();
                    let fits = |known: &i32| match op {
                        CompareOp::Less => value.is_some_and(|value| value < *known),
                        CompareOp::LessOrEqual => value.is_some_and(|value| value <= *known),
                        CompareOp::Greater => value.is_some_and(|value| value > *known),
                        CompareOp::Equal | CompareOp::NotEqual | CompareOp::GreaterOrEqual => {
                            value.is_some_and(|value| value >= *known)
                        }
                    };
                    let mut wanted: Vec<i32> = build.iter().flatten().copied().filter(fits).collect();
                    wanted.sort_by_key(|known| if descending { -known } else { *known });
                    assert_eq!(rows, wanted.into_iter().map(Some).collect::<Vec<_>>(), "{value:?} {op:?} {descending}");
                }
            }
        }
    }
}
