//! The bound tree: typed expressions over column ids, and plans of relational algebra.
//!
//! Fewer forms than the syntax tree has: `BETWEEN` is two comparisons, a simple `CASE` a searched one, `NULLIF` a `CASE`.
//! Invariants kept by the constructors: (1) an `And` or `Or` has at least two terms and none of its own kind; (2) both sides of
//! a comparison have one type; (3) a `Case` has at least one branch and all values of one type.

mod aggregate;
mod expr;
mod plan;
mod print;

pub(crate) use aggregate::{Aggregate, AggregateFunction};
pub(crate) use expr::{Expr, ExprKind};
pub(crate) use plan::{ColumnId, ColumnInfo, Columns, LogicalPlan, RewriteNote, Scan, SortKey};
pub(crate) use print::Printer;

pub(crate) use crate::types::{ArithmeticOp, CompareOp, Direction, Nulls, ParameterName, Test};
