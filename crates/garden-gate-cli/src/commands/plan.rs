use crate::args::{Plan, PlanFormat};
use crate::destination::{self, Destination};
use crate::output::{self, Output};
use crate::{CliError, Exit, interrupt, setup};
use garden_gate_view as view;
use std::io::Write;

/// Shows a plan, measured if wished.
pub(crate) fn plan(arguments: &Plan) -> Result<Exit, CliError> {
    destination::check(arguments.to.as_deref(), &arguments.common, arguments.file.as_slice())?;
    let format = match (arguments.output, arguments.to.as_deref()) {
        (Some(format), _) => format,
        (None, None) => PlanFormat::Tree,
        (None, Some(path)) => {
            PlanFormat::of_ending(path).ok_or_else(|| output::unknown_ending(path, "txt, json, dot, svg or html"))?
        }
    };
    let source = &setup::source("plan", arguments.file.as_deref(), arguments.sql.as_ref())?;
    let parameters = setup::parameters(&arguments.common)?;
    let planned = setup::session(&arguments.common).and_then(|mut session| {
        interrupt::listen(session.interrupt());
        if arguments.measure {
            let (rows, plan) = session.measure(source, &parameters)?;
            Ok((Some(rows), plan))
        } else {
            Ok((None, session.plan(source, &parameters)?))
        }
    });
    let (rows, plan) = match planned {
        Ok(planned) => planned,
        Err(CliError::Gate(error)) => {
            let format = (format == PlanFormat::Json).then_some(crate::args::Format::Json);
            let mut output = Output::open(format, arguments.to.as_deref());
            output.error(&error)?;
            output.finish()?;
            return Ok(Exit::Failure);
        }
        Err(trouble) => return Err(trouble),
    };
    let look = if arguments.to.is_some() { view::Look::plain() } else { output::look() };
    let mut writer = Destination::of(arguments.to.as_deref());
    match format {
        PlanFormat::Json => write!(writer, "{}", view::plan_json(&plan))?,
        PlanFormat::Dot => write!(writer, "{}", view::plan_dot(&plan))?,
        PlanFormat::Svg => write!(writer, "{}", view::plan_svg(&plan))?,
        PlanFormat::Html => {
            let report = view::PlanReport { sql: source.text(), plan: &plan, rows: rows.as_ref() };
            write!(writer, "{}", view::plan_html(&report))?;
        }
        PlanFormat::Tree => {
            write!(writer, "{}", view::plan_tree(&plan, look))?;
            if arguments.rewrites {
                write!(writer, "\n{}", view::rewrites(&plan.rewrites, look))?;
            }
            if arguments.considered {
                write!(writer, "\n{}", view::considered(&plan.considered, look))?;
            }
        }
    }
    writer.finish()?;
    if format == PlanFormat::Tree {
        for note in &plan.notes {
            write!(std::io::stderr().lock(), "{}", view::note(note, output::error_look()))?;
        }
    }
    Ok(Exit::Success)
}
