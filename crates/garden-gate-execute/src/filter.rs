use super::pipeline::{Flow, Transform};
use crate::diagnostic::Result;
use crate::kernel::{Batch, count_true, evaluate, kept};
use crate::logical::Expr;
use crate::physical::{NodeMeasure, Tally};
use arrow::array::{Array, AsArray, BooleanArray};
use arrow::compute;
use std::sync::atomic::Ordering;

/// Keeps the rows for which every term is TRUE, and of them the columns that are needed later.
///
/// Terms are tried in order; one that can fail meets only rows for which no earlier term was FALSE. Order of rows is kept.
pub(super) struct Filter<'a> {
    terms: Vec<Expr>,
    /// Columns kept, by their place in the input.
    output: Vec<usize>,
    measure: Option<&'a NodeMeasure>,
}

impl<'a> Filter<'a> {
    /// A filter that keeps the columns `output` of the rows that pass all terms.
    pub(super) fn new(terms: Vec<Expr>, output: Vec<usize>, measure: Option<&'a NodeMeasure>) -> Self {
        Self { terms, output, measure }
    }

    /// The rows for which all terms are TRUE.
    pub(super) fn mask(&self, batch: &Batch) -> Result<BooleanArray> {
        let mut sofar: Option<BooleanArray> = None;
        for (number, term) in self.terms.iter().enumerate() {
            let open = sofar.as_ref().map(not_false);
            let narrowed = open.as_ref().filter(|_| term.can_raise());
            let truth = match narrowed {
                Some(open) => crate::kernel::evaluate_where(term, batch, open)?,
                None => evaluate(term, batch)?.into_array(batch.rows)?,
            };
            let truth = truth.as_boolean();
            if let Some(measure) = self.measure
                && let Some(tally) = measure.tallies.get(if self.terms.len() > 1 { number + 1 } else { 0 })
            {
                count(tally, truth, open.as_ref())?;
            }
            sofar = Some(match sofar {
                None => truth.clone(),
                Some(sofar) => compute::and_kleene(&sofar, truth)?,
            });
        }
        let whole = sofar.unwrap_or_else(|| BooleanArray::from(vec![true; batch.rows]));
        if let Some(measure) = self.measure
            && self.terms.len() > 1
        {
            count(&measure.tallies[0], &whole, None)?;
        }
        Ok(kept(&whole))
    }
}

/// TRUE and UNKNOWN: the rows that a further term can still decide.
fn not_false(truth: &BooleanArray) -> BooleanArray {
    let values = match truth.nulls() {
        None => truth.values().clone(),
        Some(nulls) => truth.values() | &!nulls.inner(),
    };
    BooleanArray::new(values, None)
}

/// Adds up what a term came to, over the rows that reached it.
fn count(tally: &Tally, truth: &BooleanArray, reached: Option<&BooleanArray>) -> Result<()> {
    let truth = match reached {
        Some(reached) => compute::filter(truth, reached)?.as_boolean().clone(),
        None => truth.clone(),
    };
    let (holds, unknown) = (count_true(&truth), truth.null_count());
    tally.holds.fetch_add(holds as u64, Ordering::Relaxed);
    tally.unknown.fetch_add(unknown as u64, Ordering::Relaxed);
    tally.fails.fetch_add((truth.len() - holds - unknown) as u64, Ordering::Relaxed);
    Ok(())
}

impl Transform for Filter<'_> {
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        if self.terms.is_empty() {
            return emit(select(&batch, &self.output));
        }
        let mask = self.mask(&batch)?;
        let count = mask.values().count_set_bits();
        if count == 0 {
            return Ok(Flow::More);
        }
        emit(select(&batch, &self.output).filter(&mask, count)?)
    }
}

/// The columns at these places.
pub(super) fn select(batch: &Batch, output: &[usize]) -> Batch {
    Batch::new(output.iter().map(|at| batch.columns[*at].clone()).collect(), batch.rows)
}
