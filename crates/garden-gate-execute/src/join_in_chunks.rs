//! Joins without equalities whose sides do not fit into memory: one side is held in chunks, and for each all rows of the other are gone
//! through. Then the rows are brought into the order that a join in memory gives. O(chunks × rows of the other side), besides the matches.

use super::compile::Compiler;
use super::join_parts::Joined;
use super::pipeline::{Pipeline, Sequence, Sink};
use super::sort::{Sort, numbered};
use super::spill::{MemoryBudget, Rows, RowsBuilder};
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::logical::JoinKind;
use crate::physical::{JoinRange, JoinSpec, Node};

/// A chunk, a batch of the other side with what it meets, and the sort of the result.
const HOLDERS: usize = 4;
/// Bytes that a row of a chunk takes besides its own: its place among sorted values, and what they are searched by.
const CHUNK_ROW: usize = 48;

/// Whether a join can be done chunk by chunk: the rows of the side that leads are then those of the chunks. A full join has two such sides,
/// and the first of the matches of a row are known only among all of them.
pub(super) fn fits(spec: &JoinSpec) -> bool {
    matches!(spec.kind, JoinKind::Inner | JoinKind::Left | JoinKind::Semi | JoinKind::Anti) && spec.nearest.is_none()
}

impl<'a> Compiler<'a> {
    /// Joins chunk by chunk; `rows` are those of the build side.
    pub(super) fn join_in_chunks(
        &self,
        node: &'a Node,
        spec: &'a JoinSpec,
        (probe, build): (&'a Node, &'a Node),
        rows: &Rows,
    ) -> Result<Pipeline<'a>> {
        let room = self.room(node).divided(HOLDERS);
        let rows = self.with_places(rows, &room)?;
        let others = self.with_places(&self.gather(probe, &room)?, &room)?;
        // The rows of the side that leads without a match are known once all of the other side have been met.
        let exchanged = !spec.mirrored && spec.kind != JoinKind::Inner;
        let (spec, sides, chunked, others) = if exchanged {
            (exchange(spec), (build, probe), others, rows)
        } else {
            (spec.clone(), (probe, build), rows, others)
        };
        let (output, mut places) = self.numbered_output(node, &spec, sides)?;
        if exchanged {
            places.reverse();
        }
        let sort = Sort::new(room.clone(), places, output.len());
        let mut joined = Joined { sort: &sort, unsorted: sort.local()?, at: Sequence::default() };
        let each = chunked.bytes() / chunked.count().max(1) + CHUNK_ROW;
        let most = (room.share / each.max(1)).max(self.run.batch_rows);
        let mut chunk: Vec<Batch> = Vec::new();
        let mut join = |chunk: &mut Vec<Batch>| -> Result<()> {
            joined.at = Sequence { morsel: joined.at.morsel + 1, batch: 0 };
            let side = self.build_side(node, &spec, sides.1, Rows::from(std::mem::take(chunk)))?;
            let matching = self.matching(node, &spec, sides, (output.clone(), side.batch.rows))?;
            self.join_part(node, (&matching, &side), &others, &mut joined)
        };
        let mut held = 0;
        chunked.each_batch(self.run.batch_rows, &mut |_, batch| {
            if held + batch.rows > most {
                join(&mut chunk)?;
                held = 0;
            }
            held += batch.rows;
            // Of a slice the rest of its block is to be let go.
            chunk.push(batch.copied()?);
            Ok(())
        })?;
        if !chunk.is_empty() {
            join(&mut chunk)?;
        }
        let rows = sort.finish(vec![joined.unsorted])?;
        Ok(Pipeline::of(rows.select(&(0..node.output.len()).collect::<Vec<_>>()), node.rows))
    }

    /// The rows with their places as a last column.
    fn with_places(&self, rows: &Rows, room: &MemoryBudget<'a>) -> Result<Rows> {
        let mut found = RowsBuilder::new(room.clone());
        rows.each_batch(self.run.batch_rows, &mut |at, batch| found.push(at, numbered(at, batch)))?;
        Ok(found.into_rows())
    }
}

/// The same join with its sides exchanged.
fn exchange(spec: &JoinSpec) -> JoinSpec {
    let ranges = spec.ranges.iter().cloned().map(JoinRange::flipped).collect();
    JoinSpec { mirrored: true, ranges, ..spec.clone() }
}
