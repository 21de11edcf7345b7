use crate::args::Shell;
use crate::output::{self, Output};
use crate::{Ending, Trouble, interrupt, setup};
use garden_gate::{Parameters, SourceText};
use rustyline::error::ReadlineError;
use rustyline::{Config, DefaultEditor};
use std::io;

/// Reads statements, each up to a line that ends with a semicolon, and shows what they come to. Ctrl-C ends a statement that runs,
/// or forgets the text typed so far; the end of input leaves.
pub(crate) fn shell(arguments: &Shell) -> Result<Ending, Trouble> {
    let mut session = setup::session(&arguments.common)?;
    let given = setup::parameters(&arguments.common)?;
    let pending = interrupt::listen(session.interrupt());
    let failed = |error: ReadlineError| Trouble::Io(io::Error::other(error));
    let config = Config::builder().auto_add_history(true).build();
    let mut editor = DefaultEditor::with_config(config).map_err(failed)?;
    let mut output = Output::table(output::look());
    let mut text = String::new();
    loop {
        let prompt = if text.is_empty() { "garden> " } else { "   ...> " };
        match editor.readline(prompt) {
            Ok(line) => {
                text.push_str(&line);
                text.push('\n');
            }
            Err(ReadlineError::Interrupted) => {
                text.clear();
                continue;
            }
            Err(ReadlineError::Eof) if text.trim().is_empty() => return Ok(Ending::Success),
            Err(ReadlineError::Eof) => text.push(';'),
            Err(error) => return Err(failed(error)),
        }
        if !text.trim_end().ends_with(';') {
            continue;
        }
        let source = SourceText::new(std::mem::take(&mut text));
        let parameters: Parameters = given.used_in(&source);
        match session.statements(source, &parameters) {
            Ok(statements) => {
                for outcome in statements {
                    pending.clear();
                    match outcome {
                        Ok(outcome) => output.outcome(outcome)?,
                        Err(error) => output.error(&error)?,
                    }
                }
            }
            Err(error) => output.error(&error)?,
        }
    }
}
