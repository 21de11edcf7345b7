//! Which rows a sample takes (clause 7.6).

use super::Arguments;
use crate::problem::Problem;
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray};
use arrow::datatypes::{Float64Type, Int64Type};
use std::sync::Arc;

/// Rows of a page, which SYSTEM takes or leaves as a whole.
const PAGE_BITS: u32 = 8;

/// Whether the row at a place belongs to a sample of so many percent: the same answer for the same place and seed.
pub(super) fn sampled(pages: bool, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let places = arguments.array(0)?;
    let (percents, seeds) = (arguments.array(1)?, arguments.array(2)?);
    let percents = percents.as_primitive::<Float64Type>();
    let seeds = seeds.as_primitive::<Int64Type>();
    let taken = places.as_primitive::<Int64Type>().values().iter().enumerate().map(|(row, place)| {
        if percents.is_null(row) || !(0.0..=100.0).contains(&percents.value(row)) {
            let share = if percents.is_null(row) { "NULL".to_owned() } else { percents.value(row).to_string() };
            return Err(Problem::BadSampleSize { share });
        }
        if seeds.is_null(row) {
            return Err(Problem::BadRepeat);
        }
        let unit = if pages { place >> PAGE_BITS } else { *place };
        Ok(position(unit.cast_unsigned(), seeds.value(row).cast_unsigned()) * 100.0 < percents.value(row))
    });
    Ok(Arc::new(taken.map(|taken| taken.map(Some)).collect::<Result<BooleanArray, Problem>>()?))
}

/// A number between 0 and 1 for a place: two rounds of a multiplicative hash (Steele, Lea and Flood, OOPSLA 2014).
fn position(place: u64, seed: u64) -> f64 {
    let mix = |mut value: u64| {
        value = (value ^ (value >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        value = (value ^ (value >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        value ^ (value >> 31)
    };
    let hash = mix(mix(seed.wrapping_add(0x9e37_79b9_7f4a_7c15)).wrapping_add(place));
    crate::types::approximate(hash >> 11) / crate::types::approximate(1u64 << 53)
}
