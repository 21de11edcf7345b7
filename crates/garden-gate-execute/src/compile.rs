//! Cuts a plan into pipelines and runs them, inputs first: what must see all rows before it gives one (sort, grouping, the build
//! side of a join) ends a pipeline, and what it gathered is the source of the next.

use super::aggregate::{HashAggregate, owners};
use super::filter::select;
use super::pipeline::{Pipeline, Sink};
use super::recursion::depends;
use super::result::{Gather, Limited};
use super::sort::Sort;
use super::sorted_aggregate::SortedAggregate;
use super::spill::{MemoryBudget, Rows};
use super::streaming::{internal, places, resolve};
use super::top_n::TopN;
use super::{Run, set_operation};
use crate::collections::HashMap;
use crate::diagnostic::Result;
use crate::kernel::{Batch, evaluate};
use crate::logical::{Aggregate, ColumnId, CteId, Expr, SortKey};
use crate::physical::{GroupMethod, Node, NodeMeasure, Operator, PhysicalPlan};
use std::any::Any;
use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;

pub(super) struct Compiler<'a> {
    pub(super) run: &'a Run<'a>,
    pub(super) workers: usize,
    /// The plan of each query that is run once.
    steps: HashMap<CteId, &'a Node>,
    /// How many rows of a scan are enough, by its node.
    pub(super) limits: HashMap<usize, u64>,
    /// Rows of those that have run.
    step_rows: RefCell<HashMap<CteId, Rc<Rows>>>,
    /// The rows of the round before, by recursion and member; a recursion is in here while it runs.
    inputs: RefCell<HashMap<(usize, usize), Vec<Batch>>>,
    running: RefCell<Vec<usize>>,
    /// What rounds of a recursion have in common, by the join that keeps it.
    sides: RefCell<HashMap<usize, Rc<dyn Any>>>,
}

impl<'a> Compiler<'a> {
    /// The pipelines of a plan, of which none runs yet.
    pub(super) fn new(run: &'a Run<'a>, plan: &'a PhysicalPlan) -> Self {
        let mut steps = HashMap::default();
        let mut limits = HashMap::default();
        plan.root.walk(&mut |node| {
            limits.extend(limit_of_scan(node));
            if let (Operator::SharedStep { id, .. }, Some(input)) = (&node.operator, node.inputs.first()) {
                steps.insert(*id, input);
            }
        });
        Self {
            run,
            workers: plan.workers,
            steps,
            limits,
            step_rows: RefCell::default(),
            inputs: RefCell::default(),
            running: RefCell::default(),
            sides: RefCell::default(),
        }
    }

    /// What is counted for a node, where the statement is measured.
    pub(super) fn measure(&self, node: &Node) -> Option<&'a NodeMeasure> {
        self.run.measures.map(|measures| measures.of(node.id))
    }

    /// The memory that each worker of this node may use.
    pub(super) fn room(&self, node: &Node) -> MemoryBudget<'a> {
        MemoryBudget::new(self.run.control, self.measure(node), self.workers)
    }

    /// The worker threads, where the plan uses more than one.
    pub(super) fn threads(&self) -> Result<Option<&'a rayon::ThreadPool>> {
        if self.workers > 1 { self.run.pool.threads().map(Some) } else { Ok(None) }
    }

    /// Begins a recursion: what depends on its rounds is not kept from now on.
    pub(super) fn enter(&self, recursion: usize) {
        self.running.borrow_mut().push(recursion);
    }

    /// Whether a recursion is being run.
    pub(super) fn is_running(&self) -> bool {
        !self.running.borrow().is_empty()
    }

    /// Ends a recursion, and lets go of the rows of its last round.
    pub(super) fn leave(&self, recursion: usize) {
        self.running.borrow_mut().retain(|running| *running != recursion);
        self.inputs.borrow_mut().retain(|(id, _), _| *id != recursion);
    }

    /// The rows that a member of a recursion gives the round that comes.
    pub(super) fn set_input(&self, recursion: usize, member: usize, rows: Vec<Batch>) {
        self.inputs.borrow_mut().insert((recursion, member), rows);
    }

    /// What `make` gives; inside a recursion it is made once when `input` does not depend on the round.
    pub(super) fn kept<T: 'static>(
        &self,
        node: &Node,
        input: &Node,
        make: impl FnOnce() -> Result<T>,
    ) -> Result<Arc<T>> {
        if self.running.borrow().is_empty() || depends(input) {
            return make().map(Arc::new);
        }
        if let Some(known) = self.sides.borrow().get(&node.id.0)
            && let Some(known) = known.downcast_ref::<Arc<T>>()
        {
            return Ok(Arc::clone(known));
        }
        let made = Arc::new(make()?);
        self.sides.borrow_mut().insert(node.id.0, Rc::new(Arc::clone(&made)));
        Ok(made)
    }

    /// The rows of a query that is run once.
    fn step(&self, id: CteId) -> Result<Rc<Rows>> {
        if let Some(rows) = self.step_rows.borrow().get(&id) {
            return Ok(Rc::clone(rows));
        }
        let node = *self.steps.get(&id).ok_or_else(|| internal("a step has no plan"))?;
        let rows = Rc::new(self.gather(node, &self.room(node))?);
        self.step_rows.borrow_mut().insert(id, Rc::clone(&rows));
        Ok(rows)
    }

    /// Runs a plan to its end, for the columns `output`.
    pub(super) fn result(&self, root: &'a Node, output: &[ColumnId]) -> Result<Vec<Batch>> {
        let room = MemoryBudget::unshared(self.run.control);
        let most = self.run.most_rows;
        let pipeline = self.pipeline(root)?;
        let rows = if pipeline.steps.is_empty() && !matches!(root.operator, Operator::Scan { .. }) {
            pipeline.source
        } else {
            self.drive(&pipeline, &Gather::at_most(room.clone(), most), None)?
        };
        if let Some(most) = most.filter(|most| rows.count() as u64 > *most) {
            return Err(crate::control::too_many_rows(most));
        }
        let rows = rows.select(&places(output, &root.output)?);
        // The rows are the caller's from here on.
        rows.into_memory(&room).map(|(batches, _)| batches)
    }

    /// All rows of a node.
    pub(super) fn gather(&self, node: &'a Node, room: &MemoryBudget<'a>) -> Result<Rows> {
        let pipeline = self.pipeline(node)?;
        if pipeline.steps.is_empty() && !matches!(node.operator, Operator::Scan { .. }) {
            return Ok(pipeline.source);
        }
        self.drive(&pipeline, &Gather::of(room.clone()), None)
    }

    /// Runs a pipeline into a sink; `node` is whose work the sink is.
    pub(super) fn drive<S: Sink>(&self, pipeline: &Pipeline<'a>, sink: &S, node: Option<&Node>) -> Result<S::Output> {
        pipeline.drive(sink, node.map(|node| node.id), self.run, self.workers)
    }

    /// The pipeline whose last step is this node.
    pub(super) fn pipeline(&self, node: &'a Node) -> Result<Pipeline<'a>> {
        if let Some(measure) = self.measure(node) {
            measure.add_run();
        }
        match &node.operator {
            Operator::OneRow
            | Operator::Empty
            | Operator::Aggregate { .. }
            | Operator::Distinct(_)
            | Operator::Sort(_)
            | Operator::TopN { .. }
            | Operator::Values(_)
            | Operator::Window { .. }
            | Operator::UnionAll(_)
            | Operator::Compare { .. }
            | Operator::SharedStep { .. }
            | Operator::Recursion(_)
            | Operator::RecursionInput { .. }
            | Operator::Limit { .. } => Ok(Pipeline::of(self.source(node)?, node.rows)),
            Operator::Scan { scan, read, access } => self.scan(node, scan, (read, access.as_deref())),
            Operator::Filter(conjuncts) => self.filter(node, conjuncts),
            Operator::Project(computed) => self.project(node, computed),
            Operator::Join(spec) => self.join(node, spec),
            Operator::IndexJoin(join) => self.index_join(node, join),
            Operator::Expand { expand, made, ordinality } => self.expand(node, expand, made, *ordinality),
        }
    }

    /// All rows of a node that gathers them, or has none to read.
    fn source(&self, node: &'a Node) -> Result<Rows> {
        let room = self.room(node);
        let rows = match &node.operator {
            Operator::OneRow => vec![Batch::new(Vec::new(), 1)].into(),
            Operator::Empty => Rows::default(),
            Operator::Aggregate { method, keys, aggregates } => {
                let keys: Vec<&Expr> = keys.iter().map(|(_, key)| key).collect();
                let aggregates: Vec<&Aggregate> = aggregates.iter().map(|(_, aggregate)| aggregate).collect();
                self.grouped((node, *method), &keys, &aggregates)?
            }
            Operator::Distinct(keys) => {
                self.grouped((node, GroupMethod::Hash), &keys.iter().collect::<Vec<_>>(), &[])?
            }
            Operator::Sort(keys) => {
                let input = &node.inputs[0];
                let sink = Sort::new(room.clone(), sort_keys(keys, &input.output)?, input.output.len());
                let rows = self.drive(&self.pipeline(input)?, &sink, Some(node))?;
                rows.select(&places(&node.output, &input.output)?)
            }
            Operator::TopN { keys, offset, fetch } => {
                let input = &node.inputs[0];
                let keys = sort_keys(keys, &input.output)?;
                let sink = TopN::new(room, keys, input.output.len(), *offset, *fetch);
                let rows = self.drive(&self.pipeline(input)?, &sink, Some(node))?;
                rows.select(&places(&node.output, &input.output)?)
            }
            Operator::Limit { offset, fetch } => {
                let sink = Limited::new(room, *offset, *fetch);
                self.drive(&self.pipeline(&node.inputs[0])?, &sink, Some(node))?
            }
            Operator::Values(rows) => values(rows, self.run.batch_rows)?.into(),
            Operator::Window { partition, order, calls, first } => {
                self.window(node, partition, order, (calls, *first))?
            }
            Operator::UnionAll(places) => {
                let mut all = Rows::default();
                for (input, columns) in node.inputs.iter().zip(places) {
                    all.append(self.gathered_as(input, columns)?);
                }
                all
            }
            Operator::Compare { op, all, columns: [first, second] } => {
                let [left, right] = node.inputs.as_slice() else {
                    return Err(internal("a set operator has two inputs"));
                };
                let right = self.gathered_as(right, second)?;
                let left = self.gathered_as(left, first)?;
                set_operation::compare(*op, *all, [left, right], &room)?
            }
            Operator::SharedStep { id, columns, .. } => {
                let rows = self.step(*id)?;
                let layout = &self.steps.get(id).ok_or_else(|| internal("a step has no plan"))?.output;
                rows.view(&places(columns, layout)?)
            }
            Operator::Recursion(spec) => self.recursion(node, spec)?,
            Operator::RecursionInput { id, member, places, .. } => {
                let inputs = self.inputs.borrow();
                let rows = inputs.get(&(*id, *member)).ok_or_else(super::recursion::no_input)?;
                rows.iter().map(|batch| select(batch, places)).collect::<Vec<_>>().into()
            }
            Operator::Scan { .. }
            | Operator::Filter(_)
            | Operator::Project(_)
            | Operator::Expand { .. }
            | Operator::Join(_)
            | Operator::IndexJoin(_) => return Err(internal("this operator gathers nothing")),
        };
        if let Some(measures) = self.run.measures {
            rows.segments.iter().for_each(|segment| measures.of(node.id).add_output(segment.rows()));
        }
        Ok(rows)
    }
}

impl<'a> Compiler<'a> {
    fn grouped(
        &self,
        (node, method): (&'a Node, GroupMethod),
        keys: &[&Expr],
        aggregates: &[&Aggregate],
    ) -> Result<Rows> {
        let input = &node.inputs[0];
        let argument = |aggregate: &&Aggregate| -> Result<Aggregate> {
            Aggregate::clone(aggregate).map_exprs(&mut |expr| resolve(&expr, &input.output))
        };
        let keys = keys.iter().map(|key| resolve(key, &input.output)).collect::<Result<_>>()?;
        let aggregates: Vec<Aggregate> = aggregates.iter().map(argument).collect::<Result<_>>()?;
        let (room, pipeline) = (self.room(node), self.pipeline(input)?);
        match method {
            GroupMethod::Hash => {
                let (batch_rows, threads) = (self.run.batch_rows, self.threads()?);
                let owners = owners(&aggregates);
                let sink = HashAggregate { room, keys, aggregates, owners, batch_rows, threads };
                self.drive(&pipeline, &sink, Some(node))
            }
            GroupMethod::Sorted => self.drive(&pipeline, &SortedAggregate { room, keys, aggregates }, Some(node)),
        }
    }

    /// All rows of an input, with these of its columns.
    fn gathered_as(&self, input: &'a Node, columns: &[ColumnId]) -> Result<Rows> {
        Ok(self.gather(input, &self.room(input))?.select(&places(columns, &input.output)?))
    }
}

/// The scan below a FETCH FIRST to which every row of the result is one row, and how many of its rows that takes.
fn limit_of_scan(node: &Node) -> Option<(usize, u64)> {
    let Operator::Limit { offset, fetch } = &node.operator else { return None };
    let most = offset.checked_add((*fetch)?)?;
    let mut input = node.inputs.first()?;
    while let Operator::Project(_) = &input.operator {
        input = input.inputs.first()?;
    }
    matches!(&input.operator, Operator::Scan { .. }).then_some((input.id.0, most))
}

/// Rows of expressions without columns.
fn values(rows: &[Vec<Expr>], batch_rows: usize) -> Result<Vec<Batch>> {
    let one = Batch::new(Vec::new(), 1);
    let block = |rows: &[Vec<Expr>]| {
        let parts = rows.iter().map(|row| {
            let columns = row.iter().map(|expr| evaluate(expr, &one)?.into_array(1)).collect::<Result<_>>()?;
            Ok(Batch::new(columns, 1))
        });
        Batch::concat(&parts.collect::<Result<Vec<_>>>()?, None)
    };
    rows.chunks(batch_rows.max(1)).map(block).collect()
}

/// Keys of an order over the places of columns.
pub(super) fn sort_keys(keys: &[SortKey], layout: &[ColumnId]) -> Result<Vec<SortKey>> {
    keys.iter().map(|key| Ok(SortKey { expr: resolve(&key.expr, layout)?, ..key.clone() })).collect()
}
