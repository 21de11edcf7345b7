//! Queries that are run once, recursions, set operators and the other operators that have nothing to choose.

use super::build::{Builder, make, only, with_columns};
use super::cost;
use super::key_shape::KeyShape;
use crate::collections::{HashMap, HashSet};
use crate::diagnostic::Result;
use crate::kernel::partition_aggregate;
use crate::logical::{
    Aggregate, ColumnId, CteDefinition, CteId, CteReference, Expand, Expr, ExprKind, LogicalPlan, Member, Recursion,
    RecursionInput, SetOp, SetOperand, SortKey, WindowCall,
};
use crate::physical::{MemberSpec, Node, Operator, RecursionSpec};
use crate::types::{Cost, Estimate, Value, approximate};

/// Rounds that a recursion is taken to have when nothing is known.
const GUESS_ROUNDS: f64 = 10.0;
/// Rows that an array is taken to have.
const GUESS_ELEMENTS: f64 = 4.0;

/// The queries that are run once, and what is known of those built so far.
#[derive(Default)]
pub(super) struct Steps {
    definitions: HashMap<CteId, CteDefinition>,
    built: HashMap<CteId, (Estimate, Vec<ColumnId>)>,
    /// Every column that is used anywhere.
    referenced: HashSet<ColumnId>,
}

impl Steps {
    /// The steps that a plan refers to. A column that nothing refers to, in the plan or in a step, is not computed.
    pub(super) fn new(plan: &LogicalPlan, steps: Vec<(CteId, CteDefinition)>, required: &[ColumnId]) -> Self {
        let mut referenced: HashSet<ColumnId> = required.iter().copied().collect();
        for plan in std::iter::once(plan).chain(steps.iter().map(|(_, step)| &step.plan)) {
            plan.walk(&mut |node| {
                node.for_each_expr(|expr| referenced.extend(expr.columns()));
                match node {
                    LogicalPlan::Distinct { columns, .. } => referenced.extend(columns),
                    LogicalPlan::SetOperation { operands, .. } => {
                        referenced.extend(operands.iter().flat_map(|operand| &operand.columns));
                    }
                    LogicalPlan::Recursion(recursion) => {
                        let operands =
                            recursion.members.iter().flat_map(|member| member.anchors.iter().chain(&member.branches));
                        referenced.extend(operands.flat_map(|operand| &operand.columns));
                    }
                    LogicalPlan::OneRow
                    | LogicalPlan::Empty(_)
                    | LogicalPlan::Scan(_)
                    | LogicalPlan::Values { .. }
                    | LogicalPlan::Filter { .. }
                    | LogicalPlan::Project { .. }
                    | LogicalPlan::InnerJoin { .. }
                    | LogicalPlan::Join(_)
                    | LogicalPlan::Aggregate { .. }
                    | LogicalPlan::Window { .. }
                    | LogicalPlan::Sort { .. }
                    | LogicalPlan::Limit { .. }
                    | LogicalPlan::Expand { .. }
                    | LogicalPlan::CteReference(_)
                    | LogicalPlan::RecursionInput(_) => {}
                }
            });
        }
        // What is used of a use is used of the step itself.
        let mut grown = true;
        while grown {
            grown = false;
            for plan in std::iter::once(plan).chain(steps.iter().map(|(_, step)| &step.plan)) {
                plan.walk(&mut |node| {
                    if let LogicalPlan::CteReference(step) = node {
                        for (here, there) in &step.columns {
                            grown |= referenced.contains(here) && referenced.insert(*there);
                        }
                    }
                });
            }
        }
        Self { definitions: steps.into_iter().collect(), built: HashMap::default(), referenced }
    }
}

impl Builder<'_> {
    /// A reference to a step: the first one builds the step, the others read what it keeps.
    pub(super) fn step(&mut self, step: &CteReference, required: &[ColumnId]) -> Result<Node> {
        let mut inputs = Vec::new();
        if !self.steps.built.contains_key(&step.id)
            && let Some(definition) = self.steps.definitions.remove(&step.id)
        {
            let needed: Vec<ColumnId> =
                definition.output.iter().copied().filter(|id| self.steps.referenced.contains(id)).collect();
            let plan = self.build(definition.plan, &needed)?;
            self.steps.built.insert(step.id, (plan.rows, plan.output.clone()));
            inputs.push(plan);
        }
        self.estimator.used_step(&step.columns);
        let rows = self.steps.built.get(&step.id).map_or(Estimate(1.0), |(rows, _)| *rows);
        let kept: Vec<(ColumnId, ColumnId)> =
            step.columns.iter().copied().filter(|(here, _)| required.contains(here)).collect();
        let (output, columns): (Vec<_>, Vec<_>) = kept.into_iter().unzip();
        let own = cost::scan(rows, columns.len());
        let operator = Operator::SharedStep { id: step.id, name: step.name.clone(), columns };
        Ok(make(operator, inputs, output, rows, own))
    }

    /// A window over an input, without the calls that nobody needs.
    pub(super) fn window(
        &mut self,
        input: LogicalPlan,
        (partition, order): (Vec<Expr>, Vec<SortKey>),
        (calls, first): (Vec<(ColumnId, WindowCall)>, Option<u64>),
        required: &[ColumnId],
    ) -> Result<Node> {
        let calls: Vec<_> = calls.into_iter().filter(|(id, _)| required.contains(id)).collect();
        if calls.is_empty() {
            return self.build(input, required);
        }
        let exprs = partition.iter().chain(order.iter().map(|key| &key.expr));
        let used = with_columns(required, exprs.chain(calls.iter().flat_map(|(_, call)| call.exprs())));
        let input = self.build(input, &used)?;
        let rows = input.rows;
        let partitions = self.estimator.groups(&partition.iter().collect::<Vec<_>>(), rows)?;
        let kept = match first {
            Some(first) => Estimate((partitions.0.max(1.0) * approximate(first)).min(rows.0)),
            None => rows,
        };
        let keys = KeyShape::of(partition.iter().chain(order.iter().map(|key| &key.expr)));
        let aggregate = |(id, call): &(ColumnId, WindowCall)| Some((*id, partition_aggregate(call)?.clone()));
        let aggregates: Vec<(ColumnId, Aggregate)> = calls.iter().filter_map(aggregate).collect();
        let stay = order.is_empty() && aggregates.len() == calls.len();
        if stay {
            self.estimator.grouped(&[], &aggregates, (rows, partitions));
        }
        let gather = match first {
            None if stay => self.factors.partition_values(rows, partitions, calls.len(), keys.count),
            _ if keys.count == 0 => Cost(0.0),
            Some(_) => self.factors.top_n(rows, kept, keys),
            None => self.factors.sort(rows, keys),
        };
        let own = gather + cost::evaluate(rows, calls.len());
        let output = only(input.output.iter().copied().chain(calls.iter().map(|(id, _)| *id)), required);
        Ok(make(Operator::Window { partition, order, calls, first }, vec![input], output, kept, own))
    }

    /// A set operation; of UNION ALL only the needed columns are computed.
    pub(super) fn set_operation(
        &mut self,
        (op, all): (SetOp, bool),
        operands: Vec<SetOperand>,
        columns: &[ColumnId],
        required: &[ColumnId],
    ) -> Result<Node> {
        // INTERSECT and EXCEPT compare all columns, whatever is needed of them.
        let kept: Vec<usize> =
            (0..columns.len()).filter(|at| op != SetOp::Union || required.contains(&columns[*at])).collect();
        let output: Vec<ColumnId> = kept.iter().map(|at| columns[*at]).collect();
        let mut inputs = Vec::new();
        let mut places = Vec::new();
        for operand in operands {
            let wanted: Vec<ColumnId> = kept.iter().map(|at| operand.columns[*at]).collect();
            inputs.push(self.build(operand.plan, &wanted)?);
            places.push(wanted);
        }
        let total = Estimate(inputs.iter().map(|input| input.rows.0).sum());
        if op == SetOp::Union {
            for (place, id) in output.iter().enumerate() {
                let part = |(columns, input): (&Vec<ColumnId>, &Node)| (columns[place], input.rows);
                self.estimator.union(*id, places.iter().zip(&inputs).map(part).collect());
            }
            return Ok(make(Operator::UnionAll(places), inputs, output, total, Cost(0.0)));
        }
        let mut nodes = inputs.into_iter().zip(places);
        let Some((mut left, mut left_columns)) = nodes.next() else {
            return Ok(make(Operator::Empty, Vec::new(), output, Estimate(0.0), Cost(0.0)));
        };
        for (right, right_columns) in nodes {
            let rows = if op == SetOp::Except { left.rows } else { Estimate(left.rows.0.min(right.rows.0)) };
            let own = self.factors.hash_aggregate(total, rows, 0, kept.len());
            let operator = Operator::Compare { op, all, columns: [left_columns, right_columns] };
            left = make(operator, vec![left, right], output.clone(), rows, own);
            left_columns = output.clone();
        }
        Ok(left)
    }

    /// Rows that an expression makes of each row: of arrays, and of series.
    pub(super) fn expand(
        &mut self,
        input: LogicalPlan,
        expand: Expand,
        (columns, ordinality): (Vec<ColumnId>, Option<ColumnId>),
        required: &[ColumnId],
    ) -> Result<Node> {
        let exprs: &[Expr] = match &expand {
            Expand::Series(bounds) => bounds.as_slice(),
            Expand::Unnest(arrays) => arrays,
        };
        let input = self.build(input, &with_columns(required, exprs))?;
        let rows = Estimate(input.rows.0 * expanded(&expand));
        let made: Vec<_> = columns.iter().map(|id| (*id, self.estimator.columns.get(*id).sql_type)).collect();
        let available = input.output.iter().copied().chain(columns).chain(ordinality);
        let output = only(available, required);
        Ok(make(Operator::Expand { expand, made, ordinality }, vec![input], output, rows, cost::evaluate(rows, 1)))
    }

    /// A recursion: its anchors, then its recursive members, for each round as many rows as the anchors are estimated at.
    pub(super) fn recursion(&mut self, recursion: Recursion) -> Result<Node> {
        let Recursion { id, members, result } = recursion;
        let mut inputs = Vec::new();
        let mut specs = Vec::new();
        let mut anchors_built = Vec::new();
        let mut found = 0.0;
        for member in &members {
            let built =
                member.anchors.iter().map(|operand| self.operand(operand.clone())).collect::<Result<Vec<_>>>()?;
            found += built.iter().map(|node| node.rows.0).sum::<f64>();
            anchors_built.push(built);
        }
        self.rounds.push((id, Estimate(f64::max(found, 1.0))));
        let mut new_rows = 0.0;
        for (member, anchors) in members.iter().zip(anchors_built) {
            let branches =
                member.branches.iter().map(|operand| self.operand(operand.clone())).collect::<Result<Vec<_>>>()?;
            new_rows += branches.iter().map(|node| node.rows.0).sum::<f64>();
            inputs.extend(anchors);
            inputs.extend(branches);
            specs.push(self.member(member));
        }
        self.rounds.pop();
        let rows = Estimate(found + new_rows * (GUESS_ROUNDS - 1.0));
        let own = self.factors.hash_aggregate(rows, rows, 0, usize::from(specs[result].distinct));
        // All columns of the member are given: a row is what was found.
        let output = members[result].columns.clone();
        Ok(make(Operator::Recursion(Box::new(RecursionSpec { id, members: specs, result })), inputs, output, rows, own))
    }

    fn operand(&mut self, operand: SetOperand) -> Result<Node> {
        self.build(operand.plan, &operand.columns)
    }

    fn member(&self, member: &Member) -> MemberSpec {
        let info = |id: &ColumnId| {
            let info = self.estimator.columns.get(*id);
            (info.name.clone(), info.sql_type)
        };
        let columns = |operands: &[SetOperand]| operands.iter().map(|operand| operand.columns.clone()).collect();
        MemberSpec {
            name: member.name.clone(),
            span: member.span,
            columns: member.columns.iter().map(info).collect(),
            anchors: columns(&member.anchors),
            branches: columns(&member.branches),
            distinct: member.distinct,
        }
    }

    /// The rows of the last round.
    pub(super) fn recursion_input(&self, input: RecursionInput, required: &[ColumnId]) -> Node {
        let places: Vec<usize> = (0..input.columns.len()).filter(|at| required.contains(&input.columns[*at])).collect();
        let output = places.iter().map(|at| input.columns[*at]).collect();
        let rows = self.rounds.iter().rev().find(|(id, _)| *id == input.id).map_or(Estimate(1.0), |(_, rows)| *rows);
        let operator = Operator::RecursionInput { id: input.id, member: input.member, name: input.name, places };
        make(operator, Vec::new(), output, rows, Cost(0.0))
    }
}

/// Rows that a table function gives for one input row.
fn expanded(expand: &Expand) -> f64 {
    const DAY: f64 = 86_400e6;
    let number = |expr: &Expr| match expr.constant()? {
        Value::Micros(micros) => Some(approximate(*micros)),
        Value::Date(days) => Some(f64::from(*days) * DAY),
        // A month is a twelfth of a year of 365.2425 days.
        Value::Months(months) => Some(f64::from(*months) * DAY * 365.2425 / 12.0),
        value @ (Value::Null
        | Value::Boolean(_)
        | Value::Integer(_)
        | Value::Numeric(_)
        | Value::Double(_)
        | Value::Text(_)
        | Value::Time(_)
        | Value::TimeTz(_)
        | Value::Timestamp(_)
        | Value::Instant(_)
        | Value::Binary(_)
        | Value::Uuid(_)
        | Value::IpAddress(_)
        | Value::Array(_)
        | Value::Row(_)
        | Value::Untyped(_)) => value.ordinal(),
    };
    match expand {
        Expand::Series(bounds) => match (number(&bounds[0]), number(&bounds[1]), number(&bounds[2])) {
            (Some(from), Some(to), Some(step)) if step.abs() > 0.0 => ((to - from) / step + 1.0).max(0.0),
            _ => 100.0,
        },
        Expand::Unnest(arrays) => match arrays.first().map(Expr::kind) {
            Some(ExprKind::Array(elements)) => approximate(elements.len()),
            _ => GUESS_ELEMENTS,
        },
    }
}

/// Whether a node gives rows of the round before, or is computed from them.
pub(super) fn is_recursive(node: &Node) -> bool {
    let mut found = false;
    node.walk(&mut |node| found |= matches!(node.operator, Operator::RecursionInput { .. }));
    found
}
