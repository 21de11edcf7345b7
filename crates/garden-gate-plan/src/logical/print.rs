use super::{
    Aggregate, ArrayFunction, ColumnId, Columns, Direction, Expr, ExprKind, Frame, Function, Nulls, RegexFunction,
    SortKey, SubqueryTest, Test, WindowCall,
};
use crate::collections::HashMap;
use crate::types::{FrameBound, FrameExclusion, FrameUnit, SqlType, Value};
use std::fmt::Write as _;

/// Writes expressions as SQL in the user's own names.
#[derive(Clone, Copy, Debug)]
pub struct Printer<'a> {
    columns: &'a Columns,
    /// Whether columns are named with their tables.
    qualified: bool,
    /// Names that do not depend on the user's; with them constants are written as their types.
    canonical: Option<&'a HashMap<ColumnId, String>>,
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
    /// Prints with the names that columns have in the statement.
    pub fn new(columns: &'a Columns) -> Self {
        Self { columns, qualified: true, canonical: None }
    }

    /// Of what is about one table: its columns are named alone.
    pub fn of_one_table(columns: &'a Columns) -> Self {
        Self { columns, qualified: false, canonical: None }
    }

    /// With these names for columns, and types for constants and parameters: two texts are equal when the work is.
    pub fn canonical(columns: &'a Columns, names: &'a HashMap<ColumnId, String>) -> Self {
        Self { columns, qualified: true, canonical: Some(names) }
    }

    /// An expression as SQL text, with the parentheses that it needs.
    pub fn expr(&self, expr: &Expr) -> String {
        let mut out = String::new();
        self.write(expr, Level::Or, &mut out);
        out
    }

    /// Conditions, tied by AND.
    pub fn conjunction(&self, conjuncts: &[Expr]) -> String {
        let mut out = String::new();
        let level = if conjuncts.len() > 1 { Level::Not } else { Level::Or };
        self.list(conjuncts, " AND ", level, &mut out);
        out
    }

    /// An aggregate call.
    pub fn aggregate(&self, aggregate: &Aggregate) -> String {
        let mut out = format!("{}(", aggregate.name());
        if aggregate.distinct {
            out.push_str("DISTINCT ");
        }
        if aggregate.arguments.is_empty() && !aggregate.function.is_ordered_set() {
            out.push('*');
        }
        self.list(&aggregate.arguments, ", ", Level::Or, &mut out);
        let order = self.sort_keys(&aggregate.order);
        if aggregate.order.is_empty() {
            out.push(')');
        } else if aggregate.function == super::AggregateFunction::ArrayAgg {
            let _ = write!(out, " ORDER BY {order})");
        } else {
            let _ = write!(out, ") WITHIN GROUP (ORDER BY {order})");
        }
        if let Some(filter) = &aggregate.filter {
            let _ = write!(out, " FILTER (WHERE {})", self.expr(filter));
        }
        out
    }

    /// A window function without what follows OVER.
    pub fn window_call(&self, call: &WindowCall) -> String {
        let mut out = match &call.function {
            super::WindowFunction::Aggregate(aggregate) => self.aggregate(aggregate),
            function => {
                let mut out = format!("{}(", function.name());
                self.list(&call.arguments, ", ", Level::Or, &mut out);
                out + ")"
            }
        };
        if call.from_last {
            out.push_str(" FROM LAST");
        }
        if call.ignore_nulls {
            out.push_str(" IGNORE NULLS");
        }
        if call.function.uses_frame() {
            out.push_str(&self.frame(&call.frame));
        }
        out
    }

    /// A frame, when it is not the usual one.
    fn frame(&self, frame: &Frame) -> String {
        let bound = |bound: &FrameBound<Expr>| match bound {
            FrameBound::UnboundedPreceding => "UNBOUNDED PRECEDING".to_owned(),
            FrameBound::Preceding(distance) => format!("{} PRECEDING", self.expr(distance)),
            FrameBound::CurrentRow => "CURRENT ROW".to_owned(),
            FrameBound::Following(distance) => format!("{} FOLLOWING", self.expr(distance)),
            FrameBound::UnboundedFollowing => "UNBOUNDED FOLLOWING".to_owned(),
        };
        let unit = match frame.unit {
            FrameUnit::Rows => "ROWS",
            FrameUnit::Range => "RANGE",
            FrameUnit::Groups => "GROUPS",
        };
        let exclude = match frame.exclude {
            FrameExclusion::NoOthers => "",
            FrameExclusion::CurrentRow => " EXCLUDE CURRENT ROW",
            FrameExclusion::Group => " EXCLUDE GROUP",
            FrameExclusion::Ties => " EXCLUDE TIES",
        };
        let text = format!(" {unit} BETWEEN {} AND {}{exclude}", bound(&frame.start), bound(&frame.end));
        if text == " RANGE BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW" { String::new() } else { text }
    }

    /// The keys of an order.
    pub fn sort_keys(&self, keys: &[SortKey]) -> String {
        keys.iter().map(|key| self.sort_key(key)).collect::<Vec<_>>().join(", ")
    }

    /// Expressions, with commas between them.
    pub fn exprs(&self, exprs: &[Expr]) -> String {
        let mut out = String::new();
        self.list(exprs, ", ", Level::Or, &mut out);
        out
    }

    /// The name of a column, with that of its table where names may be ambiguous.
    pub fn column(&self, id: ColumnId) -> String {
        if let Some(name) = self.canonical.and_then(|names| names.get(&id)) {
            return name.clone();
        }
        let info = self.columns.get(id);
        info.qualifier
            .as_ref()
            .filter(|_| self.qualified)
            .map_or_else(|| info.name.clone(), |qualifier| format!("{qualifier}.{}", info.name))
    }

    /// One key of an order, with what is not the default.
    pub fn sort_key(&self, key: &SortKey) -> String {
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

    fn enclosed(&self, (open, terms, close): (&str, &[Expr], &str), out: &mut String) {
        out.push_str(open);
        self.list(terms, ", ", Level::Or, out);
        out.push_str(close);
    }

    fn write_bare(&self, expr: &Expr, out: &mut String) {
        match expr.kind() {
            ExprKind::Column(id) => {
                out.push_str(&self.column(*id));
            }
            ExprKind::Slot(slot) => {
                let _ = write!(out, "#{slot}");
            }
            ExprKind::Literal(_) | ExprKind::Parameter(..) if self.canonical.is_some() => {
                let _ = write!(out, "?{}", type_family(expr.sql_type()));
            }
            ExprKind::Literal(value) => literal(value, out),
            ExprKind::Parameter(name, _) => {
                let _ = write!(out, "{name}");
            }
            ExprKind::And(terms) => self.list(terms, " AND ", Level::Not, out),
            ExprKind::Or(terms) => self.list(terms, " OR ", Level::And, out),
            ExprKind::Not(operand) => self.write_not(operand, out),
            ExprKind::Compare(op, parts) if self.canonical.is_some() => {
                // Whichever side was written first: it is the same work.
                let [left, right] = [&parts[0], &parts[1]].map(|part| {
                    let mut text = String::new();
                    self.write(part, Level::Sum, &mut text);
                    text
                });
                let (left, op, right) = if left <= right { (left, *op, right) } else { (right, op.flipped(), left) };
                let _ = write!(out, "{left} {} {right}", op.symbol());
            }
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
                self.enclosed((" IN (", list, ")"), out);
            }
            ExprKind::Case(branches, otherwise) => self.write_case(branches, otherwise, out),
            ExprKind::Coalesce(terms) => self.enclosed(("COALESCE(", terms, ")"), out),
            ExprKind::Call(function, terms) => self.write_call(*function, terms, out),
            ExprKind::ProgramCall(function, terms) => {
                out.push_str(&function.name);
                self.enclosed(("(", terms, ")"), out);
            }
            ExprKind::Array(terms) => self.enclosed(("ARRAY[", terms, "]"), out),
            ExprKind::Row(terms) => self.enclosed(("ROW(", terms, ")"), out),
            ExprKind::Field(operand, place) => {
                out.push('(');
                self.write(operand, Level::Or, out);
                let name = match operand.sql_type() {
                    SqlType::Row(fields) => fields.get(*place).map_or("?", |field| field.name.as_str()),
                    _ => "?",
                };
                let _ = write!(out, ").{name}");
            }
            ExprKind::Only(parts) => self.write(&parts[0], Level::Or, out),
            ExprKind::Subquery(subquery) => out.push_str(subquery_text(&subquery.test)),
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
        | ExprKind::ProgramCall(..)
        | ExprKind::Array(_)
        | ExprKind::Row(_)
        | ExprKind::Field(..)
        | ExprKind::Only(_)
        | ExprKind::Subquery(_)
        | ExprKind::Cast(_) => Level::Primary,
        ExprKind::Call(
            Function::Regex(RegexFunction::Similar | RegexFunction::LikeRegex)
            | Function::Array(ArrayFunction::Contains),
            _,
        ) => Level::Predicate,
        ExprKind::Call(..) => Level::Primary,
    }
}

fn subquery_text(test: &SubqueryTest) -> &'static str {
    match test {
        SubqueryTest::Scalar(_) => "(SELECT …)",
        SubqueryTest::Exists => "EXISTS (SELECT …)",
        SubqueryTest::Any { .. } => "a comparison with (SELECT …)",
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

/// A type without lengths: constants of one family do the same work.
fn type_family(sql_type: SqlType) -> String {
    match sql_type {
        SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => "integer".to_owned(),
        SqlType::Numeric { .. } => "numeric".to_owned(),
        SqlType::Char(_) | SqlType::Varchar(_) => "text".to_owned(),
        SqlType::Binary(_) | SqlType::Varbinary(_) => "bytes".to_owned(),
        other => other.to_string(),
    }
}

fn literal(value: &Value, out: &mut String) {
    let _ = match value {
        Value::Null | Value::Boolean(_) | Value::Integer(_) | Value::Numeric(_) => write!(out, "{value}"),
        Value::Double(number) => write!(out, "{number:E}"),
        Value::Text(text) | Value::Untyped(text) => write!(out, "'{}'", text.replace('\'', "''")),
        Value::Date(_) => write!(out, "{} '{value}'", SqlType::Date),
        Value::TimeTz(_) => write!(out, "{} '{value}'", SqlType::Time),
        Value::Time(_) => write!(out, "{} '{value}'", SqlType::Time),
        Value::Instant(_) => write!(out, "TIMESTAMP '{value}'"),
        Value::Binary(_) => write!(out, "X'{value}'"),
        Value::Uuid(_) => write!(out, "{} '{value}'", SqlType::Uuid),
        Value::IpAddress(_) => write!(out, "{} '{value}'", SqlType::IpAddress),
        Value::Array(_) => write!(out, "ARRAY{value}"),
        Value::Row(_) => write!(out, "ROW{value}"),
        Value::Timestamp(_) => write!(out, "{} '{value}'", SqlType::Timestamp),
        Value::Months(months) => match whole(*months, &[(12, "YEAR")]) {
            Some((count, unit)) => write!(out, "INTERVAL '{count}' {unit}"),
            None => write!(out, "INTERVAL '{value}' YEAR TO MONTH"),
        },
        Value::Micros(micros) => match whole(*micros, &[(DAY, "DAY"), (DAY / 24, "HOUR"), (DAY / 1440, "MINUTE")]) {
            Some((count, unit)) => write!(out, "INTERVAL '{count}' {unit}"),
            None => write!(out, "INTERVAL '{value}' DAY TO SECOND"),
        },
    };
}

/// Microseconds of a day.
const DAY: i64 = 86_400_000_000;

/// How many of the largest of these units an interval is, when it is so many of one.
fn whole<N: Into<i64>>(interval: N, units: &[(i64, &'static str)]) -> Option<(i64, &'static str)> {
    let interval = interval.into();
    units.iter().find(|(unit, _)| interval % unit == 0).map(|(unit, name)| (interval / unit, *name))
}
