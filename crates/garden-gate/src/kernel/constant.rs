//! Single values in and out of arrays.

use super::problem::Problem;
use crate::diagnostic::{Error, Result};
use crate::types::{Decimal, SqlType, Value, rescale};
use arrow::array::{
    ArrayRef, AsArray, BooleanArray, Date32Array, Decimal64Array, Decimal128Array, DurationMicrosecondArray,
    Float32Array, Float64Array, Int16Array, Int32Array, Int64Array, IntervalYearMonthArray, StringViewArray,
    Time64MicrosecondArray, TimestampMicrosecondArray, new_null_array,
};
use arrow::datatypes::{
    Date32Type, Decimal64Type, Decimal128Type, DurationMicrosecondType, Float32Type, Float64Type, Int16Type, Int32Type,
    Int64Type, IntervalYearMonthType, Time64MicrosecondType, TimestampMicrosecondType,
};
use std::sync::Arc;

/// An array of one value.
///
/// # Errors
/// 22003 when the value does not fit the type.
pub(crate) fn array_of(value: &Value, sql_type: SqlType) -> Result<ArrayRef> {
    let misfit = || Error::from_facts(&Problem::OutOfRange { value: value.to_string(), target: sql_type });
    Ok(match (value, sql_type) {
        (Value::Null, _) => new_null_array(&sql_type.arrow(), 1),
        (Value::Boolean(value), SqlType::Boolean) => Arc::new(BooleanArray::from(vec![*value])),
        (Value::Integer(value), SqlType::SmallInt) => {
            Arc::new(Int16Array::from(vec![i16::try_from(*value).map_err(|_| misfit())?]))
        }
        (Value::Integer(value), SqlType::Integer) => {
            Arc::new(Int32Array::from(vec![i32::try_from(*value).map_err(|_| misfit())?]))
        }
        (Value::Integer(value), SqlType::BigInt) => Arc::new(Int64Array::from(vec![*value])),
        (Value::Integer(value), SqlType::Numeric { .. }) => {
            decimal(Decimal { unscaled: (*value).into(), scale: 0 }, sql_type)?
        }
        (Value::Numeric(value), SqlType::Numeric { .. }) => decimal(*value, sql_type)?,
        (Value::Double(value), SqlType::Double) => Arc::new(Float64Array::from(vec![*value])),
        #[expect(clippy::cast_possible_truncation, reason = "REAL has fewer digits by definition")]
        (Value::Double(value), SqlType::Real) => Arc::new(Float32Array::from(vec![*value as f32])),
        (Value::Text(value), SqlType::Varchar(_)) => Arc::new(StringViewArray::from(vec![value.as_str()])),
        (Value::Date(value), SqlType::Date) => Arc::new(Date32Array::from(vec![*value])),
        (Value::Time(value), SqlType::Time) => Arc::new(Time64MicrosecondArray::from(vec![*value])),
        (Value::Timestamp(value), SqlType::Timestamp) => Arc::new(TimestampMicrosecondArray::from(vec![*value])),
        (Value::Months(value), SqlType::YearMonth) => Arc::new(IntervalYearMonthArray::from(vec![*value])),
        (Value::Micros(value), SqlType::DayTime) => Arc::new(DurationMicrosecondArray::from(vec![*value])),
        _ => return Err(misfit()),
    })
}

fn decimal(value: Decimal, sql_type: SqlType) -> Result<ArrayRef> {
    let misfit = || Error::from_facts(&Problem::OutOfRange { value: value.to_string(), target: sql_type });
    let (precision, scale) = sql_type.digits().ok_or_else(misfit)?;
    let unscaled = rescale(value.unscaled, value.scale, scale).ok_or_else(misfit)?;
    if (Decimal { unscaled, scale }).precision() > precision {
        return Err(misfit());
    }
    Ok(if precision <= 18 {
        let narrow = i64::try_from(unscaled).map_err(|_| misfit())?;
        Arc::new(Decimal64Array::from(vec![narrow]).with_precision_and_scale(precision, scale.cast_signed())?)
    } else {
        Arc::new(Decimal128Array::from(vec![unscaled]).with_precision_and_scale(precision, scale.cast_signed())?)
    })
}

/// The value in lane `row` of an array that holds `sql_type`.
pub(crate) fn value_at(array: &ArrayRef, sql_type: SqlType, row: usize) -> Value {
    if array.is_null(row) {
        return Value::Null;
    }
    match sql_type {
        SqlType::Null => Value::Null,
        SqlType::Boolean => Value::Boolean(array.as_boolean().value(row)),
        SqlType::SmallInt => Value::Integer(array.as_primitive::<Int16Type>().value(row).into()),
        SqlType::Integer => Value::Integer(array.as_primitive::<Int32Type>().value(row).into()),
        SqlType::BigInt => Value::Integer(array.as_primitive::<Int64Type>().value(row)),
        SqlType::Numeric { precision, scale } => {
            let unscaled = if precision <= 18 {
                array.as_primitive::<Decimal64Type>().value(row).into()
            } else {
                array.as_primitive::<Decimal128Type>().value(row)
            };
            Value::Numeric(Decimal { unscaled, scale })
        }
        SqlType::Real => Value::Double(array.as_primitive::<Float32Type>().value(row).into()),
        SqlType::Double => Value::Double(array.as_primitive::<Float64Type>().value(row)),
        SqlType::Varchar(_) => Value::Text(array.as_string_view().value(row).to_owned()),
        SqlType::Date => Value::Date(array.as_primitive::<Date32Type>().value(row)),
        SqlType::Time => Value::Time(array.as_primitive::<Time64MicrosecondType>().value(row)),
        SqlType::Timestamp => Value::Timestamp(array.as_primitive::<TimestampMicrosecondType>().value(row)),
        SqlType::YearMonth => Value::Months(array.as_primitive::<IntervalYearMonthType>().value(row)),
        SqlType::DayTime => Value::Micros(array.as_primitive::<DurationMicrosecondType>().value(row)),
    }
}
