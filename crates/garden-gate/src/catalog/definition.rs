//! What CREATE TABLE and CREATE VIEW say: columns, constraints, the text of views.

use crate::diagnostic::SourceText;
use crate::types::SqlType;
use std::sync::Arc;

/// SQL that a definition keeps as it was written, and that is read again wherever it is used.
pub(crate) type Written = Arc<SourceText>;

/// A table of the database, as it was defined (clause 11.3).
#[derive(Clone, Debug, Default)]
pub(crate) struct TableDefinition {
    pub(crate) columns: Vec<ColumnDefinition>,
    pub(crate) keys: Vec<KeyConstraint>,
    pub(crate) checks: Vec<CheckConstraint>,
    pub(crate) references: Vec<ForeignKey>,
}

impl TableDefinition {
    /// The keys whose columns are never NULL: of these no two rows have the same values.
    pub(crate) fn certain_keys(&self) -> Vec<Vec<usize>> {
        let never_null = |key: &&KeyConstraint| key.columns.iter().all(|at| self.columns[*at].not_null);
        self.keys.iter().filter(never_null).map(|key| key.columns.clone()).collect()
    }
}

#[derive(Clone, Debug)]
#[expect(clippy::struct_excessive_bools, reason = "words of the definition, each there or not")]
pub(crate) struct ColumnDefinition {
    pub(crate) name: String,
    pub(crate) sql_type: SqlType,
    pub(crate) not_null: bool,
    pub(crate) filled: Filled,
    /// Left out of `*`.
    pub(crate) hidden: bool,
}

/// What a column holds when an INSERT does not say.
#[derive(Clone, Debug, Default)]
pub(crate) enum Filled {
    #[default]
    Null,
    Default(Written),
    Identity(Identity),
    /// GENERATED ALWAYS AS (expression)
    Generated(Written),
}

/// GENERATED … AS IDENTITY
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Identity {
    /// ALWAYS: a value of one's own needs OVERRIDING SYSTEM VALUE.
    pub(crate) always: bool,
    pub(crate) start: i64,
    pub(crate) increment: i64,
}

/// PRIMARY KEY or UNIQUE
#[derive(Clone, Debug)]
#[expect(clippy::struct_excessive_bools, reason = "words of the definition, each there or not")]
pub(crate) struct KeyConstraint {
    pub(crate) name: String,
    pub(crate) columns: Vec<usize>,
    pub(crate) primary: bool,
    /// NULLS NOT DISTINCT: rows with the same NULLs are the same.
    pub(crate) nulls_same: bool,
}

#[derive(Clone, Debug)]
pub(crate) struct CheckConstraint {
    pub(crate) name: String,
    pub(crate) condition: Written,
}

#[derive(Clone, Debug)]
pub(crate) struct ForeignKey {
    pub(crate) name: String,
    pub(crate) columns: Vec<usize>,
    /// Schema and name of the table that is referred to.
    pub(crate) table: (String, String),
    pub(crate) referred: Vec<usize>,
    pub(crate) on_delete: ReferentialAction,
    pub(crate) on_update: ReferentialAction,
    /// MATCH FULL: all of its columns are NULL, or none.
    pub(crate) full: bool,
}

/// What becomes of a row when the row it refers to goes (clause 11.8).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum ReferentialAction {
    #[default]
    NoAction,
    Restrict,
    Cascade,
    SetNull,
    SetDefault,
}

/// A view: the text of its query, and the names of its columns.
#[derive(Clone, Debug)]
pub(crate) struct View {
    pub(crate) name: String,
    pub(crate) columns: Vec<String>,
    pub(crate) query: Written,
    /// The schema in which its own unqualified names are looked up.
    pub(crate) schema: String,
}
