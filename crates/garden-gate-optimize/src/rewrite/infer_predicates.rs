//! `infer predicates`
//!
//! ```text
//! join a.x = b.x                      join a.x = b.x
//!   scan a  [a.x = 5]          →        scan a  [a.x = 5]
//!   scan b                              scan b  [b.x = 5]
//! ```
//! Condition: the term is about one column, cannot fail, and gives the same whenever it is asked; the columns have one type. A pair of rows
//! for which the equality is TRUE has the same value on both sides, so the term has the same truth value for both. Of outer, semi and anti
//! joins, terms reach from the left side, all rows of which fulfil them, to the right; a right row for which the term is not TRUE is
//! nobody's match. Of semi joins they also reach back: a row that is kept has a match.

use super::predicate_pushdown::push;
use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::unique::conditions_on;
use crate::logical::{
    BinaryJoin, ColumnId, CompareOp, Expr, ExprKind, Function, JoinKind, LogicalPlan, Printer, RewriteNote, RewriteRule,
};

pub(super) struct InferPredicates;

const NAME: RewriteRule = RewriteRule::InferPredicates;

impl Rule for InferPredicates {
    fn name(&self) -> RewriteRule {
        RewriteRule::InferPredicates
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        // From above, so that what reaches an input goes on inside it.
        let plan = if let LogicalPlan::InnerJoin { inputs, conjuncts } = plan {
            through_join(inputs, conjuncts, context)
        } else if let LogicalPlan::Join(join) = plan {
            through_side_join(*join, context).into_plan()
        } else {
            plan
        };
        plan.map_inputs(&mut |input| self.apply(input, context))
    }
}

/// The pairs of columns of one type that conditions make equal.
fn equal_columns(conjuncts: &[Expr]) -> Vec<(ColumnId, ColumnId)> {
    let pair = |term: &Expr| {
        let ExprKind::Compare(CompareOp::Equal, sides) = term.kind() else { return None };
        match (sides[0].kind(), sides[1].kind()) {
            (ExprKind::Column(a), ExprKind::Column(b)) if sides[0].sql_type() == sides[1].sql_type() => Some((*a, *b)),
            _ => None,
        }
    };
    conjuncts.iter().filter_map(pair).collect()
}

/// The columns that are the same as this one, itself aside.
fn same_as(column: ColumnId, pairs: &[(ColumnId, ColumnId)]) -> Vec<ColumnId> {
    let mut class = vec![column];
    let mut at = 0;
    while at < class.len() {
        for (a, b) in pairs {
            for (one, other) in [(a, b), (b, a)] {
                if *one == class[at] && !class.contains(other) {
                    class.push(*other);
                }
            }
        }
        at += 1;
    }
    class.remove(0);
    class
}

fn through_join(mut inputs: Vec<LogicalPlan>, conjuncts: Vec<Expr>, context: &mut RuleContext<'_>) -> LogicalPlan {
    let pairs = equal_columns(&conjuncts);
    let mut columns: Vec<ColumnId> = pairs.iter().flat_map(|(a, b)| [*a, *b]).collect();
    columns.sort_unstable();
    columns.dedup();
    for column in columns {
        let known: Vec<Expr> = inputs.iter().flat_map(|input| conditions_on(input, column)).filter(can_move).collect();
        for other in if known.is_empty() { Vec::new() } else { same_as(column, &pairs) } {
            let Some(at) = inputs.iter().position(|input| input.output().contains(&other)) else { continue };
            let input = std::mem::replace(&mut inputs[at], LogicalPlan::OneRow);
            inputs[at] = with_implied(input, (column, other), &known, context);
        }
    }
    LogicalPlan::InnerJoin { inputs, conjuncts }
}

fn through_side_join(mut join: BinaryJoin, context: &mut RuleContext<'_>) -> BinaryJoin {
    // A comparison with ANY whose UNKNOWN counts needs the rows for which it is UNKNOWN.
    let exact = join.any.is_none() && join.kind != JoinKind::Full;
    if !exact || join.dependent {
        return join;
    }
    let (left, right) = (join.left.output(), join.right.output());
    for (a, b) in equal_columns(&join.on) {
        let (mine, theirs) = if left.contains(&a) && right.contains(&b) {
            (a, b)
        } else if left.contains(&b) && right.contains(&a) {
            (b, a)
        } else {
            continue;
        };
        let known: Vec<Expr> = conditions_on(&join.left, mine).into_iter().filter(can_move).collect();
        let side = std::mem::replace(&mut join.right, LogicalPlan::OneRow);
        join.right = with_implied(side, (mine, theirs), &known, context);
        if join.kind == JoinKind::Semi {
            let known: Vec<Expr> = conditions_on(&join.right, theirs).into_iter().filter(can_move).collect();
            let side = std::mem::replace(&mut join.left, LogicalPlan::OneRow);
            join.left = with_implied(side, (theirs, mine), &known, context);
        }
    }
    join
}

/// Whether a condition on one column may be asked of another that is the same.
fn can_move(term: &Expr) -> bool {
    let mut fits = !term.can_raise();
    term.walk(&mut |expr| {
        fits &= !matches!(expr.kind(), ExprKind::Subquery(_) | ExprKind::Call(Function::Sampled { .. }, _));
    });
    fits
}

/// The plan with those conditions on `to` that follow from conditions on `from` and that it does not have yet.
fn with_implied(
    plan: LogicalPlan,
    (from, to): (ColumnId, ColumnId),
    known: &[Expr],
    context: &mut RuleContext<'_>,
) -> LogicalPlan {
    let own = conditions_on(&plan, to);
    let mut added = Vec::new();
    for term in known {
        let moved = term.clone().map_columns(&mut |id| if id == from { to } else { id }).implied();
        if !own.iter().any(|known| known.same_as(&moved)) && !added.iter().any(|known: &Expr| known.same_as(&moved)) {
            let printer = Printer::new(context.columns);
            let change = format!("{} follows from {}", printer.expr(&moved), printer.expr(term));
            context.log.push(RewriteNote { rule: NAME, change, why: "the join makes both columns the same" });
            added.push(moved);
        }
    }
    if added.is_empty() { plan } else { push(plan, added, context) }
}
