//! Rows brought together by partitions, and sorted within each.

use super::group::GroupTable;
use super::keys::integer_lanes;
use super::nearest_table::OrderColumn;
use super::window::PartitionBounds;
use crate::control::{self, checkpoint, sort_by};
use crate::diagnostic::Result;
use crate::types::index;
use arrow::array::{Array, ArrayRef};
use arrow::row::{RowConverter, Rows, SortField};
use rayon::ThreadPool;
use rayon::iter::{IntoParallelIterator, ParallelIterator};
use std::cmp::Ordering;

/// Partitions of up to so many rows are sorted where they are.
const SORTED_IN_PLACE: usize = 64;
/// Rows from which on it pays to sort partitions side by side, and pieces that a worker gets, so that all end at about one time.
const PARALLEL_ROWS: usize = 1 << 15;
const PIECES_OF_WORKER: usize = 4;
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

/// How the rows of partitions are ordered, and by whom.
#[derive(Debug)]
pub struct PartitionSort<'a> {
    pub order: &'a [OrderColumn],
    /// How many rows of each partition are wanted; `None` for all.
    pub first: Option<usize>,
    /// What sorts partitions side by side.
    pub threads: Option<&'a ThreadPool>,
}

/// The rows in the order of partitions, by their keys, and within each by its order; rows that are alike stay as they are. With
/// [`PartitionSort::first`] only so many of each partition.
///
/// O(rows + partitions × log partitions + rows × log of a partition); only so many as are kept are sorted. Of an order by one number, rows
/// are sorted with their numbers beside them, 16 bytes each: small partitions, whose rows lie anywhere, then cost one look at each number.
///
/// # Errors
/// HY008 and HYT00.
pub fn partition_order(
    partition: &[ArrayRef],
    rows: usize,
    sort: &PartitionSort<'_>,
) -> Result<(Vec<u32>, PartitionBounds)> {
    let order = RowOrder::of(sort.order)?;
    let (placed, ends) = by_partition(partition, rows)?;
    match (order, sort.first) {
        (RowOrder::Lanes(lanes), None) => by_lanes(&lanes, &placed, &ends, sort.threads),
        (order, first) => by_rows(&order, placed, ends, first),
    }
}

fn by_lanes(
    lanes: &[i64],
    placed: &[u32],
    ends: &[usize],
    threads: Option<&ThreadPool>,
) -> Result<(Vec<u32>, PartitionBounds)> {
    let mut pairs: Vec<(i64, u32)> = placed.iter().map(|row| (lanes[*row as usize], *row)).collect();
    match threads.filter(|_| pairs.len() >= PARALLEL_ROWS) {
        Some(threads) => {
            let statement = control::current();
            let sort = |(pairs, ends, base): (&mut [(i64, u32)], &[usize], usize)| {
                let _entered = control::enter(statement.as_ref());
                sort_partitions(pairs, ends, base)
            };
            let pieces = pieces(&mut pairs, ends, threads.current_num_threads() * PIECES_OF_WORKER);
            threads.install(|| pieces.into_par_iter().map(sort).collect::<Vec<Result<()>>>()).into_iter().collect()
        }
        None => sort_partitions(&mut pairs, ends, 0),
    }?;
    let bounds = PartitionBounds::of_ends(ends, |row| pairs[row - 1].0 != pairs[row].0);
    Ok((pairs.into_iter().map(|(_, row)| row).collect(), bounds))
}

/// Rows of whole partitions, the ends of these, and the place of the first row.
type Piece<'p> = (&'p mut [(i64, u32)], &'p [usize], usize);

/// Cuts rows where partitions end, into about so many pieces of about one size.
fn pieces<'p>(mut pairs: &'p mut [(i64, u32)], mut ends: &'p [usize], count: usize) -> Vec<Piece<'p>> {
    let size = pairs.len().div_ceil(count.max(1));
    let (mut found, mut base) = (Vec::new(), 0);
    while !ends.is_empty() {
        let taken = ends.partition_point(|end| *end < base + size).min(ends.len() - 1) + 1;
        let (own, later) = ends.split_at(taken);
        let end = own[taken - 1];
        let (piece, rest) = pairs.split_at_mut(end - base);
        found.push((piece, own, base));
        (pairs, ends, base) = (rest, later, end);
    }
    found
}

/// Sorts the rows of each partition by their numbers, and among equal ones by their places.
fn sort_partitions(pairs: &mut [(i64, u32)], ends: &[usize], base: usize) -> Result<()> {
    let mut start = 0;
    for (number, end) in ends.iter().enumerate() {
        if number.is_multiple_of(CHECKED_PARTITIONS) {
            checkpoint()?;
        }
        let part = &mut pairs[start..end - base];
        start = end - base;
        if part.len() <= SORTED_IN_PLACE {
            part.sort_unstable();
        } else {
            let mut sorted = part.to_vec();
            sort_by(&mut sorted, Ord::cmp)?;
            part.copy_from_slice(&sorted);
        }
    }
    Ok(())
}

fn by_rows(
    order: &RowOrder,
    mut placed: Vec<u32>,
    ends: Vec<usize>,
    first: Option<usize>,
) -> Result<(Vec<u32>, PartitionBounds)> {
    let mut kept = Vec::with_capacity(if first.is_some() { ends.len() } else { placed.len() });
    let mut kept_ends = Vec::with_capacity(ends.len());
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
        kept.extend_from_slice(part);
        kept_ends.push(kept.len());
    }
    let bounds = PartitionBounds::of_ends(&kept_ends, |row| order.compare(kept[row - 1], kept[row]).is_ne());
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

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Int32Array, StringViewArray};
    use std::sync::Arc;

    /// Partitions of every size up to `most`, in rows that lie anywhere: (partition, value) of each row.
    fn scattered(most: i32) -> Vec<(i32, i32)> {
        let mut rows: Vec<(i32, i32)> =
            (0..most).flat_map(|size| (0..size).map(move |row| (size, row * 7 % 5))).collect();
        let count = rows.len();
        (0..count).for_each(|row| rows.swap(row, row * 7919 % count));
        rows
    }

    #[test]
    fn rows_of_partitions_are_sorted_by_lanes_by_bytes_and_side_by_side() {
        let rows = scattered(300);
        // By the definition: by partition, value and place.
        let mut expected: Vec<(i32, i32, u32)> =
            rows.iter().zip(0..).map(|((partition, value), row)| (*partition, *value, row)).collect();
        expected.sort_unstable();
        let partition: ArrayRef = Arc::new(rows.iter().map(|(partition, _)| Some(*partition)).collect::<Int32Array>());
        let numbers: ArrayRef = Arc::new(rows.iter().map(|(_, value)| Some(*value)).collect::<Int32Array>());
        let texts: ArrayRef =
            Arc::new(rows.iter().map(|(_, value)| Some(value.to_string())).collect::<StringViewArray>());
        let threads = rayon::ThreadPoolBuilder::new().num_threads(2).build().unwrap();
        for (values, threads) in [(&numbers, None), (&numbers, Some(&threads)), (&texts, None)] {
            let order = [OrderColumn { values: Arc::clone(values), options: arrow::compute::SortOptions::default() }];
            let sort = PartitionSort { order: &order, first: None, threads };
            let (places, bounds) = partition_order(&[Arc::clone(&partition)], rows.len(), &sort).unwrap();
            assert_eq!(places, expected.iter().map(|(.., row)| *row).collect::<Vec<u32>>());
            assert_eq!(bounds.partitions.len(), 299, "the one of no rows is none");
            for row in 1..rows.len() {
                let (a, b) = (expected[row - 1], expected[row]);
                assert_eq!(bounds.partition[row - 1] == bounds.partition[row], a.0 == b.0, "{row}");
                assert_eq!(bounds.group[row - 1] == bounds.group[row], (a.0, a.1) == (b.0, b.1), "{row}");
            }
        }
    }
}
