//! Temporary tables. Those of one session are a schema that only its own statements see; those that sessions share are in the database
//! until the last session that used them ends, and never in its file.

use super::Session;
use crate::catalog::{Catalog, LOCAL_SCHEMA, Schema, Table, TableDefinition, TableSource};
use crate::diagnostic::Result;
use crate::storage::StoredTable;
use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// Which sessions use the temporary tables that all may see.
#[derive(Debug, Default)]
pub(super) struct SharedTables {
    next_session: AtomicU64,
    users: Mutex<HashMap<(String, String), HashSet<u64>>>,
}

impl SharedTables {
    pub(super) fn new_session(&self) -> u64 {
        self.next_session.fetch_add(1, Ordering::Relaxed)
    }

    /// Whether there are such tables at all, so that other statements need not look for them.
    pub(super) fn any(&self) -> bool {
        !self.users.lock().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    fn use_by(&self, session: u64, schema: &str, table: &str) {
        let mut users = self.users.lock().unwrap_or_else(PoisonError::into_inner);
        users.entry((schema.to_owned(), table.to_owned())).or_default().insert(session);
    }

    /// The tables that nobody uses any more once this session has ended.
    fn left_by(&self, session: u64) -> Vec<(String, String)> {
        let mut users = self.users.lock().unwrap_or_else(PoisonError::into_inner);
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

/// The tables of one session.
pub(super) fn no_tables() -> Arc<Schema> {
    Arc::new(Schema::new(LOCAL_SCHEMA))
}

/// The database with the tables of a session.
pub(super) fn with_local(catalog: Arc<Catalog>, local: &Arc<Schema>) -> Arc<Catalog> {
    if local.tables.is_empty() {
        return catalog;
    }
    let mut both = Catalog::clone(&catalog);
    both.schemas.push(Arc::clone(local));
    Arc::new(both)
}

/// The database and the tables of a session, apart.
pub(super) fn split(mut catalog: Catalog) -> (Catalog, Arc<Schema>) {
    let at = catalog.schemas.iter().position(|schema| schema.name == LOCAL_SCHEMA);
    let local = at.map_or_else(no_tables, |at| catalog.schemas.remove(at));
    (catalog, local)
}

/// Whether two pictures of a database are one.
pub(super) fn same_schemas(a: &Catalog, b: &Catalog) -> bool {
    a.schemas.len() == b.schemas.len() && a.schemas.iter().zip(&b.schemas).all(|(a, b)| Arc::ptr_eq(a, b))
}

/// The tables after a commit: those that are said to be emptied then are empty.
pub(super) fn after_commit(schema: Arc<Schema>) -> Result<Arc<Schema>> {
    let emptied = |table: &&Table| table.source.rows() > 0 && deletes_rows(table.definition.as_deref());
    if !schema.tables.iter().any(|table| emptied(&table)) {
        return Ok(schema);
    }
    let mut after = Schema::clone(&schema);
    for table in after.tables.iter_mut().filter(|table| emptied(&&**table)) {
        let keys = table.definition.as_ref().map(|definition| definition.certain_keys()).unwrap_or_default();
        let source = StoredTable::new(table.source.columns().to_vec(), keys);
        table.source = Arc::new(source);
    }
    Ok(Arc::new(after))
}

fn deletes_rows(definition: Option<&TableDefinition>) -> bool {
    definition.and_then(|definition| definition.temporary).is_some_and(|temporary| temporary.delete_rows)
}

fn is_shared(table: &Table) -> bool {
    let temporary = table.definition.as_ref().and_then(|definition| definition.temporary);
    temporary.is_some_and(|temporary| temporary.shared)
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
