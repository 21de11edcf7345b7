//! What to write instead: the help of a [`Problem`](super::problem::Problem), where it takes more than a word.

use super::problem::Computed;
use super::scope::Clause;
use crate::diagnostic::Error;
use crate::types::SqlType;

/// Help for an expression outside the groups of its query.
pub(super) fn group_help(text: &str, grouped: &[String]) -> String {
    if grouped.iter().any(|key| key.parse::<u32>().is_ok()) {
        return format!("GROUP BY takes expressions, not positions: write GROUP BY {text}");
    }
    let by = if grouped.is_empty() {
        format!("the query has an aggregate and no GROUP BY; add GROUP BY {text}")
    } else {
        format!("write GROUP BY {}, {text}", grouped.join(", "))
    };
    format!("{by}, or put it into an aggregate such as MIN({text})")
}

/// Help for TRUNCATE … TO of what has no such unit.
pub(super) fn start_help(found: SqlType, text: &str) -> String {
    let operand = text.split_once('(').map_or(text, |(_, rest)| rest);
    let operand = operand.to_uppercase().rfind(" TO ").map_or(operand, |at| &operand[..at]);
    if found == SqlType::Date {
        "a day has YEAR, QUARTER, MONTH, WEEK and DAY".into()
    } else if matches!(found, SqlType::Time | SqlType::TimeTz) {
        "a time of day has HOUR, MINUTE and SECOND".into()
    } else if found.is_text() {
        format!("CAST({operand} AS DATE) makes a day of the text")
    } else {
        "days and timestamps are cut to YEAR, QUARTER, MONTH, WEEK, DAY, HOUR, MINUTE or SECOND".into()
    }
}

/// Help for EXTRACT from a text: the CAST that makes a day of it.
pub(super) fn field_help(
    field: &str,
    found: SqlType,
    (text, template): (&str, Option<(&'static str, SqlType)>),
) -> Option<String> {
    match (found.is_text(), template) {
        (true, Some((template, sql_type))) => {
            Some(format!("write EXTRACT({field} FROM CAST({text} AS {sql_type} FORMAT '{template}'))"))
        }
        (true, None) => Some(format!(
            "CAST({text} AS DATE FORMAT 'DD.MM.YYYY') makes a day of a text that is written so; not every {text} is a day"
        )),
        (false, _) => None,
    }
}

/// What is wrong with a file, and in which line.
pub(super) fn file_problem(error: &Error) -> String {
    let line = error.data_place().and_then(|place| place.line).map(|line| format!(", line {line}"));
    format!("{}{}", error.message(), line.unwrap_or_default())
}

/// Help for an alias in a clause that is read before the SELECT list.
pub(super) fn alias_help((alias, expression): (&str, &str), clause: Clause, computed: &Computed) -> String {
    match (computed, clause) {
        (Computed::Window(rewritten), _) => {
            format!("compute it in a step and use its column outside:\n{rewritten}")
        }
        (Computed::Group, Clause::Where) => {
            format!("conditions on groups go into HAVING, after GROUP BY, with {expression} instead of {alias}")
        }
        (Computed::Group, Clause::GroupBy) => {
            format!("{expression} is computed of the groups: group by the columns that are beside it")
        }
        _ => format!("repeat the expression in {clause}: {expression}"),
    }
}

/// What to write so that two values have a type in common: the text of a number, or the number of a text.
pub(super) fn common_help(first: (SqlType, &str), odd: (SqlType, &str)) -> String {
    let is_number = |text: &str| text.trim().parse::<f64>().is_ok();
    let (text, other) = if first.0.is_text() { (first, odd) } else { (odd, first) };
    if !text.0.is_text() {
        return if super::castable(odd.0, first.0) {
            format!("write CAST({} AS {})", odd.1, first.0)
        } else {
            format!("write CAST({} AS VARCHAR(40)) and CAST({} AS VARCHAR(40))", first.1, odd.1)
        };
    }
    if is_number(other.1) {
        return format!("write '{}' for a text", other.1);
    }
    let inner = text.1.strip_prefix('\'').and_then(|rest| rest.strip_suffix('\''));
    match inner {
        Some(inner) if other.0.is_number() && is_number(inner) => format!("write {} for a number", inner.trim()),
        _ => format!("write CAST({} AS VARCHAR(40)), so that all are texts", other.1),
    }
}

/// What to write for the constant of two operands, or for one of two columns.
pub(super) fn compare_help(left: (SqlType, &str), right: (SqlType, &str)) -> Option<String> {
    let (day, other) = if left.0 == SqlType::Date { (left, right) } else { (right, left) };
    if day.0 == SqlType::Date && matches!(other.0, SqlType::Timestamp | SqlType::TimestampTz) {
        return Some(format!(
            "CAST({} AS DATE) is the day of it, CAST({} AS TIMESTAMP) the first moment of the day",
            other.1, day.1
        ));
    }
    if day.0 == SqlType::Date && other.0.is_number() {
        let digits: String = other.1.chars().filter(|c| !c.is_whitespace()).collect();
        let written = if crate::types::parse_date(&digits).is_some() { &digits } else { "2000-01-31" };
        return Some(format!("write the day as DATE '{written}'"));
    }
    let (text, other) = if left.0.is_text() { (left, right) } else { (right, left) };
    if !text.0.is_text() {
        return None;
    }
    let constant = text.1.strip_prefix('\'').and_then(|rest| rest.strip_suffix('\''));
    let or = |shown: &str| {
        constant.filter(|text| text.starts_with(|c: char| c.is_ascii_digit())).unwrap_or(shown).to_owned()
    };
    let literal = [
        (SqlType::Date, "the day as DATE", "2000-01-31"),
        (SqlType::TimeTz, "the time as TIME", "12:30:00+00:00"),
        (SqlType::Time, "the time as TIME", "12:30:00"),
        (SqlType::Timestamp, "it as TIMESTAMP", "2000-01-31 12:30:00"),
    ];
    Some(match literal.into_iter().find(|(sql_type, ..)| *sql_type == other.0) {
        Some((_, what, shown)) => format!("write {what} '{}'", or(shown)),
        None if other.0.is_number() => number_help((text.1, constant), other),
        None => format!("CAST one side, as in CAST({} AS {})", text.1, other.0),
    })
}

/// Text beside a number: the constant of them is written otherwise, or the text is CAST.
pub(super) fn number_help((text, constant): (&str, Option<&str>), (number, shown): (SqlType, &str)) -> String {
    let is_number = |text: &str| text.trim().parse::<f64>().is_ok();
    match constant {
        Some(inner) if is_number(inner) => format!("write the number without quotes: {}", inner.trim()),
        Some(_) => format!("CAST({shown} AS VARCHAR(40)) makes a text of the number"),
        None if is_number(shown) => format!("write the text in quotes, '{shown}', or CAST({text} AS {number})"),
        None => format!("CAST({text} AS {number}) makes a number of the text"),
    }
}

/// What to write instead of an operator between these types.
pub(super) fn operator_help(symbol: &str, left: (SqlType, &str), right: (SqlType, &str)) -> Option<String> {
    let has = |wanted: fn(SqlType) -> bool| wanted(left.0) || wanted(right.0);
    let is_moment = |t: SqlType| matches!(t, SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz);
    if has(is_moment) && has(SqlType::is_number) && matches!(symbol, "+" | "-") {
        let (moment, number) = if is_moment(left.0) { (left.1, right.1) } else { (right.1, left.1) };
        let days = match number.parse::<u64>() {
            Ok(days) => format!("INTERVAL '{days}' DAY"),
            Err(_) => format!("{number} * INTERVAL '1' DAY"),
        };
        return Some(format!("write {moment} {symbol} {days}"));
    }
    if left.0.is_text() && right.0.is_text() && symbol == "+" {
        return Some(format!("write {} || {}", left.1, right.1));
    }
    if has(SqlType::is_text) && has(SqlType::is_number) {
        let (text, number) = if left.0.is_text() { (left.1, right) } else { (right.1, left) };
        let cast = format!("CAST({text} AS {}) makes a number of the text", number.0);
        return Some(if symbol == "+" { format!("{cast}, {} || {} joins texts", left.1, right.1) } else { cast });
    }
    None
}

/// What to write instead of a conversion that there is none for.
pub(super) fn cast_help(from: SqlType, to: SqlType) -> Option<String> {
    let help = if from.is_datetime() && to.is_number() {
        "EXTRACT(YEAR FROM …) takes one of its parts, (… - DATE '2000-01-01') DAY counts the days since then"
    } else if from.is_number() && to.is_datetime() {
        "count from a day: DATE '2000-01-01' + … * INTERVAL '1' DAY"
    } else if from.is_interval() && to.is_exact() {
        "say which field is counted: CAST(CAST(… AS INTERVAL DAY) AS INTEGER)"
    } else {
        return None;
    };
    Some(help.into())
}
