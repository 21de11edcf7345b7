//! Which columns of a plan are known to hold no NULL: what a rule may lean on. What is not known is taken to hold one.

use super::{AggregateFunction, BinaryJoin, ColumnId, Expr, ExprKind, JoinKind, LogicalPlan, SetOp, Test};

/// Whether a column of a plan never is NULL. `stored` says so of a column that comes from a table.
pub fn is_never_null(plan: &LogicalPlan, id: ColumnId, stored: &dyn Fn(ColumnId) -> bool) -> bool {
    let refused = |terms: &[Expr]| terms.iter().any(|term| refuses_null(term, &[id]));
    match plan {
        LogicalPlan::Scan(scan) => stored(id) || refused(&scan.filter),
        LogicalPlan::Filter { input, conjuncts } => refused(conjuncts) || is_never_null(input, id, stored),
        LogicalPlan::Project { input, computed } => match computed.iter().find(|(made, _)| *made == id) {
            Some((_, expr)) => gives_no_null(expr, input, stored),
            None => is_never_null(input, id, stored),
        },
        LogicalPlan::InnerJoin { inputs, conjuncts } => {
            let owner = inputs.iter().find(|input| input.output().contains(&id));
            refused(conjuncts) || owner.is_some_and(|input| is_never_null(input, id, stored))
        }
        LogicalPlan::Join(join) => in_join(join, id, stored),
        LogicalPlan::Aggregate { input, keys, aggregates } => {
            let counts = |function| matches!(function, AggregateFunction::Count | AggregateFunction::CountRows);
            keys.iter().any(|(made, key)| *made == id && gives_no_null(key, input, stored))
                || aggregates.iter().any(|(made, aggregate)| *made == id && counts(aggregate.function))
        }
        LogicalPlan::SetOperation { op, operands, columns, .. } => {
            let Some(at) = columns.iter().position(|known| *known == id) else { return false };
            let mut each = operands.iter().map(|operand| is_never_null(&operand.plan, operand.columns[at], stored));
            match op {
                SetOp::Union => each.all(|never| never),
                SetOp::Intersect => each.any(|never| never),
                SetOp::Except => each.next().unwrap_or(false),
            }
        }
        LogicalPlan::Values { columns, rows } => columns
            .iter()
            .position(|known| *known == id)
            .is_some_and(|at| rows.iter().all(|row| gives_no_null(&row[at], &LogicalPlan::OneRow, stored))),
        LogicalPlan::Sort { input, .. }
        | LogicalPlan::Limit { input, .. }
        | LogicalPlan::Distinct { input, .. }
        | LogicalPlan::Window { input, .. }
        | LogicalPlan::Expand { input, .. } => input.output().contains(&id) && is_never_null(input, id, stored),
        LogicalPlan::Empty(_) => true,
        LogicalPlan::OneRow
        | LogicalPlan::CteReference(_)
        | LogicalPlan::Recursion(_)
        | LogicalPlan::RecursionInput(_) => false,
    }
}

/// The side of an outer join that is filled up has NULLs; a condition that must hold excludes others.
fn in_join(join: &BinaryJoin, id: ColumnId, stored: &dyn Fn(ColumnId) -> bool) -> bool {
    let from_left = join.left.output().contains(&id);
    let met = || join.on.iter().any(|term| refuses_null(term, &[id]));
    match join.kind {
        JoinKind::Full => false,
        JoinKind::Left | JoinKind::Single | JoinKind::Mark | JoinKind::Anti => {
            from_left && is_never_null(&join.left, id, stored)
        }
        JoinKind::Semi => from_left && (met() || is_never_null(&join.left, id, stored)),
        JoinKind::Inner => met() || is_never_null(if from_left { &join.left } else { &join.right }, id, stored),
    }
}

/// Whether an expression over the columns of a plan never gives NULL.
pub fn gives_no_null(expr: &Expr, input: &LogicalPlan, stored: &dyn Fn(ColumnId) -> bool) -> bool {
    let all = |parts: &[Expr]| parts.iter().all(|part| gives_no_null(part, input, stored));
    match expr.kind() {
        ExprKind::Column(id) => is_never_null(input, *id, stored),
        ExprKind::Literal(value) | ExprKind::Parameter(_, Some(value)) => !value.is_null(),
        ExprKind::Arithmetic(_, sides) | ExprKind::Concat(sides) => all(sides.as_ref()),
        ExprKind::Negate(operand) | ExprKind::Cast(operand) => gives_no_null(operand, input, stored),
        ExprKind::Coalesce(parts) => parts.iter().any(|part| gives_no_null(part, input, stored)),
        ExprKind::Case(branches, otherwise) => {
            gives_no_null(otherwise, input, stored)
                && branches.iter().all(|(_, result)| gives_no_null(result, input, stored))
        }
        ExprKind::Is(..) | ExprKind::Same(_) => true,
        _ => false,
    }
}

/// Whether a condition is FALSE or UNKNOWN when all these columns are NULL.
pub fn refuses_null(term: &Expr, columns: &[ColumnId]) -> bool {
    match term.kind() {
        ExprKind::Compare(_, sides) => sides.iter().any(|side| null_in_null_out(side, columns)),
        ExprKind::Like(sides, _) => null_in_null_out(&sides[0], columns),
        ExprKind::In(operand, _) => null_in_null_out(operand, columns),
        ExprKind::Not(inner) => match inner.kind() {
            ExprKind::Is(operand, Test::Null) => null_in_null_out(operand, columns),
            ExprKind::Like(..) | ExprKind::In(..) => refuses_null(inner, columns),
            _ => false,
        },
        ExprKind::Or(terms) => terms.iter().all(|term| refuses_null(term, columns)),
        _ => false,
    }
}

/// Whether the value is NULL when all these columns are.
fn null_in_null_out(expr: &Expr, columns: &[ColumnId]) -> bool {
    match expr.kind() {
        ExprKind::Column(id) => columns.contains(id),
        ExprKind::Arithmetic(_, sides) | ExprKind::Concat(sides) => {
            sides.iter().any(|side| null_in_null_out(side, columns))
        }
        ExprKind::Cast(operand) | ExprKind::Negate(operand) => null_in_null_out(operand, columns),
        _ => false,
    }
}
