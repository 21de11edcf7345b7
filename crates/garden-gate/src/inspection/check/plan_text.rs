//! A plan as a text that a check file holds: an operator a line with its estimated rows, below it what it is matched and filtered by, and then
//! its inputs, indented.
//!
//! ```text
//! hash join, anti: 38 rows
//!   - join key t.bed_id = b.bed_id
//!   table scan task as t: 3000 rows
//!   table scan bed as b: 200 rows
//! ```

use super::{Failure, RowChange, failure};
use crate::physical::{Plan, PlanNode};
use crate::types::Value;

/// By this factor the rows of an operator may differ where a check says nothing else.
pub(super) const ROWS_WITHIN: f64 = 2.0;

/// The text of a plan.
pub fn plan_text(plan: &Plan) -> String {
    let mut out = String::new();
    write(&plan.root, 0, &mut out);
    out
}

fn write(node: &PlanNode, depth: usize, out: &mut String) {
    let indent = "  ".repeat(depth);
    out.push_str(&format!("{indent}{node}: {:.0} rows\n", node.estimated_rows));
    for predicate in node.predicates.iter().filter(|predicate| !predicate.implied) {
        out.push_str(&format!("{indent}  - {} {}\n", predicate.place, predicate.text));
    }
    node.children.iter().for_each(|child| write(child, depth + 1, out));
}

/// A line without its rows, and how many there are.
fn split(line: &str) -> (&str, Option<f64>) {
    let rows = line.strip_suffix(" rows").and_then(|rest| rest.rsplit_once(": "));
    match rows.and_then(|(title, count)| Some((title, count.parse::<f64>().ok()?))) {
        Some((title, rows)) => (title, Some(rows)),
        None => (line, None),
    }
}

/// Whether two lines say the same; numbers of rows may differ by a factor, both taken as one at least.
fn is_same(a: &str, b: &str, within: f64) -> bool {
    let ((a, rows), (b, others)) = (split(a), split(b));
    a == b
        && match (rows, others) {
            (Some(rows), Some(others)) => {
                let (rows, others) = (rows.max(1.0), others.max(1.0));
                rows.max(others) / rows.min(others) <= within
            }
            (None, None) => true,
            (Some(_), None) | (None, Some(_)) => false,
        }
}

/// Where the plan is not the one that the text says.
pub(super) fn broken(plan: &Plan, expected: &str, within: f64) -> Option<Failure> {
    let found = plan_text(plan);
    let lines = |text: &str| -> Vec<String> {
        text.lines().map(|line| line.trim_end().to_owned()).filter(|line| !line.is_empty()).collect()
    };
    let (expected, found) = (lines(expected), lines(&found));
    let changes = differences(&expected, &found, within);
    if changes.iter().all(|(_, change)| *change == Change::Both) {
        return None;
    }
    let shown = changes.into_iter().filter(|(_, change)| *change != Change::Both);
    let rows = shown.map(|(line, change)| RowChange { found: change == Change::Found, row: vec![Value::Text(line)] });
    let text = format!("the plan is another one; rows may differ by a factor of {within}");
    Some(Failure { columns: vec!["plan".into()], rows: rows.collect(), ..failure("plan", text) })
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Change {
    Both,
    Expected,
    Found,
}

/// The lines of both texts, the longest run of lines that they have in common told apart. O(lines²); a plan has a few dozen.
fn differences(expected: &[String], found: &[String], within: f64) -> Vec<(String, Change)> {
    let width = found.len() + 1;
    let mut common = vec![0_usize; (expected.len() + 1) * width];
    for a in (0..expected.len()).rev() {
        for b in (0..found.len()).rev() {
            common[a * width + b] = if is_same(&expected[a], &found[b], within) {
                1 + common[(a + 1) * width + b + 1]
            } else {
                common[(a + 1) * width + b].max(common[a * width + b + 1])
            };
        }
    }
    let (mut a, mut b) = (0, 0);
    let mut lines = Vec::new();
    while a < expected.len() || b < found.len() {
        let is_common = a < expected.len() && b < found.len() && is_same(&expected[a], &found[b], within);
        if is_common {
            lines.push((found[b].clone(), Change::Both));
            (a, b) = (a + 1, b + 1);
        } else if b == found.len() || a < expected.len() && common[(a + 1) * width + b] >= common[a * width + b + 1] {
            lines.push((expected[a].clone(), Change::Expected));
            a += 1;
        } else {
            lines.push((found[b].clone(), Change::Found));
            b += 1;
        }
    }
    lines
}
