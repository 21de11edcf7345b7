//! What it costs to join two sets, by each method.

use super::super::index_join::{Inner, Keys, Lookup, fixed_keys, lookup_cost};
use super::super::join_alternatives::{JoinAlternative, violations};
use super::super::key_shape::KeyShape;
use super::graph::{IndexWay, Tables, key};
use super::pairs::Pairs;
use super::{Best, JoinSearch};
use crate::logical::{ColumnId, Expr};
use crate::physical::{JoinKey, JoinMethod};
use crate::types::Estimate;

/// The side of a join whose rows are looked up in an index of the other.
struct OuterSide {
    tables: Tables,
    rows: f64,
    /// Conditions between the two sides.
    conditions: usize,
}

impl JoinSearch<'_> {
    /// What a join itself costs, with so many equalities between its sides.
    pub(in super::super) fn own_cost(
        &self,
        method: JoinMethod,
        (probe, build): (&Best, &Best),
        rows: f64,
        keys: KeyShape,
    ) -> f64 {
        let (probe, build, rows) = (Estimate(probe.rows), Estimate(build.rows), Estimate(rows));
        self.factors.join(method, (probe, build), rows, keys).0
    }

    /// The equalities between two sets.
    pub(in super::super) fn keys(&self, left: Tables, right: Tables) -> KeyShape {
        self.conditions.tie(left, right).keys
    }

    /// What looking up each row of the outer side in an index of the inner one costs; `None` when no condition fixes its first key.
    fn index_cost(&self, way: &IndexWay, outer: &OuterSide, inner: usize, rows: f64) -> Option<f64> {
        let scan = self.inputs[inner].scan.as_ref()?;
        let mut share = 1.0;
        let mut used = 0;
        for fixing in &way.keys {
            let Some((edge, _)) = fixing.iter().find(|(_, tables)| tables & !outer.tables == 0) else { break };
            share *= self.conditions.share_of_edge(*edge);
            used += 1;
        }
        if used == 0 {
            return None;
        }
        let conditions = outer.conditions + scan.filter.len() - used;
        let lookup = Lookup { share, locality: way.locality, columns: self.inputs[inner].width, conditions };
        let own = lookup_cost(scan, Estimate(outer.rows), lookup, Estimate(rows));
        Some(own.0 * self.factors.index)
    }

    /// The conditions between two sets and the keys of an index that they fix.
    pub(in super::super) fn index_keys<'s>(
        &'s self,
        (outer, inner): (Tables, usize),
        number: usize,
        (conditions, owned): (&[Expr], &[Vec<ColumnId>]),
    ) -> Option<(Inner<'s>, Keys)>
    where
        Self: 's,
    {
        let scan = self.inputs[inner].scan.as_ref()?;
        let index = scan.indexes.get(number)?;
        let pair = |(number, condition): (usize, &Expr)| Some((number, key(condition, outer, 1 << inner, owned)?));
        let pairs: Vec<(usize, JoinKey)> = conditions.iter().enumerate().filter_map(pair).collect();
        let keys = fixed_keys(scan, index, &pairs);
        Some((Inner { scan, index }, keys))
    }

    /// The demands that joining these two sets so breaks.
    fn violations(&self, method: JoinMethod, outer: Tables, inner: Tables) -> usize {
        if self.guide.directives.is_empty() {
            return 0;
        }
        let methods = violations(self.guide, method, &self.names_in(outer), &self.names_in(inner));
        methods + usize::from(self.guide.keeps_order() && !keeps_order(outer, inner))
    }

    /// Every way to join two sets, in both directions; `visit` gets what each comes to.
    pub(in super::super) fn for_each_way(
        &self,
        (left, right): (Tables, Tables),
        rows: f64,
        visit: &mut impl FnMut(Best),
    ) {
        if self.side_in(left).is_some() || self.side_in(right).is_some() {
            self.for_each_side_way((left, right), rows, visit);
            return;
        }
        let tie = self.conditions.tie(left, right);
        let keys = tie.keys;
        let rows_in = |tables: Tables| self.best.get(&tables).map_or(0.0, |best| best.rows);
        let pairs = Pairs::of(tie, rows_in(left), rows_in(right));
        for (outer, inner) in [(left, right), (right, left)] {
            // Rows of a round are gone through; what they are joined with stays.
            if self.recursive & inner != 0 && self.recursive & outer == 0 {
                continue;
            }
            let (Some(a), Some(b)) = (self.best.get(&outer), self.best.get(&inner)) else { continue };
            let mut give = |way: JoinAlternative, cost: f64| {
                let violations = a.violations + b.violations + self.violations(way.method, outer, inner);
                visit(Best { rows, cost, violations, split: Some((outer, inner)), way });
            };
            let inputs = a.cost + b.cost;
            if keys.count > 0 {
                let tried = pairs.tried_by_keys(rows);
                give(
                    JoinAlternative::of(JoinMethod::Hash),
                    inputs + self.own_cost(JoinMethod::Hash, (a, b), rows, keys) + tried,
                );
                if self.recursive & (outer | inner) == 0 {
                    let sides = (Estimate(a.rows), Estimate(b.rows));
                    let merge = self.factors.merge_alone(sides, Estimate(rows)).0;
                    let sorted = self.merge_input((outer, a), inner, keys) + self.merge_input((inner, b), outer, keys);
                    give(JoinAlternative::of(JoinMethod::Merge), sorted + merge + tried);
                }
            }
            if tie.bounds.count > 0 {
                let own = self.own_cost(JoinMethod::Range, (a, b), rows, tie.bounds) + pairs.tried_by_ranges(rows);
                give(JoinAlternative::of(JoinMethod::Range), inputs + own);
            }
            give(
                JoinAlternative::of(JoinMethod::NestedLoop),
                inputs + self.own_cost(JoinMethod::NestedLoop, (a, b), rows, keys),
            );
            if inner.is_power_of_two() {
                let at = inner.trailing_zeros() as usize;
                let outer = OuterSide { tables: outer, rows: a.rows, conditions: tie.conditions() };
                for way in &self.inputs[at].indexes {
                    if let Some(own) = self.index_cost(way, &outer, at, rows) {
                        give(JoinAlternative { method: JoinMethod::IndexNestedLoop, index: way.number }, a.cost + own);
                    }
                }
            }
        }
    }
}

/// Whether one side is the last table, alone, and all others were joined before.
fn keeps_order(a: Tables, b: Tables) -> bool {
    let last = |one: Tables, others: Tables| one.is_power_of_two() && one > others;
    last(a, b) || last(b, a)
}
