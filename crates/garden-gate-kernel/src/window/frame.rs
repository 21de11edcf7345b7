use super::PartitionBounds;
use crate::diagnostic::{Error, Result};
use crate::logical::{ArithmeticOp, Direction, Expr, ExprKind, SortKey, WindowCall};
use crate::types::{FrameBound, FrameExclusion, FrameUnit, SqlType};
use crate::{Batch, evaluate, integer_lanes, problem::Problem, sort_options};
use arrow::array::{Array, ArrayRef, AsArray, make_comparator};
use arrow::datatypes::{Decimal128Type, Float32Type, Float64Type, Int64Type};
use std::ops::Range;

/// The rows that a row looks at: at most three runs, in order; without exclusion just the first.
pub(super) type Frame = [Range<usize>; 3];

pub(super) const NOTHING: Range<usize> = 0..0;

/// The frame of every row.
pub(super) fn frames(
    call: &WindowCall,
    batch: &Batch,
    layout: &PartitionBounds,
    order: &[SortKey],
) -> Result<Vec<Frame>> {
    let starts = bounds(&call.frame.start, (call, true), batch, layout, order)?;
    let ends = bounds(&call.frame.end, (call, false), batch, layout, order)?;
    let frame = |(row, (start, end)): (usize, (usize, usize))| {
        let partition = layout.partition_of(row);
        let whole = start.max(partition.start)..end.min(partition.end);
        let whole = if whole.start < whole.end { whole } else { NOTHING };
        exclude(whole, call.frame.exclude, row, layout)
    };
    Ok(starts.into_iter().zip(ends).enumerate().map(frame).collect())
}

fn exclude(whole: Range<usize>, exclusion: FrameExclusion, row: usize, layout: &PartitionBounds) -> Frame {
    let without = |cut: Range<usize>| -> [Range<usize>; 2] {
        let before = whole.start..cut.start.clamp(whole.start, whole.end);
        let behind = cut.end.clamp(whole.start, whole.end)..whole.end;
        [before, behind]
    };
    match exclusion {
        FrameExclusion::NoOthers => [whole, NOTHING, NOTHING],
        FrameExclusion::CurrentRow => {
            let [before, behind] = without(row..row + 1);
            [before, behind, NOTHING]
        }
        FrameExclusion::Group => {
            let [before, behind] = without(layout.peers_of(row));
            [before, behind, NOTHING]
        }
        FrameExclusion::Ties => {
            let [before, behind] = without(layout.peers_of(row));
            let own = if whole.contains(&row) { row..row + 1 } else { NOTHING };
            [before, own, behind]
        }
    }
}

/// For every row where its frame starts, or the place after its end.
fn bounds(
    bound: &FrameBound<Expr>,
    (call, is_start): (&WindowCall, bool),
    batch: &Batch,
    layout: &PartitionBounds,
    order: &[SortKey],
) -> Result<Vec<usize>> {
    let rows = 0..batch.rows;
    let (distance, forward) = match bound {
        FrameBound::UnboundedPreceding => return Ok(rows.map(|row| layout.partition_of(row).start).collect()),
        FrameBound::UnboundedFollowing => return Ok(rows.map(|row| layout.partition_of(row).end).collect()),
        FrameBound::CurrentRow => {
            let place = |row: usize| match call.frame.unit {
                FrameUnit::Rows => row..row + 1,
                FrameUnit::Range | FrameUnit::Groups => layout.peers_of(row),
            };
            return Ok(rows.map(|row| if is_start { place(row).start } else { place(row).end }).collect());
        }
        FrameBound::Preceding(distance) => (distance, false),
        FrameBound::Following(distance) => (distance, true),
    };
    let distances = evaluate(distance, batch)?.into_array(batch.rows)?;
    check(&distances).map_err(|error| error.at(distance.span()))?;
    if call.frame.unit == FrameUnit::Range {
        return range_bounds((distance, forward), is_start, batch, layout, order);
    }
    let distances = distances.as_primitive::<Int64Type>();
    let place = |row: usize| {
        let far = usize::try_from(distances.value(row)).unwrap_or(usize::MAX);
        if call.frame.unit == FrameUnit::Rows {
            // The row so far away; a frame ends after it.
            return match (forward, is_start) {
                (true, true) => row.saturating_add(far),
                (true, false) => row.saturating_add(far).saturating_add(1),
                (false, true) => row.saturating_sub(far),
                (false, false) => (row + 1).saturating_sub(far),
            };
        }
        let partition = layout.partition_of(row);
        let (group, first) = (layout.group[row] as usize, layout.group[partition.start] as usize);
        let last = layout.group[partition.end - 1] as usize;
        let target = if forward { group.checked_add(far) } else { group.checked_sub(far) };
        match target.filter(|target| (first..=last).contains(target)) {
            Some(target) if is_start => layout.groups[target].start,
            Some(target) => layout.groups[target].end,
            None if forward => partition.end,
            None => partition.start,
        }
    };
    Ok(rows.map(place).collect())
}

/// No distance may be NULL or negative.
fn check(distances: &ArrayRef) -> Result<()> {
    let lanes = integer_lanes(distances);
    let wide = distances.as_primitive_opt::<Decimal128Type>();
    let (real, double) = (distances.as_primitive_opt::<Float32Type>(), distances.as_primitive_opt::<Float64Type>());
    let negative = |row: usize| {
        lanes.as_ref().is_some_and(|lanes| lanes[row] < 0)
            || wide.is_some_and(|wide| wide.value(row) < 0)
            || real.is_some_and(|real| real.value(row) < 0.0)
            || double.is_some_and(|double| double.value(row) < 0.0)
    };
    let bad = (0..distances.len()).any(|row| distances.is_null(row) || negative(row));
    if bad { Err(Error::from_facts(&Problem::BadDistance)) } else { Ok(()) }
}

/// RANGE with a distance: the first row whose key is at least, or past, the key of the row plus or minus the distance.
fn range_bounds(
    (distance, forward): (&Expr, bool),
    is_start: bool,
    batch: &Batch,
    layout: &PartitionBounds,
    order: &[SortKey],
) -> Result<Vec<usize>> {
    let Some(key) = order.first() else { return Ok(vec![0; batch.rows]) };
    let up = forward == (key.direction == Direction::Ascending);
    let op = if up { ArithmeticOp::Add } else { ArithmeticOp::Subtract };
    let (key_type, span) = (key.expr.sql_type(), key.expr.span());
    // Whole numbers are widened, so that a bound outside their type is not an error.
    let wide = match (key_type.digits(), distance.sql_type().digits()) {
        (Some((_, s1)), Some((_, s2))) => SqlType::numeric(38, s1.max(s2)),
        _ => key_type,
    };
    let widen = |expr: &Expr, to: SqlType| {
        if expr.sql_type() == to || !to.is_number() {
            expr.clone()
        } else {
            Expr::new(ExprKind::Cast(Box::new(expr.clone())), to, span)
        }
    };
    let own = widen(&key.expr, wide);
    let target = Expr::new(ExprKind::Arithmetic(op, Box::new([own.clone(), widen(distance, wide)])), wide, span);
    let keys = evaluate(&own, batch)?.into_array(batch.rows)?;
    let targets = evaluate(&target, batch)?.into_array(batch.rows)?;
    let compare = make_comparator(&keys, &targets, sort_options(key))?;
    Ok((0..batch.rows)
        .map(|row| {
            if keys.is_null(row) {
                // NULL is as far from every value as can be: its frame is its peers.
                let peers = layout.peers_of(row);
                return if is_start { peers.start } else { peers.end };
            }
            let partition = layout.partition_of(row);
            let (mut low, mut high) = (partition.start, partition.end);
            while low < high {
                let middle = low + (high - low) / 2;
                let order = compare(middle, row);
                let before = if is_start { order.is_lt() } else { order.is_le() };
                if before {
                    low = middle + 1;
                } else {
                    high = middle;
                }
            }
            low
        })
        .collect())
}
