//! How a column of many rows is packed in the file, so that it takes little room and is read about as fast as it would be plainly:
//!
//! ```text
//! ┌──────┬───────┬──────────────┬───────────────────────────────────────────────┐
//! │ MARK │ pack  │ length (u64) │ payload, as it is (0) or compressed (1)       │
//! └──────┴───────┴──────────────┴───────────────────────────────────────────────┘
//! payload: form, then by form
//!   PLAIN       the column as an Arrow IPC stream
//!   TEXTS       the same of texts or binary strings, with offsets instead of views
//!   OFFSETS     base, factor, stream of an empty column of the type, stream of (value − base) / factor
//!   STEPS       the same, of a column whose values do not descend: each less the one before it
//!   DICTIONARY  stream of the values that occur, stream of their numbers
//! ```
//!
//! Offsets and numbers have one, two or four bytes, as they need (frame of reference and dictionary coding; Abadi, Madden, Ferreira:
//! Integrating compression and execution in column-oriented database systems, SIGMOD 2006). What is left goes through the fastest level
//! of Zstandard. A stream begins with four bytes 0xFF, by which a column that is not packed is distinguished.

use crate::diagnostic::Result;
use crate::kernel::{from_integer_lanes, integer_lanes, own_texts};
use arrow::array::{Array, ArrayRef, AsArray, PrimitiveArray, RecordBatch};
use arrow::buffer::NullBuffer;
use arrow::datatypes::{ArrowPrimitiveType, DataType, Field, Schema, UInt8Type, UInt16Type, UInt32Type};
use arrow::ipc::reader::StreamReader;
use arrow::ipc::writer::StreamWriter;
use std::borrow::Cow;
use std::collections::HashMap;
use std::hash::Hash;
use std::sync::Arc;

/// Columns of fewer rows are a plain stream.
const LEAST_ROWS: usize = 256;
/// Fewer bytes are not worth compressing.
const LEAST_BYTES: usize = 1024;
/// Level of the compression: reading is to be as fast as the disk, writing not much slower.
#[cfg(feature = "compression")]
const LEVEL: i32 = 1;
const MARK: u8 = 1;
const HEADER: usize = 10;

const PLAIN: u8 = 0;
const TEXTS: u8 = 1;
const OFFSETS: u8 = 2;
const STEPS: u8 = 3;
const DICTIONARY: u8 = 4;

/// A column as bytes. O(rows).
pub(super) fn packed(column: &ArrayRef) -> Result<Vec<u8>> {
    let column = if column.offset() == 0 { Arc::clone(column) } else { arrow::compute::concat(&[column.as_ref()])? };
    let column = own_texts(&column);
    if column.len() < LEAST_ROWS {
        return stream(&column);
    }
    let payload = match integer_lanes(&column) {
        Some(lanes) => numbers(&column, &lanes)?,
        None => texts(&column)?,
    };
    let payload = match payload {
        Some(payload) => payload,
        None => [&[PLAIN], stream(&column)?.as_slice()].concat(),
    };
    Ok(compressed(payload))
}

/// Bytes after a header that says how long they are, and whether they are compressed: only where that saves a tenth.
pub(super) fn compressed(payload: Vec<u8>) -> Vec<u8> {
    let mut bytes = vec![MARK, 0];
    bytes.extend((payload.len() as u64).to_le_bytes());
    if payload.len() >= LEAST_BYTES
        && let Some(compressed) = codec::compress(&payload)
        && compressed.len() < payload.len() - payload.len() / 10
    {
        bytes[1] = 1;
        bytes.extend(compressed);
    } else {
        bytes.extend(payload);
    }
    bytes
}

/// What [`compressed`] was given; `None` for bytes that it did not make.
pub(super) fn decompressed(bytes: &[u8]) -> Option<Cow<'_, [u8]>> {
    let (header, rest) = bytes.split_at_checked(HEADER).filter(|(header, _)| header[0] == MARK)?;
    let length = usize::try_from(u64::from_le_bytes(header[2..].try_into().ok()?)).ok()?;
    if header[1] == 0 {
        return (rest.len() == length).then_some(Cow::Borrowed(rest));
    }
    codec::decompress(rest, length).map(Cow::Owned)
}

/// Whether these bytes are compressed, and this build has nothing to read them with.
pub(super) fn needs_codec(bytes: &[u8]) -> bool {
    bytes.starts_with(&[MARK, 1]) && !cfg!(feature = "compression")
}

#[cfg(feature = "compression")]
mod codec {
    /// Compressed bytes.
    pub(super) fn compress(bytes: &[u8]) -> Option<Vec<u8>> {
        zstd::bulk::compress(bytes, super::LEVEL).ok()
    }

    /// The bytes again; `length` says how many.
    pub(super) fn decompress(bytes: &[u8], length: usize) -> Option<Vec<u8>> {
        zstd::bulk::decompress(bytes, length).ok()
    }
}

#[cfg(not(feature = "compression"))]
mod codec {
    /// Without the feature `compression` nothing is compressed.
    pub(super) fn compress(_: &[u8]) -> Option<Vec<u8>> {
        None
    }

    /// Nothing was compressed.
    pub(super) fn decompress(_: &[u8], _: usize) -> Option<Vec<u8>> {
        None
    }
}

/// The column that these bytes stand for; `None` for bytes that are none.
pub(super) fn unpacked(bytes: &[u8]) -> Option<ArrayRef> {
    if bytes.first() != Some(&MARK) {
        return from_stream(bytes);
    }
    from_payload(&decompressed(bytes)?)
}

fn from_payload(payload: &[u8]) -> Option<ArrayRef> {
    let (form, rest) = payload.split_first()?;
    match *form {
        PLAIN => from_stream(rest),
        TEXTS => {
            let texts = from_stream(rest)?;
            let views = if *texts.data_type() == DataType::Utf8 { DataType::Utf8View } else { DataType::BinaryView };
            arrow::compute::cast(&texts, &views).ok()
        }
        OFFSETS | STEPS => from_numbers(*form == STEPS, rest),
        DICTIONARY => {
            let (values, codes) = sections(rest)?;
            arrow::compute::take(&from_stream(values)?, &from_stream(codes)?, None).ok()
        }
        _ => None,
    }
}

/// Numbers less a base and divided by what divides all of them, or by their place among those that occur, where that is shorter.
fn numbers(column: &ArrayRef, lanes: &[i64]) -> Result<Option<Vec<u8>>> {
    let nulls = column.nulls();
    let is_valid = |row: usize| nulls.is_none_or(|nulls| nulls.is_valid(row));
    let valid = || lanes.iter().enumerate().filter(|(row, _)| is_valid(*row)).map(|(_, lane)| *lane);
    let (Some(least), Some(greatest)) = (valid().min(), valid().max()) else { return Ok(None) };
    let ascends = nulls.is_none() && lanes.windows(2).all(|pair| pair[0] <= pair[1]);
    let base = if ascends { lanes[0] } else { least };
    let mut before = base;
    let offset = |(row, lane): (usize, &i64)| {
        if !is_valid(row) {
            return 0;
        }
        let offset = distance(if ascends { before } else { base }, *lane);
        before = *lane;
        offset
    };
    let mut offsets: Vec<u64> = lanes.iter().enumerate().map(offset).collect();
    let factor = offsets.iter().fold(0, |factor, offset| if factor == 1 { 1 } else { divisor(factor, *offset) }).max(1);
    if factor > 1 {
        offsets.iter_mut().for_each(|offset| *offset /= factor);
    }
    let width = width_of(offsets.iter().copied().max().unwrap_or(0));
    if width > 2
        && distance(least, greatest) > u64::from(u16::MAX)
        && let Some((firsts, codes)) =
            dictionary(lanes.iter().enumerate().map(|(row, lane)| is_valid(row).then_some(*lane)))
        && width_of(firsts.len() as u64) < width
    {
        return coded(column, &firsts, codes).map(Some);
    }
    if width >= column.data_type().primitive_width().unwrap_or(0) {
        return Ok(None);
    }
    let mut bytes = vec![if ascends { STEPS } else { OFFSETS }];
    bytes.extend(base.to_le_bytes());
    bytes.extend(factor.to_le_bytes());
    put(&mut bytes, &stream(&arrow::array::new_empty_array(column.data_type()))?);
    bytes.extend(stream(&narrow(&offsets, nulls.cloned())?)?);
    Ok(Some(bytes))
}

fn from_numbers(steps: bool, bytes: &[u8]) -> Option<ArrayRef> {
    let (base, rest) = bytes.split_at_checked(8)?;
    let (factor, rest) = rest.split_at_checked(8)?;
    let base = i64::from_le_bytes(base.try_into().ok()?);
    let factor = u64::from_le_bytes(factor.try_into().ok()?).cast_signed();
    let (shape, offsets) = sections(rest)?;
    let data_type = from_stream(shape)?.data_type().clone();
    let offsets = from_stream(offsets)?;
    let lanes: Vec<i64> = match offsets.data_type() {
        DataType::UInt8 => widened::<UInt8Type>(&offsets, steps, base, factor),
        DataType::UInt16 => widened::<UInt16Type>(&offsets, steps, base, factor),
        DataType::UInt32 => widened::<UInt32Type>(&offsets, steps, base, factor),
        _ => return None,
    };
    Some(from_integer_lanes(lanes, offsets.nulls().cloned(), &data_type))
}

fn widened<T: ArrowPrimitiveType>(offsets: &ArrayRef, steps: bool, base: i64, factor: i64) -> Vec<i64>
where
    i64: From<T::Native>,
{
    let offsets = offsets.as_primitive::<T>().values().iter().map(|offset| i64::from(*offset).wrapping_mul(factor));
    if !steps {
        return offsets.map(|offset| base.wrapping_add(offset)).collect();
    }
    let mut sum = base;
    offsets
        .map(|offset| {
            sum = sum.wrapping_add(offset);
            sum
        })
        .collect()
}

/// Texts and binary strings by their place among those that occur, where few do; else with offsets instead of views.
fn texts(column: &ArrayRef) -> Result<Option<Vec<u8>>> {
    let plain = match column.data_type() {
        DataType::Utf8View => {
            if let Some((firsts, codes)) = dictionary(column.as_string_view().iter()) {
                return coded(column, &firsts, codes).map(Some);
            }
            DataType::Utf8
        }
        DataType::BinaryView => {
            if let Some((firsts, codes)) = dictionary(column.as_binary_view().iter()) {
                return coded(column, &firsts, codes).map(Some);
            }
            DataType::Binary
        }
        _ => return Ok(None),
    };
    // More than 2 GB of text have no 32-bit offsets: they stay as they are.
    let Ok(texts) = arrow::compute::cast(column, &plain) else { return Ok(None) };
    Ok(Some([&[TEXTS], stream(&texts)?.as_slice()].concat()))
}

/// The row in which each value occurs first, and for each row the number of its value; `None` when more than half of the rows have a
/// value of their own.
fn dictionary<T: Eq + Hash>(values: impl ExactSizeIterator<Item = Option<T>>) -> Option<(Vec<u32>, Vec<Option<u64>>)> {
    let most = values.len() / 2;
    let mut known: HashMap<T, u64, foldhash::fast::RandomState> = HashMap::default();
    let mut firsts = Vec::new();
    let mut codes = Vec::with_capacity(values.len());
    for (row, value) in values.enumerate() {
        let Some(value) = value else {
            codes.push(None);
            continue;
        };
        let next = firsts.len() as u64;
        let code = *known.entry(value).or_insert_with(|| {
            firsts.push(crate::types::index(row));
            next
        });
        if firsts.len() > most {
            return None;
        }
        codes.push(Some(code));
    }
    Some((firsts, codes))
}

fn coded(column: &ArrayRef, firsts: &[u32], codes: Vec<Option<u64>>) -> Result<Vec<u8>> {
    let values = arrow::compute::take(column, &arrow::array::UInt32Array::from(firsts.to_vec()), None)?;
    let nulls = NullBuffer::from_iter(codes.iter().map(Option::is_some));
    let codes: Vec<u64> = codes.into_iter().map(|code| code.unwrap_or(0)).collect();
    let codes = narrow(&codes, Some(nulls).filter(|nulls| nulls.null_count() > 0))?;
    let mut bytes = vec![DICTIONARY];
    put(&mut bytes, &stream(&own_texts(&values))?);
    bytes.extend(stream(&codes)?);
    Ok(bytes)
}

/// Bytes that the offset needs.
fn width_of(greatest: u64) -> usize {
    match greatest {
        0..=0xFF => 1,
        0x100..=0xFFFF => 2,
        0x1_0000..=0xFFFF_FFFF => 4,
        _ => 8,
    }
}

/// Offsets as an array of as few bytes as they need, at most four.
fn narrow(offsets: &[u64], nulls: Option<NullBuffer>) -> Result<ArrayRef> {
    fn of<T: ArrowPrimitiveType>(
        offsets: &[u64],
        nulls: Option<NullBuffer>,
        as_native: fn(u64) -> T::Native,
    ) -> ArrayRef {
        let values: Vec<T::Native> = offsets.iter().map(|offset| as_native(*offset)).collect();
        Arc::new(PrimitiveArray::<T>::new(values.into(), nulls))
    }
    #[expect(clippy::cast_possible_truncation, reason = "the greatest fits")]
    Ok(match width_of(offsets.iter().copied().max().unwrap_or(0)) {
        1 => of::<UInt8Type>(offsets, nulls, |offset| offset as u8),
        2 => of::<UInt16Type>(offsets, nulls, |offset| offset as u16),
        _ => of::<UInt32Type>(offsets, nulls, |offset| offset as u32),
    })
}

/// How far it is up from one number to another.
fn distance(from: i64, to: i64) -> u64 {
    to.wrapping_sub(from).cast_unsigned()
}

/// The greatest number that divides both (Euclid).
fn divisor(mut a: u64, mut b: u64) -> u64 {
    while b > 0 {
        (a, b) = (b, a % b);
    }
    a
}

fn put(bytes: &mut Vec<u8>, section: &[u8]) {
    bytes.extend((section.len() as u64).to_le_bytes());
    bytes.extend(section);
}

/// A first section after its length, and what follows it.
fn sections(bytes: &[u8]) -> Option<(&[u8], &[u8])> {
    let (length, rest) = bytes.split_at_checked(8)?;
    rest.split_at_checked(usize::try_from(u64::from_le_bytes(length.try_into().ok()?)).ok()?)
}

/// A column as an Arrow IPC stream of one batch.
fn stream(column: &ArrayRef) -> Result<Vec<u8>> {
    let schema = Arc::new(Schema::new(vec![Field::new("c", column.data_type().clone(), true)]));
    let mut writer = StreamWriter::try_new(Vec::new(), &schema)?;
    writer.write(&RecordBatch::try_new(schema, vec![Arc::clone(column)])?)?;
    Ok(writer.into_inner()?)
}

fn from_stream(bytes: &[u8]) -> Option<ArrayRef> {
    let mut reader = StreamReader::try_new(bytes, None).ok()?;
    let batch = reader.next()?.ok()?;
    batch.columns().first().cloned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{
        BooleanArray, Date32Array, Decimal64Array, Float64Array, Int16Array, Int32Array, Int64Array, StringViewArray,
        TimestampMicrosecondArray,
    };

    fn mixed(row: i64) -> i64 {
        row.wrapping_mul(0x9E37_79B9_7F4A_7C15_u64.cast_signed())
    }

    #[test]
    fn columns_come_back_and_take_little_room() {
        const ROWS: i64 = 10_000;
        let rows = || 0..ROWS;
        let every = |nth: i64, row: i64, value: i64| (row % nth != 0).then_some(value);
        let small = |number: i64| i32::try_from(number).unwrap();
        // A column, and the most bytes for a row that it may take.
        let columns: Vec<(&str, ArrayRef, i64)> = vec![
            ("numbers in order", Arc::new(Int64Array::from_iter_values(rows().map(|row| i64::MIN + 7 * row))), 1),
            ("random numbers", Arc::new(Int64Array::from_iter_values(rows().map(mixed))), 9),
            (
                "the ends",
                Arc::new(Int64Array::from_iter_values(
                    rows().map(|row| if row % 2 == 0 { i64::MIN } else { i64::MAX }),
                )),
                1,
            ),
            ("few, far apart", Arc::new(Int64Array::from_iter_values(rows().map(|row| mixed(row % 10)))), 1),
            (
                "minutes",
                Arc::new(
                    TimestampMicrosecondArray::from_iter_values(
                        rows().map(|row| mixed(row).rem_euclid(50_000) * 60_000_000),
                    )
                    .with_timezone("UTC"),
                ),
                3,
            ),
            ("days", Arc::new(Date32Array::from_iter(rows().map(|row| every(3, row, mixed(row) % 200).map(small)))), 3),
            ("shorts", Arc::new(Int16Array::from_iter_values(rows().map(|row| i16::try_from(row % 1000).unwrap()))), 2),
            ("small", Arc::new(Int32Array::from_iter(rows().map(|row| every(2, row, row % 5).map(small)))), 1),
            ("NULLs", Arc::new(Int32Array::from_iter(rows().map(|_| None::<i32>))), 1),
            (
                "prices",
                Arc::new(
                    Decimal64Array::from_iter_values(rows().map(|row| row % 90 * 100))
                        .with_precision_and_scale(12, 2)
                        .unwrap(),
                ),
                1,
            ),
            (
                "words",
                Arc::new(StringViewArray::from_iter(
                    rows().map(|row| (row % 7 > 0).then(|| format!("a word of many letters {}", row % 50))),
                )),
                1,
            ),
            ("names", Arc::new(StringViewArray::from_iter_values(rows().map(|row| format!("name {row}")))), 8),
            ("truth", Arc::new(BooleanArray::from_iter(rows().map(|row| (row % 3 > 0).then_some(row % 2 == 0)))), 1),
            ("shares", Arc::new(Float64Array::from_iter_values(rows().map(|row| f64::from(small(row)) / 4.0))), 9),
        ];
        for (name, column, most) in columns {
            let bytes = packed(&column).unwrap();
            let found = unpacked(&bytes).unwrap();
            assert_eq!(found.as_ref(), column.as_ref(), "{name}");
            assert!(i64::try_from(bytes.len()).unwrap() <= most * ROWS, "{name}: {} bytes", bytes.len());
            let part = column.slice(17, 300);
            assert_eq!(unpacked(&packed(&part).unwrap()).unwrap().as_ref(), part.as_ref(), "{name}, a slice");
            let few = column.slice(3, 5);
            assert_eq!(unpacked(&packed(&few).unwrap()).unwrap().as_ref(), few.as_ref(), "{name}, a few rows");
            assert!((0..bytes.len().min(200)).all(|cut| unpacked(&bytes[..cut]).is_none()), "{name}, cut off");
        }
    }
}
