//! `NEXT VALUE FOR` (clause 6.14): a number for each row, the same for every use of the sequence in the row.

use super::Binder;
use super::problem::Problem;
use super::scope::Clause;
use super::window::BoundWindow;
use crate::catalog::Sequence;
use crate::diagnostic::{Result, Span, nearest};
use crate::logical::{ColumnId, Expr, Frame, LogicalPlan, WindowCall, WindowFunction};
use crate::syntax::ast::Ident;
use std::sync::Arc;

impl Binder<'_> {
    /// `NEXT VALUE FOR sequence`, where each row is made just once.
    pub(super) fn next_value(&mut self, name: &[Ident], clause: Clause, span: Span) -> Expr {
        let outermost = self.depth <= 1 && self.outer.is_empty() && self.views == 0;
        if !outermost || !matches!(clause, Clause::Select | Clause::Values | Clause::Set | Clause::Definition) {
            return self.report(&Problem::NextValueMisplaced { clause, inside: !outermost }, span);
        }
        let sequence = match self.sequence_of(name) {
            Ok(sequence) => sequence,
            Err(problem) => return self.report(&problem, span),
        };
        let sql_type = sequence.numbers.sql_type;
        if let Some(id) = self.level.windows.iter().find(|(_, window)| window.numbers(&sequence)).map(|(id, _)| *id) {
            return Expr::column(id, sql_type, span);
        }
        let id = self.new_column(&format!("next {}", sequence.name), sql_type);
        let (function, frame) = (WindowFunction::NextValue(sequence), Frame::usual());
        let call = WindowCall { function, arguments: Vec::new(), frame, from_last: false, ignore_nulls: false, span };
        self.level.windows.push((id, BoundWindow::of(call)));
        Expr::column(id, sql_type, span)
    }

    fn sequence_of(&self, name: &[Ident]) -> Result<Arc<Sequence>, Problem> {
        let (schema, sequence) = match name {
            [sequence] => (None, sequence),
            [schema, sequence] => (Some(schema), sequence),
            _ => return Err(Problem::NameTooLong),
        };
        let known: Vec<&Arc<Sequence>> =
            self.schemas_of(schema).into_iter().flat_map(|schema| &schema.sequences).collect();
        let found = known.iter().find(|known| sequence.matches(&known.name));
        found.map(|found| Arc::clone(found)).ok_or_else(|| Problem::NoSuchSequence {
            name: sequence.text.clone(),
            near: nearest(&sequence.text, known.iter().map(|known| known.name.as_str())).map(str::to_owned),
        })
    }

    /// Takes what `NEXT VALUE FOR` stands for since: a number for each row of a plan, beside its columns.
    pub(super) fn with_next_values(&mut self, plan: LogicalPlan) -> LogicalPlan {
        let taken: Vec<(ColumnId, BoundWindow)> = std::mem::take(&mut self.level.windows);
        self.windows(plan, taken)
    }

    /// Whether any expression since has asked for a number.
    pub(super) fn has_next_values(&self) -> bool {
        !self.level.windows.is_empty()
    }
}
