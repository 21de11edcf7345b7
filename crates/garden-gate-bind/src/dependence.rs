//! Functional dependencies (clause 4.22): columns that have one value in each group, since what is grouped by determines them. They come from the
//! keys of tables, from equalities and from what is computed, in all that a query reads: tables, derived tables, views and joins.

use super::Binder;
use crate::collections::HashSet;
use crate::logical::{ColumnId, CompareOp, Expr, ExprKind, JoinKind, LogicalPlan, unique};

/// `from` determines `to`.
struct Dependency {
    from: Vec<ColumnId>,
    to: Vec<ColumnId>,
}

impl Binder<'_> {
    /// The columns of a plan that the grouped ones determine, these among them. O(dependencies²) at worst.
    pub(super) fn determined(&self, plan: &LogicalPlan, grouped: impl Iterator<Item = ColumnId>) -> HashSet<ColumnId> {
        let mut dependencies = Vec::new();
        self.dependencies(plan, &mut dependencies);
        let mut known: HashSet<ColumnId> = grouped.collect();
        loop {
            let before = known.len();
            dependencies.retain(|dependency| {
                let follows = dependency.from.iter().all(|id| known.contains(id));
                if follows {
                    known.extend(&dependency.to);
                }
                !follows
            });
            if known.len() == before {
                return known;
            }
        }
    }

    fn dependencies(&self, plan: &LogicalPlan, found: &mut Vec<Dependency>) {
        match plan {
            LogicalPlan::Scan(scan) => {
                let all: Vec<ColumnId> = scan.columns.iter().map(|(id, _)| *id).collect();
                for key in scan.source.keys() {
                    let of = |at: &usize| scan.columns.iter().find(|(_, place)| place == at).map(|(id, _)| *id);
                    if let Some(from) = key.iter().map(of).collect::<Option<Vec<_>>>() {
                        found.push(Dependency { from, to: all.clone() });
                    }
                }
                equalities(&scan.filter, found);
            }
            LogicalPlan::Filter { input, conjuncts } => {
                equalities(conjuncts, found);
                self.dependencies(input, found);
            }
            LogicalPlan::Project { input, computed } => {
                for (id, expr) in computed {
                    found.push(Dependency { from: expr.columns().into_iter().collect(), to: vec![*id] });
                }
                self.dependencies(input, found);
            }
            LogicalPlan::InnerJoin { inputs, conjuncts } => {
                equalities(conjuncts, found);
                inputs.iter().for_each(|input| self.dependencies(input, found));
            }
            LogicalPlan::Join(join) => {
                self.dependencies(&join.left, found);
                match join.kind {
                    JoinKind::Inner => {
                        equalities(&join.on, found);
                        self.dependencies(&join.right, found);
                    }
                    // Where there is no match a key is NULL, and so is all that it determines; what is computed may be anything else.
                    JoinKind::Left => self.keys_alone(&join.right, found),
                    _ => {}
                }
            }
            LogicalPlan::Aggregate { input, keys, aggregates } => {
                let all = keys.iter().map(|(id, _)| *id).chain(aggregates.iter().map(|(id, _)| *id)).collect();
                found.push(Dependency { from: keys.iter().map(|(id, _)| *id).collect(), to: all });
                self.dependencies(input, found);
            }
            LogicalPlan::CteReference(step) => {
                let Some(definition) = self.steps.get(step.id.0) else { return };
                let here = |there: &ColumnId| step.columns.iter().find(|(_, of)| of == there).map(|(here, _)| *here);
                let all: Vec<ColumnId> = step.columns.iter().map(|(here, _)| *here).collect();
                for key in unique::keys(&definition.plan) {
                    if let Some(from) = key.iter().map(here).collect::<Option<Vec<_>>>() {
                        found.push(Dependency { from, to: all.clone() });
                    }
                }
            }
            LogicalPlan::Sort { input, .. }
            | LogicalPlan::Limit { input, .. }
            | LogicalPlan::Distinct { input, .. }
            | LogicalPlan::Window { input, .. }
            | LogicalPlan::Expand { input, .. } => self.dependencies(input, found),
            LogicalPlan::OneRow
            | LogicalPlan::Empty(_)
            | LogicalPlan::Values { .. }
            | LogicalPlan::SetOperation { .. }
            | LogicalPlan::Recursion(_)
            | LogicalPlan::RecursionInput(_) => {}
        }
    }

    fn keys_alone(&self, plan: &LogicalPlan, found: &mut Vec<Dependency>) {
        let output = plan.output();
        for key in unique::keys(plan) {
            found.push(Dependency { from: key, to: output.clone() });
        }
    }
}

/// Columns that conditions make equal to one another, or to a constant.
fn equalities(conjuncts: &[Expr], found: &mut Vec<Dependency>) {
    for term in conjuncts {
        let ExprKind::Compare(CompareOp::Equal, sides) = term.kind() else { continue };
        for (side, other) in [(&sides[0], &sides[1]), (&sides[1], &sides[0])] {
            // Texts of different bytes may be equal, as CHAR is to VARCHAR: only equal types make equal values.
            if let ExprKind::Column(id) = side.kind()
                && side.sql_type() == other.sql_type()
            {
                found.push(Dependency { from: other.columns().into_iter().collect(), to: vec![*id] });
            }
        }
    }
}
