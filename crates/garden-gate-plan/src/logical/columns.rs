use crate::catalog::{ColumnStatistics, GroupStatistics, TableSource};
use crate::diagnostic::Result;
use crate::types::{DeclaredType, SqlType, TypeLimit};
use std::sync::Arc;

/// A column of some relation of one statement; unique within the statement.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ColumnId(pub u32);

/// What a column is called and where it comes from.
#[derive(Clone, Debug)]
pub struct ColumnInfo {
    /// Correlation name of its table; `None` for a computed column.
    pub qualifier: Option<String>,
    pub name: String,
    pub sql_type: SqlType,
    /// What its values are held to besides their type.
    pub limit: Option<TypeLimit>,
    /// The stored column after it.
    pub origin: Option<(Arc<dyn TableSource>, usize)>,
    pub nulls: StoredNulls,
}

/// Whether a stored column may hold a NULL.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum StoredNulls {
    #[default]
    Possible,
    /// A constraint forbids it.
    Forbidden,
    /// Its rows do not change: exact statistics tell.
    AsCounted,
}

impl ColumnInfo {
    /// A column that no table holds.
    pub fn computed(name: impl Into<String>, sql_type: SqlType) -> Self {
        Self { qualifier: None, name: name.into(), sql_type, limit: None, origin: None, nulls: StoredNulls::Possible }
    }

    /// Its type as it was declared, with the greatest length of a text.
    pub fn declared(&self) -> DeclaredType {
        DeclaredType { sql_type: self.sql_type, limit: self.limit }
    }
}

/// All columns of a statement.
#[derive(Clone, Debug, Default)]
pub struct Columns {
    all: Vec<ColumnInfo>,
    /// Columns of one table that were looked at together.
    groups: Vec<ColumnGroup>,
    /// What a guide names in FROM, with its columns: it need not be a table that is read.
    guided: Vec<(String, Vec<ColumnId>)>,
    /// Whether statistics count even when many rows have changed since.
    pub keep_old: bool,
}

/// Columns of one table in a statement, in the order of what is known of them together.
#[derive(Clone, Debug)]
pub struct ColumnGroup {
    pub columns: Vec<ColumnId>,
    tables: Arc<Vec<GroupStatistics>>,
    at: usize,
}

impl ColumnGroup {
    /// What ANALYZE found of these columns together.
    pub fn statistics(&self) -> &GroupStatistics {
        &self.tables[self.at]
    }
}

impl Columns {
    /// Adds a column; its number is never used again.
    pub fn add(&mut self, info: ColumnInfo) -> ColumnId {
        self.all.push(info);
        ColumnId(crate::types::index(self.all.len() - 1))
    }

    /// Remembers the columns of what a guide names.
    pub fn add_guided(&mut self, name: String, columns: Vec<ColumnId>) {
        self.guided.push((name, columns));
    }

    /// The names that a guide has for what a column belongs to.
    pub fn guided_names(&self, id: ColumnId) -> impl Iterator<Item = &str> {
        self.guided.iter().filter(move |(_, columns)| columns.contains(&id)).map(|(name, _)| name.as_str())
    }

    /// Whether a guide names anything.
    pub fn is_guided(&self) -> bool {
        !self.guided.is_empty()
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.all.len()
    }

    /// What is known of a column.
    pub fn get(&self, id: ColumnId) -> &ColumnInfo {
        &self.all[id.0 as usize]
    }

    /// Takes note of what the values of a computed column are held to.
    pub fn set_limit(&mut self, id: ColumnId, limit: Option<TypeLimit>) {
        self.all[id.0 as usize].limit = limit;
    }

    /// Calls a column that no table holds as a list of names in FROM does, so that plans and messages call it so too.
    pub fn rename_computed(&mut self, id: ColumnId, qualifier: &str, name: &str) {
        let info = &mut self.all[id.0 as usize];
        if info.origin.is_none() {
            (info.qualifier, info.name) = (Some(qualifier.to_owned()), name.to_owned());
        }
    }

    /// Statistics of the stored column after `id`, when there is one.
    pub fn statistics(&self, id: ColumnId) -> Result<Option<Arc<ColumnStatistics>>> {
        let Some((source, column)) = &self.get(id).origin else { return Ok(None) };
        match source.old_statistics(*column) {
            Some((known, _)) if self.keep_old => Ok(Some(known)),
            _ => source.statistics(*column).map(Some),
        }
    }

    /// Whether a column that comes from a table is known to hold no NULL there.
    ///
    /// # Errors
    /// As [`Columns::statistics`].
    pub fn is_never_null(&self, id: ColumnId) -> Result<bool> {
        let info = self.get(id);
        let Some((source, place)) = &info.origin else { return Ok(false) };
        if info.nulls == StoredNulls::Forbidden || source.keys().iter().any(|key| key.contains(place)) {
            return Ok(true);
        }
        if info.nulls != StoredNulls::AsCounted {
            return Ok(false);
        }
        let known = source.statistics(*place)?;
        // Where nothing was counted there is no least value either.
        Ok(known.nulls == 0 && known.rows == source.rows() && !known.min.is_null())
    }

    /// Takes note of a use of a table whose columns these are, in its order, and of what is known of several together.
    pub fn add_groups(&mut self, columns: &[ColumnId], groups: &Arc<Vec<GroupStatistics>>) {
        for (at, group) in groups.iter().enumerate() {
            if let Some(columns) = group.columns.iter().map(|place| columns.get(*place).copied()).collect() {
                self.groups.push(ColumnGroup { columns, tables: Arc::clone(groups), at });
            }
        }
    }

    /// Columns that are known together.
    pub fn groups(&self) -> &[ColumnGroup] {
        &self.groups
    }

    /// Makes one column all that another is, which is used no more.
    pub fn stand_for(&mut self, id: ColumnId, other: ColumnId) {
        self.all[id.0 as usize] = self.get(other).clone();
        let groups = self.groups.iter_mut().map(|group| &mut group.columns);
        for columns in groups.chain(self.guided.iter_mut().map(|(_, columns)| columns)) {
            columns.iter_mut().filter(|known| **known == other).for_each(|known| *known = id);
        }
    }

    /// A column of the same name, type and origin.
    pub fn copy(&mut self, id: ColumnId) -> ColumnId {
        let info = self.get(id).clone();
        self.add(info)
    }
}
