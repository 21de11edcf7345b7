//! The vocabulary that all layers of Garden Gate share: types and values, diagnostics, control of running statements, and the catalog.
//!
//! A part of the crate `garden-gate`, which exports what programs need of it. There is no semver promise for this crate itself.

#![expect(
    missing_docs,
    reason = "internal: what programs see is documented, and the rest where its name does not say it"
)]
#![expect(clippy::missing_errors_doc, reason = "internal: errors are those of the statement")]

pub mod catalog;
pub mod collections;
pub mod control;
pub mod diagnostic;
pub mod guide;
pub mod types;
