//! Transactions (clause 17). A transaction works on a picture of the database of its own; what it changed takes the place of what was
//! there when it commits, unless something it read has been changed since: then it is undone with 40001.

use super::Session;
use super::deferred::Deferral;
use super::temporary::{OwnTables, after_commit, same_definition, same_schemas, same_source as same, split, with_own};
use super::writer::Turn;
use crate::catalog::{Catalog, Named, Schema, Table, TableSource, named};
use crate::diagnostic::{Error, Note, Result, SqlState, suggestion};
use crate::syntax::ast;
use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};

/// Commits that a session loses to others in a row before it goes first.
const MOST_LOST_COMMITS: u32 = 3;

#[derive(Debug)]
pub(super) struct Transaction {
    /// The database when it began.
    pub(super) base: Arc<Catalog>,
    pub(super) work: Arc<Catalog>,
    savepoints: Vec<(String, Arc<Catalog>)>,
    pub(super) read_only: bool,
    pub(super) deferral: Deferral,
    /// The right to write, where it keeps others from writing from its beginning on.
    turn: Option<Turn>,
    /// Every version of a table that it has read.
    reads: Mutex<Vec<Arc<dyn TableSource>>>,
}

impl Transaction {
    /// Notes tables that the transaction has read.
    pub(super) fn note_reads(&self, sources: &[Arc<dyn TableSource>]) {
        let mut known = self.reads.lock().unwrap_or_else(PoisonError::into_inner);
        for source in sources {
            if !known.iter().any(|known| same(known, source)) {
                known.push(Arc::clone(source));
            }
        }
    }

    /// The tables that foreign keys tie to those it changed: what it did is right only as long as they are as they were.
    fn bound_by_references(&self) -> Vec<Arc<dyn TableSource>> {
        let mut found = Vec::new();
        for (schema, table) in self.base.tables() {
            let is_changed = |schema: &str, name: &str| {
                self.base.table(schema, name).is_some_and(|table| !holds(&self.work, schema, table))
            };
            let own = is_changed(schema, &table.name);
            for reference in table.definition.iter().flat_map(|definition| &definition.references) {
                let (parent_schema, parent) = (&reference.table.0, &reference.table.1);
                if own {
                    found.extend(self.base.table(parent_schema, parent).map(|parent| Arc::clone(&parent.source)));
                }
                if is_changed(parent_schema, parent) {
                    found.push(Arc::clone(&table.source));
                }
            }
        }
        found
    }

    /// The database with what this transaction changed.
    fn merged(&self, current: &Arc<Catalog>) -> Result<Arc<Catalog>> {
        if Arc::ptr_eq(&self.base, current) || Arc::ptr_eq(&self.base, &self.work) {
            return Ok(Arc::clone(if Arc::ptr_eq(&self.base, &self.work) { current } else { &self.work }));
        }
        let reads = self.reads.lock().unwrap_or_else(PoisonError::into_inner);
        let bound = self.bound_by_references();
        let is_in = |catalog: &Catalog, source: &Arc<dyn TableSource>| {
            catalog.tables().any(|(_, table)| same(&table.source, source))
        };
        if let Some((_, table)) = self.base.tables().find(|(schema, table)| {
            let touched =
                reads.iter().chain(&bound).any(|read| same(read, &table.source)) || !holds(&self.work, schema, table);
            touched && !is_in(current, &table.source)
        }) {
            let message = format!("another transaction has changed table {:?} since this one began", table.name);
            return Err(Error::new(SqlState::SERIALIZATION, message).with_help("run the transaction again"));
        }
        let mut merged = Catalog::clone(current);
        merged.pending = self.work.pending.clone();
        for work in &self.work.schemas {
            let (base, own) = (self.base.schema(&work.name), merged.schema_mut(&work.name));
            merge_objects(base.map(Arc::as_ref), work, own)?;
        }
        for (schema, table) in self.work.tables().filter(|(schema, table)| !holds(&self.base, schema, table)) {
            if self.base.table(schema, &table.name).is_none() && current.table(schema, &table.name).is_some() {
                let message = format!("another transaction has made a table {:?} since this one began", table.name);
                return Err(Error::new(SqlState::SERIALIZATION, message).with_help("run the transaction again"));
            }
            merged.put_table(schema, table.clone());
        }
        for (schema, table) in self.base.tables().filter(|(schema, t)| self.work.table(schema, &t.name).is_none()) {
            merged.schema_mut(schema).tables.retain(|known| known.name != table.name);
        }
        merged
            .schemas
            .retain(|schema| self.work.schema(&schema.name).is_some() || self.base.schema(&schema.name).is_none());
        Ok(Arc::new(merged))
    }
}

/// What a transaction has made of the views and other objects of a schema, put into the current one.
fn merge_objects(base: Option<&Schema>, work: &Schema, own: &mut Schema) -> Result<()> {
    merge_list(base.map(|base| base.views.as_slice()), &work.views, &mut own.views)?;
    merge_list(base.map(|base| base.sequences.as_slice()), &work.sequences, &mut own.sequences)?;
    merge_list(base.map(|base| base.domains.as_slice()), &work.domains, &mut own.domains)?;
    merge_list(base.map(|base| base.functions.as_slice()), &work.functions, &mut own.functions)?;
    merge_list(base.map(|base| base.comments.as_slice()), &work.comments, &mut own.comments)
}

/// Changes of a list since `base` made in `current` too; 40001 when both lists changed the same entry.
fn merge_list<T: Named>(base: Option<&[Arc<T>]>, work: &[Arc<T>], current: &mut Vec<Arc<T>>) -> Result<()> {
    let base = base.unwrap_or_default();
    let same = |a: Option<&Arc<T>>, b: Option<&Arc<T>>| match (a, b) {
        (Some(a), Some(b)) => Arc::ptr_eq(a, b),
        (None, None) => true,
        _ => false,
    };
    let names: BTreeSet<&str> = base.iter().chain(work).map(|entry| entry.name()).collect();
    for name in names {
        let (was, is) = (named(base, name), named(work, name));
        if same(was, is) {
            continue;
        }
        if !same(was, named(current, name)) {
            let message = format!("another transaction has changed {name:?} since this one began");
            return Err(Error::new(SqlState::SERIALIZATION, message).with_help("run the transaction again"));
        }
        current.retain(|known| known.name() != name);
        current.extend(is.cloned());
    }
    Ok(())
}

/// Whether the catalog has the table just like this.
pub(super) fn holds(catalog: &Catalog, schema: &str, table: &Table) -> bool {
    catalog
        .table(schema, &table.name)
        .is_some_and(|known| same(&known.source, &table.source) && same_definition(known, table))
}

impl Session {
    /// The database as a statement of this session sees it.
    pub(super) fn catalog(&self) -> Arc<Catalog> {
        match &self.transaction {
            Some(transaction) => Arc::clone(&transaction.work),
            None => with_own(self.shared.snapshot(), &self.own),
        }
    }

    /// Whether a transaction is open that START TRANSACTION began.
    pub fn in_transaction(&self) -> bool {
        self.transaction.is_some()
    }

    /// Undoes the transaction that is open, as at the end of a script; a note says so.
    pub fn roll_back(&mut self) -> Option<Note> {
        self.transaction.take()?;
        let note = Note::new("transaction-undone", "the transaction that was still open is undone");
        Some(note.help("COMMIT keeps what a transaction did"))
    }

    /// Puts what `change` makes of the database in its place: at once, or within the transaction that is open. Nothing changes when
    /// it fails. Outside of a transaction nothing else is changed meanwhile.
    pub(super) fn change_catalog<T>(
        &mut self,
        change: impl FnOnce(&Self, &Arc<Catalog>) -> Result<(Catalog, T)>,
    ) -> Result<T> {
        self.check_changes()?;
        let shared = Arc::clone(&self.shared);
        let _turn = match &self.transaction {
            Some(_) => None,
            None => Some(self.turn()?),
        };
        let base = self.catalog();
        let (changed, result) = change(self, &base)?;
        match &mut self.transaction {
            Some(transaction) => transaction.work = Arc::new(changed),
            None => {
                let before = shared.snapshot();
                let (changed, own) = split(changed, &before);
                shared.temporary.check_free(self.id, &changed, &before)?;
                if !same_schemas(&changed, &before) {
                    shared.commit(&with_shared_emptied(changed)?, &before)?;
                }
                self.keep_own(own)?;
            }
        }
        Ok(result)
    }

    /// What a commit leaves of the session's own tables.
    fn keep_own(&mut self, own: OwnTables) -> Result<()> {
        self.own = own.after_commit()?;
        self.shared.temporary.note_rows(self.id, &self.own);
        Ok(())
    }

    /// An error when nothing may be changed now.
    pub(super) fn check_changes(&self) -> Result<()> {
        self.access.check_changes()?;
        self.check_present()?;
        match &self.transaction {
            Some(transaction) if transaction.read_only => {
                Err(Error::new(SqlState::READ_ONLY, "this transaction is READ ONLY"))
            }
            _ => Ok(()),
        }
    }

    /// Writes down how far sequences have come, after a query that took numbers; within a transaction its COMMIT does.
    pub(super) fn keep_sequences(&self) -> Result<()> {
        if self.transaction.is_some() {
            return Ok(());
        }
        let _turn = self.turn()?;
        self.shared.install(self.shared.snapshot())
    }

    /// Waits until this session is the one that writes.
    pub(super) fn turn(&self) -> Result<Turn> {
        self.shared.writers.turn(self.settings().wait_limit())
    }

    /// START TRANSACTION, COMMIT, ROLLBACK and SAVEPOINT.
    pub(super) fn transact(&mut self, statement: &ast::Transaction) -> Result<()> {
        match statement {
            ast::Transaction::Start { read_only } => {
                if self.transaction.is_some() {
                    let help = "COMMIT or ROLLBACK ends it; SAVEPOINT marks a place in it";
                    return Err(
                        Error::new(SqlState::ACTIVE_TRANSACTION, "a transaction is open already").with_help(help)
                    );
                }
                let read_only = *read_only || std::mem::take(&mut self.next_read_only);
                self.transaction = Some(begin(self, read_only)?);
            }
            ast::Transaction::Next { read_only } => {
                if self.transaction.is_some() {
                    let help = "SET TRANSACTION comes before START TRANSACTION, which takes the same words";
                    let message = "a transaction is open: it has begun with other words";
                    return Err(Error::new(SqlState::ACTIVE_TRANSACTION, message).with_help(help));
                }
                self.next_read_only = *read_only;
            }
            ast::Transaction::Commit { chain } => {
                let mut transaction = self.transaction.take().ok_or_else(no_transaction)?;
                self.check_deferred(&transaction)?;
                let (work, own) = split(Catalog::clone(&transaction.work), &transaction.base);
                transaction.work =
                    if same_schemas(&work, &transaction.base) { Arc::clone(&transaction.base) } else { Arc::new(work) };
                let shared = Arc::clone(&self.shared);
                let turn = match transaction.turn.take().and_then(Turn::kept) {
                    Some(turn) => turn,
                    None => self.turn()?,
                };
                let current = shared.snapshot();
                let merged = transaction.merged(&current).inspect_err(|_| self.lost_commits += 1)?;
                self.lost_commits = 0;
                shared.temporary.check_free(self.id, &merged, &current)?;
                if !same_schemas(&merged, &current) {
                    shared.commit(&with_shared_emptied(Catalog::clone(&merged))?, &current)?;
                }
                drop(turn);
                self.keep_own(own)?;
                self.transaction = chain.then(|| begin(self, transaction.read_only)).transpose()?;
            }
            ast::Transaction::Rollback { chain, to: None } => {
                let transaction = self.transaction.take().ok_or_else(no_transaction)?;
                self.transaction = chain.then(|| begin(self, transaction.read_only)).transpose()?;
            }
            ast::Transaction::Rollback { to: Some(name), .. } => {
                let (transaction, at) = self.savepoint(name)?;
                transaction.work = Arc::clone(&transaction.savepoints[at].1);
                transaction.savepoints.truncate(at + 1);
            }
            ast::Transaction::Constraints { names, deferred } => self.set_constraints(names.as_deref(), *deferred)?,
            ast::Transaction::Savepoint(name) => {
                let transaction = self.transaction.as_mut().ok_or_else(no_transaction)?;
                transaction.savepoints.retain(|(known, _)| !name.matches(known));
                transaction.savepoints.push((name.text.clone(), Arc::clone(&transaction.work)));
            }
            ast::Transaction::Release(name) => {
                let (transaction, at) = self.savepoint(name)?;
                transaction.savepoints.truncate(at);
            }
        }
        Ok(())
    }

    fn savepoint(&mut self, name: &ast::Ident) -> Result<(&mut Transaction, usize)> {
        let transaction = self.transaction.as_mut().ok_or_else(no_transaction)?;
        match transaction.savepoints.iter().position(|(known, _)| name.matches(known)) {
            Some(at) => Ok((transaction, at)),
            None => {
                let names: Vec<&str> = transaction.savepoints.iter().map(|(name, _)| name.as_str()).collect();
                let help = suggestion(&name.text, &names, "the savepoints are");
                Err(Error::new(SqlState::SAVEPOINT, format!("no savepoint {:?}", name.text))
                    .with_help(help)
                    .at(name.span))
            }
        }
    }
}

/// Empties the shared temporary tables that a commit empties.
fn with_shared_emptied(mut catalog: Catalog) -> Result<Catalog> {
    for schema in &mut catalog.schemas {
        *schema = after_commit(Arc::clone(schema))?;
    }
    Ok(catalog)
}

/// Begins a transaction. Where others were always faster, it keeps them from writing until it ends: it can't lose once more.
fn begin(session: &Session, read_only: bool) -> Result<Transaction> {
    let is_losing = session.lost_commits >= MOST_LOST_COMMITS && !read_only;
    let turn = if is_losing { Some(session.turn()?.yielding()) } else { None };
    let base = session.shared.snapshot();
    Ok(Transaction {
        turn,
        work: with_own(Arc::clone(&base), &session.own),
        base,
        savepoints: Vec::new(),
        read_only,
        deferral: Deferral::of_transaction(),
        reads: Mutex::default(),
    })
}

/// The error of a COMMIT without a transaction.
pub(super) fn no_transaction() -> Error {
    Error::new(SqlState::TRANSACTION_STATE, "no transaction is open")
        .with_help("each statement outside START TRANSACTION is a transaction of its own, and is kept at once")
}
