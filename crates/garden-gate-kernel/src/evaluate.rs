use super::count_true;
use super::function::{self, Arguments};
use super::{Batch, Lane, arithmetic, case, cast, composite, constant, in_list, like, logic, problem::Problem, text};
use crate::diagnostic::{Error, Result, Span, SqlState};
use crate::logical::{CompareOp, Expr, ExprKind};
use crate::types::{SqlType, Value};
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray};
use arrow::compute::kernels::cmp;
use arrow::row::{RowConverter, SortField};
use std::sync::Arc;

/// The value of an expression for every row of a batch; columns must have been resolved to slots.
///
/// # Errors
/// Those of the row that fails first in the expression's own order: 22003, 22012, 22007, 22018, 2201x; HY001 where an array of several rows
/// would be too large, so that the caller may try fewer.
pub fn evaluate(expr: &Expr, batch: &Batch) -> Result<Lane> {
    let sql_type = expr.sql_type();
    match expr.kind() {
        ExprKind::Slot(slot) => Ok(Lane::Array(Arc::clone(&batch.columns[*slot]))),
        ExprKind::Literal(value) | ExprKind::Parameter(_, Some(value)) => {
            constant::array_of(value, sql_type).map(Lane::Constant).map_err(|error| error.at(expr.span()))
        }
        ExprKind::Column(_) | ExprKind::Parameter(_, None) | ExprKind::Subquery(_) => {
            Err(Error::new(SqlState::GENERAL, "internal error: an expression is not ready to run").at(expr.span()))
        }
        ExprKind::And(terms) => logic::and(terms, batch),
        ExprKind::Or(terms) => logic::or(terms, batch),
        ExprKind::Not(operand) => logic::not(&evaluate(operand, batch)?),
        ExprKind::Is(operand, test) => logic::is(&evaluate(operand, batch)?, *test),
        ExprKind::Compare(op, parts) => compare_operands(*op, parts, batch),
        ExprKind::Same(parts) => same(parts, batch),
        ExprKind::Arithmetic(op, parts) => {
            let (left, right) = (evaluate(&parts[0], batch)?, evaluate(&parts[1], batch)?);
            let result = arithmetic::binary(*op, &left, &right, sql_type);
            Ok(Lane::like(located(result, expr.span())?, both_constant(&left, &right)))
        }
        ExprKind::Negate(operand) => {
            let operand = evaluate(operand, batch)?;
            Ok(Lane::like(located(arithmetic::negate(operand.array(), sql_type), expr.span())?, operand.is_constant()))
        }
        ExprKind::Concat(parts) => concat(parts, sql_type, batch),
        ExprKind::Like(parts, escape) => {
            let escape = escape.as_ref().map(|escape| evaluate(escape, batch)).transpose()?;
            let result = like::like(&evaluate(&parts[0], batch)?, &evaluate(&parts[1], batch)?, escape.as_ref());
            located(result, expr.span())
        }
        ExprKind::In(operand, list) => in_list::in_list(operand, list, batch),
        ExprKind::Case(branches, otherwise) => case::case(branches, otherwise, batch),
        ExprKind::Coalesce(terms) => case::coalesce(terms, sql_type, batch),
        ExprKind::Call(function, terms) => {
            let lanes = terms.iter().map(|term| evaluate(term, batch)).collect::<Result<Vec<_>>>()?;
            let constant = lanes.iter().all(Lane::is_constant);
            let types: Vec<SqlType> = terms.iter().map(Expr::sql_type).collect();
            let rows = if constant { 1 } else { batch.rows };
            let arguments = Arguments { lanes: &lanes, types: &types, rows, result: sql_type };
            Ok(Lane::like(located(function::call(*function, &arguments), expr.span())?, constant))
        }
        ExprKind::ProgramCall(function, terms) => super::program_call::program_call(function, terms, expr, batch),
        ExprKind::Array(terms) => composite::array_constructor(terms, sql_type, batch),
        ExprKind::Row(terms) => composite::row_constructor(terms, sql_type, batch),
        ExprKind::Field(operand, place) => composite::field(&evaluate(operand, batch)?, *place),
        ExprKind::Only(parts) => {
            let several = evaluate(&parts[1], batch)?;
            if count_true(several.array().as_boolean()) > 0 {
                return located(Err(Problem::SeveralRows), expr.span());
            }
            evaluate(&parts[0], batch)
        }
        ExprKind::Cast(operand) => {
            let lane = evaluate(operand, batch)?;
            let result = cast::cast_array(lane.array(), operand.sql_type(), sql_type);
            Ok(Lane::like(located(result, expr.span())?, lane.is_constant()))
        }
    }
}

/// `IS NOT DISTINCT FROM`
fn same(parts: &[Expr; 2], batch: &Batch) -> Result<Lane> {
    let (left, right) = (evaluate(&parts[0], batch)?, evaluate(&parts[1], batch)?);
    if matches!(parts[0].sql_type(), SqlType::Array(_) | SqlType::Row(_)) {
        let (left, right) = (left.into_array(batch.rows)?, right.into_array(batch.rows)?);
        return same_parts(&left, &right).map(Lane::Array);
    }
    Ok(Lane::like(Arc::new(cmp::not_distinct(&left, &right)?), both_constant(&left, &right)))
}

/// `||` of texts, binary strings or arrays.
fn concat(parts: &[Expr; 2], sql_type: SqlType, batch: &Batch) -> Result<Lane> {
    let (left, right) = (evaluate(&parts[0], batch)?, evaluate(&parts[1], batch)?);
    if let SqlType::Array(element) = sql_type {
        let (left, right) = (left.into_array(batch.rows)?, right.into_array(batch.rows)?);
        composite::concat_arrays(&left, &right, *element).map(Lane::Array)
    } else if sql_type.is_binary() {
        text::concat_binary(&left, &right)
    } else {
        text::concat(&left, &right)
    }
}

/// The value of an expression without columns.
///
/// # Errors
/// As [`evaluate`].
pub fn evaluate_constant(expr: &Expr) -> Result<Value> {
    if !expr.columns().is_empty() {
        return Err(Error::new(SqlState::GENERAL, "internal error: a constant has columns").at(expr.span()));
    }
    let one_row = Batch::new(Vec::new(), 1);
    let array = evaluate(expr, &one_row)?.into_array(1)?;
    Ok(constant::value_at(&array, expr.sql_type(), 0))
}

/// The value of an expression as one array of the batch's length.
pub(super) fn evaluate_array(expr: &Expr, batch: &Batch) -> Result<ArrayRef> {
    evaluate(expr, batch)?.into_array(batch.rows)
}

fn compare_operands(op: CompareOp, parts: &[Expr; 2], batch: &Batch) -> Result<Lane> {
    let (left, right) = (evaluate(&parts[0], batch)?, evaluate(&parts[1], batch)?);
    if !matches!(parts[0].sql_type(), SqlType::Array(_) | SqlType::Row(_)) {
        return compare(op, &left, &right);
    }
    let (left, right) = (left.into_array(batch.rows)?, right.into_array(batch.rows)?);
    Ok(Lane::Array(Arc::new(compare_arrays(op, &left, &right, parts[0].sql_type())?)))
}

/// A comparison of two arrays of one length, of any type.
pub(super) fn compare_arrays(
    op: CompareOp,
    left: &ArrayRef,
    right: &ArrayRef,
    sql_type: SqlType,
) -> Result<BooleanArray> {
    if matches!(sql_type, SqlType::Array(_) | SqlType::Row(_)) {
        return composite::compare(op, left, right, sql_type);
    }
    let result = compare(op, &Lane::Array(Arc::clone(left)), &Lane::Array(Arc::clone(right)))?;
    Ok(result.array().as_boolean().clone())
}

/// Whether two composite values are the same, NULL parts included.
fn same_parts(left: &ArrayRef, right: &ArrayRef) -> Result<ArrayRef> {
    let converter = RowConverter::new(vec![SortField::new(left.data_type().clone())])?;
    let (a, b) = (
        converter.convert_columns(std::slice::from_ref(left))?,
        converter.convert_columns(std::slice::from_ref(right))?,
    );
    Ok(Arc::new((0..left.len()).map(|row| Some(a.row(row) == b.row(row))).collect::<BooleanArray>()))
}

/// Compares lane by lane; NULL on either side gives UNKNOWN.
pub(super) fn compare(op: CompareOp, left: &Lane, right: &Lane) -> Result<Lane> {
    let result = match op {
        CompareOp::Equal => cmp::eq(left, right),
        CompareOp::NotEqual => cmp::neq(left, right),
        CompareOp::Less => cmp::lt(left, right),
        CompareOp::LessOrEqual => cmp::lt_eq(left, right),
        CompareOp::Greater => cmp::gt(left, right),
        CompareOp::GreaterOrEqual => cmp::gt_eq(left, right),
    }?;
    Ok(Lane::like(Arc::new(result), both_constant(left, right)))
}

fn both_constant(left: &Lane, right: &Lane) -> bool {
    left.is_constant() && right.is_constant()
}

fn located<T>(result: Result<T, Problem>, span: Span) -> Result<T> {
    result.map_err(|problem| Error::from_facts(&problem).at(span))
}
