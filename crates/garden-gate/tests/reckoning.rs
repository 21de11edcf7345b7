//! Days and decimals against models that know nothing of the engine: a calendar counted day by day, and integers with a scale.

use crate::random_queries::Draw;
use garden_gate::{Database, Session};

/// Every day from 1896 to 2104, which has years that are leap years and a century that is none.
fn calendar() -> Vec<(i64, i64, i64)> {
    let mut days = Vec::new();
    for year in 1896..=2104 {
        for month in 1..=12 {
            days.extend((1..=length(year, month)).map(|day| (year, month, day)));
        }
    }
    days
}

fn length(year: i64, month: i64) -> i64 {
    let leap = year % 4 == 0 && year % 100 != 0 || year % 400 == 0;
    match month {
        2 if leap => 29,
        2 => 28,
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

fn shown((year, month, day): (i64, i64, i64)) -> String {
    format!("{year:04}-{month:02}-{day:02}")
}

/// So many months later; past a month's end its last day.
fn later((year, month, day): (i64, i64, i64), months: i64) -> (i64, i64, i64) {
    let number = year * 12 + month - 1 + months;
    let (year, month) = (number.div_euclid(12), number.rem_euclid(12) + 1);
    (year, month, day.min(length(year, month)))
}

/// Whole months from the first day to the second, toward zero.
fn months_between(from: (i64, i64, i64), to: (i64, i64, i64)) -> i64 {
    let whole = (to.0 - from.0) * 12 + to.1 - from.1;
    match whole {
        1.. if to.2 < from.2 => whole - 1,
        ..=-1 if to.2 > from.2 => whole + 1,
        _ => whole,
    }
}

fn values(session: &mut Session, expressions: &[String]) -> Vec<String> {
    let sql = format!("SELECT {}", expressions.join(", "));
    let rows = session.query(&sql, ()).unwrap_or_else(|error| panic!("{sql}\n{error}"));
    rows.rows().next().unwrap().values().iter().map(ToString::to_string).collect()
}

#[test]
fn days_are_counted_one_by_one() {
    let (days, mut session) = (calendar(), Database::in_memory().session());
    for seed in 0..400 {
        let mut draw = Draw::new(seed);
        let start = 30_000 + draw.below(16_000);
        let (from, to) = (days[start], days[30_000 + draw.below(16_000)]);
        let place = days.iter().position(|day| *day == to).unwrap();
        let step = i64::try_from(draw.below(20_000)).unwrap() - 10_000;
        let months = i64::try_from(draw.below(800)).unwrap() - 400;
        let moved = days[usize::try_from(i64::try_from(start).unwrap() + step).unwrap()];
        let apart = i64::try_from(place).unwrap() - i64::try_from(start).unwrap();
        let of_year = days.iter().filter(|day| day.0 == from.0 && **day <= from).count();
        let (a, b) = (format!("DATE '{}'", shown(from)), format!("DATE '{}'", shown(to)));
        let cases = [
            (format!("{a} + INTERVAL '{step}' DAY(6)"), shown(moved)),
            (format!("{a} - INTERVAL '{}' DAY(6)", -step), shown(moved)),
            (format!("{a} + INTERVAL '{months}' MONTH(4)"), shown(later(from, months))),
            (format!("EXTRACT(DAY FROM ({b} - {a}))"), apart.to_string()),
            (format!("({b} - {a}) MONTH"), shown_months(months_between(from, to))),
            (
                format!("EXTRACT(YEAR FROM {a}) * 10000 + EXTRACT(MONTH FROM {a}) * 100 + EXTRACT(DAY FROM {a})"),
                (from.0 * 10_000 + from.1 * 100 + from.2).to_string(),
            ),
            (format!("{a} < {b}"), if from < to { "TRUE" } else { "FALSE" }.to_owned()),
            (format!("CAST({a} AS VARCHAR(9) FORMAT 'DDD')"), format!("{of_year:03}")),
            (format!("CAST('{}.{}.{}' AS DATE FORMAT 'DD.MM.YYYY')", from.2, from.1, from.0), shown(from)),
            (format!("CAST(CAST({a} AS TIMESTAMP) + INTERVAL '{step}' HOUR(6) AS DATE)"), {
                let at = i64::try_from(start).unwrap() + step.div_euclid(24);
                shown(days[usize::try_from(at).unwrap()])
            }),
        ];
        let found = values(&mut session, &cases.iter().map(|(expression, _)| expression.clone()).collect::<Vec<_>>());
        for ((expression, expected), found) in cases.iter().zip(found) {
            assert_eq!(found, *expected, "seed {seed}: {expression}");
        }
    }
}

/// An interval of months as it is shown.
fn shown_months(months: i64) -> String {
    format!("{}{}-{:02}", if months < 0 { "-" } else { "" }, months.abs() / 12, months.abs() % 12)
}

/// An integer as a decimal with so many digits after the point.
fn decimal(unscaled: i128, scale: usize) -> String {
    let digits = format!("{:0>width$}", unscaled.abs(), width = scale + 1);
    let (whole, fraction) = digits.split_at(digits.len() - scale);
    let point = if scale > 0 { "." } else { "" };
    format!("{}{whole}{point}{fraction}", if unscaled < 0 { "-" } else { "" })
}

/// A quotient, half rounded away from zero.
fn divided(dividend: i128, divisor: i128) -> i128 {
    let (dividend, sign) = (dividend.abs(), (dividend.signum() * divisor.signum()).signum());
    sign * ((2 * dividend + divisor.abs()) / (2 * divisor.abs()))
}

#[test]
fn decimals_are_whole_numbers_with_a_scale() {
    let mut session = Database::in_memory().session();
    for seed in 0..600 {
        let mut draw = Draw::new(seed);
        let limit = *draw.pick(&[20_usize, 5000, 900_000]);
        let mut number = || i128::try_from(draw.below(limit)).unwrap() - i128::try_from(limit / 2).unwrap();
        // NUMERIC(8,2) and NUMERIC(6,3).
        let (a, b) = (number(), number());
        let b = if b == 0 { 1 } else { b };
        let (x, y) =
            (format!("CAST({} AS NUMERIC(8,2))", decimal(a, 2)), format!("CAST({} AS NUMERIC(6,3))", decimal(b, 3)));
        let compare = if a * 10 < b { "TRUE" } else { "FALSE" };
        let cases = [
            (format!("{x} + {y}"), decimal(a * 10 + b, 3)),
            (format!("{x} - {y}"), decimal(a * 10 - b, 3)),
            (format!("{x} * {y}"), decimal(a * b, 5)),
            // The scale is max(6, 2 + 6 + 1).
            (format!("{x} / {y}"), decimal(divided(a * 10 * 1_000_000_000, b), 9)),
            (format!("{x} < {y}"), compare.to_owned()),
            (format!("ROUND({x})"), decimal(divided(a, 100), 0)),
            (format!("ROUND({y}, 1)"), decimal(divided(b, 100), 1)),
            (format!("TRUNCATE({y}, 2)"), decimal(b / 10, 2)),
            (format!("FLOOR({x})"), decimal(a.div_euclid(100), 0)),
            (format!("CEILING({x})"), decimal(-(-a).div_euclid(100), 0)),
            (format!("CAST({y} AS INTEGER)"), divided(b, 1000).to_string()),
            (format!("CAST({y} AS NUMERIC(9,1))"), decimal(divided(b, 100), 1)),
            (format!("ABS({x})"), decimal(a.abs(), 2)),
            (format!("MOD({x}, {y})"), decimal((a * 10) % b, 3)),
            (format!("-{x}"), decimal(-a, 2)),
        ];
        let found = values(&mut session, &cases.iter().map(|(expression, _)| expression.clone()).collect::<Vec<_>>());
        for ((expression, expected), found) in cases.iter().zip(found) {
            assert_eq!(found, *expected, "seed {seed}: {expression}");
        }
    }
}
