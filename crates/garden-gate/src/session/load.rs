//! `INSERT INTO t FROM FILE`: the rows come in runs, each of which is inserted as a query would insert it. Bad rows are told apart,
//! counted, and written to a file when that is wanted.

use super::change::{Changed, stored};
use super::files::Files;
use super::session::Call;
use super::{Outcome, Progress, ResultSet, Session};
use crate::bind::{MissingParameters, OpenFile, bind_change};
use crate::catalog::{Catalog, Column, FileOptions, Segment, TableDefinition, TableSource};
use crate::diagnostic::{Error, Note, Result, SqlState};
use crate::file::{BadRow, Loaded, Loader, Writer};
use crate::storage::MemoryTable;
use crate::syntax::ast;
use crate::types::{SqlType, Value};
use std::collections::VecDeque;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::Receiver;

/// Bad rows that a note names.
const NAMED_LINES: usize = 5;

/// The file of an INSERT.
#[derive(Clone, Copy)]
pub(super) struct FromFile<'a> {
    pub(super) path: &'a str,
    pub(super) options: &'a FileOptions,
    pub(super) span: crate::diagnostic::Span,
}

/// The rows of the file that are still to come.
struct Source {
    path: PathBuf,
    kind: Kind,
    columns: Vec<Column>,
    waiting: VecDeque<LoadedRows>,
    rows_read: u64,
    /// Whether all rows are inserted together.
    whole: bool,
    /// The schema and the name of the table that the rows go into.
    target: (String, String),
}

enum Kind {
    Text(Box<TextRows>),
    /// A file whose columns have types, as it is read whole.
    Typed,
}

/// Rows of the file, all or some of those read together.
#[derive(Clone)]
struct LoadedRows {
    columns: Vec<arrow::array::ArrayRef>,
    rows: usize,
    /// The number of the first row among those read with it, and where they all stand.
    first: usize,
    from: Arc<RowOrigin>,
}

/// Where rows were read.
enum RowOrigin {
    Text(Loaded),
    /// The number of the first of them in the file, from 1.
    Typed(u64),
}

impl RowOrigin {
    fn bad_row(&self, row: usize, error: &Error) -> BadRow {
        let (state, reason) = (error.sqlstate(), error.message().to_owned());
        match self {
            Self::Text(loaded) => {
                let line = loaded.places.get(row).map_or(0, |place| place.line);
                BadRow { line, column: None, state, reason, text: loaded.row_text(row) }
            }
            Self::Typed(first) => BadRow { line: first + row as u64, column: None, state, reason, text: String::new() },
        }
    }
}

impl LoadedRows {
    fn slice(&self, offset: usize, rows: usize) -> Self {
        let columns = self.columns.iter().map(|column| column.slice(offset, rows)).collect();
        Self { columns, rows, first: self.first + offset, from: Arc::clone(&self.from) }
    }
}

/// What a load came to so far.
struct Report {
    limit: u64,
    bad: Vec<BadRow>,
    affected: u64,
    returned: Option<ResultSet>,
    notes: Vec<Note>,
}

/// In the place of the file, the rows of it that are inserted now.
#[derive(Debug)]
struct RowsOfFile(Arc<dyn TableSource>);

impl OpenFile for RowsOfFile {
    fn open(&self, _: &str, _: &FileOptions) -> Result<Arc<dyn TableSource>> {
        Ok(Arc::clone(&self.0))
    }
}

impl Session {
    /// INSERT INTO … FROM FILE: see the head of this file.
    pub(super) fn load(&mut self, change: &ast::Change, file: FromFile<'_>, call: &Call<'_>) -> Result<Outcome> {
        // Also the file of bad rows is a change.
        self.access.check_changes()?;
        let load = &file.options.load;
        if load.batch.is_some() && self.in_transaction() {
            let message = "BATCH commits as it goes, and a transaction is open";
            return Err(Error::new(SqlState::ACTIVE_TRANSACTION, message).at(file.span));
        }
        let files = self.files();
        let help = "ERRORS INTO 'path' REPLACE puts the bad rows in its place";
        let errors_into =
            load.errors_into.as_ref().map(|into| files.writable(&into.path, (into.replace, help))).transpose();
        let errors_into = errors_into.map_err(|error| error.at(file.span))?;
        let mut source = self.source(change, file, call)?;
        let mut report =
            Report { limit: load.error_limit, bad: Vec::new(), affected: 0, returned: None, notes: Vec::new() };
        let outcome = self.load_batches(change, &mut source, &mut report, (load.batch, call));
        report.bad.sort_by_key(|row| row.line);
        if let Some(path) = &errors_into {
            write_bad_rows(path, &report.bad)?;
        }
        outcome.map_err(|error| if error.span().is_none() { error.at(file.span) } else { error })?;
        report.notes.extend(report.note(errors_into.as_deref()));
        let elapsed = call.started.elapsed();
        Ok(match report.returned {
            Some(rows) => {
                let notes = [rows.notes.clone(), report.notes].concat();
                Outcome::Rows(ResultSet { elapsed, affected: Some(report.affected), notes, ..rows })
            }
            None => Outcome::Changed {
                what: super::words::of_change(change, report.affected),
                affected: report.affected,
                elapsed,
                notes: report.notes,
            },
        })
    }

    fn load_batches(
        &mut self,
        change: &ast::Change,
        source: &mut Source,
        report: &mut Report,
        (batch, call): (Option<u64>, &Call<'_>),
    ) -> Result<()> {
        let rows = batch.unwrap_or(u64::MAX);
        loop {
            let kept = report.affected;
            let more = self.change_catalog(|session, catalog| {
                let mut catalog = Arc::clone(catalog);
                let more = session.load_rows(change, source, report, (rows, &mut catalog, call))?;
                Ok((Catalog::clone(&catalog), more))
            });
            match more {
                Ok(true) => {}
                Ok(false) => return Ok(()),
                Err(error) if kept > 0 => {
                    return Err(error.with_help(format!("the {kept} rows of the batches before it are kept")));
                }
                Err(error) => return Err(error),
            }
        }
    }

    /// Inserts so many rows at most; whether there are more.
    fn load_rows(
        &self,
        change: &ast::Change,
        source: &mut Source,
        report: &mut Report,
        (rows, catalog, call): (u64, &mut Arc<Catalog>, &Call<'_>),
    ) -> Result<bool> {
        let mut left = rows;
        loop {
            let runs = source.next(self, report, left)?;
            let count: u64 = runs.iter().map(|run| run.rows as u64).sum();
            if runs.is_empty() {
                return Ok(false);
            }
            self.put((change, call), &runs, (source, report), catalog)?;
            left -= count;
            if left == 0 {
                return Ok(true);
            }
        }
    }

    /// Inserts these rows; when they fail, each half by itself, until the bad rows are found.
    fn put(
        &self,
        (change, call): (&ast::Change, &Call<'_>),
        runs: &[LoadedRows],
        (source, report): (&Source, &mut Report),
        catalog: &mut Arc<Catalog>,
    ) -> Result<()> {
        let segment = |run: &LoadedRows| Segment { columns: run.columns.clone(), rows: run.rows };
        let segments: Vec<Segment> = runs.iter().map(segment).collect();
        let rows = RowsOfFile(Arc::new(MemoryTable::new(source.columns.clone(), segments)));
        let error = match self.changed(change, call, (catalog, &rows)) {
            Ok((changed, result)) => {
                self.shared.put_aside(&changed, (&source.target.0, &source.target.1))?;
                *catalog = Arc::new(changed);
                report.add(result);
                return Ok(());
            }
            Err(error) => error,
        };
        if !error.is_about_rows() {
            return Err(error);
        }
        let halves = match runs {
            [run] if run.rows == 1 => {
                let bad = run.from.bad_row(run.first, &error);
                let line = bad.line;
                return report.refuse(bad).map_err(|_| error.in_file(&source.path, Some(line)));
            }
            [run] => {
                let half = run.rows / 2;
                [vec![run.slice(0, half)], vec![run.slice(half, run.rows - half)]]
            }
            runs => {
                let (first, second) = runs.split_at(runs.len() / 2);
                [first.to_vec(), second.to_vec()]
            }
        };
        for half in halves {
            self.put((change, call), &half, (source, report), catalog)?;
        }
        Ok(())
    }

    /// The columns that a file without rows would fill.
    fn names_of_target(&self, change: &ast::Change, call: &Call<'_>) -> Result<Vec<String>> {
        let ast::ChangeKind::Insert(insert) = &change.kind else { return Ok(Vec::new()) };
        if let Some(names) = &insert.columns {
            return Ok(names.iter().map(|name| name.text.clone()).collect());
        }
        let (catalog, files) = (self.catalog(), self.files());
        let around = self.around(&catalog, &files, call.parameters, MissingParameters::Refuse);
        let kind = ast::ChangeKind::Insert(ast::Insert { rows: ast::InsertRows::Defaults, ..insert.clone() });
        let bound = bind_change(&ast::Change { kind, ..change.clone() }, call.source, &around)?;
        let (_, definition) = stored(&catalog, &bound.schema, &bound.table)?;
        let shown = bound.columns.iter().filter(|(_, at)| !definition.columns[*at].hidden);
        Ok(shown.map(|(name, _)| name.clone()).collect())
    }

    /// Opens the file, with the types of the table's columns where the file has none of its own.
    fn source(&self, change: &ast::Change, file: FromFile<'_>, call: &Call<'_>) -> Result<Source> {
        let files = self.files();
        let at = |error: Error| if error.span().is_none() { error.at(file.span) } else { error };
        let (location, _) = files.readable(file.path).map_err(at)?;
        let threads = files.threads()?;
        let mut source =
            match Loader::open(&location, &self.settings().limited(file.options), threads.as_deref()).map_err(at)? {
                Some(mut loader) => {
                    if loader.columns().is_empty() {
                        loader.name_columns(self.names_of_target(change, call)?);
                    }
                    Source {
                        path: PathBuf::from(file.path),
                        columns: loader.columns(),
                        kind: Kind::Text(Box::new(TextRows::Here(Box::new(loader)))),
                        waiting: VecDeque::new(),
                        rows_read: 0,
                        whole: false,
                        target: Default::default(),
                    }
                }
                None => typed_source(&files, file).map_err(at)?,
            };
        let catalog = self.catalog();
        let shape = RowsOfFile(Arc::new(MemoryTable::new(source.columns.clone(), Vec::new())));
        let around = self.around(&catalog, &shape, call.parameters, MissingParameters::Refuse);
        let bound = bind_change(change, call.source, &around)?;
        let (_, definition) = stored(&catalog, &bound.schema, &bound.table)?;
        // Rows may refer to rows that come later in the file.
        let columns: Vec<(String, usize)> = bound.columns;
        source.target = (bound.schema, bound.table);
        source.whole = definition.references.iter().any(|reference| reference.table == source.target);
        if let Kind::Text(rows) = std::mem::replace(&mut source.kind, Kind::Typed)
            && let TextRows::Here(mut loader) = *rows
        {
            loader.set_types(&types_of(&source.columns, change, (&columns, &definition)));
            source.columns = loader.columns();
            source.kind = Kind::Text(Box::new(TextRows::of(loader, threads)));
        }
        Ok(source)
    }
}

fn typed_source(files: &Files<'_>, file: FromFile<'_>) -> Result<Source> {
    let table = files.open_once(file.path, file.options)?;
    let all: Vec<usize> = (0..table.columns().len()).collect();
    let mut first = 1;
    let mut waiting = VecDeque::new();
    for segment in table.read(&all)? {
        let from = Arc::new(RowOrigin::Typed(first));
        first += segment.rows as u64;
        waiting.push_back(LoadedRows { columns: segment.columns, rows: segment.rows, first: 0, from });
    }
    let (path, columns) = (PathBuf::from(file.path), table.columns().to_vec());
    Ok(Source { path, kind: Kind::Typed, columns, waiting, rows_read: 0, whole: false, target: Default::default() })
}

impl Source {
    /// The next rows, so many at most.
    fn next(&mut self, session: &Session, report: &mut Report, most: u64) -> Result<Vec<LoadedRows>> {
        while let Kind::Text(rows) = &mut self.kind
            && (self.whole || self.waiting.is_empty())
        {
            let (loaded, (bytes, read)) = rows.next_rows()?;
            if loaded.is_empty() {
                break;
            }
            for mut loaded in loaded {
                for bad in std::mem::take(&mut loaded.bad) {
                    let line = bad.line;
                    let column = bad.column.as_deref().map(|name| format!("in column {name:?} ")).unwrap_or_default();
                    let message = format!("{column}{}", bad.reason);
                    let error = Error::new(bad.state, message);
                    report.refuse(bad).map_err(|_| error.in_file(&self.path, Some(line)))?;
                }
                let (columns, rows) = (loaded.columns.clone(), loaded.places.len());
                if rows > 0 {
                    self.rows_read += rows as u64;
                    self.waiting.push_back(LoadedRows {
                        columns,
                        rows,
                        first: 0,
                        from: Arc::new(RowOrigin::Text(loaded)),
                    });
                }
            }
            session.report(&Progress { bytes, read, rows: self.rows_read });
        }
        let mut left = usize::try_from(most).unwrap_or(usize::MAX);
        let mut runs = Vec::new();
        while left > 0
            && let Some(run) = self.waiting.pop_front()
        {
            if run.rows > left {
                self.waiting.push_front(run.slice(left, run.rows - left));
                runs.push(run.slice(0, left));
                break;
            }
            left -= run.rows;
            runs.push(run);
        }
        Ok(runs)
    }
}

/// The runs of rows of a text file, and how far its reading is.
type Runs = (Vec<Loaded>, (u64, u64));

/// Where a text file is read: here, or ahead of those who use its rows.
enum TextRows {
    Here(Box<Loader>),
    Ahead { receiver: Receiver<Result<Runs>>, ended: bool },
}

impl TextRows {
    /// With several workers the next rows are read while those before them are put into the table.
    fn of(mut loader: Box<Loader>, threads: Option<Arc<rayon::ThreadPool>>) -> Self {
        let Some(threads) = threads else { return Self::Here(loader) };
        let (sender, receiver) = std::sync::mpsc::sync_channel(1);
        let read = move || {
            loop {
                let runs = loader.next_rows(Some(&threads)).map(|rows| (rows, loader.progress()));
                let is_last = !matches!(&runs, Ok((rows, _)) if !rows.is_empty());
                // Without a receiver nobody wants the rest.
                if sender.send(runs).is_err() || is_last {
                    return;
                }
            }
        };
        std::thread::spawn(read);
        Self::Ahead { receiver, ended: false }
    }

    fn next_rows(&mut self) -> Result<Runs> {
        match self {
            Self::Here(loader) => loader.next_rows(None).map(|rows| (rows, loader.progress())),
            Self::Ahead { ended: true, .. } => Ok((Vec::new(), (0, 0))),
            Self::Ahead { receiver, ended } => {
                let lost = || Error::new(SqlState::GENERAL, "internal error: the reading of the file broke off");
                let (rows, progress) = receiver.recv().map_err(|_| lost())??;
                *ended = rows.is_empty();
                Ok((rows, progress))
            }
        }
    }
}

impl Report {
    fn add(&mut self, result: Changed) {
        self.affected += result.affected;
        if self.notes.is_empty() {
            self.notes = result.notes;
        }
        match (&mut self.returned, result.returned) {
            (Some(all), Some(more)) => all.batches.extend(more.batches),
            (all @ None, more) => *all = more,
            _ => {}
        }
    }

    /// Passes over a bad row.
    ///
    /// # Errors
    /// The row, when there were as many as allowed before.
    fn refuse(&mut self, row: BadRow) -> Result<(), ()> {
        self.bad.push(row);
        if self.bad.len() as u64 > self.limit { Err(()) } else { Ok(()) }
    }

    fn note(&self, written: Option<&Path>) -> Option<Note> {
        if self.bad.is_empty() {
            return None;
        }
        let lines: Vec<String> = self.bad.iter().take(NAMED_LINES).map(|row| row.line.to_string()).collect();
        let more = if self.bad.len() > NAMED_LINES { ", …" } else { "" };
        let rows = if self.bad.len() == 1 { "bad row was" } else { "bad rows were" };
        let first = self.bad.first().map(|row| row.reason.clone()).unwrap_or_default();
        let message = format!("{} {rows} skipped, at line {}{more}: {first}", self.bad.len(), lines.join(", "));
        let note = Note::new("bad-rows", message);
        Some(match written {
            Some(path) => note.help(format!(
                "{} has each with its reason",
                path.file_name().map(|name| name.to_string_lossy()).unwrap_or_default()
            )),
            None => note.help("ERRORS INTO 'file.csv' keeps each with its reason"),
        })
    }
}

/// For each column of the file the type of the column that it goes into: by name where the table has all of them, else by place.
fn types_of(
    columns: &[Column],
    change: &ast::Change,
    (own, definition): (&[(String, usize)], &TableDefinition),
) -> Vec<SqlType> {
    let sql_type = |at: usize| definition.columns[at].sql_type;
    let named = match &change.kind {
        ast::ChangeKind::Insert(insert) => insert.columns.as_ref(),
        _ => None,
    };
    let by_name = |column: &Column| {
        let found = own.iter().find(|(name, _)| name.eq_ignore_ascii_case(&column.name));
        found.map(|(_, at)| sql_type(*at))
    };
    if named.is_none()
        && let Some(types) = columns.iter().map(by_name).collect()
    {
        return types;
    }
    match named {
        Some(names) => {
            let of = |name: &ast::Ident| own.iter().find(|(own, _)| name.matches(own)).map(|(_, at)| sql_type(*at));
            names.iter().map(|name| of(name).unwrap_or(SqlType::TEXT)).collect()
        }
        None => own.iter().filter(|(_, at)| !definition.columns[*at].hidden).map(|(_, at)| sql_type(*at)).collect(),
    }
}

/// One line for each bad row: where it appears, which column is bad, why, and the row itself.
fn write_bad_rows(path: &Path, bad: &[BadRow]) -> Result<()> {
    let columns =
        [("line", SqlType::BigInt), ("column", SqlType::TEXT), ("reason", SqlType::TEXT), ("row", SqlType::TEXT)];
    let columns = columns.map(|(name, sql_type)| Column::new(name, sql_type)).to_vec();
    let mut writer = Writer::create(path, columns, &FileOptions::default())?;
    let text = |text: &str| Value::Text(text.to_owned());
    writer.write(&[], bad.len(), &|column, row| {
        let bad = &bad[row];
        match column {
            0 => Value::Integer(i64::try_from(bad.line).unwrap_or(i64::MAX)),
            1 => bad.column.as_deref().map_or(Value::Null, text),
            2 => text(&bad.reason),
            _ => text(&bad.text),
        }
    })?;
    writer.finish()
}
