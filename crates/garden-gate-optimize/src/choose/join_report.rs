//! What is reported the orders and methods of joins that were thought of.

use super::build::Builder;
use super::join_alternatives::JoinAlternative;
use super::join_order::{Best, JoinSearch, MOST_TABLES, Tables, bits};
use crate::logical::Printer;
use crate::physical::{Candidate, Considered, Decision, JoinMethod};

/// How many orders `considered` shows.
const SHOWN_ORDERS: usize = 5;

impl JoinSearch<'_> {
    /// The order of the joins of a set, as `(a ⋈ b) ⋈ c`.
    pub(super) fn describe(&self, tables: Tables) -> String {
        match self.best.get(&tables).and_then(|best| best.split) {
            None => bits(tables).map(|at| self.inputs[at].name.as_str()).collect::<Vec<_>>().join(", "),
            Some(split) => format!("({})", self.joined(split)),
        }
    }

    /// A join of two sets; of one with different sides the left one first.
    fn joined(&self, (left, right): (Tables, Tables)) -> String {
        let (left, sign, right) = match self.as_sides((left, right)) {
            Some((left, at)) => (left, self.inputs[at].side.as_ref().map_or("⋈", |side| side.join.sign()), 1 << at),
            None => (left, "⋈", right),
        };
        format!("{} {sign} {}", self.describe(left), self.describe(right))
    }

    /// Records the orders of the last join, and the methods of each.
    pub(super) fn report(&self, all: Tables, builder: &mut Builder<'_>) {
        let mut orders: Vec<Best> = Vec::new();
        if self.inputs.len() <= MOST_TABLES {
            self.splits(all, &mut |found| orders.push(found));
        } else {
            orders.extend(self.best.get(&all).cloned());
        }
        orders.sort_by(|a, b| a.cost.total_cmp(&b.cost));
        let chosen = self.best.get(&all).and_then(|best| best.split);
        let mut shown: Vec<&Best> = orders.iter().take(SHOWN_ORDERS).collect();
        if !shown.iter().any(|order| order.split == chosen) {
            shown.extend(orders.iter().find(|order| order.split == chosen));
        }
        let candidates = shown.into_iter().filter_map(|order| {
            let choice = self.joined(order.split?);
            Some(Candidate { choice, cost: Some(order.cost), chosen: order.split == chosen, reason: refused(order) })
        });
        builder.considered.push(Considered { decision: Decision::JoinOrder, candidates: candidates.collect() });
        self.report_methods(all, builder);
    }

    fn report_methods(&self, tables: Tables, builder: &mut Builder<'_>) {
        let Some(best) = self.best.get(&tables) else { return };
        let Some((left, right)) = best.split else { return };
        if let Some((left, at)) = self.as_sides((left, right)) {
            if let Some((shape, ways, best)) = self.side_choice((left, at)) {
                builder.considered.push(shape.considered(&best, &ways, &Printer::new(builder.estimator.columns)));
            }
            self.report_methods(left, builder);
            return;
        }
        let mut candidates = self.candidates(best, (left, right));
        if self.keys(left, right).count == 0 {
            let printer = Printer::new(builder.estimator.columns);
            let conditions: Vec<String> = self.between(left, right).map(|edge| printer.expr(&edge.condition)).collect();
            for method in [JoinMethod::Hash, JoinMethod::Merge] {
                candidates.push(impossible(method, &conditions));
            }
            if !self.between(left, right).any(|edge| edge.is_bound(left, right)) {
                candidates.push(impossible(JoinMethod::Range, &conditions));
            }
        }
        let decision = Decision::Join { left: self.describe(left), right: self.describe(right) };
        builder.considered.push(Considered { decision, candidates });
        self.report_methods(left, builder);
        self.report_methods(right, builder);
    }

    /// Each method with its better direction, the cheapest first.
    fn candidates(&self, best: &Best, (left, right): (Tables, Tables)) -> Vec<Candidate> {
        let mut found: Vec<(JoinAlternative, Best)> = Vec::new();
        self.for_each_way((left, right), best.rows, &mut |one| {
            let same = |way: &JoinAlternative| *way == one.way;
            match found.iter_mut().find(|(way, _)| same(way)) {
                Some((_, known)) if one.is_better_than(known) => *known = one,
                Some(_) => {}
                None => found.push((one.way, one)),
            }
        });
        found.sort_by(|(_, a), (_, b)| a.cost.total_cmp(&b.cost));
        let candidate = |(way, one): (JoinAlternative, Best)| {
            let inner = one.split.map_or(0, |(_, inner)| inner);
            let index = self.inputs.get(inner.trailing_zeros() as usize).and_then(|input| input.scan.as_ref());
            let index = index.and_then(|scan| scan.indexes.get(way.index));
            let choice = match index.filter(|_| way.method == JoinMethod::IndexNestedLoop) {
                Some(index) => format!("{} by {}", way.method, index.name),
                None => way.method.to_string(),
            };
            let chosen = way == best.way;
            Candidate { choice, cost: Some(one.cost), chosen, reason: if chosen { None } else { refused(&one) } }
        };
        found.into_iter().map(candidate).collect()
    }
}

fn refused(order: &Best) -> Option<String> {
    (order.violations > 0).then(|| "not as GUIDE demands".into())
}

/// Why a method needs another condition.
pub(super) fn impossible(method: JoinMethod, conditions: &[String]) -> Candidate {
    let needed = if method == JoinMethod::Range { "inequality" } else { "equality" };
    let reason = if conditions.is_empty() {
        format!("needs an {needed} between the two sides, there is no condition at all")
    } else {
        format!("needs an {needed} between the two sides; {} is none", conditions.join(" AND "))
    };
    Candidate { choice: method.name().into(), cost: None, chosen: false, reason: Some(reason) }
}
