use crate::args::{FormatFiles, Letters};
use crate::{CliError, Exit, output};
use garden_gate::Error;
use garden_gate::format::{FormatOptions, KeywordCase, format_sql};
use garden_gate::source::NewFile;
use std::io::{self, Read, Write};
use std::path::Path;

/// Lays out files, or standard input. A statement that cannot be read stays as it is, and is reported.
pub(crate) fn format(arguments: &FormatFiles) -> Result<Exit, CliError> {
    let keywords = match arguments.keywords {
        Letters::Upper => KeywordCase::Upper,
        Letters::Lower => KeywordCase::Lower,
        Letters::Keep => KeywordCase::Keep,
    };
    let options = FormatOptions::default().width(arguments.width.into()).keywords(keywords);
    let standard = [Path::new("-").to_owned()];
    let files = if arguments.files.is_empty() { &standard[..] } else { &arguments.files };
    let mut outcome = Exit::Success;
    for path in files {
        let before = text_of(path)?;
        let named = |error: Error| if is_standard(path) { error } else { error.in_file(path, None) };
        let formatted = format_sql(&before, &options).map_err(named)?;
        for problem in formatted.problems {
            outcome = Exit::Failure;
            write!(io::stderr().lock(), "{}", garden_gate_view::error(&named(problem), output::error_look()))?;
        }
        if arguments.check && formatted.text != before {
            outcome = Exit::Failure;
            writeln!(io::stdout().lock(), "{} would change", path.display())?;
        } else if arguments.in_place && formatted.text != before && !is_standard(path) {
            replace(path, &formatted.text)?;
        } else if !arguments.check && !arguments.in_place {
            io::stdout().lock().write_all(formatted.text.as_bytes())?;
        }
    }
    Ok(outcome)
}

fn is_standard(path: &Path) -> bool {
    path == Path::new("-")
}

fn text_of(path: &Path) -> Result<String, CliError> {
    if is_standard(path) {
        let mut text = String::new();
        io::stdin().lock().read_to_string(&mut text)?;
        return Ok(text);
    }
    let unreadable =
        |error: io::Error| io::Error::new(error.kind(), format!("{} cannot be read: {error}", path.display()));
    Ok(std::fs::read_to_string(path).map_err(unreadable)?)
}

/// The file has all of the new text, or stays as it was.
fn replace(path: &Path, text: &str) -> Result<(), CliError> {
    let unwritable =
        |error: io::Error| io::Error::new(error.kind(), format!("{} cannot be written: {error}", path.display()));
    let made = NewFile::create(path).map_err(unwritable)?;
    made.writer().and_then(|mut out| out.write_all(text.as_bytes())).map_err(unwritable)?;
    Ok(made.finish().map_err(unwritable)?)
}
