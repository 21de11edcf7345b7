use crate::args::{Check, ReportFormat};
use crate::destination;
use crate::output::{self, Output};
use crate::{CliError, Exit, setup};
use garden_gate::inspect::{self, CheckFile, CheckReport};
use garden_gate_view::{self as view, Separated};
use std::io::Write;
use std::path::{Path, PathBuf};

/// The ending of a check file's name.
const ENDING: &str = ".check.toml";

/// Runs check files, each on a database of its own unless one is given.
pub(crate) fn check(arguments: &Check) -> Result<Exit, CliError> {
    let mut files = Vec::new();
    for path in &arguments.paths {
        find(path, &mut files)?;
    }
    if files.is_empty() {
        return Err(CliError::Usage(format!("no file that ends with {ENDING} in the folders given")));
    }
    let settings = setup::settings(&arguments.common)?;
    let mut ending = Exit::Success;
    let mut reports = Vec::new();
    for path in files {
        let report = CheckFile::read(&path).map_err(CliError::from).and_then(|file| {
            let report = file.run(&setup::database(&arguments.common)?, &settings)?;
            Ok((file, report))
        });
        let (file, report) = match report {
            Ok(found) => found,
            Err(CliError::Gate(error)) => {
                let format = (arguments.output == ReportFormat::Json).then_some(crate::args::Format::Json);
                Output::open(format, None).error(&error)?;
                ending = Exit::Failure;
                continue;
            }
            Err(trouble) => return Err(trouble),
        };
        let text = match arguments.output {
            ReportFormat::Json => view::check_json(&report),
            ReportFormat::Table => view::check_report(&report, output::look()),
        };
        write!(std::io::stdout().lock(), "{text}")?;
        if report.checks.iter().any(|check| !check.passed()) {
            ending = Exit::Failure;
        }
        if arguments.accept {
            accept(file, &report, &path)?;
        }
        reports.push(report);
    }
    if arguments.output == ReportFormat::Table {
        write!(std::io::stdout().lock(), "{}", view::check_summary(&reports, output::look()))?;
    }
    if let Some(path) = &arguments.junit {
        destination::write_whole(path, &view::check_xml(&reports))?;
    }
    Ok(ending)
}

/// The check files in a folder and those below it, by name; a file is taken whatever its name is.
fn find(path: &Path, files: &mut Vec<PathBuf>) -> Result<(), CliError> {
    if !path.is_dir() {
        files.push(path.to_owned());
        return Ok(());
    }
    let mut entries: Vec<PathBuf> =
        std::fs::read_dir(path)?.map(|entry| entry.map(|entry| entry.path())).collect::<Result<_, _>>()?;
    entries.sort();
    for entry in entries {
        if entry.is_dir() || entry.to_string_lossy().ends_with(ENDING) {
            find(&entry, files)?;
        }
    }
    Ok(())
}

/// Writes what was found into the checks whose rows or plans were not as expected.
fn accept(mut file: CheckFile, report: &CheckReport, path: &Path) -> Result<(), CliError> {
    let mut accepted = Vec::new();
    let mut changed = false;
    for check in &report.checks {
        let other_plan = check.failures.iter().any(|failure| failure.expectation == "plan");
        if let Some(plan) = check.plan.as_ref().filter(|_| other_plan && check.over.is_empty())
            && file.accept_plan(&check.name, &inspect::plan_text(plan))?
        {
            changed = true;
            accepted.push(format!("the plan of {}", check.name));
        }
        let differs = check.failures.iter().any(|failure| matches!(failure.expectation, "rows" | "row_count"));
        let Some(rows) = check.rows.as_ref().filter(|_| differs && check.over.is_empty()) else { continue };
        let text = view::separated(rows, Separated::Csv);
        let in_check = file.accept(&check.name, &text, rows.row_count())?;
        changed |= in_check;
        let rows_file = file.rows_file(&check.name);
        if let Some(rows_file) = &rows_file {
            destination::write_whole(rows_file, &text)?;
        }
        if in_check || rows_file.is_some() {
            accepted.push(check.name.clone());
        }
    }
    if changed {
        destination::write_whole(path, file.text())?;
    }
    if !accepted.is_empty() {
        writeln!(std::io::stderr().lock(), "{}: accepted {}", path.display(), accepted.join(", "))?;
    }
    Ok(())
}
