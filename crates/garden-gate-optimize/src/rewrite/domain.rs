//! The general way of unnesting (Neumann & Kemper, BTW 2015): the set of distinct values that a dependent query needs from the rows
//! around it, its domain, is joined into the query as deep as possible, and its columns are carried up to the join.
//!
//! Every operator keeps the domain's columns apart: groupings group by them, windows and limits are partitioned by them, set operators
//! compare them, and two inputs that both need the domain are joined on it. A query that depends on rows of the dependent query takes
//! the domain's values from those rows, so that it needs no more than them.

use super::RuleContext;
use super::decorrelate::{empty_value, with_empty};
use crate::collections::HashSet;
use crate::diagnostic::Span;
use crate::logical::{
    AnyTest, BinaryJoin, ColumnId, ColumnInfo, CompareOp, CteDefinition, CteId, CteReference, Expand, Expr, ExprKind,
    JoinKind, LogicalPlan, Member, Recursion, RecursionInput, SetOperand, SortKey, WindowCall,
};
use crate::types::{SqlType, Value};

pub(super) struct Domain<'c, 'a> {
    context: &'c mut RuleContext<'a>,
    /// The columns of the rows around, and of the domain in their place.
    outer: Vec<ColumnId>,
    plan: LogicalPlan,
    columns: Vec<ColumnId>,
    /// Recursions whose rows carry the domain.
    recursions: HashSet<usize>,
}

/// A plan with the domain's columns among its own.
type Carried = (LogicalPlan, Vec<ColumnId>);

impl<'c, 'a> Domain<'c, 'a> {
    /// The dependent join as a plain one.
    pub(super) fn join(mut join: BinaryJoin, outer: &[ColumnId], context: &'c mut RuleContext<'a>) -> BinaryJoin {
        let guard = std::mem::take(&mut join.guard);
        let needed: Vec<ColumnId> = outer.iter().copied().chain(guard.iter().flat_map(Expr::columns)).collect();
        let (source, map) = rows_for_both(&mut join, &needed, context);
        let moved = |id: ColumnId| map.iter().find(|(old, _)| *old == id).map_or(id, |(_, new)| *new);
        let guard: Vec<Expr> = guard.into_iter().map(|term| term.map_columns(&mut |id| moved(id))).collect();
        let columns: Vec<ColumnId> = outer.iter().map(|id| moved(*id)).collect();
        let source = source.filter(guard);
        let plan = if columns.is_empty() {
            // Nothing but whether the query is needed at all.
            LogicalPlan::Limit { input: Box::new(source), offset: 0, fetch: Some(1) }
        } else {
            LogicalPlan::Distinct { input: Box::new(source), columns: columns.clone() }
        };
        let mut domain = Domain { context, outer: outer.to_vec(), plan, columns, recursions: HashSet::default() };
        let right = std::mem::replace(&mut join.right, LogicalPlan::OneRow);
        let (right, carried) = domain.carry(right);
        let same: Vec<Expr> = outer.iter().zip(&carried).map(|(a, b)| domain.same(*a, *b)).collect();
        join.on.extend(same);
        join.right = right;
        join
    }

    fn column(&self, id: ColumnId) -> Expr {
        Expr::column(id, self.context.columns.get(id).sql_type, Span::default())
    }

    /// Equality in which NULL equals NULL: the domain has NULL as a value.
    fn same(&self, a: ColumnId, b: ColumnId) -> Expr {
        Expr::new(ExprKind::Same(Box::new([self.column(a), self.column(b)])), SqlType::Boolean, Span::default())
    }

    fn all_same(&self, a: &[ColumnId], b: &[ColumnId]) -> Vec<Expr> {
        a.iter().zip(b).map(|(a, b)| self.same(*a, *b)).collect()
    }

    fn new_column(&mut self, name: &str, sql_type: SqlType) -> ColumnId {
        self.context.columns.add(ColumnInfo::computed(name, sql_type))
    }

    fn instance(&mut self) -> Carried {
        let (plan, map) = self.plan.copy(self.context.columns);
        let columns = self.columns.iter().map(|id| map.get(id).copied().unwrap_or(*id)).collect();
        (plan, columns)
    }

    fn depends(&self, plan: &LogicalPlan) -> bool {
        plan.free().iter().any(|id| self.outer.contains(id)) || self.reads_rounds(plan)
    }

    /// Whether it reads rows of a recursion that carry the domain.
    fn reads_rounds(&self, plan: &LogicalPlan) -> bool {
        let mut found = false;
        plan.walk(&mut |node| {
            found |= matches!(node, LogicalPlan::RecursionInput(input) if self.recursions.contains(&input.id));
        });
        found
    }

    /// The expression over the domain's columns instead of those from outside.
    fn over(&self, expr: Expr, columns: &[ColumnId]) -> Expr {
        expr.map_columns(&mut |id| self.outer.iter().position(|outer| *outer == id).map_or(id, |at| columns[at]))
    }

    fn all_over(&self, exprs: Vec<Expr>, columns: &[ColumnId]) -> Vec<Expr> {
        exprs.into_iter().map(|expr| self.over(expr, columns)).collect()
    }

    fn carry(&mut self, plan: LogicalPlan) -> Carried {
        if !self.depends(&plan) {
            let (domain, columns) = self.instance();
            return (domain.join(plan, Vec::new()), columns);
        }
        match plan {
            LogicalPlan::Filter { input, conjuncts } => {
                let (input, columns) = self.carry(*input);
                let conjuncts = self.all_over(conjuncts, &columns);
                (input.filter(conjuncts), columns)
            }
            LogicalPlan::Project { input, computed } => {
                let (input, columns) = self.carry(*input);
                let computed = computed.into_iter().map(|(id, expr)| (id, self.over(expr, &columns))).collect();
                (input.project(computed), columns)
            }
            LogicalPlan::InnerJoin { inputs, conjuncts } => self.inner_join(inputs, conjuncts),
            LogicalPlan::Join(join) => self.side_join(*join),
            LogicalPlan::Aggregate { .. } => self.aggregate(plan),
            LogicalPlan::Window { input, mut partition, order, calls } => {
                let (input, columns) = self.carry(*input);
                partition = self.all_over(partition, &columns);
                partition.extend(columns.iter().map(|id| self.column(*id)));
                let Ok(order) =
                    SortKey::map_all(order, &mut |expr| Ok::<_, std::convert::Infallible>(self.over(expr, &columns)));
                let calls = calls.into_iter().map(|(id, call)| {
                    let Ok(call) =
                        call.map_exprs(&mut |expr| Ok::<_, std::convert::Infallible>(self.over(expr, &columns)));
                    (id, call)
                });
                let calls = calls.collect();
                (LogicalPlan::Window { input: Box::new(input), partition, order, calls }, columns)
            }
            LogicalPlan::Distinct { input, columns: mut kept } => {
                let (input, columns) = self.carry(*input);
                kept.extend(&columns);
                (LogicalPlan::Distinct { input: Box::new(input), columns: kept }, columns)
            }
            LogicalPlan::Sort { input, .. } => self.carry(*input),
            LogicalPlan::Limit { input, offset, fetch } => self.limit(*input, offset, fetch),
            LogicalPlan::SetOperation { op, all, operands, columns } => {
                let carried = self.copies();
                let operands = self.operands(operands);
                let columns = carried.iter().copied().chain(columns).collect();
                (LogicalPlan::SetOperation { op, all, operands, columns }, carried)
            }
            LogicalPlan::Expand { input, expand, columns: made, ordinality } => {
                let (input, columns) = self.carry(*input);
                let expand = match expand {
                    Expand::Series(bounds) => Expand::Series(Box::new(bounds.map(|bound| self.over(bound, &columns)))),
                    Expand::Unnest(arrays) => Expand::Unnest(self.all_over(arrays, &columns)),
                };
                (LogicalPlan::Expand { input: Box::new(input), expand, columns: made, ordinality }, columns)
            }
            LogicalPlan::Recursion(recursion) => self.recursion(*recursion),
            LogicalPlan::RecursionInput(input) => {
                let columns = self.copies();
                let all = columns.iter().copied().chain(input.columns).collect();
                (LogicalPlan::RecursionInput(RecursionInput { columns: all, ..input }), columns)
            }
            // These use no columns from outside; see above.
            other @ (LogicalPlan::OneRow
            | LogicalPlan::Empty(_)
            | LogicalPlan::Scan(_)
            | LogicalPlan::Values { .. }
            | LogicalPlan::CteReference(_)) => {
                let (domain, columns) = self.instance();
                (domain.join(other, Vec::new()), columns)
            }
        }
    }

    fn copies(&mut self) -> Vec<ColumnId> {
        self.columns.clone().into_iter().map(|id| self.context.columns.copy(id)).collect()
    }

    /// Operands of a set operator, with the domain's columns first.
    fn operands(&mut self, operands: Vec<SetOperand>) -> Vec<SetOperand> {
        let operand = |operand: SetOperand| {
            let (plan, mut columns) = self.carry(operand.plan);
            columns.extend(operand.columns);
            SetOperand { plan, columns }
        };
        operands.into_iter().map(operand).collect()
    }

    fn inner_join(&mut self, inputs: Vec<LogicalPlan>, conjuncts: Vec<Expr>) -> Carried {
        let mut first: Option<Vec<ColumnId>> = None;
        let mut all = Vec::new();
        let mut links = Vec::new();
        for input in inputs {
            if !self.depends(&input) {
                all.push(input);
                continue;
            }
            let (input, columns) = self.carry(input);
            all.push(input);
            match &first {
                None => first = Some(columns),
                Some(first) => links.extend(self.all_same(first, &columns)),
            }
        }
        let columns = first.unwrap_or_else(|| {
            let (domain, columns) = self.instance();
            all.push(domain);
            columns
        });
        links.extend(self.all_over(conjuncts, &columns));
        (LogicalPlan::InnerJoin { inputs: all, conjuncts: links }, columns)
    }

    fn side_join(&mut self, join: BinaryJoin) -> Carried {
        let BinaryJoin { kind, left, right, on, any, mark, dependent, guard, nearest, written, sides } = join;
        let (left, columns) = self.carry(left);
        let mut on = self.all_over(on, &columns);
        let any = any.map(|any| AnyTest {
            op: any.op,
            left: self.all_over(any.left, &columns),
            right: self.all_over(any.right, &columns),
        });
        let guard = self.all_over(guard, &columns);
        if dependent && !self.reads_rounds(&right) {
            let outer = &self.outer;
            let right =
                right.map_columns(&mut |id| outer.iter().position(|outer| *outer == id).map_or(id, |at| columns[at]));
            return (
                BinaryJoin { kind, left, right, on, any, mark, dependent, guard, nearest, written, sides }.into_plan(),
                columns,
            );
        }
        if kind == JoinKind::Full || self.depends(&right) {
            let (right, others) = self.carry(right);
            on.extend(self.all_same(&columns, &others));
            let plan =
                BinaryJoin { kind, left, right, on, any, mark, dependent, guard, nearest, written, sides }.into_plan();
            if kind != JoinKind::Full {
                return (plan, columns);
            }
            // A row of either side alone has the domain's values on that side only.
            let merged = self.copies();
            let either = columns.iter().zip(&others).map(|(a, b)| {
                let sql_type = self.context.columns.get(*a).sql_type;
                Expr::new(ExprKind::Coalesce(vec![self.column(*a), self.column(*b)]), sql_type, Span::default())
            });
            let computed = merged.iter().copied().zip(either.collect::<Vec<_>>()).collect();
            return (plan.project(computed), merged);
        }
        (
            BinaryJoin { kind, left, right, on, any, mark, dependent, guard, nearest, written, sides }.into_plan(),
            columns,
        )
    }

    fn aggregate(&mut self, plan: LogicalPlan) -> Carried {
        let LogicalPlan::Aggregate { input, keys, aggregates } = plan else { return self.instance() };
        let single = keys.is_empty();
        let (input, columns) = self.carry(*input);
        let keys = keys.into_iter().map(|(id, key)| (id, self.over(key, &columns)));
        let keys: Vec<(ColumnId, Expr)> =
            columns.iter().map(|id| (*id, self.column(*id))).chain(keys.collect::<Vec<_>>()).collect();
        let aggregates: Vec<_> = aggregates
            .into_iter()
            .map(|(id, aggregate)| {
                let Ok(aggregate) =
                    aggregate.map_exprs(&mut |expr| Ok::<_, std::convert::Infallible>(self.over(expr, &columns)));
                (id, aggregate)
            })
            .collect();
        let empties: Vec<(ColumnId, Expr)> =
            aggregates.iter().map(|(id, aggregate)| (*id, empty_value(aggregate))).collect();
        let grouped = LogicalPlan::Aggregate { input: Box::new(input), keys, aggregates };
        if !single {
            return (grouped, columns);
        }
        // Without GROUP BY there is a row even for no rows: the domain is joined from the left.
        let found = self.new_column("found", SqlType::Boolean);
        let grouped = grouped.project(vec![(found, Expr::truth(true, Span::default()))]);
        let (grouped, map) = grouped.copy(self.context.columns);
        let moved = |id: ColumnId| map.get(&id).copied().unwrap_or(id);
        let (domain, own) = self.instance();
        let others: Vec<ColumnId> = columns.iter().map(|id| moved(*id)).collect();
        let on = self.all_same(&own, &others);
        let joined = BinaryJoin::new(JoinKind::Left, domain, grouped, on).into_plan();
        (joined.project(with_empty(&empties, moved, moved(found))), own)
    }

    /// The first rows for each value of the domain, by their number in the order.
    fn limit(&mut self, input: LogicalPlan, offset: u64, fetch: Option<u64>) -> Carried {
        let (input, order) =
            if let LogicalPlan::Sort { input, keys } = input { (*input, keys) } else { (input, Vec::new()) };
        let (input, columns) = self.carry(input);
        let Ok(order) =
            SortKey::map_all(order, &mut |expr| Ok::<_, std::convert::Infallible>(self.over(expr, &columns)));
        let number = self.new_column("row number", SqlType::BigInt);
        let call = WindowCall::row_number(Span::default());
        let partition = columns.iter().map(|id| self.column(*id)).collect();
        let window = LogicalPlan::Window { input: Box::new(input), partition, order, calls: vec![(number, call)] };
        let bound = |op, value: u64| {
            let value = Value::Integer(i64::try_from(value).unwrap_or(i64::MAX));
            let value = Expr::literal(value, SqlType::BigInt, Span::default());
            Expr::compare(op, self.column(number), value, Span::default())
        };
        let mut kept = vec![bound(CompareOp::Greater, offset)];
        kept.extend(fetch.map(|fetch| bound(CompareOp::LessOrEqual, offset.saturating_add(fetch))));
        (window.filter(kept), columns)
    }

    /// Every member's rows carry the domain; a branch has it from the rows of the round before.
    fn recursion(&mut self, recursion: Recursion) -> Carried {
        let Recursion { id, members, result } = recursion;
        self.recursions.insert(id);
        let mut carried = Vec::new();
        let mut done = Vec::new();
        for (at, member) in members.into_iter().enumerate() {
            let own = self.copies();
            let anchors = self.operands(member.anchors);
            let branches = self.operands(member.branches);
            let columns = own.iter().copied().chain(member.columns).collect();
            if at == result {
                carried.clone_from(&own);
            }
            done.push(Member { columns, anchors, branches, ..member });
        }
        self.recursions.remove(&id);
        (LogicalPlan::Recursion(Box::new(Recursion { id, members: done, result })), carried)
    }
}

/// Rows with the needed columns of the join's left side, for the domain. What is costly to work out becomes a step that both read.
fn rows_for_both(
    join: &mut BinaryJoin,
    needed: &[ColumnId],
    context: &mut RuleContext<'_>,
) -> (LogicalPlan, Vec<(ColumnId, ColumnId)>) {
    let part = narrowest(&mut join.left, needed);
    let light = matches!(part, LogicalPlan::Scan(_) | LogicalPlan::OneRow | LogicalPlan::CteReference(_));
    let mut within_recursion = false;
    part.walk(&mut |node| within_recursion |= matches!(node, LogicalPlan::RecursionInput(_)));
    if light || within_recursion {
        let (copy, map) = part.copy(context.columns);
        return (copy, map.into_iter().collect());
    }
    let rows = std::mem::replace(part, LogicalPlan::OneRow);
    let output = rows.output();
    let id = CteId(context.steps.len());
    // The step has columns of its own; the uses keep the names by which the plan around knows them.
    let (definition, map) = rows.copy(context.columns);
    let inner: Vec<ColumnId> = output.iter().map(|column| map.get(column).copied().unwrap_or(*column)).collect();
    let name = "the rows around a query".to_owned();
    context.steps.push(CteDefinition { name: name.clone(), plan: definition, output: inner.clone(), uses: 2 });
    let here = output.iter().copied().zip(inner.iter().copied()).collect();
    *part = LogicalPlan::CteReference(CteReference { id, name: name.clone(), columns: here });
    let fresh: Vec<ColumnId> = output.iter().map(|column| context.columns.copy(*column)).collect();
    let there = fresh.iter().copied().zip(inner).collect();
    (LogicalPlan::CteReference(CteReference { id, name, columns: there }), output.into_iter().zip(fresh).collect())
}

/// The part of a plan that has the same distinct values of these columns: joins that keep every left row as it is need not be worked
/// out again for the values below them.
fn narrowest<'p>(plan: &'p mut LogicalPlan, needed: &[ColumnId]) -> &'p mut LogicalPlan {
    let below = if let LogicalPlan::Join(join) = plan
        && matches!(join.kind, JoinKind::Left | JoinKind::Mark | JoinKind::Single)
    {
        &join.left
    } else if let LogicalPlan::Project { input, .. } = plan {
        input
    } else {
        return plan;
    };
    let output = below.output();
    if !needed.iter().all(|id| output.contains(id)) {
        return plan;
    }
    if let LogicalPlan::Join(join) = plan {
        narrowest(&mut join.left, needed)
    } else if let LogicalPlan::Project { input, .. } = plan {
        narrowest(input, needed)
    } else {
        plan
    }
}
