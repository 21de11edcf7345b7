//! `decorrelate subquery`: a query that uses columns of the rows around it becomes a join with them (Neumann & Kemper, BTW 2015).
//!
//! ```text
//! for each row of L: R(L.a)       →   L join R′ on L.a = R′.a
//! ```
//! Where the columns from outside stand in plain conditions only, these conditions are pulled up into the join; below a grouping
//! they must be equalities, whose inner sides are then grouped by. In all other cases the inner query is joined with the set of
//! distinct values that it needs (its domain), and the domain is carried up to the join: see [`super::domain`].

use super::domain::Domain;
use super::{Rule, RuleContext, nearest_match};
use crate::collections::HashSet;
use crate::diagnostic::{Error, Result, Span, SqlState};
use crate::logical::{
    Aggregate, AggregateFunction, BinaryJoin, ColumnId, ColumnInfo, CompareOp, Expr, ExprKind, HypotheticalFunction,
    JoinKind, LogicalPlan, MomentFunction, RewriteNote, RewriteRule,
};
use crate::types::{SqlType, Value};
use std::ops::ControlFlow;

/// Columns of a plan, copies included, past which it is given up: some hundred megabytes.
const MOST_COLUMNS: usize = 300_000;

pub(super) struct DecorrelateSubquery;

impl Rule for DecorrelateSubquery {
    fn name(&self) -> RewriteRule {
        RewriteRule::DecorrelateSubquery
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = pull_conditions(plan, context)?;
        join_domains(plan, context)
    }
}

/// From the inside out: what needs no more than conditions moved.
fn pull_conditions(plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
    let plan = plan.map_inputs(&mut |input| pull_conditions(input, context))?;
    Ok(match plan.into_join_if(|join| join.dependent) {
        Ok(join) => without_domain(*join, context),
        Err(plan) => plan,
    })
}

/// From the outside in, so that no query is left that depends on rows further out once those around it are known.
fn join_domains(plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
    match plan.into_join_if(|join| join.dependent) {
        Ok(mut join) => {
            join.dependent = false;
            join.left = join_domains(join.left, context)?;
            if context.columns.count() > MOST_COLUMNS {
                let message = "the queries that depend on one another make a plan too large to be worked with";
                let help = "queries inside a branch of a recursion double it: take some out of it";
                return Err(Error::new(SqlState::TOO_COMPLEX, message).with_help(help));
            }
            let outer = columns_from_left(&join);
            log(context, "it is computed for all distinct values it needs at once, and joined");
            let mut join = Domain::join(*join, &outer, context);
            join.right = join_domains(join.right, context)?;
            Ok(finish(join))
        }
        Err(plan) => plan.map_inputs(&mut |input| join_domains(input, context)),
    }
}

/// The columns of the left side that the right side takes from outside.
fn columns_from_left(join: &BinaryJoin) -> Vec<ColumnId> {
    let left: HashSet<ColumnId> = join.left.output().into_iter().collect();
    join.right.free().into_iter().filter(|id| left.contains(id)).collect()
}

fn without_domain(mut join: BinaryJoin, context: &mut RuleContext<'_>) -> LogicalPlan {
    if !join.guard.is_empty() {
        return join.into_plan();
    }
    let outer: HashSet<ColumnId> = columns_from_left(&join).into_iter().collect();
    if outer.is_empty() {
        join.dependent = false;
        return finish(join);
    }
    if context.is_omitted(RewriteRule::DecorrelateSubquery) {
        return join.into_plan();
    }
    join = match nearest_match::of_dependent(join, &outer, context) {
        ControlFlow::Break(plan) => return plan,
        ControlFlow::Continue(join) => join,
    };
    if let Some((right, pulled)) = pull_up(join.right.clone(), &outer, context) {
        log(context, "its conditions on the rows around it became conditions of a join");
        join.dependent = false;
        join.right = right;
        join.on.extend(pulled);
        return finish(join);
    }
    if join.kind == JoinKind::Left
        && let Some(plan) = scalar_aggregate(&join, &outer, context)
    {
        log(context, "its grouping is computed for all values at once, and joined");
        return plan;
    }
    join.into_plan()
}

/// Notes what became of a query that depends on the rows around it.
pub(super) fn log(context: &mut RuleContext<'_>, change: &str) {
    let change = format!("a query that depends on the rows around it: {change}");
    let why = "the join finds for each row just what the query would have given for it";
    context.log.push(RewriteNote { rule: RewriteRule::DecorrelateSubquery, change, why });
}

/// A join without dependence; an inner one takes part in the search for an order.
fn finish(join: BinaryJoin) -> LogicalPlan {
    match join.kind {
        JoinKind::Inner if join.nearest.is_none() => join.left.join(join.right, join.on),
        JoinKind::Inner
        | JoinKind::Left
        | JoinKind::Full
        | JoinKind::Semi
        | JoinKind::Anti
        | JoinKind::Mark
        | JoinKind::Single => join.into_plan(),
    }
}

fn uses(exprs: &[Expr], outer: &HashSet<ColumnId>) -> bool {
    exprs.iter().any(|expr| expr.columns().iter().any(|id| outer.contains(id)))
}

/// The plan without its conditions on columns from outside, and these conditions; `None` when such a column appears elsewhere.
pub(super) fn pull_up(
    plan: LogicalPlan,
    outer: &HashSet<ColumnId>,
    context: &mut RuleContext<'_>,
) -> Option<(LogicalPlan, Vec<Expr>)> {
    if !plan.free().iter().any(|id| outer.contains(id)) {
        return Some((plan, Vec::new()));
    }
    let split = |conjuncts: Vec<Expr>| -> (Vec<Expr>, Vec<Expr>) {
        conjuncts.into_iter().partition(|term| uses(std::slice::from_ref(term), outer))
    };
    match plan {
        LogicalPlan::Filter { input, conjuncts } => {
            let (input, mut pulled) = pull_up(*input, outer, context)?;
            let (correlated, plain) = split(conjuncts);
            pulled.extend(correlated);
            Some((input.filter(plain), pulled))
        }
        LogicalPlan::Project { input, computed } => {
            if computed.iter().any(|(_, expr)| uses(std::slice::from_ref(expr), outer)) {
                return None;
            }
            let (input, pulled) = pull_up(*input, outer, context)?;
            Some((input.project(computed), pulled))
        }
        LogicalPlan::InnerJoin { inputs, conjuncts } => {
            let (mut pulled, plain) = split(conjuncts);
            let mut done = Vec::new();
            for input in inputs {
                let (input, more) = pull_up(input, outer, context)?;
                done.push(input);
                pulled.extend(more);
            }
            Some((LogicalPlan::InnerJoin { inputs: done, conjuncts: plain }, pulled))
        }
        LogicalPlan::Join(join) => {
            let own: Vec<Expr> = join.exprs().cloned().collect();
            let right = join.right.free().iter().any(|id| outer.contains(id));
            if join.kind == JoinKind::Full || right || uses(&own, outer) {
                return None;
            }
            let (left, pulled) = pull_up(join.left, outer, context)?;
            Some((BinaryJoin { left, ..BinaryJoin { left: LogicalPlan::OneRow, ..*join } }.into_plan(), pulled))
        }
        LogicalPlan::Aggregate { input, keys, aggregates } if !keys.is_empty() => {
            let (plan, pulled) = group_by_pulled(*input, keys, aggregates, outer, context)?;
            Some((plan, pulled))
        }
        LogicalPlan::Distinct { input, mut columns } => {
            let (input, pulled) = pull_up(*input, outer, context)?;
            let (computed, pulled) = inner_keys(pulled, outer, context)?;
            columns.extend(computed.iter().map(|(id, _)| *id));
            Some((LogicalPlan::Distinct { input: Box::new(input.project(computed)), columns }, pulled))
        }
        LogicalPlan::Sort { input, .. } => pull_up(*input, outer, context),
        LogicalPlan::Window { input, mut partition, order, calls } => {
            let mut own: Vec<Expr> = partition.clone();
            own.extend(order.iter().map(|key| key.expr.clone()));
            own.extend(calls.iter().flat_map(|(_, call)| call.exprs().cloned()));
            if uses(&own, outer) {
                return None;
            }
            let (input, pulled) = pull_up(*input, outer, context)?;
            let (computed, pulled) = inner_keys(pulled, outer, context)?;
            partition.extend(computed.iter().map(|(id, expr)| Expr::column(*id, expr.sql_type(), expr.span())));
            Some((LogicalPlan::Window { input: Box::new(input.project(computed)), partition, order, calls }, pulled))
        }
        LogicalPlan::OneRow
        | LogicalPlan::Empty(_)
        | LogicalPlan::Scan(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::Aggregate { .. }
        | LogicalPlan::Limit { .. }
        | LogicalPlan::SetOperation { .. }
        | LogicalPlan::Expand { .. }
        | LogicalPlan::CteReference(_)
        | LogicalPlan::Recursion(_)
        | LogicalPlan::RecursionInput(_) => None,
    }
}

/// A grouping whose input had conditions pulled out of it: the inner sides of the equalities are grouped by as well.
fn group_by_pulled(
    input: LogicalPlan,
    mut keys: Vec<(ColumnId, Expr)>,
    aggregates: Vec<(ColumnId, Aggregate)>,
    outer: &HashSet<ColumnId>,
    context: &mut RuleContext<'_>,
) -> Option<(LogicalPlan, Vec<Expr>)> {
    let own: Vec<Expr> = keys
        .iter()
        .map(|(_, key)| key.clone())
        .chain(aggregates.iter().flat_map(|(_, aggregate)| aggregate.exprs().cloned()))
        .collect();
    if uses(&own, outer) {
        return None;
    }
    let (input, pulled) = pull_up(input, outer, context)?;
    let (more, pulled) = inner_keys(pulled, outer, context)?;
    keys.extend(more);
    Some((LogicalPlan::Aggregate { input: Box::new(input), keys, aggregates }, pulled))
}

/// New key columns with what they are computed from, and the conditions over them.
type Keyed = (Vec<(ColumnId, Expr)>, Vec<Expr>);

/// The inner side of each equality `inner = outer` as a new column, and the equalities over these; `None` when one is no such equality.
fn inner_keys(pulled: Vec<Expr>, outer: &HashSet<ColumnId>, context: &mut RuleContext<'_>) -> Option<Keyed> {
    let mut keys = Vec::new();
    let mut conditions = Vec::new();
    for term in pulled {
        let ExprKind::Compare(CompareOp::Equal, sides) = term.kind() else { return None };
        let from_outside =
            |expr: &Expr| !expr.columns().is_empty() && expr.columns().iter().all(|id| outer.contains(id));
        let inside = |expr: &Expr| !expr.columns().iter().any(|id| outer.contains(id));
        let [a, b] = sides.as_ref().clone();
        let (inner, outside) = if inside(&a) && from_outside(&b) {
            (a, b)
        } else if inside(&b) && from_outside(&a) {
            (b, a)
        } else {
            return None;
        };
        let id = if let ExprKind::Column(id) = inner.kind() {
            context.columns.copy(*id)
        } else {
            let info = ColumnInfo::computed("key", inner.sql_type());
            context.columns.add(info)
        };
        let key = Expr::column(id, inner.sql_type(), inner.span());
        conditions.push(Expr::compare(CompareOp::Equal, outside, key, term.span()));
        keys.push((id, inner));
    }
    Some((keys, conditions))
}

/// A single value that is computed from aggregates without GROUP BY. It is grouped by the inner sides of its equalities; a row that
/// meets no group takes the value that no rows would give.
fn scalar_aggregate(
    join: &BinaryJoin,
    outer: &HashSet<ColumnId>,
    context: &mut RuleContext<'_>,
) -> Option<LogicalPlan> {
    let mut computed = Vec::new();
    let mut plan = join.right.clone();
    let (input, aggregates) = loop {
        if let LogicalPlan::Project { input, computed: more } = plan {
            computed.splice(0..0, more);
            plan = *input;
        } else if let LogicalPlan::Aggregate { input, keys, aggregates } = plan {
            if !keys.is_empty() {
                return None;
            }
            break (*input, aggregates);
        } else {
            return None;
        }
    };
    let exprs: Vec<Expr> = computed.iter().map(|(_, expr)| expr.clone()).collect();
    if uses(&exprs, outer) {
        return None;
    }
    let empties = on_no_rows(&aggregates, &computed)?;
    let (grouped, conditions) = group_by_pulled(input, Vec::new(), aggregates, outer, context)?;
    let found = ColumnInfo::computed("found", SqlType::Boolean);
    let found = context.columns.add(found);
    let right = grouped.project(computed).project(vec![(found, Expr::truth(true, Span::default()))]);
    let (right, map) = right.copy(context.columns);
    let moved = |id: ColumnId| map.get(&id).copied().unwrap_or(id);
    let conditions = conditions.into_iter().map(|term| term.map_columns(&mut |id| moved(id))).collect();
    let joined = BinaryJoin::new(JoinKind::Left, join.left.clone(), right, conditions).into_plan();
    let values = with_empty(&empties, moved, moved(found));
    if join.on.is_empty() {
        return Some(joined.project(values));
    }
    // There is always one row to pair with: where ON is not TRUE for it, the outer join puts NULL in its place.
    let raw: Vec<(ColumnId, ColumnId)> = values.iter().map(|(id, _)| (*id, context.columns.copy(*id))).collect();
    let raw_of = |id: ColumnId| raw.iter().find(|(known, _)| *known == id).map_or(id, |(_, raw)| *raw);
    let span = Span::default();
    let on: Vec<Expr> = join.on.iter().map(|term| term.clone().map_columns(&mut |id| raw_of(id))).collect();
    let on = Expr::and(on, span);
    let kept = |(id, value): &(ColumnId, Expr)| {
        let sql_type = value.sql_type();
        let value = Expr::column(raw_of(*id), sql_type, span);
        let null = Expr::literal(Value::Null, sql_type, span);
        (*id, Expr::new(ExprKind::Case(vec![(on.clone(), value)], Box::new(null)), sql_type, span))
    };
    let kept = values.iter().map(kept).collect();
    Some(joined.project(values.into_iter().map(|(id, value)| (raw_of(id), value)).collect()).project(kept))
}

/// For each column its value in the copy, or where there was no match the value of no rows.
pub(super) fn with_empty(
    empties: &[(ColumnId, Expr)],
    moved: impl Fn(ColumnId) -> ColumnId,
    found: ColumnId,
) -> Vec<(ColumnId, Expr)> {
    let span = Span::default();
    empties
        .iter()
        .map(|(id, empty)| {
            let value = Expr::column(moved(*id), empty.sql_type(), span);
            if matches!(empty.constant(), Some(Value::Null)) {
                return (*id, value);
            }
            let found = Expr::column(found, SqlType::Boolean, span);
            (*id, Expr::new(ExprKind::Case(vec![(found, value)], Box::new(empty.clone())), empty.sql_type(), span))
        })
        .collect()
}

/// What each aggregate and each column computed from them is when there are no rows; `None` when that cannot be told beforehand.
fn on_no_rows(aggregates: &[(ColumnId, Aggregate)], computed: &[(ColumnId, Expr)]) -> Option<Vec<(ColumnId, Expr)>> {
    let mut values: Vec<(ColumnId, Expr)> =
        aggregates.iter().map(|(id, aggregate)| (*id, empty_value(aggregate))).collect();
    for (id, expr) in computed {
        let (sql_type, span) = (expr.sql_type(), expr.span());
        let find = |id: ColumnId| values.iter().find(|(known, _)| *known == id).map(|(_, value)| value.clone());
        let value = crate::kernel::evaluate_constant(&expr.clone().replace_columns(&find)).ok()?;
        values.push((*id, Expr::literal(value, sql_type, span)));
    }
    Some(values)
}

/// The value of an aggregate over no rows (clause 10.9): 0 for counts, the first place for hypothetical rows, else NULL.
pub(super) fn empty_value(aggregate: &Aggregate) -> Expr {
    use AggregateFunction as A;
    use HypotheticalFunction as H;
    let value = match aggregate.function {
        A::Count | A::CountRows | A::Moment(MomentFunction::RegrCount) => Value::Integer(0),
        A::Hypothetical(H::Rank | H::DenseRank) => Value::Integer(1),
        A::Hypothetical(H::PercentRank) => Value::Double(0.0),
        A::Hypothetical(H::CumeDist) => Value::Double(1.0),
        A::Program => aggregate.program.as_ref().map_or(Value::Null, |program| program.of_nothing.clone()),
        A::Sum
        | A::Avg
        | A::Min
        | A::Max
        | A::Every
        | A::Any
        | A::AnyValue
        | A::Moment(_)
        | A::BitAnd
        | A::BitOr
        | A::ListAgg
        | A::ArrayAgg
        | A::PercentileCont
        | A::PercentileDisc
        | A::Mode => Value::Null,
    };
    Expr::literal(value, aggregate.sql_type, aggregate.span)
}
