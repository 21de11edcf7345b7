//! Rows after the others of a list of parts.

use super::stored_segment::StoredSegment;
use crate::catalog::SEGMENT_ROWS;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use std::sync::Arc;

/// Puts rows after those of `parts[from..]`. Parts at the end become one when there are four of about one size, as long as that is no more
/// than a segment: each row is moved O(log rows) times, and those of large batches once. Parts before `from` stay as they are.
pub(super) fn append(parts: &mut Vec<Arc<StoredSegment>>, from: usize, batch: &Batch) -> Result<()> {
    for offset in (0..batch.rows).step_by(SEGMENT_ROWS) {
        let rows = SEGMENT_ROWS.min(batch.rows - offset);
        parts.push(Arc::new(StoredSegment::new(batch.slice(offset, rows).columns, rows)));
        merge_tail(parts, from, batch.columns.len())?;
    }
    Ok(())
}

fn merge_tail(parts: &mut Vec<Arc<StoredSegment>>, first: usize, width: usize) -> Result<()> {
    const TIER: usize = 4;
    let tier = |part: &Arc<StoredSegment>| part.count().max(1).ilog(TIER);
    while let Some(last) = parts.last().map(tier) {
        let open = &parts[first.min(parts.len())..];
        let alike = open.iter().rev().take_while(|part| tier(part) <= last).count();
        let mut rows = 0;
        let fits = |part: &&Arc<StoredSegment>| {
            rows += part.count();
            rows <= SEGMENT_ROWS
        };
        let fitting = open.iter().rev().take(alike).take_while(fits).count();
        if alike < TIER || fitting < 2 {
            return Ok(());
        }
        let from = parts.len() - fitting;
        let all = parts[from..].iter().map(|part| {
            let columns = (0..width).map(|at| part.column(at, 0)).collect::<Result<_>>()?;
            Ok(Batch::new(columns, part.count()))
        });
        let merged = Batch::concat(&all.collect::<Result<Vec<Batch>>>()?, None)?;
        parts.truncate(from);
        parts.push(Arc::new(StoredSegment::new(merged.columns, merged.rows)));
    }
    Ok(())
}
