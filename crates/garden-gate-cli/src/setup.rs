//! What was typed made real: tables loaded, parameters and settings given, text read.

use crate::CliError;
use crate::args::Common;
use crate::progress;
use garden_gate::source::TableFiles;
use garden_gate::{Database, Parameters, Session, SourceText, Value};
use std::io::{IsTerminal, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// A session over the tables that `--data` names, with the settings of `--set`.
pub(crate) fn session(common: &Common) -> Result<Session, CliError> {
    let db = database(common)?;
    let folders = add_data(&db, common, Path::new(""))?;
    session_of(&db, common, &folders)
}

/// Two of them over one database; paths of data start at a folder.
pub(crate) fn two_sessions(common: &Common, start: &Path) -> Result<[Session; 2], CliError> {
    let db = database(common)?;
    let mut folders = add_data(&db, common, start)?;
    folders.extend(start.is_dir().then(|| start.to_owned()));
    Ok([session_of(&db, common, &folders)?, session_of(&db, common, &folders)?])
}

/// [`session`] for a command that only looks: the file of `--db` has to be there, and is not written to.
pub(crate) fn looking_session(common: &Common) -> Result<Session, CliError> {
    let db = match &common.db {
        Some(path) => Database::open_read_only(path, Duration::from_secs(common.wait))?,
        None => Database::in_memory(),
    };
    let folders = add_data(&db, common, Path::new(""))?;
    session_of(&db, common, &folders)
}

/// Adds the tables of `--data`, and gives the folders they are in.
fn add_data(db: &Database, common: &Common, start: &Path) -> Result<Vec<PathBuf>, CliError> {
    let files: Vec<TableFiles> = common.data.iter().map(|data| TableFiles::parse(data, start)).collect();
    files.iter().try_for_each(|files| db.add_table_files(files))?;
    Ok(files.iter().map(|files| files.folder().to_owned()).collect())
}

fn session_of(db: &Database, common: &Common, folders: &[PathBuf]) -> Result<Session, CliError> {
    if common.as_of.len() > 1 {
        return Err(CliError::Usage("--as-of is given once; compare takes two or more with one query".into()));
    }
    let mut session = db.session();
    // The process runs one statement at a time: what it grows by is the statement's.
    session.measure_memory_by(|| crate::ALLOCATOR.allocated());
    for folder in std::iter::once(Path::new(".")).chain(folders.iter().map(PathBuf::as_path)) {
        session.allow_folder(folder)?;
        session.allow_writing(folder)?;
    }
    if let Ok(user) = std::env::var("USER").or_else(|_| std::env::var("LOGNAME")) {
        session.set_user(user);
    }
    if common.read_only {
        session.set_read_only(true);
    }
    if std::io::stderr().is_terminal() {
        progress::show(&mut session);
    }
    for (name, value) in settings(common)? {
        session.set(&name, value)?;
    }
    if let [moment] = common.as_of.as_slice() {
        session.read_as_of(Some(moment))?;
    }
    Ok(session)
}

/// The database of `--db`, or an empty one.
pub(crate) fn database(common: &Common) -> Result<Database, CliError> {
    Ok(match &common.db {
        Some(path) if common.read_only => Database::open_read_only(path, Duration::from_secs(common.wait))?,
        Some(path) => Database::open_waiting(path, Duration::from_secs(common.wait))?,
        None => Database::in_memory(),
    })
}

/// The settings of `--set`.
pub(crate) fn settings(common: &Common) -> Result<Vec<(String, Value)>, CliError> {
    let pairs = pairs(&common.set, "--set")?;
    Ok(pairs.into_iter().map(|(name, value)| (name.to_owned(), Value::Untyped(value.to_owned()))).collect())
}

/// The values of `--param`.
pub(crate) fn parameters(common: &Common) -> Result<Parameters, CliError> {
    let mut parameters = Parameters::new();
    for (name, value) in pairs(&common.param, "--param")? {
        let value = match value {
            "" => Value::Null,
            "''" => Value::Untyped(String::new()),
            text => Value::Untyped(text.to_owned()),
        };
        parameters = parameters.set(name.trim_start_matches(':'), value);
    }
    Ok(parameters)
}

/// The names and values of an option that takes NAME=VALUE.
pub(crate) fn pairs<'a>(texts: &'a [String], option: &str) -> Result<Vec<(&'a str, &'a str)>, CliError> {
    let split = |text: &'a String| match text.split_once('=') {
        Some((name, value)) if !name.is_empty() => Ok((name, value)),
        _ => Err(CliError::Usage(format!("{option} takes NAME=VALUE, {text:?} is none"))),
    };
    texts.iter().map(split).collect()
}

/// The texts to run: files first, then those of `-e`; standard input when there is neither and it is not a terminal.
pub(crate) fn sources<'a>(
    files: impl IntoIterator<Item = &'a Path>,
    sql: impl IntoIterator<Item = &'a String>,
) -> Result<Vec<Arc<SourceText>>, CliError> {
    let mut sources = files.into_iter().map(read).collect::<Result<Vec<_>, _>>()?;
    sources.extend(sql.into_iter().map(SourceText::new));
    if sources.is_empty() {
        if std::io::stdin().is_terminal() {
            return Err(CliError::Usage("nothing to run: give a FILE or -e SQL".into()));
        }
        sources.push(read(Path::new("-"))?);
    }
    Ok(sources)
}

/// The one text that a command takes.
pub(crate) fn source(command: &str, file: Option<&Path>, sql: Option<&String>) -> Result<Arc<SourceText>, CliError> {
    if file.is_some() && sql.is_some() {
        return Err(CliError::Usage(format!("{command} takes one FILE or one -e SQL, not both")));
    }
    let mut sources = sources(file, sql)?;
    sources.pop().ok_or_else(|| CliError::Usage(format!("{command} takes one FILE or one -e SQL")))
}

fn read(path: &Path) -> Result<Arc<SourceText>, CliError> {
    let mut bytes = Vec::new();
    let name = path.display().to_string();
    if name == "-" {
        std::io::stdin().lock().read_to_end(&mut bytes)?;
    } else {
        bytes = std::fs::read(path).map_err(|error| {
            CliError::Io(std::io::Error::new(error.kind(), format!("{name} cannot be read: {error}")))
        })?;
    }
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").map_or(bytes.clone(), <[u8]>::to_vec);
    let text = String::from_utf8(bytes).map_err(|_| {
        CliError::Io(std::io::Error::new(std::io::ErrorKind::InvalidData, format!("{name} is not UTF-8 text")))
    })?;
    Ok(if name == "-" { SourceText::new(text) } else { SourceText::named(name, text) })
}
