//! Questions about queries, answered by running them: do two give the same rows ([`Session::compare`]), for which values does a plan
//! change ([`Session::sweep`]), what does each step of a query give ([`Session::steps`]), does all stay as it was (checks). Built on
//! the session; nothing here plans or runs by itself.
//!
//! [`Session::compare`]: crate::Session::compare
//! [`Session::sweep`]: crate::Session::sweep
//! [`Session::steps`]: crate::Session::steps

mod check;
mod compare;
mod expected_rows;
mod plan_diff;
mod row_diff;
mod steps;
mod sweep;

pub use check::{CheckFile, CheckOutcome, CheckReport, Failure, RowChange, plan_text};
pub use compare::{CompareOptions, ComparedQuery, Comparison, Difference, DifferenceKind};
pub use expected_rows::{RowOrder, RowsDiff};
pub use steps::{Step, StepOptions, StepPart, StepPlan};
pub use sweep::{PlanInterval, Sweep, SweepOptions, SweepPoint, Swept};
