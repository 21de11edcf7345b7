//! The commits of a database: their numbers and times, and how many rows of each table they changed.

use std::sync::{Arc, Mutex, PoisonError};

/// Every commit so far. It only grows, so all pictures of a database share it; each looks no further than its own last commit.
#[derive(Debug, Default)]
pub struct CommitLog(Mutex<Vec<Arc<Commit>>>);

/// A transaction that changed the database.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Commit {
    /// From 1.
    pub number: u64,
    /// Microseconds since 1970 in UTC; later than that of the commit before, whatever the clock says.
    pub time: i64,
    pub tables: Vec<TableChange>,
}

/// Rows that statements added, changed and removed, those of referential actions among them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TableChange {
    pub schema: String,
    pub table: String,
    pub added: u64,
    pub changed: u64,
    pub removed: u64,
}

/// What a transaction has done so far that its commit has to know.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Pending {
    /// When its rows began in system time, as long as its commit has no time: later than all commits that it has seen.
    pub time: Option<i64>,
    pub tables: Vec<TableChange>,
}

impl Pending {
    /// Counts `rows`, those added, changed and deleted, towards what the commit did to a table.
    pub fn note(&mut self, (schema, table): (&str, &str), rows: (u64, u64, u64)) {
        let known = self.tables.iter().position(|known| known.schema == schema && known.table == table);
        let at = known.unwrap_or_else(|| {
            self.tables.push(TableChange { schema: schema.into(), table: table.into(), ..TableChange::default() });
            self.tables.len() - 1
        });
        let change = &mut self.tables[at];
        change.added += rows.0;
        change.changed += rows.1;
        change.removed += rows.2;
    }
}

impl CommitLog {
    /// The commits that the database file has, in the order of their numbers.
    pub fn of(commits: Vec<Commit>) -> Self {
        Self(Mutex::new(commits.into_iter().map(Arc::new).collect()))
    }

    /// Adds a commit, whose number is greater than those before it.
    pub fn push(&self, commit: Commit) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(Arc::new(commit));
    }

    /// Takes the last commit away, which could not be written.
    pub fn forget(&self, number: u64) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if all.last().is_some_and(|last| last.number == number) {
            all.pop();
        }
    }

    /// The commits up to this number, in order.
    pub fn until(&self, last: u64) -> Vec<Arc<Commit>> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all[..place(&all, last)].to_vec()
    }

    /// The commits after this number, in order.
    pub fn after(&self, number: u64) -> Vec<Arc<Commit>> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all[place(&all, number)..].to_vec()
    }

    /// The commit of a number. O(log commits).
    pub fn find(&self, number: u64) -> Option<Arc<Commit>> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let found = place(&all, number).checked_sub(1).map(|at| &all[at])?;
        (found.number == number).then(|| Arc::clone(found))
    }

    /// The newest commit; `None` before the first.
    pub fn last(&self) -> Option<Arc<Commit>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).last().map(Arc::clone)
    }
}

/// How many commits have at most this number.
fn place(all: &[Arc<Commit>], number: u64) -> usize {
    all.partition_point(|commit| commit.number <= number)
}
