//! `eager aggregation`
//!
//! ```text
//! group by b.name: SUM(t.hours)          group by b.name: SUM(s)
//!   join on t.bed = b.bed          →       join on t.bed = b.bed
//!     t, b                                   group by t.bed: SUM(t.hours) AS s
//!                                              t
//!                                            b
//! ```
//! Condition: something is left to group by below the join; what is aggregated are columns of one input of an inner join, by COUNT, MIN, MAX or an exact SUM without DISTINCT, and cannot fail. Each row
//! of a group made early meets the same rows of the other inputs (Yan & Larson, VLDB 1995). Whether it pays depends on how many rows
//! a group has: the plan is offered, and taken where it is the cheaper one.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::{
    Aggregate, AggregateFunction, ColumnId, ColumnInfo, EarlyGroups, Expr, LogicalPlan, Printer, RewriteNote,
    RewriteRule,
};

pub(super) struct EagerAggregation;

/// What is grouped by, and what is aggregated.
type Grouping<'a> = (&'a [(ColumnId, Expr)], &'a [(ColumnId, Aggregate)]);

impl Rule for EagerAggregation {
    fn name(&self) -> RewriteRule {
        RewriteRule::EagerAggregation
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        if let LogicalPlan::Aggregate { input, keys, aggregates } = &plan
            && let LogicalPlan::InnerJoin { inputs, conjuncts } = &**input
            && !keys.is_empty()
            && let Some((first, _)) = aggregates.first()
            && let Some(at) = aggregated(inputs, aggregates)
            && !is_shared(input)
        {
            let early = offered((inputs, conjuncts), at, (keys, aggregates), context);
            context.early.extend(early.map(|early| (*first, early)));
        }
        Ok(plan)
    }
}

/// The input that all aggregates are about.
fn aggregated(inputs: &[LogicalPlan], aggregates: &[(ColumnId, Aggregate)]) -> Option<usize> {
    let used: Vec<ColumnId> =
        aggregates.iter().flat_map(|(_, aggregate)| aggregate.exprs()).flat_map(Expr::columns).collect();
    let owns = |input: &LogicalPlan| {
        let output = input.output();
        used.iter().all(|id| output.contains(id))
    };
    let simple = aggregates.iter().all(|(_, aggregate)| is_simple(aggregate));
    // Rows alone may be counted in any of them: in the first with the most.
    let rows = |input: &LogicalPlan| if let LogicalPlan::Scan(scan) = input { scan.source.rows() } else { 0 };
    let fit = inputs.iter().enumerate().filter(|(_, input)| simple && !aggregates.is_empty() && owns(input));
    fit.max_by_key(|(at, input)| (rows(input), usize::MAX - at)).map(|(at, _)| at)
}

/// Whether an aggregate of parts of a group makes the aggregate of the group, exactly and without an error of its own.
fn is_simple(aggregate: &Aggregate) -> bool {
    use AggregateFunction as A;
    let exact = aggregate.arguments.iter().all(|argument| argument.sql_type().is_exact());
    let known = if let A::CountRows | A::Count | A::Min | A::Max = aggregate.function {
        true
    } else if let A::Sum = aggregate.function {
        exact
    } else {
        false
    };
    known && !aggregate.distinct && aggregate.order.is_empty() && !aggregate.exprs().any(Expr::can_raise)
}

/// Whether parts of a plan are run once for several places, or round by round.
fn is_shared(plan: &LogicalPlan) -> bool {
    let mut found = false;
    plan.walk(&mut |node| {
        found |=
            matches!(node, LogicalPlan::CteReference(_) | LogicalPlan::Recursion(_) | LogicalPlan::RecursionInput(_));
    });
    found
}

fn offered(
    (inputs, conjuncts): (&[LogicalPlan], &[Expr]),
    at: usize,
    (keys, aggregates): Grouping<'_>,
    context: &mut RuleContext<'_>,
) -> Option<EarlyGroups> {
    let own = inputs[at].output();
    let mut by: Vec<ColumnId> = Vec::new();
    for id in conjuncts.iter().chain(keys.iter().map(|(_, key)| key)).flat_map(Expr::columns) {
        if own.contains(&id) && !by.contains(&id) {
            by.push(id);
        }
    }
    if by.is_empty() {
        // One group of no rows would be a row, and the join would have rows where there are none.
        return None;
    }
    let column =
        |id: &ColumnId| Expr::column(*id, context.columns.get(*id).sql_type, crate::diagnostic::Span::default());
    let early_keys: Vec<(ColumnId, Expr)> = by.iter().map(|id| (*id, column(id))).collect();
    let printer = Printer::new(context.columns);
    let grouped = early_keys.iter().map(|(_, key)| printer.expr(key)).collect::<Vec<_>>().join(", ");
    let change = format!("rows are grouped by {grouped} before they are joined, and their groups once more after that");
    let (mut parts, mut wholes) = (Vec::new(), Vec::new());
    for (id, aggregate) in aggregates {
        let name = Printer::new(context.columns).aggregate(aggregate);
        let info = ColumnInfo::computed(name, aggregate.sql_type);
        let part = context.columns.add(info);
        parts.push((part, aggregate.clone()));
        let function = if let AggregateFunction::Min = aggregate.function {
            AggregateFunction::Min
        } else if let AggregateFunction::Max = aggregate.function {
            AggregateFunction::Max
        } else {
            AggregateFunction::Sum
        };
        let argument = Expr::column(part, aggregate.sql_type, aggregate.span);
        let whole = Aggregate::plain(function, Some(argument), aggregate.sql_type, aggregate.span);
        wholes.push((*id, whole));
    }
    let mut inputs = inputs.to_vec();
    let input = Box::new(std::mem::replace(&mut inputs[at], LogicalPlan::OneRow));
    inputs[at] = LogicalPlan::Aggregate { input, keys: early_keys, aggregates: parts };
    let why = "each row of a group meets the same rows of the other tables, and what is aggregated can be aggregated in parts";
    Some(EarlyGroups {
        input: LogicalPlan::InnerJoin { inputs, conjuncts: conjuncts.to_vec() },
        aggregates: wholes,
        note: RewriteNote { rule: RewriteRule::EagerAggregation, change, why },
    })
}
