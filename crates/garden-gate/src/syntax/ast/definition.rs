//! Statements that define: schemas, tables, views.

use super::{Expr, FileOptions, HistoryChange, Ident, PeriodElement, Query, SortItem, TrimHistory};
use crate::catalog::{MatchType, ReferentialAction, Temporary, Timing, ViewCheck};
use crate::diagnostic::Span;
use crate::types::{DeclaredType, SqlType};

/// `[schema.]name`
pub(crate) type Name = Vec<Ident>;

#[derive(Clone, Debug)]
pub(crate) enum Definition {
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
pub(crate) enum ObjectKind {
    Sequence,
    Domain,
    Function,
}

#[derive(Clone, Debug)]
pub(crate) struct CreateSequence {
    pub(crate) name: Name,
    pub(crate) if_not_exists: bool,
    pub(crate) options: SequenceOptions,
}

/// What is said of a sequence's numbers.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct SequenceOptions {
    pub(crate) sql_type: Option<SqlType>,
    pub(crate) start: Option<i64>,
    pub(crate) increment: Option<i64>,
    pub(crate) least: Option<i64>,
    pub(crate) most: Option<i64>,
    pub(crate) cycle: Option<bool>,
}

/// What becomes of the numbers of an identity column.
#[derive(Clone, Copy, Debug)]
pub(crate) enum NumberingChange {
    Drop,
    Alter { always: Option<bool>, change: SequenceChange },
}

/// What ALTER SEQUENCE says; `RESTART` without a number begins with the first.
#[derive(Clone, Copy, Debug)]
pub(crate) struct SequenceChange {
    pub(crate) restart: Option<Option<i64>>,
    pub(crate) options: SequenceOptions,
}

#[derive(Clone, Debug)]
pub(crate) struct CreateDomain {
    pub(crate) name: Name,
    pub(crate) sql_type: SqlType,
    pub(crate) default: Option<Expr>,
    pub(crate) not_null: bool,
    pub(crate) checks: Vec<(Option<Ident>, Expr)>,
}

/// What ALTER DOMAIN does.
#[derive(Clone, Debug)]
pub(crate) enum DomainChange {
    /// Sets the default, or drops it.
    Default(Option<Expr>),
    AddCheck(Option<Ident>, Expr),
    DropCheck(Ident),
}

/// `CREATE FUNCTION name (parameters) RETURNS TABLE (columns) RETURN query`
#[derive(Clone, Debug)]
pub(crate) struct CreateFunction {
    pub(crate) name: Name,
    pub(crate) parameters: Vec<(Ident, SqlType)>,
    pub(crate) columns: Vec<(Ident, SqlType)>,
    pub(crate) query: Box<Query>,
    pub(crate) or_replace: bool,
}

#[derive(Clone, Debug)]
pub(crate) struct CommentOn {
    pub(crate) kind: &'static str,
    pub(crate) name: Name,
    /// `None` takes the comment away.
    pub(crate) text: Option<String>,
}

/// `IF EXISTS` and `RESTRICT | CASCADE`
#[derive(Clone, Copy, Debug)]
#[expect(clippy::struct_excessive_bools, reason = "words of the definition, each there or not")]
pub(crate) struct Drop {
    pub(crate) if_exists: bool,
    pub(crate) cascade: bool,
}

/// `CREATE [UNIQUE] INDEX name ON table (key, …) INCLUDE (column, …)`
#[derive(Clone, Debug)]
#[expect(clippy::struct_excessive_bools, reason = "words of the definition, each there or not")]
pub(crate) struct CreateIndex {
    pub(crate) name: Ident,
    pub(crate) table: Name,
    pub(crate) unique: bool,
    pub(crate) if_not_exists: bool,
    pub(crate) keys: Vec<SortItem>,
    pub(crate) include: Vec<Ident>,
}

#[derive(Clone, Debug)]
pub(crate) struct CreateTable {
    pub(crate) name: Name,
    pub(crate) if_not_exists: bool,
    pub(crate) temporary: Option<Temporary>,
    pub(crate) content: TableContent,
    /// WITH SYSTEM VERSIONING
    pub(crate) versioned: Option<Span>,
}

#[derive(Clone, Debug)]
pub(crate) enum TableContent {
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
pub(crate) enum Copied {
    Identity,
    Defaults,
    Generated,
}

#[derive(Clone, Debug)]
pub(crate) enum TableElement {
    Column(ColumnElement),
    Constraint(TableConstraint),
    /// `LIKE table [INCLUDING …]`
    Like(Name, Vec<Copied>, Span),
    Period(PeriodElement),
}

#[derive(Clone, Debug)]
#[expect(clippy::struct_excessive_bools, reason = "words of the definition, each there or not")]
pub(crate) struct ColumnElement {
    pub(crate) name: Ident,
    pub(crate) declared: DeclaredType,
    /// A domain in place of the type.
    pub(crate) domain: Option<Name>,
    pub(crate) not_null: bool,
    pub(crate) filled: Option<FilledBy>,
    pub(crate) hidden: bool,
    pub(crate) constraints: Vec<TableConstraint>,
}

impl ColumnElement {
    /// A column that the database fills.
    pub(crate) fn filled(name: Ident, declared: DeclaredType, filled: FilledBy) -> Self {
        let (filled, constraints) = (Some(filled), Vec::new());
        Self { name, declared, domain: None, not_null: false, filled, hidden: false, constraints }
    }
}

#[derive(Clone, Debug)]
pub(crate) enum FilledBy {
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
pub(crate) struct TableConstraint {
    pub(crate) name: Option<Ident>,
    pub(crate) kind: ConstraintKind,
    pub(crate) timing: Timing,
    pub(crate) span: Span,
}

#[derive(Clone, Debug)]
pub(crate) enum ConstraintKind {
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
pub(crate) struct ForeignElement {
    pub(crate) columns: Vec<Ident>,
    /// `PERIOD name` after the columns
    pub(crate) period: Option<Ident>,
    pub(crate) table: Name,
    /// The primary key when they are not named.
    pub(crate) referred: Option<Vec<Ident>>,
    /// `PERIOD name` after the columns that are referred to
    pub(crate) referred_period: Option<Ident>,
    pub(crate) match_type: MatchType,
    pub(crate) on_delete: ReferentialAction,
    pub(crate) on_update: ReferentialAction,
}

#[derive(Clone, Debug)]
pub(crate) struct CreateView {
    pub(crate) name: Name,
    pub(crate) columns: Option<Vec<Ident>>,
    pub(crate) query: Box<Query>,
    pub(crate) or_replace: bool,
    pub(crate) check: Option<ViewCheck>,
}

#[derive(Clone, Debug)]
pub(crate) enum AlterTable {
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
