//! Outer, semi, anti, mark and single joins: by hash table wherever there is an equality, and which side is kept in memory.

use super::build::{Builder, only, with_columns};
use super::index_join::{Inner, Keys, fixed_keys, indexed_scan, lookup_cost, pairs_of, width};
use super::join_report::impossible;
use super::steps::is_recursive;
use super::ways::{Way, broken, tables_of as names_of};
use crate::diagnostic::Result;
use crate::logical::{AnyTest, ColumnId, CompareOp, Expr, ExprKind, JoinKind, Printer, Scan, SideJoin};
use crate::physical::{Candidate, Considered, JoinKey, JoinMethod, JoinSpec, Node};
use crate::types::{Cost, Estimate};

/// The share of rows that a semi or anti join is taken to keep at least.
const LEAST_SHARE: f64 = 0.001;
/// Of several partners one is likely to fulfil a further condition.
const RESIDUAL_SHARE: f64 = 0.5;

impl Builder<'_> {
    pub(super) fn side_join(&mut self, join: SideJoin, required: &[ColumnId]) -> Result<Node> {
        let needed = with_columns(required, join.exprs());
        let SideJoin { kind, left, right, mut on, mut any, mark, .. } = join;
        let table = indexed_scan(&right, &needed).cloned();
        let left = self.build(left, &needed)?;
        let right = self.build(right, &needed)?;
        if kind == JoinKind::Semi
            && let Some(test) = any.take()
        {
            // Only TRUE counts: a plain condition.
            let pairs = test.left.into_iter().zip(test.right);
            on.extend(pairs.map(|(a, b)| {
                let span = a.span();
                Expr::compare(test.op, a, b, span)
            }));
        }
        let mut share = 1.0;
        for condition in &on {
            share *= self.estimator.join(condition)?.share();
        }
        let pairs = left.rows.0 * right.rows.0 * share;
        let (keys, residual) = split_keys(on.clone(), &left.output, &right.output);
        let mut partnered = if left.rows.0 > 0.0 { (pairs / left.rows.0).min(1.0) } else { 1.0 };
        let equal = any.as_ref().filter(|any| any.op == CompareOp::Equal);
        if matches!(kind, JoinKind::Semi | JoinKind::Anti) && (!keys.is_empty() || equal.is_some()) {
            // How many partners a row has does not count.
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
        let rows = Estimate(estimate(kind, (left.rows.0, right.rows.0), (pairs, partnered)));
        let mut ways = self.side_ways((kind, any.as_ref()), (&left, &right), (&keys, rows));
        let index =
            if any.is_none() { self.side_index((kind, &needed), table.as_ref(), &on, (&left, rows)) } else { None };
        if let Some((number, _, cost)) = &index
            && let Some(scan) = &table
        {
            let outer = names_of(&left);
            let broken = broken(self.guide, JoinMethod::IndexNestedLoop, &outer, std::slice::from_ref(&scan.alias));
            let way = Way { method: JoinMethod::IndexNestedLoop, index: *number };
            // The right side is not read by itself.
            let cost = *cost + left.total;
            ways.push(SideWay { way, mirrored: false, own: cost, broken });
        }
        let best = ways.iter().copied().reduce(|a, b| if b.rank() < a.rank() { b } else { a });
        let best = best.unwrap_or(SideWay {
            way: Way::of(JoinMethod::NestedLoop),
            mirrored: false,
            own: Cost(0.0),
            broken: 0,
        });
        self.decide_side_join((kind, best), &ways, (&residual, table.as_ref(), !keys.is_empty()));
        if best.way.method == JoinMethod::IndexNestedLoop
            && let (Some((number, keys, _)), Some(scan)) = (index, table)
        {
            let inner = Inner { scan: &scan, index: &scan.indexes[number] };
            return self.index_join_node((kind, left), (&inner, &keys), on, (rows, required));
        }
        let mirrored = best.mirrored;
        let gives_right = matches!(kind, JoinKind::Inner | JoinKind::Left | JoinKind::Full | JoinKind::Single);
        let from_right: &[ColumnId] = if gives_right { &right.output } else { &[] };
        let both = left.output.iter().chain(from_right).copied().chain(mark);
        let output = only(both, required);
        let (probe, build) = if mirrored { (right, left) } else { (left, right) };
        let (keys, residual) = if best.way.method == JoinMethod::NestedLoop && any.is_none() {
            (Vec::new(), on)
        } else {
            (keys.into_iter().map(|key| if mirrored { flipped(key) } else { key }).collect(), residual)
        };
        let spec = JoinSpec { method: best.way.method, kind, mirrored, keys, residual, any, mark };
        Ok(self.join_node(spec, (probe, build), output, rows))
    }

    /// The ways to join by methods that gather the right side, or the left one where that is possible.
    fn side_ways(
        &self,
        (kind, any): (JoinKind, Option<&AnyTest>),
        (left, right): (&Node, &Node),
        (keys, rows): (&[JoinKey], Estimate),
    ) -> Vec<SideWay> {
        let hash = !keys.is_empty() || any.is_some_and(|any| any.op == CompareOp::Equal);
        let plain = any.is_none() && kind != JoinKind::Mark;
        let may_mirror = plain
            && !keys.is_empty()
            && matches!(kind, JoinKind::Left | JoinKind::Semi | JoinKind::Anti | JoinKind::Full)
            && !is_recursive(right)
            && !is_recursive(left);
        let (names, other) = (names_of(left), names_of(right));
        let count = keys.len().max(1);
        let way = |method: JoinMethod, mirrored: bool| {
            let sides = if mirrored { (right.rows, left.rows) } else { (left.rows, right.rows) };
            let own = self.factors.join(method, sides, rows, count) + left.total + right.total;
            SideWay { way: Way::of(method), mirrored, own, broken: broken(self.guide, method, &names, &other) }
        };
        let mut ways = Vec::new();
        if hash {
            ways.push(way(JoinMethod::Hash, false));
            if may_mirror {
                ways.push(way(JoinMethod::Hash, true));
            }
        }
        if plain && !keys.is_empty() && !is_recursive(left) && !is_recursive(right) {
            ways.push(way(JoinMethod::Merge, false));
        }
        // A nested loop cannot tell which partner of a comparison with ANY was UNKNOWN by itself; a hash join does that.
        if !hash || plain {
            ways.push(way(JoinMethod::NestedLoop, false));
        }
        ways
    }

    /// The cheapest index of the right side that the conditions can be looked up in, with its keys and cost.
    fn side_index(
        &self,
        (kind, needed): (JoinKind, &[ColumnId]),
        table: Option<&Scan>,
        on: &[Expr],
        (left, rows): (&Node, Estimate),
    ) -> Option<(usize, Keys, Cost)> {
        let scan = table.filter(|_| matches!(kind, JoinKind::Left | JoinKind::Semi | JoinKind::Anti))?;
        let columns: Vec<ColumnId> = scan.columns.iter().map(|(id, _)| *id).collect();
        let pairs = pairs_of(on, &left.output, &columns);
        let mut best: Option<(usize, Keys, Cost)> = None;
        for (number, index) in scan.indexes.iter().enumerate() {
            let keys = fixed_keys(scan, index, &pairs);
            if keys.fixed.is_empty() {
                continue;
            }
            let share =
                keys.fixed.iter().map(|(at, _)| self.estimator.join(&on[*at]).map_or(1.0, |share| share.share()));
            let conditions = scan.filter.len() + on.len() - keys.fixed.len();
            let own = lookup_cost(scan, left.rows, share.product(), (width(scan, needed), conditions), rows);
            let own = Cost(own.0 * self.factors.index);
            if best.as_ref().is_none_or(|(.., known)| own.0 < known.0) {
                best = Some((number, keys, own));
            }
        }
        best
    }

    fn decide_side_join(
        &mut self,
        (kind, best): (JoinKind, SideWay),
        ways: &[SideWay],
        (residual, table, has_keys): (&[Expr], Option<&Scan>, bool),
    ) {
        let mut sorted = ways.to_vec();
        sorted.sort_by(|a, b| a.own.0.total_cmp(&b.own.0));
        let mut candidates: Vec<Candidate> = sorted
            .iter()
            .map(|one| {
                let index = table.and_then(|scan| scan.indexes.get(one.way.index));
                let choice = match (one.way.method, index) {
                    (JoinMethod::IndexNestedLoop, Some(index)) => format!("{} by {}", one.way.method, index.name),
                    (JoinMethod::Hash, _) if one.mirrored => "hash join, left side kept in memory".into(),
                    (JoinMethod::Hash, _) => "hash join, right side kept in memory".into(),
                    (method, _) => method.to_string(),
                };
                let reason = (one.broken > best.broken).then(|| "not as GUIDE demands".to_owned());
                Candidate { choice, cost: Some(one.own.0), chosen: *one == best, reason }
            })
            .collect();
        if !has_keys {
            let printer = Printer::new(self.estimator.columns);
            let conditions: Vec<String> = residual.iter().map(|term| printer.expr(term)).collect();
            for method in [JoinMethod::Hash, JoinMethod::Merge] {
                if !ways.iter().any(|one| one.way.method == method) {
                    candidates.push(impossible(method, &conditions));
                }
            }
        }
        self.considered.push(Considered { decision: format!("{} join", kind.name()), candidates });
    }
}

/// A way to do an outer, semi, anti, mark or single join.
#[derive(Clone, Copy, Debug, PartialEq)]
struct SideWay {
    way: Way,
    /// Whether the left side is kept in memory.
    mirrored: bool,
    /// With reading both sides.
    own: Cost,
    broken: usize,
}

impl SideWay {
    fn rank(&self) -> (usize, f64) {
        (self.broken, self.own.0)
    }
}

fn flipped(key: JoinKey) -> JoinKey {
    JoinKey { probe: key.build, build: key.probe, ..key }
}

/// The equalities between the sides, and all other conditions.
fn split_keys(on: Vec<Expr>, left: &[ColumnId], right: &[ColumnId]) -> (Vec<JoinKey>, Vec<Expr>) {
    let mut keys = Vec::new();
    let mut residual = Vec::new();
    for condition in on {
        match equality(&condition, |expr| side(expr, left), |expr| side(expr, right)) {
            Some(key) => keys.push(key),
            None => residual.push(condition),
        }
    }
    (keys, residual)
}

fn side(expr: &Expr, columns: &[ColumnId]) -> bool {
    let used = expr.columns();
    !used.is_empty() && used.iter().all(|id| columns.contains(id))
}

/// The two sides of an equality that lie in different inputs, the one in the first input as the probe.
pub(super) fn equality(
    condition: &Expr,
    in_first: impl Fn(&Expr) -> bool,
    in_second: impl Fn(&Expr) -> bool,
) -> Option<JoinKey> {
    let (sides, null_same) = match condition.kind() {
        ExprKind::Compare(CompareOp::Equal, sides) => (sides, false),
        ExprKind::Same(sides) => (sides, true),
        _ => return None,
    };
    let [a, b] = sides.as_ref();
    // Arrays and rows are compared part by part, with UNKNOWN where a part is NULL: bytes do not tell.
    if !null_same && matches!(a.sql_type(), crate::types::SqlType::Array(_) | crate::types::SqlType::Row(_)) {
        return None;
    }
    let implied = condition.is_implied();
    let key =
        |probe: &Expr, build: &Expr| Some(JoinKey { implied, probe: probe.clone(), build: build.clone(), null_same });
    if in_first(a) && in_second(b) {
        key(a, b)
    } else if in_first(b) && in_second(a) {
        key(b, a)
    } else {
        None
    }
}

/// Rows of the join, from those of its sides and the pairs that fulfil its condition.
fn estimate(kind: JoinKind, (left, right): (f64, f64), (pairs, partnered): (f64, f64)) -> f64 {
    let share = partnered.clamp(LEAST_SHARE, 1.0);
    match kind {
        JoinKind::Inner => pairs,
        JoinKind::Left => pairs.max(left),
        JoinKind::Full => pairs.max(left).max(right),
        JoinKind::Semi => left * share,
        JoinKind::Anti => left * (1.0 - share).max(LEAST_SHARE),
        JoinKind::Mark | JoinKind::Single => left,
    }
}
