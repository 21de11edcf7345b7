//! The statements of a text, one after the other.

use super::session::Call;
use super::{Outcome, Session};
use crate::bind::Parameters;
use crate::control;
use crate::diagnostic::{Error, Result, SourceText, SqlState};
use crate::syntax::{Script, ast};
use std::sync::Arc;
use std::time::Instant;

/// What the statements of a script came to; see [`Session::run_script`].
#[derive(Debug, Default)]
pub struct ScriptRun {
    /// Of each statement that ran, in order.
    pub outcomes: Vec<Outcome>,
    /// What went wrong with the one after them, if anything did; the rest was not run.
    pub error: Option<Error>,
}

/// The statements of a script, each run when it is asked for; see [`Session::statements`].
#[derive(Debug)]
pub struct Statements<'s> {
    session: &'s mut Session,
    script: Script,
    source: Arc<SourceText>,
    parameters: Parameters,
}

impl<'s> Statements<'s> {
    /// The statements of a text, of which none has run.
    pub(super) fn new(session: &'s mut Session, source: Arc<SourceText>, parameters: Parameters) -> Self {
        Self { script: Script::new(Arc::clone(&source)), source, parameters, session }
    }
}

impl Iterator for Statements<'_> {
    type Item = Result<Outcome>;

    fn next(&mut self) -> Option<Self::Item> {
        control::stack_for(self.session.most_levels(&self.source), || {
            let started = Instant::now();
            let _entered = self.session.enter_statement();
            let statement = self.script.next_statement()?;
            let call = Call { source: &self.source, parameters: &self.parameters, started, measured: None };
            let outcome = statement.and_then(|statement| self.session.run_statement(&statement, &call));
            Some(outcome.map_err(|error| error.in_source(&self.source)))
        })
    }
}

/// The statement that a text consists of.
pub(crate) fn one_statement(source: &Arc<SourceText>) -> Result<ast::Statement> {
    let mut script = Script::new(Arc::clone(source));
    let statement = script.next_statement().unwrap_or_else(|| Err(nothing()))?;
    if let Some(next) = script.next_statement() {
        let error = Error::new(SqlState::SYNTAX_OR_RULE, "one query was expected, here begins another statement");
        return Err(next.map_or(error.clone(), |next| error.at(next.span)).in_source(source));
    }
    Ok(statement)
}

/// The error of a text without a statement.
pub(super) fn nothing() -> Error {
    Error::new(SqlState::SYNTAX_OR_RULE, "there is no statement in the text")
}
