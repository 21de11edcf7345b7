//! Physical plan → batches: push-based pipelines driven by morsels (Leis et al., SIGMOD 2014).
//!
//! A pipeline is a source cut into morsels, transforms that change a batch in place on a worker, and a sink with a state a worker
//! and a merge. Batches carry the number of their morsel, by which results come out in the order of the input however many
//! workers there were: (1) parallel and serial runs give the same rows in the same order.
//!
//! A part of the crate `garden-gate`, which exports what programs need of it. There is no semver promise for this crate itself.

#![expect(
    missing_docs,
    reason = "internal: what programs see is documented, and the rest where its name does not say it"
)]
#![warn(clippy::wildcard_enum_match_arm)]
#![expect(clippy::missing_errors_doc, reason = "internal: errors are those of the statement")]

use garden_gate_base::{catalog, collections, control, diagnostic, types};
use garden_gate_kernel as kernel;
use garden_gate_plan::{logical, physical};
use garden_gate_storage::storage;

mod aggregate;
mod build_side;
mod compile;
mod deliver;
mod expand;
mod filter;
mod index_build;
mod index_join;
mod index_read;
mod join;
mod join_in_chunks;
mod join_parts;
mod mark_join;
mod merge_groups;
mod nearest_join;
mod pipeline;
mod project;
mod range_join;
mod recursion;
mod recursion_limit;
mod result;
mod rounds;
mod scan_conjuncts;
mod set_operation;
mod sort;
mod sorted_aggregate;
mod spill;
mod spilled_groups;
mod streaming;
mod top_n;
mod window;

pub use deliver::Deliver;
pub use index_read::{count_indexed, match_indexed, read_indexed};
pub use pipeline::Pool;
pub use rounds::{RoundLog, RoundRows};

use crate::control::Control;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::logical::{ColumnId, Columns};
use crate::physical::{Measures, PhysicalPlan};

/// How a plan is to be run.
#[expect(missing_debug_implementations, reason = "it holds what others own")]
pub struct Run<'a> {
    pub control: &'a Control,
    pub pool: &'a Pool,
    pub batch_rows: usize,
    pub columns: &'a Columns,
    /// Where to count what each node does; nothing is counted without it.
    pub measures: Option<&'a Measures>,
    /// Rows that the result may have; the work ends where there are more.
    pub most_rows: Option<u64>,
    /// Where to keep what each round of a recursion found.
    pub rounds: Option<&'a RoundLog>,
}

/// Runs a plan; the batches have the columns `output`, in that order.
///
/// # Errors
/// Whatever its expressions raise; HY008, HYT00 or HY001 when it is interrupted or a limit is reached.
pub fn run(plan: &PhysicalPlan, output: &[ColumnId], run: &Run<'_>) -> Result<Vec<Batch>> {
    if let Some(measures) = run.measures {
        index_build::build_indexes(&plan.root, measures)?;
    }
    compile::Compiler::new(run, plan).result(&plan.root, output)
}

/// Runs a plan, and hands on its batches in the order of its rows as they come, each with the columns `output`; the work waits while
/// `deliver` does.
///
/// # Errors
/// As [`run`], after the batches that came before.
pub fn stream(plan: &PhysicalPlan, output: &[ColumnId], run: &Run<'_>, deliver: &Deliver<'_>) -> Result<()> {
    compile::Compiler::new(run, plan).deliver(&plan.root, output, deliver)
}
