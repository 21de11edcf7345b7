//! The order of joins: dynamic programming over sets of tables (Moerkotte & Neumann, VLDB 2006; here every split of every set is
//! tried, with every method), greedy past [`MOST_TABLES`].
//!
//! `setup` makes a [`JoinSearch`] of the inputs and their conditions, `enumerate` goes through sets of tables and the ways to split them in
//! two, and `ways` says what each method costs for one split.

mod conditions;
mod connections;
mod enumerate;
mod graph;
mod input;
mod ordered;
mod pairs;
mod setup;
mod sides;
mod ways;

pub(super) use conditions::JointShare;
pub(super) use graph::{Edge, IndexWay, Tables, bits, key, ranges_between};
pub(super) use setup::build;

use super::cost;
use super::join_alternatives::JoinAlternative;
use super::sampled::{SampledJoin, factor_of};
use crate::collections::HashMap;
use crate::logical::Guide;
use conditions::Conditions;
use input::JoinInput;

/// Up to here every order is tried: 3^12 splits take some milliseconds.
pub(super) const MOST_TABLES: usize = 12;

/// The best way found to join a set of tables.
#[derive(Clone, Debug)]
pub(super) struct Best {
    pub(super) rows: f64,
    pub(super) cost: f64,
    /// Demands of a guide that it does not meet.
    pub(super) violations: usize,
    /// Probe or outer side, and build or inner side; `None` for a single table.
    pub(super) split: Option<(Tables, Tables)>,
    pub(super) way: JoinAlternative,
}

impl Best {
    fn rank(&self) -> (usize, f64) {
        (self.violations, self.cost)
    }

    /// Fewer broken demands come before a lower cost.
    pub(super) fn is_better_than(&self, other: &Self) -> bool {
        let ((a, cost), (b, other)) = (self.rank(), other.rank());
        a < b || a == b && cost < other
    }
}

pub(super) struct JoinSearch<'a> {
    pub(super) inputs: Vec<JoinInput>,
    pub(super) conditions: Conditions,
    /// Joins that were tried on some rows, the largest first.
    pub(super) sampled: Vec<SampledJoin>,
    pub(super) best: HashMap<Tables, Best>,
    /// Where every set is looked at: for which there is a best.
    pub(super) found: Vec<bool>,
    pub(super) factors: cost::Factors,
    /// Tables with rows of a round of recursion: what is joined to them stays in memory for all rounds.
    pub(super) recursive: Tables,
    pub(super) guide: &'a Guide,
}

impl JoinSearch<'_> {
    /// The conditions that become testable when `left` and `right` are joined; of equalities that say the same only the first.
    pub(super) fn between(&self, left: Tables, right: Tables) -> impl Iterator<Item = &Edge> {
        self.conditions.between(left, right)
    }

    /// The rows of a join of these tables.
    pub(super) fn rows_of(&self, tables: Tables) -> f64 {
        let of = |at: usize| match &self.inputs[at].side {
            Some(side) => side.join.rows(1.0),
            None => self.inputs[at].rows,
        };
        let rows: f64 = bits(tables).map(of).product();
        rows * self.conditions.share(tables) * factor_of(&self.sampled, tables)
    }

    /// The correlation names of the tables in a set.
    pub(super) fn names_in(&self, tables: Tables) -> Vec<String> {
        bits(tables).flat_map(|at| self.inputs[at].tables.iter().cloned()).collect()
    }
}

#[cfg(test)]
mod tests;
