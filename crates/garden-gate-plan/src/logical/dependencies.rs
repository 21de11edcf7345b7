//! Functional dependencies (Simmen, Shekita, Malkemus: SIGMOD 1996): which columns of a plan have one value where others have one.

use super::{ColumnId, CompareOp, Expr, ExprKind, JoinKind, LogicalPlan};
use crate::collections::HashSet;

/// Rows with the same values of `of`, NULL being the same as NULL, have the same values of `on`.
#[derive(Debug)]
struct Dependency {
    of: Vec<ColumnId>,
    on: Vec<ColumnId>,
}

/// What the columns of a plan say of one another.
#[derive(Debug, Default)]
pub struct Dependencies(Vec<Dependency>);

impl Dependencies {
    /// By the keys of tables, the equalities of inner joins and the columns of groupings. O(nodes and their columns).
    pub fn of(plan: &LogicalPlan) -> Self {
        let mut found = Self::default();
        found.collect(plan, false);
        found
    }

    /// The columns whose values follow from those of `columns`, these among them.
    pub fn closure(&self, columns: impl IntoIterator<Item = ColumnId>) -> HashSet<ColumnId> {
        let mut known: HashSet<ColumnId> = columns.into_iter().collect();
        loop {
            let before = known.len();
            for dependency in &self.0 {
                if dependency.of.iter().all(|id| known.contains(id)) {
                    known.extend(dependency.on.iter().copied());
                }
            }
            if known.len() == before {
                return known;
            }
        }
    }

    fn add(&mut self, of: Vec<ColumnId>, on: Vec<ColumnId>) {
        self.0.push(Dependency { of, on });
    }

    /// `is_filled`: an outer join may put NULLs in place of all columns of the plan, so that constants are none.
    fn collect(&mut self, plan: &LogicalPlan, is_filled: bool) {
        match plan {
            LogicalPlan::Scan(scan) => {
                let all: Vec<ColumnId> = scan.columns.iter().map(|(id, _)| *id).collect();
                let column = |at: &usize| scan.columns.iter().find(|(_, place)| place == at).map(|(id, _)| *id);
                for key in scan.source.keys() {
                    if let Some(key) = key.iter().map(column).collect::<Option<Vec<_>>>() {
                        self.add(key, all.clone());
                    }
                }
                self.equalities(&scan.filter, is_filled);
            }
            LogicalPlan::Filter { input, conjuncts } => {
                self.equalities(conjuncts, is_filled);
                self.collect(input, is_filled);
            }
            LogicalPlan::InnerJoin { inputs, conjuncts } => {
                self.equalities(conjuncts, is_filled);
                inputs.iter().for_each(|input| self.collect(input, is_filled));
            }
            LogicalPlan::Join(join) => {
                let (left, right) = match join.kind {
                    JoinKind::Inner | JoinKind::Semi | JoinKind::Anti | JoinKind::Mark => (is_filled, is_filled),
                    JoinKind::Left | JoinKind::Single => (is_filled, true),
                    JoinKind::Full => (true, true),
                };
                self.collect(&join.left, left);
                self.collect(&join.right, right);
            }
            LogicalPlan::Aggregate { keys, aggregates, .. } => {
                let grouped = keys.iter().map(|(id, _)| *id).collect();
                self.add(grouped, aggregates.iter().map(|(id, _)| *id).collect());
            }
            LogicalPlan::Project { input, .. }
            | LogicalPlan::Sort { input, .. }
            | LogicalPlan::Limit { input, .. }
            | LogicalPlan::Window { input, .. }
            | LogicalPlan::Distinct { input, .. }
            | LogicalPlan::Expand { input, .. } => self.collect(input, is_filled),
            LogicalPlan::OneRow
            | LogicalPlan::Empty(_)
            | LogicalPlan::Values { .. }
            | LogicalPlan::SetOperation { .. }
            | LogicalPlan::CteReference(_)
            | LogicalPlan::Recursion(_)
            | LogicalPlan::RecursionInput(_) => {}
        }
    }

    fn equalities(&mut self, conjuncts: &[Expr], is_filled: bool) {
        for term in conjuncts {
            let ExprKind::Compare(CompareOp::Equal, sides) = term.kind() else { continue };
            match (sides[0].kind(), sides[1].kind()) {
                (ExprKind::Column(a), ExprKind::Column(b)) => {
                    self.add(vec![*a], vec![*b]);
                    self.add(vec![*b], vec![*a]);
                }
                (ExprKind::Column(a), _) if !is_filled && sides[1].is_constant() => self.add(Vec::new(), vec![*a]),
                (_, ExprKind::Column(a)) if !is_filled && sides[0].is_constant() => self.add(Vec::new(), vec![*a]),
                _ => {}
            }
        }
    }
}
