//! Statements that change rows, and transactions.

use super::{Expr, FileOptions, Ident, Portion, Query, SelectItem, TableExpr, With, definition::Name};
use crate::diagnostic::Span;

#[derive(Clone, Debug)]
pub struct Change {
    pub with: Option<With>,
    pub table: Name,
    pub alias: Option<Ident>,
    pub kind: ChangeKind,
    pub returning: Option<Vec<SelectItem>>,
    /// The name of the table.
    pub span: Span,
}

#[derive(Clone, Debug)]
pub enum ChangeKind {
    Insert(Insert),
    Update { portion: Option<Portion>, set: Vec<Assignment>, condition: Option<Expr> },
    Delete { portion: Option<Portion>, condition: Option<Expr> },
    Truncate { restart: bool },
    Merge(Box<Merge>),
}

/// `USING source ON condition WHEN …`
#[derive(Clone, Debug)]
pub struct Merge {
    pub source: TableExpr,
    pub on: Expr,
    pub branches: Vec<MergeBranch>,
}

/// `WHEN [NOT] MATCHED [AND condition] THEN …`
#[derive(Clone, Debug)]
pub struct MergeBranch {
    pub matched: bool,
    pub condition: Option<Expr>,
    pub action: MergeAction,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub enum MergeAction {
    Update(Vec<Assignment>),
    Delete,
    Insert { columns: Option<Vec<Ident>>, overriding: Option<Overriding>, values: Vec<AssignedValue> },
}

#[derive(Clone, Debug)]
pub struct Insert {
    pub columns: Option<Vec<Ident>>,
    pub rows: InsertRows,
    pub overriding: Option<Overriding>,
    pub duplicates: Duplicates,
}

#[derive(Clone, Debug)]
pub enum InsertRows {
    Query(Box<Query>),
    Values(Vec<Vec<AssignedValue>>),
    Defaults,
    File { path: String, options: Box<FileOptions>, span: Span },
}

/// A value, or DEFAULT.
#[derive(Clone, Debug)]
pub enum AssignedValue {
    Value(Expr),
    Default(Span),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Overriding {
    System,
    User,
}

/// What becomes of a row whose key there is already.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Duplicates {
    #[default]
    Refuse,
    Skip,
    Replace,
}

/// `column = value` or `(columns) = row`
#[derive(Clone, Debug)]
pub struct Assignment {
    pub columns: Vec<Ident>,
    pub values: Assigned,
}

#[derive(Clone, Debug)]
pub enum Assigned {
    Each(Vec<AssignedValue>),
    /// One expression that gives a row.
    Row(Expr),
    /// `column[place] = value`
    Element {
        place: Expr,
        value: Expr,
    },
}

#[derive(Clone, Debug)]
pub enum Transaction {
    Start {
        read_only: bool,
    },
    /// `SET TRANSACTION modes`
    Next {
        read_only: bool,
    },
    Commit {
        chain: bool,
    },
    Rollback {
        chain: bool,
        to: Option<Ident>,
    },
    Savepoint(Ident),
    Release(Ident),
    /// `SET CONSTRAINTS { ALL | name, … } { DEFERRED | IMMEDIATE }`; no names are all.
    Constraints {
        names: Option<Vec<Name>>,
        deferred: bool,
    },
}

/// Rows that become a file.
#[derive(Clone, Debug)]
pub struct Export {
    pub path: String,
    pub options: FileOptions,
    /// Whether a file that is there may go.
    pub replace: bool,
    pub query: Query,
    /// Where the path appears.
    pub span: Span,
}
