//! Calls as they are written: functions with words of their own, then the others.

use super::print::Printer;
use super::{ArrayFunction, Expr, ExprKind, Function, RegexFunction, TextFunction, ZoneFunction};
use crate::types::{Field, Interval, SqlType, TrimSide, Value};

impl Printer<'_> {
    /// A value of another row, or in another zone.
    fn moved_call(&self, function: Function, terms: &[Expr]) -> String {
        let text = |at: usize| terms.get(at).map_or_else(String::new, |term| self.expr(term));
        match function {
            Function::RowNumberAt(marker) => format!("ROW_NUMBER({})", marker.name()),
            Function::ValueAt { marker, offset } => {
                let offset = match offset {
                    0 => String::new(),
                    _ => format!(" {} {}", if offset < 0 { '-' } else { '+' }, offset.unsigned_abs()),
                };
                let default = if terms.len() > 1 { format!(", {}", text(1)) } else { String::new() };
                format!("VALUE_OF({} AT {}{offset}{default})", text(0), marker.name())
            }
            Function::Zone(ZoneFunction::MomentOfLocal) | Function::InstantOfText => {
                let with_zone = if terms.first().is_some_and(|term| term.sql_type() == SqlType::Time) {
                    "TIME"
                } else {
                    "TIMESTAMP"
                };
                format!("CAST({} AS {with_zone} WITH TIME ZONE IN {})", text(0), text(1))
            }
            Function::TextOfInstant => format!("CAST({} AT TIME ZONE {} AS CHARACTER VARYING)", text(0), text(1)),
            _ => format!("{}({})", function.name(), self.exprs(terms)),
        }
    }

    /// A call as it is written: the forms with words of their own, then the others.
    pub(super) fn write_call(&self, function: Function, terms: &[Expr], out: &mut String) {
        let text = |at: usize| terms.get(at).map_or_else(String::new, |term| self.expr(term));
        let written = match function {
            Function::Regex(RegexFunction::Similar) => format!("{} SIMILAR TO {}", text(0), text(1)),
            Function::Regex(RegexFunction::LikeRegex) => format!("{} LIKE_REGEX {}", text(0), text(1)),
            Function::Extract(field) => format!("EXTRACT({} FROM {})", field.name(), text(0)),
            Function::TruncateTo(unit) => format!("TRUNCATE({} TO {})", text(0), unit.name()),
            Function::Zone(ZoneFunction::AtZone | ZoneFunction::LocalAtZone) => {
                format!("({} AT TIME ZONE {})", text(0), text(1))
            }
            Function::Zone(ZoneFunction::AtLocal) => format!("({} AT LOCAL)", text(0)),
            Function::RowNumberAt(_)
            | Function::ValueAt { .. }
            | Function::Zone(ZoneFunction::MomentOfLocal)
            | Function::InstantOfText
            | Function::TextOfInstant => self.moved_call(function, terms),
            Function::Array(ArrayFunction::Element) => format!("{}[{}]", text(0), text(1)),
            Function::MonthsBetween => format!("({} - {}) MONTH", text(0), text(1)),
            Function::Text(TextFunction::Position) => format!("POSITION({} IN {})", text(0), text(1)),
            Function::Text(TextFunction::Trim(TrimSide::Leading)) => {
                format!("TRIM(LEADING {} FROM {})", text(1), text(0))
            }
            Function::Text(TextFunction::Trim(TrimSide::Trailing)) => {
                format!("TRIM(TRAILING {} FROM {})", text(1), text(0))
            }
            Function::Text(TextFunction::Trim(TrimSide::Both)) => format!("TRIM(BOTH {} FROM {})", text(1), text(0)),
            Function::Text(TextFunction::Overlay) if terms.len() == 3 => {
                format!("OVERLAY({} PLACING {} FROM {})", text(0), text(1), text(2))
            }
            Function::Text(TextFunction::Overlay) => {
                format!("OVERLAY({} PLACING {} FROM {} FOR {})", text(0), text(1), text(2), text(3))
            }
            Function::Sampled { pages, repeatable } => {
                let again = if repeatable { format!(" REPEATABLE ({})", text(2)) } else { String::new() };
                let percent = match terms.get(1).map(Expr::kind) {
                    Some(ExprKind::Literal(Value::Double(percent))) => percent.to_string(),
                    _ => text(1),
                };
                format!("TABLESAMPLE {} ({percent}){again}", if pages { "SYSTEM" } else { "BERNOULLI" })
            }
            Function::SecondDigits => {
                let zone = if terms
                    .first()
                    .is_some_and(|term| matches!(term.sql_type(), SqlType::TimeTz | SqlType::TimestampTz))
                {
                    " WITH TIME ZONE"
                } else {
                    ""
                };
                let of_day =
                    terms.first().is_some_and(|term| matches!(term.sql_type(), SqlType::Time | SqlType::TimeTz));
                let name = if of_day { "TIME" } else { "TIMESTAMP" };
                format!("CAST({} AS {name}({}){zone})", text(0), text(1))
            }
            Function::IntervalFields => match unit_field(terms) {
                Some(field) => format!("CAST({} AS INTERVAL {})", text(0), field.word()),
                None => format!("{}({})", function.name(), self.exprs(terms)),
            },
            Function::FieldCount => match unit_field(terms) {
                Some(field) => format!("({} / INTERVAL '1' {})", text(0), field.word()),
                None => format!("{}({})", function.name(), self.exprs(terms)),
            },
            Function::WithElement => format!("{} with [{}] = {}", text(0), text(1), text(2)),
            Function::Array(ArrayFunction::ArrayLimit) => match terms.first().map(Expr::sql_type) {
                Some(SqlType::Array(element)) => format!("CAST({} AS {element} ARRAY[{}])", text(0), text(1)),
                _ => format!("{}({})", function.name(), self.exprs(terms)),
            },
            Function::InDomain => match (terms.first(), terms.get(2).and_then(Expr::constant)) {
                // Each condition holds the value once more; the cast is written once.
                (Some(inner), _) if matches!(inner.kind(), ExprKind::Call(Function::InDomain, _)) => text(0),
                (_, Some(Value::Text(domain))) => format!("CAST({} AS {domain})", text(0)),
                _ => text(0),
            },
            Function::Array(ArrayFunction::Contains) => format!("{} IS ON THE PATH {}", text(1), text(0)),
            _ => format!("{}({})", function.name(), self.exprs(terms)),
        };
        out.push_str(&written);
    }
}

/// The field that the second operand, a number of months or microseconds, is one of.
fn unit_field(terms: &[Expr]) -> Option<Field> {
    let Some(Value::Integer(unit)) = terms.get(1).and_then(Expr::constant) else { return None };
    let is_months = terms[0].sql_type() == SqlType::YearMonth;
    [Field::Year, Field::Month, Field::Day, Field::Hour, Field::Minute, Field::Second].into_iter().find(|field| {
        match field.one() {
            Interval::Months(months) => is_months && i64::from(months) == *unit,
            Interval::Micros(micros) => !is_months && micros == *unit,
        }
    })
}
