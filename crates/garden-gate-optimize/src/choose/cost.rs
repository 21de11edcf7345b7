//! The cost of work, in one unit: reading one value of a column in order. Each constant says how many such readings the work is taken
//! to be worth, as `cargo bench --bench costs` measured it, roundly: a unit came to about a nanosecond there.

use super::key_shape::KeyShape;
use crate::catalog::SEGMENT_ROWS;
use crate::logical::{Expr, ExprKind};
use crate::physical::JoinMethod;
use crate::types::{Cost, Estimate, approximate};

/// One value read in order.
const READ_VALUE: f64 = 0.5;
/// One operation of a condition or an expression, for one row.
const EVALUATE: f64 = 1.0;
/// One comparison of numbers, days or times; of texts one more.
const COMPARE: f64 = 0.5;
/// A pattern tried, or a function computed.
const CALL: f64 = 14.0;
/// One row put into a hash table that is being built.
const BUILD_ROW: f64 = 30.0;
/// One row looked up in a hash table.
const PROBE_ROW: f64 = 15.0;
/// Several keys of one row made into one that can be compared byte by byte.
const ENCODE_KEYS: f64 = 40.0;
/// One row found its group.
const GROUP_ROW: f64 = 15.0;
/// One row compared with the one before it.
const SAME_GROUP: f64 = 4.0;
/// One group of a sorted aggregation.
const SORTED_GROUP: f64 = 6.0;
/// One row given by a join: its columns are gathered from two places.
const EMIT_ROW: f64 = 6.0;
/// One row gathered for a sort, with its keys encoded, and given in its new order.
const SORT_ROW: f64 = 40.0;
/// One row compared with the last of those that are kept.
const TOP_ROW: f64 = 7.0;
/// Rows gathered before they can be sorted, however few they are.
const START_SORT: f64 = 2_000.0;
/// One comparison while sorting.
const SORT_COMPARE: f64 = 10.0;
/// Both of rows that are sorted by one integer, which needs no encoding.
const SORT_NUMBER: f64 = 20.0;
const SORT_NUMBER_COMPARE: f64 = 2.0;
/// One pair of rows tried by a nested loop, its share of gathering included.
const TRY_PAIR: f64 = 6.0;
/// Rows that each side of a nested loop counts for at least.
const LEAST_LOOP: f64 = 25.0;
/// One step of a search in sorted values.
const SEARCH_STEP: f64 = 1.5;
/// One row of either side of a merge.
const MERGE_ROW: f64 = 6.0;
/// A key looked for in the index of one part of a table.
const FIND_KEY: f64 = 40.0;
/// A row met in an index.
const FETCH_ROW: f64 = 6.0;
/// A row of several parts brought into one order, besides comparing.
const MERGE_PARTS: f64 = 40.0;
/// A row met by a lookup of a join: a pair is made of it, and tried.
const PAIR_ROW: f64 = 22.0;
/// One value of a row that an index leads to, where such rows lie together.
const FETCH_VALUE: f64 = 3.0;
/// How many times that is where they lie anywhere.
const SCATTERED: f64 = 4.0;
/// Rows of a hash table that are at hand at any time; in one of eight times as many each row takes twice as long, and so on up to
/// [`FARTHEST`] times.
const NEAR_ROWS: f64 = 50_000.0;
const FARTHEST: f64 = 3.0;
/// Bytes that a row is taken to have, with what a table or a sort of it needs.
const ROW_BYTES: f64 = 64.0;
/// One row written to a temporary file and read again.
const SPILL_ROW: f64 = 100.0;
/// Starting a worker and joining it at the end of each pipeline.
pub(super) const START_WORKER: f64 = 250_000.0;

/// Reads columns of a table row by row, in the order in which they are stored.
pub(super) fn scan(rows: Estimate, columns: usize) -> Cost {
    Cost(rows.0 * READ_VALUE * approximate(columns.max(1)))
}

/// Finds rows by an index, in parts of the table one after the other, and reads `read` of them.
pub(super) fn index_read(
    all: Estimate,
    (lookups, ordered): (usize, bool),
    read: Estimate,
    (columns, only, together): (usize, bool, bool),
) -> Cost {
    let parts = (all.0 / approximate(SEGMENT_ROWS)).ceil().max(1.0);
    let find = approximate(lookups.max(1)) * parts * FIND_KEY;
    let merge = if ordered && parts > 1.0 { read.0 * (MERGE_PARTS + SORT_COMPARE * parts.log2()) } else { 0.0 };
    let value = match (only, together) {
        (true, _) => READ_VALUE,
        (false, true) => FETCH_VALUE,
        (false, false) => FETCH_VALUE * SCATTERED,
    };
    Cost(find + merge + read.0 * (FETCH_ROW + value * approximate(columns.max(1))))
}

/// Finds the numbers of `found` rows by an index, to put them together with those of another.
pub(super) fn index_numbers(all: Estimate, lookups: usize, found: Estimate) -> Cost {
    let parts = (all.0 / approximate(SEGMENT_ROWS)).ceil().max(1.0);
    Cost(approximate(lookups.max(1)) * parts * FIND_KEY + found.0 * (FETCH_ROW + SORT_COMPARE))
}

/// Reads rows whose numbers are known.
pub(super) fn index_fetch(rows: Estimate, columns: usize) -> Cost {
    Cost(rows.0 * FETCH_VALUE * SCATTERED * approximate(columns.max(1)))
}

/// Evaluates so many expressions for each row.
pub(super) fn evaluate(rows: Estimate, expressions: usize) -> Cost {
    Cost(rows.0 * EVALUATE * approximate(expressions))
}

/// The operations of these expressions for each row.
pub(super) fn work<'e>(rows: Estimate, exprs: impl IntoIterator<Item = &'e Expr>) -> Cost {
    Cost(rows.0 * exprs.into_iter().map(operations).sum::<f64>())
}

fn operations(expr: &Expr) -> f64 {
    let mut sum = match expr.kind() {
        ExprKind::Column(_) | ExprKind::Slot(_) | ExprKind::Literal(_) | ExprKind::Parameter(..) => return 0.0,
        ExprKind::Like(..)
        | ExprKind::Call(..)
        | ExprKind::ProgramCall(..)
        | ExprKind::Case(..)
        | ExprKind::Concat(_) => CALL,
        ExprKind::Compare(_, sides) => COMPARE + if sides[0].sql_type().is_text() { EVALUATE } else { 0.0 },
        ExprKind::And(_)
        | ExprKind::Or(_)
        | ExprKind::Not(_)
        | ExprKind::Same(_)
        | ExprKind::Is(..)
        | ExprKind::Arithmetic(..)
        | ExprKind::Negate(_)
        | ExprKind::In(..)
        | ExprKind::Coalesce(_)
        | ExprKind::Cast(_)
        | ExprKind::Array(_)
        | ExprKind::Row(_)
        | ExprKind::Field(..)
        | ExprKind::Only(_)
        | ExprKind::Subquery(_) => EVALUATE,
    };
    expr.kind().for_each_child(|child| sum += operations(child));
    sum
}

/// How much longer each row of a hash table takes than in a small one.
fn distance(rows: Estimate) -> f64 {
    (1.0 + (rows.0 / NEAR_ROWS).max(1.0).log2() / 3.0).min(FARTHEST)
}

/// Builds a table of one side and probes it with the other. A table beyond the cache costs more a row (bench `costs`).
pub(super) fn hash_join(probe: Estimate, build: Estimate, output: Estimate, keys: usize) -> Cost {
    let encode = if keys > 1 { ENCODE_KEYS } else { 0.0 };
    let far = distance(build);
    Cost(build.0 * (BUILD_ROW * far + encode) + probe.0 * (PROBE_ROW * far + encode) + output.0 * EMIT_ROW)
}

/// Every pair of rows is tried. An input counts for some rows at least: that there is only one is too easily wrong.
pub(super) fn nested_loop_join(outer: Estimate, inner: Estimate, output: Estimate) -> Cost {
    Cost(outer.0.max(LEAST_LOOP) * inner.0.max(LEAST_LOOP) * TRY_PAIR + output.0 * EMIT_ROW)
}

/// One input sorted by one value, or by each of two, and searched for each row of the other.
pub(super) fn range_join(probe: Estimate, build: Estimate, output: Estimate, values: KeyShape) -> Cost {
    let sorted = sort(build, KeyShape { count: 1, ..values }).0 * approximate(values.count.max(1));
    let steps = build.0.max(2.0).log2() * approximate(values.count.max(1));
    Cost(sorted + probe.0 * (PROBE_ROW + steps * SEARCH_STEP) + output.0 * EMIT_ROW)
}

/// Pairs of rows tried beyond those that are given.
pub(super) fn tried(pairs: Estimate, output: Estimate) -> Cost {
    Cost((pairs.0 - output.0).max(0.0) * TRY_PAIR)
}

/// Two sorted inputs gone through side by side.
pub(super) fn merge_join(probe: Estimate, build: Estimate, output: Estimate) -> Cost {
    Cost((probe.0 + build.0) * (ENCODE_KEYS + MERGE_ROW) + output.0 * EMIT_ROW)
}

/// Where the rows lie that the keys of a join lead to one after the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum LookupLocality {
    /// One after the other.
    InOrder,
    /// Each near those of neighbouring keys, so that all rows of a key are in one part; but keys come in any order.
    Together,
    /// Anywhere, in all parts.
    Anywhere,
}

/// Each outer row looked for in an index, part by part of the table, and the rows that are found read.
///
/// A search guesses where a key is, so it hardly matters in how many.
pub(super) fn index_join(
    outer: Estimate,
    (all, locality): (Estimate, LookupLocality),
    found: Estimate,
    columns: usize,
) -> Cost {
    let parts =
        if locality == LookupLocality::Anywhere { (all.0 / approximate(SEGMENT_ROWS)).ceil().max(1.0) } else { 1.0 };
    let far = if locality == LookupLocality::InOrder { 1.0 } else { SCATTERED };
    Cost(
        outer.0 * (ENCODE_KEYS + parts * FIND_KEY * far)
            + found.0 * (FETCH_ROW + PAIR_ROW + FETCH_VALUE * far * approximate(columns.max(1))),
    )
}

/// Rows of a join given.
pub(super) fn emit(output: Estimate) -> Cost {
    Cost(output.0 * EMIT_ROW)
}

fn hash_aggregate(input: Estimate, groups: Estimate, aggregates: usize, keys: usize) -> Cost {
    let find = if keys == 0 { 0.0 } else { GROUP_ROW * distance(groups) };
    Cost(input.0 * (find + EVALUATE * approximate(aggregates)) + groups.0 * BUILD_ROW)
}

/// What one of so many rows takes to be sorted by keys that are encoded.
fn encoded_row(rows: Estimate, keys: KeyShape) -> f64 {
    SORT_ROW + rows.0.max(2.0).log2() * SORT_COMPARE * approximate(keys.count.max(1))
}

fn sort(input: Estimate, keys: KeyShape) -> Cost {
    let comparisons = input.0.max(2.0).log2();
    let row = if keys.is_number { SORT_NUMBER + comparisons * SORT_NUMBER_COMPARE } else { encoded_row(input, keys) };
    Cost(START_SORT + input.0 * row)
}

/// Keeps `kept` rows of the input at any time: most rows are after those that are kept by their first key.
fn top_n(input: Estimate, kept: Estimate, keys: KeyShape) -> Cost {
    let met = Estimate(kept.0 * (1.0 + (input.0 / kept.0.max(1.0)).max(1.0).ln()));
    Cost(input.0 * TOP_ROW + met.0 * encoded_row(met, keys))
}

/// What settings multiply costs by.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Factors {
    pub index: f64,
    pub hash: f64,
    pub sort: f64,
    pub nested_loop: f64,
    /// Bytes that a statement may hold; what needs more than half of them spills to disk.
    pub memory: f64,
}

impl Default for Factors {
    fn default() -> Self {
        Self { index: 1.0, hash: 1.0, sort: 1.0, nested_loop: 1.0, memory: f64::INFINITY }
    }
}

impl Factors {
    /// What a join costs, the sorting of a merge join included.
    pub(super) fn join(
        self,
        method: JoinMethod,
        (probe, build): (Estimate, Estimate),
        output: Estimate,
        keys: KeyShape,
    ) -> Cost {
        match method {
            JoinMethod::Hash => {
                let spill = self.spill(build, probe.0 + build.0 + output.0);
                Cost(hash_join(probe, build, output, keys.count).0 * self.hash + spill)
            }
            JoinMethod::Merge => {
                self.merge_alone((probe, build), output) + self.sort(probe, keys) + self.sort(build, keys)
            }
            JoinMethod::Range | JoinMethod::Nearest => range_join(probe, build, output, keys),
            JoinMethod::NestedLoop | JoinMethod::IndexNestedLoop => {
                Cost(nested_loop_join(probe, build, output).0 * self.nested_loop)
            }
        }
    }

    /// A merge join of two inputs that are in order already.
    pub(super) fn merge_alone(self, (probe, build): (Estimate, Estimate), output: Estimate) -> Cost {
        merge_join(probe, build, output)
    }

    /// A sort of all rows.
    pub(super) fn sort(self, input: Estimate, keys: KeyShape) -> Cost {
        Cost(sort(input, keys).0 * self.sort + self.spill(input, input.0))
    }

    /// The first `kept` rows of an order.
    pub(super) fn top_n(self, input: Estimate, kept: Estimate, keys: KeyShape) -> Cost {
        Cost(top_n(input, kept, keys).0 * self.sort + self.spill(kept, input.0))
    }

    /// A grouping by a hash table; without keys, one group.
    pub(super) fn hash_aggregate(self, input: Estimate, groups: Estimate, aggregates: usize, keys: usize) -> Cost {
        let spill = if keys == 0 { 0.0 } else { self.spill(groups, input.0) };
        hash_aggregate(input, groups, aggregates, keys) + Cost(spill)
    }

    /// Values of partitions beside all of their rows, which are held.
    pub(super) fn partition_values(self, input: Estimate, partitions: Estimate, calls: usize, keys: usize) -> Cost {
        hash_aggregate(input, partitions, calls, keys) + Cost(self.spill(input, input.0))
    }

    /// Rows of a group come beside one another.
    pub(super) fn sorted_aggregate(self, input: Estimate, groups: Estimate, aggregates: usize, keys: usize) -> Cost {
        let row = SAME_GROUP * approximate(keys) + EVALUATE * approximate(aggregates);
        Cost(input.0 * row + groups.0 * SORTED_GROUP)
    }

    /// Whether so many rows fit into the memory.
    pub(super) fn fits(self, held: Estimate) -> bool {
        held.0 * ROW_BYTES <= self.memory / 2.0
    }

    /// What it costs that `written` rows go to files, where the rows to be held don't fit into the memory.
    fn spill(self, held: Estimate, written: f64) -> f64 {
        if self.fits(held) { 0.0 } else { written * SPILL_ROW }
    }
}
