//! Periods of a table (clause 4.15): two columns, of which the first belongs to the period and the second does not any more.

/// The name of the period of system time.
pub const SYSTEM_TIME: &str = "SYSTEM_TIME";

/// The end of a current row in system time: 9999-12-31 23:59:59.999999, in microseconds since 1970.
pub const FOREVER: i64 = 253_402_300_799_999_999;

/// `PERIOD FOR name (start, end)`: a period that the rows give.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Period {
    pub name: String,
    pub start: usize,
    pub end: usize,
}

/// `PERIOD FOR SYSTEM_TIME (start, end)`: the database fills its columns with the times of commits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SystemTime {
    pub start: usize,
    pub end: usize,
    /// Whether rows that are changed or deleted stay as history.
    pub versioned: bool,
    pub rule: HistoryRule,
}

/// `SET HISTORY (ROLL EVERY …, KEEP …)`: how the history of a table is cut into stretches, and how many are kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct HistoryRule {
    /// When a new stretch begins; `None` for one stretch.
    pub roll: Option<Roll>,
    /// So many stretches, the newest among them; `None` for all.
    pub keep: Option<u32>,
    pub when_full: WhenFull,
}

/// What becomes of history past the stretches that are kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum WhenFull {
    /// The oldest stretch goes.
    #[default]
    DropOldest,
    /// Nothing goes: the newest stretch grows, and each change has a note that says so.
    Note,
}

/// How much history one stretch holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Roll {
    Rows(u64),
    Months(i32),
    Micros(i64),
}
