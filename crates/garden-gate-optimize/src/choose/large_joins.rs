//! Joins of more inputs than a search takes: some that conditions tie together are joined by a search of their own first, and count as one
//! input from then on.

use crate::collections::HashSet;
use crate::logical::{ColumnId, Expr, LogicalPlan};

/// Inputs of a search within a search.
const PART: usize = 32;

/// The same join with at most `most` inputs. O(inputs · conditions).
pub(super) fn folded(
    mut inputs: Vec<LogicalPlan>,
    mut conjuncts: Vec<Expr>,
    most: usize,
) -> (Vec<LogicalPlan>, Vec<Expr>) {
    while inputs.len() > most {
        let outputs: Vec<HashSet<ColumnId>> = inputs.iter().map(|input| input.output().into_iter().collect()).collect();
        let part = tied(&outputs, &conjuncts);
        let columns: HashSet<ColumnId> = part.iter().flat_map(|at| outputs[*at].iter().copied()).collect();
        let is_own = |term: &Expr| term.columns().iter().all(|id| columns.contains(id));
        let (own, others): (Vec<Expr>, Vec<Expr>) = conjuncts.into_iter().partition(is_own);
        let (mut joined, mut left) = (Vec::new(), Vec::new());
        for (at, input) in inputs.into_iter().enumerate() {
            if part.contains(&at) { joined.push(input) } else { left.push(input) }
        }
        left.insert(0, LogicalPlan::InnerJoin { inputs: joined, conjuncts: own });
        (inputs, conjuncts) = (left, others);
    }
    (inputs, conjuncts)
}

/// Inputs that conditions tie to one another, at least two of them: those around an input that has not been joined yet come first.
fn tied(outputs: &[HashSet<ColumnId>], conjuncts: &[Expr]) -> Vec<usize> {
    let used: Vec<HashSet<usize>> = conjuncts
        .iter()
        .map(|term| {
            let columns = term.columns();
            let uses = |at: &usize| columns.iter().any(|id| outputs[*at].contains(id));
            (0..outputs.len()).filter(uses).collect()
        })
        .collect();
    let mut part = vec![outputs.len() - 1];
    while part.len() < PART {
        let next = used.iter().filter(|tables| tables.iter().any(|at| part.contains(at))).flatten();
        match next.copied().filter(|at| !part.contains(at)).max() {
            Some(at) => part.push(at),
            None => break,
        }
    }
    if part.len() == 1 {
        part.push(0);
    }
    part
}
