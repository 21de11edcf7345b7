//! A part of `decorrelate subquery`: the first rows of an order, for each row around.
//!
//! ```text
//! for each row of o:                        →   nearest join on t.k = o.k AND t.day <= o.day, first 1 by day DESC
//!   limit 1                                       o, t
//!     sort day DESC
//!       filter t.k = o.k AND t.day <= o.day
//!         t
//! ```
//! Condition: the columns from outside stand in conditions below the sort only, and nothing in the query can fail, since it is computed for
//! rows that are not the first too.

use super::RuleContext;
use super::decorrelate::{log, pull_up};
use crate::collections::HashSet;
use crate::diagnostic::Span;
use crate::logical::{BinaryJoin, ColumnId, Expr, JoinKind, LogicalPlan, Nearest, SortKey};
use std::ops::ControlFlow;

/// A query that gives the first rows of an order.
struct FirstRows {
    /// What is computed above the limit, the innermost first.
    above: Vec<Vec<(ColumnId, Expr)>>,
    input: LogicalPlan,
    order: Vec<SortKey>,
    fetch: u64,
}

/// The join of a query that depends on the rows around it with these; the join as it was, where it is none of them.
pub(super) fn of_dependent(
    join: BinaryJoin,
    outer: &HashSet<ColumnId>,
    context: &mut RuleContext<'_>,
) -> ControlFlow<LogicalPlan, BinaryJoin> {
    if !matches!(join.kind, JoinKind::Inner | JoinKind::Left | JoinKind::Single) || !join.on.is_empty() {
        return ControlFlow::Continue(join);
    }
    let found = first_rows(join.right.clone()).filter(|found| join.kind != JoinKind::Single || found.fetch <= 1);
    let Some(found) = found else { return ControlFlow::Continue(join) };
    let is_outer = |expr: &Expr| expr.columns().iter().any(|id| outer.contains(id));
    let computed = || found.above.iter().flatten().map(|(_, expr)| expr);
    if computed().chain(found.order.iter().map(|key| &key.expr)).any(|expr| is_outer(expr) || expr.can_raise())
        || found.input.can_raise()
    {
        return ControlFlow::Continue(join);
    }
    let Some((input, on)) = pull_up(found.input, outer, context) else { return ControlFlow::Continue(join) };
    log(context, "its first rows are found by a nearest join");
    let right = found.above.into_iter().fold(input, LogicalPlan::project);
    let kind = if join.kind == JoinKind::Inner { JoinKind::Inner } else { JoinKind::Left };
    let nearest = Some(Nearest { order: found.order, fetch: found.fetch });
    let mark = join.mark;
    let plan = BinaryJoin { kind, right, on, nearest, mark: None, dependent: false, ..join }.into_plan();
    // There is never a second match of a single join.
    let several = mark.map(|mark| (mark, Expr::truth(false, Span::default())));
    ControlFlow::Break(plan.project(several.into_iter().collect()))
}

/// The limit over a sort that a query is, but for what is computed above it.
fn first_rows(mut plan: LogicalPlan) -> Option<FirstRows> {
    let mut above = Vec::new();
    loop {
        if let LogicalPlan::Project { input, computed } = plan {
            above.insert(0, computed);
            plan = *input;
        } else if let LogicalPlan::Limit { input, offset: 0, fetch: Some(fetch) } = plan
            && fetch > 0
        {
            if let LogicalPlan::Sort { input, keys } = *input
                && !keys.is_empty()
            {
                return Some(FirstRows { above, input: *input, order: keys, fetch });
            } else {
                return None;
            }
        } else {
            return None;
        }
    }
}
