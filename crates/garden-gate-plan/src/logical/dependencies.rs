//! Functional dependencies (clause 4.22; Simmen, Shekita, Malkemus: SIGMOD 1996): columns that have one value where others have. They come from the
//! keys of tables, from equalities and from what is computed, in all that a query reads: tables, derived tables, views and joins.

use super::{ColumnId, CompareOp, CteId, Expr, ExprKind, JoinKind, LogicalPlan, unique};
use crate::collections::HashSet;

/// `from` determines `to`, NULL being the same as NULL.
#[derive(Debug)]
struct Dependency {
    from: Vec<ColumnId>,
    to: Vec<ColumnId>,
}

/// The plan of a common table expression, where it is at hand.
type Steps<'s, 'p> = &'s dyn Fn(CteId) -> Option<&'p LogicalPlan>;

/// What the columns of a plan say of one another.
#[derive(Debug, Default)]
pub struct Dependencies(Vec<Dependency>);

impl Dependencies {
    /// Those of a plan. O(nodes and their columns).
    pub fn of<'p>(plan: &LogicalPlan, steps: &dyn Fn(CteId) -> Option<&'p LogicalPlan>) -> Self {
        let mut found = Self::default();
        found.collect(plan, steps);
        found
    }

    /// The columns that others determine, these among them. O(dependencies²) at worst.
    pub fn closure(&self, columns: impl IntoIterator<Item = ColumnId>) -> HashSet<ColumnId> {
        let mut known: HashSet<ColumnId> = columns.into_iter().collect();
        loop {
            let before = known.len();
            for dependency in &self.0 {
                if dependency.from.iter().all(|id| known.contains(id)) {
                    known.extend(&dependency.to);
                }
            }
            if known.len() == before {
                return known;
            }
        }
    }

    fn collect(&mut self, plan: &LogicalPlan, steps: Steps<'_, '_>) {
        match plan {
            LogicalPlan::Scan(scan) => {
                let all: Vec<ColumnId> = scan.columns.iter().map(|(id, _)| *id).collect();
                for key in scan.source.keys() {
                    let of = |at: &usize| scan.columns.iter().find(|(_, place)| place == at).map(|(id, _)| *id);
                    if let Some(from) = key.iter().map(of).collect::<Option<Vec<_>>>() {
                        self.0.push(Dependency { from, to: all.clone() });
                    }
                }
                self.equalities(&scan.filter);
            }
            LogicalPlan::Filter { input, conjuncts } => {
                self.equalities(conjuncts);
                self.collect(input, steps);
            }
            LogicalPlan::Project { input, computed } => {
                for (id, expr) in computed {
                    self.0.push(Dependency { from: expr.columns().into_iter().collect(), to: vec![*id] });
                }
                self.collect(input, steps);
            }
            LogicalPlan::InnerJoin { inputs, conjuncts } => {
                self.equalities(conjuncts);
                inputs.iter().for_each(|input| self.collect(input, steps));
            }
            LogicalPlan::Join(join) => {
                // Where there is no match a key is NULL, and so is all that it determines; what is computed may be anything else.
                match join.kind {
                    JoinKind::Inner => {
                        self.equalities(&join.on);
                        self.collect(&join.left, steps);
                        self.collect(&join.right, steps);
                    }
                    JoinKind::Left | JoinKind::Single => {
                        self.collect(&join.left, steps);
                        self.keys_alone(&join.right);
                    }
                    JoinKind::Semi | JoinKind::Anti | JoinKind::Mark => self.collect(&join.left, steps),
                    JoinKind::Full => {
                        self.keys_alone(&join.left);
                        self.keys_alone(&join.right);
                    }
                }
            }
            LogicalPlan::Aggregate { input, keys, aggregates } => {
                let all = keys.iter().map(|(id, _)| *id).chain(aggregates.iter().map(|(id, _)| *id)).collect();
                self.0.push(Dependency { from: keys.iter().map(|(id, _)| *id).collect(), to: all });
                self.collect(input, steps);
            }
            LogicalPlan::CteReference(step) => {
                let Some(read) = steps(step.id) else { return };
                let here = |there: &ColumnId| step.columns.iter().find(|(_, of)| of == there).map(|(here, _)| *here);
                let all: Vec<ColumnId> = step.columns.iter().map(|(here, _)| *here).collect();
                for key in unique::keys(read) {
                    if let Some(from) = key.iter().map(here).collect::<Option<Vec<_>>>() {
                        self.0.push(Dependency { from, to: all.clone() });
                    }
                }
            }
            LogicalPlan::Sort { input, .. }
            | LogicalPlan::Limit { input, .. }
            | LogicalPlan::Distinct { input, .. }
            | LogicalPlan::Window { input, .. }
            | LogicalPlan::Expand { input, .. } => self.collect(input, steps),
            LogicalPlan::OneRow
            | LogicalPlan::Empty(_)
            | LogicalPlan::Values { .. }
            | LogicalPlan::SetOperation { .. }
            | LogicalPlan::Recursion(_)
            | LogicalPlan::RecursionInput(_) => {}
        }
    }

    fn keys_alone(&mut self, plan: &LogicalPlan) {
        let output = plan.output();
        for key in unique::keys(plan) {
            self.0.push(Dependency { from: key, to: output.clone() });
        }
    }

    /// Columns that conditions make equal to one another, or to a constant.
    fn equalities(&mut self, conjuncts: &[Expr]) {
        for term in conjuncts {
            let ExprKind::Compare(CompareOp::Equal, sides) = term.kind() else { continue };
            for (side, other) in [(&sides[0], &sides[1]), (&sides[1], &sides[0])] {
                // Texts of different bytes may be equal, as CHAR is to VARCHAR: only equal types make equal values.
                if let ExprKind::Column(id) = side.kind()
                    && side.sql_type() == other.sql_type()
                {
                    self.0.push(Dependency { from: other.columns().into_iter().collect(), to: vec![*id] });
                }
            }
        }
    }
}
