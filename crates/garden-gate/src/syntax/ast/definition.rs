//! Statements that define: schemas, tables, views.

use super::{Expr, FileOptions, Ident, Query, SortItem};
use crate::catalog::{Identity, ReferentialAction, Temporary};
use crate::diagnostic::Span;
use crate::types::SqlType;

/// `[schema.]name`
pub(crate) type Name = Vec<Ident>;

#[derive(Clone, Debug)]
pub(crate) enum Definition {
    CreateSchema { name: Ident, if_not_exists: bool },
    DropSchema { name: Ident, drop: Drop },
    CreateTable(CreateTable),
    DropTable { name: Name, drop: Drop },
    CreateIndex(CreateIndex),
    DropIndex { name: Name, drop: Drop },
    CreateView(CreateView),
    DropView { name: Name, drop: Drop },
    AlterTable { name: Name, action: AlterTable },
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

#[derive(Clone, Debug)]
pub(crate) enum TableElement {
    Column(ColumnElement),
    Constraint(TableConstraint),
    /// `LIKE table [INCLUDING …]`
    Like(Name, Span),
}

#[derive(Clone, Debug)]
#[expect(clippy::struct_excessive_bools, reason = "words of the definition, each there or not")]
pub(crate) struct ColumnElement {
    pub(crate) name: Ident,
    pub(crate) sql_type: SqlType,
    pub(crate) not_null: bool,
    pub(crate) filled: Option<FilledBy>,
    pub(crate) hidden: bool,
    pub(crate) constraints: Vec<TableConstraint>,
}

#[derive(Clone, Debug)]
pub(crate) enum FilledBy {
    Default(Expr),
    Identity(Identity),
    Generated(Expr),
}

#[derive(Clone, Debug)]
pub(crate) struct TableConstraint {
    pub(crate) name: Option<Ident>,
    pub(crate) kind: ConstraintKind,
    pub(crate) span: Span,
}

#[derive(Clone, Debug)]
pub(crate) enum ConstraintKind {
    Key { columns: Vec<Ident>, primary: bool, nulls_same: bool },
    Check(Expr),
    Foreign(ForeignElement),
}

#[derive(Clone, Debug)]
pub(crate) struct ForeignElement {
    pub(crate) columns: Vec<Ident>,
    pub(crate) table: Name,
    /// The primary key when they are not named.
    pub(crate) referred: Option<Vec<Ident>>,
    pub(crate) full: bool,
    pub(crate) on_delete: ReferentialAction,
    pub(crate) on_update: ReferentialAction,
}

#[derive(Clone, Debug)]
pub(crate) struct CreateView {
    pub(crate) name: Name,
    pub(crate) columns: Option<Vec<Ident>>,
    pub(crate) query: Box<Query>,
    pub(crate) or_replace: bool,
}

#[derive(Clone, Debug)]
pub(crate) enum AlterTable {
    AddColumn(ColumnElement),
    DropColumn { name: Ident, drop: Drop },
    RenameColumn { name: Ident, to: Ident },
    Rename(Ident),
    SetDefault { column: Ident, value: Option<Expr> },
    SetType { column: Ident, sql_type: SqlType },
    SetNotNull { column: Ident, not_null: bool },
    AddConstraint(TableConstraint),
    DropConstraint { name: Ident, drop: Drop },
}
