//! What is wrong with a text that is being typed, found without running any of it.

use super::Session;
use super::session::Call;
use crate::bind::{MissingParameters, Parameters, bind_change, bind_query};
use crate::control;
use crate::diagnostic::{Error, SourceText};
use crate::syntax::{Script, Typed, ast, is_unclosed};
use std::sync::Arc;
use std::time::Instant;

impl Session {
    /// The problems of syntax and of names in the statements of a text. Nothing runs, and no file is opened: what reads one is held to the
    /// grammar only, as is what follows a definition, which may make the names that are missing. Parameters may lack a value.
    ///
    /// A last statement that has no semicolon yet is one that is still being typed: that it ends too early is no problem.
    ///
    /// ```
    /// # let session = garden_gate::Database::in_memory().session();
    /// let problems = session.problems("SELECT nmae FROM (VALUES ('Fern gully')) AS bed (name); SELECT 1 +");
    /// assert_eq!(problems.len(), 1);
    /// assert_eq!(problems[0].help(), Some("did you mean \"name\"?"));
    /// ```
    pub fn problems(&self, text: &str) -> Vec<Error> {
        control::large_stack(|| self.problems_of(text))
    }

    fn problems_of(&self, text: &str) -> Vec<Error> {
        let source = SourceText::new(text);
        let is_open = Typed::of(text) == Typed::Unfinished;
        let mut script = Script::new(Arc::clone(&source));
        let (mut problems, mut names_are_known) = (Vec::new(), true);
        while let Some(statement) = script.next_statement() {
            match statement {
                Err(error) => problems.push(error),
                Ok(statement) => {
                    names_are_known &= !matches!(statement.kind, ast::StatementKind::Definition(_));
                    if names_are_known && !reads_file(source.slice(statement.span)) {
                        problems.extend(self.problem_of_names(&statement, &source));
                    }
                }
            }
        }
        let end = text.trim_end().len();
        let at_end = |error: &Error| error.span().is_some_and(|span| span.start as usize >= end);
        problems.retain(|error| !(is_open && (at_end(error) || is_unclosed(error))));
        problems
    }

    fn problem_of_names(&self, statement: &ast::Statement, source: &Arc<SourceText>) -> Option<Error> {
        let (catalog, files, parameters) = (self.catalog(), self.files(), Parameters::new());
        let call = Call { source, parameters: &parameters, started: Instant::now(), measured: None };
        let around = self.around(&catalog, &files, call.parameters, MissingParameters::PlanGenerically);
        let problem = match &statement.kind {
            ast::StatementKind::Query(query) => bind_query(query, source, &around).err(),
            ast::StatementKind::Change(change) => bind_change(change, source, &around).err(),
            _ => None,
        };
        problem.map(|error| error.in_source(source))
    }
}

/// Whether a statement may open a file.
fn reads_file(statement: &str) -> bool {
    crate::syntax::words(statement).iter().any(|word| word.eq_ignore_ascii_case("FILE"))
}
