//! Comparison of fixed-length text (clause 8.2 with PAD SPACE): beside a CHAR the trailing blanks of neither operand count.
//!
//! Everywhere else a CHAR keeps the blanks it was filled up with: `CHAR_LENGTH`, `||`, LIKE, CAST and assignment see them.

use super::convert::convert;
use crate::logical::{Expr, ExprKind, Function, TextFunction};
use crate::types::{RowField, SqlType, TrimSide, Value};

/// Brings text operands that are compared with each other to a form in which equal bytes are equal values.
///
/// Where all lengths are known from CHAR types and constants, each is filled up to the longest, so that an index on the CHAR column still
/// serves. Beside a VARCHAR of rows the blanks are trimmed instead: filling up would copy the longest possible text for each row.
pub(super) fn align_blanks(operands: Vec<Expr>) -> Vec<Expr> {
    let is_fixed = |expr: &Expr| matches!(expr.sql_type(), SqlType::Char(_));
    let fits = |expr: &Expr| expr.sql_type().is_text() || expr.sql_type() == SqlType::Null;
    if !operands.iter().any(is_fixed) || !operands.iter().all(fits) {
        return operands;
    }
    let lengths: Option<Vec<u32>> = operands.iter().map(known_length).collect();
    match lengths.and_then(|lengths| lengths.into_iter().max()) {
        Some(longest) => operands.into_iter().map(|expr| convert(expr, SqlType::Char(longest))).collect(),
        None => operands.into_iter().map(without_blanks).collect(),
    }
}

/// [`align_blanks`] for the two sides of a comparison, field by field where they are rows.
pub(super) fn align_pair(left: Expr, right: Expr) -> (Expr, Expr) {
    if let (SqlType::Row(a), SqlType::Row(b)) = (left.sql_type(), right.sql_type()) {
        return align_rows((left, a), (right, b));
    }
    match <[Expr; 2]>::try_from(align_blanks(vec![left.clone(), right.clone()])) {
        Ok([left, right]) => (left, right),
        Err(_) => (left, right),
    }
}

fn align_rows((left, a): (Expr, &[RowField]), (right, b): (Expr, &[RowField])) -> (Expr, Expr) {
    if a.len() != b.len() || !a.iter().zip(b).any(|(a, b)| holds_fixed(a.sql_type) || holds_fixed(b.sql_type)) {
        return (left, right);
    }
    let (mut lefts, mut rights) = (Vec::new(), Vec::new());
    for (place, (a, b)) in a.iter().zip(b).enumerate() {
        let (left, right) = align_pair(field(&left, place, a.sql_type), field(&right, place, b.sql_type));
        lefts.push(left);
        rights.push(right);
    }
    (row_of(lefts, &left), row_of(rights, &right))
}

fn holds_fixed(sql_type: SqlType) -> bool {
    if let SqlType::Char(_) = sql_type {
        true
    } else if let SqlType::Row(fields) = sql_type {
        fields.iter().any(|field| holds_fixed(field.sql_type))
    } else {
        false
    }
}

fn field(row: &Expr, place: usize, sql_type: SqlType) -> Expr {
    if let ExprKind::Row(parts) = row.kind() {
        parts[place].clone()
    } else {
        Expr::new(ExprKind::Field(Box::new(row.clone()), place), sql_type, row.span())
    }
}

fn row_of(parts: Vec<Expr>, from: &Expr) -> Expr {
    let sql_type = SqlType::row_of_types(parts.iter().map(Expr::sql_type));
    Expr::new(ExprKind::Row(parts), sql_type, from.span())
}

/// The most characters an operand can have, where that is known and no column of a table can exceed it by far.
fn known_length(expr: &Expr) -> Option<u32> {
    match (expr.sql_type(), expr.constant()) {
        (SqlType::Char(length), _) => Some(length),
        (SqlType::Null, _) => Some(0),
        (_, Some(Value::Text(text))) => u32::try_from(text.chars().count()).ok(),
        (_, Some(Value::Null)) => Some(0),
        _ => None,
    }
}

fn without_blanks(expr: Expr) -> Expr {
    if expr.sql_type() == SqlType::Null {
        return expr;
    }
    let span = expr.span();
    let blank = Expr::literal(Value::Text(" ".into()), SqlType::TEXT, span);
    let text = convert(expr, SqlType::TEXT);
    super::convert::fold(Expr::new(
        ExprKind::Call(Function::Text(TextFunction::Trim(TrimSide::Trailing)), vec![text, blank]),
        SqlType::TEXT,
        span,
    ))
}
