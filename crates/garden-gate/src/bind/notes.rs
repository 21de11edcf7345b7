//! Notes on what is legal and probably not meant.

use super::Binder;
use crate::diagnostic::{Note, Span};
use crate::syntax::ast::{self, CompareOp};
use crate::types::{SqlType, Value};

fn is_null_literal(expr: &ast::Expr) -> bool {
    matches!(expr.kind, ast::ExprKind::Literal(Value::Null, SqlType::Null))
}

impl Binder<'_> {
    /// `x = NULL` is UNKNOWN for every row (clause 8.2).
    pub(super) fn note_null_comparison(&mut self, op: CompareOp, operands: &(ast::Expr, ast::Expr), span: Span) {
        let other = match (is_null_literal(&operands.0), is_null_literal(&operands.1)) {
            (false, true) => &operands.0,
            (true, false) => &operands.1,
            _ => return,
        };
        let test = if op == CompareOp::NotEqual { "IS NOT NULL" } else { "IS NULL" };
        let help = format!("write {} {test}", self.text(other.span));
        let message = format!("a comparison with NULL by {} is UNKNOWN for every row, never TRUE", op.symbol());
        self.note(Note::new("null-comparison", message).at(span).help(help));
    }

    /// `GROUP BY 1` makes one group: a position means a column in ORDER BY only.
    pub(super) fn note_constant_grouping(&mut self, key: &ast::Expr) {
        if let ast::ExprKind::Literal(value, _) = &key.kind {
            let message =
                format!("GROUP BY {value} puts all rows into one group: {value} is a value here, no position");
            let note = Note::new("constant-grouping", message).at(key.span);
            self.note(note.help("repeat the expression of the column in GROUP BY"));
        }
    }

    pub(super) fn note_integer_division(&mut self, span: Span) {
        let text = self.text(span);
        let help = format!(
            "for digits after the point make one side a decimal: CAST({} AS NUMERIC(10,2)) / …",
            first_operand(text)
        );
        let message = format!("{text} divides whole numbers: the result is cut to a whole number");
        self.note(Note::new("integer-division", message).at(span).help(help));
    }

    /// `SELECT name sun FROM bed` shows one column called sun; a comma was probably meant.
    pub(super) fn note_alias_is_column(&mut self, alias: &ast::Ident) {
        let name = &alias.text;
        let message =
            format!("{name} is taken as the new name of the column before it, though there is a column {name}");
        let help = format!("for two columns put a comma before {name}; for a new name write AS {name}");
        self.note(Note::new("alias-is-column", message).at(alias.span).help(help));
    }

    /// A query of WITH that nothing reads.
    pub(super) fn note_unused_with(&mut self, name: &ast::Ident) {
        let message = format!("{} is never used", name.text);
        let help = format!("take it away, or read it: SELECT * FROM {}", name.text);
        self.note(Note::new("unused-step", message).at(name.span).help(help));
    }

    /// NATURAL JOIN of tables without a common name pairs all rows.
    pub(super) fn note_natural_without_names(&mut self, span: Span) {
        let message = "the tables have no column name in common: every row is paired with every other";
        let note = Note::new("natural-without-columns", message).at(span);
        self.note(note.help("say what must be equal: JOIN … ON …"));
    }

    /// Columns that stand under the same names in another order were probably mixed up (clause 7.17 goes by place).
    pub(super) fn note_mixed_columns(&mut self, operands: &[super::query::Rows], operation: &ast::SetOperation) {
        let first = &operands[0].1;
        for (_, other) in &operands[1..] {
            if other.len() != first.len() {
                return;
            }
            let place = |name: &str| first.iter().position(|column| column.name.eq_ignore_ascii_case(name));
            let moved: Vec<String> = other
                .iter()
                .enumerate()
                .filter(|(at, column)| place(&column.name).is_some_and(|there| there != *at))
                .map(|(_, column)| column.name.clone())
                .collect();
            if moved.len() > 1 {
                let what = operation.op.name();
                let names = crate::diagnostic::sentence_list(&moved);
                let message =
                    format!("{what} goes by place, not by name: {names} stand in other places in the two queries");
                let help = format!("put them in the same order, or write {what} CORRESPONDING to go by name");
                self.note(Note::new("mixed-columns", message).at(operation.span).help(help));
                return;
            }
        }
    }
}

fn first_operand(division: &str) -> &str {
    division.rsplit_once('/').map_or(division, |(left, _)| left.trim())
}
