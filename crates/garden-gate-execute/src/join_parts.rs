//! Joins whose build side does not fit into memory: rows of both sides are put into parts by the hash of their keys, so that matches meet
//! in one part, and each part is joined by itself (Kitsuregawa, Tanaka and Moto-oka, New Generation Computing 1983). Then the rows are
//! brought into the order that a join in memory gives. O(rows × log rows); writes and reads both sides and the result once or twice.

use super::build_side::resolve_all;
use super::compile::Compiler;
use super::join::{BuildSide, ColumnSource, Matching, keys};
use super::pipeline::{Flow, Pipeline, Sequence, Sink};
use super::sort::{Sort, numbered, slot_key};
use super::spill::{MemoryBudget, Rows, RowsBuilder};
use crate::diagnostic::Result;
use crate::kernel::{Batch, hash_parts};
use crate::logical::{Expr, JoinKind};
use crate::physical::{JoinSpec, Node};
use crate::types::SqlType;
use arrow::array::{UInt32Array, new_empty_array};
use arrow::datatypes::DataType;

/// Parts are told apart by sixteen bits of a hash; each takes a part of the memory while they are filled.
const MOST_PARTS: usize = 256;
/// Parts of the build side, of the probe side, and the sort of the result, besides a part that is joined.
const HOLDERS: usize = 3;

/// Puts rows into parts by the hash of their keys, each with its place in the input as its last column.
struct Parts<'a> {
    room: MemoryBudget<'a>,
    keys: Vec<Expr>,
    parts: usize,
}

impl<'a> Sink for Parts<'a> {
    type Local = Vec<RowsBuilder<'a>>;
    type Output = Vec<Rows>;

    fn local(&self) -> Result<Self::Local> {
        Ok((0..self.parts).map(|_| RowsBuilder::new(self.room.clone())).collect())
    }

    fn push(&self, local: &mut Self::Local, at: Sequence, batch: Batch) -> Result<Flow> {
        let places = hash_parts(&keys(&self.keys, &batch)?, batch.rows, self.parts);
        let batch = numbered(at, batch);
        for (part, rows) in local.iter_mut().zip(places) {
            if !rows.is_empty() {
                part.push(at, batch.take(&UInt32Array::from(rows))?)?;
            }
        }
        Ok(Flow::More)
    }

    fn finish(&self, locals: Vec<Self::Local>) -> Result<Vec<Rows>> {
        let mut parts: Vec<Vec<RowsBuilder<'a>>> = (0..self.parts).map(|_| Vec::new()).collect();
        for local in locals {
            parts.iter_mut().zip(local).for_each(|(part, builder)| part.push(builder));
        }
        Ok(parts.into_iter().map(|builders| RowsBuilder::finish(builders, &self.room)).collect())
    }
}

/// The rows of the result as they come, part after part.
pub(super) struct Joined<'j, 'a> {
    pub(super) sort: &'j Sort<'a>,
    pub(super) unsorted: <Sort<'a> as Sink>::Local,
    pub(super) at: Sequence,
}

impl Joined<'_, '_> {
    fn push(&mut self, batch: Batch) -> Result<()> {
        self.at.batch += 1;
        self.sort.push(&mut self.unsorted, self.at, batch).map(|_| ())
    }
}

impl<'a> Compiler<'a> {
    /// Joins part by part; `rows` are those of the build side.
    pub(super) fn join_in_parts(
        &self,
        node: &'a Node,
        spec: &'a JoinSpec,
        (probe, build): (&'a Node, &'a Node),
        rows: Rows,
    ) -> Result<Pipeline<'a>> {
        // What is left of the parts of both sides is held while one part is joined and its rows are sorted.
        let room = self.room(node).divided(HOLDERS);
        let parts = (rows.bytes() / (room.share / 4).max(1)).next_power_of_two().clamp(2, MOST_PARTS);
        let build_keys = resolve_all(spec.keys.iter().map(|key| &key.build), &build.output)?;
        let probe_keys = resolve_all(spec.keys.iter().map(|key| &key.probe), &probe.output)?;
        let sink = |keys| Parts { room: room.divided(parts), keys, parts };
        let build_parts = self.drive(&Pipeline::of(rows, build.rows), &sink(build_keys), None)?;
        let probe_parts = self.drive(&self.pipeline(probe)?, &sink(probe_keys), None)?;
        let (output, places) = self.numbered_output(node, spec, (probe, build))?;
        let sort = Sort::new(room.clone(), places, output.len());
        let mut joined = Joined { sort: &sort, unsorted: sort.local()?, at: Sequence::default() };
        for (number, (probe_rows, build_rows)) in probe_parts.into_iter().zip(build_parts).enumerate() {
            joined.at = Sequence { morsel: crate::types::index(number), batch: 0 };
            let mut side = self.build_side(node, spec, build, build_rows)?;
            if side.batch.rows == 0 && side.batch.columns.len() == build.output.len() {
                // A part without rows has places all the same.
                side.batch.columns.push(new_empty_array(&DataType::Int64));
            }
            let matching = self.matching(node, spec, (probe, build), (output.clone(), side.batch.rows))?;
            self.join_part(node, (&matching, &side), &probe_rows, &mut joined)?;
        }
        let rows = sort.finish(vec![joined.unsorted])?;
        Ok(Pipeline::of(rows.select(&(0..node.output.len()).collect::<Vec<_>>()), node.rows))
    }

    /// The columns of the result, and after them the places of the rows they are made of, by which the result is ordered: matches in
    /// the order of the probe side, then of the build side, and what has no match at the end.
    pub(super) fn numbered_output(
        &self,
        node: &Node,
        spec: &JoinSpec,
        (probe, build): (&Node, &Node),
    ) -> Result<(Vec<ColumnSource>, Vec<crate::logical::SortKey>)> {
        let mut output = self.output(node, spec, (probe, build))?;
        let (probe_place, build_place) =
            (ColumnSource::Probe(probe.output.len()), ColumnSource::Build(build.output.len()));
        let width = output.len();
        match (spec.kind, spec.mirrored) {
            (JoinKind::Semi | JoinKind::Anti, false) => output.push(probe_place),
            (JoinKind::Semi | JoinKind::Anti, true) => output.push(build_place),
            _ => output.extend([probe_place, build_place]),
        }
        let keys = (width..output.len()).map(|at| slot_key(at, SqlType::BigInt)).collect();
        Ok((output, keys))
    }

    /// Joins one part of both sides, after the part of the build side has come back from its file.
    pub(super) fn join_part(
        &self,
        node: &Node,
        (matching, side): (&Matching<'_>, &BuildSide),
        probe: &Rows,
        joined: &mut Joined<'_, '_>,
    ) -> Result<()> {
        let measure = self.measure(node);
        let mut emit = |batch: Batch| {
            self.run.control.check()?;
            if let Some(measure) = measure {
                measure.add_output(batch.rows);
            }
            joined.push(batch)?;
            Ok(Flow::More)
        };
        probe.each_batch(self.run.batch_rows, &mut |_, batch| matching.join(side, &batch, &mut emit).map(|_| ()))?;
        matching.rest(side, &mut emit).map(|_| ())
    }
}
