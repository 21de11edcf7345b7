//! Temporary tables. Those of one session are a schema that only its own statements see; those that sessions share are in the database
//! until the last session that used them ends, and never in its file. A GLOBAL one is in the database without rows: each session sees its own
//! rows instead of none.

use super::Session;
use crate::catalog::{Catalog, LOCAL_SCHEMA, Schema, Table, TableDefinition, TableSource, TemporaryKind};
use crate::collections::{HashMap, HashSet};
use crate::diagnostic::{Error, Result, SqlState};
use crate::storage::StoredTable;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock};

/// Which sessions use the temporary tables that all may see.
#[derive(Debug, Default)]
pub(super) struct SharedTables {
    next_session: AtomicU64,
    users: RwLock<HashMap<(String, String), HashSet<u64>>>,
    /// The sessions that have rows in GLOBAL TEMPORARY tables, with the schemas and names of these.
    rows: Mutex<HashMap<u64, Vec<(String, String)>>>,
}

impl SharedTables {
    /// The number of a session, by which its tables are told from those of others.
    pub(super) fn new_session(&self) -> u64 {
        self.next_session.fetch_add(1, Ordering::Relaxed)
    }

    /// Whether there are such tables at all, so that other statements need not look for them.
    pub(super) fn any(&self) -> bool {
        !self.users.read().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    /// Takes note of the GLOBAL TEMPORARY tables in which a session has rows.
    pub(super) fn note_rows(&self, session: u64, own: &OwnTables) {
        let mut rows = self.rows.lock().unwrap_or_else(PoisonError::into_inner);
        if own.rows.is_empty() {
            rows.remove(&session);
        } else {
            let name = |(schema, table): &(String, Table)| (schema.clone(), table.name.clone());
            rows.insert(session, own.rows.iter().map(name).collect());
        }
    }

    /// An error when a GLOBAL TEMPORARY table is altered or dropped in which another session has rows.
    pub(super) fn check_free(&self, session: u64, after: &Catalog, before: &Catalog) -> Result<()> {
        let rows = self.rows.lock().unwrap_or_else(PoisonError::into_inner);
        for (schema, table) in rows.iter().filter(|(other, _)| **other != session).flat_map(|(_, tables)| tables) {
            let Some(known) = before.table(schema, table) else { continue };
            if !after.table(schema, table).is_some_and(|now| same_definition(now, known)) {
                let message = format!("another session has rows in table {table:?}");
                return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(
                    "a GLOBAL TEMPORARY table is altered and dropped when no other session has rows in it",
                ));
            }
        }
        Ok(())
    }

    fn use_by(&self, session: u64, schema: &str, table: &str) {
        let mut users = self.users.write().unwrap_or_else(PoisonError::into_inner);
        users.entry((schema.to_owned(), table.to_owned())).or_default().insert(session);
    }

    /// The tables that nobody uses any more once this session has ended.
    fn left_by(&self, session: u64) -> Vec<(String, String)> {
        let mut users = self.users.write().unwrap_or_else(PoisonError::into_inner);
        let mut left = Vec::new();
        users.retain(|name, sessions| {
            if sessions.remove(&session) && sessions.is_empty() {
                left.push(name.clone());
                return false;
            }
            true
        });
        left
    }
}

/// What one session has for itself.
#[derive(Clone, Debug)]
pub(super) struct OwnTables {
    /// Its LOCAL TEMPORARY tables.
    local: Arc<Schema>,
    /// Its rows of GLOBAL TEMPORARY tables: the schema of each, and the table with them.
    rows: Vec<(String, Table)>,
}

impl Default for OwnTables {
    fn default() -> Self {
        Self { local: Arc::new(Schema::new(LOCAL_SCHEMA)), rows: Vec::new() }
    }
}

impl OwnTables {
    /// After a commit: tables that are said to be emptied then are empty.
    pub(super) fn after_commit(mut self) -> Result<Self> {
        self.local = after_commit(self.local)?;
        self.rows.retain(|(_, table)| !deletes_rows(table.definition.as_deref()));
        Ok(self)
    }
}

/// The database as a session sees it, with its own tables and rows. Rows of a table that another session has dropped or altered are gone.
pub(super) fn with_own(catalog: Arc<Catalog>, own: &OwnTables) -> Arc<Catalog> {
    if own.local.tables.is_empty() && own.rows.is_empty() {
        return catalog;
    }
    let mut both = Catalog::clone(&catalog);
    for (schema, table) in &own.rows {
        if catalog.table(schema, &table.name).is_some_and(|known| same_definition(known, table)) {
            both.put_table(schema, table.clone());
        }
    }
    if !own.local.tables.is_empty() {
        both.schemas.push(Arc::clone(&own.local));
    }
    Arc::new(both)
}

/// What a session sees, apart again: the database, and what is its own. Schemas in which only rows of its own have changed are those of
/// `before`.
pub(super) fn split(mut catalog: Catalog, before: &Catalog) -> (Catalog, OwnTables) {
    let mut own = OwnTables::default();
    if let Some(at) = catalog.schemas.iter().position(|schema| schema.name == LOCAL_SCHEMA) {
        own.local = catalog.schemas.remove(at);
    }
    for schema in &mut catalog.schemas {
        if !schema.tables.iter().any(is_global) {
            continue;
        }
        let was = before.schema(&schema.name);
        let mut bare = Schema::clone(schema);
        for table in bare.tables.iter_mut().filter(|table| is_global(table)) {
            let known = was.and_then(|was| was.tables.iter().find(|known| known.name == table.name));
            let empty = match known.filter(|known| same_definition(known, table)) {
                Some(known) if same_source(&known.source, &table.source) => continue,
                Some(known) => Arc::clone(&known.source),
                None => emptied(table),
            };
            own.rows.push((schema.name.clone(), table.clone()));
            table.source = empty;
        }
        *schema = match was {
            Some(was) if holds_all(was, &bare) => Arc::clone(was),
            _ => Arc::new(bare),
        };
    }
    (catalog, own)
}

/// Whether two pictures of a schema are one, entry by entry.
fn holds_all(a: &Schema, b: &Schema) -> bool {
    fn same<T>(a: &[Arc<T>], b: &[Arc<T>]) -> bool {
        a.len() == b.len() && a.iter().zip(b).all(|(a, b)| Arc::ptr_eq(a, b))
    }
    let same_table = |(a, b): (&Table, &Table)| {
        a.name == b.name
            && same_definition(a, b)
            && same_source(&a.source, &b.source)
            && Arc::ptr_eq(&a.groups, &b.groups)
    };
    a.tables.len() == b.tables.len()
        && a.tables.iter().zip(&b.tables).all(same_table)
        && same(&a.views, &b.views)
        && same(&a.sequences, &b.sequences)
        && same(&a.domains, &b.domains)
        && same(&a.functions, &b.functions)
        && same(&a.comments, &b.comments)
}

/// Whether two tables have the definition in common, not only one that says the same.
pub(super) fn same_definition(a: &Table, b: &Table) -> bool {
    match (&a.definition, &b.definition) {
        (Some(a), Some(b)) => Arc::ptr_eq(a, b),
        (None, None) => true,
        _ => false,
    }
}

/// Whether two tables are one.
pub(super) fn same_source(a: &Arc<dyn TableSource>, b: &Arc<dyn TableSource>) -> bool {
    std::ptr::addr_eq(Arc::as_ptr(a), Arc::as_ptr(b))
}

fn emptied(table: &Table) -> Arc<dyn TableSource> {
    let keys = table.definition.as_ref().map(|definition| definition.certain_keys()).unwrap_or_default();
    Arc::new(StoredTable::new(table.source.columns().to_vec(), keys))
}

fn is_global(table: &Table) -> bool {
    table.definition.as_ref().is_some_and(|definition| definition.is_temporary(TemporaryKind::Global))
}

/// Whether two pictures of a database are one.
pub(super) fn same_schemas(a: &Catalog, b: &Catalog) -> bool {
    a.schemas.len() == b.schemas.len() && a.schemas.iter().zip(&b.schemas).all(|(a, b)| Arc::ptr_eq(a, b))
}

/// The tables after a commit: those that are said to be emptied then are empty.
pub(super) fn after_commit(schema: Arc<Schema>) -> Result<Arc<Schema>> {
    let loses_rows = |table: &Table| table.source.rows() > 0 && deletes_rows(table.definition.as_deref());
    if !schema.tables.iter().any(loses_rows) {
        return Ok(schema);
    }
    let mut after = Schema::clone(&schema);
    for table in after.tables.iter_mut().filter(|table| loses_rows(table)) {
        table.source = emptied(table);
    }
    Ok(Arc::new(after))
}

fn deletes_rows(definition: Option<&TableDefinition>) -> bool {
    definition.and_then(|definition| definition.temporary).is_some_and(|temporary| temporary.delete_rows)
}

fn is_shared(table: &Table) -> bool {
    table.definition.as_ref().is_some_and(|definition| definition.is_temporary(TemporaryKind::Shared))
}

impl Session {
    /// Takes note that this session uses a table, if it is one that lives as long as somebody does.
    pub(super) fn note_use(&self, catalog: &Catalog, schema: &str, table: &str) {
        if catalog.table(schema, table).is_some_and(is_shared) {
            self.shared.temporary.use_by(self.id, schema, table);
        }
    }

    /// The same for all tables that a query read.
    pub(super) fn note_uses(&self, catalog: &Catalog, sources: &[Arc<dyn TableSource>]) {
        for (schema, table) in catalog.tables().filter(|(_, table)| is_shared(table)) {
            if sources.iter().any(|source| std::ptr::addr_eq(Arc::as_ptr(source), Arc::as_ptr(&table.source))) {
                self.shared.temporary.use_by(self.id, schema, &table.name);
            }
        }
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        // An open transaction may be the one that writes: it ends here.
        self.transaction = None;
        self.shared.temporary.note_rows(self.id, &OwnTables::default());
        let left = self.shared.temporary.left_by(self.id);
        if left.is_empty() {
            return;
        }
        let _turn = self.shared.writers.turn(None);
        let mut catalog = Catalog::clone(&self.shared.snapshot());
        for (schema, name) in left {
            catalog.schema_mut(&schema).tables.retain(|table| table.name != name || !is_shared(table));
        }
        // They are in no file: nothing is written, and nothing can fail.
        self.shared.replace(Arc::new(catalog));
    }
}
