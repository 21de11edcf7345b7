//! How many distinct values there are, from a few kilobytes (Flajolet et al., `HyperLogLog`, `AofA` 2007; small counts by linear counting
//! of empty registers). Sketches of parts are merged into one of all rows.

use super::keys::{hash_bytes, integer_lanes, mix};
use crate::types::approximate;
use arrow::array::{Array, ArrayRef, AsArray};
use arrow::row::{RowConverter, SortField};

/// Bits of a hash that choose a register: 4,096 registers, a standard error of 1.6 %.
const INDEX_BITS: u32 = 12;
const REGISTERS: usize = 1 << INDEX_BITS;

/// A sketch of a set of values. 4 KiB.
#[derive(Clone, Debug)]
pub struct Sketch {
    registers: Vec<u8>,
}

impl Default for Sketch {
    fn default() -> Self {
        Self { registers: vec![0; REGISTERS] }
    }
}

impl Sketch {
    /// Adds the values of an array that are not NULL. O(rows).
    ///
    /// # Errors
    /// What encoding values of a composite type brings.
    pub fn add(&mut self, array: &ArrayRef) -> crate::diagnostic::Result<()> {
        let rows = (0..array.len()).filter(|row| array.is_valid(*row));
        if let Some(lanes) = integer_lanes(array) {
            if array.null_count() == 0 {
                lanes.iter().for_each(|lane| self.put(mix(*lane)));
            } else {
                rows.for_each(|row| self.put(mix(lanes[row])));
            }
            return Ok(());
        }
        if let Some(texts) = array.as_string_view_opt() {
            rows.for_each(|row| self.put(hash_bytes(texts.value(row).as_bytes())));
        } else if let Some(bytes) = array.as_binary_view_opt() {
            rows.for_each(|row| self.put(hash_bytes(bytes.value(row))));
        } else {
            let converter = RowConverter::new(vec![SortField::new(array.data_type().clone())])?;
            let encoded = converter.convert_columns(std::slice::from_ref(array))?;
            rows.for_each(|row| self.put(hash_bytes(encoded.row(row).as_ref())));
        }
        Ok(())
    }

    fn put(&mut self, hash: u64) {
        let register = usize::try_from(hash >> (64 - INDEX_BITS)).unwrap_or(0);
        // One more than the zeros that the rest begins with.
        let rank = u8::try_from((hash << INDEX_BITS | 1 << (INDEX_BITS - 1)).leading_zeros() + 1).unwrap_or(u8::MAX);
        let known = &mut self.registers[register];
        *known = (*known).max(rank);
    }

    /// The sketch of both sets together.
    pub fn merge(&mut self, other: &Self) {
        self.registers.iter_mut().zip(&other.registers).for_each(|(a, b)| *a = (*a).max(*b));
    }

    /// About how many distinct values were added.
    pub fn distinct(&self) -> f64 {
        let registers = approximate(REGISTERS);
        let sum: f64 = self.registers.iter().map(|rank| f64::powi(2.0, -i32::from(*rank))).sum();
        let raw = 0.7213 / (1.0 + 1.079 / registers) * registers * registers / sum;
        let empty = approximate(self.registers.iter().filter(|rank| **rank == 0).count());
        if raw <= 2.5 * registers && empty > 0.0 { registers * (registers / empty).ln() } else { raw }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Int64Array, StringViewArray};
    use std::sync::Arc;

    #[test]
    fn counts_are_right_within_a_few_hundredths() {
        for count in [0_i64, 1, 10, 1_000, 12_000, 300_000] {
            let array: ArrayRef =
                Arc::new((0..count * 2).map(|n| (n % 7 != 3).then_some(n / 2)).collect::<Int64Array>());
            // Two numbers in a row are the same value; a value is missing only where both are NULL, which 7 never lets happen.
            let mut sketch = Sketch::default();
            sketch.add(&array).unwrap();
            let (found, exact) = (sketch.distinct(), approximate(count));
            assert!((found - exact).abs() <= exact * 0.05 + 0.5, "{found} for {exact}");
        }
    }

    #[test]
    fn parts_together_are_the_whole() {
        let text = |from: usize, to: usize| -> ArrayRef {
            Arc::new((from..to).map(|n| Some(format!("bed {n}"))).collect::<StringViewArray>())
        };
        let (mut a, mut b, mut whole) = (Sketch::default(), Sketch::default(), Sketch::default());
        a.add(&text(0, 5_000)).unwrap();
        b.add(&text(3_000, 9_000)).unwrap();
        whole.add(&text(0, 9_000)).unwrap();
        a.merge(&b);
        assert_eq!(a.registers, whole.registers);
    }
}
