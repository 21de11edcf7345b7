//! What a session remembers of the query that ran last.

use super::Session;
use super::statement::Prepared;
use crate::physical::Plan;
use std::fmt;
use std::sync::{Mutex, PoisonError};

/// The query that ran last, with the tables as they were: it is forgotten when the next statement begins.
#[derive(Default)]
pub(super) struct LastQuery(Mutex<Option<Prepared>>);

impl LastQuery {
    pub(super) fn set(&self, prepared: Option<Prepared>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = prepared;
    }
}

impl fmt::Debug for LastQuery {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("LastQuery")
    }
}

impl Session {
    /// The plan by which the last statement ran, if that was a query: for the values, statistics and settings it had then. `None` after any
    /// other statement.
    pub fn last_plan(&self) -> Option<Plan> {
        let last = self.last.0.lock().unwrap_or_else(PoisonError::into_inner);
        last.as_ref().map(|prepared| prepared.describe(None))
    }
}
