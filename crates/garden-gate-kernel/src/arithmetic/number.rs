//! Integers and floating point.

use super::lanes::{Side, side, try_zip};
use crate::types::{ArithmeticOp as Op, SqlType};
use crate::{Lane, problem::Problem};
use arrow::array::{ArrayRef, ArrowNativeTypeOp, ArrowPrimitiveType, AsArray, PrimitiveArray};
use arrow::datatypes::{
    Decimal64Type, Decimal128Type, DurationMicrosecondType, Float32Type, Float64Type, Int16Type, Int32Type, Int64Type,
    IntervalYearMonthType,
};
use std::sync::Arc;

/// An operation on integers, in the width of the result; 22003 past it, 22012 for a division by zero.
pub(super) fn integer(op: Op, left: &Lane, right: &Lane, result: SqlType) -> Result<ArrayRef, Problem> {
    if let SqlType::SmallInt = result {
        checked::<Int16Type>(op, side(left), side(right), result)
    } else if let SqlType::Integer = result {
        checked::<Int32Type>(op, side(left), side(right), result)
    } else {
        checked::<Int64Type>(op, side(left), side(right), result)
    }
}

/// Past the type's range is 22003; `/` truncates toward zero.
fn checked<T: ArrowPrimitiveType>(
    op: Op,
    a: Side<'_, T>,
    b: Side<'_, T>,
    result: SqlType,
) -> Result<ArrayRef, Problem> {
    let overflow = |_| Problem::Overflow(result);
    let array: PrimitiveArray<T> =
        match op {
            Op::Add => try_zip(a, b, |a, b| a.add_checked(b).map_err(overflow)),
            Op::Subtract => try_zip(a, b, |a, b| a.sub_checked(b).map_err(overflow)),
            Op::Multiply => try_zip(a, b, |a, b| a.mul_checked(b).map_err(overflow)),
            Op::Divide => try_zip(a, b, |a, b| {
                if b.is_zero() { Err(Problem::DivisionByZero) } else { a.div_checked(b).map_err(overflow) }
            }),
        }?;
    Ok(Arc::new(array))
}

/// An operation on floating-point numbers; what is no number or infinite is 22003.
pub(super) fn float(op: Op, left: &Lane, right: &Lane, result: SqlType) -> Result<ArrayRef, Problem> {
    if result == SqlType::Real {
        floating::<Float32Type>(op, side(left), side(right), result)
    } else {
        floating::<Float64Type>(op, side(left), side(right), result)
    }
}

/// A result that is not a finite number is 22003; adding zero turns a negative zero into zero.
fn floating<T: ArrowPrimitiveType>(
    op: Op,
    a: Side<'_, T>,
    b: Side<'_, T>,
    result: SqlType,
) -> Result<ArrayRef, Problem> {
    let finite = |value: T::Native| {
        // x − x is zero for every finite x and NaN otherwise.
        if value.sub_wrapping(value).is_zero() {
            Ok(value.add_wrapping(T::Native::default()))
        } else {
            Err(Problem::Overflow(result))
        }
    };
    let array: PrimitiveArray<T> = match op {
        Op::Add => try_zip(a, b, |a, b| finite(a.add_wrapping(b))),
        Op::Subtract => try_zip(a, b, |a, b| finite(a.sub_wrapping(b))),
        Op::Multiply => try_zip(a, b, |a, b| finite(a.mul_wrapping(b))),
        Op::Divide => {
            try_zip(a, b, |a, b| if b.is_zero() { Err(Problem::DivisionByZero) } else { finite(a.div_wrapping(b)) })
        }
    }?;
    Ok(Arc::new(array))
}

/// The negation, never of a value under a NULL.
pub(super) fn negate(operand: &ArrayRef, sql_type: SqlType) -> Result<ArrayRef, Problem> {
    fn run<T: ArrowPrimitiveType>(array: &ArrayRef, sql_type: SqlType) -> Result<ArrayRef, Problem> {
        let array = array.as_primitive::<T>();
        let negated = array.try_unary::<_, T, _>(|value| {
            value
                .neg_checked()
                .map(|value| value.add_wrapping(T::Native::default()))
                .map_err(|_| Problem::Overflow(sql_type))
        })?;
        // The type carries precision and scale, which a fresh array would lose.
        Ok(Arc::new(negated.with_data_type(array.data_type().clone())))
    }
    use arrow::array::Array;
    match sql_type {
        SqlType::SmallInt => run::<Int16Type>(operand, sql_type),
        SqlType::Integer => run::<Int32Type>(operand, sql_type),
        SqlType::BigInt => run::<Int64Type>(operand, sql_type),
        SqlType::Real => run::<Float32Type>(operand, sql_type),
        SqlType::Double => run::<Float64Type>(operand, sql_type),
        SqlType::Numeric { precision, .. } if precision <= 18 => run::<Decimal64Type>(operand, sql_type),
        SqlType::Numeric { .. } => run::<Decimal128Type>(operand, sql_type),
        SqlType::YearMonth => run::<IntervalYearMonthType>(operand, sql_type),
        SqlType::DayTime => run::<DurationMicrosecondType>(operand, sql_type),
        SqlType::Null
        | SqlType::Boolean
        | SqlType::Char(_)
        | SqlType::Varchar(_)
        | SqlType::Binary(_)
        | SqlType::Varbinary(_)
        | SqlType::Uuid
        | SqlType::IpAddress
        | SqlType::Date
        | SqlType::Time
        | SqlType::TimeTz
        | SqlType::Timestamp
        | SqlType::TimestampTz
        | SqlType::Array(_)
        | SqlType::Row(_) => Err(Problem::Internal("a number was expected")),
    }
}
