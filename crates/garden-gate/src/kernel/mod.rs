//! Vectorised expressions, functions and aggregates: Arrow arrays in, Arrow arrays out.
//!
//! Types, NULLs and constants are told apart once a batch; what can fail looks at valid lanes only, so that a value under a
//! NULL never raises. Floating-point lanes never hold a negative zero, so that equality is equality of bits.

mod aggregate;
mod arithmetic;
mod batch;
mod case;
mod cast;
mod constant;
mod evaluate;
mod group;
mod in_list;
mod join_table;
mod keys;
mod like;
mod logic;
mod problem;
mod text;

pub(crate) use aggregate::{Accumulator, Groups, accumulator};
pub(crate) use batch::{Batch, Lane};
pub(crate) use cast::parse_value;
pub(crate) use constant::{array_of, value_at};
pub(crate) use evaluate::{evaluate, evaluate_constant};
pub(crate) use group::GroupTable;
pub(crate) use join_table::JoinTable;
pub(crate) use logic::{count_true, evaluate_where, kept};
