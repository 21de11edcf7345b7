//! Sort: gathers all rows, encodes the keys so that bytes compare as values do, and orders row numbers by them. Rows with equal
//! keys keep the order of the input. O(n log n); holds all rows, their encoded keys and 4 bytes a row.

use super::control::Control;
use super::pipeline::{Flow, Sequence, Sink};
use super::result::Gather;
use crate::diagnostic::Result;
use crate::kernel::{Batch, evaluate, sort_options};
use crate::logical::SortKey;
use crate::types::index;
use arrow::array::{ArrayRef, UInt32Array};
use arrow::row::{RowConverter, SortField};

pub(super) struct Sort<'a> {
    gather: Gather<'a>,
    keys: Vec<SortKey>,
}

impl<'a> Sort<'a> {
    pub(super) fn new(control: &'a Control, keys: Vec<SortKey>) -> Self {
        Self { gather: Gather::all(control), keys }
    }
}

impl Sink for Sort<'_> {
    type Local = Vec<(Sequence, Batch)>;
    type Output = Vec<Batch>;

    fn local(&self) -> Result<Self::Local> {
        self.gather.local()
    }

    fn push(&self, local: &mut Self::Local, at: Sequence, batch: Batch) -> Result<Flow> {
        self.gather.push(local, at, batch)
    }

    fn finish(&self, locals: Vec<Self::Local>) -> Result<Vec<Batch>> {
        let batches = self.gather.finish(locals)?;
        if batches.is_empty() {
            return Ok(batches);
        }
        let all = Batch::concat(&batches, None)?;
        self.gather.control.hold(all.bytes())?;
        Ok(vec![sorted(&all, &self.keys)?])
    }
}

/// The rows in the order of `keys`, equal ones as they came.
pub(super) fn sorted(batch: &Batch, keys: &[SortKey]) -> Result<Batch> {
    let arrays =
        keys.iter().map(|key| evaluate(&key.expr, batch)?.into_array(batch.rows)).collect::<Result<Vec<ArrayRef>>>()?;
    let fields = keys
        .iter()
        .zip(&arrays)
        .map(|(key, array)| SortField::new_with_options(array.data_type().clone(), sort_options(key)));
    let rows = RowConverter::new(fields.collect())?.convert_columns(&arrays)?;
    let mut order: Vec<u32> = (0..index(batch.rows)).collect();
    order.sort_unstable_by(|a, b| rows.row(*a as usize).cmp(&rows.row(*b as usize)).then(a.cmp(b)));
    batch.take(&UInt32Array::from(order))
}
