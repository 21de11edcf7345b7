//! Notes that only a plan can tell: old statistics, and conditions that keep an index from being used.

use crate::diagnostic::Note;
use crate::logical::{
    ColumnId, Columns, CompareOp, CteDefinition, Expr, ExprKind, Function, LogicalPlan, Printer, Scan, ScanIndex,
};
use crate::physical::{Node, Operator};
use crate::types::{ArithmeticOp, ExtractField, SqlType, Value};

/// A note for each table whose statistics are older than they should be.
pub(super) fn stale(plan: &LogicalPlan, steps: &[CteDefinition]) -> Vec<Note> {
    let mut notes: Vec<Note> = Vec::new();
    for plan in std::iter::once(plan).chain(steps.iter().map(|step| &step.plan)) {
        plan.walk(&mut |node| {
            let LogicalPlan::Scan(scan) = node else { return };
            let old = scan.columns.iter().filter_map(|(_, at)| scan.source.old_statistics(*at));
            if let Some((known, changed)) = old.max_by_key(|(_, changed)| *changed) {
                let message = format!(
                    "the statistics of {} are old: {changed} rows have changed since it had {}",
                    scan.table, known.rows
                );
                if !notes.iter().any(|note| note.message == message) {
                    let help = format!("ANALYZE {} looks at it anew", scan.table);
                    notes.push(Note::new("stale-statistics", message).help(help));
                }
            }
        });
    }
    notes
}

/// A note for each condition that is about a key of an index and cannot be looked up in it, in the form it has.
pub(super) fn hidden_indexes(root: &Node, columns: &Columns) -> Vec<Note> {
    let mut notes: Vec<Note> = Vec::new();
    root.walk(&mut |node| {
        let Operator::Scan { scan, access: None, .. } = &node.operator else { return };
        for term in scan.filter.iter().filter(|term| !term.is_implied()) {
            for index in &scan.indexes {
                let Some(note) = hidden(term, scan, index, columns) else { continue };
                if !notes.iter().any(|known| known.span == note.span) {
                    notes.push(note);
                }
            }
        }
    });
    notes
}

fn hidden(term: &Expr, scan: &Scan, index: &ScanIndex, columns: &Columns) -> Option<Note> {
    let key = index.keys_over(&scan.columns).into_iter().next()??;
    let ExprKind::Column(id) = key.expr.kind() else { return None };
    let name = &columns.get(*id).name;
    let printer = Printer::of_one_table(columns);
    match term.kind() {
        ExprKind::Like(parts, _) if is_column(&parts[0], *id) => {
            let Some(Value::Text(pattern)) = parts[1].constant() else { return None };
            let open = pattern.starts_with(['%', '_']);
            open.then(|| {
                let message = format!("a pattern that begins with {:?} keeps index {} from being used", &pattern[..1], index.name);
                let help = "a pattern that begins with text can be looked up; for endings keep the text backwards in a column of its own";
                Note::new("leading-wildcard", message).at(term.span()).help(help).style()
            })
        }
        ExprKind::Compare(op, sides) => {
            let (op, around, value) = match (sides[0].constant(), sides[1].constant()) {
                (None, Some(_)) => (*op, &sides[0], &sides[1]),
                (Some(_), None) => (op.flipped(), &sides[1], &sides[0]),
                _ => return None,
            };
            if around.columns() != [*id] || op == CompareOp::NotEqual {
                return None;
            }
            Some(match around.kind() {
                ExprKind::Column(_) => return None,
                ExprKind::Cast(inner) if is_column(inner, *id) => {
                    let (from, to) = (inner.sql_type(), around.sql_type());
                    let message = format!(
                        "{name} is {from} and is cast to {to} for every row, which keeps index {} from being used",
                        index.name
                    );
                    let help = format!("compare it with a value of type {from}");
                    Note::new("hidden-index", message).at(term.span()).help(help).style()
                }
                _ => {
                    let text = printer.expr(written(around));
                    let message = format!(
                        "{text} is computed for every row, which keeps index {} on {name} from being used",
                        index.name
                    );
                    let help = rewritten((op, around, value), *id, printer).map_or_else(
                        || format!("leave {name} alone on its side, or CREATE INDEX … ON {} ({text})", scan.table),
                        |text| format!("write {text}"),
                    );
                    Note::new("hidden-index", message).at(term.span()).help(help).style()
                }
            })
        }
        _ => None,
    }
}

/// An expression without the cast to a longer text that a comparison needed.
fn written(expr: &Expr) -> &Expr {
    match expr.kind() {
        ExprKind::Cast(inner) if inner.sql_type().is_text() && expr.sql_type() == SqlType::TEXT => inner,
        _ => expr,
    }
}

/// Whether texts of one type have the same values in the other.
fn is_longer(from: SqlType, to: SqlType) -> bool {
    match (from, to) {
        (SqlType::Varchar(_), SqlType::Varchar(None)) => true,
        (SqlType::Varchar(Some(from)), SqlType::Varchar(Some(to))) => from <= to,
        _ => false,
    }
}

fn is_column(expr: &Expr, id: ColumnId) -> bool {
    match expr.kind() {
        ExprKind::Column(known) => *known == id,
        ExprKind::Cast(inner) => is_longer(inner.sql_type(), expr.sql_type()) && is_column(inner, id),
        _ => false,
    }
}

/// The same condition with the column alone on its side.
fn rewritten((op, around, value): (CompareOp, &Expr, &Expr), id: ColumnId, printer: Printer<'_>) -> Option<String> {
    match around.kind() {
        ExprKind::Arithmetic(arithmetic @ (ArithmeticOp::Add | ArithmeticOp::Subtract), sides)
            if is_column(&sides[0], id) && sides[1].is_constant() =>
        {
            let back = if *arithmetic == ArithmeticOp::Add { "-" } else { "+" };
            let (column, value, part) = (printer.expr(&sides[0]), printer.expr(value), printer.expr(&sides[1]));
            Some(format!("{column} {} {value} {back} {part}", op.symbol()))
        }
        ExprKind::Call(Function::Extract(ExtractField::Year), args) if op == CompareOp::Equal => {
            let Some(Value::Integer(year)) = value.constant() else { return None };
            let column = printer.expr(args.first()?);
            Some(format!("{column} >= DATE '{year:04}-01-01' AND {column} < DATE '{:04}-01-01'", year + 1))
        }
        _ => None,
    }
}
