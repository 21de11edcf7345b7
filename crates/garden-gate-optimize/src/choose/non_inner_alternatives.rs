//! The ways to do an outer, semi, anti, mark or single join, and what they cost: the same for a join by itself and for one whose place a search
//! chooses.

use super::build::Builder;
use super::cost::{self, Factors};
use super::index_join::{Inner, Keys, Lookup, fixed_keys, lookup_cost, pairs_of, width};
use super::join_alternatives::{JoinAlternative, tables_of as names_of, violations};
use super::join_inputs::Side;
use super::join_order::Best;
use super::join_report::impossible;
use super::key_shape::KeyShape;
use super::range_keys::RangeKeys;
use super::side_join::{side as on_side, split_keys};
use super::steps::is_recursive;
use crate::diagnostic::Result;
use crate::logical::{ColumnId, Columns, CompareOp, Expr, Guide, JoinKind, Printer, Scan};
use crate::physical::{Candidate, Considered, Decision, JoinKey, JoinMethod, Node};
use crate::types::Estimate;

/// The share of rows that a semi join is taken to keep at least.
const LEAST_SHARE: f64 = 0.0001;
/// The same of an anti join: that nearly every row has a match is too easily wrong.
const LEAST_WITHOUT: f64 = 0.01;
/// Of several matches one is likely to fulfil a further condition.
const RESIDUAL_SHARE: f64 = 0.5;

/// A join with different sides, but for its left side.
#[derive(Debug)]
pub(super) struct NonInnerJoin {
    pub(super) side: Side,
    pub(super) keys: Vec<JoinKey>,
    pub(super) residual: Vec<Expr>,
    /// What the residual comes to for a range join.
    pub(super) ranges: RangeKeys,
    pub(super) right: Input,
    /// The share of pairs that fulfil the condition, of those whose keys are equal, and of those that fulfil the inequalities too.
    share: f64,
    keyed: f64,
    ranged: f64,
    /// The share of left rows that have a match.
    partnered: f64,
    /// The right side, where it is a table with indexes.
    pub(super) table: Option<Scan>,
    pub(super) indexes: Vec<SideIndex>,
}

/// An index of the right side that the left rows can be looked up in.
#[derive(Debug)]
pub(super) struct SideIndex {
    pub(super) number: usize,
    pub(super) keys: Keys,
    lookup: Lookup,
}

/// What the ways to join depend on of an input.
#[derive(Clone, Debug)]
pub(super) struct Input {
    pub(super) rows: f64,
    pub(super) total: f64,
    pub(super) names: Vec<String>,
    pub(super) recursive: bool,
}

impl Input {
    /// An operator as one side of such a join.
    pub(super) fn of(node: &Node, columns: &Columns) -> Self {
        let names = names_of(node, columns);
        Self { rows: node.rows.0, total: node.total.0, names, recursive: is_recursive(node) }
    }

    /// What a search found best for some tables.
    pub(super) fn found(best: &Best, names: Vec<String>) -> Self {
        Self { rows: best.rows, total: best.cost, names, recursive: false }
    }
}

/// A way to do the join.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct NonInnerAlternative {
    pub(super) way: JoinAlternative,
    /// Whether the left side is kept in memory.
    pub(super) mirrored: bool,
    /// With reading both sides.
    pub(super) cost: f64,
    pub(super) violations: usize,
}

impl NonInnerAlternative {
    fn rank(&self) -> (usize, f64) {
        (self.violations, self.cost)
    }
}

/// The way that breaks the fewest demands of a guide, and of those the cheapest.
pub(super) fn best_of(ways: &[NonInnerAlternative]) -> NonInnerAlternative {
    let none = NonInnerAlternative {
        way: JoinAlternative::of(JoinMethod::NestedLoop),
        mirrored: false,
        cost: 0.0,
        violations: 0,
    };
    ways.iter().copied().reduce(|a, b| if b.rank() < a.rank() { b } else { a }).unwrap_or(none)
}

impl Builder<'_> {
    /// A join whose left side will have these columns, or some of them. `needed` are all columns that it and what is above it use.
    pub(super) fn side_shape(
        &self,
        side: Side,
        left: &[ColumnId],
        (right, table): (&Node, Option<Scan>),
        needed: &[ColumnId],
    ) -> Result<NonInnerJoin> {
        let (keys, residual) = split_keys(&side.on, left, &right.output);
        let ranges = RangeKeys::of(&residual, |expr| on_side(expr, left), |expr| on_side(expr, &right.output));
        let mut keyed = 1.0;
        for key in &keys {
            keyed *= self.estimator.join(&key.condition())?.share();
        }
        let ranged = keyed * ranges.share(&self.estimator)?;
        let mut share = ranged;
        for condition in &ranges.rest {
            share *= self.estimator.join(condition)?.share();
        }
        let equal = side.any.as_ref().filter(|any| any.op == CompareOp::Equal);
        let mut partnered = (right.rows.0 * share).min(1.0);
        let counts = matches!(side.kind, JoinKind::Semi | JoinKind::Anti | JoinKind::Left | JoinKind::Full);
        if counts && (!keys.is_empty() || equal.is_some()) {
            // How many matches a row has does not count.
            partnered = 1.0;
            for (mine, theirs) in equal.iter().flat_map(|any| any.left.iter().zip(&any.right)) {
                partnered *= self.estimator.partnered(mine, theirs, right.rows)?;
            }
            for key in &keys {
                partnered *= self.estimator.partnered(&key.probe, &key.build, right.rows)?;
            }
            for condition in &residual {
                partnered *= self.estimator.join(condition)?.share().max(RESIDUAL_SHARE);
            }
        }
        let table_for_lookup = table.as_ref().filter(|_| side.any.is_none());
        let indexes = self.side_indexes((side.kind, needed), table_for_lookup, (&side.on, left))?;
        Ok(NonInnerJoin {
            side,
            keys,
            residual,
            ranges,
            right: Input::of(right, self.estimator.columns),
            share,
            keyed,
            ranged,
            partnered,
            table,
            indexes,
        })
    }

    /// The indexes of the right side that the conditions can be looked up in.
    fn side_indexes(
        &self,
        (kind, needed): (JoinKind, &[ColumnId]),
        table: Option<&Scan>,
        (on, left): (&[Expr], &[ColumnId]),
    ) -> Result<Vec<SideIndex>> {
        let fits = matches!(kind, JoinKind::Left | JoinKind::Semi | JoinKind::Anti);
        let Some(scan) = table.filter(|_| fits) else { return Ok(Vec::new()) };
        let columns: Vec<ColumnId> = scan.columns.iter().map(|(id, _)| *id).collect();
        let pairs = pairs_of(on, left, &columns);
        let mut found = Vec::new();
        for (number, index) in scan.indexes.iter().enumerate() {
            let keys = fixed_keys(scan, index, &pairs);
            if keys.fixed.is_empty() {
                continue;
            }
            let mut share = 1.0;
            for (at, _) in &keys.fixed {
                share *= self.estimator.join(&on[*at])?.share();
            }
            let conditions = scan.filter.len() + on.len() - keys.fixed.len();
            let locality = self.locality(&Inner { scan, index }, keys.fixed.first().map(|(_, expr)| expr))?;
            let lookup = Lookup { share, locality, columns: width(scan, needed), conditions };
            found.push(SideIndex { number, keys, lookup });
        }
        Ok(found)
    }
}

impl NonInnerJoin {
    /// Rows of the join, for so many of the left side.
    pub(super) fn rows(&self, left: f64) -> f64 {
        let (right, pairs) = (self.right.rows, left * self.right.rows * self.share);
        let share = self.partnered.clamp(LEAST_SHARE, 1.0);
        match self.side.kind {
            JoinKind::Inner => pairs,
            // The pairs, and the rows that have none.
            JoinKind::Left => (pairs + left * self.unmatched()).max(left),
            JoinKind::Full => (pairs + left * self.unmatched()).max(left).max(right),
            JoinKind::Semi => left * share,
            JoinKind::Anti => left * (1.0 - share).max(LEAST_WITHOUT),
            JoinKind::Mark | JoinKind::Single => left,
        }
    }

    /// The share of left rows that have no match.
    pub(super) fn unmatched(&self) -> f64 {
        1.0 - self.partnered.clamp(0.0, 1.0)
    }

    /// Every way to join it to a left side.
    pub(super) fn ways(&self, left: &Input, (factors, guide): (&Factors, &Guide)) -> Vec<NonInnerAlternative> {
        let Side { kind, any, .. } = &self.side;
        let (right, rows) = (&self.right, Estimate(self.rows(left.rows)));
        let has_keys = !self.keys.is_empty();
        let recursive = left.recursive || right.recursive;
        let hash = has_keys || any.as_ref().is_some_and(|any| any.op == CompareOp::Equal);
        let plain = any.is_none() && *kind != JoinKind::Mark;
        let may_mirror = plain
            && has_keys
            && matches!(kind, JoinKind::Left | JoinKind::Semi | JoinKind::Anti | JoinKind::Full)
            && !recursive;
        let shape = KeyShape::of(self.keys.iter().map(|key| &key.probe));
        let tried = |method: JoinMethod| {
            let share = match method {
                JoinMethod::Hash | JoinMethod::Merge if !self.residual.is_empty() => self.keyed,
                JoinMethod::Range if !self.ranges.rest.is_empty() => self.ranged,
                JoinMethod::Hash
                | JoinMethod::Merge
                | JoinMethod::NestedLoop
                | JoinMethod::IndexNestedLoop
                | JoinMethod::Nearest
                | JoinMethod::Range => return 0.0,
            };
            cost::tried(Estimate(left.rows * right.rows * share), rows).0
        };
        let way = |method: JoinMethod, mirrored: bool| {
            let sides = if mirrored { (right.rows, left.rows) } else { (left.rows, right.rows) };
            let shape = if method == JoinMethod::Range { self.ranges.shape() } else { shape };
            let own = factors.join(method, (Estimate(sides.0), Estimate(sides.1)), rows, shape).0 + tried(method);
            let loops = mirrored && method == JoinMethod::NestedLoop;
            let (outer, inner) = if loops { (&right.names, &left.names) } else { (&left.names, &right.names) };
            let violations = violations(guide, method, outer, inner);
            NonInnerAlternative {
                way: JoinAlternative::of(method),
                mirrored,
                cost: own + left.total + right.total,
                violations,
            }
        };
        let mut ways = Vec::new();
        if hash {
            ways.push(way(JoinMethod::Hash, false));
            if may_mirror {
                ways.push(way(JoinMethod::Hash, true));
            }
        }
        if any.is_none() && !self.ranges.ranges.is_empty() {
            ways.push(way(JoinMethod::Range, false));
            let leads = matches!(kind, JoinKind::Left | JoinKind::Semi | JoinKind::Anti | JoinKind::Full);
            if leads && !recursive {
                ways.push(way(JoinMethod::Range, true));
            }
        }
        if plain && has_keys && !recursive {
            ways.push(way(JoinMethod::Merge, false));
        }
        // A nested loop cannot tell which match of a comparison with ANY was UNKNOWN by itself; a hash join does that.
        if !hash || any.is_none() {
            ways.push(way(JoinMethod::NestedLoop, false));
        }
        // Both sides of a full join are alike: the loop may go through either.
        if *kind == JoinKind::Full && !recursive {
            ways.push(way(JoinMethod::NestedLoop, true));
        }
        ways.extend(self.by_index(left, rows, (factors, guide)));
        ways
    }

    /// The cheapest way by an index, in which the right side is not read by itself.
    fn by_index(
        &self,
        left: &Input,
        rows: Estimate,
        (factors, guide): (&Factors, &Guide),
    ) -> Option<NonInnerAlternative> {
        let scan = self.table.as_ref()?;
        let way = |index: &SideIndex| {
            let own = lookup_cost(scan, Estimate(left.rows), index.lookup, rows).0 * factors.index;
            let way = JoinAlternative { method: JoinMethod::IndexNestedLoop, index: index.number };
            let violations = violations(guide, way.method, &left.names, std::slice::from_ref(&scan.alias));
            NonInnerAlternative { way, mirrored: false, cost: own + left.total, violations }
        };
        self.indexes.iter().map(way).reduce(|a, b| if b.cost < a.cost { b } else { a })
    }

    /// The sign of the join. Those that relational algebra has for outer joins are in few fonts.
    pub(super) fn sign(&self) -> &'static str {
        match self.side.kind {
            JoinKind::Left => "left ⋈",
            JoinKind::Semi => "semi ⋈",
            JoinKind::Anti => "anti ⋈",
            JoinKind::Inner | JoinKind::Full | JoinKind::Mark | JoinKind::Single => "⋈",
        }
    }

    /// What is reported the choice among these ways.
    pub(super) fn considered(
        &self,
        best: &NonInnerAlternative,
        ways: &[NonInnerAlternative],
        printer: &Printer<'_>,
    ) -> Considered {
        let mut sorted = ways.to_vec();
        sorted.sort_by(|a, b| a.cost.total_cmp(&b.cost));
        let candidate = |one: &NonInnerAlternative| {
            let index = self.table.as_ref().and_then(|scan| scan.indexes.get(one.way.index));
            let choice = match (one.way.method, index) {
                (JoinMethod::IndexNestedLoop, Some(index)) => format!("{} by {}", one.way.method, index.name),
                (JoinMethod::Hash, _) if one.mirrored => "hash join, left side kept in memory".into(),
                (JoinMethod::Hash, _) => "hash join, right side kept in memory".into(),
                (JoinMethod::Range, _) if !one.mirrored => "range join, right side kept in memory".into(),
                (method, _) if one.mirrored => format!("{method}, left side kept in memory"),
                (method, _) => method.to_string(),
            };
            let reason = (one.violations > best.violations).then(|| "not as GUIDE demands".to_owned());
            let chosen = (one.way, one.mirrored) == (best.way, best.mirrored);
            Candidate { choice, cost: Some(one.cost), chosen, reason }
        };
        let mut candidates: Vec<Candidate> = sorted.iter().map(candidate).collect();
        if self.keys.is_empty() {
            let conditions: Vec<String> = self.residual.iter().map(|term| printer.expr(term)).collect();
            for method in [JoinMethod::Hash, JoinMethod::Merge] {
                if !ways.iter().any(|one| one.way.method == method) {
                    candidates.push(impossible(method, &conditions));
                }
            }
        }
        if self.ranges.ranges.is_empty() && self.keys.is_empty() {
            let conditions: Vec<String> = self.residual.iter().map(|term| printer.expr(term)).collect();
            candidates.push(impossible(JoinMethod::Range, &conditions));
        }
        Considered { decision: Decision::OtherJoin(self.side.written), candidates }
    }
}
