//! Compiles joins: gathers the build side, with its hash table, and makes the step that the probe side's batches go through.

use super::compile::Compiler;
use super::filter::Filter;
use super::join::{BuildSide, ColumnSource, Join, Lookup, Matching, keys};
use super::join_in_chunks;
use super::mark_join::{Mark, Marked};
use super::nearest_join::{self, FirstMatches};
use super::pipeline::Pipeline;
use super::range_join::{self, Ranges};
use super::spill::{MemoryBudget, Rows};
use super::streaming::{internal, places, resolve};
use crate::control::MemoryReservation;
use crate::diagnostic::Result;
use crate::kernel::{Batch, JoinTable, RangeTable, SortedTable};
use crate::logical::{AnyTest, ColumnId, CompareOp, Expr, JoinKind};
use crate::physical::{JoinKey, JoinMethod, JoinSpec, Node};
use crate::types::{SqlType, index};
use arrow::array::{Array, UInt32Array};
use arrow::datatypes::DataType;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

/// Bytes that a row takes in a hash table, besides its own: a slot of a table that grows by doubling, the next row of its key, its encoded key.
const TABLE_ROW: usize = 48;

impl<'a> Compiler<'a> {
    /// All rows of a node as one batch, and the memory it takes.
    ///
    /// # Errors
    /// HY001 past the memory limit.
    pub(super) fn in_memory(&self, node: &'a Node, rows: Rows) -> Result<(Batch, MemoryReservation)> {
        let room = MemoryBudget::unshared(self.run.control);
        let (batches, held) = rows.into_memory(&room)?;
        match batches.as_slice() {
            [] => Ok((self.empty(node), held)),
            batches => {
                let all = Batch::concat_within(batches, self.threads()?)?;
                drop(held);
                let mut held = room.nothing();
                held.add(all.bytes())?;
                Ok((all, held))
            }
        }
    }

    /// No rows of the node's columns.
    fn empty(&self, node: &Node) -> Batch {
        let column = |id: &ColumnId| arrow::array::new_empty_array(&self.run.columns.get(*id).sql_type.arrow());
        Batch::new(node.output.iter().map(column).collect(), 0)
    }

    /// A join: the build side is gathered now, the probe side streams through the pipeline that is returned.
    pub(super) fn join(&self, node: &'a Node, spec: &'a JoinSpec) -> Result<Pipeline<'a>> {
        let [probe, build] = node.inputs.as_slice() else { return Err(internal("a join has two inputs")) };
        if spec.kind == JoinKind::Mark || spec.any.is_some() {
            return self.mark_join(node, spec, (probe, build));
        }
        let in_chunks = spec.keys.is_empty() && !self.is_running() && join_in_chunks::fits(spec);
        let side = if in_chunks {
            let rows = self.gather(build, &self.room(node).with_overhead(TABLE_ROW))?;
            if rows.is_spilled() {
                return self.join_in_chunks(node, spec, (probe, build), &rows);
            }
            Arc::new(self.build_side(node, spec, build, rows)?)
        } else if spec.keys.is_empty() || self.is_running() {
            self.kept(node, build, || {
                let rows = self.gather(build, &MemoryBudget::unshared(self.run.control))?;
                self.build_side(node, spec, build, rows)
            })?
        } else {
            let rows = self.gather(build, &self.room(node).with_overhead(TABLE_ROW))?;
            if rows.is_spilled() {
                return self.join_in_parts(node, spec, (probe, build), rows);
            }
            Arc::new(self.build_side(node, spec, build, rows)?)
        };
        let drops_all = side.batch.rows == 0
            && (matches!(spec.kind, JoinKind::Inner | JoinKind::Semi) || spec.mirrored && spec.kind != JoinKind::Full);
        if drops_all && !self.is_running() {
            // Nothing can match: the probe side need not be read. The steps of a recursion are made once for all its rounds.
            return Ok(Pipeline::of(Rows::default(), node.rows));
        }
        let output = self.output(node, spec, (probe, build))?;
        let matching = self.matching(node, spec, (probe, build), (output, side.batch.rows))?;
        let mut pipeline = self.pipeline(probe)?;
        pipeline.push(node, Join { matching, build: side });
        Ok(pipeline)
    }

    /// Where the columns of the result come from.
    pub(super) fn output(
        &self,
        node: &Node,
        spec: &JoinSpec,
        (probe, build): (&Node, &Node),
    ) -> Result<Vec<ColumnSource>> {
        let leads = if spec.mirrored { build } else { probe };
        let from = |id: &ColumnId| match (Some(*id) == spec.mark, spec.kind) {
            (true, _) => Ok(ColumnSource::Several),
            (_, JoinKind::Semi | JoinKind::Anti) => {
                let at = places(&[*id], &leads.output)?[0];
                Ok(if spec.mirrored { ColumnSource::Build(at) } else { ColumnSource::Probe(at) })
            }
            _ => origin(*id, probe, build),
        };
        node.output.iter().map(from).collect()
    }

    /// What is done with the rows of the probe side and their candidates among `build_rows`.
    pub(super) fn matching(
        &self,
        node: &'a Node,
        spec: &JoinSpec,
        (probe, build): (&Node, &Node),
        (output, build_rows): (Vec<ColumnSource>, usize),
    ) -> Result<Matching<'a>> {
        let pair_layout = columns_of(spec.residual.iter().chain(&spec.recheck));
        let recheck = if spec.recheck.is_empty() {
            None
        } else {
            let terms = spec.recheck.iter().map(|term| resolve(term, &pair_layout)).collect::<Result<_>>()?;
            Some(Filter::new(terms, Vec::new(), None))
        };
        let mut residual = if spec.residual.is_empty() {
            None
        } else {
            let terms = spec.residual.iter().map(|term| resolve(term, &pair_layout)).collect::<Result<_>>()?;
            Some(Filter::new(terms, Vec::new(), self.measure(node)))
        };
        let nearest =
            spec.nearest.as_ref().map(|nearest| FirstMatches { fetch: nearest.fetch, residual: residual.take() });
        let mut types: Vec<_> = node.output.iter().map(|id| self.run.columns.get(*id).sql_type.arrow()).collect();
        // What appears after the columns of the node are places of rows.
        types.resize(output.len(), DataType::Int64);
        let keeps = spec.mirrored || spec.kind == JoinKind::Full;
        let matched = if keeps { (0..build_rows).map(|_| AtomicBool::new(false)).collect() } else { Vec::new() };
        Ok(Matching {
            kind: spec.kind,
            mirrored: spec.mirrored,
            control: self.run.control,
            keys: resolve_all(spec.keys.iter().map(|key| &key.probe), &probe.output)?,
            ranges: Ranges::of_probe(&spec.ranges, &probe.output)?,
            recheck,
            nearest,
            pair: origins(&pair_layout, probe, build)?,
            residual,
            output,
            types,
            matched,
            batch_rows: self.run.batch_rows,
        })
    }

    /// The build side with its table.
    pub(super) fn build_side(&self, node: &'a Node, spec: &JoinSpec, build: &'a Node, rows: Rows) -> Result<BuildSide> {
        let (batch, mut held) = self.in_memory(build, rows)?;
        let start = Instant::now();
        let lookup = if spec.method == JoinMethod::NestedLoop {
            Lookup::All
        } else {
            let keys = keys(&resolve_all(spec.keys.iter().map(|key| &key.build), &build.output)?, &batch)?;
            let null_same = null_same(&spec.keys);
            match spec.method {
                JoinMethod::Range => {
                    match range_join::table(&spec.ranges, &build.output, (&batch, &keys, &null_same), self.threads()?)?
                    {
                        Some(table) => Lookup::Range(table),
                        None => return Err(internal("a range join has an inequality")),
                    }
                }
                JoinMethod::Nearest => Lookup::Nearest(nearest_join::table(
                    spec,
                    &build.output,
                    (&batch, &keys, &null_same),
                    self.threads()?,
                )?),
                JoinMethod::Merge => Lookup::Sorted(SortedTable::build(&keys, batch.rows, &null_same)?),
                JoinMethod::Hash | JoinMethod::NestedLoop | JoinMethod::IndexNestedLoop => {
                    let others = node.inputs.iter().filter(|input| !std::ptr::eq(*input, build));
                    let probes = others.map(|input| input.rows.count()).fold(0, usize::saturating_add);
                    Lookup::Hash(JoinTable::for_probes(&keys, batch.rows, &null_same, probes, self.threads()?)?)
                }
            }
        };
        held.add(lookup.bytes())?;
        if let Some(measure) = self.measure(node) {
            measure.add_time(start.elapsed());
            measure.held.fetch_max(held.bytes() as u64, Ordering::Relaxed);
        }
        Ok(BuildSide { batch, lookup, _held: held })
    }

    fn mark_join(
        &self,
        node: &'a Node,
        spec: &'a JoinSpec,
        (left, right): (&'a Node, &'a Node),
    ) -> Result<Pipeline<'a>> {
        let no_test = AnyTest { op: CompareOp::Equal, left: Vec::new(), right: Vec::new() };
        let any = spec.any.as_ref().unwrap_or(&no_test);
        let side = self.kept(node, right, || self.marked(spec, any, right))?;
        let test = any.comparison();
        let conditions = || spec.recheck.iter().chain(&spec.residual);
        let mut pair_layout = columns_of(conditions());
        for id in test.iter().flat_map(Expr::columns) {
            if !pair_layout.contains(&id) {
                pair_layout.push(id);
            }
        }
        let residual = if conditions().next().is_none() {
            None
        } else {
            let terms = conditions().map(|term| resolve(term, &pair_layout)).collect::<Result<_>>()?;
            // Only the residual is tallied.
            Some(Filter::new(terms, Vec::new(), self.measure(node).filter(|_| spec.recheck.is_empty())))
        };
        let mark = spec.mark.and_then(|mark| node.output.iter().position(|id| *id == mark));
        let kept: Vec<ColumnId> = node.output.iter().copied().filter(|id| Some(*id) != spec.mark).collect();
        let mut pipeline = self.pipeline(left)?;
        let join = Mark {
            kind: spec.kind,
            control: self.run.control,
            right: side,
            keys: resolve_all(spec.keys.iter().map(|key| &key.probe), &left.output)?,
            operands: resolve_all(&any.left, &left.output)?,
            ranges: Ranges::of_probe(&spec.ranges, &left.output)?,
            pair: origins(&pair_layout, left, right)?,
            residual,
            test: test.map(|test| resolve(&test, &pair_layout)).transpose()?,
            output: places(&kept, &left.output)?,
            mark,
            batch_rows: self.run.batch_rows,
            measure: self.measure(node),
        };
        pipeline.push(node, join);
        Ok(pipeline)
    }

    fn marked(&self, spec: &JoinSpec, any: &AnyTest, right: &'a Node) -> Result<Marked> {
        let rows = self.gather(right, &MemoryBudget::unshared(self.run.control))?;
        let (batch, mut held) = self.in_memory(right, rows)?;
        let plain = keys(&resolve_all(spec.keys.iter().map(|key| &key.build), &right.output)?, &batch)?;
        let operands = keys(&resolve_all(&any.right, &right.output)?, &batch)?;
        let mut same = null_same(&spec.keys);
        let threads = self.threads()?;
        let range = range_join::table(&spec.ranges, &right.output, (&batch, &plain, &same), threads)?;
        let all = if plain.is_empty() { None } else { Some(JoinTable::build(&plain, batch.rows, &same, threads)?) };
        let composite = any.left.iter().any(|expr| matches!(expr.sql_type(), SqlType::Array(_) | SqlType::Row(_)));
        let looked_up = any.op == CompareOp::Equal && !composite && !(plain.is_empty() && operands.is_empty());
        let is_null = |row: usize| operands.iter().any(|operand| operand.is_null(row));
        let null_rows: Vec<u32> = (0..batch.rows).filter(|row| is_null(*row)).map(index).collect();
        let nulls = if plain.is_empty() || null_rows.is_empty() {
            None
        } else {
            let rows = UInt32Array::from(null_rows.clone());
            let part = plain.iter().map(|key| arrow::compute::take(key, &rows, None)).collect::<Result<Vec<_>, _>>()?;
            Some(JoinTable::build(&part, null_rows.len(), &same, threads)?)
        };
        let equal = if looked_up {
            same.extend(operands.iter().map(|_| false));
            let keys: Vec<_> = plain.into_iter().chain(operands).collect();
            Some(JoinTable::build(&keys, batch.rows, &same, threads)?)
        } else {
            None
        };
        held.add([&equal, &all, &nulls].into_iter().flatten().map(JoinTable::bytes).sum())?;
        held.add(range.as_ref().map_or(0, RangeTable::bytes))?;
        Ok(Marked { batch, equal, all, null_rows, nulls, range, _held: held })
    }
}

fn null_same(keys: &[JoinKey]) -> Vec<bool> {
    keys.iter().map(|key| key.null_same).collect()
}

/// Expressions over the places of columns in batches of this layout.
pub(super) fn resolve_all<'e>(exprs: impl IntoIterator<Item = &'e Expr>, layout: &[ColumnId]) -> Result<Vec<Expr>> {
    exprs.into_iter().map(|expr| resolve(expr, layout)).collect()
}

/// Every column of the expressions, once.
fn columns_of<'e>(exprs: impl IntoIterator<Item = &'e Expr>) -> Vec<ColumnId> {
    let mut columns = Vec::new();
    for id in exprs.into_iter().flat_map(Expr::columns) {
        if !columns.contains(&id) {
            columns.push(id);
        }
    }
    columns
}

fn origins(layout: &[ColumnId], probe: &Node, build: &Node) -> Result<Vec<ColumnSource>> {
    layout.iter().map(|id| origin(*id, probe, build)).collect()
}

fn origin(id: ColumnId, probe: &Node, build: &Node) -> Result<ColumnSource> {
    let find = |node: &Node| node.output.iter().position(|known| *known == id);
    let found = find(probe).map(ColumnSource::Probe).or_else(|| find(build).map(ColumnSource::Build));
    found.ok_or_else(|| internal("a column is missing in a join"))
}
