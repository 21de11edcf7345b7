//! The inequalities between two sides that a range join goes by.

use super::key_shape::KeyShape;
use crate::diagnostic::Result;
use crate::estimate::Estimator;
use crate::logical::{CompareOp, Expr, ExprKind};
use crate::physical::JoinRange;
use crate::types::SqlType;

/// How many inequalities a range join goes by.
const MOST: usize = 2;

/// What conditions between two sides come to for a range join.
#[derive(Clone, Debug, Default)]
pub(super) struct RangeKeys {
    pub(super) ranges: Vec<JoinRange>,
    /// What is tested for each pair.
    pub(super) rest: Vec<Expr>,
    /// The inequalities once more, where a side of one can fail: what is tested for the pairs of a row for which it does.
    pub(super) recheck: Vec<Expr>,
}

/// An inequality whose sides lie in different inputs, the one in the first input as the probe.
///
/// Arrays and rows are compared part by part, with UNKNOWN where a part is NULL: their order does not tell.
pub(super) fn inequality(
    condition: &Expr,
    in_first: impl Fn(&Expr) -> bool,
    in_second: impl Fn(&Expr) -> bool,
) -> Option<JoinRange> {
    let ExprKind::Compare(op, sides) = condition.kind() else { return None };
    let [a, b] = sides.as_ref();
    let is_range =
        matches!(op, CompareOp::Less | CompareOp::LessOrEqual | CompareOp::Greater | CompareOp::GreaterOrEqual);
    if !is_range || matches!(a.sql_type(), SqlType::Array(_) | SqlType::Row(_)) {
        return None;
    }
    let implied = condition.is_implied();
    let range = JoinRange { implied, op: *op, probe: a.clone(), build: b.clone() };
    if in_first(a) && in_second(b) {
        Some(range)
    } else if in_first(b) && in_second(a) {
        Some(range.flipped())
    } else {
        None
    }
}

impl RangeKeys {
    /// Of conditions that are no equalities. A lower and an upper bound are taken before two bounds of one kind.
    pub(super) fn of(conditions: &[Expr], in_first: impl Fn(&Expr) -> bool, in_second: impl Fn(&Expr) -> bool) -> Self {
        let found: Vec<(usize, JoinRange)> = conditions
            .iter()
            .enumerate()
            .filter_map(|(at, condition)| Some((at, inequality(condition, &in_first, &in_second)?)))
            .collect();
        let mut taken: Vec<usize> = Vec::new();
        let mut ranges: Vec<JoinRange> = Vec::new();
        if let Some((first, range)) = found.first() {
            let others = || found.iter().skip(1).filter(|(_, other)| !same_range(other, range));
            let second =
                others().find(|(_, other)| is_lower(other.op) != is_lower(range.op)).or_else(|| others().next());
            for (at, range) in std::iter::once(&(*first, range.clone())).chain(second).take(MOST) {
                taken.push(*at);
                ranges.push(range.clone());
            }
        }
        let can_raise = taken.iter().any(|at| conditions[*at].can_raise());
        let (own, rest): (Vec<_>, Vec<_>) =
            conditions.iter().cloned().enumerate().partition(|(at, _)| taken.contains(at));
        let terms = |terms: Vec<(usize, Expr)>| terms.into_iter().map(|(_, term)| term).collect();
        Self { ranges, rest: terms(rest), recheck: if can_raise { terms(own) } else { Vec::new() } }
    }

    /// The share of pairs that fulfil the inequalities.
    pub(super) fn share(&self, estimator: &Estimator<'_>) -> Result<f64> {
        let pair = |range: &JoinRange| (range.op, range.probe.clone(), range.build.clone());
        if let [first, second] = self.ranges.as_slice()
            && let Some(both) = estimator.both_ranges(&pair(first), &pair(second))?
        {
            return Ok(both);
        }
        let mut share = 1.0;
        for range in &self.ranges {
            share *= estimator.join(&range.condition())?.share();
        }
        Ok(share)
    }

    /// What the inequalities are compared by.
    pub(super) fn shape(&self) -> KeyShape {
        let shape = KeyShape::of(self.ranges.iter().map(|range| &range.build));
        let is_number = self.ranges.iter().all(|range| range.build.sql_type().is_whole());
        KeyShape { is_number, ..shape }
    }

    /// Of exchanged inputs.
    pub(super) fn flipped(self) -> Self {
        Self { ranges: self.ranges.into_iter().map(JoinRange::flipped).collect(), ..self }
    }
}

fn is_lower(op: CompareOp) -> bool {
    matches!(op, CompareOp::Greater | CompareOp::GreaterOrEqual)
}

fn same_range(a: &JoinRange, b: &JoinRange) -> bool {
    a.op == b.op && a.probe.same_as(&b.probe) && a.build.same_as(&b.build)
}
