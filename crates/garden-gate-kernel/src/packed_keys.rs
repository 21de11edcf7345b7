//! Several integer keys as one: each is a digit of a number, by its distance from the minimum.
//!
//! ```text
//! part 1..2000, supplier 1..100     →     (part - 1) * 100 + (supplier - 1)
//! ```

use super::keys::{integer_lanes, lane_bounds};
use arrow::array::{Array, ArrayRef};

/// The lane of a row of which a key lies outside of all that were packed: no packed key.
const OUTSIDE: i64 = -1;

/// How keys are packed.
#[derive(Debug)]
pub(super) struct PackedKeys {
    /// For each key the minimum, and how many there are up to the maximum.
    digits: Vec<(i64, i64)>,
}

impl PackedKeys {
    /// A packing for keys between the bounds of these; `None` where they are not integers, or do not fit one.
    pub(super) fn of(keys: &[ArrayRef]) -> Option<Self> {
        let mut all = 1_i64;
        let mut digits = Vec::with_capacity(keys.len());
        for key in keys {
            let (min, max) = lane_bounds(key)?;
            let count = max.checked_sub(min)?.checked_add(1)?;
            all = all.checked_mul(count)?;
            digits.push((min, count));
        }
        Some(Self { digits })
    }

    /// The keys of rows, packed; [`OUTSIDE`] for a row that equals none of those that the packing was made for.
    pub(super) fn pack(&self, keys: &[ArrayRef], rows: usize) -> Vec<i64> {
        let mut packed = vec![0_i64; rows];
        for (key, (min, count)) in keys.iter().zip(&self.digits) {
            let lanes = integer_lanes(key).unwrap_or_default();
            for (packed, lane) in packed.iter_mut().zip(lanes.iter()) {
                let digit = lane.wrapping_sub(*min);
                let is_inside = (digit.cast_unsigned() < count.cast_unsigned()) & (*packed != OUTSIDE);
                *packed = if is_inside { *packed * count + digit } else { OUTSIDE };
            }
            if let Some(nulls) = key.nulls().filter(|nulls| nulls.null_count() > 0) {
                packed.iter_mut().zip(nulls).filter(|(_, valid)| !valid).for_each(|(packed, _)| *packed = OUTSIDE);
            }
        }
        packed
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Int32Array, Int64Array};
    use std::sync::Arc;

    #[test]
    fn packed_keys_are_the_same_where_all_keys_are() {
        let small = |values: &[Option<i32>]| -> ArrayRef { Arc::new(Int32Array::from(values.to_vec())) };
        let large = |values: &[Option<i64>]| -> ArrayRef { Arc::new(Int64Array::from(values.to_vec())) };
        let built = [small(&[Some(-5), Some(4), None, Some(-5)]), large(&[Some(100), Some(103), Some(100), None])];
        let packing = PackedKeys::of(&built).unwrap();
        assert_eq!(packing.pack(&built, 4), [0, 39, OUTSIDE, OUTSIDE]);
        let probe = [
            small(&[Some(4), Some(5), Some(-5), Some(i32::MIN), None]),
            large(&[Some(103), Some(103), Some(99), Some(i64::MAX), Some(100)]),
        ];
        assert_eq!(packing.pack(&probe, 5), [39, OUTSIDE, OUTSIDE, OUTSIDE, OUTSIDE]);
        let far = large(&[Some(0), Some(1 << 40)]);
        assert!(PackedKeys::of(&[far.clone(), far]).is_none(), "they do not fit 63 bits");
        assert!(PackedKeys::of(&[small(&[None])]).is_none());
    }
}
