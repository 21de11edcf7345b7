//! Rows brought together by partitions, and sorted within each.

use super::group::GroupTable;
use super::keys::integer_lanes;
use super::nearest_table::OrderColumn;
use super::window::PartitionBounds;
use crate::control::{checkpoint, sort_by};
use crate::diagnostic::Result;
use crate::types::index;
use arrow::array::{Array, ArrayRef};
use arrow::row::{RowConverter, Rows, SortField};
use std::cmp::Ordering;

/// Partitions of up to so many rows are sorted where they are.
const SORTED_IN_PLACE: usize = 64;
/// After so many partitions it is looked whether the statement is to end.
const CHECKED_PARTITIONS: usize = 1024;

/// Values by which rows are ordered.
pub(super) enum RowOrder {
    None,
    /// Numbers that grow in the wanted direction.
    Lanes(Vec<i64>),
    Rows(Rows),
}

impl RowOrder {
    /// How the rows of these columns compare. O(rows), or O(rows · key bytes) for keys that have to be encoded.
    pub(super) fn of(columns: &[OrderColumn]) -> Result<Self> {
        if let [column] = columns
            && column.values.null_count() == 0
            && let Some(lanes) = integer_lanes(&column.values)
        {
            let descending = column.options.descending;
            return Ok(Self::Lanes(lanes.iter().map(|lane| if descending { !lane } else { *lane }).collect()));
        }
        if columns.is_empty() {
            return Ok(Self::None);
        }
        let field =
            |column: &OrderColumn| SortField::new_with_options(column.values.data_type().clone(), column.options);
        let converter = RowConverter::new(columns.iter().map(field).collect())?;
        let values: Vec<ArrayRef> = columns.iter().map(|column| ArrayRef::clone(&column.values)).collect();
        Ok(Self::Rows(converter.convert_columns(&values)?))
    }

    fn compare(&self, a: u32, b: u32) -> Ordering {
        match self {
            Self::None => Ordering::Equal,
            Self::Lanes(lanes) => lanes[a as usize].cmp(&lanes[b as usize]),
            Self::Rows(rows) => rows.row(a as usize).cmp(&rows.row(b as usize)),
        }
    }

    /// Sorts rows, which are in their order; those that are alike stay as they are.
    pub(super) fn sort(&self, rows: &mut [u32]) -> Result<()> {
        let total = |a: &u32, b: &u32| self.compare(*a, *b).then(a.cmp(b));
        if matches!(self, Self::None) {
            return Ok(());
        }
        if rows.len() <= SORTED_IN_PLACE {
            rows.sort_unstable_by(total);
            return Ok(());
        }
        if let Self::Lanes(lanes) = self {
            let mut pairs: Vec<(i64, u32)> = rows.iter().map(|row| (lanes[*row as usize], *row)).collect();
            sort_by(&mut pairs, Ord::cmp)?;
            rows.iter_mut().zip(pairs).for_each(|(row, (_, sorted))| *row = sorted);
        } else {
            let mut sorted = rows.to_vec();
            sort_by(&mut sorted, total)?;
            rows.copy_from_slice(&sorted);
        }
        Ok(())
    }
}

/// The rows in the order of partitions, by their keys, and within each by its order; rows that are alike stay as they are. With `first` only
/// so many of each partition.
///
/// O(rows + partitions × log partitions + rows × log of a partition); only so many as are kept are sorted.
///
/// # Errors
/// HY008 and HYT00.
pub fn partition_order(
    partition: &[ArrayRef],
    order: &[OrderColumn],
    rows: usize,
    first: Option<usize>,
) -> Result<(Vec<u32>, PartitionBounds)> {
    let order = RowOrder::of(order)?;
    let (mut placed, ends) = by_partition(partition, rows)?;
    let mut kept = Vec::with_capacity(if first.is_some() { ends.len() } else { rows });
    let mut starts = Vec::with_capacity(ends.len());
    let mut start = 0;
    for (number, end) in ends.into_iter().enumerate() {
        if number.is_multiple_of(CHECKED_PARTITIONS) {
            checkpoint()?;
        }
        let mut part = &mut placed[start..end];
        start = end;
        if let Some(first) = first.filter(|first| *first < part.len()) {
            if first > 0 {
                part.select_nth_unstable_by(first, |a, b| order.compare(*a, *b).then(a.cmp(b)));
            }
            part = &mut part[..first];
            part.sort_unstable();
        }
        order.sort(part)?;
        if !part.is_empty() {
            starts.push(kept.len());
        }
        kept.extend_from_slice(part);
    }
    let mut next = starts.into_iter().skip(1).peekable();
    let is_new: Vec<bool> = (0..kept.len()).map(|row| next.next_if_eq(&row).is_some()).collect();
    let bounds =
        PartitionBounds::new(kept.len(), |row| is_new[row], |row| order.compare(kept[row - 1], kept[row]).is_ne());
    Ok((kept, bounds))
}

/// The rows of each partition together, in the order of the partitions' keys, and where each ends.
fn by_partition(keys: &[ArrayRef], rows: usize) -> Result<(Vec<u32>, Vec<usize>)> {
    if keys.is_empty() {
        return Ok(((0..index(rows)).collect(), vec![rows]));
    }
    let mut groups = GroupTable::new(keys.iter().map(|key| key.data_type().clone()).collect())?;
    let mut ids = Vec::new();
    groups.assign(keys, rows, &mut ids)?;
    checkpoint()?;
    let columns: Vec<OrderColumn> = groups
        .keys()?
        .into_iter()
        .map(|values| OrderColumn {
            values,
            options: arrow::compute::SortOptions { descending: false, nulls_first: false },
        })
        .collect();
    let mut sorted: Vec<u32> = (0..index(groups.len())).collect();
    RowOrder::of(&columns)?.sort(&mut sorted)?;
    let mut counts = vec![0_usize; groups.len()];
    ids.iter().for_each(|id| counts[*id as usize] += 1);
    let mut next = vec![0_usize; groups.len()];
    let mut ends = Vec::with_capacity(groups.len());
    let mut end = 0;
    for group in sorted {
        next[group as usize] = end;
        end += counts[group as usize];
        ends.push(end);
    }
    let mut placed = vec![0_u32; rows];
    for (row, id) in ids.iter().enumerate() {
        let place = &mut next[*id as usize];
        placed[*place] = index(row);
        *place += 1;
    }
    Ok((placed, ends))
}
