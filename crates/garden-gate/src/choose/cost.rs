//! The cost of work, in one unit: reading one value of a column in order. Each constant says how many such readings the work is taken
//! to be worth. They are assumed, not fitted: only their order of magnitude is meant, and plans are compared by nothing else.

use crate::catalog::SEGMENT_ROWS;
use crate::types::{Cost, Estimate, approximate};

/// One value read in order.
const READ_VALUE: f64 = 1.0;
/// One condition tested, or one expression computed, for one row.
const EVALUATE: f64 = 1.0;
/// One row put into a hash table that is being built.
const BUILD_ROW: f64 = 30.0;
/// One row looked up in a hash table.
const PROBE_ROW: f64 = 15.0;
/// Several keys of one row made into one that can be compared byte by byte.
const ENCODE_KEYS: f64 = 40.0;
/// One row found its group.
const GROUP_ROW: f64 = 15.0;
/// One row given by a join: its columns are gathered from two places.
const EMIT_ROW: f64 = 6.0;
/// One comparison while sorting.
const SORT_COMPARE: f64 = 4.0;
/// One pair of rows tried by a nested loop, its share of gathering included.
const TRY_PAIR: f64 = 6.0;
/// A key looked for in the index of one part of a table.
const FIND_KEY: f64 = 20.0;
/// A row met in an index.
const FETCH_ROW: f64 = 2.0;
/// One value of a row that an index leads to.
const FETCH_VALUE: f64 = 4.0;
/// Starting a worker and joining it at the end of each pipeline.
pub(super) const START_WORKER: f64 = 100_000.0;

pub(super) fn scan(rows: Estimate, columns: usize) -> Cost {
    Cost(rows.0 * READ_VALUE * approximate(columns.max(1)))
}

/// Finds rows by an index, in parts of the table one after the other, and reads `read` of them.
pub(super) fn index_read(
    all: Estimate,
    (lookups, ordered): (usize, bool),
    read: Estimate,
    (columns, only): (usize, bool),
) -> Cost {
    let parts = (all.0 / approximate(SEGMENT_ROWS)).ceil().max(1.0);
    let find = approximate(lookups.max(1)) * parts * FIND_KEY;
    let merge = if ordered { read.0 * SORT_COMPARE * (1.0 + parts.log2()) } else { 0.0 };
    let value = if only { READ_VALUE } else { FETCH_VALUE };
    Cost(find + merge + read.0 * (FETCH_ROW + value * approximate(columns.max(1))))
}

pub(super) fn evaluate(rows: Estimate, expressions: usize) -> Cost {
    Cost(rows.0 * EVALUATE * approximate(expressions))
}

pub(super) fn hash_join(probe: Estimate, build: Estimate, output: Estimate, keys: usize) -> Cost {
    let encode = if keys > 1 { ENCODE_KEYS } else { 0.0 };
    Cost(build.0 * (BUILD_ROW + encode) + probe.0 * (PROBE_ROW + encode) + output.0 * EMIT_ROW)
}

pub(super) fn nested_loop_join(outer: Estimate, inner: Estimate, output: Estimate) -> Cost {
    Cost(outer.0 * inner.0 * TRY_PAIR + output.0 * EMIT_ROW)
}

pub(super) fn hash_aggregate(input: Estimate, groups: Estimate, aggregates: usize, keys: usize) -> Cost {
    let find = if keys == 0 { 0.0 } else { GROUP_ROW };
    Cost(input.0 * (find + EVALUATE * approximate(aggregates)) + groups.0 * BUILD_ROW)
}

pub(super) fn sort(input: Estimate, keys: usize) -> Cost {
    Cost(input.0 * input.0.max(2.0).log2() * SORT_COMPARE * approximate(keys.max(1)))
}

/// Keeps `kept` rows of the input at any time.
pub(super) fn top_n(input: Estimate, kept: Estimate, keys: usize) -> Cost {
    Cost(input.0 * kept.0.max(2.0).log2() * SORT_COMPARE * approximate(keys.max(1)))
}
