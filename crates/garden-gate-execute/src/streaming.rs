//! The operators that change batches on their way: scan, filter, project and table functions.

use super::compile::Compiler;
use super::expand::ExpandRows;
use super::filter::Filter;
use super::join::ColumnSource;
use super::pipeline::Pipeline;
use super::project::Project;
use crate::catalog::{ScanRequest, Segment};
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::Batch;
use crate::logical::{ColumnId, Expand, Expr, ExprKind, Scan};
use crate::physical::{IndexAccess, Node};
use crate::types::{Estimate, SqlType, approximate};
use arrow::array::ArrayRef;
use std::sync::atomic::Ordering;
use std::time::Instant;

impl<'a> Compiler<'a> {
    /// Reads a table, or the rows that an index leads to.
    pub(super) fn scan(
        &self,
        node: &'a Node,
        scan: &'a Scan,
        (read, access): (&[(ColumnId, usize)], Option<&IndexAccess>),
    ) -> Result<Pipeline<'a>> {
        let start = Instant::now();
        let columns: Vec<usize> = read.iter().map(|(_, column)| *column).collect();
        let mut pipeline = match access {
            Some(access) => {
                let segments = super::index_read::segments(scan, access, &columns)?;
                let batches: Vec<Batch> = segments.into_iter().map(batch_of).collect();
                Pipeline::of(batches.into(), node.rows)
            }
            None => self.read_source(node, scan, columns)?,
        };
        if let Some(measure) = self.measure(node) {
            measure.add_time(start.elapsed());
        }
        let layout: Vec<ColumnId> = read.iter().map(|(id, _)| *id).collect();
        if !scan.filter.is_empty() || layout != node.output || self.run.measures.is_some() {
            pipeline.push(node, self.filter_step(node, &scan.filter, &layout)?);
        }
        Ok(pipeline)
    }

    /// The rows that a source gives for the conjuncts of a scan.
    fn read_source(&self, node: &Node, scan: &'a Scan, columns: Vec<usize>) -> Result<Pipeline<'a>> {
        let conjuncts = super::scan_conjuncts::conjuncts(scan);
        let limit = self.limits.get(&node.id.0).copied().filter(|_| scan.filter.is_empty());
        let stream = scan.source.scan(&ScanRequest { columns: &columns, conjuncts: &conjuncts, limit })?;
        if let Some(measure) = self.measure(node) {
            measure.passed.fetch_add(stream.pruned, Ordering::Relaxed);
        }
        let is_ready = stream.is_ready;
        let batches = stream.segments.map(move |segment| {
            let segment = segment?;
            check_promise(scan, &columns, &segment)?;
            Ok(batch_of(segment))
        });
        let expected = Estimate(approximate(scan.source.rows()));
        if is_ready {
            return Ok(Pipeline::of(batches.collect::<Result<Vec<_>>>()?.into(), expected));
        }
        Ok(Pipeline::fed(Box::new(batches), expected))
    }

    fn filter_step(&self, node: &Node, terms: &[Expr], layout: &[ColumnId]) -> Result<Filter<'a>> {
        let terms = terms.iter().map(|term| resolve(term, layout)).collect::<Result<_>>()?;
        Ok(Filter::new(terms, places(&node.output, layout)?, self.measure(node)))
    }

    /// A filter as a step of its input's pipeline.
    pub(super) fn filter(&self, node: &'a Node, conjuncts: &[Expr]) -> Result<Pipeline<'a>> {
        let mut pipeline = self.pipeline(&node.inputs[0])?;
        pipeline.push(node, self.filter_step(node, conjuncts, &node.inputs[0].output)?);
        Ok(pipeline)
    }

    /// Computed columns as a step of its input's pipeline.
    pub(super) fn project(&self, node: &'a Node, computed: &[(ColumnId, Expr)]) -> Result<Pipeline<'a>> {
        let input = &node.inputs[0];
        let expr = |id: &ColumnId| match computed.iter().find(|(known, _)| known == id) {
            Some((_, expr)) => resolve(expr, &input.output),
            None => {
                let place = places(&[*id], &input.output)?[0];
                Ok(Expr::new(ExprKind::Slot(place), SqlType::Null, crate::diagnostic::Span::default()))
            }
        };
        let exprs = node.output.iter().map(expr).collect::<Result<_>>()?;
        let mut pipeline = self.pipeline(input)?;
        pipeline.push(node, Project { exprs });
        Ok(pipeline)
    }

    /// Rows made of each row, as a step of its input's pipeline.
    pub(super) fn expand(
        &self,
        node: &'a Node,
        expand: &Expand,
        made: &[(ColumnId, SqlType)],
        ordinality: Option<ColumnId>,
    ) -> Result<Pipeline<'a>> {
        let input = &node.inputs[0];
        let expand = match expand {
            Expand::Series(bounds) => {
                let [from, to, step] = bounds.as_ref();
                Expand::Series(Box::new([
                    resolve(from, &input.output)?,
                    resolve(to, &input.output)?,
                    resolve(step, &input.output)?,
                ]))
            }
            Expand::Unnest(arrays) => {
                Expand::Unnest(arrays.iter().map(|array| resolve(array, &input.output)).collect::<Result<_>>()?)
            }
        };
        let origin = |id: &ColumnId| -> Result<ColumnSource> {
            if Some(*id) == ordinality {
                return Ok(ColumnSource::Several);
            }
            match made.iter().position(|(known, _)| known == id) {
                Some(at) => Ok(ColumnSource::Build(at)),
                None => Ok(ColumnSource::Probe(places(&[*id], &input.output)?[0])),
            }
        };
        let output = node.output.iter().map(origin).collect::<Result<_>>()?;
        let types = made.iter().map(|(_, sql_type)| *sql_type).collect();
        let mut pipeline = self.pipeline(input)?;
        pipeline.push(node, ExpandRows { expand, types, output, batch_rows: self.run.batch_rows });
        Ok(pipeline)
    }
}

fn batch_of(segment: Segment) -> Batch {
    Batch::new(segment.columns, segment.rows)
}

/// A table source may be anybody's code: arrays of other types or lengths than it promised would be misread.
fn check_promise(scan: &Scan, columns: &[usize], segment: &Segment) -> Result<()> {
    let of_type = |(array, column): (&ArrayRef, &usize)| {
        let known = scan.source.columns().get(*column);
        array.len() == segment.rows && known.is_none_or(|column| *array.data_type() == column.sql_type.arrow())
    };
    if segment.columns.len() == columns.len() && segment.columns.iter().zip(columns).all(of_type) {
        return Ok(());
    }
    let message =
        format!("the source of table {:?} gave arrays of other types or lengths than it promised", scan.table);
    Err(Error::new(SqlState::GENERAL, message))
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

/// A plan that does not keep its own rules: an error of the statement, not of the process.
pub(super) fn internal(what: &str) -> Error {
    Error::new(SqlState::GENERAL, format!("internal error: {what}"))
}
