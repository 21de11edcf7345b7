//! Rows in the order of their values, within groups of equal keys: what range joins and nearest joins search in.

use super::group::GroupTable;
use super::join_table::JoinTable;
use super::keys::integer_lanes;
use crate::control::sort_by;
use crate::diagnostic::Result;
use arrow::array::{ArrayRef, UInt32Array};
use arrow::row::{RowConverter, Rows, SortField};
use rayon::ThreadPool;
use std::borrow::Cow;
use std::cmp::Ordering;
use std::ops::Range;

/// The values of rows in the order that they are searched in.
#[derive(Debug)]
pub(super) enum Sorted {
    Lanes(Vec<i64>),
    /// Encoded, with the converter that encodes what is looked for.
    Rows(Vec<Box<[u8]>>, RowConverter),
}

/// Values of probe rows, ready to be compared.
pub(super) enum Probes<'a> {
    Lanes(Cow<'a, [i64]>),
    Rows(Rows),
}

impl Sorted {
    /// The values of these rows, in this order.
    pub(super) fn of(values: &ArrayRef, order: &[u32]) -> Result<Self> {
        if let Some(lanes) = integer_lanes(values) {
            return Ok(Self::Lanes(order.iter().map(|row| lanes[*row as usize]).collect()));
        }
        let converter = RowConverter::new(vec![SortField::new(values.data_type().clone())])?;
        let encoded = converter.convert_columns(std::slice::from_ref(values))?;
        let rows = order.iter().map(|row| encoded.row(*row as usize).as_ref().into()).collect();
        Ok(Self::Rows(rows, converter))
    }

    /// Values of the other side, in the form in which they are compared.
    pub(super) fn probes<'a>(&self, values: &'a ArrayRef) -> Result<Probes<'a>> {
        Ok(match self {
            // Both sides of an inequality are of one type.
            Self::Lanes(_) => Probes::Lanes(integer_lanes(values).unwrap_or_default()),
            Self::Rows(_, converter) => Probes::Rows(converter.convert_columns(std::slice::from_ref(values))?),
        })
    }

    /// How many of the values in `within`, from its start on, stand to that of a probe row as `precedes` says; the others come after them.
    pub(super) fn count_before(
        &self,
        within: &Range<usize>,
        (probes, row): (&Probes<'_>, usize),
        precedes: impl Fn(Ordering) -> bool,
    ) -> usize {
        match (self, probes) {
            (Self::Lanes(values), Probes::Lanes(lanes)) => {
                let value = lanes.get(row).copied().unwrap_or(0);
                values[within.clone()].partition_point(|known| precedes(known.cmp(&value)))
            }
            (Self::Rows(values, _), Probes::Rows(rows)) => {
                let row = rows.row(row);
                let value: &[u8] = row.as_ref();
                values[within.clone()].partition_point(|known| precedes((**known).cmp(value)))
            }
            // One table makes both.
            (Self::Lanes(_), Probes::Rows(_)) | (Self::Rows(..), Probes::Lanes(_)) => 0,
        }
    }

    /// Bytes that the values hold.
    pub(super) fn bytes(&self) -> usize {
        match self {
            Self::Lanes(values) => values.len() * 8,
            Self::Rows(values, _) => values.iter().map(|value| value.len() + 16).sum(),
        }
    }
}

/// By equality keys: which part of an order of rows has those of each key. Without keys all rows are one part.
#[derive(Debug)]
pub(super) struct KeyGroups(Option<(JoinTable, Vec<Range<usize>>)>);

impl KeyGroups {
    /// Brings the rows of each key together; those of one key stay in their order. O(rows × log rows).
    pub(super) fn of(
        order: &mut [u32],
        (keys, null_same): (&[ArrayRef], &[bool]),
        threads: Option<&ThreadPool>,
    ) -> Result<Self> {
        if keys.is_empty() {
            return Ok(Self(None));
        }
        grouped(order, keys, null_same, threads).map(|found| Self(Some(found)))
    }

    /// For each probe row the part of so many rows that its keys lead to.
    pub(super) fn of_probes(
        &self,
        keys: &[ArrayRef],
        (rows, all): (usize, usize),
    ) -> Result<Vec<Option<Range<usize>>>> {
        let Some((table, ranges)) = &self.0 else { return Ok(vec![Some(0..all); rows]) };
        let mut groups = vec![None; rows];
        table.probe(keys, rows, |row, group| {
            groups[row as usize] = Some(ranges[group as usize].clone());
            Ok(())
        })?;
        Ok(groups)
    }

    /// Bytes that the table and its ranges hold.
    pub(super) fn bytes(&self) -> usize {
        self.0.as_ref().map_or(0, |(table, ranges)| table.bytes() + ranges.len() * size_of::<Range<usize>>())
    }
}

/// Sorts rows, which are in their order, by their values; rows of one value stay as they are.
pub(super) fn sort_by_values(order: &mut Vec<u32>, values: &ArrayRef) -> Result<()> {
    if let Some(lanes) = integer_lanes(values) {
        let mut pairs: Vec<(i64, u32)> = order.iter().map(|row| (lanes[*row as usize], *row)).collect();
        sort_by(&mut pairs, Ord::cmp)?;
        order.iter_mut().zip(pairs).for_each(|(row, (_, sorted))| *row = sorted);
        return Ok(());
    }
    let converter = RowConverter::new(vec![SortField::new(values.data_type().clone())])?;
    let encoded = converter.convert_columns(std::slice::from_ref(values))?;
    sort_by(order, |a, b| encoded.row(*a as usize).cmp(&encoded.row(*b as usize)).then(a.cmp(b)))
}

/// Brings the rows of each key together, and makes a table of the keys. O(rows).
fn grouped(
    order: &mut [u32],
    keys: &[ArrayRef],
    null_same: &[bool],
    threads: Option<&ThreadPool>,
) -> Result<(JoinTable, Vec<Range<usize>>)> {
    let rows = keys.first().map_or(0, |key| key.len());
    let mut groups = GroupTable::new(keys.iter().map(|key| key.data_type().clone()).collect())?;
    let mut ids = Vec::new();
    groups.assign(keys, rows, &mut ids)?;
    // A counting sort: rows keep their order within each group. Rows whose key is none are not in the order.
    let mut ends = vec![0_usize; groups.len()];
    order.iter().for_each(|row| ends[ids[*row as usize] as usize] += 1);
    let mut ranges = Vec::new();
    let mut first: Vec<u32> = Vec::new();
    let mut start = 0;
    for end in &mut ends {
        let count = *end;
        if count > 0 {
            ranges.push(start..start + count);
        }
        *end = start;
        start += count;
    }
    let mut placed = vec![0_u32; order.len()];
    for row in order.iter() {
        let next = &mut ends[ids[*row as usize] as usize];
        placed[*next] = *row;
        *next += 1;
    }
    order.copy_from_slice(&placed);
    first.extend(ranges.iter().map(|range: &Range<usize>| order[range.start]));
    let first = UInt32Array::from(first);
    let keys = keys.iter().map(|key| arrow::compute::take(key, &first, None)).collect::<Result<Vec<_>, _>>()?;
    Ok((JoinTable::build(&keys, ranges.len(), null_same, threads)?, ranges))
}
