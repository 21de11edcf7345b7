//! Where rows come from and stay: files, and the tables of a database with their versions, indexes and statistics.
//!
//! A part of the crate `garden-gate`, which exports what programs need of it. There is no semver promise for this crate itself.

#![expect(
    missing_docs,
    reason = "internal: what programs see is documented, and the rest where its name does not say it"
)]
#![expect(clippy::missing_errors_doc, reason = "internal: errors are those of the statement")]

use garden_gate_base::{catalog, control, diagnostic, types};
use garden_gate_kernel as kernel;
use garden_gate_plan::logical;
use garden_gate_syntax as syntax;

pub mod file;
pub mod storage;
