//! Whole random queries against a reference: every clause together, over small tables full of NULLs, ties and extremes.
//!
//! `tree` is a query language of its own that can be written as SQL; `evaluate` works it out row by row from the standard's wording and
//! shares nothing with the engine; `generate` draws queries from a seed; `shrink` makes a failing one small.

pub(crate) mod evaluate;
pub(crate) mod generate;
mod queries;
pub(crate) mod shrink;
pub(crate) mod tree;
