//! The vocabulary of a plan that is shown: operators, kinds of joins, places of predicates, decisions.

use super::JoinMethod;
use crate::logical::JoinKindName;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use std::fmt;

named! {
    /// The textbook name of an operator.
    pub enum OperatorName {
        /// Rows that the statement itself holds, or none.
        Values = "values",
        /// Reads a table of the database from one end to the other.
        TableScan = "table scan",
        /// Reads a file or a program's own source.
        FileScan = "file scan",
        /// Finds rows by values of the leading keys of an index.
        IndexLookup = "index lookup",
        /// Finds rows by a range of keys of an index.
        IndexRangeScan = "index range scan",
        /// Takes all columns from the index itself.
        IndexOnlyScan = "index-only scan",
        /// Keeps the rows for which its predicates are TRUE.
        Filter = "filter",
        /// Computes columns.
        Project = "project",
        /// See [`JoinMethod::Hash`].
        HashJoin = "hash join",
        /// See [`JoinMethod::Merge`].
        MergeJoin = "merge join",
        /// See [`JoinMethod::NestedLoop`].
        NestedLoopJoin = "nested-loop join",
        /// See [`JoinMethod::IndexNestedLoop`].
        IndexNestedLoopJoin = "index nested-loop join",
        /// See [`JoinMethod::Range`].
        RangeJoin = "range join",
        /// See [`JoinMethod::Nearest`].
        NearestJoin = "nearest join",
        /// Window functions.
        Window = "window",
        /// The rows of all inputs.
        UnionAll = "union all",
        /// Rows of both inputs.
        Intersect = "intersect",
        /// Rows of the first input that the second does not have.
        Except = "except",
        /// Rows made of each input row: SERIES, UNNEST.
        Expand = "expand",
        /// Rows that are computed once for several places.
        SharedStep = "shared step",
        /// Repeats its branches until no row is new.
        Recursion = "recursion",
        /// Inside a recursion: the rows of the last iteration.
        RecursionInput = "recursion input",
        /// Groups by a hash table.
        HashAggregate = "hash aggregate",
        /// Groups rows that come in the order of the grouping columns.
        SortedAggregate = "sorted aggregate",
        /// Each row once.
        Distinct = "distinct",
        /// Sorts.
        Sort = "sort",
        /// The first rows of an order.
        TopN = "top-n",
        /// Some of the rows as they come.
        Limit = "limit",
        /// Inserts rows into a table.
        Insert = "insert",
        /// Changes rows of a table.
        Update = "update",
        /// Deletes rows of a table.
        Delete = "delete",
        /// Inserts, changes and deletes rows of a table.
        Merge = "merge",
    }
}

impl OperatorName {
    /// Whether it reads a table or a file from one end to the other.
    pub fn is_full_scan(self) -> bool {
        matches!(self, Self::TableScan | Self::FileScan)
    }

    /// Whether it changes a table.
    pub fn is_change(self) -> bool {
        matches!(self, Self::Insert | Self::Update | Self::Delete | Self::Merge)
    }

    /// Whether it groups rows.
    pub fn is_aggregate(self) -> bool {
        matches!(self, Self::HashAggregate | Self::SortedAggregate)
    }

    /// The method, when it is a join.
    pub fn join_method(self) -> Option<JoinMethod> {
        JoinMethod::ALL.into_iter().find(|method| method.operator() == self)
    }

    /// Whether it gives the rows of a common table expression, whose name is the user's.
    pub(super) fn gives_named_rows(self) -> bool {
        matches!(self, Self::SharedStep | Self::Recursion | Self::RecursionInput)
    }
}

named! {
    /// Where a predicate acts.
    pub enum PredicatePlace {
        /// It bounds the keys that are read of an index.
        IndexBound = "index bound",
        /// It is tested for each row that is read.
        Filter = "filter",
        /// The sides of a join are matched by it.
        JoinKey = "join key",
        /// It is tested for each pair whose keys match.
        Residual = "residual",
    }
}

/// What the planner decided on.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Decision {
    /// The order in which tables are joined.
    JoinOrder,
    /// The method of an inner join of these tables.
    Join {
        /// Its left tables.
        left: String,
        /// Its right tables.
        right: String,
    },
    /// The method and the place of another join.
    OtherJoin(JoinKindName),
    /// The access path of the table with this correlation name.
    Read(String),
    /// How rows are sorted.
    Order,
    /// How the first rows of an order are found: sorted, or by an index.
    FirstRows,
    /// How rows are sorted of which a part is fetched: all of them, or the first ones only.
    OrderAndFetch,
    /// How rows are grouped.
    Group,
    /// Whether rows are grouped before or after a join.
    GroupWhen,
    /// How many workers run the plan.
    Workers,
}

impl fmt::Display for Decision {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::JoinOrder => f.write_str("join order"),
            Self::Join { left, right } => write!(f, "join {left} with {right}"),
            Self::OtherJoin(kind) => write!(f, "{kind} join"),
            Self::Read(alias) => write!(f, "read {alias}"),
            Self::Order => f.write_str("order"),
            Self::FirstRows => f.write_str("first rows"),
            Self::OrderAndFetch => f.write_str("order and fetch"),
            Self::Group => f.write_str("group"),
            Self::GroupWhen => f.write_str("group when"),
            Self::Workers => f.write_str("workers"),
        }
    }
}

impl Serialize for Decision {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// From its text, in which a table's name that holds the word between two tables is cut there.
impl<'de> Deserialize<'de> for Decision {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let plain = [
            Self::JoinOrder,
            Self::Order,
            Self::FirstRows,
            Self::OrderAndFetch,
            Self::Group,
            Self::GroupWhen,
            Self::Workers,
        ];
        if let Some(plain) = plain.into_iter().find(|decision| decision.to_string() == text) {
            return Ok(plain);
        }
        if let Some(alias) = text.strip_prefix("read ") {
            return Ok(Self::Read(alias.to_owned()));
        }
        if let Some((left, right)) = text.strip_prefix("join ").and_then(|pair| pair.split_once(" with ")) {
            return Ok(Self::Join { left: left.to_owned(), right: right.to_owned() });
        }
        let kind = text.strip_suffix(" join").and_then(JoinKindName::from_name);
        kind.map(Self::OtherJoin).ok_or_else(|| de::Error::custom(format!("{text:?} is not a decision of a plan")))
    }
}

/// The indexes by which rows are found.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum IndexUse {
    /// One index.
    One(String),
    /// Rows that all of these indexes lead to: an index intersection.
    Intersection(Vec<String>),
    /// Rows that any of these indexes leads to: an index union.
    Union(Vec<String>),
}

impl IndexUse {
    /// The names of the indexes, in the order they are read.
    pub fn names(&self) -> &[String] {
        match self {
            Self::One(name) => std::slice::from_ref(name),
            Self::Intersection(names) | Self::Union(names) => names,
        }
    }

    /// Whether an index of this name is among them.
    pub fn contains(&self, name: &str) -> bool {
        self.names().iter().any(|known| known.eq_ignore_ascii_case(name))
    }
}

impl fmt::Display for IndexUse {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let between = if matches!(self, Self::Union(_)) { " or " } else { " and " };
        f.write_str(&self.names().join(between))
    }
}

impl Serialize for IndexUse {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// From its text, in which an index's name that holds ` and ` or ` or ` is cut there.
impl<'de> Deserialize<'de> for IndexUse {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let cut = |between: &str| text.split(between).map(str::to_owned).collect();
        Ok(match () {
            () if text.contains(" or ") => Self::Union(cut(" or ")),
            () if text.contains(" and ") => Self::Intersection(cut(" and ")),
            () => Self::One(text),
        })
    }
}
