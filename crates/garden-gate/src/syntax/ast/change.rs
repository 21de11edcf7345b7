//! Statements that change rows, and transactions.

use super::{Expr, FileOptions, Ident, Portion, Query, SelectItem, TableExpr, With, definition::Name};
use crate::diagnostic::Span;

#[derive(Clone, Debug)]
pub(crate) struct Change {
    pub(crate) with: Option<With>,
    pub(crate) table: Name,
    pub(crate) alias: Option<Ident>,
    pub(crate) kind: ChangeKind,
    pub(crate) returning: Option<Vec<SelectItem>>,
    /// The name of the table.
    pub(crate) span: Span,
}

#[derive(Clone, Debug)]
pub(crate) enum ChangeKind {
    Insert(Insert),
    Update { portion: Option<Portion>, set: Vec<Assignment>, condition: Option<Expr> },
    Delete { portion: Option<Portion>, condition: Option<Expr> },
    Truncate { restart: bool },
    Merge(Box<Merge>),
}

/// `USING source ON condition WHEN …`
#[derive(Clone, Debug)]
pub(crate) struct Merge {
    pub(crate) source: TableExpr,
    pub(crate) on: Expr,
    pub(crate) branches: Vec<MergeBranch>,
}

/// `WHEN [NOT] MATCHED [AND condition] THEN …`
#[derive(Clone, Debug)]
pub(crate) struct MergeBranch {
    pub(crate) matched: bool,
    pub(crate) condition: Option<Expr>,
    pub(crate) action: MergeAction,
    pub(crate) span: Span,
}

#[derive(Clone, Debug)]
pub(crate) enum MergeAction {
    Update(Vec<Assignment>),
    Delete,
    Insert { columns: Option<Vec<Ident>>, overriding: Option<Overriding>, values: Vec<Given> },
}

#[derive(Clone, Debug)]
pub(crate) struct Insert {
    pub(crate) columns: Option<Vec<Ident>>,
    pub(crate) rows: InsertRows,
    pub(crate) overriding: Option<Overriding>,
    pub(crate) duplicates: Duplicates,
}

#[derive(Clone, Debug)]
pub(crate) enum InsertRows {
    Query(Box<Query>),
    Values(Vec<Vec<Given>>),
    Defaults,
    File { path: String, options: Box<FileOptions>, span: Span },
}

/// A value, or DEFAULT.
#[derive(Clone, Debug)]
pub(crate) enum Given {
    Value(Expr),
    Default(Span),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Overriding {
    System,
    User,
}

/// What becomes of a row whose key there is already.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Duplicates {
    #[default]
    Refuse,
    Skip,
    Replace,
}

/// `column = value` or `(columns) = row`
#[derive(Clone, Debug)]
pub(crate) struct Assignment {
    pub(crate) columns: Vec<Ident>,
    pub(crate) values: Assigned,
}

#[derive(Clone, Debug)]
pub(crate) enum Assigned {
    Each(Vec<Given>),
    /// One expression that gives a row.
    Row(Expr),
    /// `column[place] = value`
    Element {
        place: Expr,
        value: Expr,
    },
}

#[derive(Clone, Debug)]
pub(crate) enum Transaction {
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
pub(crate) struct Export {
    pub(crate) path: String,
    pub(crate) options: FileOptions,
    /// Whether a file that is there may go.
    pub(crate) replace: bool,
    pub(crate) query: Query,
    /// Where the path stands.
    pub(crate) span: Span,
}
