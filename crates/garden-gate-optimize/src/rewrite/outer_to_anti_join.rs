//! `outer join to anti join`
//!
//! ```text
//! filter b.key IS NULL            →   project b.… = NULL
//!   left join a.x = b.key               anti join a.x = b.key
//!     a, b                                a, b
//! ```
//! Condition: in a pair that the join makes the column is not NULL, since its condition refuses NULL there or the column never is, so that it
//! is NULL just in the rows without a match. These have NULL in all columns of the right side.

use super::RuleContext;
use crate::diagnostic::Span;
use crate::logical::never_null::{is_never_null, refuses_null};
use crate::logical::{
    BinaryJoin, ColumnId, Columns, Expr, ExprKind, JoinKind, LogicalPlan, Printer, RewriteNote, RewriteRule, Test,
};
use crate::types::Value;
use std::ops::ControlFlow;

/// The anti join that a left join below these conditions comes to, the condition that says so taken out of them; the join as it was, where
/// none does.
pub(super) fn to_anti_join(
    join: BinaryJoin,
    conjuncts: &mut Vec<Expr>,
    context: &mut RuleContext<'_>,
) -> ControlFlow<LogicalPlan, BinaryJoin> {
    if join.kind != JoinKind::Left || join.dependent || !join.guard.is_empty() {
        return ControlFlow::Continue(join);
    }
    let right = join.right.output();
    let lost =
        |term: &Expr| null_test(term).is_some_and(|id| right.contains(&id) && is_set(&join, id, context.columns));
    let Some(at) = conjuncts.iter().position(lost) else { return ControlFlow::Continue(join) };
    let term = conjuncts.remove(at);
    let change = format!(
        "the {} join became an anti join by {}",
        join.kind_written(),
        Printer::new(context.columns).expr(&term)
    );
    let why = "it is TRUE just for the rows that were filled up with NULLs";
    context.log.push(RewriteNote { rule: RewriteRule::OuterToAntiJoin, change, why });
    let null = |id: ColumnId| (id, Expr::literal(Value::Null, context.columns.get(id).sql_type, Span::default()));
    let nulls = right.into_iter().map(null).collect();
    ControlFlow::Break(BinaryJoin { kind: JoinKind::Anti, nearest: None, ..join }.into_plan().project(nulls))
}

/// The column of `column IS NULL`.
fn null_test(term: &Expr) -> Option<ColumnId> {
    if let ExprKind::Is(operand, Test::Null) = term.kind() {
        if let ExprKind::Column(id) = operand.kind() { Some(*id) } else { None }
    } else {
        None
    }
}

/// Whether a column of the right side has a value in each pair.
fn is_set(join: &BinaryJoin, id: ColumnId, columns: &Columns) -> bool {
    join.on.iter().any(|term| refuses_null(term, &[id])) || is_never_null(&join.right, id, &stored(columns))
}

/// What tables say of their columns; one that can't be read says nothing.
pub(super) fn stored(columns: &Columns) -> impl Fn(ColumnId) -> bool {
    |id| columns.is_never_null(id).unwrap_or(false)
}
