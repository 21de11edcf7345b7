//! Inner hash join. The build side is gathered and held with a table of its keys; each probe batch looks up its keys. Rows come
//! in the order of the probe side, matches of one row in the order of the build side.

use super::filter::Filter;
use super::pipeline::Transform;
use crate::diagnostic::Result;
use crate::kernel::{Batch, JoinTable, evaluate};
use crate::logical::Expr;
use arrow::array::{ArrayRef, UInt32Array};

/// Where a column of the result comes from.
#[derive(Clone, Copy, Debug)]
pub(super) enum From {
    Probe(usize),
    Build(usize),
}

pub(super) struct Probe<'a> {
    pub(super) keys: Vec<Expr>,
    pub(super) table: JoinTable,
    pub(super) build: Batch,
    /// The columns of a joined row, as the residual condition and the output see them.
    pub(super) joined: Vec<From>,
    /// Tests what is no key, and narrows to the output columns.
    pub(super) residual: Option<Filter<'a>>,
    pub(super) batch_rows: usize,
}

/// The keys of a batch, one array each.
pub(super) fn keys(exprs: &[Expr], batch: &Batch) -> Result<Vec<ArrayRef>> {
    exprs.iter().map(|expr| evaluate(expr, batch)?.into_array(batch.rows)).collect()
}

/// The joined rows of pairs of a probe row and a build row.
pub(super) fn gather(
    joined: &[From],
    probe: &Batch,
    build: &Batch,
    (probe_rows, build_rows): (Vec<u32>, Vec<u32>),
) -> Result<Batch> {
    let rows = probe_rows.len();
    let (probe_rows, build_rows) = (UInt32Array::from(probe_rows), UInt32Array::from(build_rows));
    let column = |from: &From| match from {
        From::Probe(at) => arrow::compute::take(&probe.columns[*at], &probe_rows, None),
        From::Build(at) => arrow::compute::take(&build.columns[*at], &build_rows, None),
    };
    Ok(Batch::new(joined.iter().map(column).collect::<Result<_, _>>()?, rows))
}

impl Probe<'_> {
    fn emit_pairs(
        &self,
        probe: &Batch,
        pairs: (Vec<u32>, Vec<u32>),
        emit: &mut dyn FnMut(Batch) -> Result<()>,
    ) -> Result<()> {
        if pairs.0.is_empty() {
            return Ok(());
        }
        let batch = gather(&self.joined, probe, &self.build, pairs)?;
        match &self.residual {
            Some(residual) => residual.apply(batch, emit),
            None => emit(batch),
        }
    }
}

impl Transform for Probe<'_> {
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<()>) -> Result<()> {
        let keys = keys(&self.keys, &batch)?;
        let mut pairs = (Vec::with_capacity(batch.rows), Vec::with_capacity(batch.rows));
        self.table.probe(&keys, batch.rows, |probe, build| {
            pairs.0.push(probe);
            pairs.1.push(build);
            // One row may have very many matches: give them on in batches.
            if pairs.0.len() == self.batch_rows {
                return self.emit_pairs(&batch, std::mem::take(&mut pairs), emit);
            }
            Ok(())
        })?;
        self.emit_pairs(&batch, pairs, emit)
    }
}
