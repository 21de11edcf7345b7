//! Index nested-loop joins: the matches of a batch of rows are found by an index of the other table, and joined with it as those of any
//! join.

use super::compile::Compiler;
use super::filter::Filter;
use super::join::{BuildSide, ColumnSource, Lookup, Matching, keys};
use super::pipeline::{Flow, Pipeline, Transform};
use super::streaming::{internal, places, resolve};
use crate::control::MemoryReservation;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::logical::{ColumnId, Expr, ScanIndex};
use crate::physical::{IndexJoin, Node};
use crate::storage::StoredTable;
use std::any::Any;
use std::sync::Arc;

struct Lookups<'a> {
    matching: Matching<'a>,
    table: Arc<StoredTable>,
    index: &'a ScanIndex,
    keys: Vec<Expr>,
    /// The columns of the table that are read.
    columns: Vec<usize>,
}

impl Transform for Lookups<'_> {
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        let found = self.table.matching_rows(self.index, &keys(&self.keys, &batch)?, &self.columns)?;
        let rows = found.keys.len();
        let held = MemoryReservation::none(self.matching.control.memory());
        let side = BuildSide { batch: Batch::new(found.columns, rows), lookup: Lookup::Found(found.keys), _held: held };
        self.matching.join(&side, &batch, emit)
    }
}

impl<'a> Compiler<'a> {
    /// Looks up each row of the outer side in an index of a stored table.
    pub(super) fn index_join(&self, node: &'a Node, join: &'a IndexJoin) -> Result<Pipeline<'a>> {
        let outer = &node.inputs[0];
        let source: Arc<dyn Any + Send + Sync> = Arc::clone(&join.scan.source) as _;
        let table = source.downcast::<StoredTable>().map_err(|_| internal("an index of a table that is not stored"))?;
        let origin = |id: &ColumnId| -> Result<ColumnSource> {
            if let Some(at) = join.read.iter().position(|(known, _)| known == id) {
                return Ok(ColumnSource::Build(at));
            }
            Ok(ColumnSource::Probe(places(&[*id], &outer.output)?[0]))
        };
        let mut layout: Vec<ColumnId> = Vec::new();
        for id in join.residual.iter().flat_map(Expr::columns) {
            if !layout.contains(&id) {
                layout.push(id);
            }
        }
        let residual = if join.residual.is_empty() {
            None
        } else {
            let terms = join.residual.iter().map(|term| resolve(term, &layout)).collect::<Result<_>>()?;
            Some(Filter::new(terms, Vec::new(), self.measure(node)))
        };
        let matching = Matching {
            kind: join.kind,
            mirrored: false,
            control: self.run.control,
            ranges: None,
            recheck: None,
            nearest: None,
            keys: Vec::new(),
            pair: layout.iter().map(origin).collect::<Result<_>>()?,
            residual,
            output: node.output.iter().map(origin).collect::<Result<_>>()?,
            types: node.output.iter().map(|id| self.run.columns.get(*id).sql_type.arrow()).collect(),
            matched: Vec::new(),
            batch_rows: self.run.batch_rows,
        };
        let keys = join.keys.iter().map(|key| resolve(key, &outer.output)).collect::<Result<_>>()?;
        let columns = join.read.iter().map(|(_, at)| *at).collect();
        let mut pipeline = self.pipeline(outer)?;
        pipeline.push(node, Lookups { matching, table, index: &join.index, keys, columns });
        Ok(pipeline)
    }
}
