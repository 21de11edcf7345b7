use super::{Aggregate, Direction, Expr, Nulls};
use crate::catalog::{ColumnStatistics, TableKind, TableSource};
use crate::diagnostic::Result;
use crate::types::SqlType;
use std::sync::Arc;

/// A column of some relation of one statement; unique within the statement.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct ColumnId(pub(crate) u32);

/// What a column is called and where it comes from.
#[derive(Clone, Debug)]
pub(crate) struct ColumnInfo {
    /// Correlation name of its table; `None` for a computed column.
    pub(crate) qualifier: Option<String>,
    pub(crate) name: String,
    pub(crate) sql_type: SqlType,
    /// The stored column behind it.
    pub(crate) origin: Option<(Arc<dyn TableSource>, usize)>,
}

/// All columns of a statement.
#[derive(Clone, Debug, Default)]
pub(crate) struct Columns(Vec<ColumnInfo>);

impl Columns {
    pub(crate) fn add(&mut self, info: ColumnInfo) -> ColumnId {
        self.0.push(info);
        ColumnId(crate::types::index(self.0.len() - 1))
    }

    pub(crate) fn get(&self, id: ColumnId) -> &ColumnInfo {
        &self.0[id.0 as usize]
    }

    /// Statistics of the stored column behind `id`, when there is one.
    pub(crate) fn statistics(&self, id: ColumnId) -> Result<Option<Arc<ColumnStatistics>>> {
        self.get(id).origin.as_ref().map(|(source, column)| source.statistics(*column)).transpose()
    }
}

/// A table in FROM.
#[derive(Clone, Debug)]
pub(crate) struct Scan {
    pub(crate) table: String,
    pub(crate) kind: TableKind,
    pub(crate) alias: String,
    pub(crate) source: Arc<dyn TableSource>,
    /// The columns read, by their place in the source.
    pub(crate) columns: Vec<(ColumnId, usize)>,
    /// Conditions every row must fulfil, in the order they are tried.
    pub(crate) filter: Vec<Expr>,
}

#[derive(Clone, Debug)]
pub(crate) struct SortKey {
    pub(crate) expr: Expr,
    pub(crate) direction: Direction,
    pub(crate) nulls: Nulls,
}

/// Relational algebra over column ids.
#[derive(Clone, Debug)]
pub(crate) enum LogicalPlan {
    /// One row without columns: SELECT without FROM.
    OneRow,
    /// No row at all, in place of something that was proven empty.
    Empty(Vec<ColumnId>),
    Scan(Scan),
    Filter {
        input: Box<LogicalPlan>,
        conjuncts: Vec<Expr>,
    },
    /// Adds computed columns to those of the input.
    Project {
        input: Box<LogicalPlan>,
        computed: Vec<(ColumnId, Expr)>,
    },
    /// Inner join of all inputs; every conjunct must hold.
    Join {
        inputs: Vec<LogicalPlan>,
        conjuncts: Vec<Expr>,
    },
    Aggregate {
        input: Box<LogicalPlan>,
        keys: Vec<(ColumnId, Expr)>,
        aggregates: Vec<(ColumnId, Aggregate)>,
    },
    Distinct {
        input: Box<LogicalPlan>,
        columns: Vec<ColumnId>,
    },
    Sort {
        input: Box<LogicalPlan>,
        keys: Vec<SortKey>,
    },
    Limit {
        input: Box<LogicalPlan>,
        offset: u64,
        fetch: Option<u64>,
    },
}

impl LogicalPlan {
    /// The columns that a row of the result has.
    pub(crate) fn output(&self) -> Vec<ColumnId> {
        match self {
            Self::OneRow => Vec::new(),
            Self::Empty(columns) | Self::Distinct { columns, .. } => columns.clone(),
            Self::Scan(scan) => scan.columns.iter().map(|(id, _)| *id).collect(),
            Self::Filter { input, .. } | Self::Sort { input, .. } | Self::Limit { input, .. } => input.output(),
            Self::Project { input, computed } => {
                input.output().into_iter().chain(computed.iter().map(|(id, _)| *id)).collect()
            }
            Self::Join { inputs, .. } => inputs.iter().flat_map(Self::output).collect(),
            Self::Aggregate { keys, aggregates, .. } => {
                keys.iter().map(|(id, _)| *id).chain(aggregates.iter().map(|(id, _)| *id)).collect()
            }
        }
    }

    /// The same node with each input replaced.
    pub(crate) fn map_inputs(self, change: &mut impl FnMut(Self) -> Result<Self>) -> Result<Self> {
        let mut boxed = |input: Box<Self>| change(*input).map(Box::new);
        Ok(match self {
            plan @ (Self::OneRow | Self::Empty(_) | Self::Scan(_)) => plan,
            Self::Filter { input, conjuncts } => Self::Filter { input: boxed(input)?, conjuncts },
            Self::Project { input, computed } => Self::Project { input: boxed(input)?, computed },
            Self::Join { inputs, conjuncts } => {
                Self::Join { inputs: inputs.into_iter().map(change).collect::<Result<_>>()?, conjuncts }
            }
            Self::Aggregate { input, keys, aggregates } => Self::Aggregate { input: boxed(input)?, keys, aggregates },
            Self::Distinct { input, columns } => Self::Distinct { input: boxed(input)?, columns },
            Self::Sort { input, keys } => Self::Sort { input: boxed(input)?, keys },
            Self::Limit { input, offset, fetch } => Self::Limit { input: boxed(input)?, offset, fetch },
        })
    }
}

/// A rewrite rule that fired.
#[derive(Clone, Debug)]
pub(crate) struct RewriteNote {
    pub(crate) rule: &'static str,
    pub(crate) change: String,
    pub(crate) why: &'static str,
}
