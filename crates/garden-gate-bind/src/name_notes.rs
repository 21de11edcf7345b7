//! Notes on names that mean another column than it looks.

use super::Binder;
use super::query::Rows;
use super::scope::{At, Clause, Scope};
use super::style_notes::only_column;
use crate::diagnostic::{Note, Span};
use crate::logical::{ColumnId, Expr, ExprKind, LogicalPlan};
use crate::syntax::ast::{self, CompareOp};

const OUTER_HELP: &str =
    "if a column of the inner query is meant, look for its right name; else write it with its table's name";

/// Whether this is a name alone, without that of a table.
fn is_bare(expr: &ast::Expr) -> bool {
    matches!(&expr.kind, ast::ExprKind::Name(name) if name.len() == 1)
}

impl Binder<'_> {
    /// `x IN (SELECT y FROM …)` where `y` is not a column of the query's own tables.
    pub(super) fn note_outer_name(&mut self, query: &ast::Query, rows: &Rows, around: &Scope) {
        let ast::QueryBody::Select(select) = &query.body else { return };
        let [ast::SelectItem::Expr { expr, .. }] = select.items.as_slice() else { return };
        let Some((plan, column)) = only_column(rows).filter(|_| is_bare(expr) && !select.from.is_empty()) else {
            return;
        };
        let is_outside = |id: ColumnId| around.star.iter().any(|column| column.id == id) || self.is_outer(id);
        let mut from_outside = false;
        plan.walk(&mut |node| {
            let LogicalPlan::Project { computed, .. } = node else { return };
            from_outside |= computed
                .iter()
                .any(|(id, expr)| *id == column.id && matches!(expr.kind(), ExprKind::Column(id) if is_outside(*id)));
        });
        if !from_outside {
            return;
        }
        let text = self.text(expr.span);
        let message = format!(
            "{text} is not a column of the inner query: it comes from the enclosing query, and is the same for every row"
        );
        self.note(Note::new("outer-name", message).at(expr.span).help(OUTER_HELP));
    }

    /// `WHERE x = 1` in an inner query where `x` is not a column of its own tables: the condition says nothing of their rows.
    pub(super) fn note_outer_condition(
        &mut self,
        operands: &ast::Operands,
        (left, right): (&Expr, &Expr),
        At { scope, clause }: At<'_>,
    ) {
        let bare = [&operands.left, &operands.right].into_iter().find(|operand| is_bare(operand));
        let Some(name) = bare.filter(|_| clause == Clause::Where && !scope.relations.is_empty()) else { return };
        let used = [left.columns(), right.columns()].concat();
        if used.is_empty() || !used.iter().all(|id| self.is_outer(*id)) {
            return;
        }
        let message = format!(
            "{} is not a column of the inner query: the condition is about the query around, and says nothing of the inner rows",
            self.text(name.span)
        );
        self.note(Note::new("outer-name", message).at(name.span).help(OUTER_HELP));
    }

    /// `x = x`, where both are the same column: one of them was probably to be another table's.
    pub(super) fn note_self_comparison(&mut self, op: CompareOp, sides: (&Expr, &Expr), span: Span) {
        let (ExprKind::Column(left), ExprKind::Column(right)) = (sides.0.kind(), sides.1.kind()) else { return };
        if left != right {
            return;
        }
        let name = self.columns.get(*left).name.clone();
        let holds = matches!(op, CompareOp::Equal | CompareOp::LessOrEqual | CompareOp::GreaterOrEqual);
        let when = if holds { "TRUE for each row in which it is not NULL" } else { "TRUE for no row" };
        let owners = self.outer.iter().rev().flat_map(|outer| &outer.scope.relations);
        let mut owners = owners.filter(|owner| owner.columns.iter().any(|column| column.name == name));
        let help = owners.next().map_or_else(
            || "write the other column, with its table's name".to_owned(),
            |owner| format!("for {name} of the query around write {}.{name}", owner.name),
        );
        let message = format!("{name} is compared with itself: that is {when}");
        self.note(Note::new("self-comparison", message).at(span).help(help));
    }
}
