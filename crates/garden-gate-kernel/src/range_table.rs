//! The build side of a range join: rows within groups of equal keys, sorted by the value of a first inequality, with a tree of greatest
//! ranks for a second one (a priority search tree over an array: SIAM J. Comput. 14, 1985, p. 257).

use super::join_table::is_key;
use super::sorted_values::{KeyGroups, Probes, Sorted, sort_by_values};
use crate::collections::HashSet;
use crate::diagnostic::Result;
use crate::logical::CompareOp;
use crate::types::index;
use arrow::array::{Array, ArrayRef};
use rayon::ThreadPool;
use std::cmp::Ordering;
use std::ops::Range;

/// Ranks that one entry of the next level of the tree stands for.
const FAN: usize = 8;

/// One side of an inequality, of which a value of the probe side is the left operand.
#[derive(Debug)]
pub struct RangeSide {
    pub op: CompareOp,
    /// The values of all build rows. One that is NULL meets nothing.
    pub build: ArrayRef,
}

/// Rows of a build side that are found by inequalities. Build: O(rows × log rows). A probe row: O(log rows + matches × log rows) at
/// most; O(log rows + matches) for one inequality, or two with the same build side, whose matches lie together.
#[derive(Debug)]
pub struct RangeTable {
    groups: KeyGroups,
    /// Row numbers, by group and then by the value of the first inequality; rows of one value in row order.
    order: Vec<u32>,
    first: Bound,
    second: Second,
    /// Rows whose value could not be computed: each is a candidate of every probe row.
    open: Vec<u32>,
}

/// The values of an inequality in the order that they are searched in.
#[derive(Debug)]
struct Bound {
    op: CompareOp,
    values: Sorted,
}

/// What else a candidate must fulfil.
#[derive(Debug)]
enum Second {
    None,
    /// An inequality with the same values of the build side.
    Same(CompareOp),
    Other {
        /// All values, sorted.
        bound: Bound,
        /// For each place of `order`: how far its value is from the end that fails first, among all of them.
        ranks: Vec<u32>,
        /// The greatest rank of each [`FAN`] of the level below.
        levels: Vec<Vec<u32>>,
    },
}

/// Whether the matches of a probe row are those before a place; else those after it.
fn is_prefix(op: CompareOp) -> bool {
    matches!(op, CompareOp::Greater | CompareOp::GreaterOrEqual)
}

impl Bound {
    /// The part of `within` whose values fulfil the inequality with that of a probe row.
    fn matches(&self, op: CompareOp, within: &Range<usize>, probes: &Probes<'_>, row: usize) -> Range<usize> {
        let or_equal = matches!(op, CompareOp::GreaterOrEqual | CompareOp::Less);
        let precedes = |order: Ordering| order == Ordering::Less || or_equal && order == Ordering::Equal;
        let at = within.start + self.values.count_before(within, (probes, row), precedes);
        if is_prefix(op) { within.start..at } else { at..within.end }
    }
}

impl RangeTable {
    /// A table over all rows: `keys` are those of equalities, `ranges` the sides of one inequality, or two. `open` are the rows whose value
    /// could not be computed.
    pub fn build(
        (keys, null_same): (&[ArrayRef], &[bool]),
        (first, second): (&RangeSide, Option<&RangeSide>),
        (rows, open): (usize, Vec<u32>),
        threads: Option<&ThreadPool>,
    ) -> Result<Self> {
        let is_open: HashSet<u32> = open.iter().copied().collect();
        let has_values =
            |row: &usize| first.build.is_valid(*row) && second.is_none_or(|side| side.build.is_valid(*row));
        let mut order: Vec<u32> = (0..rows)
            .filter(|row| has_values(row) && is_key(keys, null_same, *row))
            .map(index)
            .filter(|row| !is_open.contains(row))
            .collect();
        sort_by_values(&mut order, &first.build)?;
        let groups = KeyGroups::of(&mut order, (keys, null_same), threads)?;
        let bound = Bound { op: first.op, values: Sorted::of(&first.build, &order)? };
        let second = match second {
            None => Second::None,
            Some(second) if second.build.to_data() == first.build.to_data() => Second::Same(second.op),
            Some(second) => Second::new(second, &order)?,
        };
        Ok(Self { groups, order, first: bound, second, open })
    }

    /// Calls `found` with each pair of a probe row and a build row that fulfil all inequalities and equalities, probe rows in order, until
    /// it says that the probe row needs no more. A probe row of `open` meets every build row of its keys.
    pub fn probe(
        &self,
        keys: &[ArrayRef],
        (first, second): (&ArrayRef, Option<&ArrayRef>),
        (rows, open): (usize, &[u32]),
        mut found: impl FnMut(u32, u32) -> Result<bool>,
    ) -> Result<()> {
        let groups = self.groups.of_probes(keys, (rows, self.order.len()))?;
        let probes = Probed::new(self, first, second)?;
        let mut next_open = open.iter().copied().peekable();
        for (row, within) in groups.into_iter().enumerate() {
            let number = index(row);
            let is_open = next_open.next_if_eq(&number).is_some();
            let missing = !is_open && (first.is_null(row) || second.is_some_and(|values| values.is_null(row)));
            let mut wants = true;
            if let Some(within) = within.filter(|_| !missing) {
                let add = |at: usize| found(number, self.order[at]);
                wants = if is_open { each(within, add)? } else { self.matches(&within, &probes, row, add)? };
            }
            if !missing {
                for build in &self.open {
                    if !wants {
                        break;
                    }
                    wants = found(number, *build)?;
                }
            }
        }
        Ok(())
    }

    /// Calls `found` with the places of the matches of a probe row; `false` when it wants no more.
    fn matches(
        &self,
        within: &Range<usize>,
        probes: &Probed<'_>,
        row: usize,
        mut found: impl FnMut(usize) -> Result<bool>,
    ) -> Result<bool> {
        let range = self.first.matches(self.first.op, within, &probes.first, row);
        match (&self.second, &probes.second) {
            (Second::Same(op), Some(second)) => {
                let other = self.first.matches(*op, within, second, row);
                each(range.start.max(other.start)..range.end.min(other.end), found)
            }
            (Second::Other { bound, ranks, levels }, Some(second)) => {
                let all = 0..ranks.len();
                let fits = bound.matches(bound.op, &all, second, row);
                // Ranks count from the end that fails: those that fit are the greatest.
                let least = index(ranks.len() - fits.len());
                at_least(ranks, levels, (range, least), &mut found)
            }
            _ => each(range, found),
        }
    }

    /// Whether there are rows whose value could not be computed.
    pub fn is_open(&self) -> bool {
        !self.open.is_empty()
    }

    /// Memory held, in bytes.
    pub fn bytes(&self) -> usize {
        let second = match &self.second {
            Second::None | Second::Same(_) => 0,
            Second::Other { bound, ranks, levels } => {
                bound.values.bytes() + ranks.len() * 4 + levels.iter().map(|level| level.len() * 4).sum::<usize>()
            }
        };
        self.groups.bytes() + self.order.len() * 4 + self.first.values.bytes() + second
    }
}

/// The values of a batch of probe rows.
struct Probed<'a> {
    first: Probes<'a>,
    second: Option<Probes<'a>>,
}

impl<'a> Probed<'a> {
    fn new(table: &RangeTable, first: &'a ArrayRef, second: Option<&'a ArrayRef>) -> Result<Self> {
        let second = match (&table.second, second) {
            (Second::Same(_), Some(second)) => Some(table.first.values.probes(second)?),
            (Second::Other { bound, .. }, Some(second)) => Some(bound.values.probes(second)?),
            (Second::None, _) | (_, None) => None,
        };
        Ok(Self { first: table.first.values.probes(first)?, second })
    }
}

impl Second {
    fn new(side: &RangeSide, order: &[u32]) -> Result<Self> {
        let mut sorted = order.to_vec();
        sort_by_values(&mut sorted, &side.build)?;
        let values = Sorted::of(&side.build, &sorted)?;
        let most = sorted.iter().copied().max().map_or(0, |row| row as usize + 1);
        let mut by_row = vec![0_u32; most];
        for (place, row) in sorted.iter().enumerate() {
            // A prefix fits: the first value is the last to fail.
            let rank = if is_prefix(side.op) { sorted.len() - 1 - place } else { place };
            by_row[*row as usize] = index(rank);
        }
        let ranks: Vec<u32> = order.iter().map(|row| by_row[*row as usize]).collect();
        let mut levels: Vec<Vec<u32>> = Vec::new();
        loop {
            let below = levels.last().unwrap_or(&ranks);
            if below.len() <= FAN {
                break;
            }
            let level = below.chunks(FAN).map(|part| part.iter().copied().max().unwrap_or(0)).collect();
            levels.push(level);
        }
        Ok(Self::Other { bound: Bound { op: side.op, values }, ranks, levels })
    }
}

/// Each place, until one says that it is enough.
fn each(range: Range<usize>, mut found: impl FnMut(usize) -> Result<bool>) -> Result<bool> {
    for at in range {
        if !found(at)? {
            return Ok(false);
        }
    }
    Ok(true)
}

/// The places of a range whose rank is at least so great.
fn at_least(
    ranks: &[u32],
    levels: &[Vec<u32>],
    (range, least): (Range<usize>, u32),
    found: &mut impl FnMut(usize) -> Result<bool>,
) -> Result<bool> {
    let mut at = range.start;
    while at < range.end {
        // The widest part from here on of which no rank is great enough is skipped.
        let (mut width, mut level) = (1, 0);
        while let Some(known) = levels.get(level) {
            let wider = width * FAN;
            if at % wider != 0 || at + wider > range.end || known[at / wider] >= least {
                break;
            }
            (width, level) = (wider, level + 1);
        }
        if level == 0 && ranks[at] >= least && !found(at)? {
            return Ok(false);
        }
        at += width;
    }
    Ok(true)
}
