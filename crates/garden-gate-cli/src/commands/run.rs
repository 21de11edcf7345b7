use crate::args::Run;
use crate::output::Output;
use crate::{Ending, Trouble, interrupt, setup};

/// Runs statements, each shown before the next runs.
pub(crate) fn run(arguments: &Run) -> Result<Ending, Trouble> {
    let files = arguments.files.iter().map(std::path::PathBuf::as_path);
    let sources = setup::sources(files, &arguments.sql)?;
    let parameters = setup::parameters(&arguments.common)?;
    let mut output = Output::open(arguments.output, arguments.to.as_deref());
    output.check(arguments.to.as_deref())?;
    let mut session = match setup::session(&arguments.common) {
        Err(Trouble::Gate(error)) => {
            output.error(&error)?;
            return Ok(Ending::Failure);
        }
        session => session?,
    };
    let pending = interrupt::listen(session.interrupt());
    let mut ending = Ending::Success;
    if let Err(error) = parameters.check_used(&sources) {
        output.error(&error)?;
        return Ok(Ending::Failure);
    }
    for source in &sources {
        let own = parameters.used_in(source);
        let statements = match session.statements(source.clone(), &own) {
            Ok(statements) => statements,
            Err(error) => {
                output.error(&error)?;
                return Ok(Ending::Failure);
            }
        };
        for outcome in statements {
            pending.clear();
            match outcome {
                Ok(outcome) => output.outcome(outcome)?,
                Err(error) => {
                    output.error(&error)?;
                    ending = Ending::Failure;
                    if !arguments.keep_going {
                        return Ok(ending);
                    }
                }
            }
        }
    }
    if let Some(note) = session.roll_back() {
        output.outcome(garden_gate::Outcome::Done { elapsed: std::time::Duration::ZERO, notes: vec![note] })?;
    }
    Ok(ending)
}
