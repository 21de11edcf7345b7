//! Arrays and rows as values: making them, taking them apart, comparing them.

use super::{Batch, Lane, evaluate::evaluate};
use crate::diagnostic::Result;
use crate::logical::{CompareOp, Expr};
use crate::types::SqlType;
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, ListArray, StructArray, new_empty_array};
use arrow::buffer::OffsetBuffer;
use arrow::compute;
use arrow::datatypes::{DataType, Field};
use std::sync::Arc;

/// One array value whose elements are the single lanes of `parts`.
pub(super) fn list(parts: &[ArrayRef], element: SqlType) -> Result<ArrayRef> {
    let values = if parts.is_empty() {
        new_empty_array(&element.arrow())
    } else {
        compute::concat(&parts.iter().map(AsRef::as_ref).collect::<Vec<_>>())?
    };
    let length = values.len();
    Ok(list_of(values, OffsetBuffer::from_lengths([length]), element))
}

/// Lists of consecutive runs of `values`.
pub(crate) fn list_of(values: ArrayRef, offsets: OffsetBuffer<i32>, element: SqlType) -> ArrayRef {
    let field = Arc::new(Field::new("element", element.arrow(), true));
    Arc::new(ListArray::new(field, offsets, values, None))
}

/// The lists with other values in the places of theirs.
pub(super) fn relist(list: &ListArray, values: ArrayRef, element: SqlType) -> ArrayRef {
    let field = Arc::new(Field::new("element", element.arrow(), true));
    Arc::new(ListArray::new(field, list.offsets().clone(), values, list.nulls().cloned()))
}

/// Rows of these columns.
pub(super) fn row(columns: Vec<ArrayRef>, sql_type: SqlType, rows: usize) -> ArrayRef {
    let DataType::Struct(fields) = sql_type.arrow() else {
        return arrow::array::new_null_array(&sql_type.arrow(), rows);
    };
    if fields.is_empty() {
        return Arc::new(StructArray::new_empty_fields(rows, None));
    }
    Arc::new(StructArray::new(fields, columns, None))
}

/// `ARRAY[a, b, …]` for every row.
pub(super) fn array_constructor(terms: &[Expr], sql_type: SqlType, batch: &Batch) -> Result<Lane> {
    let SqlType::Array(element) = sql_type else { return Ok(Lane::Constant(list(&[], SqlType::Null)?)) };
    let columns =
        terms.iter().map(|term| evaluate(term, batch)?.into_array(batch.rows)).collect::<Result<Vec<ArrayRef>>>()?;
    let values = if columns.is_empty() {
        new_empty_array(&element.arrow())
    } else {
        let parts: Vec<&dyn Array> = columns.iter().map(AsRef::as_ref).collect();
        let order: Vec<(usize, usize)> =
            (0..batch.rows).flat_map(|row| (0..columns.len()).map(move |column| (column, row))).collect();
        compute::interleave(&parts, &order)?
    };
    let offsets = OffsetBuffer::from_lengths(std::iter::repeat_n(columns.len(), batch.rows));
    Ok(Lane::Array(list_of(values, offsets, *element)))
}

/// `ROW(a, b, …)` for every row.
pub(super) fn row_constructor(terms: &[Expr], sql_type: SqlType, batch: &Batch) -> Result<Lane> {
    let columns =
        terms.iter().map(|term| evaluate(term, batch)?.into_array(batch.rows)).collect::<Result<Vec<ArrayRef>>>()?;
    Ok(Lane::Array(row(columns, sql_type, batch.rows)))
}

/// A field of every row; NULL for a row that is NULL itself.
pub(super) fn field(operand: &Lane, place: usize) -> Result<Lane> {
    let rows = operand.array().as_struct();
    let column = rows.column(place);
    let array = match rows.nulls() {
        None => Arc::clone(column),
        Some(_) => compute::nullif(column, &compute::is_null(rows)?)?,
    };
    Ok(Lane::like(array, operand.is_constant()))
}

/// `a || b` of arrays.
pub(super) fn concat_arrays(left: &ArrayRef, right: &ArrayRef, element: SqlType) -> Result<ArrayRef> {
    let (a, b) = (left.as_list::<i32>(), right.as_list::<i32>());
    let parts: [&dyn Array; 2] = [a.values(), b.values()];
    let mut order = Vec::new();
    let mut lengths = Vec::with_capacity(left.len());
    let range = |list: &ListArray, row: usize| -> std::ops::Range<usize> {
        let offsets = list.value_offsets();
        usize::try_from(offsets[row]).unwrap_or(0)..usize::try_from(offsets[row + 1]).unwrap_or(0)
    };
    for row in 0..left.len() {
        let before = order.len();
        if a.is_valid(row) && b.is_valid(row) {
            order.extend(range(a, row).map(|at| (0, at)));
            order.extend(range(b, row).map(|at| (1, at)));
        }
        lengths.push(order.len() - before);
    }
    let values = compute::interleave(&parts, &order)?;
    let field = Arc::new(Field::new("element", element.arrow(), true));
    let nulls = arrow::buffer::NullBuffer::union(a.nulls(), b.nulls());
    Ok(Arc::new(ListArray::new(field, OffsetBuffer::from_lengths(lengths), values, nulls)))
}

/// Rows or arrays compared with three-valued logic (clause 8.2): field by field, the first that differs decides; UNKNOWN where an
/// undecided field is NULL.
pub(super) fn compare(op: CompareOp, left: &ArrayRef, right: &ArrayRef, sql_type: SqlType) -> Result<BooleanArray> {
    let lanes = |row: usize| -> Result<Option<std::cmp::Ordering>> { order_of(left, right, sql_type, row) };
    if matches!(op, CompareOp::Equal | CompareOp::NotEqual) {
        return (0..left.len())
            .map(|row| Ok(equal_at((left, row), (right, row), sql_type)?.map(|same| same == (op == CompareOp::Equal))))
            .collect();
    }
    (0..left.len())
        .map(|row| {
            Ok(lanes(row)?.map(|order| match op {
                CompareOp::Less => order.is_lt(),
                CompareOp::LessOrEqual => order.is_le(),
                CompareOp::Greater => order.is_gt(),
                CompareOp::Equal | CompareOp::NotEqual | CompareOp::GreaterOrEqual => order.is_ge(),
            }))
        })
        .collect()
}

fn order_of(left: &ArrayRef, right: &ArrayRef, sql_type: SqlType, row: usize) -> Result<Option<std::cmp::Ordering>> {
    order_at((left, row), (right, row), sql_type)
}

type At<'a> = (&'a ArrayRef, usize);

/// The pairs of parts that two composite values have in common, and how their numbers of parts compare.
fn parts(a: At<'_>, b: At<'_>, sql_type: SqlType) -> (Vec<(ArrayRef, ArrayRef, SqlType)>, std::cmp::Ordering) {
    if let SqlType::Row(fields) = sql_type {
        let (x, y) = (a.0.as_struct(), b.0.as_struct());
        let part = |(at, field): (usize, &crate::types::RowField)| {
            (x.column(at).slice(a.1, 1), y.column(at).slice(b.1, 1), field.sql_type)
        };
        (fields.iter().enumerate().map(part).collect(), std::cmp::Ordering::Equal)
    } else if let SqlType::Array(element) = sql_type {
        let (x, y) = (a.0.as_list::<i32>().value(a.1), b.0.as_list::<i32>().value(b.1));
        let count = x.len().min(y.len());
        let part = |at: usize| (x.slice(at, 1), y.slice(at, 1), *element);
        ((0..count).map(part).collect(), x.len().cmp(&y.len()))
    } else {
        (Vec::new(), std::cmp::Ordering::Equal)
    }
}

fn is_composite(sql_type: SqlType) -> bool {
    matches!(sql_type, SqlType::Row(_) | SqlType::Array(_))
}

/// FALSE when some part differs, else UNKNOWN when one is NULL, else TRUE.
fn equal_at(a: At<'_>, b: At<'_>, sql_type: SqlType) -> Result<Option<bool>> {
    if a.0.is_null(a.1) || b.0.is_null(b.1) {
        return Ok(None);
    }
    if !is_composite(sql_type) {
        return Ok(order_at(a, b, sql_type)?.map(std::cmp::Ordering::is_eq));
    }
    let (parts, lengths) = parts(a, b, sql_type);
    if lengths.is_ne() {
        return Ok(Some(false));
    }
    let mut unknown = false;
    for (x, y, part) in &parts {
        match equal_at((x, 0), (y, 0), *part)? {
            Some(false) => return Ok(Some(false)),
            Some(true) => {}
            None => unknown = true,
        }
    }
    Ok((!unknown).then_some(true))
}

fn order_at(a: At<'_>, b: At<'_>, sql_type: SqlType) -> Result<Option<std::cmp::Ordering>> {
    if a.0.is_null(a.1) || b.0.is_null(b.1) {
        return Ok(None);
    }
    if !is_composite(sql_type) {
        let compare = arrow::array::make_comparator(a.0, b.0, compute::SortOptions::default())?;
        return Ok(Some(compare(a.1, b.1)));
    }
    let (parts, lengths) = parts(a, b, sql_type);
    for (x, y, part) in &parts {
        match order_at((x, 0), (y, 0), *part)? {
            Some(std::cmp::Ordering::Equal) => {}
            decided => return Ok(decided),
        }
    }
    Ok(Some(lengths))
}

/// Whether the array in each row has the value as an element; NULL parts are the same as NULL.
pub(super) fn contains(arrays: &ArrayRef, values: &ArrayRef) -> Result<ArrayRef> {
    let lists = arrays.as_list::<i32>();
    let converter = arrow::row::RowConverter::new(vec![arrow::row::SortField::new(values.data_type().clone())])?;
    let wanted = converter.convert_columns(std::slice::from_ref(values))?;
    let known = converter.convert_columns(std::slice::from_ref(lists.values()))?;
    let offsets = lists.offsets();
    let found = (0..arrays.len()).map(|row| {
        let range = usize::try_from(offsets[row]).unwrap_or(0)..usize::try_from(offsets[row + 1]).unwrap_or(0);
        Some(range.into_iter().any(|at| known.row(at) == wanted.row(row)))
    });
    Ok(Arc::new(found.collect::<BooleanArray>()))
}
