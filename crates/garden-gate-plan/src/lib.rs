//! Plans: what is to be computed (logical), and how (physical).
//!
//! A part of the crate `garden-gate`, which exports what programs need of it. There is no semver promise for this crate itself.

#![expect(
    missing_docs,
    reason = "internal: what programs see is documented, and the rest where its name does not say it"
)]
#![expect(clippy::missing_errors_doc, reason = "internal: errors are those of the statement")]

use garden_gate_base::{catalog, collections, diagnostic, types};

#[macro_use]
mod named;

pub mod logical;
pub mod physical;
