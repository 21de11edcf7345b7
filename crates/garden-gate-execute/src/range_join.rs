//! The sides of a range join's inequalities.
//!
//! A side that can fail is computed only for the sake of pairs that may match: a row for which it fails is left open, a candidate for every
//! row of the other side, and the inequality is tested again for each pair, where it fails if a pair really needs it.

use super::build_side::resolve_all;
use crate::diagnostic::{Error, Result};
use crate::kernel::{Batch, RangeSide, RangeTable, evaluate};
use crate::logical::{ColumnId, CompareOp, Expr};
use crate::physical::JoinRange;
use crate::types::index;
use arrow::array::{ArrayRef, new_null_array};
use rayon::ThreadPool;

/// The inequalities of a range join, with the expressions of the probe side.
pub(super) struct Ranges {
    pub(super) first: Expr,
    second: Option<Expr>,
}

/// What the expressions come to for the rows of a batch, and the rows for which one fails.
pub(super) struct RangeValues {
    pub(super) first: ArrayRef,
    pub(super) second: Option<ArrayRef>,
    pub(super) open: Vec<u32>,
}

impl Ranges {
    /// Those of the probe side; `None` without inequalities.
    pub(super) fn of_probe(ranges: &[JoinRange], layout: &[ColumnId]) -> Result<Option<Self>> {
        Self::of(ranges.iter().map(|range| &range.probe), layout)
    }

    fn of<'e>(sides: impl Iterator<Item = &'e Expr>, layout: &[ColumnId]) -> Result<Option<Self>> {
        let mut sides = resolve_all(sides, layout)?.into_iter();
        Ok(sides.next().map(|first| Self { first, second: sides.next() }))
    }

    /// The values of the inequalities, and the rows that cannot match because one of them is NULL.
    pub(super) fn values(&self, batch: &Batch) -> Result<RangeValues> {
        let mut open = Vec::new();
        let first = values(&self.first, batch, &mut open)?;
        let second = self.second.as_ref().map(|side| values(side, batch, &mut open)).transpose()?;
        open.sort_unstable();
        open.dedup();
        Ok(RangeValues { first, second, open })
    }
}

/// The table of a build side whose columns are `layout`.
pub(super) fn table(
    ranges: &[JoinRange],
    layout: &[ColumnId],
    (batch, keys, null_same): (&Batch, &[ArrayRef], &[bool]),
    threads: Option<&ThreadPool>,
) -> Result<Option<RangeTable>> {
    let Some(sides) = Ranges::of(ranges.iter().map(|range| &range.build), layout)? else { return Ok(None) };
    let RangeValues { first, second, open } = sides.values(batch)?;
    let op = |at: usize| ranges.get(at).map_or(CompareOp::Less, |range: &JoinRange| range.op);
    let first = RangeSide { op: op(0), build: first };
    let second = second.map(|build| RangeSide { op: op(1), build });
    RangeTable::build((keys, null_same), (&first, second.as_ref()), (batch.rows, open), threads).map(Some)
}

/// The values of an expression; NULL, and the row in `open`, where it fails.
fn values(expr: &Expr, batch: &Batch, open: &mut Vec<u32>) -> Result<ArrayRef> {
    match evaluate(expr, batch).and_then(|lane| lane.into_array(batch.rows)) {
        Err(error) if is_of_a_row(&error) => {
            let mut parts = Vec::with_capacity(batch.rows);
            for row in 0..batch.rows {
                crate::control::checkpoint()?;
                match evaluate(expr, &batch.slice(row, 1)).and_then(|lane| lane.into_array(1)) {
                    Ok(value) => parts.push(value),
                    Err(error) if is_of_a_row(&error) => {
                        open.push(index(row));
                        parts.push(new_null_array(&expr.sql_type().arrow(), 1));
                    }
                    Err(other) => return Err(other),
                }
            }
            let parts: Vec<_> = parts.iter().map(AsRef::as_ref).collect();
            Ok(arrow::compute::concat(&parts)?)
        }
        other => other,
    }
}

/// Whether it is the value of some row that fails: a data exception (clause 24.1, class 22).
fn is_of_a_row(error: &Error) -> bool {
    error.sqlstate().class() == "22"
}
