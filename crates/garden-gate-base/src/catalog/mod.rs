//! What tables there are, and the contract by which rows of any origin become a table.

mod commits;
mod definition;
mod file_options;
mod objects;
mod period;
mod program_aggregate;
mod program_function;
mod sample;
mod scan_request;
mod schema;
mod source;
mod statistics;
mod text_reason;

pub use commits::{Commit, CommitLog, Pending, TableChange};
pub use definition::{
    CheckConstraint, ColumnDefinition, Filled, ForeignKey, Identity, Index, IndexKey, IndexPart, KeyConstraint,
    KnownColumns, MatchType, ReferentialAction, TableDefinition, Temporary, TemporaryKind, Timing, View, ViewCheck,
    Written,
};
pub use file_options::{ErrorFile, FileFormat, FileOptions, LoadOptions, RowEnd};
pub use objects::{Comment, Domain, Named, Numbers, Sequence, TableFunction, named, subject};
pub use period::{FOREVER, HistoryRule, Period, Roll, SYSTEM_TIME, SystemTime, WhenFull};
pub use program_aggregate::{AggregateState, AnyAggregateState, ProgramAggregate};
pub use program_function::{FunctionBody, NullCall, ProgramFunction, Signature};
pub use sample::{of_segments, scattered};
pub use scan_request::{ColumnConjunct, ColumnTest, ScanRequest, SegmentStream};
pub use schema::Column;
pub use schema::{Catalog, Schema, Table, TableKind};
pub use source::{Segment, TableSource};
pub use statistics::{ColumnStatistics, CommonValue, GroupStatistics};
pub use text_reason::TextReason;

/// The schema that unqualified names are looked up in, until `SET SCHEMA` says otherwise.
pub const DEFAULT_SCHEMA: &str = "home";

/// The schema of a session's own temporary tables; no schema of the database has this name.
pub const LOCAL_SCHEMA: &str = "local";

/// Rows of a segment at most.
pub const SEGMENT_ROWS: usize = 131_072;
