//! The plan that runs, and the plan as it is shown: two forms of one thing.

mod access;
mod describe;
mod identity;
mod names;
mod node;
mod plan;

pub use access::{Bound, IndexAccess, KeyOrder, Probe, SecondaryIndexes};
pub use describe::{above, describe};
pub use names::{Decision, IndexUse, OperatorName, PredicatePlace};
pub use node::{
    GroupMethod, IndexJoin, JoinKey, JoinRange, JoinSpec, Measures, MemberSpec, Node, NodeId, NodeMeasure, Operator,
    PhysicalPlan, RecursionSpec, Tally,
};

/// What a worker has to have to do to be worth its while, in units of cost.
pub const WORTH_A_WORKER: f64 = 100_000.0;

pub use plan::{BuiltIndex, Candidate, Considered, JoinMethod, Plan, PlanNode, Predicate, Reading, Rewrite, Truth};
