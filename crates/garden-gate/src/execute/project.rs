use super::pipeline::{Flow, Transform};
use crate::diagnostic::Result;
use crate::kernel::{Batch, evaluate};
use crate::logical::Expr;

/// Computes one column an expression; plain columns are passed on without a copy. Order of rows is kept.
pub(super) struct Project {
    pub(super) exprs: Vec<Expr>,
}

impl Transform for Project {
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        let column = |expr: &Expr| evaluate(expr, &batch)?.into_array(batch.rows);
        let columns = self.exprs.iter().map(column).collect::<Result<_>>()?;
        emit(Batch::new(columns, batch.rows))
    }
}
