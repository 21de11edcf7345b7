//! `+ - * /` and unary minus, by the type of the result.

mod decimal;
mod lanes;
mod number;
mod temporal;

use super::keys::{from_integer_lanes, integer_lanes};
use super::{Lane, problem::Problem};
use crate::types::{ArithmeticOp, SqlType};
use arrow::array::{Array, ArrayRef};

pub(super) use decimal::average;

/// Operands of one length or constant, of the types that binding gave them; the result has type `result`. NULL in either lane
/// gives NULL.
pub(super) fn binary(op: ArithmeticOp, left: &Lane, right: &Lane, result: SqlType) -> Result<ArrayRef, Problem> {
    match result {
        SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => number::integer(op, left, right, result),
        SqlType::Real | SqlType::Double => number::float(op, left, right, result),
        SqlType::Numeric { precision, scale } => decimal::binary(op, left, right, (precision, scale)),
        SqlType::Date
        | SqlType::Time
        | SqlType::TimeTz
        | SqlType::Timestamp
        | SqlType::TimestampTz
        | SqlType::YearMonth
        | SqlType::DayTime => {
            let array = temporal::binary(op, left, right, result)?;
            if *array.data_type() == result.arrow() {
                return Ok(array);
            }
            // An instant is reckoned with as a timestamp.
            let lanes = integer_lanes(&array).unwrap_or_default().into_owned();
            Ok(from_integer_lanes(lanes, array.nulls().cloned(), &result.arrow()))
        }
        SqlType::Null
        | SqlType::Boolean
        | SqlType::Char(_)
        | SqlType::Varchar(_)
        | SqlType::Binary(_)
        | SqlType::Varbinary(_)
        | SqlType::Uuid
        | SqlType::IpAddress
        | SqlType::Array(_)
        | SqlType::Row(_) => Err(Problem::Internal("arithmetic of a type that has none")),
    }
}

/// `-operand`; 22003 where the least integer has no counterpart.
pub(super) fn negate(operand: &ArrayRef, sql_type: SqlType) -> Result<ArrayRef, Problem> {
    number::negate(operand, sql_type)
}
