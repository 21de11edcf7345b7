//! The bound tree: typed expressions over column ids, and plans of relational algebra.
//!
//! Fewer forms than the syntax tree has: `BETWEEN` is two comparisons, a simple `CASE` a searched one, `NULLIF` a `CASE`.
//! Invariants kept by the constructors: (1) an `And` or `Or` has at least two terms and none of its own kind; (2) both sides of
//! a comparison have one type; (3) a `Case` has at least one branch and all values of one type.

mod aggregate;
mod columns;
mod expr;
mod function;
mod guide;
mod index;
mod known_exprs;
pub(crate) mod nullable;
mod plan;
mod print;
mod subquery;
pub(crate) mod unique;
mod walk;
mod window;

pub(crate) use aggregate::{Aggregate, AggregateFunction, Overflow};
pub(crate) use columns::{ColumnId, ColumnInfo, Columns};
pub(crate) use expr::{Expr, ExprKind};
pub(crate) use function::{FUNCTIONS, Function};
pub(crate) use guide::{Demand, Directive, Guide, GuidedJoin, GuidedRead};
pub(crate) use index::ScanIndex;
pub(crate) use known_exprs::KnownExprs;
pub(crate) use plan::{
    AnyTest, EarlyGroups, Expand, LogicalPlan, Member, Recursion, RecursionInput, RewriteNote, Rewritten, Scan,
    ScanReference, SetOperand, SideJoin, Sides, SortKey, Step, StepDefinition, StepId,
};
pub(crate) use print::Printer;
pub(crate) use subquery::{Subquery, SubqueryTest};
pub(crate) use window::{Frame, WindowCall, WindowFunction};

pub(crate) use crate::types::{ArithmeticOp, CompareOp, Direction, JoinKind, Nulls, ParameterName, SetOp, Test};
