use crate::types::{Value, approximate};

/// What the planner knows of the values of one column.
#[derive(Clone, Debug)]
pub struct ColumnStatistics {
    /// Rows of the table.
    pub rows: u64,
    /// Rows in which the column is NULL.
    pub nulls: u64,
    /// Number of different values, NULL aside; estimated when `exact` is false.
    pub distinct: f64,
    /// The least value, `Value::Null` when there is none or it is not known.
    pub min: Value,
    /// The greatest value.
    pub max: Value,
    /// The most frequent values, most frequent first; only those more frequent than the average value.
    pub most_common: Vec<CommonValue>,
    /// Whether every row was looked at, not a sample.
    pub exact: bool,
}

/// A frequent value and in what share of all rows it stands.
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
            exact: false,
        }
    }

    /// The share of rows in which the column is NULL.
    pub fn null_share(&self) -> f64 {
        if self.rows == 0 { 0.0 } else { approximate(self.nulls) / approximate(self.rows) }
    }
}
