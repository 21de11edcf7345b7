//! Tables in FROM (clause 7.6).

use super::{Change, Changes, Expr, FileOptions, Ident, Query, SystemTimeClause};
use crate::diagnostic::Span;
use crate::types::JoinKind;

#[derive(Clone, Debug)]
pub enum TableExpr {
    Named {
        name: Vec<Ident>,
        /// Which versions of its rows are read; the current ones where it does not say.
        system_time: Option<Box<SystemTimeClause>>,
        alias: TableAlias,
        span: Span,
    },
    File {
        path: String,
        options: Box<FileOptions>,
        alias: TableAlias,
        span: Span,
    },
    Derived {
        query: Box<Query>,
        lateral: bool,
        alias: TableAlias,
    },
    Function {
        call: TableCall,
        alias: TableAlias,
    },
    /// A call of a table function of the database.
    Call {
        name: Vec<Ident>,
        args: Vec<Expr>,
        alias: TableAlias,
        span: Span,
    },
    Delta(Box<Delta>),
    Changes(Box<Changes>),
    Sampled(Box<(TableExpr, Sample)>),
    Join(Box<Join>),
}

/// `FINAL | NEW | OLD TABLE (change)`: the rows that a change makes or takes away.
#[derive(Clone, Debug)]
pub struct Delta {
    pub rows: DeltaRows,
    pub change: Change,
    pub alias: TableAlias,
    pub span: Span,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeltaRows {
    /// FINAL or NEW
    Final,
    Old,
}

/// `TABLESAMPLE BERNOULLI | SYSTEM (percent) [REPEATABLE (number)]`
#[derive(Clone, Debug)]
pub struct Sample {
    /// SYSTEM: pages of rows, not single ones, are taken.
    pub pages: bool,
    pub percent: Expr,
    pub repeatable: Option<Expr>,
    pub span: Span,
}

/// A table made by a function of the rows to its left.
#[derive(Clone, Debug)]
pub enum TableCall {
    /// `SERIES(from, to [, step])`
    Series(Vec<Expr>),
    /// `UNNEST(array, …) [WITH ORDINALITY]`
    Unnest { arrays: Vec<Expr>, ordinality: bool },
}

#[derive(Clone, Debug)]
pub struct Join {
    pub kind: JoinKind,
    /// `RIGHT JOIN`: kind is left, and what appears to the right is kept.
    pub mirrored: bool,
    pub left: TableExpr,
    pub right: TableExpr,
    pub condition: JoinCondition,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub enum JoinCondition {
    Cross,
    On(Expr),
    /// The columns, and the name of `USING (…) AS name`.
    Using(Vec<Ident>, Option<Ident>),
    Natural,
}

/// `AS name (columns)` after a table.
#[derive(Clone, Debug, Default)]
pub struct TableAlias {
    pub name: Option<Ident>,
    pub columns: Option<Vec<Ident>>,
}
