//! Which columns of a plan may hold a NULL.

use super::unique::conditions_on;
use super::{Aggregate, AggregateFunction, BinaryJoin, ColumnId, Expr, ExprKind, Function, JoinKind, LogicalPlan};

/// Whether a column of a plan may hold a NULL. `stored` says so of a column that comes from a table; what is not known is taken not to.
pub fn may_be_null(plan: &LogicalPlan, id: ColumnId, stored: &dyn Fn(ColumnId) -> bool) -> bool {
    // A comparison is not TRUE for a NULL.
    if !conditions_on(plan, id).is_empty() {
        return false;
    }
    match plan {
        LogicalPlan::Project { input, computed } => match computed.iter().find(|(made, _)| *made == id) {
            Some((_, expr)) => gives_null(expr, input, stored),
            None => may_be_null(input, id, stored),
        },
        LogicalPlan::Aggregate { input, keys, aggregates } => {
            let key = keys.iter().find(|(made, _)| *made == id).map(|(_, key)| gives_null(key, input, stored));
            let aggregate = || aggregates.iter().find(|(made, _)| *made == id).map(|(_, aggregate)| aggregate);
            key.unwrap_or_else(|| {
                aggregate().is_some_and(|aggregate| of_aggregate(aggregate, keys.is_empty(), input, stored))
            })
        }
        LogicalPlan::Join(join) => of_side_join(join, id, stored),
        LogicalPlan::InnerJoin { inputs, .. } => {
            let owner = inputs.iter().find(|input| input.output().contains(&id));
            owner.is_some_and(|input| may_be_null(input, id, stored))
        }
        LogicalPlan::SetOperation { operands, columns, .. } => {
            let Some(at) = columns.iter().position(|known| *known == id) else { return false };
            operands.iter().any(|operand| may_be_null(&operand.plan, operand.columns[at], stored))
        }
        LogicalPlan::Filter { input, .. }
        | LogicalPlan::Sort { input, .. }
        | LogicalPlan::Limit { input, .. }
        | LogicalPlan::Distinct { input, .. }
        | LogicalPlan::Window { input, .. }
        | LogicalPlan::Expand { input, .. } => input.output().contains(&id) && may_be_null(input, id, stored),
        _ => stored(id),
    }
}

/// The side of an outer join that is filled up has NULLs.
fn of_side_join(join: &BinaryJoin, id: ColumnId, stored: &dyn Fn(ColumnId) -> bool) -> bool {
    let from_right = join.right.output().contains(&id);
    match (join.kind, from_right) {
        (JoinKind::Full, _) | (JoinKind::Left | JoinKind::Single, true) => true,
        (_, true) => may_be_null(&join.right, id, stored),
        (_, false) => join.left.output().contains(&id) && may_be_null(&join.left, id, stored),
    }
}

/// An aggregate of no values is NULL, but for counts.
fn of_aggregate(aggregate: &Aggregate, of_all: bool, input: &LogicalPlan, stored: &dyn Fn(ColumnId) -> bool) -> bool {
    use AggregateFunction as A;
    if aggregate.function == A::Program {
        // Its code may give NULL for any rows.
        return true;
    }
    let known = matches!(aggregate.function, A::Sum | A::Avg | A::Min | A::Max | A::AnyValue);
    let argument = |argument: &Expr| gives_null(argument, input, stored);
    known && (of_all || aggregate.filter.is_some() || aggregate.arguments.iter().any(argument))
}

fn gives_null(expr: &Expr, input: &LogicalPlan, stored: &dyn Fn(ColumnId) -> bool) -> bool {
    let any = |parts: &[Expr]| parts.iter().any(|part| gives_null(part, input, stored));
    match expr.kind() {
        ExprKind::Column(id) => may_be_null(input, *id, stored),
        ExprKind::Literal(value) => value.is_null(),
        ExprKind::Arithmetic(_, sides) | ExprKind::Concat(sides) | ExprKind::Compare(_, sides) => any(sides.as_ref()),
        ExprKind::Negate(operand) | ExprKind::Cast(operand) | ExprKind::Not(operand) => {
            gives_null(operand, input, stored)
        }
        // A row that there is not has no values.
        ExprKind::Call(Function::ValueAt { .. }, _) => true,
        ExprKind::Call(_, arguments) => any(arguments),
        // Its code may give NULL for any row.
        ExprKind::ProgramCall(..) => true,
        ExprKind::Case(branches, otherwise) => {
            branches.iter().any(|(_, result)| gives_null(result, input, stored)) || gives_null(otherwise, input, stored)
        }
        ExprKind::Coalesce(parts) => parts.iter().all(|part| gives_null(part, input, stored)),
        _ => false,
    }
}
