use super::commits::{CommitLog, Pending};
use super::{
    Comment, DEFAULT_SCHEMA, Domain, ProgramAggregate, ProgramFunction, Sequence, TableDefinition, TableFunction,
    TableSource, View,
};
use crate::catalog::GroupStatistics;
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
pub enum TableKind {
    Table,
    File,
}

/// A table as a statement meets it.
#[derive(Clone, Debug)]
pub struct Table {
    pub name: String,
    pub kind: TableKind,
    pub source: Arc<dyn TableSource>,
    /// Of a table that the database keeps and changes; rows that a program or a file gives have none.
    pub definition: Option<Arc<TableDefinition>>,
    /// What ANALYZE found of several columns together.
    pub groups: Arc<Vec<GroupStatistics>>,
}

#[derive(Clone, Debug)]
pub struct Schema {
    pub name: String,
    pub tables: Vec<Table>,
    pub views: Vec<Arc<View>>,
    pub sequences: Vec<Arc<Sequence>>,
    pub domains: Vec<Arc<Domain>>,
    pub functions: Vec<Arc<TableFunction>>,
    pub comments: Vec<Arc<Comment>>,
}

impl Schema {
    /// A schema without anything in it.
    pub fn new(name: &str) -> Self {
        Self {
            name: name.into(),
            tables: Vec::new(),
            views: Vec::new(),
            sequences: Vec::new(),
            domains: Vec::new(),
            functions: Vec::new(),
            comments: Vec::new(),
        }
    }

    /// The names of all tables and views.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.tables.iter().map(|table| table.name.as_str()).chain(self.views.iter().map(|view| view.name.as_str()))
    }

    /// The names of everything in it.
    pub fn all_names(&self) -> impl Iterator<Item = &str> {
        let sequences = self.sequences.iter().map(|sequence| sequence.name.as_str());
        let domains = self.domains.iter().map(|domain| domain.name.as_str());
        let functions = self.functions.iter().map(|function| function.name.as_str());
        self.names().chain(sequences).chain(domains).chain(functions)
    }
}

/// All schemas and their tables: an immutable picture that one statement works on.
#[derive(Clone, Debug)]
pub struct Catalog {
    pub schemas: Vec<Arc<Schema>>,
    pub commits: Arc<CommitLog>,
    /// The number of the last commit that is in it; 0 before the first.
    pub last_commit: u64,
    /// What a transaction has done to it.
    pub pending: Pending,
    /// Functions of the program, which no file holds.
    pub program_functions: Vec<Arc<ProgramFunction>>,
    pub program_aggregates: Vec<Arc<ProgramAggregate>>,
}

impl Default for Catalog {
    fn default() -> Self {
        Self::of(vec![Arc::new(Schema::new(DEFAULT_SCHEMA))])
    }
}

impl Catalog {
    /// A database of these schemas that has seen no commit.
    pub fn of(schemas: Vec<Arc<Schema>>) -> Self {
        Self {
            schemas,
            commits: Arc::default(),
            last_commit: 0,
            pending: Pending::default(),
            program_functions: Vec::new(),
            program_aggregates: Vec::new(),
        }
    }

    /// When the last commit was, in microseconds since 1970; before all times when there was none.
    pub fn last_time(&self) -> i64 {
        self.commits.find(self.last_commit).map_or(i64::MIN, |commit| commit.time)
    }

    /// A schema by its name; case does not matter.
    pub fn schema(&self, name: &str) -> Option<&Arc<Schema>> {
        self.schemas.iter().find(|schema| schema.name.eq_ignore_ascii_case(name))
    }

    /// A program's function of this name, in any case of letters.
    pub fn program_function(&self, name: &str) -> Option<&Arc<ProgramFunction>> {
        self.program_functions.iter().find(|known| known.name.eq_ignore_ascii_case(name))
    }

    /// A program's aggregate function of this name, in any case of letters.
    pub fn program_aggregate(&self, name: &str) -> Option<&Arc<ProgramAggregate>> {
        self.program_aggregates.iter().find(|known| known.name.eq_ignore_ascii_case(name))
    }

    /// A table by its schema and its name as it is stored.
    pub fn table(&self, schema: &str, name: &str) -> Option<&Table> {
        self.schema(schema)?.tables.iter().find(|table| table.name == name)
    }

    /// What is said of a thing in a schema.
    pub fn comment(&self, schema: &str, subject: &str) -> Option<&str> {
        let comments = &self.schema(schema)?.comments;
        comments.iter().find(|comment| comment.subject == subject).map(|comment| comment.text.as_str())
    }

    /// The schema of this name, made when there is none.
    pub fn schema_mut(&mut self, name: &str) -> &mut Schema {
        let at = self.schemas.iter().position(|schema| schema.name.eq_ignore_ascii_case(name)).unwrap_or_else(|| {
            self.schemas.push(Arc::new(Schema::new(name)));
            self.schemas.len() - 1
        });
        Arc::make_mut(&mut self.schemas[at])
    }

    /// Puts a table in the place of the one of its name, or beside the others.
    pub fn put_table(&mut self, schema: &str, table: Table) {
        let tables = &mut self.schema_mut(schema).tables;
        match tables.iter().position(|known| known.name == table.name) {
            Some(at) => tables[at] = table,
            None => tables.push(table),
        }
    }

    /// Every table with its schema's name.
    pub fn tables(&self) -> impl Iterator<Item = (&str, &Table)> {
        self.schemas.iter().flat_map(|schema| schema.tables.iter().map(|table| (schema.name.as_str(), table)))
    }
}
