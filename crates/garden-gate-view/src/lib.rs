//! Turns results, plans and diagnostics of [`garden_gate`] into text.
//!
//! Pure functions of core types: nothing here opens a file or knows a terminal; how wide and how colourful the text is to be
//! comes in as [`Look`].

#![deny(missing_docs)]

mod beside;
mod check;
mod describe;
mod diagnostic;
mod inspect;
mod json;
mod look;
mod picture;
mod plan;
mod separated;
mod table;
mod visible;

pub use beside::rows_beside_plan;
pub use check::{check_json, check_report, check_summary, check_xml};
pub use describe::{describe, describe_json, tables};
pub use diagnostic::{error, note};
pub use inspect::{comparison, comparison_json, steps, steps_json, sweep, sweep_json};
pub use json::{
    changed_json, done_json, error_json, lines_json, plan_json, rows_json, write_lines_json, write_rows_json,
};
pub use look::Look;
pub use picture::{PlanReport, plan_dot, plan_html, plan_svg, rows_html, rows_html_head, sweep_svg};
pub use plan::{bytes, considered, plan_tree, rewrites, tally};
pub use separated::{Separated, markdown, separated, write_markdown, write_separated};
pub use table::{done, table, write_table};
pub use visible::{paragraphs, visible};
