//! Text → tokens → syntax tree with spans. This layer knows no catalog and no types.
//!
//! The tree mirrors what was written (`BETWEEN`, `USING`, the spelling of names); [`Script::next_statement`] reads one statement of a
//! script at a time, so that a mistake in a later statement does not keep the earlier ones from running.
//!
//! A part of the crate `garden-gate`, which exports what programs need of it. There is no semver promise for this crate itself.

#![expect(
    missing_docs,
    reason = "internal: what programs see is documented, and the rest where its name does not say it"
)]
#![expect(clippy::missing_errors_doc, reason = "internal: errors are those of the statement")]

use garden_gate_base::{catalog, control, diagnostic, types};

mod alter;
pub mod ast;
mod call;
mod change;
mod complete;
mod data_type;
mod definition;
mod expression;
mod file_options;
pub mod format;
mod fragment;
mod guide;
mod keyword;
mod lexer;
mod literal;
mod match_predicate;
mod nesting;
mod objects;
mod outline;
mod parser;
mod period;
mod predicate;
mod problem;
mod query;
mod statement;
mod table;
mod thesaurus;
mod token_class;
mod trace;
mod typing;
mod walk;

pub use complete::{Typed, is_unclosed};
pub use fragment::{expression_of, file_options_of, name_of, type_of, with_name_for};
pub use keyword::{is_reserved as is_reserved_word, quoted_name, written_name};
pub use lexer::words;
pub use nesting::most_levels;
pub use outline::{OutlineItem, OutlineKind, outline};
pub use parser::Script;
pub use problem::Problem as SyntaxProblem;
pub use token_class::{TokenClass, token_classes};
pub use typing::{Inside, Relation, Typing, correlation_name};
