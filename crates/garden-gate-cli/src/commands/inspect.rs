//! The commands that ask questions of queries by running them.

use crate::args::{Common, Compare, Format, ReportFormat, Steps, Sweep, SweepFormat};
use crate::destination::{self, Destination};
use crate::output::{self, Output};
use crate::{CliError, Exit, interrupt, setup};
use garden_gate::{
    Parameters, Session,
    inspect::{CompareOptions, StepOptions, SweepOptions},
};
use garden_gate_view as view;
use std::io::Write;
use std::path::Path;

/// Shows the rows of each step of a query.
pub(crate) fn steps(arguments: &Steps) -> Result<Exit, CliError> {
    let source = setup::source("steps", arguments.file.as_deref(), arguments.sql.as_ref())?;
    let mut options = StepOptions::default();
    options.clauses = arguments.clauses;
    options.only.clone_from(&arguments.only);
    asked(&arguments.common, arguments.output, |session, parameters| {
        let steps = session.steps_with(&source, parameters, &options)?;
        Ok(match arguments.output {
            ReportFormat::Json => (view::steps_json(&steps, arguments.sample), Exit::Success),
            ReportFormat::Table => (view::steps(&steps, arguments.sample, output::look()), Exit::Success),
        })
    })
}

/// Compares queries.
pub(crate) fn compare(arguments: &Compare) -> Result<Exit, CliError> {
    let files = arguments.files.iter().map(std::path::PathBuf::as_path);
    let sources = setup::sources(files, &arguments.sql)?;
    let moments = match arguments.common.as_of.as_slice() {
        [] | [_] => Vec::new(),
        several if sources.len() == 1 => several.to_vec(),
        _ => return Err(CliError::Usage("compare takes several --as-of with one query".into())),
    };
    if sources.len() < 2 && moments.is_empty() {
        return Err(CliError::Usage(
            "compare takes two queries or more: files, or -e SQL; or one with two --as-of".into(),
        ));
    }
    let mut options = CompareOptions::default();
    let mut common = arguments.common.clone();
    if !moments.is_empty() {
        common.as_of.clear();
        options.as_of = moments;
    }
    options.ordered = arguments.ordered;
    options.runs = arguments.runs.max(1);
    asked(&common, arguments.output, |session, parameters| {
        let found = session.compare_with(&sources, parameters, &options)?;
        let alike = found.same_rows && (found.same_plan || !arguments.same_plan);
        let ending = if alike { Exit::Success } else { Exit::Failure };
        Ok(match arguments.output {
            ReportFormat::Json => (view::comparison_json(&found), ending),
            ReportFormat::Table => (view::comparison(&found, output::look()), ending),
        })
    })
}

/// Sweeps a query over values of its parameters.
pub(crate) fn sweep(arguments: &Sweep) -> Result<Exit, CliError> {
    destination::check(arguments.to.as_deref(), &arguments.common, arguments.file.as_slice())?;
    let source = setup::source("sweep", arguments.file.as_deref(), arguments.sql.as_ref())?;
    let pairs = setup::pairs(&arguments.over, "--over")?;
    let format = if arguments.output == SweepFormat::Json { ReportFormat::Json } else { ReportFormat::Table };
    let to = arguments.to.as_deref();
    asked_to(&arguments.common, (format, to), |session, parameters| {
        let over = pairs
            .iter()
            .map(|(name, values)| Ok((name.trim_start_matches(':').to_owned(), session.values_of(values)?)))
            .collect::<garden_gate::Result<Vec<_>>>()?;
        let mut options = SweepOptions::default();
        options.fixed_plans = arguments.fixed_plan;
        let found = session.sweep_with(&source, parameters, &over, &options)?;
        let look = if to.is_some() { view::Look::plain() } else { output::look() };
        Ok(match arguments.output {
            SweepFormat::Json => (view::sweep_json(&found), Exit::Success),
            SweepFormat::Table => (view::sweep(&found, look), Exit::Success),
            SweepFormat::Svg => (view::sweep_svg(&found), Exit::Success),
        })
    })
}

/// [`asked_to`] for standard output.
fn asked(
    common: &Common,
    format: ReportFormat,
    ask: impl FnOnce(&mut Session, &Parameters) -> garden_gate::Result<(String, Exit)>,
) -> Result<Exit, CliError> {
    asked_to(common, (format, None), ask)
}

/// Opens a session, asks it, and writes the answer or the error in the wanted format.
fn asked_to(
    common: &Common,
    (format, to): (ReportFormat, Option<&Path>),
    ask: impl FnOnce(&mut Session, &Parameters) -> garden_gate::Result<(String, Exit)>,
) -> Result<Exit, CliError> {
    let parameters = setup::parameters(common)?;
    let answer = setup::session(common).and_then(|mut session| {
        interrupt::listen(session.interrupt());
        Ok(ask(&mut session, &parameters)?)
    });
    match answer {
        Ok((text, ending)) => {
            let mut writer = Destination::of(to);
            writer.write_all(text.as_bytes())?;
            writer.finish()?;
            Ok(ending)
        }
        Err(CliError::Gate(error)) => {
            let format = (format == ReportFormat::Json).then_some(Format::Json);
            Output::open(format, None).error(&error)?;
            Ok(Exit::Failure)
        }
        Err(trouble) => Err(trouble),
    }
}
