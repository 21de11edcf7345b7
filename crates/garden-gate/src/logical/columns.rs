use crate::catalog::{ColumnStatistics, TableSource};
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

    /// How many there are.
    pub(crate) fn count(&self) -> usize {
        self.0.len()
    }

    pub(crate) fn get(&self, id: ColumnId) -> &ColumnInfo {
        &self.0[id.0 as usize]
    }

    /// Statistics of the stored column behind `id`, when there is one.
    pub(crate) fn statistics(&self, id: ColumnId) -> Result<Option<Arc<ColumnStatistics>>> {
        self.get(id).origin.as_ref().map(|(source, column)| source.statistics(*column)).transpose()
    }

    /// A column of the same name, type and origin.
    pub(crate) fn copy(&mut self, id: ColumnId) -> ColumnId {
        let info = self.get(id).clone();
        self.add(info)
    }
}
