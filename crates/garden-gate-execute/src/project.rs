use super::pipeline::{Flow, Transform};
use crate::diagnostic::Result;
use crate::kernel::{Batch, evaluate_at_once, in_parts};
use crate::logical::Expr;
use std::ops::ControlFlow;

/// Computes one column an expression; plain columns are passed on without a copy. Order of rows is kept;
/// a batch whose new columns are wide goes on in parts.
pub(super) struct Project {
    pub(super) exprs: Vec<Expr>,
}

impl Transform for Project {
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        let computed = |part: &Batch| {
            let column = |expr: &Expr| evaluate_at_once(expr, part)?.into_array(part.rows);
            Ok(Batch::new(self.exprs.iter().map(column).collect::<Result<_>>()?, part.rows))
        };
        let flow = in_parts(&batch, &computed, &mut |part| {
            Ok(match emit(part)? {
                Flow::More | Flow::LastMorsel => ControlFlow::Continue(()),
                Flow::Enough => ControlFlow::Break(()),
            })
        })?;
        Ok(if flow.is_break() { Flow::Enough } else { Flow::More })
    }
}
