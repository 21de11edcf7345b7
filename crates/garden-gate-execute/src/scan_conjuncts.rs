//! What the conditions of a scan ask of single columns, for passing over parts of the table.

use super::index_read::{Key, as_key};
use crate::diagnostic::Result;
use crate::kernel::lane_bounds;
use crate::logical::{CompareOp, Expr, ExprKind, Scan};
use crate::storage::LaneRange;
use arrow::array::ArrayRef;

/// The ranges in which a row has to lie.
pub(super) fn ranges(scan: &Scan) -> Result<Vec<LaneRange>> {
    let mut ranges = Vec::new();
    for term in &scan.filter {
        let Some((column, bounds)) = bounded(scan, term) else { continue };
        let mut range = LaneRange { column, least: i64::MAX, greatest: i64::MIN };
        let mut known = true;
        for (op, value) in bounds {
            match as_key(value, scan.source.columns()[column].sql_type)? {
                // A row that is compared with NULL is to be counted as UNKNOWN.
                Key::Null | Key::Beyond => known = false,
                Key::Value(value, exact) => known &= widen(&mut range, op, &value, exact),
            }
        }
        if known {
            ranges.push(range);
        }
    }
    Ok(ranges)
}

/// The column that a condition is about, by its place in the table, and the constants it is compared with, any of which may do.
fn bounded<'e>(scan: &Scan, term: &'e Expr) -> Option<(usize, Vec<(CompareOp, &'e Expr)>)> {
    let place = |expr: &Expr| match expr.kind() {
        ExprKind::Column(id) => {
            let (_, place) = *scan.columns.iter().find(|(known, _)| known == id)?;
            (scan.source.columns().get(place)?.sql_type == expr.sql_type()).then_some(place)
        }
        _ => None,
    };
    let constant = |expr: &Expr| expr.columns().is_empty() && !expr.has_subquery();
    match term.kind() {
        ExprKind::Compare(op, sides) => match sides.as_ref() {
            [left, right] if constant(right) => Some((place(left)?, vec![(*op, right)])),
            [left, right] if constant(left) => Some((place(right)?, vec![(op.flipped(), left)])),
            _ => None,
        },
        ExprKind::In(operand, list) if list.iter().all(constant) => {
            Some((place(operand)?, list.iter().map(|value| (CompareOp::Equal, value)).collect()))
        }
        _ => None,
    }
}

/// Takes in the values that compare so with a constant; `false` when they can't be told. Of a constant that is not a value of the column's
/// type the nearest one counts, whichever side of it that lies on.
fn widen(range: &mut LaneRange, op: CompareOp, value: &ArrayRef, exact: bool) -> bool {
    let Some((lane, _)) = lane_bounds(value) else { return false };
    let (below, above) = if exact { (lane, lane) } else { (lane.saturating_sub(1), lane.saturating_add(1)) };
    let (least, greatest) = match op {
        CompareOp::Equal => (below, above),
        CompareOp::Less if exact => (i64::MIN, lane.saturating_sub(1)),
        CompareOp::Greater if exact => (lane.saturating_add(1), i64::MAX),
        CompareOp::Less | CompareOp::LessOrEqual => (i64::MIN, above),
        CompareOp::Greater | CompareOp::GreaterOrEqual => (below, i64::MAX),
        CompareOp::NotEqual => return false,
    };
    range.least = range.least.min(least);
    range.greatest = range.greatest.max(greatest);
    true
}
