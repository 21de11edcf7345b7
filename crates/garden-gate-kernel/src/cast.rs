//! CAST (clause 6.13). Numbers are rounded half away from zero; text is trimmed of blanks before it is read.

use super::constant::value_at;
use super::keys::{from_integer_lanes, integer_lanes};
use super::problem::Problem;
use crate::control::reserve;
use crate::types::{
    Decimal, Field, Interval, MICROS_PER_DAY, RowField, SqlType, Value, format_timestamp, parse_address, parse_date,
    parse_instant, parse_interval, parse_time, parse_time_of_zone, parse_timestamp, parse_uuid, rescale,
};
use arrow::array::{
    Array, ArrayRef, AsArray, BinaryViewArray, BinaryViewBuilder, BooleanArray, FixedSizeBinaryArray, PrimitiveArray,
    StringViewArray, StringViewBuilder, new_null_array,
};
use arrow::compute::{self, CastOptions};
use arrow::datatypes::{
    ArrowPrimitiveType, DataType, Date32Type, Decimal64Type, Decimal128Type, DurationMicrosecondType, Float32Type,
    Float64Type, Int16Type, Int32Type, Int64Type, IntervalYearMonthType, Time64MicrosecondType,
    TimestampMicrosecondType,
};
use std::fmt::Write as _;
use std::sync::Arc;

/// The values of an array as another type.
///
/// # Errors
/// 22xxx when one does not fit.
pub fn cast_values(array: &ArrayRef, from: SqlType, to: SqlType) -> crate::diagnostic::Result<ArrayRef> {
    cast_array(array, from, to).map_err(|problem| crate::diagnostic::Error::from_facts(&problem))
}

/// All lanes of an array of type `from` as type `to`; the first valid lane that has no such value is the error.
pub(super) fn cast_array(array: &ArrayRef, from: SqlType, to: SqlType) -> Result<ArrayRef, Problem> {
    use SqlType as T;
    match (from, to) {
        _ if array.null_count() == array.len() => Ok(new_null_array(&to.arrow(), array.len())),
        (T::Array(a), T::Array(b)) => cast_list(array, *a, *b),
        (T::Row(a), T::Row(b)) => cast_row(array, a, (b, to)),
        (a, b) if a.is_text() && b.is_text() => text_to_text(array, b),
        (a, _) if a.is_text() => from_text(array.as_string_view(), to),
        // A truth value that does not fit is not a value of the type (clause 6.13), rather than one that is cut.
        (T::Boolean, T::Varchar(Some(length)) | T::Char(length)) if length < 5 => {
            let longest = |row: usize| if array.as_boolean().value(row) { "TRUE" } else { "FALSE" };
            let row = (0..array.len()).find(|row| array.is_valid(*row) && longest(*row).len() > length as usize);
            match row {
                Some(row) => Err(Problem::NoSuchValue { text: longest(row).into(), target: to }),
                None => text_to_text(&to_text(array, from), to),
            }
        }
        (_, T::Varchar(_) | T::Char(_)) => held_to(&to_text(array, from), to),
        (T::Uuid | T::IpAddress, b) if b.is_binary() => binary_length(&array_of_bytes(array), b),
        (a, T::Uuid | T::IpAddress) if a.is_binary() => sixteen(array.as_binary_view(), to),
        (a, b) if a.is_binary() && b.is_binary() => binary_length(array, b),
        (T::Timestamp | T::TimestampTz, T::Timestamp | T::TimestampTz) => {
            let lanes = integer_lanes(array).unwrap_or_default().into_owned();
            Ok(from_integer_lanes(lanes, array.nulls().cloned(), &to.arrow()))
        }
        (T::Date, T::TimestampTz) => {
            let local = cast_array(array, T::Date, T::Timestamp)?;
            cast_array(&local, T::Timestamp, to)
        }
        // The session's zone is UTC.
        (T::Time, T::TimeTz) | (T::TimeTz, T::Time) => Ok(Arc::clone(array)),
        (T::Timestamp | T::TimestampTz, T::TimeTz) => cast_array(array, from, T::Time),
        (T::TimestampTz, T::Date | T::Time) => cast_array(&cast_array(array, from, T::Timestamp)?, T::Timestamp, to),
        (T::Date, T::Timestamp) => {
            let array = array.as_primitive::<Date32Type>();
            let start = |days: i32| i64::from(days).checked_mul(MICROS_PER_DAY).ok_or(Problem::OutsideCalendar);
            Ok(Arc::new(array.try_unary::<_, TimestampMicrosecondType, _>(start)?))
        }
        (T::Timestamp, T::Date) => {
            let array = array.as_primitive::<TimestampMicrosecondType>();
            let day =
                |micros: i64| i32::try_from(micros.div_euclid(MICROS_PER_DAY)).map_err(|_| Problem::OutsideCalendar);
            Ok(Arc::new(array.try_unary::<_, Date32Type, _>(day)?))
        }
        (T::Timestamp, T::Time) => {
            let array = array.as_primitive::<TimestampMicrosecondType>();
            Ok(Arc::new(array.unary::<_, Time64MicrosecondType>(|micros| micros.rem_euclid(MICROS_PER_DAY))))
        }
        _ => number(array, from, to),
    }
}

/// Between character strings: a CHAR keeps its blanks as VARCHAR (clause 6.13), and a text becomes CHAR by those it lacks.
fn text_to_text(array: &ArrayRef, to: SqlType) -> Result<ArrayRef, Problem> {
    if let SqlType::Char(length) = to {
        reserve((length as usize).saturating_mul(array.len()), array.len())?;
        Ok(padded(&limit_length(array, Some(length), to)?, length))
    } else if let SqlType::Varchar(length) = to {
        limit_length(array, length, to)
    } else {
        Ok(Arc::clone(array))
    }
}

/// Text filled up with blanks to `length` characters.
pub(super) fn padded(array: &ArrayRef, length: u32) -> ArrayRef {
    let length = length as usize;
    let texts = array.as_string_view();
    let lacks = |text: &str| text.len() < length || text.chars().count() < length;
    if !texts.iter().flatten().any(lacks) {
        return Arc::clone(array);
    }
    let mut builder = StringViewBuilder::with_capacity(texts.len());
    let mut scratch = String::new();
    for text in texts {
        builder.append_option(text.map(|text| {
            scratch.clear();
            scratch.push_str(text);
            scratch.extend(std::iter::repeat_n(' ', length.saturating_sub(text.chars().count())));
            scratch.as_str()
        }));
    }
    Arc::new(builder.finish())
}

/// Binary strings within a length; of a fixed length, filled up with zeros.
pub(super) fn binary_length(array: &ArrayRef, to: SqlType) -> Result<ArrayRef, Problem> {
    let (most, fixed) = if let SqlType::Binary(length) = to {
        (length as usize, true)
    } else if let SqlType::Varbinary(Some(length)) = to {
        (length as usize, false)
    } else {
        return Ok(Arc::clone(array));
    };
    let mut builder = BinaryViewBuilder::with_capacity(array.len());
    for bytes in array.as_binary_view() {
        let Some(bytes) = bytes else {
            builder.append_null();
            continue;
        };
        if bytes.iter().skip(most).any(|byte| *byte != 0) {
            let text = crate::types::format_hex(bytes);
            return Err(Problem::TextTooLong { text, length: bytes.len(), target: to });
        }
        let mut kept = bytes[..bytes.len().min(most)].to_vec();
        if fixed {
            kept.resize(most, 0);
        }
        builder.append_value(kept);
    }
    Ok(Arc::new(builder.finish()))
}

fn array_of_bytes(array: &ArrayRef) -> ArrayRef {
    Arc::new(array.as_fixed_size_binary().iter().collect::<BinaryViewArray>())
}

/// Binary strings of 16 bytes as identifiers or addresses.
fn sixteen(bytes: &BinaryViewArray, to: SqlType) -> Result<ArrayRef, Problem> {
    let mut values = Vec::with_capacity(bytes.len());
    for bytes in bytes {
        match bytes {
            Some(bytes) if bytes.len() != 16 => {
                return Err(Problem::NoSuchValue { text: crate::types::format_hex(bytes), target: to });
            }
            other => values.push(other),
        }
    }
    fixed(values, to)
}

fn fixed<B: AsRef<[u8]>>(values: Vec<Option<B>>, to: SqlType) -> Result<ArrayRef, Problem> {
    let array = FixedSizeBinaryArray::try_from_sparse_iter_with_size(values.into_iter(), 16);
    array.map(|array| Arc::new(array) as ArrayRef).map_err(|_| Problem::Overflow(to))
}

fn cast_list(array: &ArrayRef, from: SqlType, to: SqlType) -> Result<ArrayRef, Problem> {
    let list = array.as_list::<i32>();
    let values = cast_array(list.values(), from, to)?;
    Ok(super::composite::relist(list, values, to))
}

fn cast_row(array: &ArrayRef, from: &[RowField], (to, target): (&[RowField], SqlType)) -> Result<ArrayRef, Problem> {
    let rows = array.as_struct();
    let columns = rows.columns().iter().zip(from.iter().zip(to)).map(|(column, (from, to))| {
        if from.sql_type == to.sql_type {
            Ok(Arc::clone(column))
        } else {
            cast_array(column, from.sql_type, to.sql_type)
        }
    });
    let columns = columns.collect::<Result<Vec<_>, _>>()?;
    let DataType::Struct(fields) = target.arrow() else { return Err(Problem::Overflow(target)) };
    Ok(Arc::new(arrow::array::StructArray::new(fields, columns, rows.nulls().cloned())))
}

/// Between numbers: rounding first where digits are lost, then the checked conversion.
fn number(array: &ArrayRef, from: SqlType, to: SqlType) -> Result<ArrayRef, Problem> {
    let mut rounded = Arc::clone(array);
    if to.is_integer() {
        if let SqlType::Numeric { precision, scale } = from
            && scale > 0
        {
            rounded = convert(array, from, to, &SqlType::numeric(precision.saturating_add(1).min(38), 0).arrow())?;
        }
        if from == SqlType::Double {
            rounded = Arc::new(array.as_primitive::<Float64Type>().unary::<_, Float64Type>(f64::round));
        }
        if from == SqlType::Real {
            rounded = Arc::new(array.as_primitive::<Float32Type>().unary::<_, Float32Type>(f32::round));
        }
    }
    if from.is_approximate() && matches!(to, SqlType::Numeric { .. }) {
        return float_to_decimal(array, from, to);
    }
    convert(&rounded, from, to, &to.arrow())
}

fn convert(array: &ArrayRef, from: SqlType, to: SqlType, data_type: &DataType) -> Result<ArrayRef, Problem> {
    let misfit = |row: usize| Problem::OutOfRange { value: value_text(array, from, row), target: to };
    let options = CastOptions { safe: true, ..CastOptions::default() };
    let result = compute::cast_with_options(array, data_type, &options).map_err(|_| misfit(0))?;
    if result.null_count() == array.null_count() {
        if to == SqlType::Real
            && let lanes = result.as_primitive::<Float32Type>()
            && let Some(row) = (0..lanes.len()).find(|row| lanes.is_valid(*row) && !lanes.value(*row).is_finite())
        {
            return Err(misfit(row));
        }
        return Ok(result);
    }
    let lost = (0..array.len()).find(|row| array.is_valid(*row) && result.is_null(*row)).unwrap_or(0);
    Err(misfit(lost))
}

fn value_text(array: &ArrayRef, from: SqlType, row: usize) -> String {
    let same = *array.data_type() == from.arrow();
    if same && row < array.len() { value_at(array, from, row).to_string() } else { "a value".into() }
}

/// Through the shortest text that means the same number, so that 0.1 becomes 0.1.
fn float_to_decimal(array: &ArrayRef, from: SqlType, to: SqlType) -> Result<ArrayRef, Problem> {
    let texts = to_text(array, from);
    from_text(texts.as_string_view(), to)
}

/// Text that values were written as, as a text type: what is longer than it is an error.
pub(super) fn held_to(texts: &ArrayRef, to: SqlType) -> Result<ArrayRef, Problem> {
    if let SqlType::Char(length) = to {
        reserve((length as usize).saturating_mul(texts.len()), texts.len())?;
        Ok(padded(&limit_length(texts, Some(length), to)?, length))
    } else if let SqlType::Varchar(length) = to {
        limit_length(texts, length, to)
    } else {
        Ok(Arc::clone(texts))
    }
}

/// Texts without the blanks that are too much for `CHAR(n)` or `VARCHAR(n)`; other characters that are too much are an error (ISO/IEC
/// 9075-2, 9.2).
pub(super) fn limit_length(array: &ArrayRef, length: Option<u32>, target: SqlType) -> Result<ArrayRef, Problem> {
    let Some(limit) = length else { return Ok(Arc::clone(array)) };
    let limit = limit as usize;
    let texts = array.as_string_view();
    let too_long = |text: &str| text.len() > limit && text.chars().count() > limit;
    if !texts.iter().flatten().any(too_long) {
        return Ok(Arc::clone(array));
    }
    let mut builder = StringViewBuilder::with_capacity(texts.len());
    for text in texts {
        match text {
            Some(text) if too_long(text) => {
                let end = text.char_indices().nth(limit).map_or(text.len(), |(at, _)| at);
                let (kept, rest) = text.split_at(end);
                if !rest.trim_end_matches(' ').is_empty() {
                    return Err(Problem::TextTooLong { text: text.into(), length: text.chars().count(), target });
                }
                builder.append_value(kept);
            }
            other => builder.append_option(other),
        }
    }
    Ok(Arc::new(builder.finish()))
}

fn to_text(array: &ArrayRef, from: SqlType) -> ArrayRef {
    let mut builder = StringViewBuilder::with_capacity(array.len());
    let mut scratch = String::new();
    for row in 0..array.len() {
        if array.is_null(row) {
            builder.append_null();
            continue;
        }
        scratch.clear();
        let value = value_at(array, from, row);
        // Writing into a String cannot fail.
        let _ = if let Value::Timestamp(micros) = value {
            write!(scratch, "{}", format_timestamp(micros))
        } else {
            write!(scratch, "{value}")
        };
        builder.append_value(&scratch);
    }
    Arc::new(builder.finish())
}

fn from_text(texts: &StringViewArray, to: SqlType) -> Result<ArrayRef, Problem> {
    let misfit = |text: &str| Problem::NoSuchValue { text: text.into(), target: to };
    macro_rules! read {
        ($lane:ty, $read:expr) => {
            primitive::<$lane>(texts, to, $read)
        };
    }
    match to {
        SqlType::Boolean => {
            // UNKNOWN is the NULL of this type.
            let read = |text: &str| match read_boolean(text) {
                None if text.trim().eq_ignore_ascii_case("UNKNOWN") => Ok(None),
                read => read.map(Some).ok_or_else(|| misfit(text)),
            };
            let values: Result<BooleanArray, Problem> = texts.iter().map(|text| text.map_or(Ok(None), read)).collect();
            Ok(Arc::new(values?))
        }
        SqlType::SmallInt => read!(Int16Type, |text| read_integer(text)?.try_into().ok()),
        SqlType::Integer => read!(Int32Type, |text| read_integer(text)?.try_into().ok()),
        SqlType::BigInt => read!(Int64Type, |text| read_integer(text)?.try_into().ok()),
        SqlType::Numeric { precision, scale } if precision <= 18 => {
            read!(Decimal64Type, |text| read_decimal(text, precision, scale)?.try_into().ok())
        }
        SqlType::Numeric { precision, scale } => read!(Decimal128Type, |text| read_decimal(text, precision, scale)),
        SqlType::Real => read!(Float32Type, |text| text.parse::<f32>().ok().filter(|x| x.is_finite()).map(|x| x + 0.0)),
        SqlType::Double => read!(Float64Type, read_double),
        SqlType::Date => read!(Date32Type, parse_date),
        SqlType::Time => read!(Time64MicrosecondType, parse_time),
        SqlType::TimeTz => read!(Time64MicrosecondType, |text| parse_time_of_zone(text).or_else(|| parse_time(text))),
        SqlType::Timestamp => read!(TimestampMicrosecondType, read_timestamp),
        SqlType::TimestampTz => {
            let read = |text: &str| parse_instant(text).or_else(|| read_timestamp(text));
            let array = primitive::<TimestampMicrosecondType>(texts, SqlType::Timestamp, read)?;
            cast_array(&array, SqlType::Timestamp, to)
        }
        SqlType::Uuid | SqlType::IpAddress => {
            let read = |text: &str| {
                let value = if to == SqlType::Uuid { parse_uuid(text.trim()) } else { parse_address(text.trim()) };
                value.ok_or_else(|| misfit(text))
            };
            let values: Result<Vec<_>, Problem> = texts.iter().map(|text| text.map(read).transpose()).collect();
            fixed(values?, to)
        }
        SqlType::YearMonth => {
            read!(IntervalYearMonthType, |text| match parse_interval(text, Field::Year, Field::Month) {
                Some(Interval::Months(months)) => Some(months),
                _ => None,
            })
        }
        SqlType::DayTime => {
            read!(DurationMicrosecondType, |text| match parse_interval(text, Field::Day, Field::Second) {
                Some(Interval::Micros(micros)) => Some(micros),
                _ => None,
            })
        }
        SqlType::Null
        | SqlType::Varchar(_)
        | SqlType::Char(_)
        | SqlType::Binary(_)
        | SqlType::Varbinary(_)
        | SqlType::Array(_)
        | SqlType::Row(_) => Err(misfit(texts.iter().flatten().next().unwrap_or(""))),
    }
}

fn primitive<L: ArrowPrimitiveType>(
    texts: &StringViewArray,
    to: SqlType,
    read: impl Fn(&str) -> Option<L::Native>,
) -> Result<ArrayRef, Problem> {
    let mut values = Vec::with_capacity(texts.len());
    for text in texts {
        values.push(match text {
            None => None,
            Some(text) => Some(read(text.trim()).ok_or_else(|| explain(text.trim(), to))?),
        });
    }
    Ok(Arc::new(PrimitiveArray::<L>::from_iter(values).with_data_type(to.arrow())))
}

/// A number that is one but does not fit is distinguished from text that is none.
#[cold]
fn explain(text: &str, to: SqlType) -> Problem {
    if to.is_number() && is_number(text) {
        return Problem::OutOfRange { value: text.into(), target: to };
    }
    Problem::NoSuchValue { text: text.into(), target: to }
}

fn read_boolean(text: &str) -> Option<bool> {
    let text = text.trim();
    [("TRUE", true), ("FALSE", false)]
        .into_iter()
        .find(|(word, _)| text.eq_ignore_ascii_case(word))
        .map(|(_, value)| value)
}

fn read_integer(text: &str) -> Option<i128> {
    rescale_text(text, 0)
}

/// Fixed-point text, or text with an exponent, as digits at `scale`.
fn rescale_text(text: &str, scale: u8) -> Option<i128> {
    if let Some(decimal) = Decimal::parse(text) {
        return rescale(decimal.unscaled, decimal.scale, scale);
    }
    let (mantissa, exponent) = text.split_once(['e', 'E'])?;
    let (decimal, exponent) = (Decimal::parse(mantissa)?, exponent.parse::<i16>().ok()?);
    let places = i16::from(decimal.scale).checked_sub(exponent)?;
    match u8::try_from(places) {
        Ok(places) if places <= 76 => {
            // More places than a power of ten can hold: the number rounds to zero.
            if places > scale + 38 { Some(0) } else { rescale(decimal.unscaled, places, scale) }
        }
        Ok(_) => Some(0),
        Err(_) => rescale(decimal.unscaled, 0, u8::try_from(places.unsigned_abs()).ok()?.checked_add(scale)?),
    }
}

fn read_decimal(text: &str, precision: u8, scale: u8) -> Option<i128> {
    rescale_text(text, scale).filter(|unscaled| Decimal { unscaled: *unscaled, scale }.precision() <= precision)
}

/// Whether text is a number, be it past every range.
fn is_number(text: &str) -> bool {
    text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'+' | b'-' | b'.' | b'e' | b'E'))
        && text.parse::<f64>().is_ok()
}

fn read_double(text: &str) -> Option<f64> {
    let numeric = text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'+' | b'-' | b'.' | b'e' | b'E'));
    if numeric { text.parse::<f64>().ok().filter(|value| value.is_finite()).map(|value| value + 0.0) } else { None }
}

/// A timestamp, or the first moment of a date, in microseconds since 1970-01-01.
pub(super) fn read_timestamp(text: &str) -> Option<i64> {
    parse_timestamp(text).or_else(|| parse_date(text).map(|days| i64::from(days) * MICROS_PER_DAY))
}

/// The value of `sql_type` that a text means, or `None`.
pub fn parse_value(text: &str, sql_type: SqlType) -> Option<Value> {
    if sql_type.is_text() {
        return Some(Value::Text(text.to_owned()));
    }
    let array = from_text(&StringViewArray::from(vec![text]), sql_type).ok()?;
    Some(value_at(&array, sql_type, 0))
}
