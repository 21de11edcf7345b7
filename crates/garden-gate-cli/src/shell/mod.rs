//! The shell: statements and commands are typed, and what they come to is shown.

mod command;
mod editor;
mod pager;
mod piped;
mod prompt;
mod run;

use crate::args::Shell;
use crate::{CliError, Exit, interrupt, private, setup};
pub(crate) use editor::Shared;
use editor::lock;
use garden_gate::format::{FormatOptions, format_sql};
use garden_gate::{Parameters, Session};
pub(crate) use piped::typed_in;
pub(crate) use prompt::Place;
use reedline::{EditCommand, Reedline, Signal};
use run::Next;
pub(crate) use run::{Audience, Runner};
use std::io::{self, IsTerminal, Write};
use std::path::Path;
use std::sync::{Arc, Mutex};

/// How long a statement of the shell may run when nothing else is said, in milliseconds.
pub(crate) const TIME_LIMIT: i64 = 60_000;

/// How a conversation begins.
pub(crate) struct Beginning {
    pub(crate) session: Session,
    pub(crate) parameters: Parameters,
    /// What the prompt calls the database.
    pub(crate) database: String,
    /// Whether what is typed is kept for the next time.
    pub(crate) keeps_history: bool,
}

/// The shell over the tables and the database of the command line.
pub(crate) fn shell(arguments: &Shell) -> Result<Exit, CliError> {
    let mut session = setup::session(&arguments.common)?;
    if !arguments.common.set.iter().any(|setting| setting.starts_with("time_limit")) {
        limit_time(&mut session)?;
    }
    let stem = arguments.common.db.as_deref().and_then(|path| path.file_stem());
    converse(Beginning {
        session,
        parameters: setup::parameters(&arguments.common)?,
        database: stem.map_or_else(|| "garden".to_owned(), |stem| stem.to_string_lossy().into_owned()),
        keeps_history: !arguments.no_history,
    })
}

/// Bounds what a statement may take where somebody waits for it.
pub(crate) fn limit_time(session: &mut Session) -> Result<(), CliError> {
    if is_typed() {
        session.set("time_limit", TIME_LIMIT)?;
    }
    Ok(())
}

fn is_typed() -> bool {
    io::stdin().is_terminal() && io::stdout().is_terminal()
}

/// Reads statements, each up to the semicolon that ends it, and shows what they come to. Ctrl-C ends a statement that runs, or clears the
/// text typed so far. Ctrl-D runs nothing: on an empty line it leaves, and asks first when a transaction is open.
pub(crate) fn converse(beginning: Beginning) -> Result<Exit, CliError> {
    let Beginning { session, parameters, database, keeps_history } = beginning;
    let pending = interrupt::listen(session.interrupt());
    let session: Shared = Arc::new(Mutex::new(session));
    let runner = Runner::new(
        Arc::clone(&session),
        parameters,
        pending,
        if is_typed() { Audience::Typed } else { Audience::Piped },
    );
    if !is_typed() {
        return piped::run(runner);
    }
    let history = if keeps_history { private::history_file() } else { None };
    typed((&session, &database), history.as_deref(), runner)
}

/// The loop of the editor.
fn typed((session, database): (&Shared, &str), history: Option<&Path>, mut runner: Runner) -> Result<Exit, CliError> {
    let in_colour = crate::output::may_colour();
    let mut editor = match editor::editor(session, history, in_colour) {
        Ok(editor) => editor,
        Err(error) => {
            say(&format!("the history is not kept: {error}"))?;
            editor::editor(session, None, in_colour)?
        }
    };
    say("statements end with ; and help lists the commands")?;
    let mut warned = false;
    loop {
        let place = {
            let session = lock(session);
            Place::new(database, session.schema(), session.in_transaction())
        };
        match editor.read_line(&place)? {
            Signal::Success(text) => {
                warned = false;
                if runner.line(&text)? == Next::Leave && may_leave(session, &mut warned)? {
                    break;
                }
            }
            Signal::CtrlC => warned = false,
            Signal::CtrlD if may_leave(session, &mut warned)? => break,
            Signal::HostCommand(what) if what == editor::FORMAT => lay_out(&mut editor),
            _ => {}
        }
    }
    runner.leave()?;
    Ok(Exit::Success)
}

/// Whether nothing is lost by leaving, or it was said before that a transaction is.
fn may_leave(session: &Shared, warned: &mut bool) -> Result<bool, CliError> {
    if !lock(session).in_transaction() || *warned {
        return Ok(true);
    }
    *warned = true;
    say("a transaction is open: COMMIT keeps it; Ctrl-D once more undoes it and leaves")?;
    Ok(false)
}

/// Lays out the text that is being typed.
fn lay_out(editor: &mut Reedline) {
    let text = editor.current_buffer_contents().to_owned();
    let width = terminal_size::terminal_size().map_or(80, |(width, _)| usize::from(width.0).saturating_sub(12));
    if let Ok(formatted) = format_sql(&text, &FormatOptions::default().width(width.max(40))) {
        let text = formatted.text.trim_end().to_owned();
        editor.run_edit_commands(&[EditCommand::Clear, EditCommand::InsertString(text)]);
    }
}

/// A line for the person at the keyboard.
fn say(line: &str) -> Result<(), CliError> {
    Ok(writeln!(io::stderr().lock(), "{line}")?)
}
