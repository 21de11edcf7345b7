//! Periods of a table (clause 4.15): two columns, of which the first belongs to the period and the second does not any more.

/// The name of the period of system time.
pub(crate) const SYSTEM_TIME: &str = "SYSTEM_TIME";

/// The end of a current row in system time: 9999-12-31 23:59:59.999999, in microseconds since 1970.
pub(crate) const FOREVER: i64 = 253_402_300_799_999_999;

/// `PERIOD FOR name (start, end)`: a period that the rows give.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Period {
    pub(crate) name: String,
    pub(crate) start: usize,
    pub(crate) end: usize,
}

/// `PERIOD FOR SYSTEM_TIME (start, end)`: the database fills its columns with the times of commits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SystemTime {
    pub(crate) start: usize,
    pub(crate) end: usize,
    /// Whether rows that are changed or deleted stay as history.
    pub(crate) versioned: bool,
    pub(crate) rule: HistoryRule,
}

/// `SET HISTORY (ROLL EVERY …, KEEP …)`: how the history of a table is cut into stretches, and how many are kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct HistoryRule {
    /// When a new stretch begins; `None` for one stretch.
    pub(crate) roll: Option<Roll>,
    /// So many stretches, the newest among them; `None` for all.
    pub(crate) keep: Option<u32>,
    pub(crate) when_full: WhenFull,
}

/// What becomes of history past the stretches that are kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum WhenFull {
    /// The oldest stretch goes.
    #[default]
    DropOldest,
    /// Nothing goes: the newest stretch grows, and each change has a note that says so.
    Note,
}

/// How much history one stretch holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Roll {
    Rows(u64),
    Months(i32),
    Micros(i64),
}
