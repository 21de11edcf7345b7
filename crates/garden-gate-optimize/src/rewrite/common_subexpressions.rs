//! `common subexpression elimination`
//!
//! ```text
//! SUM(p * (1 - d)), SUM(p * (1 - d) * (1 + t))   →   x := p * (1 - d)     SUM(x), SUM(x * (1 + t))
//! ```
//! Condition: the expression appears at least twice among the arguments and grouping columns of one grouping, or the columns of one SELECT,
//! where each of them is computed for every row: not in a branch of CASE, after AND or OR, or under FILTER. It has the same value, and
//! fails for the same rows, wherever it is computed.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::{Aggregate, ColumnId, ColumnInfo, Expr, ExprKind, LogicalPlan, Printer, RewriteNote, RewriteRule};

pub(super) struct EliminateCommonSubexpressions;

impl Rule for EliminateCommonSubexpressions {
    fn name(&self) -> RewriteRule {
        RewriteRule::EliminateCommonSubexpressions
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let mut plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        while let Some(shared) = largest_shared(&always(&plan)) {
            let text = Printer::new(context.columns).expr(&shared);
            let info = ColumnInfo::computed(text.clone(), shared.sql_type());
            let id = context.columns.add(info);
            let change = format!("{text} is computed once");
            context.log.push(RewriteNote {
                rule: RewriteRule::EliminateCommonSubexpressions,
                change,
                why: "it appears there more than once",
            });
            plan = with_column(plan, id, &shared)?;
        }
        Ok(plan)
    }
}

/// The expressions of a node that are computed for every row.
fn always(plan: &LogicalPlan) -> Vec<&Expr> {
    if let LogicalPlan::Aggregate { keys, aggregates, .. } = plan {
        let plain = |aggregate: &&Aggregate| aggregate.filter.is_none();
        let arguments = aggregates.iter().map(|(_, aggregate)| aggregate).filter(plain);
        keys.iter().map(|(_, key)| key).chain(arguments.flat_map(Aggregate::exprs)).collect()
    } else if let LogicalPlan::Project { computed, .. } = plan {
        computed.iter().map(|(_, expr)| expr).collect()
    } else {
        Vec::new()
    }
}

/// The largest expression that appears in several of these, or several times in one.
fn largest_shared(exprs: &[&Expr]) -> Option<Expr> {
    let mut found: Vec<(&Expr, usize, usize)> = Vec::new();
    for expr in exprs {
        visit(expr, &mut |part| {
            let size = size_of(part);
            match found.iter_mut().find(|(known, of, _)| *of == size && known.same_as(part)) {
                Some((.., count)) => *count += 1,
                None => found.push((part, size, 1)),
            }
        });
    }
    let shared = found.into_iter().filter(|(_, size, count)| *count > 1 && *size > 1);
    shared.max_by_key(|(_, size, _)| *size).map(|(expr, ..)| expr.clone())
}

/// How many operations an expression takes.
fn size_of(expr: &Expr) -> usize {
    let mut size = 0;
    expr.walk(&mut |part| {
        let free = matches!(part.kind(), ExprKind::Column(_) | ExprKind::Literal(_) | ExprKind::Parameter(..));
        size += usize::from(!free);
    });
    size
}

/// Calls `found` for each part that is computed whenever the entire is.
fn visit<'e>(expr: &'e Expr, found: &mut impl FnMut(&'e Expr)) {
    if let ExprKind::Arithmetic(_, sides) | ExprKind::Concat(sides) = expr.kind() {
        found(expr);
        sides.iter().for_each(|side| visit(side, found));
    } else if let ExprKind::Negate(operand) | ExprKind::Cast(operand) = expr.kind() {
        found(expr);
        visit(operand, found);
    }
}

/// The node over a projection of the shared expression, with its column wherever the expression stood.
fn with_column(plan: LogicalPlan, id: ColumnId, shared: &Expr) -> Result<LogicalPlan> {
    let plan = plan.map_exprs(&mut |expr| Ok::<_, crate::diagnostic::Error>(replaced(expr, id, shared)))?;
    plan.map_inputs(&mut |input| Ok(input.project(vec![(id, shared.clone())])))
}

fn replaced(expr: Expr, id: ColumnId, shared: &Expr) -> Expr {
    if expr.same_as(shared) {
        return Expr::column(id, expr.sql_type(), expr.span());
    }
    let Ok(mapped) = expr.map_children(&mut |child| Ok::<_, std::convert::Infallible>(replaced(child, id, shared)));
    mapped
}
