//! Outer, semi, anti, mark and single joins.

use super::build::{Builder, only, with_columns};
use super::equal_columns::same_columns;
use super::index_join::{Inner, indexed_scan};
use super::join_inputs::Side;
use super::non_inner_alternatives::{Input, NonInnerAlternative, NonInnerJoin, best_of};
use super::range_keys::RangeKeys;
use crate::diagnostic::Result;
use crate::estimate::Equality;
use crate::logical::{BinaryJoin, ColumnId, CompareOp, Expr, ExprKind, JoinKind, Printer};
use crate::physical::{JoinKey, JoinMethod, JoinSpec, Node};
use crate::types::Estimate;
use crate::types::Value;

impl Builder<'_> {
    /// A join whose place is fixed.
    pub(super) fn side_join(&mut self, mut join: BinaryJoin, required: &[ColumnId]) -> Result<Node> {
        if let Some(nearest) = join.nearest.take() {
            return self.nearest_join(join, nearest, required);
        }
        let needed = with_columns(required, join.exprs());
        let (side, left, right) = Side::of(join);
        let table = indexed_scan(&right, &needed).cloned();
        let left = self.build(left, &needed)?;
        let right = self.build(right, &needed)?;
        let shape = self.side_shape(side, &left.output, (&right, table), &needed)?;
        let ways = shape.ways(&Input::of(&left, self.estimator.columns), (&self.factors, self.guide));
        let best = best_of(&ways);
        let considered = shape.considered(&best, &ways, &Printer::new(self.estimator.columns));
        self.considered.push(considered);
        let rows = Estimate(shape.rows(left.rows.0));
        self.side_node(&shape, best, (left, right), (rows, required))
    }

    /// The operator of a way to do a join.
    pub(super) fn side_node(
        &self,
        shape: &NonInnerJoin,
        chosen: NonInnerAlternative,
        (left, right): (Node, Node),
        (rows, required): (Estimate, &[ColumnId]),
    ) -> Result<Node> {
        let Side { kind, on, any, mark, .. } = shape.side.clone();
        if kind == JoinKind::Left {
            let filled = left.rows.0 * shape.unmatched() / rows.0.max(1.0);
            self.estimator.fill_up(&right.output, filled.min(1.0));
        }
        if kind == JoinKind::Semi {
            // What is left has no other values than its matches.
            for [(a, _), (b, _)] in on.iter().filter_map(same_columns) {
                self.estimator.equal(Equality { columns: [a, b], rows: right.rows.0 });
            }
        }
        let NonInnerAlternative { way, mirrored, .. } = chosen;
        if way.method == JoinMethod::IndexNestedLoop
            && let Some(scan) = &shape.table
            && let Some(index) = shape.indexes.iter().find(|index| index.number == way.index)
        {
            let inner = Inner { scan, index: &scan.indexes[way.index] };
            return self.index_join_node((kind, left), (&inner, &index.keys), on, (rows, required));
        }
        let gives_right = matches!(kind, JoinKind::Inner | JoinKind::Left | JoinKind::Full | JoinKind::Single);
        let from_right: &[ColumnId] = if gives_right { &right.output } else { &[] };
        let both = left.output.iter().chain(from_right).copied().chain(mark);
        let output = only(both, required);
        let (probe, build) = if mirrored { (right, left) } else { (left, right) };
        let keys = || shape.keys.iter().cloned().map(|key| if mirrored { flipped(key) } else { key }).collect();
        let (keys, RangeKeys { ranges, rest: residual, recheck }) = match way.method {
            JoinMethod::NestedLoop if any.is_none() => (Vec::new(), RangeKeys { rest: on, ..RangeKeys::default() }),
            JoinMethod::Range => {
                let ranges = shape.ranges.clone();
                (keys(), if mirrored { ranges.flipped() } else { ranges })
            }
            JoinMethod::NestedLoop
            | JoinMethod::IndexNestedLoop
            | JoinMethod::Hash
            | JoinMethod::Merge
            | JoinMethod::Nearest => (keys(), RangeKeys { rest: shape.residual.clone(), ..RangeKeys::default() }),
        };
        // A nested loop through the other side of a full join is the same join of exchanged inputs.
        let mirrored = mirrored && way.method != JoinMethod::NestedLoop;
        let spec =
            JoinSpec { method: way.method, kind, mirrored, keys, ranges, recheck, residual, any, mark, nearest: None };
        Ok(self.join_node(spec, (probe, build), output, rows))
    }
}

fn flipped(key: JoinKey) -> JoinKey {
    JoinKey { probe: key.build, build: key.probe, ..key }
}

/// The equalities between the sides, and all other conditions. A side of an equality that can fail is computed only for rows that the
/// conditions before it let through: these become a guard of the key, or, where they are about both sides, keep it from being one.
pub(super) fn split_keys(on: &[Expr], left: &[ColumnId], right: &[ColumnId]) -> (Vec<JoinKey>, Vec<Expr>) {
    let mut keys = Vec::new();
    let mut residual = Vec::new();
    for (at, condition) in on.iter().enumerate() {
        let key = equality(condition, |expr| side(expr, left), |expr| side(expr, right));
        match key.and_then(|key| guarded(key, &on[..at], (left, right))) {
            Some(key) => keys.push(key),
            None => residual.push(condition.clone()),
        }
    }
    (keys, residual)
}

fn guarded(key: JoinKey, before: &[Expr], (left, right): (&[ColumnId], &[ColumnId])) -> Option<JoinKey> {
    let guard = |expr: Expr, columns: &[ColumnId]| -> Option<Expr> {
        if !expr.can_raise() || before.is_empty() {
            return Some(expr);
        }
        if !before.iter().all(|term| side(term, columns)) {
            return None;
        }
        // NULL is equal to nothing, as the pair is none.
        let (sql_type, span) = (expr.sql_type(), expr.span());
        let null = Expr::literal(Value::Null, sql_type, span);
        let guard = Expr::and(before.to_vec(), span);
        Some(Expr::new(ExprKind::Case(vec![(guard, expr)], Box::new(null)), sql_type, span))
    };
    if key.null_same && (key.probe.can_raise() || key.build.can_raise()) && !before.is_empty() {
        return None;
    }
    Some(JoinKey { probe: guard(key.probe, left)?, build: guard(key.build, right)?, ..key })
}

/// Whether an expression uses columns, and of these alone.
pub(super) fn side(expr: &Expr, columns: &[ColumnId]) -> bool {
    let used = expr.columns();
    !used.is_empty() && used.iter().all(|id| columns.contains(id))
}

/// The two sides of an equality that lie in different inputs, the one in the first input as the probe.
pub(super) fn equality(
    condition: &Expr,
    in_first: impl Fn(&Expr) -> bool,
    in_second: impl Fn(&Expr) -> bool,
) -> Option<JoinKey> {
    let (sides, null_same) = if let ExprKind::Compare(CompareOp::Equal, sides) = condition.kind() {
        (sides, false)
    } else if let ExprKind::Same(sides) = condition.kind() {
        (sides, true)
    } else {
        return None;
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
