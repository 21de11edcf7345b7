//! Whole random queries against a reference: every clause together, over small tables full of NULLs, ties and extremes.
//!
//! `tree` is a query language of its own that can be written as SQL; `evaluate` works it out row by row from the standard's wording and
//! shares nothing with the engine; `generate` draws queries from a seed; `shrink` makes a failing one small.

#![expect(
    clippy::too_many_lines,
    clippy::wrong_self_convention,
    clippy::explicit_auto_deref,
    clippy::doc_markdown,
    clippy::needless_pass_by_value,
    clippy::print_stdout,
    reason = "one match over an entire language is easier to check against the standard than its parts"
)]

pub(crate) mod evaluate;
pub(crate) mod generate;
pub(crate) mod other;
pub(crate) mod queries;
pub(crate) mod shrink;
mod stored;
pub(crate) mod tree;

/// The text of a random query.
pub(crate) fn random_text(draw: &mut crate::random_queries::Draw) -> String {
    generate::Generator::new(draw).query().sql()
}
