//! Outer, semi, anti, mark and single joins: by hash table wherever there is an equality, and which side is kept in memory.

use super::build::{Builder, make, only, with_columns};
use super::cost;
use super::steps::is_recursive;
use crate::diagnostic::Result;
use crate::logical::{ColumnId, CompareOp, Expr, ExprKind, JoinKind, Printer, SideJoin};
use crate::physical::{Candidate, Considered, JoinKey, JoinSpec, Node, Operator};
use crate::types::{Cost, Estimate};

/// The share of rows that a semi or anti join is taken to keep at least.
const LEAST_SHARE: f64 = 0.02;

impl Builder<'_> {
    pub(super) fn side_join(&mut self, join: SideJoin, required: &[ColumnId]) -> Result<Node> {
        let needed = with_columns(required, join.exprs());
        let SideJoin { kind, left, right, mut on, mut any, mark, .. } = join;
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
        let (keys, residual) = split_keys(on, &left.output, &right.output);
        let pairs = left.rows.0 * right.rows.0 * share;
        let rows = Estimate(estimate(kind, (left.rows.0, right.rows.0), pairs));
        let hash = !keys.is_empty() || any.as_ref().is_some_and(|any| any.op == CompareOp::Equal);
        let may_mirror = any.is_none()
            && !keys.is_empty()
            && matches!(kind, JoinKind::Left | JoinKind::Semi | JoinKind::Anti | JoinKind::Full)
            && !is_recursive(&right);
        let keys_count = keys.len().max(1);
        let forward = cost::hash_join(left.rows, right.rows, rows, keys_count);
        let backward = cost::hash_join(right.rows, left.rows, rows, keys_count);
        let mirrored = may_mirror && backward < forward && !is_recursive(&left);
        let nested = cost::nested_loop_join(left.rows, right.rows, rows);
        self.decide_side_join(kind, (hash, mirrored), (forward, backward, nested), &residual);
        let own = match (hash, mirrored) {
            (true, true) => backward,
            (true, false) => forward,
            (false, _) => nested,
        };
        let gives_right = matches!(kind, JoinKind::Inner | JoinKind::Left | JoinKind::Full | JoinKind::Single);
        let from_right: &[ColumnId] = if gives_right { &right.output } else { &[] };
        let both = left.output.iter().chain(from_right).copied().chain(mark);
        let output = only(both, required);
        let (probe, build) = if mirrored { (right, left) } else { (left, right) };
        let keys = keys.into_iter().map(|key| if mirrored { flipped(key) } else { key }).collect();
        let spec = Box::new(JoinSpec { kind, mirrored, keys, residual, any, mark });
        let operator = if hash { Operator::HashJoin(spec) } else { Operator::NestedLoopJoin(spec) };
        Ok(make(operator, vec![probe, build], output, rows, own))
    }

    fn decide_side_join(
        &mut self,
        kind: JoinKind,
        (hash, mirrored): (bool, bool),
        (forward, backward, nested): (Cost, Cost, Cost),
        residual: &[Expr],
    ) {
        let without = if residual.is_empty() {
            "needs an equality between the two sides, there is no condition at all".to_owned()
        } else {
            let text = Printer::new(self.estimator.columns).conjunction(residual);
            format!("needs an equality between the two sides; {text} is none")
        };
        let candidate = |choice: &str, cost: Cost, chosen: bool| Candidate {
            choice: choice.into(),
            cost: hash.then_some(cost.0),
            chosen,
            reason: (!hash).then(|| without.clone()),
        };
        let mut candidates = vec![candidate("hash join, right side kept in memory", forward, hash && !mirrored)];
        if matches!(kind, JoinKind::Left | JoinKind::Semi | JoinKind::Anti | JoinKind::Full) {
            candidates.push(candidate("hash join, left side kept in memory", backward, hash && mirrored));
        }
        let loops = Candidate { choice: "nested-loop join".into(), cost: Some(nested.0), chosen: !hash, reason: None };
        candidates.push(loops);
        candidates.sort_by_key(|candidate| !candidate.chosen);
        self.considered.push(Considered { decision: format!("{} join", kind.name()), candidates });
    }
}

fn flipped(key: JoinKey) -> JoinKey {
    JoinKey { probe: key.build, build: key.probe, null_same: key.null_same }
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
    let key = |probe: &Expr, build: &Expr| Some(JoinKey { probe: probe.clone(), build: build.clone(), null_same });
    if in_first(a) && in_second(b) {
        key(a, b)
    } else if in_first(b) && in_second(a) {
        key(b, a)
    } else {
        None
    }
}

/// Rows of the join, from those of its sides and the pairs that fulfil its condition.
fn estimate(kind: JoinKind, (left, right): (f64, f64), pairs: f64) -> f64 {
    let share = if left > 0.0 { (pairs / left).clamp(LEAST_SHARE, 1.0) } else { 1.0 };
    match kind {
        JoinKind::Inner => pairs,
        JoinKind::Left => pairs.max(left),
        JoinKind::Full => pairs.max(left).max(right),
        JoinKind::Semi => left * share,
        JoinKind::Anti => left * (1.0 - share).max(LEAST_SHARE),
        JoinKind::Mark | JoinKind::Single => left,
    }
}
