//! CASE and COALESCE: a branch is computed only for the rows that take it (clause 6.12).

use super::evaluate::evaluate;
use super::logic::{condition, kept};
use super::{Batch, Lane};
use crate::diagnostic::Result;
use crate::logical::Expr;
use crate::types::{SqlType, index};
use arrow::array::{Array, ArrayRef, UInt32Array, new_null_array};
use arrow::compute;

/// Which branch each row of a batch takes, filled branch by branch.
struct Choice {
    /// Rows that no branch has taken yet, by their place in the batch.
    open: Vec<u32>,
    /// For each row: the array and the lane in it.
    from: Vec<(usize, usize)>,
    values: Vec<ArrayRef>,
}

impl Choice {
    fn new(rows: usize) -> Self {
        Self { open: (0..index(rows)).collect(), from: vec![(0, 0); rows], values: Vec::new() }
    }

    fn open_batch(&self, batch: &Batch) -> Result<Batch> {
        if self.open.len() == batch.rows {
            Ok(batch.clone())
        } else {
            batch.take(&UInt32Array::from(self.open.clone()))
        }
    }

    /// Gives the open rows for which `taken` holds the values of `lane`, one a taken row.
    fn settle(&mut self, taken: impl Fn(usize) -> bool, lane: &Lane) {
        let place = self.values.len();
        let mut next = 0;
        let mut still_open = Vec::new();
        for (position, row) in self.open.iter().enumerate() {
            if taken(position) {
                self.from[*row as usize] = (place, if lane.is_constant() { 0 } else { next });
                next += 1;
            } else {
                still_open.push(*row);
            }
        }
        self.open = still_open;
        self.values.push(lane.array().clone());
    }

    fn finish(self) -> Result<Lane> {
        let values: Vec<&dyn Array> = self.values.iter().map(AsRef::as_ref).collect();
        Ok(Lane::Array(compute::interleave(&values, &self.from)?))
    }
}

/// `CASE WHEN … THEN … ELSE … END`: a branch is evaluated for the rows that no earlier one took, so that `CASE WHEN d <> 0 THEN n / d END`
/// never divides by zero.
pub(super) fn case(branches: &[(Expr, Expr)], otherwise: &Expr, batch: &Batch) -> Result<Lane> {
    let mut choice = Choice::new(batch.rows);
    for (when, then) in branches {
        if choice.open.is_empty() {
            break;
        }
        let open = choice.open_batch(batch)?;
        let taken = kept(&condition(when, &open)?);
        let count = taken.true_count();
        if count > 0 {
            let lane = evaluate(then, &open.filter(&taken, count)?)?;
            choice.settle(|position| taken.value(position), &lane);
        }
    }
    if !choice.open.is_empty() || choice.values.is_empty() {
        let lane = evaluate(otherwise, &choice.open_batch(batch)?)?;
        choice.settle(|_| true, &lane);
    }
    choice.finish()
}

/// `COALESCE(…)`: a term is evaluated for the rows for which all earlier ones are NULL.
pub(super) fn coalesce(terms: &[Expr], sql_type: SqlType, batch: &Batch) -> Result<Lane> {
    let mut choice = Choice::new(batch.rows);
    for term in terms {
        if choice.open.is_empty() {
            break;
        }
        let open = choice.open_batch(batch)?;
        let array = evaluate(term, &open)?.into_array(open.rows)?;
        let present = compute::is_not_null(&array)?;
        let dense = compute::filter(&array, &present)?;
        choice.settle(|position| present.value(position), &Lane::Array(dense));
    }
    if !choice.open.is_empty() || choice.values.is_empty() {
        choice.settle(|_| true, &Lane::Constant(new_null_array(&sql_type.arrow(), 1)));
    }
    choice.finish()
}
