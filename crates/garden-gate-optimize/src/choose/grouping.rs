//! How rows are grouped: by a hash table, or where those of a group come beside one another by comparing neighbours.

use super::build::{Builder, make, with_columns};
use super::key_shape::KeyShape;
use super::{cost, grouping_columns, guide_compliance};
use crate::diagnostic::{Result, Span};
use crate::logical::{Aggregate, ColumnId, Direction, Expr, ExprKind, JoinKind, LogicalPlan, Nulls, SortKey};
use crate::physical::{Candidate, Considered, Decision, GroupMethod, IndexUse, JoinMethod, Node, Operator};
use crate::types::{Cost, SqlType};

type Keys = Vec<(ColumnId, Expr)>;
type Aggregates = Vec<(ColumnId, Aggregate)>;

/// A way to group, with its input.
struct GroupingAlternative {
    name: String,
    node: Node,
}

impl Builder<'_> {
    /// A grouping, after the joins below it or in part before them.
    pub(super) fn aggregate(
        &mut self,
        input: LogicalPlan,
        keys: Keys,
        aggregates: Aggregates,
        required: &[ColumnId],
    ) -> Result<Node> {
        let node = self.late_or_early(input, keys, aggregates, required)?;
        if let Operator::Aggregate { keys, .. } = &node.operator {
            self.estimator.grouped_by(keys, node.rows)?;
        }
        Ok(node)
    }

    fn late_or_early(
        &mut self,
        input: LogicalPlan,
        keys: Keys,
        aggregates: Aggregates,
        required: &[ColumnId],
    ) -> Result<Node> {
        let place = aggregates.first().and_then(|(first, _)| self.early.iter().position(|(known, _)| known == first));
        let Some(place) = place else { return self.aggregate_above(input, keys, aggregates, required) };
        let (_, early) = self.early.swap_remove(place);
        let (before, equalities) = (self.considered.len(), self.estimator.equalities());
        let late_node = self.aggregate_above(input, keys.clone(), aggregates, required)?;
        let late_decisions = self.considered.split_off(before);
        // What the joins of the one plan make equal is not so below those of the other.
        let late_equalities = self.estimator.forget_equalities(equalities);
        let early_node = self.aggregate_above(early.input, keys, early.aggregates, required)?;
        let rank =
            |node: &Node| (guide_compliance::violated(self.guide, self.estimator.columns, node).len(), node.total.0);
        let is_early = rank(&early_node) < rank(&late_node);
        let candidate = |choice: &str, node: &Node, chosen: bool| Candidate {
            choice: choice.into(),
            cost: Some(node.total.0),
            chosen,
            reason: None,
        };
        let mut candidates = vec![
            candidate("after the join", &late_node, !is_early),
            candidate("in part before the join", &early_node, is_early),
        ];
        candidates.sort_by_key(|candidate| !candidate.chosen);
        if is_early {
            self.rewrites.push(early.note);
        } else {
            self.estimator.forget_equalities(equalities);
            late_equalities.into_iter().for_each(|equality| self.estimator.equal(equality));
            self.considered.truncate(before);
            self.considered.extend(late_decisions);
        }
        self.considered.push(Considered { decision: Decision::GroupWhen, candidates });
        Ok(if is_early { early_node } else { late_node })
    }

    fn aggregate_above(
        &mut self,
        input: LogicalPlan,
        keys: Keys,
        aggregates: Aggregates,
        required: &[ColumnId],
    ) -> Result<Node> {
        let aggregates: Aggregates = aggregates.into_iter().filter(|(id, _)| required.contains(id)).collect();
        let used = used_by(&keys, &aggregates);
        let may_be_sorted = !keys.is_empty() && keys.iter().all(|(_, key)| is_compared_as_grouped(key.sql_type()));
        let ordered = if may_be_sorted { self.ordered_inputs(&input, &keys, &used)? } else { Vec::new() };
        let fewer = grouping_columns::reduced(&input, &keys, &aggregates);
        let input = self.build(input, &used)?;
        if keys.is_empty() {
            return self.grouped(GroupMethod::Hash, input, (keys, aggregates));
        }
        let by_fewer = fewer.unwrap_or_else(|| (keys.clone(), aggregates.clone()));
        let hashed = self.grouped(GroupMethod::Hash, input.clone(), by_fewer)?;
        self.estimator.grouped(&keys, &aggregates, (input.rows, hashed.rows));
        // The first of equally dear ways is taken.
        let mut ways = vec![GroupingAlternative { name: GroupMethod::Hash.operator().name().into(), node: hashed }];
        for (index, node) in ordered {
            let node = self.grouped(GroupMethod::Sorted, node, (keys.clone(), aggregates.clone()))?;
            ways.push(GroupingAlternative { name: format!("sorted aggregate, by index {index}"), node });
        }
        if may_be_sorted {
            let sorted = comes_sorted(&input, &keys);
            let name = if sorted { "sorted aggregate" } else { "sort, then sorted aggregate" };
            let node = if sorted { input } else { self.sorted_for(input, &keys) };
            let node = self.grouped(GroupMethod::Sorted, node, (keys, aggregates))?;
            ways.push(GroupingAlternative { name: name.into(), node });
        }
        Ok(self.cheapest(ways))
    }

    fn grouped(&self, method: GroupMethod, input: Node, (keys, aggregates): (Keys, Aggregates)) -> Result<Node> {
        let key_exprs: Vec<&Expr> = keys.iter().map(|(_, key)| key).collect();
        let rows = self.estimator.groups(&key_exprs, input.rows)?;
        self.estimator.grouped(&keys, &aggregates, (input.rows, rows));
        let own = match method {
            GroupMethod::Hash => self.factors.hash_aggregate(input.rows, rows, aggregates.len(), keys.len()),
            // Its groups stay in memory.
            GroupMethod::Sorted if !self.factors.fits(rows) => Cost(f64::INFINITY),
            GroupMethod::Sorted => self.factors.sorted_aggregate(input.rows, rows, aggregates.len(), keys.len()),
        };
        let exprs = keys.iter().map(|(_, key)| key);
        let own = own + cost::work(input.rows, exprs.chain(aggregates.iter().flat_map(|(_, known)| known.exprs())));
        let output = keys.iter().map(|(id, _)| *id).chain(aggregates.iter().map(|(id, _)| *id)).collect();
        Ok(make(Operator::Aggregate { method, keys, aggregates }, vec![input], output, rows, own))
    }

    /// The input as indexes give it with the rows of a group beside one another, with the names of these.
    fn ordered_inputs(&mut self, input: &LogicalPlan, keys: &Keys, used: &[ColumnId]) -> Result<Vec<(IndexUse, Node)>> {
        let exprs: Vec<&Expr> = keys.iter().map(|(_, key)| key).collect();
        let mut found = Vec::new();
        for order in self.orders_of_groups(input, &exprs) {
            if let Some(node) = self.in_order(input, &order, None, used)?
                && let Some(index) = index_of(&node)
                && !found.iter().any(|(known, _)| *known == index)
            {
                found.push((index, node));
            }
        }
        Ok(found)
    }

    fn sorted_for(&self, input: Node, keys: &Keys) -> Node {
        let key = |expr: &Expr| SortKey { expr: expr.clone(), direction: Direction::Ascending, nulls: Nulls::First };
        let keys: Vec<SortKey> = keys.iter().map(|(_, expr)| key(expr)).collect();
        let (rows, output) = (input.rows, input.output.clone());
        let own = self.factors.sort(rows, KeyShape::of_sort(&keys));
        make(Operator::Sort(keys), vec![input], output, rows, own)
    }

    fn cheapest(&mut self, ways: Vec<GroupingAlternative>) -> Node {
        let ranked = ways
            .into_iter()
            .map(|way| (guide_compliance::violated(self.guide, self.estimator.columns, &way.node).len(), way));
        let mut ways: Vec<(usize, GroupingAlternative)> = ranked.collect();
        ways.sort_by(|(violations, a), (other, b)| {
            violations.cmp(other).then(a.node.total.0.total_cmp(&b.node.total.0))
        });
        let least = ways[0].0;
        let candidate = |(at, (violations, way)): (usize, &(usize, GroupingAlternative))| {
            let cost = Some(way.node.total.0).filter(|cost| cost.is_finite());
            let reason = match cost {
                None => Some("its groups would not fit into the memory".to_owned()),
                Some(_) if *violations > least => Some("not as GUIDE demands".to_owned()),
                Some(_) => None,
            };
            Candidate { choice: way.name.clone(), cost, chosen: at == 0, reason }
        };
        let candidates = ways.iter().enumerate().map(candidate).collect();
        self.considered.push(Considered { decision: Decision::Group, candidates });
        ways.swap_remove(0).1.node
    }

    /// Groups in the order of these keys, because an index gives their rows so.
    pub(super) fn groups_in_order(
        &mut self,
        (input, keys, aggregates): (&LogicalPlan, &Keys, &Aggregates),
        order: &[SortKey],
        required: &[ColumnId],
    ) -> Result<Option<Node>> {
        let below = |key: &SortKey| {
            let ExprKind::Column(id) = key.expr.kind() else { return None };
            let (_, expr) = keys.iter().find(|(made, _)| made == id)?;
            is_compared_as_grouped(expr.sql_type()).then(|| SortKey { expr: expr.clone(), ..key.clone() })
        };
        let Some(order) = order.iter().map(below).collect::<Option<Vec<SortKey>>>() else { return Ok(None) };
        let named = |(_, key): &(ColumnId, Expr)| order.iter().any(|known| known.expr.same_as(key));
        if keys.is_empty() || order.len() != keys.len() || !keys.iter().all(named) {
            return Ok(None);
        }
        let aggregates: Aggregates = aggregates.iter().filter(|(id, _)| required.contains(id)).cloned().collect();
        let used = used_by(keys, &aggregates);
        let Some(input) = self.in_order(input, &order, None, &used)? else { return Ok(None) };
        let node = self.grouped(GroupMethod::Sorted, input, (keys.clone(), aggregates))?;
        Ok(Some(node).filter(|node| node.total.0.is_finite()))
    }

    /// The different rows of an input.
    pub(super) fn distinct(&mut self, input: Node, columns: Vec<ColumnId>) -> Result<Node> {
        let column = |id: &ColumnId| Expr::column(*id, self.estimator.columns.get(*id).sql_type, Span::default());
        let keys: Vec<Expr> = columns.iter().map(column).collect();
        let rows = self.estimator.groups(&keys.iter().collect::<Vec<_>>(), input.rows)?;
        let own = self.factors.hash_aggregate(input.rows, rows, 0, columns.len());
        Ok(make(Operator::Distinct(keys), vec![input], columns, rows, own))
    }
}

fn used_by(keys: &Keys, aggregates: &Aggregates) -> Vec<ColumnId> {
    let arguments = aggregates.iter().flat_map(|(_, aggregate)| aggregate.exprs());
    with_columns(&[], keys.iter().map(|(_, key)| key).chain(arguments))
}

/// Whether values that are the same to a grouping are those that lie beside one another in order: not so with -0 and 0.
fn is_compared_as_grouped(sql_type: SqlType) -> bool {
    !sql_type.is_approximate() && !matches!(sql_type, SqlType::Array(_) | SqlType::Row(_))
}

/// The index by which a node reads.
fn index_of(node: &Node) -> Option<IndexUse> {
    let mut found = None;
    node.walk(&mut |node| {
        if let Operator::Scan { access: Some(access), .. } = &node.operator {
            found = Some(access.index_use());
        }
    });
    found
}

/// Whether the rows of each group come beside one another already.
fn comes_sorted(input: &Node, keys: &Keys) -> bool {
    let order = order_of(input);
    let Some(first) = order.get(..keys.len()) else { return false };
    keys.iter().all(|(_, key)| first.iter().any(|known| known.same_as(key)))
}

/// What the rows of a node are sorted by, as far as that is known.
fn order_of(node: &Node) -> Vec<Expr> {
    let exprs = |keys: &[SortKey]| keys.iter().map(|key| key.expr.clone()).collect();
    match &node.operator {
        Operator::Sort(keys) | Operator::TopN { keys, .. } => exprs(keys),
        Operator::Filter(_) | Operator::Limit { .. } | Operator::Project(_) => order_of(&node.inputs[0]),
        // The rows of the probe side come in their order, each with its matches.
        Operator::Join(spec) => {
            let keeps = !spec.mirrored
                && matches!(spec.method, JoinMethod::Hash | JoinMethod::Merge)
                && matches!(spec.kind, JoinKind::Inner | JoinKind::Left | JoinKind::Semi | JoinKind::Anti);
            if keeps { order_of(&node.inputs[0]) } else { Vec::new() }
        }
        Operator::IndexJoin(_) => order_of(&node.inputs[0]),
        Operator::OneRow
        | Operator::Empty
        | Operator::Scan { .. }
        | Operator::Values(_)
        | Operator::Window { .. }
        | Operator::UnionAll(_)
        | Operator::Compare { .. }
        | Operator::Expand { .. }
        | Operator::SharedStep { .. }
        | Operator::Recursion(_)
        | Operator::RecursionInput { .. }
        | Operator::Aggregate { .. }
        | Operator::Distinct(_) => Vec::new(),
    }
}
