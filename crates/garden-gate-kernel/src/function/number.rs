//! Numeric functions (clause 6.30). Exact numbers stay exact; the others are computed in 64-bit floating point.

use super::{Arguments, Problem};
use crate::logical::{CompareOp, FloatFunction as R, NumberFunction as F};
use crate::types::{SqlType, power_of_ten, rescale};
use crate::{evaluate, keys::integer_lanes};
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, Decimal64Array, Decimal128Array, Float64Array, Int32Array};
use arrow::compute;
use arrow::datatypes::{DataType, Decimal128Type, Float32Type, Float64Type};
use std::sync::Arc;

/// A function that keeps exact numbers exact.
pub(super) fn call(function: F, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    if arguments.types[0].is_approximate() { approximate_part(function, arguments) } else { exact(function, arguments) }
}

/// The digits of an exact number or interval in each row, whatever its width.
fn digits(array: &ArrayRef) -> Vec<Option<i128>> {
    if let Some(lanes) = integer_lanes(array) {
        return lanes.iter().enumerate().map(|(row, value)| array.is_valid(row).then(|| i128::from(*value))).collect();
    }
    array.as_primitive_opt::<Decimal128Type>().map_or_else(Vec::new, |array| array.iter().collect())
}

/// An array of an exact type from its digits.
fn from_digits(values: &[Option<i128>], result: SqlType) -> Result<ArrayRef, Problem> {
    let overflow = || Problem::Overflow(result);
    let nulls = || values.iter().map(Option::is_some).collect::<arrow::buffer::NullBuffer>();
    if let SqlType::Numeric { precision, scale } = result {
        let most = power_of_ten(precision).unwrap_or(i128::MAX);
        if values.iter().flatten().any(|value| value.abs() >= most) {
            return Err(overflow());
        }
        let scale = scale.cast_signed();
        if precision <= 18 {
            let narrow = values.iter().map(|value| value.and_then(|value| i64::try_from(value).ok()));
            let array = narrow.collect::<Decimal64Array>().with_precision_and_scale(precision, scale);
            return array.map(|array| Arc::new(array) as ArrayRef).map_err(|_| overflow());
        }
        let array = values.iter().copied().collect::<Decimal128Array>().with_precision_and_scale(precision, scale);
        return array.map(|array| Arc::new(array) as ArrayRef).map_err(|_| overflow());
    }
    let (low, high) = if let SqlType::SmallInt = result {
        (i64::from(i16::MIN), i64::from(i16::MAX))
    } else if let SqlType::Integer | SqlType::YearMonth = result {
        (i64::from(i32::MIN), i64::from(i32::MAX))
    } else {
        (i64::MIN, i64::MAX)
    };
    let fits = |value: i128| i64::try_from(value).ok().filter(|value| (low..=high).contains(value));
    let lanes: Option<Vec<i64>> = values.iter().map(|value| value.map_or(Some(0), fits)).collect();
    let lanes = lanes.ok_or_else(overflow)?;
    Ok(crate::keys::from_integer_lanes(lanes, Some(nulls()), &result.arrow()))
}

fn exact(function: F, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let values = digits(&arguments.array(0)?);
    let scale = arguments.types[0].digits().map_or(0, |(_, scale)| scale);
    let to = arguments.result.digits().map_or(0, |(_, scale)| scale);
    let others = if function == F::Mod { digits(&arguments.array(1)?) } else { Vec::new() };
    let places = (function != F::Mod && arguments.count() > 1).then(|| arguments.whole(1));
    let one = |row: usize, value: i128| -> Result<Option<i128>, Problem> {
        Ok(Some(match function {
            F::Abs => value.abs(),
            F::Ceiling => -(-value).div_euclid(unit(scale)),
            F::Floor => value.div_euclid(unit(scale)),
            F::Mod => match others.get(row).copied().flatten() {
                None => return Ok(None),
                Some(0) => return Err(Problem::DivisionByZero),
                Some(divisor) => value % divisor,
            },
            F::Round | F::Truncate => {
                let places = match places {
                    None => 0,
                    Some(places) => match places.get(row) {
                        Some(places) => places,
                        None => return Ok(None),
                    },
                };
                let kept = rounded(value, scale, places, function == F::Round);
                rescale(kept, scale, to).ok_or(Problem::Overflow(arguments.result))?
            }
        }))
    };
    let results = values.iter().enumerate().map(|(row, value)| value.map_or(Ok(None), |value| one(row, value)));
    from_digits(&results.collect::<Result<Vec<_>, _>>()?, arguments.result)
}

fn unit(scale: u8) -> i128 {
    power_of_ten(scale).unwrap_or(i128::MAX)
}

/// The number with `places` digits after the point, negative ones before it; the others are 0.
fn rounded(value: i128, scale: u8, places: i64, round: bool) -> i128 {
    let dropped = i64::from(scale) - places;
    if dropped <= 0 {
        return value;
    }
    let Some(unit) = u8::try_from(dropped).ok().and_then(power_of_ten) else { return 0 };
    let quotient = if round { crate::types::divide_rounded(value, unit) } else { value / unit };
    quotient.saturating_mul(unit)
}

fn floats(array: &ArrayRef) -> Vec<Option<f64>> {
    if array.data_type() == &DataType::Float32 {
        array.as_primitive::<Float32Type>().iter().map(|value| value.map(f64::from)).collect()
    } else {
        array.as_primitive::<Float64Type>().iter().collect()
    }
}

fn from_floats(values: Vec<Option<f64>>, result: SqlType) -> Result<ArrayRef, Problem> {
    if values.iter().flatten().any(|value| !value.is_finite()) {
        return Err(Problem::Overflow(result));
    }
    // No negative zero: equality is equality of bits.
    let array: ArrayRef =
        Arc::new(values.into_iter().map(|value| value.map(|value| value + 0.0)).collect::<Float64Array>());
    compute::cast(&array, &result.arrow()).map_err(|_| Problem::Overflow(result))
}

fn approximate_part(function: F, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let values = floats(&arguments.array(0)?);
    let places = (arguments.count() > 1).then(|| arguments.whole(1));
    let cut = |row: usize, value: f64, cut: fn(f64) -> f64| -> Option<f64> {
        let places = places.map_or(Some(0), |places| places.get(row))?.clamp(-400, 400);
        let factor = 10_f64.powi(i32::try_from(places).unwrap_or(0));
        let kept = cut(value * factor);
        Some(if kept.is_finite() && factor > 0.0 && factor.is_finite() { kept / factor } else { value })
    };
    let one = |row: usize, value: f64| -> Result<Option<f64>, Problem> {
        Ok(match function {
            F::Abs => Some(value.abs()),
            F::Ceiling => Some(value.ceil()),
            F::Floor => Some(value.floor()),
            F::Round => cut(row, value, f64::round),
            F::Truncate => cut(row, value, f64::trunc),
            F::Mod => return Err(Problem::Internal("MOD of exact numbers was expected")),
        })
    };
    let results = values.iter().enumerate().map(|(row, value)| value.map_or(Ok(None), |value| one(row, value)));
    from_floats(results.collect::<Result<_, _>>()?, arguments.result)
}

/// A function that is computed in floating point.
pub(super) fn floating(function: R, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let first = floats(&arguments.array(0)?);
    let second = if arguments.count() > 1 { floats(&arguments.array(1)?) } else { Vec::new() };
    let one = |row: usize, x: f64| -> Result<Option<f64>, Problem> {
        let y = second.get(row).copied().flatten();
        if arguments.count() > 1 && y.is_none() {
            return Ok(None);
        }
        real(function, x, y.unwrap_or(0.0)).map(Some)
    };
    let results = first.iter().enumerate().map(|(row, value)| value.map_or(Ok(None), |value| one(row, value)));
    from_floats(results.collect::<Result<_, _>>()?, arguments.result)
}

fn real(function: R, x: f64, y: f64) -> Result<f64, Problem> {
    Ok(match function {
        R::Power if x == 0.0 && y < 0.0 || x < 0.0 && y.fract() != 0.0 => {
            return Err(Problem::NoPower { base: x.to_string(), exponent: y.to_string() });
        }
        R::Power => x.powf(y),
        R::Sqrt if x < 0.0 => return Err(Problem::NoPower { base: x.to_string(), exponent: "0.5".into() }),
        R::Sqrt => x.sqrt(),
        R::Ln | R::Log10 if x <= 0.0 => return Err(Problem::NoLogarithm { number: x.to_string() }),
        R::Ln => x.ln(),
        R::Log10 => x.log10(),
        R::Log if x <= 0.0 || y <= 0.0 => {
            return Err(Problem::NoLogarithm { number: if x <= 0.0 { x } else { y }.to_string() });
        }
        R::Log if (x - 1.0).abs() < f64::EPSILON => return Err(Problem::NoLogarithm { number: "base 1".into() }),
        R::Log if (x - 2.0).abs() < f64::EPSILON => y.log2(),
        R::Log if (x - 10.0).abs() < f64::EPSILON => y.log10(),
        R::Log => y.ln() / x.ln(),
        R::Exp => x.exp(),
        R::Sin => x.sin(),
        R::Cos => x.cos(),
        R::Tan => x.tan(),
        R::Sinh => x.sinh(),
        R::Cosh => x.cosh(),
        R::Tanh => x.tanh(),
        R::Asin | R::Acos if x.abs() > 1.0 => {
            return Err(Problem::OutOfRange { value: x.to_string(), target: SqlType::Double });
        }
        R::Asin => x.asin(),
        R::Acos => x.acos(),
        R::Atan => x.atan(),
    })
}

/// The number of the bucket among `count` equal ones between two bounds; 0 before the first, `count + 1` after the last.
pub(super) fn width_bucket(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let counts = arguments.whole(3);
    let exact = arguments.types[0].is_exact();
    let arrays = [arguments.array(0)?, arguments.array(1)?, arguments.array(2)?];
    let whole = arrays.each_ref().map(|array| if exact { digits(array) } else { Vec::new() });
    let real = arrays.each_ref().map(|array| if exact { Vec::new() } else { floats(array) });
    let bucket = |row: usize| -> Result<Option<usize>, Problem> {
        let Some(count) = counts.get(row) else { return Ok(None) };
        let count = usize::try_from(count).ok().filter(|count| *count > 0).ok_or(Problem::NoBucket)?;
        if exact {
            let (Some(value), Some(low), Some(high)) = (whole[0][row], whole[1][row], whole[2][row]) else {
                return Ok(None);
            };
            if low == high {
                return Err(Problem::NoBucket);
            }
            let (value, width) = if low < high { (value - low, high - low) } else { (low - value, low - high) };
            if value < 0 || value >= width {
                return Ok(Some(if value < 0 { 0 } else { count + 1 }));
            }
            let scaled =
                value.checked_mul(i128::try_from(count).unwrap_or(1)).ok_or(Problem::Overflow(arguments.result))?;
            return Ok(usize::try_from(scaled / width).ok().map(|bucket| bucket + 1));
        }
        let (Some(value), Some(low), Some(high)) = (real[0][row], real[1][row], real[2][row]) else { return Ok(None) };
        let share = (value - low) / (high - low);
        if !share.is_finite() {
            return Err(Problem::NoBucket);
        }
        if share < 0.0 {
            return Ok(Some(0));
        }
        if share >= 1.0 {
            return Ok(Some(count + 1));
        }
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "from 0 to the count of buckets")]
        let bucket = (share * crate::types::approximate(count)).floor() as usize;
        Ok(Some(bucket.min(count - 1) + 1))
    };
    arguments.wholes(bucket)
}

/// GREATEST and LEAST, of what is greater or less: NULL when any argument is.
pub(super) fn extreme(op: CompareOp, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let internal = |_| Problem::Overflow(arguments.result);
    let mut best = arguments.array(0)?;
    for at in 1..arguments.count() {
        let next = arguments.array(at)?;
        let better = evaluate::compare_arrays(op, &next, &best, arguments.result)
            .map_err(|_| Problem::Overflow(arguments.result))?;
        let either_null: BooleanArray =
            (0..best.len()).map(|row| Some(best.is_null(row) || next.is_null(row))).collect();
        let taken = compute::kernels::zip::zip(&crate::kept(&better), &next, &best).map_err(internal)?;
        best = compute::nullif(&taken, &either_null).map_err(internal)?;
    }
    Ok(best)
}

/// NUMERIC(38, 0) and DOUBLE PRECISION; -1, 0 or 1 as the first is smaller, the same or greater.
pub(super) fn compare_exactly(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (exact, approximate) = (arguments.array(0)?, arguments.array(1)?);
    let (exact, approximate) = (exact.as_primitive::<Decimal128Type>(), approximate.as_primitive::<Float64Type>());
    let sign = |(exact, approximate): (Option<i128>, Option<f64>)| Some(order(exact?, approximate?) as i32);
    Ok(Arc::new(exact.iter().zip(approximate.iter()).map(sign).collect::<Int32Array>()))
}

fn order(exact: i128, approximate: f64) -> std::cmp::Ordering {
    // 2^126 is more than any number of 38 digits.
    if approximate.abs() >= 2_f64.powi(126) {
        return if approximate > 0.0 { std::cmp::Ordering::Less } else { std::cmp::Ordering::Greater };
    }
    let whole = approximate.floor();
    #[expect(clippy::cast_possible_truncation, reason = "an integer below 2^126")]
    exact.cmp(&(whole as i128)).then(if approximate > whole {
        std::cmp::Ordering::Less
    } else {
        std::cmp::Ordering::Equal
    })
}
