//! Some rows of a join, kept while a plan is made.

use crate::catalog::scattered;
use crate::collections::HashMap;
use crate::diagnostic::Result;
use crate::estimate::{can_try, in_slots};
use crate::kernel::{Batch, count_true, evaluate};
use crate::logical::{ColumnId, Expr, Scan};
use crate::types::{approximate, index};
use arrow::array::{ArrayRef, AsArray, UInt32Array};
use arrow::row::{RowConverter, SortField};

/// Rows of a join of tables, of which each stands for `weight` rows.
#[derive(Clone)]
pub(in super::super) struct SampledRows {
    pub(in super::super) columns: Vec<ColumnId>,
    pub(in super::super) batch: Batch,
    pub(in super::super) weight: f64,
}

/// Rows of a table that match some of the sample: for each the row of the sample, and its columns.
#[derive(Debug)]
pub struct MatchedRows {
    pub rows: Vec<u32>,
    pub columns: Vec<ArrayRef>,
}

impl SampledRows {
    /// How many rows they stand for.
    pub(in super::super) fn estimate(&self) -> f64 {
        self.weight * approximate(self.batch.rows)
    }

    /// At most so many of them: one drawn from each of as many equal stretches.
    pub(in super::super) fn thinned(self, most: usize) -> Result<Self> {
        let rows = self.batch.rows;
        if rows <= most {
            return Ok(self);
        }
        let drawn = |at: usize| {
            let (from, to) = (at * rows / most, (at + 1) * rows / most);
            index(from + scattered(at, to - from))
        };
        let kept: UInt32Array = (0..most).map(drawn).collect();
        let weight = self.weight * approximate(rows) / approximate(most.max(1));
        Ok(Self { batch: self.batch.take(&kept)?, weight, ..self })
    }

    /// The values of an expression over its columns; `None` where they are not at hand, or it fails.
    pub(in super::super) fn values(&self, expr: &Expr) -> Option<ArrayRef> {
        let slots: HashMap<ColumnId, usize> = self.columns.iter().copied().zip(0..).collect();
        let resolved = in_slots(expr.clone(), &slots)?;
        evaluate(&resolved, &self.batch).ok()?.into_array(self.batch.rows).ok()
    }

    /// Those for which conditions are TRUE; `None` where that cannot be told.
    pub(in super::super) fn filtered<'e>(
        mut self,
        conditions: impl IntoIterator<Item = &'e Expr>,
    ) -> Result<Option<Self>> {
        for condition in conditions {
            let truth = if can_try(condition) && !condition.can_raise() { self.values(condition) } else { None };
            let Some(truth) = truth else { return Ok(None) };
            let Some(mask) = truth.as_boolean_opt() else { return Ok(None) };
            self.batch = self.batch.filter(mask, count_true(mask))?;
        }
        Ok(Some(self))
    }

    /// Each of its rows beside those that match it.
    pub(in super::super) fn joined(&self, found: MatchedRows, columns: &[ColumnId]) -> Result<Self> {
        let rows = found.rows.len();
        let taken = self.batch.take(&UInt32Array::from(found.rows))?;
        let mut batch = Batch::new([taken.columns, found.columns].concat(), rows);
        batch.rows = rows;
        Ok(Self { columns: [&self.columns, columns].concat(), batch, weight: self.weight })
    }
}

/// The rows of a table that is at hand as a whole, where its keys are those of the sample.
pub(super) fn matches_in(table: &Batch, build: &[ArrayRef], probe: &[ArrayRef]) -> Result<Option<MatchedRows>> {
    let types: Vec<SortField> = build.iter().map(|key| SortField::new(key.data_type().clone())).collect();
    if build.iter().zip(probe).any(|(a, b)| a.data_type() != b.data_type()) {
        return Ok(None);
    }
    let converter = RowConverter::new(types)?;
    let (known, asked) = (converter.convert_columns(build)?, converter.convert_columns(probe)?);
    let has_null = |keys: &[ArrayRef], row: usize| keys.iter().any(|key| key.is_null(row));
    let mut places: HashMap<&[u8], Vec<u32>> = HashMap::default();
    for row in (0..known.num_rows()).filter(|row| !has_null(build, *row)) {
        places.entry(known.row(row).data()).or_default().push(index(row));
    }
    let (mut rows, mut found) = (Vec::new(), Vec::new());
    for row in (0..asked.num_rows()).filter(|row| !has_null(probe, *row)) {
        for place in places.get(asked.row(row).data()).into_iter().flatten() {
            rows.push(index(row));
            found.push(*place);
        }
    }
    let columns = table.take(&UInt32Array::from(found))?.columns;
    Ok(Some(MatchedRows { rows, columns }))
}

/// The columns of a table that conditions use, with their places.
pub(in super::super) fn used_columns(scan: &Scan, used: &[ColumnId]) -> (Vec<ColumnId>, Vec<usize>) {
    scan.columns.iter().copied().filter(|(id, _)| used.contains(id)).unzip()
}
