//! Turns each logical node into an operator, with only the columns that are needed above it.

use super::cost::Factors;
use super::counted::Counted;
use super::join_inputs::JoinInputs;
use super::key_shape::KeyShape;
use super::steps::Steps;
use super::{cost, guide_compliance, join_order};
use crate::diagnostic::Result;
use crate::estimate::Estimator;
use crate::logical::{ColumnId, EarlyGroups, Expr, Guide, LogicalPlan, RewriteNote, SortKey};
use crate::physical::{Candidate, Considered, Decision, Node, NodeId, Operator};
use crate::types::{Cost, Estimate, approximate};

pub(super) struct Builder<'a> {
    pub(super) estimator: Estimator<'a>,
    pub(super) guide: &'a Guide,
    pub(super) factors: Factors,
    pub(super) counted: Counted<'a>,
    pub(super) considered: Vec<Considered>,
    pub(super) steps: Steps,
    /// Rows that a round of each recursion around is taken to find.
    pub(super) rounds: Vec<(usize, Estimate)>,
    /// Other ways to group, by the first aggregate of each: groupings may have grouping columns in common.
    pub(super) early: Vec<(ColumnId, EarlyGroups)>,
    /// What those that were taken are shown as.
    pub(super) rewrites: Vec<RewriteNote>,
}

/// A node whose cost is its own and that of its inputs.
pub(super) fn make(operator: Operator, inputs: Vec<Node>, output: Vec<ColumnId>, rows: Estimate, own: Cost) -> Node {
    let total = inputs.iter().fold(own, |sum, input| sum + input.total);
    Node { id: NodeId::default(), operator, inputs, output, rows, own, total }
}

/// `required` and the columns of `exprs`, each once.
pub(super) fn with_columns<'e>(required: &[ColumnId], exprs: impl IntoIterator<Item = &'e Expr>) -> Vec<ColumnId> {
    let mut all = required.to_vec();
    for id in exprs.into_iter().flat_map(Expr::columns) {
        if !all.contains(&id) {
            all.push(id);
        }
    }
    all
}

/// Those columns that are needed.
pub(super) fn only(available: impl IntoIterator<Item = ColumnId>, required: &[ColumnId]) -> Vec<ColumnId> {
    available.into_iter().filter(|id| required.contains(id)).collect()
}

impl Builder<'_> {
    /// The operators of a plan, which give at least the columns `required` that the plan has.
    pub(super) fn build(&mut self, plan: LogicalPlan, required: &[ColumnId]) -> Result<Node> {
        crate::control::checkpoint()?;
        match plan {
            LogicalPlan::OneRow => Ok(make(Operator::OneRow, Vec::new(), Vec::new(), Estimate(1.0), Cost(1.0))),
            LogicalPlan::Empty(columns) => {
                Ok(make(Operator::Empty, Vec::new(), only(columns, required), Estimate(0.0), Cost(0.0)))
            }
            LogicalPlan::Scan(scan) => self.scan(scan, required),
            LogicalPlan::Filter { input, conjuncts } => self.filter(*input, conjuncts, required),
            LogicalPlan::Project { input, computed } => self.project(*input, computed, required),
            plan @ (LogicalPlan::InnerJoin { .. } | LogicalPlan::Join(_)) => self.join(plan, required),
            LogicalPlan::Aggregate { input, keys, aggregates } => self.aggregate(*input, keys, aggregates, required),
            LogicalPlan::Distinct { input, columns } => {
                let input = self.build(*input, &columns)?;
                self.distinct(input, columns)
            }
            LogicalPlan::Sort { input, keys } => self.sort(*input, keys, required),
            LogicalPlan::Limit { input, offset, fetch } => self.limit(*input, offset, fetch, required),
            LogicalPlan::Window { input, partition, order, calls } => {
                self.window(*input, (partition, order), (calls, None), required)
            }
            LogicalPlan::Values { columns, rows } => Ok(values(&columns, rows, required)),
            LogicalPlan::SetOperation { op, all, operands, columns } => {
                self.set_operation((op, all), operands, &columns, required)
            }
            LogicalPlan::Expand { input, expand, columns, ordinality } => {
                self.expand(*input, expand, (columns, ordinality), required)
            }
            LogicalPlan::CteReference(step) => self.step(&step, required),
            LogicalPlan::Recursion(recursion) => self.recursion(*recursion),
            LogicalPlan::RecursionInput(input) => Ok(self.recursion_input(input, required)),
        }
    }

    fn join(&mut self, plan: LogicalPlan, required: &[ColumnId]) -> Result<Node> {
        if JoinInputs::are_in(&plan, self.guide) {
            return join_order::build(self, JoinInputs::of(plan), required);
        }
        if let LogicalPlan::Join(join) = plan {
            self.side_join(*join, required)
        } else if let LogicalPlan::InnerJoin { inputs, conjuncts } = plan {
            join_order::build(self, JoinInputs::inner(inputs, conjuncts), required)
        } else {
            self.build(plan, required)
        }
    }

    fn filter(&mut self, mut input: LogicalPlan, conjuncts: Vec<Expr>, required: &[ColumnId]) -> Result<Node> {
        // What is left above the join of two inputs can fail: in their join it is tested last, for the same pairs.
        if let LogicalPlan::InnerJoin { inputs, conjuncts: on } = &mut input
            && inputs.len() == 2
            && !inputs.iter().any(|input| matches!(input, LogicalPlan::Join(_)))
        {
            on.extend(conjuncts);
            return self.build(input, required);
        }
        if let LogicalPlan::Window { input, partition, order, calls } = input {
            return self.numbered((*input, partition, order, calls), conjuncts, required);
        }
        let input = self.build(input, &with_columns(required, &conjuncts))?;
        self.filter_node(input, conjuncts, required)
    }

    /// A filter above an operator.
    pub(super) fn filter_node(&mut self, input: Node, conjuncts: Vec<Expr>, required: &[ColumnId]) -> Result<Node> {
        let rows = Estimate(input.rows.0 * self.estimator.conjunction(&conjuncts)?.share());
        let own = cost::work(input.rows, &conjuncts);
        let output = only(input.output.iter().copied(), required);
        Ok(make(Operator::Filter(conjuncts), vec![input], output, rows, own))
    }

    fn project(&mut self, input: LogicalPlan, computed: Vec<(ColumnId, Expr)>, required: &[ColumnId]) -> Result<Node> {
        let computed: Vec<(ColumnId, Expr)> = computed.into_iter().filter(|(id, _)| required.contains(id)).collect();
        let input = self.build(input, &with_columns(required, computed.iter().map(|(_, expr)| expr)))?;
        if computed.is_empty() {
            return Ok(input);
        }
        self.estimator.computed(&computed);
        Ok(projected(input, computed, required))
    }

    fn sort(&mut self, input: LogicalPlan, keys: Vec<SortKey>, required: &[ColumnId]) -> Result<Node> {
        let ordered = self.in_order(&input, &keys, None, required)?;
        let input = self.build(input, &with_columns(required, keys.iter().map(|key| &key.expr)))?;
        let (rows, own) = (input.rows, self.factors.sort(input.rows, KeyShape::of_sort(&keys)));
        let output = only(input.output.iter().copied(), required);
        let sorted = make(Operator::Sort(keys), vec![input], output, rows, own);
        Ok(self.cheaper(Decision::Order, ("sort", sorted), ordered))
    }

    /// Rows that an index gives in the wanted order, when that is cheaper than to bring them into it.
    fn cheaper(&mut self, decision: Decision, (way, sorted): (&str, Node), ordered: Option<Node>) -> Node {
        let Some(ordered) = ordered else { return sorted };
        let by_index = self.is_cheaper(&ordered, &sorted);
        let mut index = "an index".to_owned();
        ordered.walk(&mut |node| {
            if let Operator::Scan { access: Some(access), .. } = &node.operator {
                index = access.index_use().to_string();
            }
        });
        let candidate = |choice: String, node: &Node, chosen: bool| Candidate {
            choice,
            cost: Some(node.total.0),
            chosen,
            reason: None,
        };
        let mut candidates = vec![
            candidate(format!("by index {index}"), &ordered, by_index),
            candidate(way.to_owned(), &sorted, !by_index),
        ];
        candidates.sort_by_key(|candidate| !candidate.chosen);
        self.considered.push(Considered { decision, candidates });
        if by_index { ordered } else { sorted }
    }

    fn is_cheaper(&self, ordered: &Node, sorted: &Node) -> bool {
        let violations = |node: &Node| guide_compliance::violated(self.guide, self.estimator.columns, node).len();
        (violations(ordered), ordered.total.0) < (violations(sorted), sorted.total.0)
    }

    /// Over a sort, keeping only the first rows is cheaper than sorting all.
    fn limit(&mut self, input: LogicalPlan, offset: u64, fetch: Option<u64>, required: &[ColumnId]) -> Result<Node> {
        if let (LogicalPlan::Sort { input: sorted, keys }, Some(fetch)) = (&input, fetch) {
            let needed = with_columns(required, keys.iter().map(|key| &key.expr));
            let ordered = self.in_order(sorted, keys, Some(offset.saturating_add(fetch)), required)?;
            let source = self.build((**sorted).clone(), &needed)?;
            let kept = Estimate(approximate(offset.saturating_add(fetch)).min(source.rows.0));
            let rows = Estimate((kept.0 - approximate(offset)).max(0.0));
            let shape = KeyShape::of_sort(keys);
            let top = self.factors.top_n(source.rows, kept, shape);
            let sort = self.factors.sort(source.rows, shape);
            let by_top = top.0 <= sort.0;
            let candidate = |choice: &str, cost: Cost, chosen| Candidate {
                choice: choice.into(),
                cost: Some(cost.0),
                chosen,
                reason: None,
            };
            let mut candidates = vec![candidate("top-n", top, by_top), candidate("sort, then limit", sort, !by_top)];
            candidates.sort_by_key(|candidate| !candidate.chosen);
            let decision = Considered { decision: Decision::OrderAndFetch, candidates };
            let output = only(source.output.iter().copied(), required);
            let (way, node) = if by_top {
                let operator = Operator::TopN { keys: keys.clone(), offset, fetch };
                ("top-n", make(operator, vec![source], output, rows, top))
            } else {
                let all = source.rows;
                let sorted = make(Operator::Sort(keys.clone()), vec![source], output, all, sort);
                ("sort", limited(sorted, offset, Some(fetch)))
            };
            let ordered = ordered.map(|input| limited(input, offset, Some(fetch)));
            let by_index = ordered.as_ref().is_some_and(|ordered| self.is_cheaper(ordered, &node));
            if !by_index {
                self.considered.push(decision);
            }
            return Ok(self.cheaper(Decision::FirstRows, (way, node), ordered));
        }
        Ok(limited(self.build(input, required)?, offset, fetch))
    }
}

fn limited(input: Node, offset: u64, fetch: Option<u64>) -> Node {
    let left = (input.rows.0 - approximate(offset)).max(0.0);
    let rows = Estimate(fetch.map_or(left, |fetch| left.min(approximate(fetch))));
    let output = input.output.clone();
    make(Operator::Limit { offset, fetch }, vec![input], output, rows, Cost(0.0))
}

/// An operator that computes columns from those of its input.
pub(super) fn projected(input: Node, computed: Vec<(ColumnId, Expr)>, required: &[ColumnId]) -> Node {
    let (rows, own) = (input.rows, cost::work(input.rows, computed.iter().map(|(_, expr)| expr)));
    let output = only(input.output.iter().copied().chain(computed.iter().map(|(id, _)| *id)), required);
    make(Operator::Project(computed), vec![input], output, rows, own)
}

fn values(columns: &[ColumnId], rows: Vec<Vec<Expr>>, required: &[ColumnId]) -> Node {
    let kept: Vec<usize> = (0..columns.len()).filter(|at| required.contains(&columns[*at])).collect();
    let output = kept.iter().map(|at| columns[*at]).collect();
    let count = Estimate(approximate(rows.len()));
    let rows = rows.into_iter().map(|row| kept.iter().map(|at| row[*at].clone()).collect()).collect();
    make(Operator::Values(rows), Vec::new(), output, count, cost::evaluate(count, kept.len()))
}
