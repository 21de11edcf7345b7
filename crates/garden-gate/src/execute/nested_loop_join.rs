//! Inner join without an equality: every pair of rows is tried, a block of the inner side at a time.

use super::control::Control;
use super::filter::Filter;
use super::hash_join::{From, gather};
use super::pipeline::Transform;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::types::index;

pub(super) struct NestedLoop<'a> {
    pub(super) control: &'a Control,
    pub(super) inner: Batch,
    pub(super) joined: Vec<From>,
    /// Tests the condition and narrows to the output columns.
    pub(super) condition: Filter<'a>,
    pub(super) batch_rows: usize,
}

impl Transform for NestedLoop<'_> {
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<()>) -> Result<()> {
        let (outer_rows, inner_rows) = (index(batch.rows), index(self.inner.rows));
        let mut pairs = (Vec::with_capacity(self.batch_rows), Vec::with_capacity(self.batch_rows));
        for outer in 0..outer_rows {
            for inner in 0..inner_rows {
                pairs.0.push(outer);
                pairs.1.push(inner);
                if pairs.0.len() == self.batch_rows {
                    // Very many pairs may pass before one fulfils the condition.
                    self.control.check()?;
                    let full = std::mem::take(&mut pairs);
                    self.condition.apply(gather(&self.joined, &batch, &self.inner, full)?, emit)?;
                }
            }
        }
        if pairs.0.is_empty() {
            Ok(())
        } else {
            self.condition.apply(gather(&self.joined, &batch, &self.inner, pairs)?, emit)
        }
    }
}
