//! From a logical plan to a physical one: rewriting, estimation and choice.
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

pub mod choose;
pub mod estimate;
pub mod rewrite;
