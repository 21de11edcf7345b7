//! The few width conversions the engine needs, each with the reason why it is safe.

/// A count or figure as a floating-point number, for estimates and ratios only.
#[expect(clippy::cast_precision_loss, reason = "estimates need no more than 53 bits")]
pub fn approximate(value: impl TryInto<i128>) -> f64 {
    value.try_into().map_or(f64::MAX, |value| value as f64)
}

/// A row or group number as a 32-bit lane; batches and hash tables are bounded far below 2^32 rows.
#[expect(
    clippy::cast_possible_truncation,
    reason = "rows gathered in one place are bounded by `Batch::concat`, groups by memory"
)]
/// The number of a row or a place as its 32 bits: a segment, a batch and a table of groups have fewer than 2³² of them.
pub fn index(value: usize) -> u32 {
    value as u32
}

/// The entire part of a floating-point number, when 64 bits hold it.
pub fn whole_part(value: f64) -> Option<i64> {
    // 2^63 is the first that does not fit; both bounds are exact.
    #[expect(clippy::cast_possible_truncation, reason = "within the bounds, only the fraction is cut")]
    (-9_223_372_036_854_775_808.0..9_223_372_036_854_775_808.0).contains(&value).then_some(value as i64)
}
