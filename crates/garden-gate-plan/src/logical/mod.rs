//! The bound tree: typed expressions over column ids, and plans of relational algebra.
//!
//! Fewer forms than the syntax tree has: `BETWEEN` is two comparisons, a simple `CASE` a searched one, `NULLIF` a `CASE`.
//! Invariants kept by the constructors: (1) an `And` or `Or` has at least two terms and none of its own kind; (2) both sides of
//! a comparison have one type; (3) a `Case` has at least one branch and all values of one type.

mod aggregate;
mod aggregate_function;
mod columns;
pub mod dependencies;
mod expr;
mod function;
mod function_families;
mod index;
mod join_kind;
mod known_exprs;
pub mod never_null;
pub mod nullable;
mod plan;
mod print;
mod print_call;
mod rewritten;
mod rule;
mod subquery;
pub mod unique;
mod walk;
mod window;

pub use aggregate::{Aggregate, Overflow};
pub use aggregate_function::{AggregateFunction, HypotheticalFunction, MomentFunction};
pub use columns::{ColumnGroup, ColumnId, ColumnInfo, Columns, StoredNulls};
pub use expr::{Expr, ExprKind};
pub use function::{FUNCTIONS, Function};
pub use function_families::{ArrayFunction, FloatFunction, NumberFunction, RegexFunction, TextFunction, ZoneFunction};
pub use garden_gate_base::guide::{Directive, DirectiveKind, Guide, GuidedJoin, GuidedRead};
pub use index::ScanIndex;
pub use join_kind::JoinKindName;
pub use known_exprs::KnownExprs;
pub use plan::{
    AnyTest, BinaryJoin, CteDefinition, CteId, CteReference, Expand, LogicalPlan, Member, Nearest, Recursion,
    RecursionInput, Scan, ScanReference, SetOperand, Sides, SortKey,
};
pub use print::Printer;
pub use rewritten::{EarlyGroups, RewriteNote, Rewritten};
pub use rule::RewriteRule;
pub use subquery::{Subquery, SubqueryTest};
pub use window::{Frame, WindowCall, WindowFunction};

pub use crate::types::{ArithmeticOp, CompareOp, Direction, JoinKind, Nulls, ParameterName, SetOp, Test};
