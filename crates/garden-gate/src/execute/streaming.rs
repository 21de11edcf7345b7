//! The operators that change batches on their way: scan, filter, project and the probe sides of joins.

use super::compile::Compiler;
use super::filter::Filter;
use super::hash_join::{From, Probe, keys};
use super::nested_loop_join::NestedLoop;
use super::pipeline::{Pipeline, Step, Transform};
use super::project::Project;
use super::result::Gather;
use crate::catalog::Segment;
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::{Batch, JoinTable};
use crate::logical::{ColumnId, Expr, ExprKind, Scan};
use crate::physical::{Node, NodeMeasure};
use arrow::array::Array;
use std::time::Instant;

impl<'a> Compiler<'a> {
    fn measure(&self, node: &Node) -> Option<&'a NodeMeasure> {
        self.run.measures.map(|measures| measures.of(node.id))
    }

    pub(super) fn scan(&self, node: &'a Node, scan: &Scan, read: &[(ColumnId, usize)]) -> Result<Pipeline<'a>> {
        let start = Instant::now();
        let columns: Vec<usize> = read.iter().map(|(_, column)| *column).collect();
        let segments = scan.source.read(&columns)?;
        check_promise(scan, &columns, &segments)?;
        if let Some(measure) = self.measure(node) {
            measure.add_time(start.elapsed());
        }
        let mut pipeline =
            Pipeline::of(segments.into_iter().map(|segment| Batch::new(segment.columns, segment.rows)).collect());
        let layout: Vec<ColumnId> = read.iter().map(|(id, _)| *id).collect();
        if !scan.filter.is_empty() || layout != node.output || self.run.measures.is_some() {
            push(&mut pipeline, node, self.filter_step(node, &scan.filter, &layout)?);
        }
        Ok(pipeline)
    }

    fn filter_step(&self, node: &Node, terms: &[Expr], layout: &[ColumnId]) -> Result<Filter<'a>> {
        let terms = terms.iter().map(|term| resolve(term, layout)).collect::<Result<_>>()?;
        Ok(Filter::new(terms, places(&node.output, layout)?, self.measure(node)))
    }

    pub(super) fn filter(&self, node: &'a Node, conjuncts: &[Expr]) -> Result<Pipeline<'a>> {
        let mut pipeline = self.pipeline(&node.inputs[0])?;
        push(&mut pipeline, node, self.filter_step(node, conjuncts, &node.inputs[0].output)?);
        Ok(pipeline)
    }

    pub(super) fn project(&self, node: &'a Node, computed: &[(ColumnId, Expr)]) -> Result<Pipeline<'a>> {
        let input = &node.inputs[0];
        let expr = |id: &ColumnId| match computed.iter().find(|(known, _)| known == id) {
            Some((_, expr)) => resolve(expr, &input.output),
            None => {
                let place = places(&[*id], &input.output)?[0];
                Ok(Expr::new(ExprKind::Slot(place), crate::types::SqlType::Null, crate::diagnostic::Span::default()))
            }
        };
        let exprs = node.output.iter().map(expr).collect::<Result<_>>()?;
        let mut pipeline = self.pipeline(input)?;
        push(&mut pipeline, node, Project { exprs });
        Ok(pipeline)
    }

    /// All rows of an input as one batch.
    fn gathered(&self, node: &'a Node) -> Result<Batch> {
        let batches = self.drive(&self.pipeline(node)?, &Gather::all(self.run.control), None)?;
        if batches.is_empty() {
            return Ok(Batch::new(Vec::new(), 0));
        }
        Batch::concat(&batches)
    }

    pub(super) fn hash_join(&self, node: &'a Node, pairs: &[(Expr, Expr)], residual: &[Expr]) -> Result<Pipeline<'a>> {
        let [probe, build] = node.inputs.as_slice() else { return Err(internal("a join has two inputs")) };
        let gathered = self.gathered(build)?;
        let start = Instant::now();
        if gathered.rows == 0 {
            // Nothing can match: the probe side need not be read.
            return Ok(Pipeline::of(Vec::new()));
        }
        let side = |pick: fn(&(Expr, Expr)) -> &Expr, layout: &[ColumnId]| {
            pairs.iter().map(|pair| resolve(pick(pair), layout)).collect::<Result<Vec<_>>>()
        };
        let build_keys = keys(&side(|pair| &pair.1, &build.output)?, &gathered)?;
        let table = JoinTable::build(&build_keys, gathered.rows)?;
        self.run.control.hold(table.bytes())?;
        if let Some(measure) = self.measure(node) {
            measure.add_time(start.elapsed());
        }
        let mut layout = node.output.clone();
        if !residual.is_empty() {
            layout = with(layout, residual);
        }
        let filter = if residual.is_empty() { None } else { Some(self.filter_step(node, residual, &layout)?) };
        let joined = origins(&layout, probe, build)?;
        let probe_keys = side(|pair| &pair.0, &probe.output)?;
        let mut pipeline = self.pipeline(probe)?;
        let batch_rows = self.run.batch_rows;
        push(
            &mut pipeline,
            node,
            Probe { keys: probe_keys, table, build: gathered, joined, residual: filter, batch_rows },
        );
        Ok(pipeline)
    }

    pub(super) fn nested_loop(&self, node: &'a Node, conjuncts: &[Expr]) -> Result<Pipeline<'a>> {
        let [outer, inner] = node.inputs.as_slice() else { return Err(internal("a join has two inputs")) };
        let gathered = self.gathered(inner)?;
        if gathered.rows == 0 {
            return Ok(Pipeline::of(Vec::new()));
        }
        let layout = with(node.output.clone(), conjuncts);
        let joined = origins(&layout, outer, inner)?;
        let condition = self.filter_step(node, conjuncts, &layout)?;
        let mut pipeline = self.pipeline(outer)?;
        push(
            &mut pipeline,
            node,
            NestedLoop {
                control: self.run.control,
                inner: gathered,
                joined,
                condition,
                batch_rows: self.run.batch_rows,
            },
        );
        Ok(pipeline)
    }
}

/// A table source may be anybody's code: arrays of other types or lengths than it promised would be misread.
fn check_promise(scan: &Scan, columns: &[usize], segments: &[Segment]) -> Result<()> {
    let kept = |segment: &Segment| {
        segment.columns.len() == columns.len()
            && segment.columns.iter().zip(columns).all(|(array, column)| {
                array.len() == segment.rows && *array.data_type() == scan.source.columns()[*column].sql_type.arrow()
            })
    };
    if segments.iter().all(kept) {
        return Ok(());
    }
    let message =
        format!("the source of table {:?} gave arrays of other types or lengths than it promised", scan.table);
    Err(Error::new(SqlState::GENERAL, message))
}

fn push<'a>(pipeline: &mut Pipeline<'a>, node: &Node, transform: impl Transform + 'a) {
    pipeline.steps.push(Step { node: node.id, transform: Box::new(transform) });
}

/// `layout` and the further columns of `exprs`.
fn with(mut layout: Vec<ColumnId>, exprs: &[Expr]) -> Vec<ColumnId> {
    for id in exprs.iter().flat_map(Expr::columns) {
        if !layout.contains(&id) {
            layout.push(id);
        }
    }
    layout
}

fn origins(layout: &[ColumnId], probe: &Node, build: &Node) -> Result<Vec<From>> {
    let find = |id: &ColumnId, node: &Node| node.output.iter().position(|known| known == id);
    layout
        .iter()
        .map(|id| {
            let from_probe = find(id, probe).map(From::Probe);
            from_probe
                .or_else(|| find(id, build).map(From::Build))
                .ok_or_else(|| internal("a column is missing in a join"))
        })
        .collect()
}

/// Where the columns `wanted` stand in a batch of the columns `layout`.
pub(super) fn places(wanted: &[ColumnId], layout: &[ColumnId]) -> Result<Vec<usize>> {
    let place = |id: &ColumnId| layout.iter().position(|known| known == id);
    wanted.iter().map(|id| place(id).ok_or_else(|| internal("a column is missing in a plan"))).collect()
}

/// The expression with its columns replaced by their places in a batch of the columns `layout`.
pub(super) fn resolve(expr: &Expr, layout: &[ColumnId]) -> Result<Expr> {
    if let ExprKind::Column(id) = expr.kind() {
        let place = places(&[*id], layout)?[0];
        return Ok(Expr::new(ExprKind::Slot(place), expr.sql_type(), expr.span()));
    }
    expr.clone().map_children(&mut |child| resolve(&child, layout))
}

pub(super) fn internal(what: &str) -> Error {
    Error::new(SqlState::GENERAL, format!("internal error: {what}"))
}
