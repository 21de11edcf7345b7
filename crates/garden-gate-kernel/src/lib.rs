//! Vectorised expressions, functions and aggregates: Arrow arrays in, Arrow arrays out.
//!
//! Types, NULLs and constants are told apart once a batch; what can fail looks at valid lanes only, so that a value under a
//! NULL never raises. Floating-point lanes never hold a negative zero, so that equality is equality of bits.
//!
//! A part of the crate `garden-gate`, which exports what programs need of it. There is no semver promise for this crate itself.

#![expect(
    missing_docs,
    reason = "internal: what programs see is documented, and the rest where its name does not say it"
)]
#![warn(clippy::wildcard_enum_match_arm)]
#![expect(clippy::missing_errors_doc, reason = "internal: errors are those of the statement")]

use garden_gate_base::{catalog, collections, control, diagnostic, types};
use garden_gate_plan::logical;

mod aggregate;
mod arithmetic;
mod ascending_groups;
mod batch;
mod case;
mod cast;
mod composite;
mod conform;
mod constant;
mod dense_groups;
mod evaluate;
mod extremes;
mod function;
mod group;
mod in_list;
mod in_parts;
mod integer_slots;
mod join_table;
mod key_layout;
mod keys;
mod like;
mod logic;
mod nearest_table;
mod packed_keys;
mod partition_order;
mod problem;
mod program_call;
mod range_table;
mod sketch;
mod sorted_table;
mod sorted_values;
mod sparse_places;
mod text;
mod window;
mod word_keys;

pub use aggregate::{Accumulator, GroupMap, Groups, accumulator, aggregate_inputs, share_state, value_of_nothing};
pub use batch::{Batch, Lane, own_texts};
pub use cast::{cast_values, parse_value};
pub use conform::{Misfit, conform};
pub use constant::{array_of, array_of_all, value_at};
pub use evaluate::{evaluate as evaluate_at_once, evaluate_constant};
pub use extremes::{Extremes, extremes};
pub use function::Progression;
pub use group::GroupTable;
pub use in_parts::{evaluate, evaluate_where, in_parts};
pub use join_table::JoinTable;
pub use keys::{from_integer_lanes, hash_parts, integer_lanes, lane_bounds, lane_order};
pub use logic::{count_true, kept};
pub use nearest_table::{NearestTable, OrderColumn};
pub use partition_order::{PartitionSort, partition_order};
pub use problem::Problem as ValueProblem;
pub use problem::no_such_zone;
pub use range_table::{RangeSide, RangeTable};
pub use sketch::Sketch;
pub use sorted_table::SortedTable;
pub use window::{PartitionBounds, aggregate_partitions, partition_aggregate, window};

use crate::logical::{Direction, Nulls, SortKey};

/// Direction and place of NULLs of a sort key, as the comparing kernels take them.
pub fn sort_options(key: &SortKey) -> arrow::compute::SortOptions {
    arrow::compute::SortOptions {
        descending: key.direction == Direction::Descending,
        nulls_first: key.nulls == Nulls::First,
    }
}
