//! Recursion, evaluated semi-naively: each round's branches see the rows that the round before found, and nothing else; what they are
//! joined with is gathered once for all rounds. O(rows found) plus the work of the branches on them.

use super::compile::Compiler;
use super::filter::select;
use super::pipeline::Pipeline;
use super::recursion_limit::{too_deep, too_large};
use super::result::Gather;
use super::spill::{MemoryBudget, Rows, Segment};
use super::streaming::{internal, places};
use crate::control::MemoryReservation;
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::{Batch, GroupTable};
use crate::logical::ColumnId;
use crate::physical::{MemberSpec, Node, Operator, RecursionSpec};
use arrow::array::BooleanArray;
use std::sync::atomic::{AtomicU64, Ordering};

/// Small batches are put together past so many.
const MOST_BATCHES: usize = 1024;

/// What a member has found.
struct RecursionState {
    all: Vec<Batch>,
    /// Put together from many small batches.
    compact: Vec<Batch>,
    /// Of UNION: every row met so far.
    seen: Option<GroupTable>,
    ids: Vec<u32>,
    /// The memory of all these.
    held: MemoryReservation,
}

/// A branch that is ready to run: compiled once when only its source changes.
enum Branch<'a> {
    Ready(Pipeline<'a>, &'a Node, &'a [ColumnId], (usize, Vec<usize>)),
    Each(&'a Node, &'a [ColumnId]),
}

impl RecursionState {
    fn new(member: &MemberSpec, held: MemoryReservation) -> Result<Self> {
        let types = member.columns.iter().map(|(_, sql_type)| sql_type.arrow()).collect();
        let seen = if member.distinct { Some(GroupTable::new(types)?) } else { None };
        Ok(Self { all: Vec::new(), compact: Vec::new(), seen, ids: Vec::new(), held })
    }

    /// The rows of `batch` that were not found before.
    fn fresh(&mut self, batch: Batch) -> Result<Option<Batch>> {
        let Some(seen) = &mut self.seen else {
            self.held.add(batch.bytes())?;
            return Ok(Some(batch).filter(|batch| batch.rows > 0));
        };
        let mut known = seen.len();
        let before = seen.bytes();
        seen.assign(&batch.columns, batch.rows, &mut self.ids)?;
        self.held.add(seen.bytes().saturating_sub(before))?;
        let is_new = |id: &u32| {
            let new = *id as usize == known;
            known += usize::from(new);
            new
        };
        let mask: BooleanArray = BooleanArray::from(self.ids.iter().map(is_new).collect::<Vec<bool>>());
        let count = mask.values().count_set_bits();
        if count == 0 {
            return Ok(None);
        }
        let fresh = batch.filter(&mask, count)?;
        self.held.add(fresh.bytes())?;
        Ok(Some(fresh))
    }

    fn batches(&self) -> Vec<Batch> {
        self.compact.iter().chain(&self.all).cloned().collect()
    }

    fn into_rows(self) -> Result<Rows> {
        let mut batches = self.batches();
        // Rounds of a few rows each are handed on as one batch.
        if batches.len() > 1 && batches.iter().map(|batch| batch.rows).sum::<usize>() < batches.len() * 256 {
            batches = vec![Batch::concat(&batches, None)?];
        }
        Ok(Rows::new(batches.into_iter().map(Segment::Memory).collect(), self.held))
    }

    fn keep(&mut self, batches: &[Batch]) -> Result<()> {
        self.all.extend(batches.iter().cloned());
        if self.all.len() > MOST_BATCHES {
            self.compact.push(Batch::concat_within(&self.all, None)?);
            self.all.clear();
        }
        Ok(())
    }
}

impl<'a> Compiler<'a> {
    /// Runs a recursion until a round gives no new rows. Each round sees the rows of the one before it alone (ISO/IEC 9075-2, 7.17).
    pub(super) fn recursion(&self, node: &'a Node, spec: &'a RecursionSpec) -> Result<Rows> {
        let control = self.run.control;
        let mut inputs = node.inputs.iter();
        let mut found = Vec::new();
        let mut delta: Vec<Vec<Batch>> = Vec::new();
        let mut branches: Vec<Vec<(&'a Node, &'a [ColumnId])>> = Vec::new();
        for member in &spec.members {
            let mut own = RecursionState::new(member, self.room(node).nothing())?;
            let mut new = Vec::new();
            for (columns, anchor) in member.anchors.iter().zip(inputs.by_ref()) {
                for batch in self.rows_of(anchor, columns)? {
                    new.extend(own.fresh(batch)?);
                }
            }
            own.keep(&new)?;
            found.push(own);
            delta.push(new);
            let mut rest = inputs.by_ref();
            branches.push(
                member.branches.iter().map(|columns| columns.as_slice()).zip(&mut rest).map(|(c, n)| (n, c)).collect(),
            );
        }
        self.log_round(spec, 0, &delta);
        self.enter(spec.id);
        let mut ready: Vec<Vec<Branch<'a>>> = Vec::new();
        let mut round = 0_u64;
        while delta.iter().any(|rows| !rows.is_empty()) {
            control.check()?;
            round += 1;
            if control.recursion_limit().is_some_and(|limit| round > limit) {
                let rows = found[spec.result].batches();
                return Err(too_deep(&spec.members[spec.result], &rows, &delta[spec.result], round - 1)?);
            }
            for (member, rows) in delta.iter().enumerate() {
                self.set_input(spec.id, member, rows.clone());
            }
            if ready.is_empty() {
                ready = branches
                    .iter()
                    .map(|branches| {
                        branches.iter().map(|(node, columns)| self.branch(node, columns, spec.id)).collect()
                    })
                    .collect::<Result<_>>()?;
            }
            delta = match self.next_round(&mut found, &mut ready, &delta) {
                Err(error) if error.sqlstate() == SqlState::MEMORY => {
                    let rows = found[spec.result].batches();
                    let last = (delta[spec.result].as_slice(), round);
                    return Err(too_large(&spec.members[spec.result], &rows, last, error)?);
                }
                next => next?,
            };
            self.log_round(spec, round, &delta);
        }
        self.leave(spec.id);
        if let Some(measure) = self.measure(node) {
            measure.rounds.fetch_add(round, Ordering::Relaxed);
        }
        found.swap_remove(spec.result).into_rows()
    }

    /// What the branches of all members find, given the rows of the round before.
    fn next_round(
        &self,
        found: &mut [RecursionState],
        branches: &mut [Vec<Branch<'a>>],
        delta: &[Vec<Batch>],
    ) -> Result<Vec<Vec<Batch>>> {
        let mut next = Vec::new();
        for (own, branches) in found.iter_mut().zip(branches) {
            let mut new = Vec::new();
            for branch in branches {
                for batch in self.round(branch, delta)? {
                    new.extend(own.fresh(batch)?);
                }
            }
            own.keep(&new)?;
            next.push(new);
        }
        Ok(next)
    }

    fn log_round(&self, spec: &RecursionSpec, round: u64, found: &[Vec<Batch>]) {
        if let Some(log) = self.run.rounds {
            log.add(&spec.members, round, found);
        }
    }

    fn rows_of(&self, node: &'a Node, columns: &[ColumnId]) -> Result<Vec<Batch>> {
        let room = MemoryBudget::unshared(self.run.control);
        let rows = self.gather(node, &room)?.select(&places(columns, &node.output)?);
        rows.into_memory(&room).map(|(batches, _)| batches)
    }

    fn branch(&self, node: &'a Node, columns: &'a [ColumnId], id: usize) -> Result<Branch<'a>> {
        match streams_from(node, id) {
            Some((member, places)) => {
                let pipeline = self.pipeline(node)?;
                // What is compiled once for all rounds counts when it is run.
                self.count_round(node, &pipeline.source, u64::wrapping_sub);
                Ok(Branch::Ready(pipeline, node, columns, (member, places)))
            }
            None => Ok(Branch::Each(node, columns)),
        }
    }

    fn round(&self, branch: &mut Branch<'a>, delta: &[Vec<Batch>]) -> Result<Vec<Batch>> {
        match branch {
            Branch::Each(node, columns) => self.rows_of(node, columns),
            Branch::Ready(pipeline, node, columns, (member, input)) => {
                pipeline.source = delta[*member].iter().map(|batch| select(batch, input)).collect::<Vec<_>>().into();
                self.count_round(node, &pipeline.source, u64::wrapping_add);
                let room = MemoryBudget::unshared(self.run.control);
                let rows = self.drive(pipeline, &Gather::of(room.clone()), None)?;
                rows.select(&places(columns, &node.output)?).into_memory(&room).map(|(batches, _)| batches)
            }
        }
    }
}

impl Compiler<'_> {
    /// Takes a round into account, of the nodes that a branch which is compiled once streams through, and of the rows it starts from.
    fn count_round(&self, branch: &Node, source: &Rows, change: fn(u64, u64) -> u64) {
        let Some(measures) = self.run.measures else { return };
        let apply = |counter: &AtomicU64, by: u64| {
            counter.store(change(counter.load(Ordering::Relaxed), by), Ordering::Relaxed);
        };
        let mut node = branch;
        loop {
            apply(&measures.of(node.id).runs, 1);
            match node.inputs.first() {
                Some(input) => node = input,
                None => break,
            }
        }
        apply(&measures.of(node.id).rows, source.count() as u64);
        apply(&measures.of(node.id).batches, source.segments.len() as u64);
    }
}

/// The member whose new rows are the only source of a node, when everything else on the way stays the same in all rounds.
fn streams_from(node: &Node, id: usize) -> Option<(usize, Vec<usize>)> {
    match &node.operator {
        Operator::RecursionInput { id: own, member, places, .. } if *own == id => Some((*member, places.clone())),
        Operator::Filter(_) | Operator::Project(_) | Operator::Expand { .. } => streams_from(&node.inputs[0], id),
        Operator::IndexJoin(_) => streams_from(&node.inputs[0], id),
        Operator::Join(spec) if !spec.mirrored => {
            if spec.kind == crate::logical::JoinKind::Full || depends(&node.inputs[1]) {
                return None;
            }
            streams_from(&node.inputs[0], id)
        }
        Operator::OneRow
        | Operator::Empty
        | Operator::Scan { .. }
        | Operator::Join(_)
        | Operator::Values(_)
        | Operator::Window { .. }
        | Operator::UnionAll(_)
        | Operator::Compare { .. }
        | Operator::SharedStep { .. }
        | Operator::Recursion(_)
        | Operator::RecursionInput { .. }
        | Operator::Aggregate { .. }
        | Operator::Distinct(_)
        | Operator::Sort(_)
        | Operator::TopN { .. }
        | Operator::Limit { .. } => None,
    }
}

/// Whether a node is computed from the rows of a round.
pub(super) fn depends(node: &Node) -> bool {
    let mut found = false;
    node.walk(&mut |node| found |= matches!(node.operator, Operator::RecursionInput { .. }));
    found
}

/// A source of rows that is read before it has any is a fault of the plan.
pub(super) fn no_input() -> Error {
    internal("the rows of a round are read outside its recursion")
}
