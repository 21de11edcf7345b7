//! What a session remembers of the query that ran last.

use super::Session;
use super::settings::Settings;
use super::statement::{Prepared, prepare};
use crate::bind::{MissingParameters, Parameters};
use crate::catalog::Catalog;
use crate::diagnostic::SourceText;
use crate::physical::Plan;
use crate::syntax::ast;
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

/// The query that ran last, with the tables as they were: it is forgotten when the next statement begins.
#[derive(Default)]
pub(super) struct LastQuery(Mutex<Option<Ran>>);

enum Ran {
    ByPlan(Box<Prepared>),
    /// Without a plan, for the one it would have had was known.
    Direct(DirectCall),
}

/// All that the plan of a query depends on, but for what only statements change.
pub(super) struct DirectCall {
    pub(super) catalog: Arc<Catalog>,
    pub(super) settings: Arc<Settings>,
    pub(super) statement: Arc<ast::Statement>,
    pub(super) source: Arc<SourceText>,
    pub(super) parameters: Parameters,
}

impl LastQuery {
    /// There is none.
    pub(super) fn forget(&self) {
        self.put(None);
    }

    /// It ran by a plan.
    pub(super) fn set(&self, prepared: Prepared) {
        self.put(Some(Ran::ByPlan(Box::new(prepared))));
    }

    /// It looked one row up, without a plan.
    pub(super) fn set_direct(&self, call: DirectCall) {
        self.put(Some(Ran::Direct(call)));
    }

    fn put(&self, ran: Option<Ran>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = ran;
    }

    /// Something of the query that ran last, when it had a plan.
    pub(super) fn of_plan<T>(&self, of: impl FnOnce(&Prepared) -> Option<T>) -> Option<T> {
        match &*self.0.lock().unwrap_or_else(PoisonError::into_inner) {
            Some(Ran::ByPlan(prepared)) => of(prepared),
            _ => None,
        }
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
        match &*self.last.0.lock().unwrap_or_else(PoisonError::into_inner) {
            None => None,
            Some(Ran::ByPlan(prepared)) => Some(prepared.describe(None)),
            Some(Ran::Direct(call)) => {
                let ast::StatementKind::Query(query) = &call.statement.kind else { return None };
                let files = self.files();
                let around = self.around(&call.catalog, &files, &call.parameters, MissingParameters::Refuse);
                let prepared = prepare(query, &call.source, &around, &call.settings, Instant::now());
                prepared.ok().map(|prepared| prepared.describe(None))
            }
        }
    }
}
