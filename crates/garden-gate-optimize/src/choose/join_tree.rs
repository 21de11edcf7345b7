//! The operators of the order of joins that was chosen.

use super::build::{Builder, make, with_columns};
use super::join_order::{JoinSearch, Tables, key, ranges_between};
use super::key_shape::KeyShape;
use super::range_keys::RangeKeys;
use crate::diagnostic::Result;
use crate::logical::{ColumnId, Direction, Expr, JoinKind, Nulls, SortKey};
use crate::physical::{JoinKey, JoinMethod, JoinSpec, Node, Operator};
use crate::types::{Cost, Estimate};

pub(super) struct Tree<'t, 'b, 'g> {
    pub(super) builder: &'t Builder<'b>,
    pub(super) search: &'t JoinSearch<'g>,
    pub(super) nodes: Vec<Option<Node>>,
    pub(super) owned: &'t [Vec<ColumnId>],
}

impl Tree<'_, '_, '_> {
    /// The operators of the best way to join a set of tables.
    pub(super) fn node(&mut self, tables: Tables, required: &[ColumnId]) -> Result<Node> {
        let best = &self.search.best[&tables];
        let (rows, way) = (Estimate(best.rows), best.way);
        let Some((left, right)) = best.split else {
            let single = self.nodes[tables.trailing_zeros() as usize].take();
            return Ok(single.unwrap_or_else(nothing));
        };
        if let Some((left, at)) = self.search.as_sides((left, right)) {
            return self.side((left, at), (rows, required));
        }
        let conditions: Vec<Expr> = self.search.between(left, right).map(|edge| edge.condition.clone()).collect();
        let below = with_columns(required, &conditions);
        let probe = self.node(left, &below)?;
        let inner = right.trailing_zeros() as usize;
        if way.method == JoinMethod::IndexNestedLoop
            && let Some((inner, keys)) = self.search.index_keys((left, inner), way.index, (&conditions, self.owned))
        {
            let kind = JoinKind::Inner;
            return self.builder.index_join_node((kind, probe), (&inner, &keys), conditions, (rows, required));
        }
        let build = self.node(right, &below)?;
        let (probe, build) = if way.method == JoinMethod::Merge {
            let by_index = |side, other| self.search.in_order_for(side, other).cloned();
            (
                by_index(left, right).map_or(OrderedInput::ToSort(probe), OrderedInput::InOrder),
                by_index(right, left).map_or(OrderedInput::ToSort(build), OrderedInput::InOrder),
            )
        } else {
            (OrderedInput::ToSort(probe), OrderedInput::ToSort(build))
        };
        let (mut keys, mut residual) = (Vec::new(), Vec::new());
        for condition in conditions {
            match key(&condition, left, right, self.owned) {
                Some(pair) if way.method != JoinMethod::NestedLoop => keys.push(pair),
                _ => residual.push(condition),
            }
        }
        let RangeKeys { ranges, rest: residual, recheck } = match way.method {
            JoinMethod::Range => ranges_between(&residual, (left, right), self.owned),
            JoinMethod::Hash
            | JoinMethod::Merge
            | JoinMethod::NestedLoop
            | JoinMethod::IndexNestedLoop
            | JoinMethod::Nearest => RangeKeys { rest: residual, ..RangeKeys::default() },
        };
        let output = probe
            .node()
            .output
            .iter()
            .chain(&build.node().output)
            .copied()
            .filter(|id| required.contains(id))
            .collect();
        let (kind, mirrored, any, mark) = (JoinKind::Inner, false, None, None);
        let spec =
            JoinSpec { method: way.method, kind, mirrored, keys, ranges, recheck, residual, any, mark, nearest: None };
        Ok(self.builder.join_node_of(spec, (probe, build), output, rows))
    }

    /// An outer, semi or anti join.
    fn side(&mut self, (left, at): (Tables, usize), (rows, required): (Estimate, &[ColumnId])) -> Result<Node> {
        let search = self.search;
        let Some((shape, _, best)) = search.side_choice((left, at)) else { return Ok(nothing()) };
        let below = with_columns(required, shape.side.exprs());
        let left = self.node(left, &below)?;
        let right = self.node(1 << at, &below)?;
        self.builder.side_node(shape, best, (left, right), (rows, required))
    }
}

/// An input of a join.
enum OrderedInput {
    /// To be sorted, where the join asks for an order.
    ToSort(Node),
    InOrder(Node),
}

impl OrderedInput {
    fn node(&self) -> &Node {
        match self {
            Self::ToSort(node) | Self::InOrder(node) => node,
        }
    }

    fn into_node(self) -> Node {
        match self {
            Self::ToSort(node) | Self::InOrder(node) => node,
        }
    }
}

fn nothing() -> Node {
    make(Operator::Empty, Vec::new(), Vec::new(), Estimate(0.0), Cost(0.0))
}

impl Builder<'_> {
    /// A join of two inputs, which a merge join sorts first.
    pub(super) fn join_node(
        &self,
        spec: JoinSpec,
        (probe, build): (Node, Node),
        output: Vec<ColumnId>,
        rows: Estimate,
    ) -> Node {
        self.join_node_of(spec, (OrderedInput::ToSort(probe), OrderedInput::ToSort(build)), output, rows)
    }

    fn join_node_of(
        &self,
        spec: JoinSpec,
        (probe, build): (OrderedInput, OrderedInput),
        output: Vec<ColumnId>,
        rows: Estimate,
    ) -> Node {
        let sides = (probe.node().rows, build.node().rows);
        let shape = match spec.method {
            JoinMethod::Range => KeyShape {
                count: spec.ranges.len(),
                is_number: spec.ranges.iter().all(|range| range.build.sql_type().is_whole()),
            },
            JoinMethod::Hash
            | JoinMethod::Merge
            | JoinMethod::NestedLoop
            | JoinMethod::IndexNestedLoop
            | JoinMethod::Nearest => KeyShape::of(spec.keys.iter().map(|key: &JoinKey| &key.probe)),
        };
        let (probe, build, own) = if spec.method == JoinMethod::Merge {
            let own = self.factors.merge_alone(sides, rows);
            let probe = self.in_order_of(probe, spec.keys.iter().map(|key: &JoinKey| &key.probe));
            (probe, self.in_order_of(build, spec.keys.iter().map(|key: &JoinKey| &key.build)), own)
        } else {
            (probe.into_node(), build.into_node(), self.factors.join(spec.method, sides, rows, shape))
        };
        make(Operator::Join(Box::new(spec)), vec![probe, build], output, rows, own)
    }

    fn in_order_of<'e>(&self, side: OrderedInput, by: impl Iterator<Item = &'e Expr>) -> Node {
        match side {
            OrderedInput::InOrder(node) => node,
            OrderedInput::ToSort(node) => self.sorted(node, by),
        }
    }

    /// The input sorted by these expressions; columns among them that it has already.
    fn sorted<'e>(&self, input: Node, by: impl Iterator<Item = &'e Expr>) -> Node {
        let key = |expr: &Expr| SortKey { expr: expr.clone(), direction: Direction::Ascending, nulls: Nulls::First };
        let keys: Vec<SortKey> = by.map(key).collect();
        let (rows, output) = (input.rows, input.output.clone());
        let own = self.factors.sort(rows, KeyShape::of_sort(&keys));
        make(Operator::Sort(keys), vec![input], output, rows, own)
    }
}
