//! `factor OR`
//!
//! ```text
//! (a = b AND x) OR (a = b AND y)    →    a = b AND (x OR y)
//! ```
//! Condition: the term appears in every branch, and nothing in the branches can fail. AND and OR distribute over each other in
//! three-valued logic as well. What is taken out may be the equality that two tables are joined on.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::{Expr, ExprKind, LogicalPlan, Printer, RewriteNote, RewriteRule};

pub(super) struct FactorOr;

impl Rule for FactorOr {
    fn name(&self) -> RewriteRule {
        RewriteRule::FactorOr
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        Ok(if let LogicalPlan::Filter { input, conjuncts } = plan {
            input.filter(factor_all(conjuncts, context))
        } else if let LogicalPlan::InnerJoin { inputs, conjuncts } = plan {
            LogicalPlan::InnerJoin { inputs, conjuncts: factor_all(conjuncts, context) }
        } else {
            plan
        })
    }
}

fn factor_all(conjuncts: Vec<Expr>, context: &mut RuleContext<'_>) -> Vec<Expr> {
    let mut all = Vec::new();
    for term in conjuncts {
        match factor(&term) {
            Some(factored) => {
                let printer = Printer::new(context.columns);
                let change = format!("{} became {}", printer.expr(&term), printer.conjunction(&factored));
                let why = "the term appears in every branch of OR";
                context.log.push(RewriteNote { rule: RewriteRule::FactorOr, change, why });
                all.extend(factored);
            }
            None => all.push(term),
        }
    }
    all
}

/// The common terms of all branches, then what is left of the OR.
fn factor(term: &Expr) -> Option<Vec<Expr>> {
    let ExprKind::Or(branches) = term.kind() else { return None };
    if term.can_raise() {
        return None;
    }
    let mut branches: Vec<Vec<Expr>> = branches.iter().map(|branch| branch.clone().into_conjuncts()).collect();
    let (first, others) = branches.split_first()?;
    let everywhere = |term: &&Expr| others.iter().all(|branch| branch.iter().any(|other| other.same_as(term)));
    let common: Vec<Expr> = first.iter().filter(everywhere).cloned().collect();
    if common.is_empty() {
        return None;
    }
    for branch in &mut branches {
        branch.retain(|term| !common.iter().any(|common| common.same_as(term)));
    }
    let rest = Expr::or(branches.into_iter().map(|branch| Expr::and(branch, term.span())), term.span());
    let mut factored = common;
    factored.extend(rest.into_conjuncts());
    Some(factored)
}
