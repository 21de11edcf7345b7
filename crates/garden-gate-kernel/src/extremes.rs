//! Where the least and the greatest value of an array stand.

use super::keys::{integer_lanes, lane_bounds};
use arrow::array::{Array, ArrayRef, AsArray};

/// The rows of the least and of the greatest value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Extremes {
    pub least: usize,
    pub greatest: usize,
}

/// The rows of the least and of the greatest value that are not NULL; `None` when there is none, or for types whose lanes are neither
/// integers nor texts. O(rows).
pub fn extremes(array: &ArrayRef) -> Option<Extremes> {
    if let Some((min, max)) = lane_bounds(array) {
        let lanes = integer_lanes(array)?;
        let row_of = |wanted: i64| (0..lanes.len()).find(|row| lanes[*row] == wanted && array.is_valid(*row));
        return Some(Extremes { least: row_of(min)?, greatest: row_of(max)? });
    }
    text_extremes(array)
}

/// The first four bytes of a text as a number: texts whose numbers differ compare as these do.
fn first_bytes(view: u128) -> u32 {
    // Length in the low 32 bits, then the first bytes in their order; those that a short text lacks are zero.
    #[expect(clippy::cast_possible_truncation, reason = "32 of the 128 bits")]
    let bytes = (view >> 32) as u32;
    bytes.swap_bytes()
}

fn text_extremes(array: &ArrayRef) -> Option<Extremes> {
    let texts = array.as_string_view_opt()?;
    let views = texts.views();
    let first = (0..texts.len()).find(|row| texts.is_valid(*row))?;
    let mut found = Extremes { least: first, greatest: first };
    let (mut low, mut high) = (first_bytes(views[first]), first_bytes(views[first]));
    for row in first + 1..texts.len() {
        let bytes = first_bytes(views[row]);
        // Most lie between, which the first bytes say without a look at the text.
        if bytes > low && bytes < high || texts.is_null(row) {
            continue;
        }
        let text = texts.value(row);
        if bytes <= low && text < texts.value(found.least) {
            (found.least, low) = (row, bytes);
        } else if bytes >= high && text > texts.value(found.greatest) {
            (found.greatest, high) = (row, bytes);
        }
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Decimal128Array, Float64Array, Int32Array, StringViewArray};
    use std::sync::Arc;

    #[test]
    fn rows_of_least_and_greatest_values() {
        let cases: [(ArrayRef, Option<(usize, usize)>); 7] = [
            (Arc::new(Int32Array::from(vec![Some(3), None, Some(-1), Some(7), Some(7)])), Some((2, 3))),
            // What stands in the lane of a NULL, zero, is no value.
            (Arc::new(Int32Array::from(vec![None, Some(5), Some(4)])), Some((2, 1))),
            (Arc::new(Int32Array::from(vec![None, None])), None),
            (
                Arc::new(StringViewArray::from(vec![Some("bed"), None, Some("bean"), Some("bee"), Some("")])),
                Some((4, 3)),
            ),
            // The first bytes are alike, or shorter than four.
            (
                Arc::new(StringViewArray::from(vec!["plant ashes", "plant", "plant beds in the sun", "pl"])),
                Some((3, 2)),
            ),
            (Arc::new(Float64Array::from(vec![1.0])), None),
            (Arc::new(Decimal128Array::from(vec![1_i128 << 90])), None),
        ];
        for (array, expected) in cases {
            let found = extremes(&array).map(|found| (found.least, found.greatest));
            assert_eq!(found, expected, "{array:?}");
        }
    }
}
