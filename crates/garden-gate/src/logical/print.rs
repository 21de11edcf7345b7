use super::{Aggregate, Columns, Direction, Expr, ExprKind, Nulls, SortKey, Test};
use crate::types::{SqlType, Value};
use std::fmt::Write as _;

/// Writes expressions as SQL in the user's own names.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Printer<'a> {
    columns: &'a Columns,
}

/// How tightly a form binds; what binds less tightly than its surroundings gets parentheses.
#[derive(Clone, Copy, PartialEq, PartialOrd)]
enum Level {
    Or,
    And,
    Not,
    Predicate,
    Sum,
    Product,
    Primary,
}

impl<'a> Printer<'a> {
    pub(crate) fn new(columns: &'a Columns) -> Self {
        Self { columns }
    }

    pub(crate) fn expr(&self, expr: &Expr) -> String {
        let mut out = String::new();
        self.write(expr, Level::Or, &mut out);
        out
    }

    pub(crate) fn conjunction(&self, conjuncts: &[Expr]) -> String {
        let mut out = String::new();
        let level = if conjuncts.len() > 1 { Level::Not } else { Level::Or };
        self.list(conjuncts, " AND ", level, &mut out);
        out
    }

    pub(crate) fn aggregate(&self, aggregate: &Aggregate) -> String {
        let distinct = if aggregate.distinct { "DISTINCT " } else { "" };
        let argument = aggregate.argument.as_ref().map_or_else(|| "*".to_owned(), |argument| self.expr(argument));
        format!("{}({distinct}{argument})", aggregate.function.name())
    }

    pub(crate) fn sort_key(&self, key: &SortKey) -> String {
        let direction = if key.direction == Direction::Descending { " DESC" } else { "" };
        let nulls = if key.nulls == Nulls::First { " NULLS FIRST" } else { "" };
        format!("{}{direction}{nulls}", self.expr(&key.expr))
    }

    fn list(&self, items: &[Expr], separator: &str, level: Level, out: &mut String) {
        for (position, item) in items.iter().enumerate() {
            if position > 0 {
                out.push_str(separator);
            }
            self.write(item, level, out);
        }
    }

    fn write(&self, expr: &Expr, around: Level, out: &mut String) {
        let level = level(expr.kind());
        let parentheses = level < around;
        if parentheses {
            out.push('(');
        }
        self.write_bare(expr, out);
        if parentheses {
            out.push(')');
        }
    }

    fn binary(&self, parts: &[Expr; 2], symbol: &str, level: (Level, Level), out: &mut String) {
        self.write(&parts[0], level.0, out);
        let _ = write!(out, " {symbol} ");
        self.write(&parts[1], level.1, out);
    }

    fn write_bare(&self, expr: &Expr, out: &mut String) {
        match expr.kind() {
            ExprKind::Column(id) => {
                let info = self.columns.get(*id);
                if let Some(qualifier) = &info.qualifier {
                    let _ = write!(out, "{qualifier}.");
                }
                out.push_str(&info.name);
            }
            ExprKind::Slot(slot) => {
                let _ = write!(out, "#{slot}");
            }
            ExprKind::Literal(value) => literal(value, out),
            ExprKind::Parameter(name, _) => {
                let _ = write!(out, "{name}");
            }
            ExprKind::And(terms) => self.list(terms, " AND ", Level::Not, out),
            ExprKind::Or(terms) => self.list(terms, " OR ", Level::And, out),
            ExprKind::Not(operand) => self.write_not(operand, out),
            ExprKind::Compare(op, parts) => self.binary(parts, op.symbol(), (Level::Sum, Level::Sum), out),
            ExprKind::Same(parts) => self.binary(parts, "IS NOT DISTINCT FROM", (Level::Sum, Level::Sum), out),
            ExprKind::Is(operand, test) => {
                self.write(operand, Level::Sum, out);
                let _ = write!(out, " IS {}", test_word(*test));
            }
            ExprKind::Arithmetic(op, parts) => {
                let level = level(expr.kind());
                let right = if level == Level::Sum { Level::Product } else { Level::Primary };
                self.binary(parts, op.symbol(), (level, right), out);
            }
            ExprKind::Concat(parts) => self.binary(parts, "||", (Level::Sum, Level::Product), out),
            ExprKind::Negate(operand) => {
                out.push('-');
                self.write(operand, Level::Primary, out);
            }
            ExprKind::Like(parts, escape) => {
                self.binary(parts, "LIKE", (Level::Sum, Level::Sum), out);
                if let Some(escape) = escape {
                    out.push_str(" ESCAPE ");
                    self.write(escape, Level::Sum, out);
                }
            }
            ExprKind::In(operand, list) => {
                self.write(operand, Level::Sum, out);
                out.push_str(" IN (");
                self.list(list, ", ", Level::Or, out);
                out.push(')');
            }
            ExprKind::Case(branches, otherwise) => self.write_case(branches, otherwise, out),
            ExprKind::Coalesce(terms) => {
                out.push_str("COALESCE(");
                self.list(terms, ", ", Level::Or, out);
                out.push(')');
            }
            ExprKind::Cast(operand) => {
                out.push_str("CAST(");
                self.write(operand, Level::Or, out);
                let _ = write!(out, " AS {})", expr.sql_type());
            }
        }
    }

    /// `NOT` moved to where people write it: `IS NOT NULL`, `NOT LIKE`, `IS DISTINCT FROM`.
    fn write_not(&self, operand: &Expr, out: &mut String) {
        match operand.kind() {
            ExprKind::Is(inner, test) => {
                self.write(inner, Level::Sum, out);
                let _ = write!(out, " IS NOT {}", test_word(*test));
            }
            ExprKind::Same(parts) => self.binary(parts, "IS DISTINCT FROM", (Level::Sum, Level::Sum), out),
            ExprKind::Like(parts, None) => self.binary(parts, "NOT LIKE", (Level::Sum, Level::Sum), out),
            ExprKind::In(inner, list) => {
                self.write(inner, Level::Sum, out);
                out.push_str(" NOT IN (");
                self.list(list, ", ", Level::Or, out);
                out.push(')');
            }
            _ => {
                out.push_str("NOT ");
                self.write(operand, Level::Primary, out);
            }
        }
    }

    fn write_case(&self, branches: &[(Expr, Expr)], otherwise: &Expr, out: &mut String) {
        out.push_str("CASE");
        for (condition, value) in branches {
            out.push_str(" WHEN ");
            self.write(condition, Level::Or, out);
            out.push_str(" THEN ");
            self.write(value, Level::Or, out);
        }
        out.push_str(" ELSE ");
        self.write(otherwise, Level::Or, out);
        out.push_str(" END");
    }
}

fn level(kind: &ExprKind) -> Level {
    use super::ArithmeticOp as Op;
    match kind {
        ExprKind::Or(_) => Level::Or,
        ExprKind::And(_) => Level::And,
        ExprKind::Not(operand) => match operand.kind() {
            ExprKind::Is(..) | ExprKind::Same(_) | ExprKind::Like(_, None) | ExprKind::In(..) => Level::Predicate,
            _ => Level::Not,
        },
        ExprKind::Compare(..) | ExprKind::Same(_) | ExprKind::Is(..) | ExprKind::Like(..) | ExprKind::In(..) => {
            Level::Predicate
        }
        ExprKind::Arithmetic(Op::Add | Op::Subtract, _) | ExprKind::Concat(_) => Level::Sum,
        ExprKind::Arithmetic(Op::Multiply | Op::Divide, _) => Level::Product,
        ExprKind::Column(_)
        | ExprKind::Slot(_)
        | ExprKind::Literal(_)
        | ExprKind::Parameter(..)
        | ExprKind::Negate(_)
        | ExprKind::Case(..)
        | ExprKind::Coalesce(_)
        | ExprKind::Cast(_) => Level::Primary,
    }
}

fn test_word(test: Test) -> &'static str {
    match test {
        Test::Null => "NULL",
        Test::True => "TRUE",
        Test::False => "FALSE",
        Test::Unknown => "UNKNOWN",
    }
}

fn literal(value: &Value, out: &mut String) {
    let _ = match value {
        Value::Null | Value::Boolean(_) | Value::Integer(_) | Value::Numeric(_) => write!(out, "{value}"),
        Value::Double(number) => write!(out, "{number:E}"),
        Value::Text(text) | Value::Untyped(text) => write!(out, "'{}'", text.replace('\'', "''")),
        Value::Date(_) => write!(out, "{} '{value}'", SqlType::Date),
        Value::Time(_) => write!(out, "{} '{value}'", SqlType::Time),
        Value::Timestamp(_) => write!(out, "{} '{value}'", SqlType::Timestamp),
        Value::Months(_) => write!(out, "INTERVAL '{value}' YEAR TO MONTH"),
        Value::Micros(_) => write!(out, "INTERVAL '{value}' DAY TO SECOND"),
    };
}
