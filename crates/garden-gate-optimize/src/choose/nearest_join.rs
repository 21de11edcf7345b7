//! Joins of each row with the first of its matches.

use super::build::{Builder, make, only, with_columns};
use super::key_shape::KeyShape;
use super::range_keys::inequality;
use super::side_join::{side, split_keys};
use crate::diagnostic::Result;
use crate::logical::{BinaryJoin, ColumnId, Expr, JoinKind, Nearest};
use crate::physical::{JoinMethod, JoinRange, JoinSpec, Node, Operator};
use crate::types::{Estimate, approximate};

impl Builder<'_> {
    /// A join with the nearest row of the right side, of those whose keys are equal.
    pub(super) fn nearest_join(&mut self, join: BinaryJoin, nearest: Nearest, required: &[ColumnId]) -> Result<Node> {
        let order = nearest.order.iter().map(|key| &key.expr);
        let needed = with_columns(required, join.exprs().chain(order));
        let BinaryJoin { kind, left, right, on, .. } = join;
        let left = self.build(left, &needed)?;
        let right = self.build(right, &needed)?;
        let mut share = 1.0;
        for condition in &on {
            share *= self.estimator.join(condition)?.share();
        }
        let (keys, rest) = split_keys(&on, &left.output, &right.output);
        let (ranges, residual) = bound(rest, (&left.output, &right.output), &nearest);
        let matches = (right.rows.0 * share).min(approximate(nearest.fetch));
        let rows = left.rows.0 * if kind == JoinKind::Left { matches.max(1.0) } else { matches };
        let rows = Estimate(rows);
        let shape = KeyShape::of_sort(&nearest.order);
        let own = self.factors.join(JoinMethod::Nearest, (left.rows, right.rows), rows, shape);
        let output = only(left.output.iter().chain(&right.output).copied(), required);
        let spec = JoinSpec {
            method: JoinMethod::Nearest,
            kind,
            mirrored: false,
            keys,
            ranges,
            recheck: Vec::new(),
            residual,
            any: None,
            mark: None,
            nearest: Some(nearest),
        };
        Ok(make(Operator::Join(Box::new(spec)), vec![left, right], output, rows, own))
    }
}

/// An inequality with what the order begins with, by which the nearest match is searched for, and the other conditions.
fn bound(
    mut rest: Vec<Expr>,
    (left, right): (&[ColumnId], &[ColumnId]),
    nearest: &Nearest,
) -> (Vec<JoinRange>, Vec<Expr>) {
    let fits = |term: &Expr| {
        let range = inequality(term, |expr| side(expr, left), |expr| side(expr, right))?;
        let leads = nearest.order.first().is_some_and(|key| key.expr.same_as(&range.build));
        (leads && !term.can_raise()).then_some(range)
    };
    match rest.iter().position(|term| fits(term).is_some()) {
        Some(at) => {
            let range = fits(&rest.remove(at));
            (range.into_iter().collect(), rest)
        }
        None => (Vec::new(), rest),
    }
}
