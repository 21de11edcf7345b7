//! What CREATE TABLE and CREATE VIEW say: columns, constraints, the text of views.

use super::objects::Numbers;
use super::period::{Period, SystemTime};
use crate::diagnostic::SourceText;
use crate::types::{DeclaredType, Direction, Nulls, SqlType, TypeLimit};
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
    pub(crate) indexes: Vec<Index>,
    /// The periods of application time.
    pub(crate) periods: Vec<Period>,
    pub(crate) system_time: Option<SystemTime>,
    /// Of a temporary table.
    pub(crate) temporary: Option<Temporary>,
}

/// How long a temporary table lives, and who sees its rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TemporaryKind {
    /// One session makes it and sees it.
    Local,
    /// All sessions see it, until the last one that used it ends.
    Shared,
    /// It stays in the database, and each session has rows of its own in it (clause 4.15.2).
    Global,
}

/// `CREATE { LOCAL | SHARED | GLOBAL } TEMPORARY TABLE`
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Temporary {
    pub(crate) kind: TemporaryKind,
    /// ON COMMIT DELETE ROWS
    pub(crate) delete_rows: bool,
}

impl TableDefinition {
    /// Whether it is that of a temporary table of this kind.
    pub(crate) fn is_temporary(&self, kind: TemporaryKind) -> bool {
        self.temporary.is_some_and(|temporary| temporary.kind == kind)
    }

    /// The types of these columns.
    pub(crate) fn types_of<'d>(&'d self, columns: &'d [usize]) -> impl Iterator<Item = SqlType> + 'd {
        columns.iter().map(|at| self.columns[*at].sql_type)
    }

    /// The keys whose columns are never NULL, and that hold at every moment: of these no two rows have the same values.
    pub(crate) fn certain_keys(&self) -> Vec<Vec<usize>> {
        let never_null = |key: &&KeyConstraint| {
            key.timing == Timing::AtOnce && key.columns.iter().all(|at| self.columns[*at].not_null)
        };
        self.keys.iter().filter(never_null).map(|key| key.columns.clone()).collect()
    }

    /// The period of system time of a table that keeps history.
    pub(crate) fn versioning(&self) -> Option<&SystemTime> {
        self.system_time.as_ref().filter(|period| period.versioned)
    }

    /// The same table with its checks and foreign keys proven or not for the rows it has.
    pub(crate) fn with_unproven(mut self, unproven: bool) -> Self {
        self.checks.iter_mut().for_each(|check| check.unproven = unproven);
        self.references.iter_mut().for_each(|reference| reference.unproven = unproven);
        self
    }

    /// The table without the constraints that its rows may break.
    pub(crate) fn proven(&self) -> Self {
        let mut proven = self.clone();
        proven.checks.retain(|check| !check.unproven);
        proven.references.retain(|reference| !reference.unproven);
        proven
    }

    /// The indexes of CREATE INDEX, and those that keys are by their nature.
    pub(crate) fn all_indexes(&self) -> Vec<Index> {
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
    pub(crate) fn is_index(&self, name: &str) -> bool {
        self.indexes.iter().any(|index| index.name == name)
    }

    /// What an index is sorted by, as CREATE INDEX says it.
    pub(crate) fn key_text(&self, index: &Index) -> String {
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
pub(crate) enum Timing {
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
pub(crate) enum ViewCheck {
    /// Those that fulfil its own condition.
    Local,
    /// And those of the views below it.
    Cascaded,
}

#[derive(Clone, Debug)]
#[expect(clippy::struct_excessive_bools, reason = "words of the definition, each there or not")]
pub(crate) struct ColumnDefinition {
    pub(crate) name: String,
    pub(crate) sql_type: SqlType,
    /// What its values are held to besides their type.
    pub(crate) limit: Option<TypeLimit>,
    pub(crate) not_null: bool,
    pub(crate) filled: Filled,
    /// Left out of `*`.
    pub(crate) hidden: bool,
    /// The domain that the type was taken from: schema and name.
    pub(crate) domain: Option<(String, String)>,
}

impl ColumnDefinition {
    /// The type as it was declared.
    pub(crate) fn declared(&self) -> DeclaredType {
        DeclaredType { sql_type: self.sql_type, limit: self.limit }
    }
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
    /// GENERATED ALWAYS AS ROW START
    RowStart,
    /// GENERATED ALWAYS AS ROW END
    RowEnd,
}

/// GENERATED … AS IDENTITY
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Identity {
    /// ALWAYS: a value of one's own needs OVERRIDING SYSTEM VALUE.
    pub(crate) always: bool,
    pub(crate) numbers: Numbers,
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
    pub(crate) timing: Timing,
    /// WITHOUT OVERLAPS: the column in which the period ends whose start is the last of `columns`.
    pub(crate) period_end: Option<usize>,
}

impl KeyConstraint {
    /// The columns that are compared as they are: all but those of the period.
    pub(crate) fn scalar_columns(&self) -> &[usize] {
        let periods = usize::from(self.period_end.is_some());
        &self.columns[..self.columns.len().saturating_sub(periods)]
    }
}

#[derive(Clone, Debug)]
pub(crate) struct CheckConstraint {
    pub(crate) name: String,
    pub(crate) condition: Written,
    pub(crate) timing: Timing,
    /// Whether rows were loaded with CHECKS OFF, and not looked at since.
    pub(crate) unproven: bool,
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
    pub(crate) match_type: MatchType,
    pub(crate) timing: Timing,
    /// Whether rows were loaded with CHECKS OFF, and not looked at since.
    pub(crate) unproven: bool,
    /// PERIOD: columns in which the period of the row, and those of the rows it refers to, start and end.
    pub(crate) periods: Option<[(usize, usize); 2]>,
}

impl ForeignKey {
    /// Whether its rows refer to this key of the other table.
    pub(crate) fn means(&self, key: &KeyConstraint) -> bool {
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
pub(crate) enum MatchType {
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
pub(crate) enum ReferentialAction {
    #[default]
    NoAction,
    Restrict,
    Cascade,
    SetNull,
    SetDefault,
}

impl ReferentialAction {
    /// Its words.
    pub(crate) fn name(self) -> &'static str {
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
pub(crate) struct Index {
    pub(crate) name: String,
    /// One of columns alone has a key of its name beside it.
    pub(crate) unique: bool,
    pub(crate) keys: Vec<IndexKey>,
    /// Columns that it holds besides those of its keys.
    pub(crate) include: Vec<usize>,
}

/// What the rows of an index are sorted by.
#[derive(Clone, Debug)]
pub(crate) struct IndexKey {
    pub(crate) part: IndexPart,
    pub(crate) direction: Direction,
    pub(crate) nulls: Nulls,
}

#[derive(Clone, Debug)]
pub(crate) enum IndexPart {
    Column(usize),
    Expression(Written),
}

/// A view: the text of its query, and the names of its columns.
#[derive(Clone, Debug)]
pub(crate) struct View {
    pub(crate) name: String,
    pub(crate) columns: Vec<String>,
    pub(crate) query: Written,
    /// The schema in which its own unqualified names are looked up.
    pub(crate) schema: String,
    pub(crate) check: Option<ViewCheck>,
    /// The columns that the tables it names had when it was made.
    pub(crate) known: Vec<KnownColumns>,
}

/// The columns of a table or view, hidden ones among them, at some time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct KnownColumns {
    pub(crate) schema: String,
    pub(crate) table: String,
    pub(crate) columns: Vec<String>,
}
