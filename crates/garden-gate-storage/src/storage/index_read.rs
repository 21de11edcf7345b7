//! Rows read by indexes: found part by part, brought together, and in the order of the table or of the keys.

use super::index::PartIndex;
use super::key_range::{ByteRange, IndexRead, KeyRange, byte_range};
use super::stored_segment::StoredSegment;
use super::stored_table::StoredTable;
use crate::catalog::Segment;
use crate::diagnostic::Result;
use crate::kernel::lane_bounds;
use crate::logical::{ExprKind, ScanIndex};
use crate::types::{approximate, index};
use arrow::array::{Array, ArrayRef, Int64Array, UInt32Array};
use arrow::compute;
use std::cmp::{Ordering, Reverse};
use std::collections::BinaryHeap;
use std::sync::Arc;

/// The places in the order of one part's keys that lie in the ranges.
struct FoundPlaces {
    part: usize,
    index: Arc<PartIndex>,
    places: Vec<u32>,
}

/// The rows of a part that lie in the ranges.
enum Within {
    /// By their places in the order of an index in memory.
    Places(Arc<PartIndex>, Vec<u32>),
    /// By their numbers, from an index in the file.
    Rows(Vec<u32>),
}

/// A read of an index, with its ranges encoded.
struct IndexSearch<'r> {
    read: &'r IndexRead<'r>,
    ranges: Vec<ByteRange>,
    /// Between which values of a column the rows lie.
    wanted: Option<(usize, i64, i64)>,
}

impl<'r> IndexSearch<'r> {
    fn new(read: &'r IndexRead<'r>) -> Result<Self> {
        let mut ranges = read.ranges.iter().map(|range| byte_range(read.index, range)).collect::<Result<Vec<_>>>()?;
        ranges.sort();
        ranges.dedup();
        Ok(Self { read, ranges, wanted: first_key_bounds(read) })
    }

    /// Whether the values of the first key lie elsewhere in all of the part.
    fn is_outside(&self, part: &StoredSegment) -> Result<bool> {
        let Some((column, least, greatest)) = self.wanted else { return Ok(false) };
        Ok(part.bounds(column)?.is_some_and(|of_part| of_part.1 < least || of_part.0 > greatest))
    }

    /// The index of a part, and the places in it that lie in the ranges; `None` when there are none.
    fn places(&self, part: &StoredSegment) -> Result<Option<(Arc<PartIndex>, Vec<u32>)>> {
        if self.is_outside(part)? {
            return Ok(None);
        }
        let index = part.index(self.read.index)?;
        let mut places: Vec<u32> = Vec::new();
        for range in &self.ranges {
            let (from, to) = index.find(range);
            let live = |place: &usize| part.is_live(index.order()[*place]);
            places.extend((from..to).filter(live).map(crate::types::index));
        }
        Ok(if places.is_empty() { None } else { Some((index, places)) })
    }

    /// The rows of a part that lie in the ranges, found in the file where the index is there and not in memory; `None` when there are none.
    fn within(&self, part: &StoredSegment) -> Result<Option<Within>> {
        let Some(mut rows) = part.rows_in_file(self.read.index, &self.ranges)? else {
            return Ok(self.places(part)?.map(|(index, places)| Within::Places(index, places)));
        };
        rows.retain(|row| part.is_live(*row));
        Ok(if rows.is_empty() { None } else { Some(Within::Rows(rows)) })
    }
}

impl Within {
    /// The numbers of the rows, ascending.
    fn into_rows(self) -> Vec<u32> {
        let mut rows = match self {
            Self::Rows(rows) => rows,
            Self::Places(index, places) => places.iter().map(|place| index.order()[*place as usize]).collect(),
        };
        rows.sort_unstable();
        rows
    }
}

/// What two sorted lists have in common.
fn common(a: &[u32], b: &[u32]) -> Vec<u32> {
    let (few, many) = if a.len() < b.len() { (a, b) } else { (b, a) };
    few.iter().copied().filter(|row| many.binary_search(row).is_ok()).collect()
}

/// Parts whose index is neither in memory nor in the file are sorted for a count up to so many rows: they are once only.
const COUNTED_UNSORTED: usize = 1 << 16;

impl StoredTable {
    /// How many rows an index has in these ranges, deleted ones aside as far as they are spread evenly; `None` where telling takes more
    /// than `searches` searches, or the index is not ready. O(searches × log rows).
    pub fn count_indexed(&self, shape: &ScanIndex, ranges: &[KeyRange], searches: usize) -> Result<Option<u64>> {
        if ranges.len().saturating_mul(self.parts().len()) > searches {
            return Ok(None);
        }
        let read = IndexRead { index: shape, ranges: ranges.to_vec(), columns: &[], only: false, order: None };
        let search = IndexSearch::new(&read)?;
        let mut unsorted = 0;
        let mut count = 0.0;
        for part in self.parts() {
            if search.is_outside(part)? {
                continue;
            }
            let (rows, live) = part.mask();
            if !part.has_index(shape)? {
                unsorted += rows;
                if unsorted > COUNTED_UNSORTED {
                    return Ok(None);
                }
            }
            let index = part.index(shape)?;
            let found: usize = search.ranges.iter().map(|range| index.find(range)).map(|(from, to)| to - from).sum();
            let live = live.map_or(rows, |mask| mask.count_set_bits());
            count += approximate(found) * approximate(live) / approximate(rows.max(1));
        }
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "no more rows than there are")]
        Ok(Some(count.round() as u64))
    }

    /// Whether an index is in memory or in the file for every part.
    ///
    /// # Errors
    /// 58030 and 22000 when the database file cannot be read.
    pub fn has_index(&self, shape: &ScanIndex) -> Result<bool> {
        for part in self.parts() {
            if !part.has_index(shape)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Sorts the parts of which an index is neither in memory nor in the file; the rows of those.
    pub fn build_index(&self, shape: &ScanIndex) -> Result<u64> {
        let mut rows = 0;
        for part in self.parts() {
            if !part.has_index(shape)? {
                part.index(shape)?;
                rows += part.mask().0 as u64;
            }
        }
        Ok(rows)
    }

    /// Rows by an index. O(parts · log rows) to find them, and for each row of the result its columns.
    pub fn read_index(&self, read: &IndexRead<'_>) -> Result<Vec<Segment>> {
        let search = IndexSearch::new(read)?;
        let parts = self.parts().iter().enumerate();
        if let Some((backwards, first)) = read.order {
            let mut found = Vec::new();
            for (number, part) in parts {
                found.extend(search.places(part)?.map(|(index, places)| FoundPlaces { part: number, index, places }));
            }
            return self.in_order(read, &found, backwards, first);
        }
        let mut segments = Vec::new();
        for (number, part) in parts {
            segments.extend(match search.within(part)? {
                Some(Within::Places(index, places)) => {
                    Some(self.of_part(read, &FoundPlaces { part: number, index, places })?)
                }
                Some(rows @ Within::Rows(_)) => Some(self.rows_of_part(read.columns, number, rows.into_rows())?),
                None => None,
            });
        }
        Ok(segments)
    }

    /// Rows that all of these lead to, or that one of them does, in the order of the table; the columns are those of the first. O(parts · log rows), and
    /// O(n log n) for n rows that they lead to.
    pub fn read_indexes(&self, reads: &[IndexRead<'_>], all: bool) -> Result<Vec<Segment>> {
        let searches = reads.iter().map(IndexSearch::new).collect::<Result<Vec<_>>>()?;
        let mut segments = Vec::new();
        for (number, part) in self.parts().iter().enumerate() {
            let mut rows: Option<Vec<u32>> = None;
            for search in &searches {
                let found = search.within(part)?.map_or_else(Vec::new, Within::into_rows);
                rows = Some(match rows {
                    None => found,
                    Some(known) if all => common(&known, &found),
                    Some(mut known) => {
                        known.extend(found);
                        known.sort_unstable();
                        known
                    }
                });
            }
            let mut rows = rows.unwrap_or_default();
            // A row may fulfil several parts of an OR.
            rows.dedup();
            if let (Some(first), false) = (reads.first(), rows.is_empty()) {
                segments.push(self.rows_of_part(first.columns, number, rows)?);
            }
        }
        Ok(segments)
    }

    /// These rows of a part.
    fn rows_of_part(&self, columns: &[usize], number: usize, rows: Vec<u32>) -> Result<Segment> {
        let part = &self.parts()[number];
        let count = rows.len();
        let rows = UInt32Array::from(rows);
        let column = |at: &usize| -> Result<ArrayRef> {
            if *at == self.place_column() {
                return Ok(place_array(number, rows.values()));
            }
            Ok(compute::take(&part.whole(*at)?, &rows, None)?)
        };
        Ok(Segment { columns: columns.iter().map(column).collect::<Result<_>>()?, rows: count })
    }

    /// The rows of one part, in the order of the table, or of the index when they come from there.
    fn of_part(&self, read: &IndexRead<'_>, found: &FoundPlaces) -> Result<Segment> {
        let part = &self.parts()[found.part];
        let mut rows: Vec<u32> = found.places.iter().map(|place| found.index.order()[*place as usize]).collect();
        if !read.only {
            rows.sort_unstable();
        }
        let (places, rows) = (UInt32Array::from(found.places.clone()), UInt32Array::from(rows));
        let in_a_row = found.places.windows(2).all(|pair| pair[0] + 1 == pair[1]);
        let column = |at: &usize| -> Result<ArrayRef> {
            Ok(match *at {
                at if at == self.place_column() => place_array(found.part, rows.values()),
                at if read.only && in_a_row => {
                    found.index.column(part, at)?.slice(found.places[0] as usize, found.places.len())
                }
                at if read.only => compute::take(&found.index.column(part, at)?, &places, None)?,
                at => compute::take(&part.whole(at)?, &rows, None)?,
            })
        };
        Ok(Segment { columns: read.columns.iter().map(column).collect::<Result<_>>()?, rows: found.places.len() })
    }

    /// The first rows of all parts in the order of their keys; equal ones in the order of the table.
    fn in_order(
        &self,
        read: &IndexRead<'_>,
        found: &[FoundPlaces],
        backwards: bool,
        first: usize,
    ) -> Result<Vec<Segment>> {
        if let [one] = found {
            return self.part_in_order(read, one, backwards, first).map(|segment| vec![segment]);
        }
        let place = |run: usize, step: usize| {
            let places = &found[run].places;
            let at = if backwards { places.len().checked_sub(step + 1)? } else { step };
            places.get(at).copied()
        };
        let head = |run: usize, step: usize| -> Option<Reverse<Head<'_>>> {
            let place = place(run, step)?;
            let key = found[run].index.key(place as usize);
            Some(Reverse(Head { key, backwards, run, step, place }))
        };
        let mut heads: BinaryHeap<Reverse<Head<'_>>> = (0..found.len()).filter_map(|run| head(run, 0)).collect();
        let mut chosen: Vec<(usize, usize)> = Vec::new();
        while chosen.len() < first
            && let Some(Reverse(next)) = heads.pop()
        {
            chosen.push((next.run, found[next.run].index.order()[next.place as usize] as usize));
            heads.extend(head(next.run, next.step + 1));
        }
        if chosen.is_empty() {
            return Ok(Vec::new());
        }
        let column = |at: &usize| -> Result<ArrayRef> {
            if *at == self.place_column() {
                let place =
                    |(run, row): &(usize, usize)| (i64::from(index(found[*run].part)) << 32) | i64::from(index(*row));
                return Ok(Arc::new(chosen.iter().map(place).collect::<Int64Array>()));
            }
            let arrays = found.iter().map(|found| self.parts()[found.part].whole(*at));
            let arrays: Vec<ArrayRef> = arrays.collect::<Result<_>>()?;
            let arrays: Vec<&dyn Array> = arrays.iter().map(AsRef::as_ref).collect();
            Ok(compute::interleave(&arrays, &chosen)?)
        };
        let columns = read.columns.iter().map(column).collect::<Result<_>>()?;
        Ok(vec![Segment { columns, rows: chosen.len() }])
    }
}

impl StoredTable {
    /// The first rows of one part in the order of their keys.
    fn part_in_order(
        &self,
        read: &IndexRead<'_>,
        found: &FoundPlaces,
        backwards: bool,
        first: usize,
    ) -> Result<Segment> {
        let part = &self.parts()[found.part];
        let mut places = found.places.clone();
        if backwards {
            places.reverse();
        }
        places.truncate(first);
        let rows: Vec<u32> = places.iter().map(|place| found.index.order()[*place as usize]).collect();
        let (places, rows) = (UInt32Array::from(places), UInt32Array::from(rows));
        let column = |at: &usize| -> Result<ArrayRef> {
            Ok(match *at {
                at if at == self.place_column() => place_array(found.part, rows.values()),
                at if read.only => compute::take(&found.index.column(part, at)?, &places, None)?,
                at => compute::take(&part.whole(at)?, &rows, None)?,
            })
        };
        Ok(Segment { columns: read.columns.iter().map(column).collect::<Result<_>>()?, rows: rows.len() })
    }
}

/// The column that is the first key, and the minimum and maximum of the values that all ranges fix it to.
fn first_key_bounds(read: &IndexRead<'_>) -> Option<(usize, i64, i64)> {
    let ExprKind::Slot(column) = read.index.keys.first()?.expr.kind() else { return None };
    let mut bounds: Option<(i64, i64)> = None;
    for range in &read.ranges {
        let (least, greatest) = lane_bounds(range.equal.first()?)?;
        bounds = Some(bounds.map_or((least, greatest), |(low, high)| (low.min(least), high.max(greatest))));
    }
    bounds.map(|(least, greatest)| (*column, least, greatest))
}

/// The next row of a part.
struct Head<'k> {
    key: &'k [u8],
    backwards: bool,
    run: usize,
    step: usize,
    place: u32,
}

impl Ord for Head<'_> {
    fn cmp(&self, other: &Self) -> Ordering {
        let keys = self.key.cmp(other.key);
        let keys = if self.backwards { keys.reverse() } else { keys };
        keys.then(self.run.cmp(&other.run))
    }
}

impl PartialOrd for Head<'_> {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Head<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Head<'_> {}

fn place_array(part: usize, rows: &[u32]) -> ArrayRef {
    let first = i64::from(index(part)) << 32;
    Arc::new(rows.iter().map(|row| first | i64::from(*row)).collect::<Int64Array>())
}
