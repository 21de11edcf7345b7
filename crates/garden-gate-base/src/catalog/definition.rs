//! What CREATE TABLE and CREATE VIEW say: columns, constraints, the text of views.

use super::objects::Numbers;
use super::period::{Period, SystemTime};
use crate::diagnostic::SourceText;
use crate::types::{DeclaredType, Direction, Nulls, SqlType, TypeLimit};
use std::sync::Arc;

/// SQL that a definition keeps as it was written, and that is read again wherever it is used.
pub type Written = Arc<SourceText>;

/// A table of the database, as it was defined (clause 11.3).
#[derive(Clone, Debug, Default)]
pub struct TableDefinition {
    pub columns: Vec<ColumnDefinition>,
    pub keys: Vec<KeyConstraint>,
    pub checks: Vec<CheckConstraint>,
    pub references: Vec<ForeignKey>,
    pub indexes: Vec<Index>,
    /// The periods of application time.
    pub periods: Vec<Period>,
    pub system_time: Option<SystemTime>,
    /// Of a temporary table.
    pub temporary: Option<Temporary>,
}

/// How long a temporary table lives, and who sees its rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TemporaryKind {
    /// One session makes it and sees it.
    Local,
    /// All sessions see it, until the last one that used it ends.
    Shared,
    /// It stays in the database, and each session has rows of its own in it (clause 4.15.2).
    Global,
}

/// `CREATE { LOCAL | SHARED | GLOBAL } TEMPORARY TABLE`
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Temporary {
    pub kind: TemporaryKind,
    /// ON COMMIT DELETE ROWS
    pub delete_rows: bool,
}

impl TableDefinition {
    /// Whether it is that of a temporary table of this kind.
    pub fn is_temporary(&self, kind: TemporaryKind) -> bool {
        self.temporary.is_some_and(|temporary| temporary.kind == kind)
    }

    /// The types of these columns.
    pub fn types_of<'d>(&'d self, columns: &'d [usize]) -> impl Iterator<Item = SqlType> + 'd {
        columns.iter().map(|at| self.columns[*at].sql_type)
    }

    /// The keys whose columns are never NULL, and that hold at every moment: of these no two rows have the same values.
    pub fn certain_keys(&self) -> Vec<Vec<usize>> {
        let never_null = |key: &&KeyConstraint| {
            key.timing == Timing::AtOnce && key.columns.iter().all(|at| self.columns[*at].not_null)
        };
        self.keys.iter().filter(never_null).map(|key| key.columns.clone()).collect()
    }

    /// The period of system time of a table that keeps history.
    pub fn versioning(&self) -> Option<&SystemTime> {
        self.system_time.as_ref().filter(|period| period.versioned)
    }

    /// The same table with its checks and foreign keys proven or not for the rows it has.
    pub fn with_unproven(mut self, unproven: bool) -> Self {
        self.checks.iter_mut().for_each(|check| check.unproven = unproven);
        self.references.iter_mut().for_each(|reference| reference.unproven = unproven);
        self
    }

    /// The table without the constraints that its rows may break.
    pub fn proven(&self) -> Self {
        let mut proven = self.clone();
        proven.checks.retain(|check| !check.unproven);
        proven.references.retain(|reference| !reference.unproven);
        proven
    }

    /// The indexes of CREATE INDEX, and those that keys are by their nature.
    pub fn all_indexes(&self) -> Vec<Index> {
        let column =
            |at: &usize| IndexKey { part: IndexPart::Column(*at), direction: Direction::Ascending, nulls: Nulls::Last };
        let made = |key: &&KeyConstraint| !self.is_index(&key.name);
        let of_key = |key: &KeyConstraint| Index {
            name: key.name.clone(),
            unique: true,
            keys: key.columns.iter().map(column).collect(),
            include: Vec::new(),
        };
        self.keys.iter().filter(made).map(of_key).chain(self.indexes.iter().cloned()).collect()
    }

    /// Whether an index has this name; a unique one has a key of its name beside it.
    pub fn is_index(&self, name: &str) -> bool {
        self.indexes.iter().any(|index| index.name == name)
    }

    /// What an index is sorted by, as CREATE INDEX says it.
    pub fn key_text(&self, index: &Index) -> String {
        let text = |key: &IndexKey| {
            let part = match &key.part {
                IndexPart::Column(at) => self.columns[*at].name.clone(),
                IndexPart::Expression(text) => text.text().trim().to_owned(),
            };
            let direction = if key.direction == Direction::Descending { " DESC" } else { "" };
            let nulls = if key.nulls == Nulls::First { " NULLS FIRST" } else { "" };
            format!("{part}{direction}{nulls}")
        };
        index.keys.iter().map(text).collect::<Vec<_>>().join(", ")
    }
}

/// When a constraint is checked (clause 10.8).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Timing {
    /// When a statement ends.
    #[default]
    AtOnce,
    /// As before, though SET CONSTRAINTS may put it off to the end of the transaction.
    Deferrable,
    /// When the transaction ends.
    Deferred,
}

/// Which rows may be put in through a view (clause 11.32).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ViewCheck {
    /// Those that fulfil its own condition.
    Local,
    /// And those of the views below it.
    Cascaded,
}

#[derive(Clone, Debug)]
pub struct ColumnDefinition {
    pub name: String,
    pub sql_type: SqlType,
    /// What its values are held to besides their type.
    pub limit: Option<TypeLimit>,
    pub not_null: bool,
    pub filled: Filled,
    /// Left out of `*`.
    pub hidden: bool,
    /// The domain that the type was taken from: schema and name.
    pub domain: Option<(String, String)>,
}

impl ColumnDefinition {
    /// The type as it was declared.
    pub fn declared(&self) -> DeclaredType {
        DeclaredType { sql_type: self.sql_type, limit: self.limit }
    }
}

/// What a column holds when an INSERT does not say.
#[derive(Clone, Debug, Default)]
pub enum Filled {
    #[default]
    Null,
    Default(Written),
    Identity(Identity),
    /// GENERATED ALWAYS AS (expression)
    Generated(Written),
    /// GENERATED ALWAYS AS ROW START
    RowStart,
    /// GENERATED ALWAYS AS ROW END
    RowEnd,
}

/// GENERATED … AS IDENTITY
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Identity {
    /// ALWAYS: a value of one's own needs OVERRIDING SYSTEM VALUE.
    pub always: bool,
    pub numbers: Numbers,
}

/// PRIMARY KEY or UNIQUE
#[derive(Clone, Debug)]
pub struct KeyConstraint {
    pub name: String,
    pub columns: Vec<usize>,
    pub primary: bool,
    /// NULLS NOT DISTINCT: rows with the same NULLs are the same.
    pub nulls_same: bool,
    pub timing: Timing,
    /// WITHOUT OVERLAPS: the column in which the period ends whose start is the last of `columns`.
    pub period_end: Option<usize>,
}

impl KeyConstraint {
    /// The columns that are compared as they are: all but those of the period.
    pub fn scalar_columns(&self) -> &[usize] {
        let periods = usize::from(self.period_end.is_some());
        &self.columns[..self.columns.len().saturating_sub(periods)]
    }
}

#[derive(Clone, Debug)]
pub struct CheckConstraint {
    pub name: String,
    pub condition: Written,
    pub timing: Timing,
    /// Whether rows were loaded with CHECKS OFF, and not looked at since.
    pub unproven: bool,
}

#[derive(Clone, Debug)]
pub struct ForeignKey {
    pub name: String,
    pub columns: Vec<usize>,
    /// Schema and name of the table that is referred to.
    pub table: (String, String),
    pub referred: Vec<usize>,
    pub on_delete: ReferentialAction,
    pub on_update: ReferentialAction,
    pub match_type: MatchType,
    pub timing: Timing,
    /// Whether rows were loaded with CHECKS OFF, and not looked at since.
    pub unproven: bool,
    /// PERIOD: columns in which the period of the row, and those of the rows it refers to, start and end.
    pub periods: Option<[(usize, usize); 2]>,
}

impl ForeignKey {
    /// Whether its rows refer to this key of the other table.
    pub fn means(&self, key: &KeyConstraint) -> bool {
        let scalar = key.scalar_columns();
        let same_period = match (key.period_end, self.periods) {
            (None, None) => true,
            (Some(end), Some([_, (start, other_end)])) => end == other_end && key.columns.last() == Some(&start),
            (Some(_), None) | (None, Some(_)) => false,
        };
        same_period && scalar.len() == self.referred.len() && scalar.iter().all(|at| self.referred.contains(at))
    }
}

/// Which rows a row with NULLs among its columns refers to (clause 11.8).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum MatchType {
    /// None.
    #[default]
    Simple,
    /// All that have the values of its other columns.
    Partial,
    /// There is no such row: all of its columns are NULL, or none.
    Full,
}

/// What becomes of a row when the row it refers to goes (clause 11.8).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ReferentialAction {
    #[default]
    NoAction,
    Restrict,
    Cascade,
    SetNull,
    SetDefault,
}

impl ReferentialAction {
    /// Its words.
    pub fn name(self) -> &'static str {
        match self {
            Self::NoAction => "NO ACTION",
            Self::Restrict => "RESTRICT",
            Self::Cascade => "CASCADE",
            Self::SetNull => "SET NULL",
            Self::SetDefault => "SET DEFAULT",
        }
    }
}

/// CREATE INDEX
#[derive(Clone, Debug)]
pub struct Index {
    pub name: String,
    /// One of columns alone has a key of its name beside it.
    pub unique: bool,
    pub keys: Vec<IndexKey>,
    /// Columns that it holds besides those of its keys.
    pub include: Vec<usize>,
}

/// What the rows of an index are sorted by.
#[derive(Clone, Debug)]
pub struct IndexKey {
    pub part: IndexPart,
    pub direction: Direction,
    pub nulls: Nulls,
}

#[derive(Clone, Debug)]
pub enum IndexPart {
    Column(usize),
    Expression(Written),
}

/// A view: the text of its query, and the names of its columns.
#[derive(Clone, Debug)]
pub struct View {
    pub name: String,
    pub columns: Vec<String>,
    pub query: Written,
    /// The schema in which its own unqualified names are looked up.
    pub schema: String,
    pub check: Option<ViewCheck>,
    /// The columns that the tables it names had when it was made.
    pub known: Vec<KnownColumns>,
}

/// The columns of a table or view, hidden ones among them, at some time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownColumns {
    pub schema: String,
    pub table: String,
    pub columns: Vec<String>,
}
