//! Statements that define: schemas, tables, views.

use super::{Expr, FileOptions, HistoryChange, Ident, PeriodElement, Query, SortItem, TrimHistory};
use crate::catalog::{MatchType, ReferentialAction, Temporary, Timing, ViewCheck};
use crate::diagnostic::Span;
use crate::types::{DeclaredType, SqlType};

/// `[schema.]name`
pub type Name = Vec<Ident>;

#[derive(Clone, Debug)]
pub enum Definition {
    /// With the tables, views and other things that are made in it at once.
    CreateSchema {
        name: Ident,
        if_not_exists: bool,
        elements: Vec<Definition>,
    },
    DropSchema {
        name: Ident,
        drop: Drop,
    },
    CreateTable(CreateTable),
    DropTable {
        name: Name,
        drop: Drop,
    },
    CreateIndex(CreateIndex),
    DropIndex {
        name: Name,
        drop: Drop,
    },
    CreateView(CreateView),
    DropView {
        name: Name,
        drop: Drop,
    },
    AlterTable {
        name: Name,
        action: AlterTable,
    },
    CreateSequence(CreateSequence),
    AlterSequence {
        name: Name,
        change: SequenceChange,
    },
    AlterDomain {
        name: Name,
        change: DomainChange,
    },
    CreateDomain(CreateDomain),
    CreateFunction(Box<CreateFunction>),
    DropObject {
        kind: ObjectKind,
        name: Name,
        drop: Drop,
    },
    Comment(CommentOn),
    TrimHistory(TrimHistory),
}

/// What is neither a table nor a view.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ObjectKind {
    Sequence,
    Domain,
    Function,
}

#[derive(Clone, Debug)]
pub struct CreateSequence {
    pub name: Name,
    pub if_not_exists: bool,
    pub options: SequenceOptions,
}

/// What is said of a sequence's numbers.
#[derive(Clone, Copy, Debug, Default)]
pub struct SequenceOptions {
    pub sql_type: Option<SqlType>,
    pub start: Option<i64>,
    pub increment: Option<i64>,
    pub least: Option<i64>,
    pub most: Option<i64>,
    pub cycle: Option<bool>,
}

/// What becomes of the numbers of an identity column.
#[derive(Clone, Copy, Debug)]
pub enum NumberingChange {
    Drop,
    Alter { always: Option<bool>, change: SequenceChange },
}

/// What ALTER SEQUENCE says; `RESTART` without a number begins with the first.
#[derive(Clone, Copy, Debug)]
pub struct SequenceChange {
    pub restart: Option<Option<i64>>,
    pub options: SequenceOptions,
}

#[derive(Clone, Debug)]
pub struct CreateDomain {
    pub name: Name,
    pub sql_type: SqlType,
    pub default: Option<Expr>,
    pub not_null: bool,
    pub checks: Vec<(Option<Ident>, Expr)>,
}

/// What ALTER DOMAIN does.
#[derive(Clone, Debug)]
pub enum DomainChange {
    /// Sets the default, or drops it.
    Default(Option<Expr>),
    AddCheck(Option<Ident>, Expr),
    DropCheck(Ident),
}

/// What a comment can be about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Commented {
    Table,
    Column,
    View,
    Schema,
    Sequence,
    Domain,
    Function,
}

impl Commented {
    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Table => "TABLE",
            Self::Column => "COLUMN",
            Self::View => "VIEW",
            Self::Schema => "SCHEMA",
            Self::Sequence => "SEQUENCE",
            Self::Domain => "DOMAIN",
            Self::Function => "FUNCTION",
        }
    }
}

/// `CREATE FUNCTION name (parameters) RETURNS TABLE (columns) RETURN query`
#[derive(Clone, Debug)]
pub struct CreateFunction {
    pub name: Name,
    pub parameters: Vec<(Ident, SqlType)>,
    pub columns: Vec<(Ident, SqlType)>,
    pub query: Box<Query>,
    pub or_replace: bool,
}

#[derive(Clone, Debug)]
pub struct CommentOn {
    pub kind: Commented,
    pub name: Name,
    /// `None` takes the comment away.
    pub text: Option<String>,
}

/// `IF EXISTS` and `RESTRICT | CASCADE`
#[derive(Clone, Copy, Debug)]
pub struct Drop {
    pub if_exists: bool,
    pub cascade: bool,
}

/// `CREATE [UNIQUE] INDEX name ON table (key, …) INCLUDE (column, …)`
#[derive(Clone, Debug)]
pub struct CreateIndex {
    pub name: Ident,
    pub table: Name,
    pub unique: bool,
    pub if_not_exists: bool,
    pub keys: Vec<SortItem>,
    pub include: Vec<Ident>,
}

#[derive(Clone, Debug)]
pub struct CreateTable {
    pub name: Name,
    pub if_not_exists: bool,
    pub temporary: Option<Temporary>,
    pub content: TableContent,
    /// WITH SYSTEM VERSIONING
    pub versioned: Option<Span>,
}

#[derive(Clone, Debug)]
pub enum TableContent {
    Elements(Vec<TableElement>),
    /// `[(columns)] AS query WITH [NO] DATA`
    Query {
        columns: Option<Vec<Ident>>,
        query: Box<Query>,
        with_data: bool,
    },
    /// `FROM FILE 'path' (…)`
    File {
        path: String,
        options: Box<FileOptions>,
        span: Span,
    },
}

/// What LIKE takes over besides names, types and NOT NULL (clause 11.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Copied {
    Identity,
    Defaults,
    Generated,
}

#[derive(Clone, Debug)]
pub enum TableElement {
    Column(ColumnElement),
    Constraint(TableConstraint),
    /// `LIKE table [INCLUDING …]`
    Like(Name, Vec<Copied>, Span),
    Period(PeriodElement),
}

#[derive(Clone, Debug)]
pub struct ColumnElement {
    pub name: Ident,
    pub declared: DeclaredType,
    /// A domain instead of the type.
    pub domain: Option<Name>,
    pub not_null: bool,
    pub filled: Option<FilledBy>,
    pub hidden: bool,
    pub constraints: Vec<TableConstraint>,
}

impl ColumnElement {
    /// A column that the database fills.
    pub fn filled(name: Ident, declared: DeclaredType, filled: FilledBy) -> Self {
        let (filled, constraints) = (Some(filled), Vec::new());
        Self { name, declared, domain: None, not_null: false, filled, hidden: false, constraints }
    }
}

#[derive(Clone, Debug)]
pub enum FilledBy {
    Default(Expr),
    /// ALWAYS or BY DEFAULT, and which numbers.
    Identity {
        always: bool,
        options: SequenceOptions,
    },
    Generated(Expr),
    /// GENERATED ALWAYS AS ROW START
    RowStart,
    /// GENERATED ALWAYS AS ROW END
    RowEnd,
}

#[derive(Clone, Debug)]
pub struct TableConstraint {
    pub name: Option<Ident>,
    pub kind: ConstraintKind,
    pub timing: Timing,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub enum ConstraintKind {
    Key {
        columns: Vec<Ident>,
        primary: bool,
        nulls_same: bool,
        /// `period WITHOUT OVERLAPS`
        period: Option<Ident>,
    },
    Check(Expr),
    Foreign(ForeignElement),
}

#[derive(Clone, Debug)]
pub struct ForeignElement {
    pub columns: Vec<Ident>,
    /// `PERIOD name` after the columns
    pub period: Option<Ident>,
    pub table: Name,
    /// The primary key when they are not named.
    pub referred: Option<Vec<Ident>>,
    /// `PERIOD name` after the columns that are referred to
    pub referred_period: Option<Ident>,
    pub match_type: MatchType,
    pub on_delete: ReferentialAction,
    pub on_update: ReferentialAction,
}

#[derive(Clone, Debug)]
pub struct CreateView {
    pub name: Name,
    pub columns: Option<Vec<Ident>>,
    pub query: Box<Query>,
    pub or_replace: bool,
    pub check: Option<ViewCheck>,
}

#[derive(Clone, Debug)]
pub enum AlterTable {
    AddColumn(ColumnElement),
    DropColumn {
        name: Ident,
        drop: Drop,
    },
    RenameColumn {
        name: Ident,
        to: Ident,
    },
    Rename(Ident),
    /// `ALTER COLUMN … { SET GENERATED … | SET option | RESTART }`, or DROP IDENTITY.
    Numbering {
        column: Ident,
        change: NumberingChange,
    },
    SetDefault {
        column: Ident,
        value: Option<Expr>,
    },
    SetType {
        column: Ident,
        declared: DeclaredType,
    },
    SetNotNull {
        column: Ident,
        not_null: bool,
    },
    AddConstraint(TableConstraint),
    DropConstraint {
        name: Ident,
        drop: Drop,
    },
    /// `ADD PERIOD FOR name (start, end) [ADD COLUMN …]…`
    AddPeriod {
        period: PeriodElement,
        columns: Vec<ColumnElement>,
    },
    DropPeriod {
        name: Ident,
        drop: Drop,
    },
    AddVersioning(Span),
    DropVersioning {
        drop: Drop,
        span: Span,
    },
    /// `SET HISTORY (…)`
    SetHistory {
        change: HistoryChange,
        span: Span,
    },
    /// CHECK CONSTRAINTS: what CHECKS OFF left unproven is checked.
    CheckConstraints,
}
