//! `group from finer groups`: ROLLUP, CUBE and GROUPING SETS go through their rows once; a coarser set is computed from the smallest finer one
//! (Agarwal et al., VLDB 1996).
//!
//! ```text
//! union all                                union all
//!   group by a, b: SUM(x)                    g                              g := group by a, b: SUM(x) AS s
//!     rows                             →     group by a: SUM(s)                    rows
//!   group by a: SUM(x)                         g
//!     rows
//! ```
//! Condition: the sets group the same rows, by columns of which one set has all that the other has, and by aggregates whose results for parts of a
//! group make that of the group: counts, exact sums and averages, extremes. Sums of approximate numbers depend on their order and are left alone.

use super::same_rows::same_rows;
use super::{Rule, RuleContext};
use crate::collections::HashMap;
use crate::diagnostic::{Result, Span};
use crate::logical::{
    Aggregate, AggregateFunction, ArithmeticOp, ColumnId, ColumnInfo, CteDefinition, CteId, CteReference, Expr,
    ExprKind, LogicalPlan, Printer, RewriteNote, RewriteRule, SetOp, SetOperand,
};
use crate::types::{SqlType, Value};
use std::convert::Infallible;

pub(super) struct GroupFromFinerGroups;

impl Rule for GroupFromFinerGroups {
    fn name(&self) -> RewriteRule {
        RewriteRule::GroupFromFinerGroups
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        let LogicalPlan::SetOperation { op: SetOp::Union, all: true, operands, columns } = plan else {
            return Ok(plan);
        };
        let parents = sets(&operands).map(|sets| (parents(&sets), sets));
        let Some((parents, sets)) = parents.filter(|(parents, _)| parents.iter().any(Option::is_some)) else {
            return Ok(LogicalPlan::SetOperation { op: SetOp::Union, all: true, operands, columns });
        };
        let from_finer = parents.iter().flatten().count();
        context.log.push(RewriteNote {
            rule: self.name(),
            change: format!("{from_finer} of {} grouping sets are computed from finer ones", sets.len()),
            why: "what its parts come to makes up what a group comes to",
        });
        let plans = build(&sets, &parents, context);
        let operands = operands.iter().zip(plans);
        let operands = operands.map(|(operand, plan)| SetOperand { plan, columns: operand.columns.clone() }).collect();
        Ok(LogicalPlan::SetOperation { op: SetOp::Union, all: true, operands, columns })
    }
}

/// One grouping set of rows that others group too.
struct GroupingSet {
    input: LogicalPlan,
    keys: Vec<(ColumnId, Expr)>,
    aggregates: Vec<(ColumnId, Aggregate)>,
    /// What is computed from the groups, the innermost first.
    above: Vec<Vec<(ColumnId, Expr)>>,
    /// The keys over the columns of the first set's rows.
    common: Vec<Expr>,
}

/// The sets of a union, where all of them group the same rows by the same aggregates, which can be put together.
fn sets(operands: &[SetOperand]) -> Option<Vec<GroupingSet>> {
    let mut found: Vec<GroupingSet> = Vec::new();
    for operand in operands {
        let mut above = Vec::new();
        let mut plan = &operand.plan;
        while let LogicalPlan::Project { input, computed } = plan {
            above.insert(0, computed.clone());
            plan = input;
        }
        let LogicalPlan::Aggregate { input, keys, aggregates } = plan else { return None };
        let map = same_rows(input, found.first().map_or(input, |first| &first.input))?;
        let moved = |expr: Expr| expr.map_columns(&mut |id| map.get(&id).copied().unwrap_or(id));
        let Some(first) = found.first() else {
            if !aggregates.iter().all(|(_, aggregate)| can_be_put_together(aggregate)) {
                return None;
            }
            let common = keys.iter().map(|(_, key)| key.clone()).collect();
            let (input, keys, aggregates) = (input.as_ref().clone(), keys.clone(), aggregates.clone());
            found.push(GroupingSet { input, keys, aggregates, above, common });
            continue;
        };
        let is_same = |(own, known): (&(ColumnId, Aggregate), &(ColumnId, Aggregate))| {
            let Ok(own) = own.1.clone().map_exprs(&mut |expr| Ok::<_, Infallible>(moved(expr)));
            own.same_as(&known.1)
        };
        if aggregates.len() != first.aggregates.len() || !aggregates.iter().zip(&first.aggregates).all(is_same) {
            return None;
        }
        let common = keys.iter().map(|(_, key)| moved(key.clone())).collect();
        let (input, keys, aggregates) = (input.as_ref().clone(), keys.clone(), aggregates.clone());
        found.push(GroupingSet { input, keys, aggregates, above, common });
    }
    (found.len() > 1).then_some(found)
}

/// For each set the one with the fewest keys that has all of its own; of equal sets the first is nobody's.
fn parents(sets: &[GroupingSet]) -> Vec<Option<usize>> {
    let has_all =
        |of: usize, at: usize| sets[at].common.iter().all(|key| sets[of].common.iter().any(|known| known.same_as(key)));
    let is_finer = |of: usize, at: usize| {
        let (more, same) =
            (sets[of].common.len() > sets[at].common.len(), sets[of].common.len() == sets[at].common.len());
        (more || same && of < at) && has_all(of, at)
    };
    let finest = |at: usize| (0..sets.len()).filter(|of| is_finer(*of, at)).min_by_key(|of| sets[*of].common.len());
    (0..sets.len()).map(finest).collect()
}

fn is_exact(sql_type: SqlType) -> bool {
    matches!(sql_type, SqlType::SmallInt | SqlType::Integer | SqlType::BigInt | SqlType::Numeric { .. })
}

fn can_be_put_together(aggregate: &Aggregate) -> bool {
    use AggregateFunction as A;
    let argument = aggregate.arguments.first().map(Expr::sql_type);
    let fits = match aggregate.function {
        A::CountRows | A::Count | A::Min | A::Max | A::Every | A::Any | A::AnyValue | A::BitAnd | A::BitOr => true,
        A::Sum => argument.is_some_and(is_exact),
        A::Avg => argument.is_some_and(is_exact) && matches!(aggregate.sql_type, SqlType::Numeric { .. }),
        A::Moment(_)
        | A::ListAgg
        | A::ArrayAgg
        | A::PercentileCont
        | A::PercentileDisc
        | A::Mode
        | A::Hypothetical(_)
        | A::Program => false,
    };
    fits && !aggregate.distinct && aggregate.order.is_empty() && aggregate.program.is_none()
}

/// The results for parts of a group from which an aggregate is computed.
fn partial(aggregate: &Aggregate) -> Vec<Aggregate> {
    if aggregate.function != AggregateFunction::Avg {
        return vec![aggregate.clone()];
    }
    let scale =
        aggregate.arguments.first().and_then(|argument| argument.sql_type().digits()).map_or(0, |(_, scale)| scale);
    let of = |function, sql_type| Aggregate { function, sql_type, ..aggregate.clone() };
    vec![
        of(AggregateFunction::Sum, SqlType::Numeric { precision: 38, scale }),
        of(AggregateFunction::Count, SqlType::BigInt),
    ]
}

/// The aggregate that puts results for parts of a group together.
fn together(partial: &Aggregate, part: Expr) -> Aggregate {
    use AggregateFunction as A;
    let function = if let A::CountRows | A::Count = partial.function { A::Sum } else { partial.function };
    Aggregate::plain(function, Some(part), partial.sql_type, partial.span)
}

/// An aggregate from its partial results for the entire group.
fn finished(aggregate: &Aggregate, parts: &[Expr], has_keys: bool) -> Expr {
    use AggregateFunction as A;
    let span = aggregate.span;
    match (aggregate.function, parts) {
        (A::Avg, [sum, count]) => {
            let digits = SqlType::Numeric { precision: 19, scale: 0 };
            let count = Expr::new(ExprKind::Cast(Box::new(count.clone())), digits, span);
            let sides = Box::new([sum.clone(), count]);
            Expr::new(ExprKind::Arithmetic(ArithmeticOp::Divide, sides), aggregate.sql_type, span)
        }
        // Where there are no groups there is nothing to count.
        (A::CountRows | A::Count, [count]) if !has_keys => {
            let none = Expr::literal(Value::Integer(0), aggregate.sql_type, span);
            Expr::new(ExprKind::Coalesce(vec![count.clone(), none]), aggregate.sql_type, span)
        }
        (_, parts) => parts.first().cloned().unwrap_or_else(|| Expr::literal(Value::Null, aggregate.sql_type, span)),
    }
}

/// A set whose groups others are made of: the step that has them, with its keys and partial results.
struct FinerGroups {
    id: CteId,
    name: String,
    keys: Vec<(Expr, ColumnId)>,
    partials: Vec<Vec<ColumnId>>,
}

/// The plan of each set.
fn build(sets: &[GroupingSet], parents: &[Option<usize>], context: &mut RuleContext<'_>) -> Vec<LogicalPlan> {
    let mut order: Vec<usize> = (0..sets.len()).collect();
    order.sort_by_key(|at| (std::cmp::Reverse(sets[*at].common.len()), *at));
    let mut steps: HashMap<usize, FinerGroups> = HashMap::default();
    let mut plans: Vec<(usize, LogicalPlan)> = Vec::new();
    for at in order {
        let set = &sets[at];
        let partials: Vec<Vec<Aggregate>> = set.aggregates.iter().map(|(_, aggregate)| partial(aggregate)).collect();
        let fresh = |parts: &Vec<Aggregate>, context: &mut RuleContext<'_>| -> Vec<ColumnId> {
            let name = |part: &Aggregate| Printer::new(context.columns).aggregate(part);
            let named: Vec<ColumnInfo> =
                parts.iter().map(|part| ColumnInfo::computed(name(part), part.sql_type)).collect();
            named.into_iter().map(|info| context.columns.add(info)).collect()
        };
        let ids: Vec<Vec<ColumnId>> = partials.iter().map(|parts| fresh(parts, context)).collect();
        let grouping = match parents[at].and_then(|parent| steps.get(&parent)) {
            None => {
                let aggregates = ids.iter().flatten().copied().zip(partials.iter().flatten().cloned()).collect();
                LogicalPlan::Aggregate { input: Box::new(set.input.clone()), keys: set.keys.clone(), aggregates }
            }
            Some(finer) => from_finer(set, finer, (&ids, &partials), context),
        };
        let children = parents.iter().filter(|parent| **parent == Some(at)).count();
        let grouping = if children == 0 {
            grouping
        } else {
            let (step, plan) = shared(set, (grouping, &ids), children + 1, context);
            steps.insert(at, step);
            plan
        };
        let column = |id: ColumnId, part: &Aggregate| Expr::column(id, part.sql_type, part.span);
        let finish = |number: usize| {
            let (id, aggregate) = &set.aggregates[number];
            let parts = ids[number].iter().zip(&partials[number]).map(|(id, part)| column(*id, part));
            (*id, finished(aggregate, &parts.collect::<Vec<_>>(), !set.keys.is_empty()))
        };
        let results = (0..set.aggregates.len()).map(finish).collect();
        let plan = set.above.iter().fold(grouping.project(results), |plan, computed| plan.project(computed.clone()));
        plans.push((at, plan));
    }
    plans.sort_by_key(|(at, _)| *at);
    plans.into_iter().map(|(_, plan)| plan).collect()
}

/// A grouping of finer groups.
fn from_finer(
    set: &GroupingSet,
    finer: &FinerGroups,
    (ids, partials): (&[Vec<ColumnId>], &[Vec<Aggregate>]),
    context: &mut RuleContext<'_>,
) -> LogicalPlan {
    let mut columns: Vec<(ColumnId, ColumnId)> = Vec::new();
    let mut read = |there: ColumnId, context: &mut RuleContext<'_>| {
        let here = context.columns.copy(there);
        columns.push((here, there));
        Expr::column(here, context.columns.get(there).sql_type, Span::default())
    };
    let mut keys = Vec::new();
    for ((id, _), common) in set.keys.iter().zip(&set.common) {
        if let Some((_, there)) = finer.keys.iter().find(|(known, _)| known.same_as(common)) {
            keys.push((*id, read(*there, context)));
        }
    }
    let mut aggregates = Vec::new();
    for ((ids, parts), theirs) in ids.iter().zip(partials).zip(&finer.partials) {
        for ((id, part), there) in ids.iter().zip(parts).zip(theirs) {
            aggregates.push((*id, together(part, read(*there, context))));
        }
    }
    let input = LogicalPlan::CteReference(CteReference { id: finer.id, name: finer.name.clone(), columns });
    LogicalPlan::Aggregate { input: Box::new(input), keys, aggregates }
}

/// Groups as a step of their own: what others read, and the set's own use of it.
fn shared(
    set: &GroupingSet,
    (plan, ids): (LogicalPlan, &[Vec<ColumnId>]),
    uses: usize,
    context: &mut RuleContext<'_>,
) -> (FinerGroups, LogicalPlan) {
    let output = plan.output();
    let (plan, map) = plan.copy(context.columns);
    let there = |id: ColumnId| map.get(&id).copied().unwrap_or(id);
    let id = CteId(context.steps.len());
    let printer = Printer::new(context.columns);
    let keys: Vec<String> = set.keys.iter().map(|(_, key)| printer.expr(key)).collect();
    let name = if keys.is_empty() { "one group".to_owned() } else { format!("groups by {}", keys.join(", ")) };
    let finer = FinerGroups {
        id,
        name: name.clone(),
        keys: set.common.iter().cloned().zip(set.keys.iter().map(|(id, _)| there(*id))).collect(),
        partials: ids.iter().map(|ids| ids.iter().map(|id| there(*id)).collect()).collect(),
    };
    let own = output.iter().map(|id| (*id, there(*id))).collect();
    let output = output.iter().map(|id| there(*id)).collect();
    context.steps.push(CteDefinition { name: name.clone(), plan, output, uses });
    (finer, LogicalPlan::CteReference(CteReference { id, name, columns: own }))
}
