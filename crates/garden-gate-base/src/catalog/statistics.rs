use crate::types::{Value, approximate};

/// What the planner knows of the values of one column.
#[derive(Clone, Debug)]
pub struct ColumnStatistics {
    /// Rows of the table.
    pub rows: u64,
    /// Rows in which the column is NULL.
    pub nulls: u64,
    /// Number of distinct values, NULL aside; estimated when `exact` is false.
    pub distinct: f64,
    /// The least value, `Value::Null` when there is none or it is not known.
    pub min: Value,
    /// The greatest value.
    pub max: Value,
    /// The most common values, most common first; only those more frequent than the average value.
    pub most_common: Vec<CommonValue>,
    /// The bounds of an equi-depth histogram of the values that are not among the most common: between each and the next lie equally
    /// many rows. Ascending, the first the least of these values and the last the greatest; empty when nothing is known.
    pub histogram: Vec<Value>,
    /// How closely the order of the rows follows that of the values: 1 for rows sorted by the column, -1 backwards, 0 for neither.
    pub correlation: f64,
    /// Whether every row was looked at, not a sample.
    pub exact: bool,
}

/// A frequent value and in what share of all rows it appears.
#[derive(Clone, Debug)]
pub struct CommonValue {
    /// The value.
    pub value: Value,
    /// Its share of all rows, 0 to 1.
    pub share: f64,
}

impl ColumnStatistics {
    /// Nothing known but the number of rows: no NULLs, a tenth of the rows different.
    pub fn unknown(rows: u64) -> Self {
        Self {
            rows,
            nulls: 0,
            distinct: (approximate(rows) / 10.0).max(1.0),
            min: Value::Null,
            max: Value::Null,
            most_common: Vec::new(),
            histogram: Vec::new(),
            correlation: 0.0,
            exact: false,
        }
    }

    /// The share of rows in which the column is NULL.
    pub fn null_share(&self) -> f64 {
        if self.rows == 0 { 0.0 } else { approximate(self.nulls) / approximate(self.rows) }
    }

    /// The share of rows that hold one of the most common values.
    pub fn common_share(&self) -> f64 {
        self.most_common.iter().map(|common| common.share).sum()
    }

    /// How many values there are besides the most common ones.
    pub fn other_values(&self) -> f64 {
        (self.distinct - approximate(self.most_common.len())).max(0.0)
    }

    /// The share of rows that hold neither NULL nor one of the most common values.
    pub fn other_share(&self) -> f64 {
        (1.0 - self.null_share() - self.common_share()).max(0.0)
    }
}

/// What is known of several columns of a table together, after `ANALYZE t (a, b)`.
#[derive(Clone, Debug)]
pub struct GroupStatistics {
    /// The columns, by their places in the table, ascending.
    pub columns: Vec<usize>,
    /// Rows of the table when it was looked at.
    pub rows: u64,
    /// Number of different combinations, NULL counted as a value.
    pub distinct: f64,
    /// The most common combinations and their shares of all rows, most common first.
    pub most_common: Vec<(Vec<Value>, f64)>,
}
