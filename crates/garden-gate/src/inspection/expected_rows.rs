//! Rows of a result against those that a test expects.

use super::row_diff::key;
use crate::collections::HashMap;
use crate::session::ResultSet;
use crate::types::Value;
use std::fmt;

/// Whether the order of rows counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RowOrder {
    /// Rows may come in any order, as those of a query without ORDER BY.
    Any,
    /// Rows come in this order.
    Exact,
}

/// How the rows of a result differ from those expected; see [`ResultSet::diff`].
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct RowsDiff {
    /// Rows that are expected and did not come, one of several equal ones each time it is missing.
    pub missing: Vec<Vec<Value>>,
    /// Rows that came and are not expected.
    pub unexpected: Vec<Vec<Value>>,
    /// The rows are the expected ones in another order: the first place, from 1, where another row appears, and that row.
    pub out_of_order: Option<(usize, Vec<Value>)>,
}

impl ResultSet {
    /// How the rows differ from those expected, or `None` when they are the same. Numbers are compared by value, whatever their types.
    /// O(rows) time and memory.
    ///
    /// ```
    /// # fn main() -> garden_gate::Result<()> {
    /// use garden_gate::inspect::RowOrder;
    /// let mut session = garden_gate::Database::in_memory().session();
    /// let rows = session.query("VALUES (1, 'shade'), (2, NULL)", ())?;
    /// let expected = [vec![1.into(), "shade".into()], vec![3.into(), "full sun".into()]];
    /// let diff = rows.diff(&expected, RowOrder::Any).expect("a row differs");
    /// assert_eq!(diff.to_string(), "missing:    3|full sun\nunexpected: 2|NULL");
    /// # Ok(())
    /// # }
    /// ```
    pub fn diff(&self, expected: &[Vec<Value>], order: RowOrder) -> Option<RowsDiff> {
        let mut wanted: HashMap<String, usize> = HashMap::default();
        for row in expected {
            *wanted.entry(key(row)).or_default() += 1;
        }
        let mut diff = RowsDiff::default();
        for row in self.rows() {
            let row = row.values();
            match wanted.get_mut(&key(&row)).filter(|left| **left > 0) {
                Some(left) => *left -= 1,
                None => diff.unexpected.push(row),
            }
        }
        for row in expected.iter().rev() {
            if let Some(left) = wanted.get_mut(&key(row)).filter(|left| **left > 0) {
                *left -= 1;
                diff.missing.push(row.clone());
            }
        }
        diff.missing.reverse();
        if diff == RowsDiff::default() && order == RowOrder::Exact {
            let mut pairs = self.rows().map(|row| row.values()).zip(expected).enumerate();
            let parted = pairs.find(|(_, (row, expected))| key(row) != key(expected));
            diff.out_of_order = parted.map(|(at, (row, _))| (at + 1, row));
        }
        (diff != RowsDiff::default()).then_some(diff)
    }
}

impl fmt::Display for RowsDiff {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let shown = |row: &[Value]| row.iter().map(ToString::to_string).collect::<Vec<_>>().join("|");
        let missing = self.missing.iter().map(|row| format!("missing:    {}", shown(row)));
        let unexpected = self.unexpected.iter().map(|row| format!("unexpected: {}", shown(row)));
        let out_of_order = self
            .out_of_order
            .iter()
            .map(|(at, row)| format!("row {at} is {}, which comes in another place", shown(row)));
        f.write_str(&missing.chain(unexpected).chain(out_of_order).collect::<Vec<_>>().join("\n"))
    }
}

/// Asserts that a result has these rows, in any order or, with `in order`, in this one.
///
/// ```
/// # fn main() -> garden_gate::Result<()> {
/// let mut session = garden_gate::Database::in_memory().session();
/// let rows = session.query("VALUES (1, 'shade'), (2, NULL)", ())?;
/// garden_gate::assert_rows!(rows, [[2, garden_gate::Value::Null], [1, "shade"]]);
/// garden_gate::assert_rows!(rows, in order [[1, "shade"], [2, garden_gate::Value::Null]]);
/// # Ok(())
/// # }
/// ```
#[macro_export]
macro_rules! assert_rows {
    ($rows:expr, [$([$($value:expr),* $(,)?]),* $(,)?] $(,)?) => {
        $crate::assert_rows!(@ $rows, $crate::inspect::RowOrder::Any, [$([$($value),*]),*])
    };
    ($rows:expr, in order [$([$($value:expr),* $(,)?]),* $(,)?] $(,)?) => {
        $crate::assert_rows!(@ $rows, $crate::inspect::RowOrder::Exact, [$([$($value),*]),*])
    };
    (@ $rows:expr, $order:expr, [$([$($value:expr),*]),*]) => {{
        let expected: Vec<Vec<$crate::Value>> = vec![$(vec![$($crate::Value::from($value)),*]),*];
        if let Some(diff) = $crate::ResultSet::diff(&$rows, &expected, $order) {
            panic!("the rows are not the expected ones\n{diff}");
        }
    }};
}
