//! x
mod bind;
mod catalog;
mod choose;
mod diagnostic;
mod estimate;
mod execute;
mod file;
mod kernel;
mod logical;
mod physical;
mod rewrite;
mod session;
mod storage;
mod syntax;
mod types;

pub use arrow;
pub use bind::Parameters;
pub use catalog::{Column, ColumnStatistics, CommonValue, DEFAULT_SCHEMA, Segment, TableSource};
pub use diagnostic::{DataPlace, Error, Label, Note, Position, Result, SourceText, Span, SqlState};
pub use execute::Interrupt;
pub use physical::{Candidate, Considered, JoinMethod, Plan, PlanNode, Predicate, Reading, Rewrite, Truth};
pub use session::{Database, FromValue, Outcome, ResultColumn, ResultSet, Row, Session, Statements};
pub use types::{Decimal, SqlType, Value};
