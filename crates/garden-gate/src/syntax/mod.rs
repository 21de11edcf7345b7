//! Text → tokens → syntax tree with spans. This layer knows no catalog and no types.
//!
//! The tree mirrors what was written (`BETWEEN`, `USING`, the spelling of names); [`Script::next_statement`] reads one statement of a
//! script at a time, so that a mistake in a later statement does not keep the earlier ones from running.

mod alter;
pub(crate) mod ast;
mod call;
mod change;
mod complete;
mod definition;
mod expression;
mod file_options;
mod guide;
mod keyword;
mod lexer;
mod literal;
mod match_predicate;
mod objects;
mod parser;
mod period;
mod predicate;
mod problem;
mod query;
mod statement;
mod table;
mod thesaurus;
mod walk;

pub use complete::Typed;
pub(crate) use lexer::words;
pub(crate) use parser::{Script, expression_of, file_options_of, name_of, type_of, with_name_for};
