//! A version of a table that the database keeps: an immutable list of parts. A change makes a new version that shares all parts it did
//! not touch; a snapshot is one pointer.

use super::append::append;
use super::history::{History, Restamp};
use super::moment::KnownMoments;
use super::statistics::collect_with;
use super::stored_segment::StoredSegment;
use super::zone_map::LaneRange;
use crate::catalog::{
    Column, ColumnConjunct, ColumnStatistics, ScanRequest, Segment, SegmentStream, SystemTime, TableSource,
};
use crate::control::Turns;
use crate::diagnostic::{Error, Result};
use crate::kernel::{Batch, Sketch, lane_bounds};
use crate::types::{SqlType, approximate, index};
use arrow::array::{ArrayRef, AsArray};
use arrow::datatypes::Int64Type;
use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, OnceLock};

/// Share of the rows that may change before the statistics of a column are computed again.
const STALE_SHARE: f64 = 0.2;

/// Where a row lies: the part above, the row in it below. Only of use for the version it was read from.
pub type Place = i64;

/// Statistics of a column, and how many rows have changed since they were computed.
pub(super) type KnownStatistics = (Arc<ColumnStatistics>, u64);

#[derive(Debug)]
pub struct StoredTable {
    columns: Arc<Vec<Column>>,
    /// Sets of columns that no two rows have in common, and that are never NULL.
    keys: Arc<Vec<Vec<usize>>>,
    parts: Vec<Arc<StoredSegment>>,
    rows: u64,
    statistics: Vec<OnceLock<Arc<ColumnStatistics>>>,
    /// What the database numbers the next row with, where it numbers rows.
    pub next_number: Option<i64>,
    /// Statistics of an earlier version, and how many rows have changed since.
    earlier: Vec<Option<(Arc<ColumnStatistics>, u64)>>,
    /// Rows that were changed or deleted, where the table keeps them.
    pub(super) history: Arc<History>,
    /// History and current rows as one table, made when the past is first asked for.
    past: OnceLock<Arc<StoredTable>>,
    /// Statistics of an earlier version's past.
    past_earlier: Vec<Option<KnownStatistics>>,
    /// The table at moments that somebody still reads.
    pub(super) moments: Mutex<KnownMoments>,
}

impl StoredTable {
    /// A table without rows.
    pub fn new(columns: Vec<Column>, keys: Vec<Vec<usize>>) -> Self {
        let width = columns.len();
        Self::of(Arc::new(columns), Arc::new(keys), Vec::new(), vec![None; width])
    }

    /// A table of parts that were stored.
    pub(super) fn from_parts(columns: Vec<Column>, keys: Vec<Vec<usize>>, parts: Vec<Arc<StoredSegment>>) -> Self {
        let width = columns.len();
        Self::of(Arc::new(columns), Arc::new(keys), parts, vec![None; width])
    }

    /// The type of a column of the table, or of the place of its rows.
    pub(super) fn column_type(&self, at: usize) -> arrow::datatypes::DataType {
        self.columns.get(at).map_or(arrow::datatypes::DataType::Int64, |column| column.sql_type.arrow())
    }

    /// The runs of rows, in the order in which they were added.
    pub(super) fn parts(&self) -> &[Arc<StoredSegment>] {
        &self.parts
    }

    fn of(
        columns: Arc<Vec<Column>>,
        keys: Arc<Vec<Vec<usize>>>,
        parts: Vec<Arc<StoredSegment>>,
        earlier: Vec<Option<(Arc<ColumnStatistics>, u64)>>,
    ) -> Self {
        let rows = parts.iter().map(|part| part.count() as u64).sum();
        let statistics = columns.iter().map(|_| OnceLock::new()).collect();
        let (history, past, past_earlier) = (Arc::default(), OnceLock::new(), Vec::new());
        let (next_number, moments) = (None, Mutex::default());
        Self { columns, keys, parts, rows, statistics, next_number, earlier, history, past, past_earlier, moments }
    }

    /// What is known of each column without a look at it.
    pub(super) fn known_statistics(&self) -> Vec<Option<KnownStatistics>> {
        let now = self.statistics.iter().map(|kept| kept.get().map(|known| (Arc::clone(known), 0)));
        now.zip(&self.earlier).map(|(now, earlier)| now.or_else(|| earlier.clone())).collect()
    }

    /// Takes over what is known of a column from before the file was closed.
    pub(super) fn remember(&mut self, column: usize, (known, changed): KnownStatistics) {
        let changed = changed.max(known.rows.abs_diff(self.rows));
        if let (0, Some(kept)) = (changed, self.statistics.get(column)) {
            let _ = kept.set(Arc::clone(&known));
        }
        if let Some(earlier) = self.earlier.get_mut(column) {
            *earlier = Some((known, changed));
        }
    }

    /// The same rows, of a table with other keys.
    pub fn with_keys(&self, keys: Vec<Vec<usize>>) -> Self {
        let (columns, earlier) = (Arc::clone(&self.columns), self.earlier.clone());
        let table = Self::of(columns, Arc::new(keys), self.parts.clone(), earlier);
        for (known, kept) in table.statistics.iter().zip(&self.statistics) {
            if let Some(statistics) = kept.get() {
                let _ = known.set(Arc::clone(statistics));
            }
        }
        self.beside_rows(table, 0)
    }

    /// All rows of each column as one array.
    pub fn columns_whole(&self) -> Result<Vec<ArrayRef>> {
        let all: Vec<usize> = (0..self.columns.len()).collect();
        let batches = self.read(&all)?.into_iter().map(|segment| Batch::new(segment.columns, segment.rows));
        let batches: Vec<Batch> = batches.collect();
        if batches.is_empty() { Ok(self.rows_at(&[])?.columns) } else { Ok(Batch::concat(&batches, None)?.columns) }
    }

    /// The columns of which some part cannot be read, with the first reason of each. O(rows).
    pub fn unreadable(&self) -> Vec<(usize, Error)> {
        let parts = || self.parts.iter().chain(self.history.parts());
        let problem = |at: usize| parts().find_map(|part| part.whole(at).err()).map(|error| (at, error));
        (0..self.columns.len()).filter_map(problem).collect()
    }

    /// The same rows, of which nothing is known.
    pub fn unknown(&self) -> Self {
        let earlier = vec![None; self.columns.len()];
        let table = Self::of(Arc::clone(&self.columns), Arc::clone(&self.keys), self.parts.clone(), earlier);
        let (next_number, history) = (self.next_number, Arc::clone(&self.history));
        Self { next_number, history, ..table }
    }

    /// The rows that have ended.
    pub fn history(&self) -> &History {
        &self.history
    }

    /// All rows of its history, in the order in which they ended.
    pub fn ended_rows(&self) -> Result<Batch> {
        let columns = 0..self.columns.len();
        let batch = |part: &Arc<StoredSegment>| {
            let columns = columns.clone().map(|at| part.column(at, 0)).collect::<Result<_>>()?;
            Ok(Batch::new(columns, part.count()))
        };
        let batches = self.history.parts().map(batch).collect::<Result<Vec<_>>>()?;
        if batches.is_empty() { self.rows_at(&[]) } else { Batch::concat(&batches, None) }
    }

    /// The same current rows with another history.
    pub fn with_history(&self, history: History) -> Self {
        let table = self.with_keys(self.keys.to_vec());
        Self { history: Arc::new(history), ..table }
    }

    /// The table after rows have ended at `now`: they are history.
    pub fn with_ended(&self, rows: &Batch, period: &SystemTime, now: i64) -> Result<Self> {
        let mut history = History::clone(&self.history);
        history.add(rows, period, now)?;
        Ok(self.with_history(history))
    }

    /// The table with the time of a commit instead of that which its transaction had before.
    pub fn restamped(&self, before: Option<&Self>, period: &SystemTime, (from, to): (i64, i64)) -> Result<Self> {
        let content = |part: &StoredSegment| std::ptr::from_ref(part.content()).addr();
        let known = before.into_iter().flat_map(|table| table.parts.iter().chain(table.history.parts()));
        let known: HashSet<usize> = known.map(|part| content(part)).collect();
        let times = Restamp { from, to, is_old: &|part| known.contains(&content(part)) };
        let mut parts = self.parts.clone();
        for part in &mut parts {
            if let Some(new) = times.part(part, period.start)? {
                *part = Arc::new(new);
            }
        }
        let history = Arc::new(self.history.restamped(&times, period)?);
        let earlier = self.known_statistics();
        let table = Self::of(Arc::clone(&self.columns), Arc::clone(&self.keys), parts, earlier);
        Ok(Self { history, ..self.beside_rows(table, 0) })
    }

    /// [`StoredTable::past`], if it has been asked for.
    pub fn known_past(&self) -> Option<&Arc<Self>> {
        self.past.get()
    }

    /// A table of the same columns with these parts and without keys, of whose values as much is known as of this one's.
    pub(super) fn of_parts(&self, parts: Vec<Arc<StoredSegment>>) -> Self {
        Self::of(Arc::clone(&self.columns), Arc::default(), parts, self.known_statistics())
    }

    /// History and current rows as one table without keys.
    pub fn past(&self) -> Arc<Self> {
        let make = || {
            let parts = self.history.parts().chain(&self.parts).map(Arc::clone).collect();
            let earlier =
                if self.past_earlier.is_empty() { self.known_statistics() } else { self.past_earlier.clone() };
            Arc::new(Self::of(Arc::clone(&self.columns), Arc::default(), parts, earlier))
        };
        Arc::clone(self.past.get_or_init(make))
    }

    /// The places of all rows, in order.
    pub fn places(&self) -> Result<Vec<Place>> {
        let column = self.place_column();
        let mut places = Vec::new();
        for (number, part) in self.parts.iter().enumerate() {
            places.extend_from_slice(part.column(column, number)?.as_primitive::<Int64Type>().values());
        }
        Ok(places)
    }

    /// The number of the column that gives each row's place.
    pub fn place_column(&self) -> usize {
        self.columns.len()
    }

    /// The table without the rows at `removed`, and with those of `added` after the others.
    ///
    /// O(parts + changed rows), and on average O(log rows) more for each row that is added by itself.
    pub fn changed(&self, removed: &[Place], added: &[Batch]) -> Result<Self> {
        let mut by_part: HashMap<usize, Vec<u32>> = HashMap::new();
        for place in removed {
            let part = usize::try_from(place >> 32).unwrap_or(usize::MAX);
            by_part.entry(part).or_default().push(u32::try_from(place & i64::from(u32::MAX)).unwrap_or(u32::MAX));
        }
        let mut parts = Vec::with_capacity(self.parts.len() + added.len());
        for (number, part) in self.parts.iter().enumerate() {
            match by_part.get(&number) {
                None => parts.push(Arc::clone(part)),
                Some(rows) => parts.extend(part.without(rows).map(Arc::new)),
            }
        }
        let mut count = removed.len() as u64;
        for batch in added {
            count += batch.rows as u64;
            append(&mut parts, 0, batch)?;
        }
        let earlier = (0..self.columns.len()).map(|at| {
            let known = self.statistics[at].get().map(|known| (Arc::clone(known), 0)).or(self.earlier[at].clone())?;
            Some((known.0, known.1 + count))
        });
        let changed = Self::of(Arc::clone(&self.columns), Arc::clone(&self.keys), parts, earlier.collect());
        Ok(self.beside_rows(changed, count))
    }

    /// A new version with what this one has besides its current rows.
    fn beside_rows(&self, table: Self, changed: u64) -> Self {
        let (next_number, history) = (self.next_number, Arc::clone(&self.history));
        let past_earlier = match self.past.get() {
            Some(past) => past.known_statistics(),
            None => self.past_earlier.clone(),
        };
        let more = |(known, count): KnownStatistics| (known, count + changed);
        let past_earlier = past_earlier.into_iter().map(|known| known.map(more)).collect();
        Self { next_number, history, past_earlier, ..table }
    }

    /// Calls `found` with a row of `keys` and the place of each row that has the same values in `columns`, until it fails.
    pub fn find(
        &self,
        (columns, nulls_same): (&[usize], bool),
        (keys, rows): (&[ArrayRef], usize),
        mut found: impl FnMut(u32, Place) -> Result<()>,
    ) -> Result<()> {
        let mut turns = Turns::new();
        // A part whose values lie elsewhere is not looked at: keys mostly come in some order.
        let wanted = keys.first().filter(|_| !nulls_same).and_then(lane_bounds);
        for (number, part) in self.parts.iter().enumerate() {
            if let Some((least, greatest)) = wanted
                && let Some(of_part) = part.bounds(columns[0])?
                && (of_part.1 < least || of_part.0 > greatest)
            {
                continue;
            }
            let first = i64::from(index(number)) << 32;
            part.lookup(columns, nulls_same)?.probe(keys, rows, |key, row| {
                turns.turn()?;
                if part.is_live(row) { found(key, first | i64::from(row)) } else { Ok(()) }
            })?;
        }
        Ok(())
    }

    /// Whether all rows with a value of this column between these bounds are known to have different ones, without comparing them: in each
    /// part that reaches there the values ascend, and no such part reaches into another. O(parts), once each part's column is known.
    pub fn ascends(&self, column: usize, (least, greatest): (i64, i64)) -> Result<bool> {
        let mut reached = Vec::new();
        for part in &self.parts {
            let Some(bounds) = part.bounds(column)? else { continue };
            if bounds.1 < least || bounds.0 > greatest {
                continue;
            }
            if !part.is_ascending(column)? {
                return Ok(false);
            }
            reached.push(bounds);
        }
        reached.sort_unstable();
        Ok(reached.windows(2).all(|pair| pair[0].1 < pair[1].0))
    }

    /// The rows at these places, in this order. O(places), besides reading the parts they lie in.
    pub fn rows_at(&self, places: &[Place]) -> Result<Batch> {
        let mut by_part: HashMap<usize, (Vec<u32>, Vec<u32>)> = HashMap::new();
        for (position, place) in places.iter().enumerate() {
            let (rows, positions) = by_part.entry(usize::try_from(place >> 32).unwrap_or(usize::MAX)).or_default();
            rows.push(u32::try_from(place & i64::from(u32::MAX)).unwrap_or(u32::MAX));
            positions.push(index(position));
        }
        let mut batches = Vec::new();
        let mut order = vec![0; places.len()];
        let mut count = 0;
        for (number, (rows, positions)) in by_part {
            let Some(part) = self.parts.get(number) else { continue };
            batches.push(part.rows_at(rows)?);
            for position in positions {
                order[position as usize] = count;
                count += 1;
            }
        }
        if batches.is_empty() {
            let empty = |column: &Column| arrow::array::new_empty_array(&column.sql_type.arrow());
            return Ok(Batch::new(self.columns.iter().map(empty).collect(), 0));
        }
        Batch::concat(&batches, None)?.take(&order.into())
    }
}

impl TableSource for StoredTable {
    fn columns(&self) -> &[Column] {
        &self.columns
    }

    fn rows(&self) -> u64 {
        self.rows
    }

    fn read(&self, columns: &[usize]) -> Result<Vec<Segment>> {
        let segment = |(number, part): (usize, &Arc<StoredSegment>)| {
            let columns = columns.iter().map(|at| part.column(*at, number)).collect::<Result<_>>()?;
            Ok(Segment { columns, rows: part.count() })
        };
        self.parts.iter().enumerate().map(segment).collect()
    }

    fn scan<'s>(&'s self, request: &ScanRequest<'_>) -> Result<SegmentStream<'s>> {
        let range = |conjunct: &ColumnConjunct| LaneRange::of(conjunct, self.columns.get(conjunct.column)?.sql_type);
        let ranges: Vec<LaneRange> = request.conjuncts.iter().filter_map(range).collect();
        let (segments, pruned) = self.read_between(request.columns, &ranges)?;
        Ok(SegmentStream::ready(segments).with_pruned(pruned))
    }

    fn keys(&self) -> &[Vec<usize>] {
        &self.keys
    }

    fn statistics(&self, column: usize) -> Result<Arc<ColumnStatistics>> {
        let Some(kept) = self.statistics.get(column) else {
            return Ok(Arc::new(ColumnStatistics {
                distinct: approximate(self.rows),
                ..ColumnStatistics::unknown(self.rows)
            }));
        };
        if let Some(known) = kept.get() {
            return Ok(Arc::clone(known));
        }
        if let Some((known, changed)) = &self.earlier[column]
            && !is_stale(known, *changed)
        {
            // A tidier picture than the rows deserve to be read again for.
            return Ok(Arc::new(ColumnStatistics { rows: self.rows, ..ColumnStatistics::clone(known) }));
        }
        let arrays: Vec<ArrayRef> = self.parts.iter().map(|part| part.column(column, 0)).collect::<Result<_>>()?;
        let sql_type: SqlType = self.columns[column].sql_type;
        let sketch = |all: &mut Sketch| self.parts.iter().try_for_each(|part| part.add_to_sketch(column, all));
        let found = Arc::new(collect_with(&arrays, sql_type, &sketch)?);
        Ok(Arc::clone(kept.get_or_init(|| found)))
    }

    fn sample(&self, columns: &[usize], rows: usize) -> Result<Option<Segment>> {
        // Reading a part may mean to fetch it from the file.
        const MOST_PARTS: usize = 8;
        let every = self.parts.len().div_ceil(MOST_PARTS).max(1);
        let segment = |(number, part): (usize, &Arc<StoredSegment>)| {
            let columns = columns.iter().map(|at| part.column(*at, number)).collect::<Result<_>>()?;
            Ok(Segment { columns, rows: part.count() })
        };
        let segments = self.parts.iter().enumerate().step_by(every).map(segment).collect::<Result<Vec<_>>>()?;
        if segments.is_empty() {
            return Ok(None);
        }
        crate::catalog::of_segments(&segments, rows).map(Some)
    }

    fn changed_since_statistics(&self, column: usize) -> u64 {
        let is_fresh = self.statistics.get(column).is_some_and(|kept| kept.get().is_some());
        let earlier = self.earlier.get(column).and_then(Option::as_ref).filter(|_| !is_fresh);
        earlier.filter(|(known, changed)| !is_stale(known, *changed)).map_or(0, |(_, changed)| *changed)
    }

    fn old_statistics(&self, column: usize) -> Option<(Arc<ColumnStatistics>, u64)> {
        let fresh = self.statistics.get(column)?.get().is_some();
        let (known, changed) = self.earlier.get(column)?.as_ref()?;
        (!fresh && is_stale(known, *changed)).then(|| (Arc::clone(known), *changed))
    }
}

/// Whether so many rows have changed that statistics are to be computed again.
pub(super) fn is_stale(known: &ColumnStatistics, changed: u64) -> bool {
    approximate(changed) > STALE_SHARE * approximate(known.rows)
}
