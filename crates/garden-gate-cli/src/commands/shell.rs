use crate::args::Shell;
use crate::output::{self, Output};
use crate::{CliError, Exit, interrupt, setup};
use garden_gate::{Outcome, Parameters, Session, SourceText, value::Typed};
use rustyline::error::ReadlineError;
use rustyline::{Config, DefaultEditor};
use std::io::{self, IsTerminal, Write};
use std::time::Duration;

const PROMPT: &str = "garden> ";
/// Before each further line of a statement.
const MORE: &str = "     ~> ";

/// Reads statements, each up to the semicolon that ends it, and shows what they come to. Ctrl-C ends a statement that runs, or forgets
/// the text typed so far. The end of input runs nothing: it forgets an unfinished statement, and undoes an open transaction, saying so.
pub(crate) fn shell(arguments: &Shell) -> Result<Exit, CliError> {
    let mut session = setup::session(&arguments.common)?;
    let given = setup::parameters(&arguments.common)?;
    let pending = interrupt::listen(session.interrupt());
    let failed = |error: ReadlineError| CliError::Io(io::Error::other(error));
    let config = Config::builder().auto_add_history(true).build();
    let mut editor = DefaultEditor::with_config(config).map_err(failed)?;
    let mut output = Output::table(output::look());
    let mut text = String::new();
    let mut warned = false;
    // A script that is piped in has failed when a statement has.
    let mut ending = Exit::Success;
    loop {
        let prompt = if text.is_empty() { PROMPT } else { MORE };
        match editor.readline(prompt) {
            Ok(line) => {
                text.push_str(&line);
                text.push('\n');
                warned = false;
            }
            Err(ReadlineError::Interrupted) => {
                text.clear();
                continue;
            }
            Err(ReadlineError::Eof) if Typed::of(&text) == Typed::Unfinished => {
                text.clear();
                say("not run: the statement has no ; at its end")?;
                if !io::stdin().is_terminal() {
                    leave(&mut session, &mut output)?;
                    return Ok(Exit::Failure);
                }
                continue;
            }
            Err(ReadlineError::Eof) if session.in_transaction() && io::stdin().is_terminal() && !warned => {
                say("a transaction is open: COMMIT keeps it; Ctrl-D once more undoes it and leaves")?;
                text.clear();
                warned = true;
                continue;
            }
            Err(ReadlineError::Eof) => {
                leave(&mut session, &mut output)?;
                return Ok(if io::stdin().is_terminal() { Exit::Success } else { ending });
            }
            Err(error) => return Err(failed(error)),
        }
        match Typed::of(&text) {
            Typed::Finished => {}
            Typed::Nothing => {
                text.clear();
                continue;
            }
            _ => continue,
        }
        let source = SourceText::new(std::mem::take(&mut text));
        let parameters: Parameters = given.used_in(&source);
        match session.statements(source, &parameters) {
            Ok(statements) => {
                for outcome in statements {
                    pending.clear();
                    match outcome {
                        Ok(outcome) => output.outcome(outcome)?,
                        Err(error) => {
                            output.error(&error)?;
                            ending = Exit::Failure;
                        }
                    }
                }
            }
            Err(error) => {
                output.error(&error)?;
                ending = Exit::Failure;
            }
        }
    }
}

/// A line for the person at the keyboard.
fn say(line: &str) -> Result<(), CliError> {
    Ok(writeln!(io::stderr().lock(), "{line}")?)
}

/// Undoes an open transaction, with its note.
fn leave(session: &mut Session, output: &mut Output) -> Result<(), CliError> {
    match session.roll_back() {
        Some(note) => output.outcome(Outcome::Done { what: String::new(), elapsed: Duration::ZERO, notes: vec![note] }),
        None => Ok(()),
    }
}
