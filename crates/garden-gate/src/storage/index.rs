//! Rows sorted by keys, part by part: made when a statement first needs them, and shared by all versions of the part. A range is found
//! by binary search in each part whose keys reach into it.

use super::part::Part;
use super::search::count_below;
use super::sorted_keys::SortedKeys;
use super::stored_table::StoredTable;
use crate::catalog::Segment;
use crate::diagnostic::Result;
use crate::kernel::{Batch, evaluate, lane_bounds, sort_options};
use crate::logical::{ExprKind, ScanIndex};
use crate::types::index;
use arrow::array::{Array, ArrayRef, Int64Array, UInt32Array, new_null_array};
use arrow::compute;
use arrow::row::{RowConverter, SortField};
use std::cmp::{Ordering, Reverse};
use std::collections::{BinaryHeap, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

/// The rows of a part, sorted.
#[derive(Debug)]
pub(super) struct PartIndex {
    /// Row numbers in the order of their keys.
    order: Vec<u32>,
    keys: SortedKeys,
    /// What each key begins with, as a number: most steps of a search need no more.
    beginnings: Vec<u64>,
    /// Whether a beginning is all there is of a key.
    are_whole: bool,
    /// Columns in that order, made when they are first read from the index.
    columns: Mutex<HashMap<usize, ArrayRef>>,
}

/// The rows whose keys begin with these values, and lie between these bounds in the key behind them. Each array has one value, of the
/// type of its key; a bound may be inclusive.
#[derive(Clone, Debug, Default)]
pub(crate) struct KeyRange {
    pub(crate) equal: Vec<ArrayRef>,
    pub(crate) low: Option<(ArrayRef, bool)>,
    pub(crate) high: Option<(ArrayRef, bool)>,
}

/// What is read of an index.
#[derive(Debug)]
pub(crate) struct IndexRead<'a> {
    pub(crate) index: &'a ScanIndex,
    pub(crate) ranges: Vec<KeyRange>,
    pub(crate) columns: &'a [usize],
    /// Whether the columns are those that the index holds.
    pub(crate) only: bool,
    /// In the order of the keys, or backwards, and how many rows are wanted; else in the order of the table.
    pub(crate) order: Option<(bool, usize)>,
}

/// A range of encoded keys: those that are not below the first and not above the second. A bound stands for all keys that begin with it.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct ByteRange {
    low: (Vec<u8>, bool),
    high: Option<(Vec<u8>, bool)>,
}

impl ByteRange {
    /// Whether it begins behind the key.
    pub(super) fn is_above(&self, key: &[u8]) -> bool {
        let (low, inclusive) = &self.low;
        key < low.as_slice() || (!inclusive && key.starts_with(low))
    }

    /// Whether it does not end before the key.
    pub(super) fn reaches(&self, key: &[u8]) -> bool {
        self.high
            .as_ref()
            .is_none_or(|(high, inclusive)| key < high.as_slice() || (*inclusive && key.starts_with(high)))
    }
}

impl PartIndex {
    /// O(rows · log rows).
    pub(super) fn new(part: &Part, shape: &ScanIndex) -> Result<Self> {
        let rows = part.mask().0;
        let width = shape.keys.iter().map(|key| highest_slot(key).map_or(0, |slot| slot + 1)).max().unwrap_or(0);
        let mut used = vec![false; width];
        shape.keys.iter().for_each(|key| {
            key.expr.walk(&mut |expr| {
                if let ExprKind::Slot(slot) = expr.kind() {
                    used[*slot] = true;
                }
            });
        });
        let empty: ArrayRef = new_null_array(&arrow::datatypes::DataType::Null, rows);
        let column = |(at, used): (usize, &bool)| if *used { part.whole(at) } else { Ok(Arc::clone(&empty)) };
        let columns = used.iter().enumerate().map(column).collect::<Result<_>>()?;
        let batch = Batch::new(columns, rows);
        let keys = shape.keys.iter().map(|key| evaluate(&key.expr, &batch)?.into_array(rows));
        let keys: Vec<ArrayRef> = keys.collect::<Result<_>>()?;
        let converter = converter(shape, shape.keys.len())?;
        let encoded = converter.convert_columns(&keys)?;
        let mut order: Vec<u32> = (0..index(rows)).collect();
        order.sort_by(|a, b| encoded.row(*a as usize).cmp(&encoded.row(*b as usize)));
        let keys = SortedKeys::of(order.iter().map(|row| encoded.row(*row as usize).data()));
        Ok(Self::of_sorted(order, keys))
    }

    /// From rows that are in the order of their keys.
    pub(super) fn of_sorted(order: Vec<u32>, keys: SortedKeys) -> Self {
        let beginnings = keys.iter().map(beginning).collect();
        let are_whole = keys.iter().all(|key| key.len() <= size_of::<u64>());
        Self { order, keys, beginnings, are_whole, columns: Mutex::default() }
    }

    /// Row numbers in the order of their keys.
    pub(super) fn order(&self) -> &[u32] {
        &self.order
    }

    /// The key at a place in the order.
    pub(super) fn key(&self, at: usize) -> &[u8] {
        self.keys.get(at)
    }

    pub(super) fn bytes(&self) -> usize {
        self.order.len() * (size_of::<u32>() + size_of::<u64>()) + self.keys.size()
    }

    /// Where a range begins and ends in the order of the keys.
    fn find(&self, range: &ByteRange) -> (usize, usize) {
        let rows = self.order.len();
        if rows == 0 || range.is_above(self.key(rows - 1)) || !range.reaches(self.key(0)) {
            return (0, 0);
        }
        let from = partition(rows, |at| range.is_above(self.key(at)));
        let to = partition(rows, |at| range.reaches(self.key(at)));
        (from, to.max(from))
    }

    /// The rows whose keys begin with `prefix` and are below `limit`, in the order of their keys, deleted ones among them.
    pub(super) fn between(&self, prefix: &[u8], limit: &[u8]) -> &[u32] {
        let rows = self.order.len();
        let from = partition(rows, |at| self.key(at) < prefix);
        let to = partition(rows, |at| self.key(at) < limit);
        &self.order[from..to.max(from)]
    }

    /// The rows whose keys begin with these bytes, deleted ones among them.
    pub(super) fn rows_of(&self, prefix: &[u8]) -> &[u32] {
        let least = beginning(prefix);
        // Keys that begin with less are below; those that begin alike are neighbours, and mostly few.
        let near = count_below(&self.beginnings, least);
        if self.are_whole {
            let last = least | u64::MAX.checked_shr(8 * index(prefix.len())).unwrap_or(0);
            let same = self.beginnings[near..].iter().take_while(|key| **key <= last).count();
            return &self.order[near..near + same];
        }
        let below = |at: usize| self.key(at) < prefix;
        let mut step = 1;
        while near + step < self.order.len() && below(near + step) {
            step *= 2;
        }
        let end = (near + step).min(self.order.len());
        let from = near + partition(end - near, |at| below(near + at));
        let rest = &self.order[from..];
        let same = (from..self.order.len()).take_while(|at| self.key(*at).starts_with(prefix));
        &rest[..same.count()]
    }

    fn column(&self, part: &Part, at: usize) -> Result<ArrayRef> {
        if let Some(known) = self.columns.lock().unwrap_or_else(PoisonError::into_inner).get(&at) {
            return Ok(Arc::clone(known));
        }
        let sorted = compute::take(&part.whole(at)?, &UInt32Array::from(self.order.clone()), None)?;
        self.columns.lock().unwrap_or_else(PoisonError::into_inner).insert(at, Arc::clone(&sorted));
        part.note_index_column(&sorted);
        Ok(sorted)
    }
}

fn highest_slot(key: &crate::logical::SortKey) -> Option<usize> {
    let mut highest = None;
    key.expr.walk(&mut |expr| {
        if let ExprKind::Slot(slot) = expr.kind() {
            highest = highest.max(Some(*slot));
        }
    });
    highest
}

/// The first bytes of a key as a number that is ordered as they are; zeros stand behind a shorter one.
fn beginning(key: &[u8]) -> u64 {
    let mut bytes = [0; 8];
    let length = key.len().min(8);
    bytes[..length].copy_from_slice(&key[..length]);
    u64::from_be_bytes(bytes)
}

/// The first of `rows` for which `before` does not hold, as in `slice::partition_point`.
fn partition(rows: usize, before: impl Fn(usize) -> bool) -> usize {
    let (mut low, mut high) = (0, rows);
    while low < high {
        let middle = low.midpoint(high);
        if before(middle) {
            low = middle + 1;
        } else {
            high = middle;
        }
    }
    low
}

/// Encodes the first `keys` keys; such a row is the beginning of the row of all keys.
pub(super) fn converter(shape: &ScanIndex, keys: usize) -> Result<RowConverter> {
    let field =
        |key: &crate::logical::SortKey| SortField::new_with_options(key.expr.sql_type().arrow(), sort_options(key));
    Ok(RowConverter::new(shape.keys[..keys].iter().map(field).collect())?)
}

fn encode(shape: &ScanIndex, values: &[ArrayRef]) -> Result<Vec<u8>> {
    if values.is_empty() {
        return Ok(Vec::new());
    }
    Ok(converter(shape, values.len())?.convert_columns(values)?.row(0).as_ref().to_vec())
}

fn byte_range(shape: &ScanIndex, range: &KeyRange) -> Result<ByteRange> {
    let prefix = encode(shape, &range.equal)?;
    let mut low = (prefix.clone(), true);
    let mut high = (!prefix.is_empty()).then_some((prefix, true));
    if range.low.is_none() && range.high.is_none() {
        return Ok(ByteRange { low, high });
    }
    let key = &shape.keys[range.equal.len()];
    let options = sort_options(key);
    let bound = |value: &ArrayRef| encode(shape, &[range.equal.as_slice(), std::slice::from_ref(value)].concat());
    let (first, last) = if options.descending { (&range.high, &range.low) } else { (&range.low, &range.high) };
    // A comparison is never TRUE for NULL, which stands at one end.
    let null = new_null_array(&key.expr.sql_type().arrow(), 1);
    if let Some((value, inclusive)) = first {
        low = (bound(value)?, *inclusive);
    } else if options.nulls_first {
        low = (bound(&null)?, false);
    }
    if let Some((value, inclusive)) = last {
        high = Some((bound(value)?, *inclusive));
    } else if !options.nulls_first {
        high = Some((bound(&null)?, false));
    }
    Ok(ByteRange { low, high })
}

/// The places in the order of one part's keys that lie in the ranges.
struct Found {
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
struct Search<'r> {
    read: &'r IndexRead<'r>,
    ranges: Vec<ByteRange>,
    /// Between which values of a column the rows lie.
    wanted: Option<(usize, i64, i64)>,
}

impl<'r> Search<'r> {
    fn new(read: &'r IndexRead<'r>) -> Result<Self> {
        let mut ranges = read.ranges.iter().map(|range| byte_range(read.index, range)).collect::<Result<Vec<_>>>()?;
        ranges.sort();
        ranges.dedup();
        Ok(Self { read, ranges, wanted: first_key_bounds(read) })
    }

    /// Whether the values of the first key lie elsewhere in all of the part.
    fn is_outside(&self, part: &Part) -> Result<bool> {
        let Some((column, least, greatest)) = self.wanted else { return Ok(false) };
        Ok(part.bounds(column)?.is_some_and(|of_part| of_part.1 < least || of_part.0 > greatest))
    }

    /// The index of a part, and the places in it that lie in the ranges; `None` when there are none.
    fn places(&self, part: &Part) -> Result<Option<(Arc<PartIndex>, Vec<u32>)>> {
        if self.is_outside(part)? {
            return Ok(None);
        }
        let index = part.index(self.read.index)?;
        let mut places: Vec<u32> = Vec::new();
        for range in &self.ranges {
            let (from, to) = index.find(range);
            let live = |place: &usize| part.is_live(index.order[*place]);
            places.extend((from..to).filter(live).map(crate::types::index));
        }
        Ok(if places.is_empty() { None } else { Some((index, places)) })
    }

    /// The rows of a part that lie in the ranges, found in the file where the index is there and not in memory; `None` when there are none.
    fn within(&self, part: &Part) -> Result<Option<Within>> {
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
            Self::Places(index, places) => places.iter().map(|place| index.order[*place as usize]).collect(),
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

impl StoredTable {
    /// Sorts the parts of which an index is neither in memory nor in the file; the rows of those.
    pub(crate) fn build_index(&self, shape: &ScanIndex) -> Result<u64> {
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
    pub(crate) fn read_index(&self, read: &IndexRead<'_>) -> Result<Vec<Segment>> {
        let search = Search::new(read)?;
        let parts = self.parts().iter().enumerate();
        if let Some((backwards, first)) = read.order {
            let mut found = Vec::new();
            for (number, part) in parts {
                found.extend(search.places(part)?.map(|(index, places)| Found { part: number, index, places }));
            }
            return self.in_order(read, &found, backwards, first);
        }
        let mut segments = Vec::new();
        for (number, part) in parts {
            segments.extend(match search.within(part)? {
                Some(Within::Places(index, places)) => {
                    Some(self.of_part(read, &Found { part: number, index, places })?)
                }
                Some(rows @ Within::Rows(_)) => Some(self.rows_of_part(read.columns, number, rows.into_rows())?),
                None => None,
            });
        }
        Ok(segments)
    }

    /// Rows that all of these lead to, or that one of them does, in the order of the table; the columns are those of the first. O(parts · log rows), and
    /// O(n log n) for n rows that they lead to.
    pub(crate) fn read_indexes(&self, reads: &[IndexRead<'_>], all: bool) -> Result<Vec<Segment>> {
        let searches = reads.iter().map(Search::new).collect::<Result<Vec<_>>>()?;
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
    fn of_part(&self, read: &IndexRead<'_>, found: &Found) -> Result<Segment> {
        let part = &self.parts()[found.part];
        let mut rows: Vec<u32> = found.places.iter().map(|place| found.index.order[*place as usize]).collect();
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
    fn in_order(&self, read: &IndexRead<'_>, found: &[Found], backwards: bool, first: usize) -> Result<Vec<Segment>> {
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
            chosen.push((next.run, found[next.run].index.order[next.place as usize] as usize));
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
    fn part_in_order(&self, read: &IndexRead<'_>, found: &Found, backwards: bool, first: usize) -> Result<Segment> {
        let part = &self.parts()[found.part];
        let mut places = found.places.clone();
        if backwards {
            places.reverse();
        }
        places.truncate(first);
        let rows: Vec<u32> = places.iter().map(|place| found.index.order[*place as usize]).collect();
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

/// The column that is the first key, and the least and greatest of the values that all ranges fix it to.
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
