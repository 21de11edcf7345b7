//! Keys of groups and joins as 64-bit lanes, where their type allows it.

use arrow::array::{Array, ArrayRef, ArrowPrimitiveType, AsArray, PrimitiveArray};
use arrow::buffer::NullBuffer;
use arrow::datatypes::{
    DataType, Date32Type, Decimal64Type, DurationMicrosecondType, Int16Type, Int32Type, Int64Type,
    IntervalYearMonthType, Time64MicrosecondType, TimestampMicrosecondType,
};
use std::borrow::Cow;

/// The values of an array of an integer-like type as 64-bit integers, equal exactly when the values are equal.
///
/// `None` for types that do not fit. Lanes under a NULL hold anything.
#[expect(clippy::wildcard_enum_match_arm, reason = "the types of arrays are not ours, and most have no such lanes")]
pub fn integer_lanes(array: &ArrayRef) -> Option<Cow<'_, [i64]>> {
    fn wide<T: ArrowPrimitiveType<Native = i64>>(array: &ArrayRef) -> Cow<'_, [i64]> {
        Cow::Borrowed(array.as_primitive::<T>().values())
    }
    fn narrow<T: ArrowPrimitiveType>(array: &ArrayRef) -> Cow<'_, [i64]>
    where
        i64: From<T::Native>,
    {
        array.as_primitive::<T>().values().iter().map(|value| i64::from(*value)).collect()
    }
    Some(match array.data_type() {
        DataType::Int16 => narrow::<Int16Type>(array),
        DataType::Int32 => narrow::<Int32Type>(array),
        DataType::Int64 => wide::<Int64Type>(array),
        DataType::Date32 => narrow::<Date32Type>(array),
        DataType::Decimal64(..) => wide::<Decimal64Type>(array),
        DataType::Time64(_) => wide::<Time64MicrosecondType>(array),
        DataType::Timestamp(..) => wide::<TimestampMicrosecondType>(array),
        DataType::Duration(_) => wide::<DurationMicrosecondType>(array),
        DataType::Interval(_) => narrow::<IntervalYearMonthType>(array),
        _ => return None,
    })
}

/// The array of `data_type` whose lanes these are; the inverse of [`integer_lanes`].
#[expect(
    clippy::wildcard_enum_match_arm,
    reason = "the types of arrays are not ours; what has lanes and no narrower ones has 64 bits"
)]
/// The array of a type whose values are given as 64-bit lanes, as [`integer_lanes`] made them.
pub fn from_integer_lanes(values: Vec<i64>, nulls: Option<NullBuffer>, data_type: &DataType) -> ArrayRef {
    fn narrow<T: ArrowPrimitiveType>(values: &[i64], nulls: Option<NullBuffer>) -> ArrayRef
    where
        T::Native: TryFrom<i64>,
    {
        // Every value came from this type, so it fits.
        let values: Vec<T::Native> =
            values.iter().map(|value| T::Native::try_from(*value).unwrap_or_default()).collect();
        std::sync::Arc::new(PrimitiveArray::<T>::new(values.into(), nulls))
    }
    fn wide<T: ArrowPrimitiveType<Native = i64>>(
        values: Vec<i64>,
        nulls: Option<NullBuffer>,
        data_type: &DataType,
    ) -> ArrayRef {
        std::sync::Arc::new(PrimitiveArray::<T>::new(values.into(), nulls).with_data_type(data_type.clone()))
    }
    match data_type {
        DataType::Int16 => narrow::<Int16Type>(&values, nulls),
        DataType::Int32 => narrow::<Int32Type>(&values, nulls),
        DataType::Date32 => narrow::<Date32Type>(&values, nulls),
        DataType::Interval(_) => narrow::<IntervalYearMonthType>(&values, nulls),
        DataType::Decimal64(..) => wide::<Decimal64Type>(values, nulls, data_type),
        DataType::Time64(_) => wide::<Time64MicrosecondType>(values, nulls, data_type),
        DataType::Timestamp(..) => wide::<TimestampMicrosecondType>(values, nulls, data_type),
        DataType::Duration(_) => wide::<DurationMicrosecondType>(values, nulls, data_type),
        _ => wide::<Int64Type>(values, nulls, data_type),
    }
}

/// Spreads the bits of a key over the entire word (the finaliser of Stafford's mix 13).
#[inline]
pub(super) fn mix(key: i64) -> u64 {
    let mut bits = key.cast_unsigned();
    bits = (bits ^ (bits >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    bits = (bits ^ (bits >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    bits ^ (bits >> 31)
}

/// A hash of key bytes, the same for the life of the process.
#[inline]
pub(super) fn hash_bytes(bytes: &[u8]) -> u64 {
    use std::hash::{BuildHasher, Hasher};
    static STATE: std::sync::LazyLock<foldhash::fast::FixedState> =
        std::sync::LazyLock::new(|| foldhash::fast::FixedState::with_seed(0x6a7e));
    let mut hasher = STATE.build_hasher();
    hasher.write(bytes);
    hasher.finish()
}

/// The part of `parts`, a power of two, that a hash belongs to: by bits that hash tables themselves use last.
#[inline]
pub(super) fn part_of(hash: u64, parts: usize) -> usize {
    (hash >> 48) as usize & (parts - 1)
}

/// The least and the greatest value of an array of an integer-like type; `None` for other types, and where there are only NULLs.
pub fn lane_bounds(array: &ArrayRef) -> Option<(i64, i64)> {
    lane_order(array).0
}

/// [`lane_bounds`], and whether each value is greater than the one before it, without a NULL.
pub fn lane_order(array: &ArrayRef) -> (Option<(i64, i64)>, bool) {
    let Some(lanes) = integer_lanes(array) else { return (None, false) };
    let valid = |row: &usize| array.is_valid(*row);
    let (Some(first), Some(last)) = (lanes.first(), lanes.last()) else { return (None, true) };
    if array.null_count() > 0 {
        let least = (0..lanes.len()).filter(valid).map(|row| lanes[row]).min();
        let greatest = (0..lanes.len()).filter(valid).map(|row| lanes[row]).max();
        return (least.zip(greatest), false);
    }
    if lanes.windows(2).all(|pair| pair[0] < pair[1]) {
        return (Some((*first, *last)), true);
    }
    (lanes.iter().min().copied().zip(lanes.iter().max().copied()), false)
}

/// Adds a key to the hashes of its rows, by its row encoding.
fn add_encoded(key: &ArrayRef, hashes: &mut [u64]) {
    let field = arrow::row::SortField::new(key.data_type().clone());
    let rows = arrow::row::RowConverter::new(vec![field]);
    let Ok(rows) = rows.and_then(|converter| converter.convert_columns(std::slice::from_ref(key))) else { return };
    for (hash, row) in hashes.iter_mut().zip(&rows) {
        *hash = mix(hash.rotate_left(7).wrapping_add(hash_bytes(row.as_ref())).cast_signed());
    }
}

/// Cuts rows into parts by the hash of their keys: for each part its rows, in order. Equal keys, NULLs among them, fall into one
/// part, whatever arrays they stand in. Keys of a type that can't be encoded do not count.
pub fn hash_parts(keys: &[ArrayRef], rows: usize, parts: usize) -> Vec<Vec<u32>> {
    let mut hashes = vec![0_u64; rows];
    for key in keys {
        let nulls = key.nulls();
        let is_null = |row: usize| nulls.is_some_and(|nulls| nulls.is_null(row));
        let mut add = |row: usize, hash: u64| {
            let hash = if is_null(row) { 1 } else { hash };
            hashes[row] = mix(hashes[row].rotate_left(7).wrapping_add(hash).cast_signed());
        };
        if let Some(lanes) = integer_lanes(key) {
            lanes.iter().enumerate().for_each(|(row, lane)| add(row, lane.cast_unsigned()));
        } else if *key.data_type() == DataType::Utf8View {
            let texts = key.as_string_view();
            (0..rows).for_each(|row| add(row, hash_bytes(texts.value(row).as_bytes())));
        } else {
            add_encoded(key, &mut hashes);
        }
    }
    let mut places = vec![Vec::with_capacity(rows / parts); parts];
    for (row, hash) in hashes.iter().enumerate() {
        places[part_of(*hash, parts)].push(crate::types::index(row));
    }
    places
}
