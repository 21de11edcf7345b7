//! Vectorised expressions, functions and aggregates: Arrow arrays in, Arrow arrays out.
//!
//! Types, NULLs and constants are told apart once a batch; what can fail looks at valid lanes only, so that a value under a
//! NULL never raises. Floating-point lanes never hold a negative zero, so that equality is equality of bits.

mod aggregate;
mod arithmetic;
mod batch;
mod case;
mod cast;
mod composite;
mod conform;
mod constant;
mod evaluate;
mod function;
mod group;
mod in_list;
mod in_parts;
mod join_table;
mod keys;
mod like;
mod logic;
mod problem;
mod sketch;
mod sorted_table;
mod text;
mod window;
mod word_keys;

pub(crate) use aggregate::{Accumulator, Groups, accumulator, aggregate_inputs};
pub(crate) use batch::{Batch, Lane, own_texts};
pub(crate) use cast::{cast_values, parse_value};
pub(crate) use conform::conform;
pub(crate) use constant::{array_of, array_of_all, value_at};
pub(crate) use evaluate::{evaluate as evaluate_at_once, evaluate_constant};
pub(crate) use function::Progression;
pub(crate) use group::GroupTable;
pub(crate) use in_parts::{evaluate, evaluate_where, in_parts};
pub(crate) use join_table::JoinTable;
pub(crate) use keys::{from_integer_lanes, hash_parts, integer_lanes, lane_bounds, lane_order};
pub(crate) use logic::{count_true, kept};
pub(crate) use problem::no_such_zone;
pub(crate) use sketch::Sketch;
pub(crate) use sorted_table::SortedTable;
pub(crate) use window::{Layout, window};

use crate::logical::{Direction, Nulls, SortKey};

/// Direction and place of NULLs of a sort key, as the comparing kernels take them.
pub(crate) fn sort_options(key: &SortKey) -> arrow::compute::SortOptions {
    arrow::compute::SortOptions {
        descending: key.direction == Direction::Descending,
        nulls_first: key.nulls == Nulls::First,
    }
}
