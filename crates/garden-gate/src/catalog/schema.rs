use super::{DEFAULT_SCHEMA, TableSource};
use crate::types::SqlType;
use std::sync::Arc;

/// A column of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Column {
    /// Its name, as it was first written.
    pub name: String,
    /// Its type.
    pub sql_type: SqlType,
}

impl Column {
    /// A column of this name and type.
    pub fn new(name: impl Into<String>, sql_type: SqlType) -> Self {
        Self { name: name.into(), sql_type }
    }
}

/// Whether a table's rows belong to the database or to a file named in the query.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TableKind {
    Table,
    File,
}

/// A table as a statement meets it.
#[derive(Clone, Debug)]
pub(crate) struct Table {
    pub(crate) name: String,
    pub(crate) kind: TableKind,
    pub(crate) source: Arc<dyn TableSource>,
}

#[derive(Clone, Debug)]
pub(crate) struct Schema {
    pub(crate) name: String,
    pub(crate) tables: Vec<Table>,
}

/// All schemas and their tables: an immutable picture that one statement works on.
#[derive(Clone, Debug)]
pub(crate) struct Catalog {
    pub(crate) schemas: Vec<Schema>,
}

impl Default for Catalog {
    fn default() -> Self {
        Self { schemas: vec![Schema { name: DEFAULT_SCHEMA.into(), tables: Vec::new() }] }
    }
}

impl Catalog {
    /// The schema of exactly this name, made when there is none.
    pub(crate) fn schema_mut(&mut self, name: &str) -> &mut Schema {
        let at = self.schemas.iter().position(|schema| schema.name.eq_ignore_ascii_case(name)).unwrap_or_else(|| {
            self.schemas.push(Schema { name: name.into(), tables: Vec::new() });
            self.schemas.len() - 1
        });
        &mut self.schemas[at]
    }
}
