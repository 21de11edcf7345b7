//! Sorted runs become one sequence of rows: k-way merge with a heap of runs (Knuth, The Art of Computer Programming, volume 3, 5.4.1).
//! O(rows × log runs); holds a block of each run.

use super::file::Block;
use super::rows::{Rows, RowsBuilder};
use super::{MemoryBudget, Order};
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::pipeline::Sequence;
use arrow::array::{Array, ArrayRef, new_empty_array};
use arrow::compute::interleave;
use std::collections::VecDeque;

/// Runs that are merged at once.
const FAN_IN: usize = 32;
/// Rows of a block of a run, where its share of the memory does not say fewer.
const RUN_BLOCK_ROWS: usize = 8192;

/// Rows in a file, in the order of their keys.
pub(crate) struct SortedRun(Vec<Block>);

impl SortedRun {
    /// Writes sorted rows, in blocks so small that one of each run can be held at once.
    pub(crate) fn write(sorted: &Batch, room: &MemoryBudget<'_>) -> Result<Self> {
        let mut writer = RunWriter::new(room);
        writer.push(sorted)?;
        Ok(Self(writer.blocks))
    }
}

struct RunWriter<'r> {
    room: &'r MemoryBudget<'r>,
    blocks: Vec<Block>,
}

impl<'r> RunWriter<'r> {
    fn new(room: &'r MemoryBudget<'r>) -> Self {
        Self { room, blocks: Vec::new() }
    }

    fn push(&mut self, sorted: &Batch) -> Result<()> {
        let width = sorted.bytes() / sorted.rows.max(1) + 1;
        let rows = (self.room.share / (2 * FAN_IN) / width).clamp(16, RUN_BLOCK_ROWS);
        for start in (0..sorted.rows).step_by(rows) {
            self.blocks.push(self.room.write(&sorted.slice(start, rows.min(sorted.rows - start)))?);
        }
        Ok(())
    }
}

/// A run that is being read.
struct Cursor {
    blocks: std::vec::IntoIter<Block>,
    /// The place of its block among those that the rows given next are taken from.
    block: usize,
    keys: arrow::row::Rows,
    row: usize,
}

/// All rows of the runs in their order.
pub(crate) fn merge(runs: Vec<SortedRun>, order: &Order<'_>, room: &MemoryBudget<'_>) -> Result<Rows> {
    let mut runs = VecDeque::from(runs);
    while runs.len() > FAN_IN {
        let some = runs.drain(..FAN_IN).collect();
        let mut writer = RunWriter::new(room);
        Merge::new(some, order)?.run(room, &mut |batch| writer.push(&batch))?;
        runs.push_back(SortedRun(writer.blocks));
    }
    let mut rows = RowsBuilder::new(room.clone());
    let mut at = Sequence::default();
    Merge::new(runs.into(), order)?.run(room, &mut |batch| {
        at.batch += 1;
        rows.push(at, batch)
    })?;
    Ok(rows.into_rows())
}

struct Merge<'o> {
    order: &'o Order<'o>,
    cursors: Vec<Cursor>,
    /// Places of cursors, the one with the least row first.
    heap: Vec<usize>,
    blocks: Vec<Batch>,
}

impl<'o> Merge<'o> {
    fn new(runs: Vec<SortedRun>, order: &'o Order<'o>) -> Result<Self> {
        let mut merge = Self { order, cursors: Vec::new(), heap: Vec::new(), blocks: Vec::new() };
        for SortedRun(blocks) in runs {
            let mut blocks = blocks.into_iter();
            let Some(first) = blocks.next() else { continue };
            let batch = first.read()?;
            let keys = order.encoded(&batch)?;
            merge.cursors.push(Cursor { blocks, block: merge.blocks.len(), keys, row: 0 });
            merge.blocks.push(batch);
        }
        merge.heap = (0..merge.cursors.len()).collect();
        for at in (0..merge.heap.len() / 2).rev() {
            merge.sift(at);
        }
        Ok(merge)
    }

    fn comes_first(&self, a: usize, b: usize) -> bool {
        let row = |cursor: usize| self.cursors[cursor].keys.row(self.cursors[cursor].row);
        row(a).cmp(&row(b)).then(a.cmp(&b)).is_lt()
    }

    /// Lets the cursor at this place of the heap sink to where it belongs.
    fn sift(&mut self, mut at: usize) {
        loop {
            let mut least = at;
            for child in [2 * at + 1, 2 * at + 2] {
                if child < self.heap.len() && self.comes_first(self.heap[child], self.heap[least]) {
                    least = child;
                }
            }
            if least == at {
                return;
            }
            self.heap.swap(at, least);
            at = least;
        }
    }

    fn run(mut self, room: &MemoryBudget<'_>, emit: &mut dyn FnMut(Batch) -> Result<()>) -> Result<()> {
        let mut places: Vec<(usize, usize)> = Vec::with_capacity(RUN_BLOCK_ROWS);
        while let Some(first) = self.heap.first().copied() {
            let cursor = &mut self.cursors[first];
            places.push((cursor.block, cursor.row));
            cursor.row += 1;
            let ended = cursor.row == cursor.keys.num_rows();
            if ended || places.len() == RUN_BLOCK_ROWS {
                room.control.check()?;
                emit(self.gather(&places)?)?;
                places.clear();
            }
            if ended && !self.advance(first)? {
                let last = self.heap.len() - 1;
                self.heap.swap_remove(0);
                if last == 0 {
                    break;
                }
            }
            self.sift(0);
        }
        Ok(())
    }

    /// Goes on to the next block of a run; not where there is none.
    fn advance(&mut self, cursor: usize) -> Result<bool> {
        let Some(next) = self.cursors[cursor].blocks.next() else {
            let block = self.cursors[cursor].block;
            // No row of it is wanted any more.
            let column = |column: &ArrayRef| new_empty_array(column.data_type());
            self.blocks[block] = Batch::new(self.blocks[block].columns.iter().map(column).collect(), 0);
            return Ok(false);
        };
        let batch = next.read()?;
        let keys = self.order.encoded(&batch)?;
        let cursor = &mut self.cursors[cursor];
        (cursor.keys, cursor.row) = (keys, 0);
        self.blocks[cursor.block] = batch;
        Ok(true)
    }

    fn gather(&self, places: &[(usize, usize)]) -> Result<Batch> {
        let width = self.blocks.first().map_or(0, |block| block.columns.len());
        let column = |at: usize| {
            let arrays: Vec<&dyn Array> = self.blocks.iter().map(|block| block.columns[at].as_ref()).collect();
            interleave(&arrays, places)
        };
        let columns = (0..width).map(column).collect::<Result<_, _>>()?;
        Ok(Batch::new(columns, places.len()))
    }
}
