//! `predicate pushdown into recursion`
//!
//! ```text
//! filter root = 5                       recursion
//!   recursion                     →       anchor:  filter root = 5
//!     anchor, branch                      branch
//! ```
//! Condition: the recursion has one member, and every branch gives the column as it got it in the round before: then all rows that come from
//! one row of an anchor have its value, and rows of other values need not be looked for.

use super::predicate_pushdown::push;
use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, Expr, LogicalPlan, Printer, Recursion, RewriteNote, RewriteRule, SetOperand};

pub(super) struct PushdownIntoRecursion;

impl Rule for PushdownIntoRecursion {
    fn name(&self) -> RewriteRule {
        RewriteRule::PushdownIntoRecursion
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = if let LogicalPlan::Filter { input, conjuncts } = plan {
            if let LogicalPlan::Recursion(recursion) = *input {
                into_anchors(*recursion, conjuncts, context)
            } else {
                LogicalPlan::Filter { input, conjuncts }
            }
        } else {
            plan
        };
        plan.map_inputs(&mut |input| self.apply(input, context))
    }
}

fn into_anchors(mut recursion: Recursion, conjuncts: Vec<Expr>, context: &mut RuleContext<'_>) -> LogicalPlan {
    let [member] = recursion.members.as_mut_slice() else {
        return LogicalPlan::Recursion(Box::new(recursion)).filter(conjuncts);
    };
    let carried: Vec<ColumnId> = (0..member.columns.len())
        .filter(|at| member.branches.iter().all(|branch| is_carried(branch, *at)))
        .map(|at| member.columns[at])
        .collect();
    let moves = |term: &Expr| {
        let used = term.columns();
        !used.is_empty() && !term.can_raise() && used.iter().all(|id| carried.contains(id))
    };
    let (down, stay): (Vec<Expr>, Vec<Expr>) = conjuncts.into_iter().partition(moves);
    for term in &down {
        let change = format!("{} moved to where the recursion begins", Printer::new(context.columns).expr(term));
        let why = "each round hands the column on as it got it";
        context.log.push(RewriteNote { rule: RewriteRule::PushdownIntoRecursion, change, why });
    }
    if !down.is_empty() {
        let columns = member.columns.clone();
        let anchor = |anchor: SetOperand| {
            let own = |id: ColumnId| {
                let place = columns.iter().position(|known| *known == id);
                place.and_then(|at| anchor.columns.get(at).copied()).unwrap_or(id)
            };
            let terms = down.iter().map(|term| term.clone().map_columns(&mut |id| own(id))).collect();
            SetOperand { plan: push(anchor.plan, terms, context), columns: anchor.columns }
        };
        member.anchors = std::mem::take(&mut member.anchors).into_iter().map(anchor).collect();
    }
    LogicalPlan::Recursion(Box::new(recursion)).filter(stay)
}

/// Whether a branch gives a column just as the round before gave it.
fn is_carried(branch: &SetOperand, at: usize) -> bool {
    let mut inputs = Vec::new();
    branch.plan.walk(&mut |node| {
        if let LogicalPlan::RecursionInput(input) = node {
            inputs.push(input);
        }
    });
    // Used twice, the column of the one may meet rows of the other.
    matches!(inputs.as_slice(), [input] if input.columns.get(at) == branch.columns.get(at))
}
