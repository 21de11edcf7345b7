//! Cuts a plan into pipelines and runs them, inputs first: what must see all rows before it gives one (sort, grouping, the build
//! side of a join) ends a pipeline, and what it gathered is the source of the next.

use super::Run;
use super::aggregate::HashAggregate;
use super::filter::select;
use super::pipeline::{Pipeline, Sink};
use super::result::Gather;
use super::sort::Sort;
use super::streaming::{internal, places, resolve};
use super::top_n::TopN;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::logical::{Aggregate, ColumnId, SortKey};
use crate::physical::{Node, Operator};

pub(super) struct Compiler<'a> {
    pub(super) run: &'a Run<'a>,
    pub(super) workers: usize,
}

impl<'a> Compiler<'a> {
    pub(super) fn result(&self, root: &'a Node, output: &[ColumnId]) -> Result<Vec<Batch>> {
        let batches = match &root.operator {
            Operator::Limit { .. } => self.source(root)?,
            _ => self.drive(&self.pipeline(root)?, &Gather::all(self.run.control), None)?,
        };
        let places = places(output, &root.output)?;
        Ok(batches.iter().map(|batch| select(batch, &places)).collect())
    }

    pub(super) fn drive<S: Sink>(&self, pipeline: &Pipeline<'a>, sink: &S, node: Option<&Node>) -> Result<S::Output> {
        pipeline.drive(sink, node.map(|node| node.id), self.run, self.workers)
    }

    /// The pipeline whose last step is this node.
    pub(super) fn pipeline(&self, node: &'a Node) -> Result<Pipeline<'a>> {
        match &node.operator {
            Operator::OneRow
            | Operator::Empty
            | Operator::HashAggregate { .. }
            | Operator::Distinct(_)
            | Operator::Sort(_)
            | Operator::TopN { .. }
            | Operator::Limit { .. } => Ok(Pipeline::of(self.source(node)?)),
            Operator::Scan { scan, read } => self.scan(node, scan, read),
            Operator::Filter(conjuncts) => self.filter(node, conjuncts),
            Operator::Project(computed) => self.project(node, computed),
            Operator::HashJoin { keys, residual } => self.hash_join(node, keys, residual),
            Operator::NestedLoopJoin(conjuncts) => self.nested_loop(node, conjuncts),
        }
    }

    /// All rows of a node that gathers them, or has none to read.
    fn source(&self, node: &'a Node) -> Result<Vec<Batch>> {
        let control = self.run.control;
        let batches = match &node.operator {
            Operator::OneRow => vec![Batch::new(Vec::new(), 1)],
            Operator::Empty => Vec::new(),
            Operator::HashAggregate { keys, aggregates } => {
                let input = &node.inputs[0];
                let keys = keys.iter().map(|(_, key)| resolve(key, &input.output)).collect::<Result<_>>()?;
                let argument = |aggregate: &Aggregate| -> Result<Aggregate> {
                    let argument =
                        aggregate.argument.as_ref().map(|argument| resolve(argument, &input.output)).transpose()?;
                    Ok(Aggregate { argument, ..aggregate.clone() })
                };
                let aggregates = aggregates.iter().map(|(_, aggregate)| argument(aggregate)).collect::<Result<_>>()?;
                self.drive(&self.pipeline(input)?, &HashAggregate { control, keys, aggregates }, Some(node))?
            }
            Operator::Distinct(keys) => {
                let input = &node.inputs[0];
                let keys = keys.iter().map(|key| resolve(key, &input.output)).collect::<Result<_>>()?;
                self.drive(
                    &self.pipeline(input)?,
                    &HashAggregate { control, keys, aggregates: Vec::new() },
                    Some(node),
                )?
            }
            Operator::Sort(keys) => {
                let input = &node.inputs[0];
                let sink = Sort::new(control, sort_keys(keys, &input.output)?);
                let batches = self.drive(&self.pipeline(input)?, &sink, Some(node))?;
                narrow(&batches, &node.output, &input.output)?
            }
            Operator::TopN { keys, offset, fetch } => {
                let input = &node.inputs[0];
                let keys = sort_keys(keys, &input.output)?;
                let sink = TopN::new(control, keys, input.output.len(), *offset, *fetch);
                let batches = self.drive(&self.pipeline(input)?, &sink, Some(node))?;
                narrow(&batches, &node.output, &input.output)?
            }
            Operator::Limit { offset, fetch } => {
                let sink = Gather::limited(control, *offset, *fetch);
                self.drive(&self.pipeline(&node.inputs[0])?, &sink, Some(node))?
            }
            Operator::Scan { .. }
            | Operator::Filter(_)
            | Operator::Project(_)
            | Operator::HashJoin { .. }
            | Operator::NestedLoopJoin(_) => return Err(internal("this operator gathers nothing")),
        };
        if let Some(measures) = self.run.measures {
            batches.iter().for_each(|batch| measures.of(node.id).add_output(batch.rows));
        }
        Ok(batches)
    }
}

fn sort_keys(keys: &[SortKey], layout: &[ColumnId]) -> Result<Vec<SortKey>> {
    keys.iter().map(|key| Ok(SortKey { expr: resolve(&key.expr, layout)?, ..key.clone() })).collect()
}

fn narrow(batches: &[Batch], output: &[ColumnId], layout: &[ColumnId]) -> Result<Vec<Batch>> {
    let places = places(output, layout)?;
    Ok(batches.iter().map(|batch| select(batch, &places)).collect())
}
