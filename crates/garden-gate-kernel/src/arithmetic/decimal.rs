//! Exact decimals. By the result types of binding, a result of up to 37 digits cannot overflow, so those loops do not check.

use super::lanes::{Side, side, try_zip, zip};
use crate::types::{ArithmeticOp as Op, SqlType, divide_rounded, power_of_ten, rescale};
use crate::{Lane, problem::Problem};
use arrow::array::{Array, ArrayRef, AsArray, Decimal128Array, PrimitiveArray};
use arrow::datatypes::{ArrowPrimitiveType, DataType, Decimal64Type, Decimal128Type};
use std::sync::Arc;

const LIMIT: i128 = 10_i128.pow(38);

fn scale_of(lane: &Lane) -> u8 {
    if let DataType::Decimal64(_, scale) | DataType::Decimal128(_, scale) = lane.array().data_type() {
        scale.unsigned_abs()
    } else {
        0
    }
}

fn is_narrow(lane: &Lane) -> bool {
    matches!(lane.array().data_type(), DataType::Decimal64(..))
}

/// The lane in 128 bits.
fn widen(lane: &Lane) -> Lane {
    if !is_narrow(lane) {
        return lane.clone();
    }
    let wide: Decimal128Array = lane.array().as_primitive::<Decimal64Type>().unary(i128::from);
    Lane::like(Arc::new(wide), lane.is_constant())
}

/// An operation on NUMERIC: in 64-bit lanes where both sides and the result fit 18 digits, else in 128.
pub(super) fn binary(op: Op, left: &Lane, right: &Lane, (precision, scale): (u8, u8)) -> Result<ArrayRef, Problem> {
    let (s1, s2) = (scale_of(left), scale_of(right));
    let data_type = SqlType::Numeric { precision, scale }.arrow();
    if precision <= 18 && is_narrow(left) && is_narrow(right) && op != Op::Divide {
        let factor =
            |from: u8| power_of_ten(scale.saturating_sub(from)).and_then(|f| i64::try_from(f).ok()).unwrap_or(1);
        let array = narrow::<Decimal64Type>(op, side(left), side(right), (factor(s1), factor(s2)));
        return Ok(Arc::new(array.with_data_type(data_type)));
    }
    if precision > 18
        && op != Op::Divide
        && let Some(array) = of_narrow(op, (left, s1), (right, s2), scale)
    {
        return Ok(Arc::new(array.with_data_type(data_type)));
    }
    if op == Op::Multiply
        && let Some(array) = product_of_small(left, right)
    {
        return wide_result(array, (precision, scale));
    }
    let (left, right) = (widen(left), widen(right));
    let (a, b) = (side::<Decimal128Type>(&left), side::<Decimal128Type>(&right));
    let overflow = || Problem::Overflow(SqlType::Numeric { precision, scale });
    let fits = |value: Option<i128>| value.filter(|value| -LIMIT < *value && *value < LIMIT).ok_or_else(overflow);
    let at_scale = |value: i128, from: u8| rescale(value, from, scale);
    let wide: Decimal128Array = match op {
        Op::Add => try_zip(a, b, |a, b| fits(at_scale(a, s1).zip(at_scale(b, s2)).and_then(|(a, b)| a.checked_add(b)))),
        Op::Subtract => {
            try_zip(a, b, |a, b| fits(at_scale(a, s1).zip(at_scale(b, s2)).and_then(|(a, b)| a.checked_sub(b))))
        }
        Op::Multiply => try_zip(a, b, |a, b| fits(a.checked_mul(b))),
        Op::Divide => {
            // a / b with the result's scale: a × 10^(scale + s2 − s1) / b.
            let shift = (scale + s2).saturating_sub(s1);
            let factor = power_of_ten(shift).ok_or_else(overflow)?;
            try_zip(a, b, |a, b| match b {
                0 => Err(Problem::DivisionByZero),
                b => fits(a.checked_mul(factor).map(|a| divide_rounded(a, b))),
            })
        }
    }?;
    wide_result(wide, (precision, scale))
}

/// Results of 128 bits in the type of so many digits.
fn wide_result(wide: Decimal128Array, (precision, scale): (u8, u8)) -> Result<ArrayRef, Problem> {
    let sql_type = SqlType::Numeric { precision, scale };
    Ok(if precision <= 18 {
        let array: PrimitiveArray<Decimal64Type> =
            wide.try_unary(|value| i64::try_from(value).map_err(|_| Problem::Overflow(sql_type)))?;
        Arc::new(array.with_data_type(sql_type.arrow()))
    } else {
        Arc::new(wide.with_data_type(sql_type.arrow()))
    })
}

/// The product of a side of 128 bits, whose values all fit 64, with one of 64: it fits without a test.
fn product_of_small(left: &Lane, right: &Lane) -> Option<Decimal128Array> {
    let (wide, narrow) = match (is_narrow(left), is_narrow(right)) {
        (false, true) => (left, right),
        (true, false) => (right, left),
        _ => return None,
    };
    let (a, b) = (side::<Decimal128Type>(wide), side::<Decimal64Type>(narrow));
    let bits = a.array.values().iter().fold(0, |bits, value| bits | (value ^ (value >> 127)));
    #[expect(clippy::cast_possible_truncation, reason = "all values fit")]
    (bits >> 63 == 0).then(|| zip(a, b, |a, b| i128::from(a as i64) * i128::from(b)))
}

/// 64-bit lanes with a result of 128 bits: a product of two has at most 36 digits, and a sum of two at one scale 37, so that none can fail.
fn of_narrow(op: Op, (left, s1): (&Lane, u8), (right, s2): (&Lane, u8), scale: u8) -> Option<Decimal128Array> {
    if !is_narrow(left) || !is_narrow(right) {
        return None;
    }
    let (a, b) = (side::<Decimal64Type>(left), side::<Decimal64Type>(right));
    let factor = |from: u8| power_of_ten(scale.saturating_sub(from)).filter(|_| scale.saturating_sub(from) <= 18);
    let (f, g) = (factor(s1)?, factor(s2)?);
    Some(match op {
        Op::Multiply => zip(a, b, |a, b| i128::from(a) * i128::from(b)),
        Op::Add => zip(a, b, |a, b| i128::from(a) * f + i128::from(b) * g),
        Op::Subtract => zip(a, b, |a, b| i128::from(a) * f - i128::from(b) * g),
        Op::Divide => return None,
    })
}

/// 64-bit lanes; the result's type has room for every result, so wrapping arithmetic never wraps for a valid lane.
fn narrow<T: ArrowPrimitiveType<Native = i64>>(
    op: Op,
    a: Side<'_, T>,
    b: Side<'_, T>,
    (f, g): (i64, i64),
) -> PrimitiveArray<Decimal64Type> {
    match op {
        Op::Add if f == 1 && g == 1 => zip(a, b, i64::wrapping_add),
        Op::Subtract if f == 1 && g == 1 => zip(a, b, i64::wrapping_sub),
        Op::Add => zip(a, b, |a, b| a.wrapping_mul(f).wrapping_add(b.wrapping_mul(g))),
        Op::Subtract => zip(a, b, |a, b| a.wrapping_mul(f).wrapping_sub(b.wrapping_mul(g))),
        Op::Multiply | Op::Divide => zip(a, b, i64::wrapping_mul),
    }
}

/// `sum` (at scale `from`) / `count` at scale `to`, rounded half away from zero.
pub(crate) fn average(sum: i128, count: i64, from: u8, to: u8) -> Option<i128> {
    Some(divide_rounded(sum.checked_mul(power_of_ten(to.saturating_sub(from))?)?, count.into()))
}
