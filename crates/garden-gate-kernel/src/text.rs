use super::Lane;
use crate::control::reserve;
use crate::diagnostic::Result;
use arrow::array::{Array, AsArray, StringViewBuilder};
use std::sync::Arc;

/// Bytes that joined texts take at most: those of both sides, of a constant side once a row.
fn joined_bytes(a: usize, b: usize, [left, right]: [&Lane; 2], rows: usize) -> usize {
    let of = |bytes: usize, lane: &Lane| bytes.saturating_mul(if lane.is_constant() { rows } else { 1 });
    of(a, left).saturating_add(of(b, right)).saturating_add(rows * size_of::<u128>())
}

/// `a || b`: VARCHAR views in and out; NULL in either gives NULL. O(bytes).
pub(super) fn concat(left: &Lane, right: &Lane) -> Result<Lane> {
    let (a, b) = (left.array().as_string_view(), right.array().as_string_view());
    let rows = if left.is_constant() { b.len() } else { a.len() };
    let lane = |constant: bool, row: usize| if constant { 0 } else { row };
    reserve(joined_bytes(a.total_buffer_bytes_used(), b.total_buffer_bytes_used(), [left, right], rows), rows)?;
    let mut builder = StringViewBuilder::with_capacity(rows);
    let mut scratch = String::new();
    for row in 0..rows {
        let (i, j) = (lane(left.is_constant(), row), lane(right.is_constant(), row));
        if a.is_null(i) || b.is_null(j) {
            builder.append_null();
        } else {
            scratch.clear();
            scratch.push_str(a.value(i));
            scratch.push_str(b.value(j));
            builder.append_value(&scratch);
        }
    }
    Ok(Lane::like(Arc::new(builder.finish()), left.is_constant() && right.is_constant()))
}

/// `a || b` of binary strings.
pub(super) fn concat_binary(left: &Lane, right: &Lane) -> Result<Lane> {
    let (a, b) = (left.array().as_binary_view(), right.array().as_binary_view());
    let rows = if left.is_constant() { b.len() } else { a.len() };
    let lane = |constant: bool, row: usize| if constant { 0 } else { row };
    reserve(joined_bytes(a.total_buffer_bytes_used(), b.total_buffer_bytes_used(), [left, right], rows), rows)?;
    let mut builder = arrow::array::BinaryViewBuilder::with_capacity(rows);
    for row in 0..rows {
        let (i, j) = (lane(left.is_constant(), row), lane(right.is_constant(), row));
        if a.is_null(i) || b.is_null(j) {
            builder.append_null();
        } else {
            builder.append_value([a.value(i), b.value(j)].concat());
        }
    }
    Ok(Lane::like(Arc::new(builder.finish()), left.is_constant() && right.is_constant()))
}
