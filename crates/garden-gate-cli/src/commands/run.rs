use crate::args::Run;
use crate::interrupt::Pending;
use crate::output::Output;
use crate::script::Pieces;
use crate::{CliError, Exit, destination, interrupt, setup};
use garden_gate::{Outcome, Parameters, Session, SourceText};
use std::io::IsTerminal;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// Runs statements, each shown before the next runs.
pub(crate) fn run(arguments: &Run) -> Result<Exit, CliError> {
    destination::check(arguments.to.as_deref(), &arguments.common, &arguments.files)?;
    let mut output = Output::open(arguments.output, arguments.to.as_deref());
    output.check(arguments.to.as_deref(), arguments.output)?;
    let ending = run_into(arguments, &mut output)?;
    output.finish()?;
    Ok(ending)
}

fn run_into(arguments: &Run, output: &mut Output) -> Result<Exit, CliError> {
    let streams = arguments.files == [PathBuf::from("-")] && arguments.sql.is_empty()
        || arguments.files.is_empty() && arguments.sql.is_empty() && !std::io::stdin().is_terminal();
    let files = arguments.files.iter().map(PathBuf::as_path);
    let sources = if streams { Vec::new() } else { setup::sources(files, &arguments.sql)? };
    let parameters = setup::parameters(&arguments.common)?;
    let session = match setup::session(&arguments.common) {
        Err(CliError::Gate(error)) => {
            output.error(&error)?;
            return Ok(Exit::Failure);
        }
        session => session?,
    };
    if !streams && let Err(error) = parameters.check_used(&sources) {
        output.error(&error)?;
        return Ok(Exit::Failure);
    }
    let pending = interrupt::listen(session.interrupt());
    let mut script = Script { session, pending, output, keep_going: arguments.keep_going, ending: Exit::Success };
    if streams {
        let mut read = Vec::new();
        for source in Pieces::new(std::io::stdin().lock()) {
            let source = source?;
            let goes_on = script.run(&source, &parameters)?;
            read.push(source);
            if !goes_on {
                break;
            }
        }
        if matches!(script.ending, Exit::Success)
            && let Err(error) = parameters.check_used(&read)
        {
            script.output.error(&error)?;
            script.ending = Exit::Failure;
        }
    } else {
        for source in &sources {
            if !script.run(source, &parameters)? {
                break;
            }
        }
    }
    script.end()
}

/// A session on its way through texts.
struct Script<'o> {
    session: Session,
    pending: Pending,
    output: &'o mut Output,
    keep_going: bool,
    ending: Exit,
}

impl Script<'_> {
    /// Runs the statements of a text; whether the next text is to be run.
    fn run(&mut self, source: &Arc<SourceText>, parameters: &Parameters) -> Result<bool, CliError> {
        let own = parameters.used_in(source);
        let statements = match self.session.statements(Arc::clone(source), &own) {
            Ok(statements) => statements,
            Err(error) => {
                self.output.error(&error)?;
                self.ending = Exit::Failure;
                return Ok(false);
            }
        };
        for outcome in statements {
            self.pending.clear();
            match outcome {
                Ok(outcome) => self.output.outcome(outcome)?,
                Err(error) => {
                    self.output.error(&error)?;
                    self.ending = Exit::Failure;
                    if !self.keep_going {
                        return Ok(false);
                    }
                }
            }
        }
        Ok(true)
    }

    /// Undoes a transaction that is still open, with its note.
    fn end(mut self) -> Result<Exit, CliError> {
        if let Some(note) = self.session.roll_back() {
            self.output.outcome(Outcome::Done { what: String::new(), elapsed: Duration::ZERO, notes: vec![note] })?;
        }
        Ok(self.ending)
    }
}
