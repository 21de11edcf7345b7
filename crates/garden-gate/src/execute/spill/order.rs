use crate::diagnostic::Result;
use crate::kernel::{Batch, evaluate, sort_options};
use crate::logical::SortKey;
use crate::types::index;
use arrow::array::UInt32Array;
use arrow::row::{RowConverter, Rows, SortField};

/// An order of rows, by keys that are encoded so that their bytes compare as the rows do.
pub(in crate::execute) struct Order<'k> {
    keys: &'k [SortKey],
    converter: RowConverter,
}

impl<'k> Order<'k> {
    pub(in crate::execute) fn new(keys: &'k [SortKey]) -> Result<Self> {
        let field = |key: &SortKey| SortField::new_with_options(key.expr.sql_type().arrow(), sort_options(key));
        Ok(Self { keys, converter: RowConverter::new(keys.iter().map(field).collect())? })
    }

    pub(in crate::execute) fn is_empty(&self) -> bool {
        self.keys.is_empty()
    }

    pub(in crate::execute) fn encoded(&self, batch: &Batch) -> Result<Rows> {
        let arrays = self.keys.iter().map(|key| evaluate(&key.expr, batch)?.into_array(batch.rows));
        Ok(self.converter.convert_columns(&arrays.collect::<Result<Vec<_>>>()?)?)
    }

    /// The rows of a batch in this order, equal ones as they came.
    pub(in crate::execute) fn sorted(&self, batch: &Batch) -> Result<Batch> {
        let rows = self.encoded(batch)?;
        let mut order: Vec<u32> = (0..index(batch.rows)).collect();
        order.sort_unstable_by(|a, b| rows.row(*a as usize).cmp(&rows.row(*b as usize)).then(a.cmp(b)));
        batch.take(&UInt32Array::from(order))
    }
}
