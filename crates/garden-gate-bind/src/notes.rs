//! Notes on what is legal and probably not meant.

use super::Binder;
use crate::catalog::Table;
use crate::diagnostic::{Note, Span};
use crate::logical::{ColumnId, Expr};
use crate::syntax::ast::{self, CompareOp};
use crate::types::{SqlType, Value};

fn is_null_literal(expr: &ast::Expr) -> bool {
    matches!(expr.kind, ast::ExprKind::Literal(Value::Null, SqlType::Null))
}

impl Binder<'_> {
    /// `x = NULL` is UNKNOWN for every row (clause 8.2).
    pub(super) fn note_null_comparison(&mut self, op: CompareOp, operands: &ast::Operands, span: Span) {
        let other = match (is_null_literal(&operands.left), is_null_literal(&operands.right)) {
            (false, true) => &operands.left,
            (true, false) => &operands.right,
            _ => return,
        };
        let test = if op == CompareOp::NotEqual { "IS NOT NULL" } else { "IS NULL" };
        let written = format!("{} {test}", self.text(other.span));
        let message = format!("a comparison with NULL by {} is UNKNOWN for every row, never TRUE", op.symbol());
        let note = Note::new("null-comparison", message).at(span);
        self.note(note.help(format!("write {written}")).replaced_by(written));
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

    /// Notes that a division of integers drops what is after the point.
    pub(super) fn note_integer_division(&mut self, span: Span) {
        let text = self.text(span);
        let help = format!(
            "for digits after the point make one side a decimal: CAST({} AS NUMERIC(10,2)) / …",
            first_operand(text)
        );
        let message = format!("{text} divides integers: the result is cut to an integer");
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

    /// A file whose header has been read as one column, and is of several with another delimiter.
    pub(super) fn note_header_in_one(&mut self, table: &Table) {
        let [column] = table.source.columns() else { return };
        let Some(delimiter) = [';', '\t', '|'].into_iter().find(|sign| column.name.contains(*sign)) else { return };
        if table.definition.is_some() {
            return;
        }
        let shown = if delimiter == '\t' { "\\t".to_owned() } else { delimiter.to_string() };
        let count = column.name.split(delimiter).count();
        let message = format!("the header of {} is read as one column: {:?}", table.name, column.name);
        let help = format!("with the option (DELIMITER '{shown}') after the name of the file it has {count} columns");
        self.note(Note::new("one-column-header", message).help(help));
    }

    /// A column of a file that is text for the sake of a few values: it is ordered and compared as text.
    pub(super) fn note_text_reason(&mut self, id: ColumnId, span: Span) {
        let info = self.columns.get(id);
        let Some((source, place)) = &info.origin else { return };
        let Some(reason) = source.text_reason(*place) else { return };
        let name = &info.name;
        let message = format!("{name} is text, and is compared and sorted as text: {reason}");
        if self.notes.iter().any(|note| note.message == message) {
            return;
        }
        let value = reason.value.replace('\'', "''");
        let help = if reason.alike {
            let sql_type = reason.sql_type;
            format!(
                "CAST(NULLIF({name}, '{value}') AS {sql_type}) makes it NULL; so does the option NULL TEXT '{value}' of a file with a delimiter"
            )
        } else {
            let kind = reason.kind();
            format!(
                "a load into a table whose column is a {kind} lists all such values: INSERT INTO … FROM FILE … (ERRORS INTO …)"
            )
        };
        self.note(Note::new("text-column", message).at(span).help(help));
    }

    /// The bounds of BETWEEN, both constant and exchanged: no value lies between them.
    pub(super) fn note_exchanged_bounds(&mut self, (low, high): (&Expr, &Expr), operands: &[ast::Expr; 3], span: Span) {
        let (Some(a), Some(b)) = (low.constant(), high.constant()) else { return };
        let greater = match (a, b) {
            (Value::Integer(a), Value::Integer(b)) => a > b,
            (Value::Numeric(_) | Value::Integer(_), Value::Numeric(_) | Value::Integer(_)) => {
                let number = |value: &Value| value.to_string().parse::<f64>().unwrap_or_default();
                number(a) > number(b)
            }
            (Value::Date(a), Value::Date(b)) => a > b,
            (Value::Timestamp(a), Value::Timestamp(b)) => a > b,
            (Value::Time(a), Value::Time(b)) => a > b,
            (Value::Double(a), Value::Double(b)) => a > b,
            (Value::Text(a), Value::Text(b)) => a > b,
            _ => false,
        };
        if !greater {
            return;
        }
        let before = (operands[1].span.start - span.start) as usize;
        let before = self.text(span).get(..before).unwrap_or_default();
        let [low, high] = [&operands[1], &operands[2]].map(|part| self.text(part.span));
        let message = format!("nothing lies between {low} and {high}: the smaller bound comes first");
        let written = format!("{before}{high} AND {low}");
        let help = format!("write {written}, or BETWEEN SYMMETRIC");
        self.note(Note::new("exchanged-bounds", message).at(span).help(help).replaced_by(written));
    }

    /// `NOT IN ('a', NULL)` is TRUE for no row (clause 8.4).
    pub(super) fn note_null_in_list(&mut self, operand: &ast::Expr, list: &[ast::Expr], span: Span) {
        if !list.iter().any(is_null_literal) {
            return;
        }
        let others: Vec<&str> =
            list.iter().filter(|item| !is_null_literal(item)).map(|item| self.text(item.span)).collect();
        let operand = self.text(operand.span);
        let written = if others.is_empty() {
            format!("{operand} IS NOT NULL")
        } else {
            format!("{operand} NOT IN ({})", others.join(", "))
        };
        let message = "with a NULL in its list NOT IN is TRUE for no row: that other value might be it";
        self.note(Note::new("not-in-null", message).at(span).help(format!("write {written}")).replaced_by(written));
    }

    /// `a = 1 AND a = 2`: no row has both.
    pub(super) fn note_contradiction(&mut self, terms: &[ast::Expr]) {
        let mut seen: Vec<(&str, &Value, Span)> = Vec::new();
        for term in terms {
            let ast::ExprKind::Compare(CompareOp::Equal, sides) = &term.kind else { continue };
            let found = match (&sides.left.kind, &sides.right.kind) {
                (ast::ExprKind::Name(_), ast::ExprKind::Literal(value, _)) => (sides.left.span, value),
                (ast::ExprKind::Literal(value, _), ast::ExprKind::Name(_)) => (sides.right.span, value),
                _ => continue,
            };
            let (name, value) = (self.text(found.0), found.1);
            let other = seen.iter().find(|(known, before, _)| known.eq_ignore_ascii_case(name) && *before != value);
            if let Some((_, before, first)) = other.filter(|_| !value.is_null()) {
                let message = format!("{name} can't be {before} and {value} in one row: no row is kept");
                let help = format!("write {name} IN ({}, {})", self.value_text(*first), self.value_text(term.span));
                let note = Note::new("contradiction", message).at(first.to(term.span)).help(help);
                self.note(note);
                return;
            }
            seen.push((name, value, term.span));
        }
    }

    /// The right side of an equality as it is written.
    fn value_text(&self, equality: Span) -> &str {
        let text = self.text(equality);
        text.split_once('=').map_or(text, |(_, value)| value.trim())
    }

    /// A common table expression that nothing reads.
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

    /// NATURAL JOIN compares all columns of one name, also those that have it by accident.
    pub(super) fn note_natural_columns(&mut self, names: &[ast::Ident], span: Span) {
        if names.len() < 2 {
            return;
        }
        let names: Vec<String> = names.iter().map(|name| name.text.clone()).collect();
        let message =
            format!("NATURAL compares every column of one name: {}", crate::diagnostic::sentence_list(&names));
        let help = format!("say which are meant: JOIN … USING ({})", names[0]);
        self.note(Note::new("natural-columns", message).at(span).help(help));
    }

    /// EXISTS whose rows do not depend on the row around: it is TRUE for all rows, or for none.
    pub(super) fn note_independent_exists(&mut self, query: &ast::Query, span: Span) {
        let ast::QueryBody::Select(select) = &query.body else { return };
        if select.from.is_empty() || self.outer.is_empty() && self.level.from == Span::default() {
            return;
        }
        let message = "the query of EXISTS does not look at the row around: it is TRUE for every row or for none";
        let help = "compare a column of the inner query with one of the outer: WHERE inner.key = outer.key";
        self.note(Note::new("independent-exists", message).at(span).help(help));
    }

    /// `LAST_VALUE` over the default frame, which ends with the current row (clause 7.15).
    pub(super) fn note_last_value(&mut self, span: Span) {
        let text = self.text(span).trim_end();
        let message = "the window ends with the current row: its last value is that of the current row, or of one that is sorted alike";
        let frame = "ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING";
        let help = match text.strip_suffix(')') {
            Some(open) => format!("write {open} {frame})"),
            None => format!("let the window have the frame {frame}"),
        };
        self.note(Note::new("last-value-frame", message).at(span).help(help));
    }

    /// UPDATE or DELETE of every row.
    pub(super) fn note_every_row(&mut self, verb: &str, table: &str, span: Span) {
        let message = format!("without WHERE all rows of {table} are {verb}");
        self.note(
            Note::new("every-row", message)
                .at(span)
                .help("WHERE says which; WHERE TRUE says that all are meant")
                .style(),
        );
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
