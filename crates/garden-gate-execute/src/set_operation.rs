//! INTERSECT and EXCEPT (clause 7.17): equal rows are counted on both sides. O(rows) expected; holds every different row once.

use super::spill::{MemoryBudget, Rows};
use crate::diagnostic::Result;
use crate::kernel::{Batch, GroupTable};
use crate::logical::SetOp;
use crate::types::index;
use arrow::array::UInt32Array;

/// The rows of the left side that the operator keeps, in their order. With `all`, as often as the counts of both sides say.
pub(super) fn compare(op: SetOp, all: bool, sides: [Rows; 2], room: &MemoryBudget<'_>) -> Result<Rows> {
    let [left, right] = sides;
    if left.segments.is_empty() {
        return Ok(left);
    }
    let (left, mut held) = left.into_memory(room)?;
    let left = Batch::concat_within(&left, None)?;
    let types = left.columns.iter().map(|column| column.data_type().clone()).collect();
    let mut table = GroupTable::new(types)?;
    let mut ids = Vec::new();
    let mut counts: Vec<u64> = Vec::new();
    for segment in &right.segments {
        room.control.check()?;
        let batch = segment.read()?;
        table.assign(&batch.columns, batch.rows, &mut ids)?;
        counts.resize(counts.len().max(table.len()), 0);
        ids.iter().for_each(|id| counts[*id as usize] += 1);
    }
    drop(right);
    table.assign(&left.columns, left.rows, &mut ids)?;
    held.add(table.bytes())?;
    counts.resize(counts.len().max(table.len()).max(1), 0);
    let mut given = vec![false; counts.len()];
    let mut kept = Vec::new();
    for (row, id) in ids.iter().enumerate() {
        let at = *id as usize;
        // Each left row uses up one equal row of the right side.
        let partner = counts[at] > 0;
        if all {
            counts[at] = counts[at].saturating_sub(1);
        }
        let wanted = partner == (op == SetOp::Intersect);
        if wanted && (all || !given[at]) {
            given[at] = true;
            kept.push(index(row));
        }
    }
    Rows::counted(vec![left.take(&UInt32Array::from(kept))?], room)
}
