//! Single values in and out of arrays.

use super::conform::{Misfit, conform};
use super::problem::Problem;
use crate::diagnostic::{Error, Result};
use crate::types::{Decimal, SqlType, Value, rescale};
use arrow::array::{
    Array, ArrayRef, AsArray, BinaryViewArray, BooleanArray, Date32Array, Decimal64Array, Decimal128Array,
    DurationMicrosecondArray, FixedSizeBinaryArray, Float32Array, Float64Array, Int16Array, Int32Array, Int64Array,
    IntervalYearMonthArray, StringViewArray, Time64MicrosecondArray, TimestampMicrosecondArray, new_null_array,
};
use arrow::datatypes::{
    Date32Type, Decimal64Type, Decimal128Type, DurationMicrosecondType, Float32Type, Float64Type, Int16Type, Int32Type,
    Int64Type, IntervalYearMonthType, Time64MicrosecondType, TimestampMicrosecondType,
};
use std::sync::Arc;

/// An array of one value, in the form that the kernels rely on.
///
/// # Errors
/// 22003 when the value is none of the type or would lose digits, 22001 for a text that is too long, 22008 for a day or time that there is not.
pub fn array_of(value: &Value, sql_type: SqlType) -> Result<ArrayRef> {
    conform(&raw_array_of(value, sql_type)?, sql_type).map_err(Misfit::into_error)
}

fn raw_array_of(value: &Value, sql_type: SqlType) -> Result<ArrayRef> {
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
        (Value::Double(value), SqlType::Real) if (*value as f32).is_finite() => {
            Arc::new(Float32Array::from(vec![*value as f32]))
        }
        (Value::Instant(value), SqlType::TimestampTz) => {
            Arc::new(TimestampMicrosecondArray::from(vec![*value]).with_timezone("UTC"))
        }
        (Value::Binary(value), SqlType::Binary(_) | SqlType::Varbinary(_)) => {
            Arc::new(BinaryViewArray::from(vec![value.as_slice()]))
        }
        (Value::Uuid(value), SqlType::Uuid) | (Value::IpAddress(value), SqlType::IpAddress) => {
            Arc::new(FixedSizeBinaryArray::try_from_iter(std::iter::once(value.as_slice()))?)
        }
        (Value::Array(elements), SqlType::Array(element)) => {
            let parts = elements.iter().map(|value| array_of(value, *element)).collect::<Result<Vec<_>>>()?;
            super::composite::list(&parts, *element)?
        }
        (Value::Row(values), SqlType::Row(fields)) => {
            let parts = values.iter().zip(fields).map(|(value, field)| array_of(value, field.sql_type));
            super::composite::row(parts.collect::<Result<Vec<_>>>()?, sql_type, 1)
        }
        (Value::Text(value), SqlType::Varchar(_) | SqlType::Char(_)) => {
            Arc::new(StringViewArray::from(vec![value.as_str()]))
        }
        (Value::Date(value), SqlType::Date) => Arc::new(Date32Array::from(vec![*value])),
        (Value::Time(value), SqlType::Time) | (Value::TimeTz(value), SqlType::TimeTz) => {
            Arc::new(Time64MicrosecondArray::from(vec![*value]))
        }
        (Value::Timestamp(value), SqlType::Timestamp) => Arc::new(TimestampMicrosecondArray::from(vec![*value])),
        (Value::Months(value), SqlType::YearMonth) => Arc::new(IntervalYearMonthArray::from(vec![*value])),
        (Value::Micros(value), SqlType::DayTime) => Arc::new(DurationMicrosecondArray::from(vec![*value])),
        _ => return Err(misfit()),
    })
}

/// An array of these values, which have the type.
///
/// # Errors
/// As [`array_of`].
pub fn array_of_all(values: &[Value], sql_type: SqlType) -> Result<ArrayRef> {
    let whole = |value: &Value| {
        if let Value::Integer(value)
        | Value::Time(value)
        | Value::TimeTz(value)
        | Value::Timestamp(value)
        | Value::Instant(value)
        | Value::Micros(value) = value
        {
            Some(*value)
        } else if let Value::Date(value) | Value::Months(value) = value {
            Some((*value).into())
        } else {
            None
        }
    };
    let empty = arrow::array::new_empty_array(&sql_type.arrow());
    if !matches!(sql_type, SqlType::Numeric { .. })
        && super::keys::integer_lanes(&empty).is_some()
        && let Some(lanes) = values.iter().map(whole).collect::<Option<Vec<i64>>>()
    {
        let array = super::keys::from_integer_lanes(lanes, None, &sql_type.arrow());
        return conform(&array, sql_type).map_err(Misfit::into_error);
    }
    let parts = values.iter().map(|value| array_of(value, sql_type)).collect::<Result<Vec<_>>>()?;
    let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
    if parts.is_empty() { Ok(empty) } else { Ok(arrow::compute::concat(&parts)?) }
}

fn decimal(value: Decimal, sql_type: SqlType) -> Result<ArrayRef> {
    let misfit = || Error::from_facts(&Problem::OutOfRange { value: value.to_string(), target: sql_type });
    let (precision, scale) = sql_type.digits().ok_or_else(misfit)?;
    let unscaled = rescale(value.unscaled, value.scale, scale).ok_or_else(misfit)?;
    let loses_digits = value.scale > scale && rescale(unscaled, scale, value.scale) != Some(value.unscaled);
    if loses_digits || (Decimal { unscaled, scale }).precision() > precision {
        return Err(misfit());
    }
    Ok(if precision <= 18 {
        let narrow = i64::try_from(unscaled).map_err(|_| misfit())?;
        Arc::new(Decimal64Array::from(vec![narrow]).with_precision_and_scale(precision, scale.cast_signed())?)
    } else {
        Arc::new(Decimal128Array::from(vec![unscaled]).with_precision_and_scale(precision, scale.cast_signed())?)
    })
}

fn sixteen(array: &ArrayRef, row: usize) -> [u8; 16] {
    array.as_fixed_size_binary().value(row).try_into().unwrap_or_default()
}

/// The value in lane `row` of an array that holds `sql_type`.
pub fn value_at(array: &ArrayRef, sql_type: SqlType, row: usize) -> Value {
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
        SqlType::TimestampTz => Value::Instant(array.as_primitive::<TimestampMicrosecondType>().value(row)),
        SqlType::Binary(_) | SqlType::Varbinary(_) => Value::Binary(array.as_binary_view().value(row).to_vec()),
        SqlType::Uuid => Value::Uuid(sixteen(array, row)),
        SqlType::IpAddress => Value::IpAddress(sixteen(array, row)),
        SqlType::Array(element) => {
            let elements = array.as_list::<i32>().value(row);
            Value::Array((0..elements.len()).map(|at| value_at(&elements, *element, at)).collect())
        }
        SqlType::Row(fields) => {
            let columns = array.as_struct().columns();
            Value::Row(
                columns.iter().zip(fields).map(|(column, field)| value_at(column, field.sql_type, row)).collect(),
            )
        }
        SqlType::Varchar(_) | SqlType::Char(_) => Value::Text(array.as_string_view().value(row).to_owned()),
        SqlType::Date => Value::Date(array.as_primitive::<Date32Type>().value(row)),
        SqlType::Time => Value::Time(array.as_primitive::<Time64MicrosecondType>().value(row)),
        SqlType::TimeTz => Value::TimeTz(array.as_primitive::<Time64MicrosecondType>().value(row)),
        SqlType::Timestamp => Value::Timestamp(array.as_primitive::<TimestampMicrosecondType>().value(row)),
        SqlType::YearMonth => Value::Months(array.as_primitive::<IntervalYearMonthType>().value(row)),
        SqlType::DayTime => Value::Micros(array.as_primitive::<DurationMicrosecondType>().value(row)),
    }
}
