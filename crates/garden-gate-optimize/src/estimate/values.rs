//! What statistics say of the values of one column: how many rows hold a value, or one on a side of it.

use crate::catalog::ColumnStatistics;
use crate::logical::CompareOp;
use crate::types::{Value, approximate};

/// Of values of which nothing is known: one in three lies on a side of another.
pub(super) const GUESS_RANGE: f64 = 1.0 / 3.0;

/// Whether two values of statistics are equal; numbers of different types are compared as numbers.
pub(super) fn same(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Text(a), Value::Text(b)) => a == b,
        (Value::Integer(a), Value::Integer(b)) => a == b,
        _ => matches!((a.ordinal(), b.ordinal()), (Some(a), Some(b)) if (a - b).abs() < f64::EPSILON),
    }
}

/// Whether one value of statistics comes before another.
pub(super) fn below(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Text(a), Value::Text(b)) => a < b,
        (Value::Integer(a), Value::Integer(b)) => a < b,
        _ => matches!((a.ordinal(), b.ordinal()), (Some(a), Some(b)) if a < b),
    }
}

/// Of rows that came since a column was looked at one in so many is taken to have a value that none had before.
const NEW_VALUES: f64 = 10.0;

/// Of the share `since` of all rows that came since, what may fulfil a comparison with a constant that lies outside of what the column had then.
pub(super) fn beyond(statistics: &ColumnStatistics, op: CompareOp, value: &Value, since: f64) -> f64 {
    let (under, over) = (below(value, &statistics.min), below(&statistics.max, value));
    match op {
        CompareOp::Equal if under || over => since / NEW_VALUES,
        CompareOp::Less | CompareOp::LessOrEqual if under => since * GUESS_RANGE,
        CompareOp::Greater | CompareOp::GreaterOrEqual if over => since * GUESS_RANGE,
        CompareOp::Equal
        | CompareOp::NotEqual
        | CompareOp::Less
        | CompareOp::LessOrEqual
        | CompareOp::Greater
        | CompareOp::GreaterOrEqual => 0.0,
    }
}

/// The share of all rows that hold this value: a frequent one has its own, the others divide what is left evenly; outside least and
/// greatest there is nothing.
pub(super) fn equal(statistics: &ColumnStatistics, value: &Value) -> f64 {
    if let Some(common) = statistics.most_common.iter().find(|common| same(&common.value, value)) {
        return common.share;
    }
    if statistics.exact && (below(value, &statistics.min) || below(&statistics.max, value)) {
        return 0.0;
    }
    let others = statistics.other_values();
    if others < 0.5 { 0.0 } else { statistics.other_share() / others.max(1.0) }
}

/// The share of all rows whose value is less than this one, or also equal to it.
pub(super) fn less(statistics: &ColumnStatistics, value: &Value, or_equal: bool) -> f64 {
    let inside = |known: &Value| below(known, value) || or_equal && same(known, value);
    let common: f64 =
        statistics.most_common.iter().filter(|common| inside(&common.value)).map(|common| common.share).sum();
    let is_common = statistics.most_common.iter().any(|common| same(&common.value, value));
    let mut others = others_below(statistics, value);
    if or_equal && !is_common && !below(value, &statistics.min) && !below(&statistics.max, value) {
        others += 1.0 / statistics.other_values().max(1.0);
    }
    common + statistics.other_share() * others.clamp(0.0, 1.0)
}

/// Of the rows without a frequent value the share whose value is less than this one: by the histogram, else as if they were spread evenly
/// between the least and the greatest.
pub(super) fn others_below(statistics: &ColumnStatistics, value: &Value) -> f64 {
    let bounds = &statistics.histogram;
    let [first, .., last] = bounds.as_slice() else {
        return match (statistics.min.ordinal(), statistics.max.ordinal(), value.ordinal()) {
            (Some(min), Some(max), Some(at)) if max > min => ((at - min) / (max - min)).clamp(0.0, 1.0),
            (Some(min), _, Some(at)) if min.is_finite() => f64::from(u8::from(min < at)),
            _ => GUESS_RANGE,
        };
    };
    if !below(first, value) {
        return 0.0;
    }
    if below(last, value) {
        return 1.0;
    }
    let at = bounds.partition_point(|bound| below(bound, value)).clamp(1, bounds.len() - 1);
    let within = match (bounds[at - 1].ordinal(), bounds[at].ordinal(), value.ordinal()) {
        (Some(low), Some(high), Some(value)) if high > low => ((value - low) / (high - low)).clamp(0.0, 1.0),
        // Texts that differ only far after their beginning.
        _ => 0.5,
    };
    (approximate(at - 1) + within) / approximate(bounds.len() - 1)
}

/// The share of all rows whose text begins so.
pub(super) fn prefixed(statistics: &ColumnStatistics, prefix: &str) -> f64 {
    let begins = |value: &Value| matches!(value, Value::Text(text) if text.starts_with(prefix));
    let common: f64 =
        statistics.most_common.iter().filter(|common| begins(&common.value)).map(|common| common.share).sum();
    let from = others_below(statistics, &Value::Text(prefix.to_owned()));
    let to = after_prefix(prefix).map_or(1.0, |next| others_below(statistics, &Value::Text(next)));
    // A prefix within one bucket may be that of one value only.
    let least = if statistics.other_values() > 0.0 { 1.0 / statistics.other_values().max(1.0) } else { 0.0 };
    common + statistics.other_share() * (to - from).max(least)
}

/// The least text that is greater than all that begin so; `None` when there is none.
pub fn after_prefix(prefix: &str) -> Option<String> {
    let mut characters: Vec<char> = prefix.chars().collect();
    while let Some(last) = characters.pop() {
        let next = (u32::from(last) + 1..=u32::from(char::MAX)).find_map(char::from_u32);
        if let Some(next) = next {
            characters.push(next);
            return Some(characters.into_iter().collect());
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::CommonValue;

    /// 1,000 rows: 100 NULLs, 7 in 470 of them, 430 others over 43 values: half of them up to 20, half from there to 100.
    pub(crate) fn statistics() -> ColumnStatistics {
        ColumnStatistics {
            nulls: 100,
            distinct: 44.0,
            min: Value::Integer(0),
            max: Value::Integer(100),
            most_common: vec![CommonValue { value: Value::Integer(7), share: 0.47 }],
            histogram: vec![Value::Integer(0), Value::Integer(20), Value::Integer(100)],
            exact: true,
            ..ColumnStatistics::unknown(1_000)
        }
    }

    #[test]
    fn shares_of_values_and_of_those_below() {
        let statistics = statistics();
        let at = |value: i64| Value::Integer(value);
        for (found, expected) in [
            (equal(&statistics, &at(7)), 0.47),
            (equal(&statistics, &at(8)), 0.01),
            (equal(&statistics, &at(101)), 0.0),
            (less(&statistics, &at(20), false), 0.47 + 0.43 * 0.5),
            (less(&statistics, &at(60), false), 0.47 + 0.43 * 0.75),
            (less(&statistics, &at(7), false), 0.43 * 0.5 * 0.35),
            (less(&statistics, &at(7), true), 0.47 + 0.43 * 0.5 * 0.35),
            (less(&statistics, &at(20), true), 0.47 + 0.43 * 0.5 + 0.01),
            (less(&statistics, &at(0), false), 0.0),
            (less(&statistics, &at(1_000), false), 0.9),
        ] {
            assert!((found - expected).abs() < 2e-3, "{found} is not {expected}");
        }
    }

    #[test]
    fn texts_by_their_beginning() {
        let texts: Vec<Value> = ["aster", "fern", "fig", "moss", "rose"].map(Value::from).to_vec();
        let statistics = ColumnStatistics {
            distinct: 400.0,
            min: texts[0].clone(),
            max: texts[4].clone(),
            histogram: texts,
            ..ColumnStatistics::unknown(1_000)
        };
        // From fern to fig is one of four buckets, and a part of the next.
        let found = prefixed(&statistics, "f");
        assert!((0.25..0.75).contains(&found), "{found}");
        assert!(prefixed(&statistics, "zz") < 0.01);
        assert_eq!(after_prefix("az").as_deref(), Some("a{"));
        assert_eq!(after_prefix("a\u{10ffff}").as_deref(), Some("b"));
        assert_eq!(after_prefix("\u{10ffff}"), None);
    }
}
