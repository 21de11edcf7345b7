//! Aggregates whose argument means other rows than the one that is aggregated (clause 6.11, nested window functions): the argument has
//! another value for each pair of a row and a row of its frame.
//!
//! ```text
//! SUM(CASE WHEN VALUE_OF(x AT CURRENT_ROW) > x THEN 1 ELSE 0 END) OVER (…)
//!
//! pair          0  1  2  3  4      of row 0 with its frame {0, 1}, of row 1 with {0, 1, 2}
//! current row   0  0  1  1  1      where VALUE_OF(x AT CURRENT_ROW) is taken from
//! frame row     0  1  0  1  2      where x is taken from
//! ```
//!
//! O(rows of all frames together): there is nothing that one frame leaves for the next.

use super::PartitionBounds;
use super::aggregate::{BLOCK, only_where_kept};
use super::frame::Frame;
use crate::control::checkpoint;
use crate::diagnostic::Result;
use crate::logical::{Aggregate, Expr, ExprKind, Function};
use crate::types::{RowMarker, SqlType, index};
use crate::{Batch, Groups, accumulator, aggregate_inputs, evaluate, kept};
use arrow::array::{Array, ArrayRef, AsArray, Int64Array, UInt32Array};
use arrow::compute::{self, is_not_null, kernels::zip::zip};
use std::sync::Arc;

/// A nested function of an argument.
struct Nested {
    marker: RowMarker,
    of: Of,
}

enum Of {
    Number,
    /// The values of all rows, and those that stand for rows outside the partition.
    Value {
        values: ArrayRef,
        default: Option<ArrayRef>,
        offset: i64,
    },
}

/// A row and a row of its frame.
struct Pairs {
    current: Vec<u32>,
    frame: Vec<u32>,
}

/// Whether an aggregate has such an argument.
pub(super) fn is_nested(aggregate: &Aggregate) -> bool {
    let mut found = false;
    let exprs = aggregate.arguments.iter().chain(&aggregate.filter).chain(aggregate.order.iter().map(|key| &key.expr));
    exprs.for_each(|expr| expr.walk(&mut |part| found |= nested_call(part).is_some()));
    found
}

fn nested_call(expr: &Expr) -> Option<(Function, &[Expr])> {
    if let ExprKind::Call(function @ (Function::RowNumberAt(_) | Function::ValueAt { .. }), args) = expr.kind() {
        Some((*function, args))
    } else {
        None
    }
}

/// An aggregate whose argument names a row of the frame (nested window functions, ISO/IEC 9075-2, 6.10): the argument is evaluated for each
/// row of each frame.
pub(super) fn aggregate(
    aggregate: &Aggregate,
    batch: &Batch,
    layout: &PartitionBounds,
    frames: &[Frame],
) -> Result<ArrayRef> {
    let mut nested = Vec::new();
    let mut replace = |expr: Expr| replaced(expr, batch, &mut nested);
    let plain = only_where_kept(aggregate).into_owned().map_exprs(&mut replace)?;
    let mut state = accumulator(&plain)?;
    let mut parts: Vec<ArrayRef> = Vec::new();
    let mut pairs = Pairs { current: Vec::new(), frame: Vec::new() };
    let mut first = 0;
    for (row, frame) in frames.iter().enumerate() {
        for other in frame.iter().cloned().flatten() {
            pairs.current.push(index(row));
            pairs.frame.push(index(other));
            if pairs.frame.len() >= BLOCK {
                checkpoint()?;
                put(state.as_mut(), &plain, (batch, &nested), (layout, frames), (&mut pairs, first..row + 1))?;
            }
        }
        if row + 1 - first >= BLOCK || row + 1 == frames.len() {
            put(state.as_mut(), &plain, (batch, &nested), (layout, frames), (&mut pairs, first..row + 1))?;
            parts.push(std::mem::replace(&mut state, accumulator(&plain)?).finish(row + 1 - first)?);
            first = row + 1;
        }
    }
    if parts.is_empty() {
        return state.finish(0);
    }
    Ok(compute::concat(&parts.iter().map(AsRef::as_ref).collect::<Vec<&dyn Array>>())?)
}

/// Puts the pairs into the groups of their rows, and empties them.
fn put(
    state: &mut dyn crate::Accumulator,
    aggregate: &Aggregate,
    (batch, nested): (&Batch, &[Nested]),
    (layout, frames): (&PartitionBounds, &[Frame]),
    (pairs, rows): (&mut Pairs, std::ops::Range<usize>),
) -> Result<()> {
    let Pairs { current, frame } = std::mem::replace(pairs, Pairs { current: Vec::new(), frame: Vec::new() });
    let of_frame = UInt32Array::from(frame);
    let mut beside = batch.take(&of_frame)?;
    for nested in nested {
        let column = column(nested, (&current, of_frame.values()), layout, frames)?;
        beside.columns.push(column);
    }
    let mut groups: Vec<u32> = current.iter().map(|row| row - index(rows.start)).collect();
    let mut inputs = aggregate_inputs(aggregate, &beside)?;
    if let Some(filter) = &aggregate.filter {
        let filter = kept(evaluate(filter, &beside)?.into_array(beside.rows)?.as_boolean());
        inputs = inputs.iter().map(|input| compute::filter(input, &filter)).collect::<Result<_, _>>()?;
        let mut keep = filter.values().iter();
        groups.retain(|_| keep.next().unwrap_or(false));
    }
    state.update(Groups::Each { ids: &groups, groups: rows.len() }, &inputs)
}

/// What a nested function gives for each pair.
fn column(
    nested: &Nested,
    (current, of_frame): (&[u32], &[u32]),
    layout: &PartitionBounds,
    frames: &[Frame],
) -> Result<ArrayRef> {
    let place = |current: u32, other: u32| {
        let row = current as usize;
        match nested.marker {
            RowMarker::BeginPartition => Some(layout.partition_of(row).start),
            RowMarker::EndPartition => layout.partition_of(row).end.checked_sub(1),
            RowMarker::CurrentRow => Some(row),
            RowMarker::FrameRow => Some(other as usize),
            RowMarker::BeginFrame => frames[row].iter().find(|range| !range.is_empty()).map(|range| range.start),
            RowMarker::EndFrame => frames[row].iter().rev().find(|range| !range.is_empty()).map(|range| range.end - 1),
        }
    };
    let pairs = current.iter().zip(of_frame);
    match &nested.of {
        Of::Number => {
            let number = |(row, other): (&u32, &u32)| {
                let start = layout.partition_of(*row as usize).start;
                place(*row, *other).and_then(|place| i64::try_from(place + 1 - start).ok())
            };
            Ok(Arc::new(pairs.map(number).collect::<Int64Array>()))
        }
        Of::Value { values, default, offset } => {
            let from = |(row, other): (&u32, &u32)| {
                let partition = layout.partition_of(*row as usize);
                let place = i64::try_from(place(*row, *other)?).ok()?.checked_add(*offset)?;
                let place = usize::try_from(place).ok()?;
                partition.contains(&place).then(|| index(place))
            };
            let from: UInt32Array = pairs.map(from).collect();
            let found = compute::take(values, &from, None)?;
            let Some(default) = default.as_ref().filter(|_| from.null_count() > 0) else { return Ok(found) };
            let default = compute::take(default, &UInt32Array::from(current.to_vec()), None)?;
            Ok(zip(&is_not_null(&from)?, &found, &default)?)
        }
    }
}

/// An argument with the columns after those of the batch in which its nested functions will stand.
fn replaced(expr: Expr, batch: &Batch, nested: &mut Vec<Nested>) -> Result<Expr> {
    let Some((function, args)) = nested_call(&expr) else {
        return expr.map_children(&mut |child| replaced(child, batch, nested));
    };
    let (sql_type, span): (SqlType, _) = (expr.sql_type(), expr.span());
    let mut arrays =
        args.iter().map(|arg| evaluate(arg, batch)?.into_array(batch.rows)).collect::<Result<Vec<_>>>()?.into_iter();
    let found = match (function, arrays.next()) {
        (Function::ValueAt { marker, offset }, Some(values)) => {
            Nested { marker, of: Of::Value { values, default: arrays.next(), offset } }
        }
        (Function::RowNumberAt(marker) | Function::ValueAt { marker, .. }, _) => Nested { marker, of: Of::Number },
        _ => return Ok(expr),
    };
    nested.push(found);
    let slot = batch.columns.len() + nested.len() - 1;
    Ok(Expr::new(ExprKind::Slot(slot), sql_type, span))
}
