//! What statements and commands come to.

use super::command::{COMMANDS, Command, Line, Saved};
use super::editor::{Shared, lock};
use crate::interrupt::Pending;
use crate::output::{self, Output};
use crate::{CliError, Exit};
use garden_gate::inspect::{CompareOptions, StepOptions};
use garden_gate::source::NewFile;
use garden_gate::typing::{OutlineKind, outline};
use garden_gate::{Error, Outcome, Parameters, ResultSet, SourceText};
use garden_gate_view as view;
use std::io::{self, Write};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

/// Rows of a result that are shown at once where somebody reads them.
const MOST_ROWS: usize = 200;
/// Lines of a table before its rows.
const HEAD: usize = 2;
/// Rows of a step that are shown.
const STEP_ROWS: usize = 10;

/// Who reads what statements come to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Audience {
    /// A person who types: of many rows the first are shown.
    Typed,
    /// A person who is shown what could be typed: all in one text.
    Shown,
    /// A program.
    Piped,
}

/// Whether the shell goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Next {
    Line,
    Leave,
}

/// Runs lines, and remembers what they came to.
pub(crate) struct Runner {
    session: Shared,
    given: Parameters,
    pending: Pending,
    output: Output,
    audience: Audience,
    /// The text of the last statement that can be planned.
    query: Option<String>,
    /// The rows of the last query.
    rows: Option<ResultSet>,
    /// What has run.
    script: String,
    has_failed: bool,
    /// Whether queries show their plan beside their rows.
    is_beside: bool,
}

impl Runner {
    /// Runs lines in a session.
    pub(crate) fn new(session: Shared, given: Parameters, pending: Pending, audience: Audience) -> Self {
        let output = Output::table(output::look());
        let output = if audience == Audience::Shown { output.with_errors() } else { output };
        let (query, rows, script) = (None, None, String::new());
        Self { session, given, pending, output, audience, query, rows, script, has_failed: false, is_beside: false }
    }

    /// Runs what was typed.
    pub(crate) fn line(&mut self, text: &str) -> Result<Next, CliError> {
        if self.audience != Audience::Piped {
            // What was typed stands between this and what was written before.
            self.output.begin();
        }
        match Line::of(text) {
            Line::Sql => self.statements(text)?,
            Line::Command(Command::Leave) => return Ok(Next::Leave),
            Line::Command(command) => self.command(command)?,
            Line::Wrong(form) => self.refuse(&format!("it is written: {form}"))?,
            Line::Unknown { word, near } => {
                let near = near.map_or_else(String::new, |near| format!("did you mean {near}? "));
                self.refuse(&format!("{word} is neither a command nor a statement: {near}help lists the commands"))?;
            }
        }
        Ok(Next::Line)
    }

    fn is_typed(&self) -> bool {
        self.audience == Audience::Typed
    }

    /// Notes that something failed.
    pub(super) fn fail(&mut self) {
        self.has_failed = true;
    }

    /// The exit status of all so far.
    pub(super) fn ending(&self) -> Exit {
        if self.has_failed { Exit::Failure } else { Exit::Success }
    }

    /// Undoes an open transaction, with its note.
    pub(super) fn leave(&mut self) -> Result<(), CliError> {
        let note = lock(&self.session).roll_back();
        match note {
            Some(note) => {
                let (what, elapsed) = (String::new(), Duration::ZERO);
                self.output.outcome(Outcome::Done { what, elapsed, notes: vec![note] })
            }
            None => Ok(()),
        }
    }

    fn refuse(&mut self, what: &str) -> Result<(), CliError> {
        self.has_failed = true;
        super::say(what)
    }

    fn statements(&mut self, text: &str) -> Result<(), CliError> {
        let source = SourceText::new(text);
        let parameters = self.given.used_in(&source);
        if self.is_beside && matches!(outline(text).as_slice(), [only] if only.kind == OutlineKind::Query) {
            return self.rows_and_plan(text, &source, &parameters);
        }
        let session = Arc::clone(&self.session);
        let mut session = lock(&session);
        let statements = match session.statements(Arc::clone(&source), &parameters) {
            Ok(statements) => statements,
            Err(error) => return self.error(&error),
        };
        let mut has_run = false;
        for outcome in statements {
            self.pending.clear();
            match outcome {
                Ok(outcome) => {
                    has_run = true;
                    self.outcome(outcome)?;
                }
                Err(error) => self.error(&error)?,
            }
        }
        self.keep(text, has_run);
        Ok(())
    }

    /// Remembers a text, and that it has run.
    fn keep(&mut self, text: &str, has_run: bool) {
        self.query = Some(text.trim().to_owned()).filter(|text| !text.is_empty());
        if has_run {
            self.script.push_str(text.trim());
            self.script.push('\n');
        }
    }

    /// Runs a query, and shows its rows with what its plan did beside them.
    fn rows_and_plan(&mut self, text: &str, source: &Arc<SourceText>, parameters: &Parameters) -> Result<(), CliError> {
        self.pending.clear();
        let measured = lock(&self.session).measure(source, parameters.clone());
        self.keep(text, measured.is_ok());
        let (rows, plan) = match measured {
            Ok(measured) => measured,
            Err(error) => return self.error(&error),
        };
        let most = if self.is_typed() { MOST_ROWS } else { usize::MAX };
        show(&view::rows_beside_plan(&rows, most, &plan, output::look()))?;
        self.output.notes(rows.notes())?;
        let all = rows.row_count();
        self.rows = Some(rows);
        if all > most { say_cut(all) } else { Ok(()) }
    }

    fn error(&mut self, error: &Error) -> Result<(), CliError> {
        self.has_failed = true;
        self.output.error(error)
    }

    /// Shows what a statement came to; of many rows the first ones, where somebody reads them.
    fn outcome(&mut self, outcome: Outcome) -> Result<(), CliError> {
        let Outcome::Rows(rows) = outcome else { return self.output.outcome(outcome) };
        let all = rows.row_count();
        self.rows = Some(rows.clone());
        if !self.is_typed() || all <= MOST_ROWS {
            return self.output.outcome(Outcome::Rows(rows));
        }
        self.output.outcome(Outcome::Rows(rows.first(MOST_ROWS)))?;
        say_cut(all)
    }

    fn command(&mut self, command: Command) -> Result<(), CliError> {
        match command {
            Command::Help => show(&help()),
            Command::Leave => Ok(()),
            Command::Plan { measure, sql } => self.ask(sql, |session, source, parameters| {
                let plan =
                    if measure { session.measure(source, parameters)?.1 } else { session.plan(source, parameters)? };
                Ok(view::plan_tree(&plan, output::look()))
            }),
            Command::Beside(beside) => {
                self.is_beside = beside;
                Ok(())
            }
            Command::Steps(sql) => self.steps(sql, None),
            Command::RunStep(name) => self.steps(None, Some(name)),
            Command::Compare(other) => self.ask(None, |session, source, parameters| {
                let sources = [Arc::clone(source), SourceText::new(other.as_str())];
                let found = session.compare_with(&sources, parameters, &CompareOptions::default())?;
                Ok(view::comparison(&found, output::look()))
            }),
            Command::Describe(table) => {
                let tables = lock(&self.session).describe(table.as_deref());
                match tables {
                    Ok(tables) if table.is_some() => {
                        tables.iter().try_for_each(|table| show(&view::describe(table, output::look())))
                    }
                    Ok(tables) => show(&view::tables(&tables, output::look())),
                    Err(error) => self.error(&error),
                }
            }
            Command::Page => match self.rows.clone() {
                Some(rows) => page(&rows, self.is_typed()),
                None => self.refuse("there is no result yet"),
            },
            Command::Save { what, path } => self.save(what, Path::new(&path)),
        }
    }

    fn steps(&mut self, sql: Option<String>, only: Option<String>) -> Result<(), CliError> {
        self.ask(sql, |session, source, parameters| {
            let rows = if only.is_none() { STEP_ROWS } else { MOST_ROWS };
            let mut options = StepOptions::default();
            options.only = only;
            let steps = session.steps_with(source, parameters, &options)?;
            Ok(view::steps(&steps, rows, output::look()))
        })
    }

    /// Asks the session about a statement, or about the one before, and shows the answer.
    fn ask(
        &mut self,
        sql: Option<String>,
        ask: impl FnOnce(&mut garden_gate::Session, &Arc<SourceText>, &Parameters) -> garden_gate::Result<String>,
    ) -> Result<(), CliError> {
        let Some(text) = sql.or_else(|| self.query.clone()) else {
            return self.refuse("there is no statement before; write one after the command");
        };
        let source = SourceText::new(text.as_str());
        let parameters = self.given.used_in(&source);
        self.pending.clear();
        let answer = ask(&mut lock(&self.session), &source, &parameters);
        self.query = Some(text);
        match answer {
            Ok(text) => show(&text),
            Err(error) => self.error(&error),
        }
    }

    fn save(&mut self, what: Saved, path: &Path) -> Result<(), CliError> {
        let is_script = path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("sql"));
        let text = match what {
            Saved::Session => Some(self.script.clone()),
            Saved::Query => self.query.clone().map(|query| query + "\n"),
            Saved::Result if is_script => self.query.clone().map(|query| query + "\n"),
            Saved::Result => None,
        };
        let saved = match (text, &self.rows) {
            (Some(text), _) => write_file(path, &text),
            (None, Some(rows)) if what == Saved::Result => save_rows(rows, path),
            (None, _) => return self.refuse("there is nothing to save yet"),
        };
        match saved {
            Ok(()) => super::say(&format!("{} is written", path.display())),
            Err(CliError::Usage(message)) => self.refuse(&message),
            Err(CliError::Io(error)) => self.refuse(&format!("{} cannot be written: {error}", path.display())),
            Err(CliError::Gate(error)) => self.error(&error),
        }
    }
}

/// Says that only the first rows were shown.
fn say_cut(all: usize) -> Result<(), CliError> {
    super::say(&format!("the first {MOST_ROWS} of {all} rows; page shows them all, save as rows.csv keeps them"))
}

fn show(text: &str) -> Result<(), CliError> {
    let mut out = io::stdout().lock();
    out.write_all(text.as_bytes())?;
    Ok(out.flush()?)
}

fn help() -> String {
    let width = COMMANDS.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
    let lines = COMMANDS.iter().map(|(name, what)| format!("  {name:width$}  {what}\n"));
    let keys = [
        ("Tab", "completions; Right takes the hint"),
        ("Alt-Enter", "a new line; Up and Down move between the lines, then through what was typed before"),
        ("Ctrl-R", "search what was typed before; a statement that begins with a blank is not kept"),
        ("F2", "lay out the text; Ctrl-O edits it in $VISUAL or $EDITOR"),
        ("Ctrl-C", "end what runs, or clear the text"),
    ];
    let keys = keys.iter().map(|(key, what)| format!("  {key:width$}  {what}\n"));
    format!("statements of SQL end with ;\n{}\n{}", lines.collect::<String>(), keys.collect::<String>())
}

fn write_file(path: &Path, text: &str) -> Result<(), CliError> {
    let made = NewFile::create(path)?;
    made.writer()?.write_all(text.as_bytes())?;
    Ok(made.finish()?)
}

fn save_rows(rows: &ResultSet, path: &Path) -> Result<(), CliError> {
    let mut output = Output::open(None, Some(path));
    output.check(Some(path), None)?;
    output.outcome(Outcome::Rows(rows.clone()))?;
    output.finish()
}

/// Rows in the pager that the environment names, or in ours; all of them, where nobody is there to turn pages.
fn page(rows: &ResultSet, is_typed: bool) -> Result<(), CliError> {
    let text = view::table(rows, view::Look::plain());
    if !is_typed {
        return show(&text);
    }
    let pager = std::env::var("PAGER").ok().filter(|pager| !pager.is_empty());
    let Some(pager) = pager else { return Ok(super::pager::page(&text, HEAD)?) };
    let mut words = pager.split_whitespace();
    let Some(program) = words.next() else { return Ok(super::pager::page(&text, HEAD)?) };
    let started = std::process::Command::new(program).args(words).stdin(std::process::Stdio::piped()).spawn();
    let unstarted =
        |error: io::Error| io::Error::new(error.kind(), format!("the pager {program} cannot be started: {error}"));
    let mut child = started.map_err(unstarted)?;
    if let Some(mut input) = child.stdin.take() {
        // A pager that is left early takes no more.
        let _ = input.write_all(text.as_bytes());
    }
    child.wait()?;
    Ok(())
}
