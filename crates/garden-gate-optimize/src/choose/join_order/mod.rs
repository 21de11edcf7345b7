//! The order of joins: dynamic programming over sets of tables (Moerkotte & Neumann, VLDB 2006; here every split of every set is
//! tried, with every method), greedy past [`MOST_TABLES`].

mod connections;
mod graph;
mod ordered;
mod pairs;
mod sides;

pub(super) use graph::{Edge, IndexWay, Tables, bits, key, ranges_between};

use super::build::{Builder, with_columns};
use super::cost;
use super::equal_columns::{close, joint_shares, same_columns, share_of};
use super::index_join::{Inner, Keys, Lookup, fixed_keys, indexed_scan, lookup_cost, width};
use super::join_alternatives::{JoinAlternative, tables_of as names_of, violations};
use super::join_inputs::JoinInputs;
use super::join_tree::Tree;
use super::key_shape::KeyShape;
use super::non_inner_alternatives::NonInnerJoin;
use super::sampled::{Readable, SampledJoin, Trial, factor_of};
use super::steps::is_recursive;
use crate::collections::HashMap;
use crate::control::checkpoint;
use crate::diagnostic::Result;
use crate::estimate::Equality;
use crate::logical::{ColumnId, Expr, Guide, LogicalPlan, Scan};
use crate::physical::{JoinKey, JoinMethod, Node};
use crate::types::Estimate;
use connections::Connections;
use graph::{edges_of, index_ways, name, stored_rows, unfiltered};
use pairs::Pairs;

/// Up to here every order is tried: 3^12 splits take some milliseconds.
pub(super) const MOST_TABLES: usize = 12;
/// Up to here a search tells what a query costs, and so whether its joins are tried on some rows, and is done again if they are.
const MOST_SEARCHED_TWICE: usize = 8;
/// Sets that no condition holds together are joined where they have so few combinations of rows.
const MOST_CROSSED: f64 = 10_000.0;
/// A set of tables is a word of 64 bits.
const LIMIT_TABLES: usize = 60;

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

    pub(super) fn is_better_than(&self, other: &Self) -> bool {
        let ((a, cost), (b, other)) = (self.rank(), other.rank());
        a < b || a == b && cost < other
    }
}

pub(super) struct JoinSearch<'a> {
    pub(super) names: Vec<String>,
    /// For each input the tables in it.
    pub(super) tables: Vec<Vec<String>>,
    pub(super) rows: Vec<f64>,
    /// Rows before any condition, of those that are tables.
    pub(super) sizes: Vec<f64>,
    /// Shares of several equalities between two tables, where they are known together.
    pub(super) joint: Vec<(Tables, f64)>,
    /// Joins that were tried on some rows, the largest first.
    pub(super) sampled: Vec<SampledJoin>,
    pub(super) costs: Vec<f64>,
    /// Inputs that are right sides of outer, semi and anti joins, with those that have to be joined before.
    pub(super) sides: Vec<Option<(NonInnerJoin, Tables)>>,
    pub(super) edges: Vec<Edge>,
    /// Inputs in the order of a column, where an index gives them so.
    pub(super) ordered: ordered::Ordered,
    pub(super) best: HashMap<Tables, Best>,
    /// Where every set is looked at: for which there is a best.
    pub(super) found: Vec<bool>,
    /// Inputs that are tables as they are stored, and what indexes they have for the conditions.
    pub(super) scans: Vec<Option<Scan>>,
    pub(super) indexes: Vec<Vec<IndexWay>>,
    /// How many columns are read of each of them.
    pub(super) widths: Vec<usize>,
    pub(super) factors: cost::Factors,
    /// Tables with rows of a round of recursion: what is joined to them stays in memory for all rounds.
    pub(super) recursive: Tables,
    pub(super) guide: &'a Guide,
}

pub(super) fn build(builder: &mut Builder<'_>, units: JoinInputs, required: &[ColumnId]) -> Result<Node> {
    let JoinInputs { mut inputs, mut conjuncts, sides } = units;
    if inputs.len() > LIMIT_TABLES {
        (inputs, conjuncts) = super::large_joins::folded(inputs, conjuncts, LIMIT_TABLES);
    }
    let owned: Vec<Vec<ColumnId>> = inputs.iter().map(LogicalPlan::output).collect();
    let of_sides = sides.iter().flatten().flat_map(|(side, _)| side.exprs());
    let needed = with_columns(required, conjuncts.iter().chain(of_sides));
    let names = inputs.iter().map(name).collect();
    let stored: Vec<Option<f64>> = inputs.iter().map(stored_rows).collect();
    let scans: Vec<Option<Scan>> = inputs.iter().map(|input| indexed_scan(input, &needed).cloned()).collect();
    let indexed: Vec<Option<LogicalPlan>> =
        inputs.iter().zip(&scans).map(|(input, scan)| scan.as_ref().map(|_| input.clone())).collect();
    let readable = Readable::of(&inputs, &needed);
    let nodes = inputs.into_iter().map(|input| builder.build(input, &needed)).collect::<Result<Vec<_>>>()?;
    let (mut edges, late) = edges_of(builder, conjuncts, &owned)?;
    close(&mut edges, builder, &owned)?;
    let ordered = ordered::ordered(builder, &indexed, &edges, &needed)?;
    let ways = |(at, scan): (usize, &Option<Scan>)| index_ways(builder, (at, scan.as_ref()), &edges, &owned);
    let indexes = scans.iter().enumerate().map(ways).collect::<Result<_>>()?;
    let is_recursive = |set: Tables, (at, node): (usize, &Node)| if is_recursive(node) { set | 1 << at } else { set };
    let guide = builder.guide;
    let mut search = JoinSearch {
        names,
        tables: nodes.iter().map(|node| names_of(node, builder.estimator.columns)).collect(),
        rows: nodes.iter().map(|node| node.rows.0).collect(),
        joint: joint_shares(&edges, builder),
        sampled: Vec::new(),
        sizes: nodes.iter().zip(stored).map(|(node, stored)| stored.unwrap_or(unfiltered(node))).collect(),
        costs: nodes.iter().map(|node| node.total.0).collect(),
        sides: sides::shapes(builder, sides, (&nodes, &scans), (&owned, &needed))?,
        edges,
        ordered,
        best: HashMap::default(),
        found: Vec::new(),
        widths: scans.iter().map(|scan| scan.as_ref().map_or(0, |scan| width(scan, &needed))).collect(),
        scans,
        indexes,
        factors: builder.factors,
        recursive: nodes.iter().enumerate().fold(0, is_recursive),
        guide,
    };
    let all: Tables = (1 << nodes.len()) - 1;
    let trial = Trial { builder, readable: &readable, owned: &owned };
    if nodes.len() > MOST_SEARCHED_TWICE {
        search.sampled = trial.sampled(&search, search.costs.iter().sum())?;
    }
    search.run(all)?;
    if nodes.len() <= MOST_SEARCHED_TWICE
        && let Some(best) = search.best.get(&all)
    {
        search.sampled = trial.sampled(&search, best.cost)?;
        if !search.sampled.is_empty() {
            search.best.clear();
            search.run(all)?;
        }
    }
    search.note_equal(builder);
    search.report(all, builder);
    let above = with_columns(required, &late);
    let mut tree = Tree { builder, search: &search, nodes: nodes.into_iter().map(Some).collect(), owned: &owned };
    let joined = tree.node(all, &above)?;
    if late.is_empty() { Ok(joined) } else { builder.filter_node(joined, late, required) }
}

impl JoinSearch<'_> {
    /// The conditions that become testable when `left` and `right` are joined; of equalities that say the same only the first.
    pub(super) fn between(&self, left: Tables, right: Tables) -> impl Iterator<Item = &Edge> {
        let both = left | right;
        let mut classes = 0_u64;
        self.edges.iter().filter(move |edge| {
            if edge.tables & !both != 0 || edge.tables & left == 0 || edge.tables & right == 0 {
                return false;
            }
            let class = edge.class.map_or(0, |class| 1_u64.checked_shl(crate::types::index(class)).unwrap_or(0));
            let is_new = class & classes == 0;
            classes |= class;
            is_new
        })
    }

    pub(super) fn rows_of(&self, tables: Tables) -> f64 {
        let of = |at: usize| match &self.sides[at] {
            Some((shape, _)) => shape.rows(1.0),
            None => self.rows[at],
        };
        let rows: f64 = bits(tables).map(of).product();
        rows * share_of(&self.edges, tables, (&self.sizes, &self.joint)) * factor_of(&self.sampled, tables)
    }

    fn run(&mut self, all: Tables) -> Result<()> {
        let count = all.count_ones() as usize;
        if count <= MOST_TABLES { self.exhaustive(all) } else { self.greedy(count) }
    }

    /// Columns that are the same have no more values than either.
    fn note_equal(&self, builder: &Builder<'_>) {
        for edge in self.edges.iter().filter(|edge| bits(edge.tables).all(|at| self.sides[at].is_none())) {
            if let Some([(a, _), (b, _)]) = same_columns(&edge.condition) {
                let rows = bits(edge.tables).map(|at| self.rows[at]).fold(f64::INFINITY, f64::min);
                builder.estimator.equal(Equality { columns: [a, b], rows });
            }
        }
    }

    fn single(&mut self, at: usize) {
        let way = JoinAlternative::of(JoinMethod::Hash);
        let best = Best { rows: self.rows[at], cost: self.costs[at], violations: 0, split: None, way };
        self.best.insert(1 << at, best);
    }

    /// What a join itself costs, with so many equalities between its sides.
    pub(super) fn own_cost(
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
    pub(super) fn keys(&self, left: Tables, right: Tables) -> KeyShape {
        KeyShape::of(self.between(left, right).filter(|edge| edge.is_key(left, right)).map(Edge::compared))
    }

    /// The pairs that the conditions between two sets lead to.
    fn pairs(&self, left: Tables, right: Tables) -> Pairs {
        let rows = |tables: Tables| self.best.get(&tables).map_or(0.0, |best| best.rows);
        let all = rows(left) * rows(right);
        let mut pairs = Pairs { keyed: all, ranged: all, bounds: 0, others: 0, are_numbers: true };
        for edge in self.between(left, right) {
            if edge.is_key(left, right) {
                pairs.keyed *= edge.share;
                pairs.ranged *= edge.share;
            } else if pairs.bounds < 2 && edge.is_bound(left, right) {
                pairs.bounds += 1;
                pairs.ranged *= edge.share;
                pairs.are_numbers &= edge.compared().sql_type().is_whole();
            } else {
                pairs.others += 1;
            }
        }
        pairs
    }

    /// What looking up each row of the outer side in an index of the inner one costs; `None` when no condition fixes its first key.
    pub(super) fn index_cost(&self, way: &IndexWay, outer: Tables, inner: usize, rows: f64) -> Option<f64> {
        let scan = self.scans[inner].as_ref()?;
        let mut share = 1.0;
        let mut used = 0;
        for fixing in &way.keys {
            let Some((edge, _)) = fixing.iter().find(|(_, tables)| tables & !outer == 0) else { break };
            share *= self.edges[*edge].share;
            used += 1;
        }
        if used == 0 {
            return None;
        }
        let conditions = self.between(outer, 1 << inner).count() + scan.filter.len() - used;
        let lookup = Lookup { share, locality: way.locality, columns: self.widths[inner], conditions };
        let own = lookup_cost(scan, Estimate(self.best.get(&outer)?.rows), lookup, Estimate(rows));
        Some(own.0 * self.factors.index)
    }

    /// The conditions between two sets and the keys of an index that they fix.
    pub(super) fn index_keys<'s>(
        &'s self,
        (outer, inner): (Tables, usize),
        number: usize,
        (conditions, owned): (&[Expr], &[Vec<ColumnId>]),
    ) -> Option<(Inner<'s>, Keys)>
    where
        Self: 's,
    {
        let scan = self.scans[inner].as_ref()?;
        let index = scan.indexes.get(number)?;
        let pair = |(number, condition): (usize, &Expr)| Some((number, key(condition, outer, 1 << inner, owned)?));
        let pairs: Vec<(usize, JoinKey)> = conditions.iter().enumerate().filter_map(pair).collect();
        let keys = fixed_keys(scan, index, &pairs);
        Some((Inner { scan, index }, keys))
    }

    pub(super) fn names_in(&self, tables: Tables) -> Vec<String> {
        bits(tables).flat_map(|at| self.tables[at].iter().cloned()).collect()
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
    pub(super) fn for_each_way(&self, (left, right): (Tables, Tables), rows: f64, visit: &mut impl FnMut(Best)) {
        if self.side_in(left).is_some() || self.side_in(right).is_some() {
            self.for_each_side_way((left, right), rows, visit);
            return;
        }
        let keys = self.keys(left, right);
        let pairs = self.pairs(left, right);
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
            if pairs.bounds > 0 {
                let shape = KeyShape { count: pairs.bounds, is_number: pairs.are_numbers };
                let own = self.own_cost(JoinMethod::Range, (a, b), rows, shape) + pairs.tried_by_ranges(rows);
                give(JoinAlternative::of(JoinMethod::Range), inputs + own);
            }
            give(
                JoinAlternative::of(JoinMethod::NestedLoop),
                inputs + self.own_cost(JoinMethod::NestedLoop, (a, b), rows, keys),
            );
            if inner.is_power_of_two() {
                let at = inner.trailing_zeros() as usize;
                for way in &self.indexes[at] {
                    if let Some(own) = self.index_cost(way, outer, at, rows) {
                        give(JoinAlternative { method: JoinMethod::IndexNestedLoop, index: way.number }, a.cost + own);
                    }
                }
            }
        }
    }

    /// The best way to join two sets, which gives `rows` rows.
    fn join(&self, left: Tables, right: Tables, rows: f64) -> Option<Best> {
        let mut best: Option<Best> = None;
        self.for_each_way((left, right), rows, &mut |found| {
            if best.as_ref().is_none_or(|best| found.is_better_than(best)) {
                best = Some(found);
            }
        });
        best
    }

    /// The best join for each way to split `tables` in two. Pairs without a condition are among them: their cost speaks for itself.
    pub(super) fn splits(&self, tables: Tables, visit: &mut impl FnMut(Best)) {
        let rows = self.rows_of(tables);
        let known = |set: Tables| match self.found.get(usize::try_from(set).unwrap_or(usize::MAX)) {
            Some(found) => *found,
            None => self.best.contains_key(&set),
        };
        let lowest = tables & tables.wrapping_neg();
        let mut part = (tables - 1) & tables;
        while part != 0 {
            // Each split once: the side with the lowest table.
            if part & lowest != 0
                && known(part)
                && known(tables & !part)
                && let Some(best) = self.join(part, tables & !part, rows)
            {
                visit(best);
            }
            part = (part - 1) & tables;
        }
    }

    /// # Errors
    /// HY008 and HYT00: many tables take a while.
    pub(super) fn exhaustive(&mut self, all: Tables) -> Result<()> {
        let graph = Connections::of(self, all);
        self.found = vec![false; usize::try_from(all).unwrap_or(0) + 1];
        for tables in 1..=all {
            if tables.is_power_of_two() {
                self.single(tables.trailing_zeros() as usize);
                self.note_found(tables);
                continue;
            }
            let crossed = || bits(tables).map(|at| self.rows[at].max(1.0)).product::<f64>();
            if !graph.is_worthwhile(tables) && crossed() > MOST_CROSSED {
                continue;
            }
            checkpoint()?;
            let mut best: Option<Best> = None;
            self.splits(tables, &mut |found| {
                if best.as_ref().is_none_or(|best| found.is_better_than(best)) {
                    best = Some(found);
                }
            });
            if let Some(best) = best {
                self.best.insert(tables, best);
                self.note_found(tables);
            }
        }
        Ok(())
    }

    fn note_found(&mut self, tables: Tables) {
        if let Some(found) = self.found.get_mut(usize::try_from(tables).unwrap_or(usize::MAX)) {
            *found = true;
        }
    }

    /// Joins, again and again, the two sets that give the fewest rows.
    ///
    /// # Errors
    /// As [`JoinSearch::exhaustive`].
    pub(super) fn greedy(&mut self, count: usize) -> Result<()> {
        let mut sets: Vec<Tables> = (0..count).map(|at| 1 << at).collect();
        (0..count).for_each(|at| self.single(at));
        // Two sets that stay as they are join as they did.
        let mut pairs: HashMap<(Tables, Tables), Option<(bool, Best)>> = HashMap::default();
        while sets.len() > 1 {
            let mut chosen: Option<(bool, Best, usize, usize)> = None;
            for a in 0..sets.len() {
                checkpoint()?;
                for b in a + 1..sets.len() {
                    let pair = pairs.entry((sets[a], sets[b])).or_insert_with(|| {
                        let crossed = self.between(sets[a], sets[b]).next().is_none();
                        Some((crossed, self.join(sets[a], sets[b], self.rows_of(sets[a] | sets[b]))?))
                    });
                    let Some((crossed, best)) = pair.clone() else { continue };
                    let better = chosen.as_ref().is_none_or(|(other_crossed, other, ..)| {
                        (best.violations, crossed, best.rows) < (other.violations, *other_crossed, other.rows)
                    });
                    if better {
                        chosen = Some((crossed, best, a, b));
                    }
                }
            }
            let Some((_, best, a, b)) = chosen else { return Ok(()) };
            let joined = sets[a] | sets[b];
            self.best.insert(joined, best);
            sets.remove(b);
            sets[a] = joined;
        }
        Ok(())
    }
}

/// Whether one side is the last table, alone, and all others were joined before.
fn keeps_order(a: Tables, b: Tables) -> bool {
    let last = |one: Tables, others: Tables| one.is_power_of_two() && one > others;
    last(a, b) || last(b, a)
}

#[cfg(test)]
mod tests;
