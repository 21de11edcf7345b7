//! Inputs of a merge join that an index gives in the order of the join (an interesting order: Selinger et al., SIGMOD 1979).

use super::super::build::Builder;
use super::super::key_shape::KeyShape;
use super::{Best, Edge, JoinSearch, Tables};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, CompareOp, Direction, Expr, ExprKind, LogicalPlan, Nulls, SortKey};
use crate::physical::Node;
use crate::types::Estimate;

/// An input in the orders that its indexes have for equalities of columns, each with its column.
pub(super) fn in_orders(
    builder: &mut Builder<'_>,
    input: &LogicalPlan,
    edges: &[Edge],
    needed: &[ColumnId],
) -> Result<Vec<(ColumnId, Node)>> {
    let own = input.output();
    let mut found: Vec<(ColumnId, Node)> = Vec::new();
    for column in edges.iter().filter_map(|edge| sides(&edge.condition)).flatten() {
        let ExprKind::Column(id) = column.kind() else { continue };
        if !own.contains(id) || found.iter().any(|(known, _)| known == id) {
            continue;
        }
        // A NULL has no match: where they stand does not matter.
        for nulls in [Nulls::First, Nulls::Last] {
            let key = SortKey { expr: column.clone(), direction: Direction::Ascending, nulls };
            if let Some(node) = builder.in_order(input, &[key], None, needed)? {
                found.push((*id, node));
                break;
            }
        }
    }
    Ok(found)
}

/// The columns of an equality of two columns.
fn columns(condition: &Expr) -> Option<[ColumnId; 2]> {
    let [a, b] = sides(condition)?;
    match (a.kind(), b.kind()) {
        (ExprKind::Column(a), ExprKind::Column(b)) => Some([*a, *b]),
        _ => None,
    }
}

/// The sides of an equality of two columns.
fn sides(condition: &Expr) -> Option<[&Expr; 2]> {
    let ExprKind::Compare(CompareOp::Equal, sides) = condition.kind() else { return None };
    let are_columns = sides.iter().all(|side| matches!(side.kind(), ExprKind::Column(_)));
    are_columns.then(|| [&sides[0], &sides[1]])
}

impl JoinSearch<'_> {
    /// A single input in the order of the only equality between two sets, where that is cheaper than to sort it.
    pub(in super::super) fn in_order_for(&self, set: Tables, other: Tables) -> Option<&Node> {
        self.in_order_of(set, other, self.keys(set, other))
    }

    fn in_order_of(&self, set: Tables, other: Tables, keys: KeyShape) -> Option<&Node> {
        if keys.count != 1 || !set.is_power_of_two() {
            return None;
        }
        let nodes = &self.inputs.get(set.trailing_zeros() as usize)?.ordered;
        if nodes.is_empty() {
            return None;
        }
        let only = self.between(set, other).find(|edge| edge.is_key(set, other))?;
        let [a, b] = columns(&only.condition)?;
        let (_, node) = nodes.iter().find(|(id, _)| *id == a || *id == b)?;
        let sorted = self.best.get(&set).map_or(f64::INFINITY, |best| self.sorted_cost(best, keys));
        Some(node).filter(|node| node.total.0 < sorted)
    }

    /// One side of a merge join, in order: by an index, or sorted.
    pub(super) fn merge_input(&self, (set, best): (Tables, &Best), other: Tables, keys: KeyShape) -> f64 {
        match self.in_order_of(set, other, keys) {
            Some(node) => node.total.0,
            None => self.sorted_cost(best, keys),
        }
    }

    fn sorted_cost(&self, best: &Best, keys: KeyShape) -> f64 {
        best.cost + self.factors.sort(Estimate(best.rows), keys).0
    }
}
