use super::{MemoryBudget, Order, Rows};
use crate::control::MemoryReservation;
use crate::diagnostic::Result;
use crate::kernel::Batch;

/// Rows that are sorted by keys, some whole groups of equal keys at a time.
pub(crate) struct WholeGroups<'r> {
    rows: std::vec::IntoIter<super::Segment>,
    order: &'r Order<'r>,
    room: &'r MemoryBudget<'r>,
    /// Rows whose group may go on.
    open: Vec<Batch>,
    held: MemoryReservation,
    /// Given back when all rows have been read.
    _source: Rows,
}

impl<'r> WholeGroups<'r> {
    /// The groups of rows that are sorted by the keys of `order`, one after the other.
    pub(crate) fn new(mut rows: Rows, order: &'r Order<'r>, room: &'r MemoryBudget<'r>) -> Self {
        let segments = std::mem::take(&mut rows.segments).into_iter();
        Self { rows: segments, order, room, open: Vec::new(), held: room.nothing(), _source: rows }
    }

    /// The next groups, about a quarter of the share, or one group that is larger.
    ///
    /// # Errors
    /// HY001 when one group alone is more than the memory limit.
    pub(crate) fn next(&mut self) -> Result<Option<Batch>> {
        loop {
            let Some(segment) = self.rows.next() else {
                let rest = std::mem::take(&mut self.open);
                return if rest.is_empty() { Ok(None) } else { Batch::concat(&rest, None).map(Some) };
            };
            self.room.control.check()?;
            let batch = segment.read()?;
            self.held.add(batch.bytes() + batch.rows * self.room.overhead)?;
            self.open.push(batch);
            if self.order.is_empty() || self.held.bytes() < self.room.share / 4 {
                continue;
            }
            let all = Batch::concat(&self.open, None)?;
            let keys = self.order.encoded(&all)?;
            let end = (1..all.rows).rev().find(|row| keys.row(*row) != keys.row(*row - 1));
            let Some(end) = end else {
                self.open = vec![all];
                continue;
            };
            let open = all.slice(end, all.rows - end);
            self.held.release();
            self.held.note(open.bytes() + open.rows * self.room.overhead);
            self.open = vec![open];
            return Ok(Some(all.slice(0, end)));
        }
    }
}
