//! Garden Gate: write and run SQL over relational tables, and **check** two things: the rows that come back, and the plan that was
//! chosen for them.
//!
//! A [`Database`] holds tables: files (CSV, JSON lines, Parquet, Arrow IPC), literal rows, or anything that implements
//! [`TableSource`](source::TableSource). A [`Session`] runs statements. Everything is exact: decimals keep their digits, NULL follows three-valued logic,
//! and what does not fit is an [`Error`] with an SQLSTATE, a place in the text and what to write instead.
//!
//! ```
//! use garden_gate::{Column, Database, Parameters, SqlType, Value, plan::JoinMethod};
//!
//! # fn main() -> garden_gate::Result<()> {
//! let db = Database::in_memory();
//! let text = SqlType::Varchar(None);
//! let bed = [Column::new("bed_id", SqlType::Integer), Column::new("name", text), Column::new("sun", text)];
//! db.add_rows("bed", &bed, &[
//!     vec![1.into(), "Fern gully".into(), "shade".into()],
//!     vec![2.into(), "Scree".into(), "full sun".into()],
//!     vec![3.into(), "Bog".into(), Value::Null],
//! ])?;
//! let task = [Column::new("bed_id", SqlType::Integer), Column::new("hours", SqlType::Numeric { precision: 4, scale: 2 })];
//! db.add_rows("task", &task, &[vec![1.into(), Value::numeric("1.50").into()], vec![2.into(), Value::numeric("0.75").into()]])?;
//!
//! let mut session = db.session();
//! let sql = "SELECT b.name, t.hours FROM task AS t JOIN bed AS b USING (bed_id) WHERE b.sun <> :sun";
//!
//! // The rows.
//! let rows = session.query(sql, Parameters::new().set("sun", "shade"))?;
//! let first = rows.rows().next().expect("one bed is left");
//! assert_eq!((first.get::<String>(0)?, first.value(1).to_string()), ("Scree".into(), "0.75".into()));
//!
//! // The plan, predicted and measured: it is the same one, and the filter's tally shows the row lost to NULL.
//! let predicted = session.plan(sql, Parameters::new().set("sun", "shade"))?;
//! let (_, measured) = session.measure(sql, Parameters::new().set("sun", "shade"))?;
//! assert_eq!(predicted.fingerprint, measured.fingerprint);
//! assert_eq!(measured.joins(), [JoinMethod::Hash]);
//! let filter = measured.nodes().into_iter().find_map(|node| node.truth.first()).expect("there is a filter");
//! assert_eq!((filter.holds, filter.fails, filter.unknown), (1, 1, 1));
//!
//! // A mistake.
//! let error = session.query("SELECT nmae FROM bed", ()).expect_err("there is no such column");
//! assert_eq!((error.sqlstate().as_str(), error.help()), ("42S22", Some("did you mean \"name\"?")));
//! # Ok(())
//! # }
//! ```
//!
//! Where to go next: [`Session::query`], [`Session::plan`] and [`Session::measure`] are the three calls above; [`Session::run`] takes
//! whole scripts; [`Plan`] says what can be asked of a plan in a test; `docs/sql.md` in the project's folder is the SQL reference.
//!
//! [`arrow`] is re-exported: results can be read as record batches of its types.

#![deny(missing_docs)]

use garden_gate_base::{catalog, collections, control, diagnostic, types};
use garden_gate_bind as bind;
use garden_gate_execute as execute;
use garden_gate_kernel as kernel;
use garden_gate_optimize::{choose, rewrite};
use garden_gate_plan::{logical, physical};
use garden_gate_storage::{file, storage};
use garden_gate_syntax as syntax;

mod inspection;
mod session;

pub use arrow;
pub use bind::Parameters;
pub use catalog::Column;
pub use control::{Interrupt, MemoryGauge};
pub use diagnostic::{Error, IntoSource, Result, SourceText, SqlState};
pub use physical::Plan;
pub use session::{
    Database, Outcome, PreparedStatement, Progress, ResultColumn, ResultSet, Row, RowStream, Rows, ScriptRun, Session,
    Statements,
};
pub use types::{SqlType, Value};

/// What a [`Plan`] consists of: operators, predicates, rewrites, decisions.
pub mod plan {
    pub use crate::logical::{JoinKindName, RewriteRule};
    pub use crate::physical::{
        BuiltIndex, Candidate, Considered, Decision, IndexUse, JoinMethod, OperatorName, PlanNode, Predicate,
        PredicatePlace, Reading, Rewrite, Truth,
    };
}

/// What looks at statements and tables: steps, comparisons, sweeps, check files, differences of rows, facts about tables.
pub mod inspect {
    pub use crate::inspection::{
        CheckFile, CheckOutcome, CheckReport, CompareOptions, ComparedQuery, Comparison, Difference, DifferenceKind,
        Failure, PlanInterval, RowChange, RowOrder, RowsDiff, Step, StepOptions, StepPart, StepPlan, Sweep,
        SweepOptions, SweepPoint, Swept, plan_text,
    };
    pub use crate::session::{ColumnFacts, ConstraintFacts, HistoryFacts, HistoryInterval, TableCheck, TableFacts};
    pub use crate::storage::FileSize;
}

/// What a text that is being typed can go on with.
pub mod typing {
    pub use crate::diagnostic::nearest as nearest_word;
    pub use crate::session::{Completion, CompletionKind, Completions, KnownName, Review};
    pub use crate::syntax::{OutlineItem, OutlineKind, TokenClass, Typed, correlation_name, outline, token_classes};
}

/// SQL laid out anew.
pub mod format {
    pub use crate::syntax::format::{FormatOptions, Formatted, KeywordCase, format_sql};
}

/// What a program adds to a database: its tables' sources, its records, its functions.
pub mod source {
    pub use crate::catalog::{
        AggregateState, ColumnConjunct, ColumnStatistics, ColumnTest, CommonValue, DEFAULT_SCHEMA, GroupStatistics,
        NullCall, ScanRequest, Segment, SegmentStream, Signature, TableSource, TextReason,
    };
    pub use crate::file::Delimited;
    pub use crate::file::NewFile;
    pub use crate::session::{Record, TableFiles, is_table_file, table_name};
}

/// The parts of an [`Error`], and notes: places in texts and files, broken constraints.
///
/// What a layer found is the source of its error, as one of [`SyntaxProblem`](error::SyntaxProblem),
/// [`MeaningProblem`](error::MeaningProblem) and [`ChangeProblem`](error::ChangeProblem) of the binder,
/// [`ValueProblem`](error::ValueProblem) and [`FileProblem`](error::FileProblem); of an operating system's or a reader's error it is that:
///
/// ```
/// use std::error::Error;
/// use garden_gate::error::ValueProblem;
///
/// let error = garden_gate::Database::in_memory().session().query("VALUES (1 / 0)", ()).expect_err("nothing divides by zero");
/// let found = error.source().and_then(|source| source.downcast_ref::<ValueProblem>());
/// assert_eq!(found, Some(&ValueProblem::DivisionByZero));
/// ```
pub mod error {
    pub use crate::bind::{ChangeProblem, Clause, Computed, MeaningProblem};
    pub use crate::diagnostic::{
        BrokenConstraint, ConstraintKind, DataPlace, Error, IntoSource, Label, Note, Position, Result, SourceText,
        Span, SqlState, panic_is_caught,
    };
    pub use crate::file::FileProblem;
    pub use crate::kernel::ValueProblem;
    pub use crate::syntax::SyntaxProblem;
}

/// Values and their types, and how Rust's own are made of them.
pub mod value {
    pub use crate::file::json_value;
    pub use crate::session::{FromRow, FromValue};
    pub use crate::syntax::Typed;
    pub use crate::types::{Decimal, ParameterName, RowField, SqlType, Value};
}

/// The blocks of the page on the library are run as documentation tests.
#[cfg(doctest)]
#[doc = include_str!("../../../docs/library.md")]
mod library_page {}
