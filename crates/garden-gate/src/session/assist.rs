//! What is wrong with a text that is being typed, found without running any of it.

use super::Session;
use super::session::Call;
use crate::bind::{MissingParameters, Parameters, bind_change, bind_query};
use crate::control;
use crate::diagnostic::{Error, Note, Result, SourceText};
use crate::syntax::{Script, Typed, ast, is_unclosed, token_classes};
use std::sync::Arc;
use std::time::Instant;

/// Tokens at the end of a statement that breaks off, without which it is tried.
const MOST_CUT: usize = 8;

/// What was found in a text that is being typed.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Review {
    /// What is wrong, in the order of the statements.
    pub problems: Vec<Error>,
    /// What is legal and probably not meant, in statements that nothing is wrong with.
    pub notes: Vec<Note>,
}

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
        self.review(text).problems
    }

    /// [`Session::problems`], and the notes on what is legal and probably not meant.
    ///
    /// ```
    /// # let session = garden_gate::Database::in_memory().session();
    /// let review = session.review("SELECT sun FROM (VALUES ('shade')) AS bed (sun) WHERE sun = NULL;");
    /// assert_eq!((review.notes[0].code, review.notes[0].replacement.as_deref()), ("null-comparison", Some("sun IS NULL")));
    /// ```
    pub fn review(&self, text: &str) -> Review {
        let mut review = control::large_stack(|| self.reviewed(text));
        // Further problems of a statement are related to its first.
        let each = |problem: Error| {
            let related = problem.related().to_vec();
            std::iter::once(problem).chain(related)
        };
        review.problems = review.problems.into_iter().flat_map(each).collect();
        review
    }

    fn reviewed(&self, text: &str) -> Review {
        let source = SourceText::new(text);
        let is_open = Typed::of(text) == Typed::Unfinished;
        let mut script = Script::new(Arc::clone(&source));
        let (mut problems, mut notes, mut names_are_known) = (Vec::new(), Vec::new(), true);
        while let Some(statement) = script.next_statement() {
            match statement {
                Err(error) => problems.push(error),
                Ok(statement) => {
                    names_are_known &= !matches!(statement.kind, ast::StatementKind::Definition(_));
                    if names_are_known && !reads_file(source.slice(statement.span)) {
                        let goes_on = is_open && statement.span.end as usize >= text.trim_end().len();
                        if goes_on {
                            problems.extend(self.problem_of_open_names(&statement, &source));
                        } else {
                            match self.names_of(&statement, &source) {
                                Ok(noted) => notes.extend(noted),
                                Err(error) => problems.push(error),
                            }
                        }
                    }
                }
            }
        }
        let end = text.trim_end().len();
        // A parenthesis that is not closed has its end labelled.
        let labels = |error: &Error| error.labels().iter().any(|label| label.span.start as usize >= end);
        let at_end = |error: &Error| error.span().is_some_and(|span| span.start as usize >= end) || labels(error);
        if is_open {
            let is_unfinished = problems.last().is_some_and(&at_end);
            problems.retain(|error| !(at_end(error) || is_unclosed(error)));
            if is_unfinished && names_are_known {
                problems.extend(self.problem_before_the_end(text));
            }
        }
        Review { problems, notes }
    }

    /// The problem of names in a last statement that breaks off: it is looked at without its last tokens, as many as that takes.
    fn problem_before_the_end(&self, text: &str) -> Option<Error> {
        let starts: Vec<usize> = token_classes(text).into_iter().map(|(range, _)| range.start).collect();
        for cut in starts.into_iter().rev().take(MOST_CUT) {
            if Typed::of(&text[..cut]) != Typed::Unfinished {
                // The statement before is not the one that breaks off.
                return None;
            }
            let source = SourceText::new(&text[..cut]);
            let mut script = Script::new(Arc::clone(&source));
            let mut last = None;
            while let Some(statement) = script.next_statement() {
                last = Some(statement);
            }
            if let Some(Ok(statement)) = last {
                return self.problem_of_open_names(&statement, &source);
            }
        }
        None
    }

    /// The problem of a statement that may go on: without FROM, nobody knows yet what its names are.
    fn problem_of_open_names(&self, statement: &ast::Statement, source: &Arc<SourceText>) -> Option<Error> {
        let words = crate::syntax::words(source.slice(statement.span));
        let has = |wanted: &str| words.iter().any(|word| word.eq_ignore_ascii_case(wanted));
        if has("FILE") || has("SELECT") && !has("FROM") {
            return None;
        }
        // What an expression is to be is not known before it ends; a name that there is not is wrong however it goes on.
        self.names_of(statement, source).err().filter(|error| error.sqlstate().as_str().starts_with("42S"))
    }

    /// The notes of a statement whose names are known.
    fn names_of(&self, statement: &ast::Statement, source: &Arc<SourceText>) -> Result<Vec<Note>> {
        let (catalog, files, parameters) = (self.catalog(), self.files(), Parameters::new());
        let call = Call { source, parameters: &parameters, started: Instant::now(), measured: None };
        let around = self.around(&catalog, &files, call.parameters, MissingParameters::PlanGenerically);
        let notes = match &statement.kind {
            ast::StatementKind::Query(query) => bind_query(query, source, &around).map(|bound| bound.notes),
            ast::StatementKind::Change(change) => bind_change(change, source, &around).map(|bound| bound.rows.notes),
            _ => Ok(Vec::new()),
        };
        notes.map_err(|error| error.in_source(source))
    }
}

/// Whether a statement may open a file.
fn reads_file(statement: &str) -> bool {
    crate::syntax::words(statement).iter().any(|word| word.eq_ignore_ascii_case("FILE"))
}
