//! Inputs of a merge join that an index gives in the order of the join (an interesting order: Selinger et al., SIGMOD 1979).

use super::super::build::Builder;
use super::super::key_shape::KeyShape;
use super::{Best, Edge, JoinSearch, Tables};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, CompareOp, Direction, Expr, ExprKind, LogicalPlan, Nulls, SortKey};
use crate::physical::Node;
use crate::types::Estimate;

/// For each input, by the column of an equality, the input in the order of that column.
pub(in super::super) type Ordered = Vec<Vec<(ColumnId, Node)>>;

/// The orders that indexes of these inputs have for equalities of columns.
pub(super) fn ordered(
    builder: &mut Builder<'_>,
    inputs: &[Option<LogicalPlan>],
    edges: &[Edge],
    needed: &[ColumnId],
) -> Result<Ordered> {
    let mut found: Ordered = inputs.iter().map(|_| Vec::new()).collect();
    for column in edges.iter().flat_map(|edge| columns(&edge.condition)) {
        let ExprKind::Column(id) = column.kind() else { continue };
        let owns = |input: &Option<LogicalPlan>| input.as_ref().is_some_and(|input| input.output().contains(id));
        let Some(at) = inputs.iter().position(owns) else { continue };
        let Some(input) = inputs[at].as_ref().filter(|_| !found[at].iter().any(|(known, _)| known == id)) else {
            continue;
        };
        // A NULL has no match: where they stand does not matter.
        for nulls in [Nulls::First, Nulls::Last] {
            let key = SortKey { expr: column.clone(), direction: Direction::Ascending, nulls };
            if let Some(node) = builder.in_order(input, &[key], None, needed)? {
                found[at].push((*id, node));
                break;
            }
        }
    }
    Ok(found)
}

/// The columns of an equality of two columns.
fn columns(condition: &Expr) -> Vec<&Expr> {
    if let ExprKind::Compare(CompareOp::Equal, sides) = condition.kind() {
        let are_columns = sides.iter().all(|side| matches!(side.kind(), ExprKind::Column(_)));
        if are_columns { sides.iter().collect() } else { Vec::new() }
    } else {
        Vec::new()
    }
}

impl JoinSearch<'_> {
    /// A single input in the order of the only equality between two sets, where that is cheaper than to sort it.
    pub(in super::super) fn in_order_for(&self, set: Tables, other: Tables) -> Option<&Node> {
        let at = set.trailing_zeros() as usize;
        let nodes = self.ordered.get(at).filter(|nodes| set.is_power_of_two() && !nodes.is_empty())?;
        let mut keys = self.between(set, other).filter(|edge| edge.is_key(set, other));
        let (Some(only), None) = (keys.next(), keys.next()) else { return None };
        let (_, node) = nodes.iter().find(|(id, _)| {
            columns(&only.condition)
                .iter()
                .any(|column| matches!(column.kind(), ExprKind::Column(known) if known == id))
        })?;
        let sorted = self.best.get(&set).map_or(f64::INFINITY, |best| self.sorted_cost(best, self.keys(set, other)));
        Some(node).filter(|node| node.total.0 < sorted)
    }

    /// One side of a merge join, in order: by an index, or sorted.
    pub(super) fn merge_input(&self, (set, best): (Tables, &Best), other: Tables, keys: KeyShape) -> f64 {
        match self.in_order_for(set, other) {
            Some(node) => node.total.0,
            None => self.sorted_cost(best, keys),
        }
    }

    fn sorted_cost(&self, best: &Best, keys: KeyShape) -> f64 {
        best.cost + self.factors.sort(Estimate(best.rows), keys).0
    }
}
