//! Conditions on numbers of rows: `ROW_NUMBER() … <= 3` wants the first three rows of each partition and no more.

use super::build::{Builder, make, only, with_columns};
use super::cost;
use crate::diagnostic::Result;
use crate::logical::{ColumnId, CompareOp, Expr, ExprKind, LogicalPlan, SortKey, WindowCall, WindowFunction};
use crate::physical::{Node, Operator};
use crate::types::{Estimate, Value};

/// Input, partition, order and functions of a window.
type Window = (LogicalPlan, Vec<Expr>, Vec<SortKey>, Vec<(ColumnId, WindowCall)>);

impl Builder<'_> {
    /// A window below conditions.
    pub(super) fn numbered(
        &mut self,
        (input, partition, order, calls): Window,
        conjuncts: Vec<Expr>,
        required: &[ColumnId],
    ) -> Result<Node> {
        let needed = with_columns(required, &conjuncts);
        let used: Vec<_> = calls.into_iter().filter(|(id, _)| needed.contains(id)).collect();
        let only_numbers = used.iter().all(|(_, call)| matches!(call.function, WindowFunction::RowNumber));
        let first = if only_numbers && !used.is_empty() {
            conjuncts.iter().filter_map(|term| most(term, &used)).min()
        } else {
            None
        };
        let window = self.window(input, (partition, order), (used.clone(), first), &needed)?;
        if first.is_none() {
            return self.filter_node(window, conjuncts, required);
        }
        // What bounds the numbers from above keeps what there is; the other conditions are reckoned.
        let others: Vec<Expr> = conjuncts.iter().filter(|term| most(term, &used).is_none()).cloned().collect();
        let mut share = self.estimator.conjunction(&others)?.share();
        if let Some(first) = first
            && conjuncts.iter().any(|term| {
                matches!(term.kind(), ExprKind::Compare(CompareOp::Equal, _)) && most(term, &used).is_some()
            })
        {
            share /= crate::types::approximate(first.max(1));
        }
        let rows = Estimate(window.rows.0 * share);
        let own = cost::work(window.rows, &conjuncts);
        let output = only(window.output.iter().copied(), required);
        Ok(make(Operator::Filter(conjuncts), vec![window], output, rows, own))
    }
}

/// The greatest number that a condition lets through.
fn most(term: &Expr, calls: &[(ColumnId, WindowCall)]) -> Option<u64> {
    let ExprKind::Compare(op, sides) = term.kind() else { return None };
    let is_number =
        |expr: &Expr| matches!(expr.kind(), ExprKind::Column(id) if calls.iter().any(|(made, _)| made == id));
    let (op, bound) = if is_number(&sides[0]) {
        (*op, sides[1].constant()?)
    } else if is_number(&sides[1]) {
        (op.flipped(), sides[0].constant()?)
    } else {
        return None;
    };
    let Value::Integer(bound) = bound else { return None };
    let most = match op {
        CompareOp::Equal | CompareOp::LessOrEqual => *bound,
        CompareOp::Less => bound.checked_sub(1)?,
        CompareOp::NotEqual | CompareOp::Greater | CompareOp::GreaterOrEqual => return None,
    };
    Some(u64::try_from(most).unwrap_or(0))
}
