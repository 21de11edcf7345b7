//! Rows that are handed on as they come: the plan's last pipeline runs on one worker, and waits for whoever takes its batches.
//!
//! Pipelines below it (builds of joins, groupings, sorts) run on all workers before the first row is there, and keep to the memory
//! limit. FETCH and UNION ALL at the top are streamed too, so that the work ends with the last row that is wanted.

use super::compile::Compiler;
use super::pipeline::{Flow, Sequence, Sink};
use super::streaming::places;
use crate::control::too_many_rows;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::logical::ColumnId;
use crate::physical::{Node, Operator};
use std::ops::ControlFlow;
use std::sync::atomic::{AtomicU64, Ordering};

/// Takes a batch; `Break` when no more are wanted.
pub type Deliver<'a> = dyn Fn(Batch) -> ControlFlow<()> + Sync + 'a;

/// Which rows of a result are handed on. The counts are shared by the inputs of a UNION ALL, which run one after the other.
struct Window {
    skip: AtomicU64,
    left: AtomicU64,
    /// Rows that there may be, and those that there were.
    most: Option<u64>,
    delivered: AtomicU64,
}

/// The end of the last pipeline.
struct Delivery<'d> {
    window: &'d Window,
    deliver: &'d Deliver<'d>,
    /// The columns of the result among those of the pipeline.
    places: Vec<usize>,
}

impl Sink for Delivery<'_> {
    type Local = ();
    type Output = bool;

    fn local(&self) -> Result<()> {
        Ok(())
    }

    fn push(&self, (): &mut (), _: Sequence, batch: Batch) -> Result<Flow> {
        let rows = batch.rows as u64;
        let skipped = self.window.skip.load(Ordering::Relaxed).min(rows);
        let kept = self.window.left.load(Ordering::Relaxed).min(rows - skipped);
        self.window.skip.fetch_sub(skipped, Ordering::Relaxed);
        let left = self.window.left.fetch_sub(kept, Ordering::Relaxed) - kept;
        if kept > 0 {
            let delivered = self.window.delivered.fetch_add(kept, Ordering::Relaxed) + kept;
            if let Some(most) = self.window.most.filter(|most| delivered > *most) {
                return Err(too_many_rows(most));
            }
            let columns = self.places.iter().map(|place| batch.columns[*place].clone()).collect();
            let mut batch = Batch::new(columns, batch.rows);
            if kept < rows {
                // Both are at most the rows of a batch.
                let size = |count: u64| usize::try_from(count).unwrap_or(usize::MAX);
                batch = batch.slice(size(skipped), size(kept));
            }
            if (self.deliver)(batch).is_break() {
                self.window.left.store(0, Ordering::Relaxed);
                return Ok(Flow::Enough);
            }
        }
        Ok(if left == 0 { Flow::Enough } else { Flow::More })
    }

    fn finish(&self, _: Vec<()>) -> Result<bool> {
        Ok(self.window.left.load(Ordering::Relaxed) > 0)
    }
}

impl<'a> Compiler<'a> {
    /// Hands on the rows of a plan, in order.
    pub(super) fn deliver(&self, root: &'a Node, output: &[ColumnId], deliver: &Deliver<'_>) -> Result<()> {
        let (mut root, mut output) = (root, output.to_vec());
        let (mut skip, mut left) = (0, u64::MAX);
        while let Operator::Limit { offset, fetch } = &root.operator {
            // The rows of the outer window lie within those of the inner one.
            let behind = fetch.map_or(u64::MAX, |fetch| fetch.saturating_sub(skip));
            (skip, left) = (skip.saturating_add(*offset), left.min(behind));
            output = same_places(&output, &root.output, &root.inputs[0].output)?;
            root = &root.inputs[0];
        }
        let (skip, left) = (AtomicU64::new(skip), AtomicU64::new(left));
        let window = Window { skip, left, most: self.run.most_rows, delivered: AtomicU64::new(0) };
        self.deliver_node(root, &output, (&window, deliver)).map(|_| ())
    }

    /// Whether more rows are wanted.
    fn deliver_node(
        &self,
        node: &'a Node,
        output: &[ColumnId],
        (window, deliver): (&Window, &Deliver<'_>),
    ) -> Result<bool> {
        if let Operator::UnionAll(inputs) = &node.operator {
            for (input, columns) in node.inputs.iter().zip(inputs) {
                let output = same_places(output, &node.output, columns)?;
                if !self.deliver_node(input, &output, (window, deliver))? {
                    return Ok(false);
                }
            }
            return Ok(true);
        }
        if window.left.load(Ordering::Relaxed) == 0 {
            return Ok(false);
        }
        let pipeline = self.pipeline(node)?;
        pipeline.drive(&Delivery { window, deliver, places: places(output, &node.output)? }, None, self.run, 1)
    }
}

/// The columns that stand in `to` where `wanted` stand in `from`.
fn same_places(wanted: &[ColumnId], from: &[ColumnId], to: &[ColumnId]) -> Result<Vec<ColumnId>> {
    Ok(places(wanted, from)?.into_iter().map(|place| to[place]).collect())
}
