//! Where the rows of two results part.

use crate::collections::HashMap;
use crate::session::ResultSet;
use crate::types::{Decimal, Value};

/// A row that one side has oftener than the other.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct UnmatchedRow {
    pub(super) row: Vec<Value>,
    /// How often each side has it.
    pub(super) times: [usize; 2],
}

/// The rows of two results, compared as multisets: a row that one side has oftener, in the order the sides have them.
///
/// Numbers are compared by value, whatever their types. O(rows) time and memory.
pub(super) fn unmatched_rows(sides: [&ResultSet; 2]) -> Vec<UnmatchedRow> {
    let mut places: HashMap<String, usize> = HashMap::default();
    let mut counted: Vec<UnmatchedRow> = Vec::new();
    for (side, rows) in sides.into_iter().enumerate() {
        for row in rows.rows() {
            let row = row.values();
            let at = *places.entry(key(&row)).or_insert_with(|| {
                counted.push(UnmatchedRow { row, times: [0, 0] });
                counted.len() - 1
            });
            counted[at].times[side] += 1;
        }
    }
    counted.retain(|row| row.times[0] != row.times[1]);
    counted
}

/// The first row, counted from 1, in which two results part when their order counts, with what each has there.
pub(super) fn first_out_of_order(sides: [&ResultSet; 2]) -> Option<(usize, [Option<Vec<Value>>; 2])> {
    let mut rows = sides.map(ResultSet::rows);
    let mut number = 0;
    loop {
        number += 1;
        let [a, b] = [rows[0].next(), rows[1].next()].map(|row| row.map(|row| row.values()));
        match (&a, &b) {
            (None, None) => return None,
            (Some(first), Some(second)) if key(first) == key(second) => {}
            _ => return Some((number, [a, b])),
        }
    }
}

/// Equal for rows whose values are the same: a number is one whatever digits stand after its point.
pub(super) fn key(row: &[Value]) -> String {
    let mut key = String::new();
    for value in row {
        let text = match value {
            Value::Null => "N".to_owned(),
            Value::Numeric(decimal) => format!("#{}", shortest(*decimal)),
            Value::Integer(_) | Value::Double(_) => format!("#{value}"),
            Value::Text(text) => format!("'{}", text.replace('\u{1f}', "\u{1f}\u{1f}")),
            other => format!("={other}"),
        };
        key.push_str(&text);
        key.push('\u{1f}');
    }
    key
}

/// Without zeros at the end of its fraction.
fn shortest(decimal: Decimal) -> Decimal {
    let mut short = decimal;
    while short.scale > 0 && short.unscaled % 10 == 0 {
        short = Decimal { unscaled: short.unscaled / 10, scale: short.scale - 1 };
    }
    short
}
