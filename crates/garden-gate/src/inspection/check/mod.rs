//! Checks: queries with what is expected of their rows and their plans, kept in files (design: `*.check.toml`), so that a change of data or
//! schema that turns a result or a plan bad fails a build.

mod plan_rules;
mod plan_text;
mod rows;
mod spec;

use super::row_diff::{first_out_of_order, unmatched_rows};
use crate::bind::Parameters;
use crate::diagnostic::{Error, Result, SqlState};
use crate::physical::Plan;
use crate::session::TableFiles;
use crate::session::{Database, ResultSet, Session};
use crate::types::Value;
pub use plan_text::plan_text;
use spec::{CheckSpec, FileSpec, PlanExpectation};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// A file of checks.
#[derive(Clone, Debug)]
pub struct CheckFile {
    path: PathBuf,
    text: String,
    spec: FileSpec,
}

/// What the checks of a file came to.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct CheckReport {
    /// The file.
    pub path: PathBuf,
    /// Its checks, in order; one that is to hold over several values appears there for each.
    pub checks: Vec<CheckOutcome>,
}

/// What a check came to.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct CheckOutcome {
    /// Its name.
    pub name: String,
    /// The values it was run with, of those it is to hold over.
    pub over: Vec<(String, Value)>,
    /// What did not hold; nothing when it passed.
    pub failures: Vec<Failure>,
    /// The rows, when there were any.
    pub rows: Option<ResultSet>,
    /// The plan, measured.
    pub plan: Option<Plan>,
    /// What the entire check took.
    pub elapsed: Duration,
}

impl CheckOutcome {
    /// Whether all that is expected holds.
    pub fn passed(&self) -> bool {
        self.failures.is_empty()
    }
}

/// Something expected that does not hold.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Failure {
    /// The key of the check file that does not hold: `rows`, `max_cost`.
    pub expectation: &'static str,
    /// What there is instead of what was expected.
    pub text: String,
    /// The columns of `rows`.
    pub columns: Vec<String>,
    /// Rows that are missing, then rows that were not expected, the first twenty.
    pub rows: Vec<RowChange>,
    /// The plan that was expected and the one found, where two are compared.
    pub plans: Option<Box<[Plan; 2]>>,
}

/// A row that is missing, or was not expected.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct RowChange {
    /// Whether it was found; the others were expected.
    pub found: bool,
    /// Its values.
    pub row: Vec<Value>,
}

fn failure(expectation: &'static str, text: String) -> Failure {
    Failure { expectation, text, columns: Vec::new(), rows: Vec::new(), plans: None }
}

impl CheckFile {
    /// Reads a check file.
    ///
    /// # Errors
    /// 58030 when it cannot be read, 42000 with the line when it is not TOML, has an unknown key, or its checks do not fit together.
    pub fn read(path: impl AsRef<Path>) -> Result<Self> {
        let path = path.as_ref();
        let text = read(path)?;
        Self::parse(path, text)
    }

    /// A check file of this text; what it names appears beside `path`.
    ///
    /// # Errors
    /// 42000 as [`CheckFile::read`].
    pub fn parse(path: impl AsRef<Path>, text: impl Into<String>) -> Result<Self> {
        let (path, text) = (path.as_ref(), text.into());
        let wrong = |message: String, line| Error::new(SqlState::SYNTAX_OR_RULE, message).in_file(path, line);
        let spec: FileSpec = toml_edit::de::from_str(&text).map_err(|error| {
            let line = error.span().map(|span| 1 + text[..span.start.min(text.len())].matches('\n').count() as u64);
            wrong(error.message().trim().to_owned(), line)
        })?;
        match spec.problem() {
            Some(problem) => Err(wrong(problem, None)),
            None => Ok(Self { path: path.to_owned(), text, spec }),
        }
    }

    /// The file that holds the rows which a check expects, where it names one.
    pub fn rows_file(&self, name: &str) -> Option<PathBuf> {
        let check = self.spec.checks.iter().find(|check| check.name == name)?;
        check.rows_file.as_ref().map(|file| self.beside(file))
    }

    /// The text of the file, with what was accepted.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Puts a plan, as [`plan_text()`] gives it, in the place of the one that a check expects. Whether it expects one.
    ///
    /// # Errors
    /// 42000 on an internal fault only.
    pub fn accept_plan(&mut self, name: &str, text: &str) -> Result<bool> {
        self.change(name, |table| match table.get_mut("plan") {
            Some(item) if item.is_str() => {
                *item = toml_edit::value(text);
                true
            }
            Some(item) => match item.get_mut("text") {
                Some(item) => {
                    *item = toml_edit::value(text);
                    true
                }
                None => false,
            },
            None => false,
        })
    }

    /// Changes what is written of a check; whether anything was changed.
    fn change(&mut self, name: &str, mut edit: impl FnMut(&mut toml_edit::Table) -> bool) -> Result<bool> {
        let wrong = |error: toml_edit::TomlError| Error::new(SqlState::SYNTAX_OR_RULE, error.to_string());
        let mut document: toml_edit::DocumentMut = self.text.parse().map_err(wrong)?;
        let mut changed = false;
        let checks = document.get_mut("check").and_then(toml_edit::Item::as_array_of_tables_mut);
        for table in checks.into_iter().flat_map(toml_edit::ArrayOfTables::iter_mut) {
            if table.get("name").and_then(toml_edit::Item::as_str) == Some(name) {
                changed |= edit(table);
            }
        }
        self.text = document.to_string();
        Ok(changed)
    }

    /// Puts rows, as CSV text with a header, in the place of those that a check expects, and their number in that of `row_count`; what the
    /// check does not expect is not added. Everything else in the file stays as it is written. Whether anything was changed.
    ///
    /// # Errors
    /// 42000 on an internal fault only.
    pub fn accept(&mut self, name: &str, rows: &str, count: usize) -> Result<bool> {
        self.change(name, |table| {
            let mut changed = false;
            if let Some(item) = table.get_mut("rows") {
                *item = toml_edit::value(rows);
                changed = true;
            }
            if let Some(item) = table.get_mut("row_count") {
                *item = toml_edit::value(i64::try_from(count).unwrap_or(i64::MAX));
                changed = true;
            }
            changed
        })
    }

    /// Runs all checks on a database: its data are loaded and its setup is run, then each check runs with these settings and those of the
    /// file.
    ///
    /// # Errors
    /// What loading the data or the setup meets. What a check meets is a failure of that check.
    pub fn run(&self, db: &Database, settings: &[(String, Value)]) -> Result<CheckReport> {
        let mut session = self.session(db, settings)?;
        let mut checks = Vec::new();
        for check in &self.spec.checks {
            for over in combinations(check) {
                checks.push(self.outcome(&mut session, check, over));
            }
        }
        Ok(CheckReport { path: self.path.clone(), checks })
    }

    fn beside(&self, path: &str) -> PathBuf {
        self.path.parent().map_or_else(|| PathBuf::from(path), |folder| folder.join(path))
    }

    fn session(&self, db: &Database, settings: &[(String, Value)]) -> Result<Session> {
        let mut folders = vec![self.beside(".")];
        for data in &self.spec.data {
            let files = TableFiles::parse(data, &self.beside(""));
            db.add_table_files(&files)?;
            if files.path().is_dir() {
                folders.push(files.path().to_owned());
            }
        }
        let mut session = db.session();
        for folder in folders {
            session.allow_folder(&folder)?;
        }
        let own = self.spec.settings.iter().map(|(name, value)| (name.clone(), value.value()));
        for (name, value) in own.chain(settings.iter().cloned()) {
            session.set(&name, value)?;
        }
        let setup = match &self.spec.setup_file {
            Some(file) => Some(read(&self.beside(file))?),
            None => self.spec.setup.clone(),
        };
        if let Some(setup) = setup {
            session.run(&setup)?;
        }
        Ok(session)
    }

    fn sql(&self, check: &CheckSpec) -> Result<String> {
        match &check.file {
            Some(file) => read(&self.beside(file)),
            None => Ok(check.sql.clone().unwrap_or_default()),
        }
    }

    fn outcome(&self, session: &mut Session, check: &CheckSpec, over: Vec<(String, Value)>) -> CheckOutcome {
        let started = Instant::now();
        let mut outcome = CheckOutcome {
            name: check.name.clone(),
            over,
            failures: Vec::new(),
            rows: None,
            plan: None,
            elapsed: Duration::ZERO,
        };
        match (self.measured(session, check, &outcome.over), &check.error) {
            (Ok((rows, plan)), None) => {
                outcome.failures = self.broken(session, check, &outcome.over, (&rows, &plan));
                (outcome.rows, outcome.plan) = (Some(rows), Some(plan));
            }
            (Ok((rows, plan)), Some(expected)) => {
                let text = format!("it gives {} rows, and should fail with {expected}", rows.row_count());
                outcome.failures.push(failure("error", text));
                (outcome.rows, outcome.plan) = (Some(rows), Some(plan));
            }
            (Err(error), Some(expected)) if error.sqlstate().as_str().starts_with(expected.as_str()) => {}
            (Err(error), expected) => {
                let wanted = expected.as_ref().map(|state| format!(" instead of {state}")).unwrap_or_default();
                let text = format!("it fails with {}{wanted}: {}", error.sqlstate(), error.message());
                outcome.failures.push(failure("error", text));
            }
        }
        outcome.elapsed = started.elapsed();
        outcome
    }

    fn measured(
        &self,
        session: &mut Session,
        check: &CheckSpec,
        over: &[(String, Value)],
    ) -> Result<(ResultSet, Plan)> {
        let own = check.params.iter().map(|(name, value)| (name.clone(), value.value()));
        let given = own.chain(over.iter().cloned());
        let parameters = given.fold(Parameters::new(), |given, (name, value)| given.set(&name, value));
        session.measure(&self.sql(check)?, parameters)
    }

    fn broken(
        &self,
        session: &mut Session,
        check: &CheckSpec,
        over: &[(String, Value)],
        (rows, plan): (&ResultSet, &Plan),
    ) -> Vec<Failure> {
        let mut found = Vec::new();
        let expected = match &check.rows_file {
            Some(file) => read(&self.beside(file)).map(Some),
            None => Ok(check.rows.clone()),
        };
        match expected {
            Ok(expected) => found.extend(expected.and_then(|text| rows::broken(rows, &text, check.ordered))),
            Err(error) => found.push(failure("rows_file", error.message().to_owned())),
        }
        if let Some(count) = check.row_count
            && count != rows.row_count() as u64
        {
            found.push(failure(
                "row_count",
                format!("the result has {}, not {count}", super::compare::count(rows.row_count(), "row")),
            ));
        }
        if check.no_notes {
            found.extend(plan.notes.iter().map(|note| failure("no_notes", format!("{}: {}", note.code, note.message))));
        }
        found.extend(self.unlike_others(session, check, over, (rows, plan)));
        match &check.plan {
            Some(PlanExpectation::Text(text)) => found.extend(plan_text::broken(plan, text, plan_text::ROWS_WITHIN)),
            Some(PlanExpectation::Rules(rules)) => {
                found.extend(plan_rules::broken(plan, rules));
                let within = rules.rows_within.unwrap_or(plan_text::ROWS_WITHIN);
                found.extend(rules.text.as_ref().and_then(|text| plan_text::broken(plan, text, within)));
            }
            None => {}
        }
        found
    }

    /// Where the check differs from those it is to be like.
    fn unlike_others(
        &self,
        session: &mut Session,
        check: &CheckSpec,
        over: &[(String, Value)],
        (rows, plan): (&ResultSet, &Plan),
    ) -> Vec<Failure> {
        let mut found = Vec::new();
        let named = |name: &Option<String>| self.spec.checks.iter().find(|other| Some(&other.name) == name.as_ref());
        let others = [("same_rows_as", named(&check.same_rows_as)), ("same_plan_as", named(&check.same_plan_as))];
        for (expectation, other) in others {
            let Some(other) = other else { continue };
            let values = if other.over.is_empty() { &[] } else { over };
            let (other_rows, other_plan) = match self.measured(session, other, values) {
                Ok(measured) => measured,
                Err(error) => {
                    found.push(failure(expectation, format!("{:?} fails: {}", other.name, error.message())));
                    continue;
                }
            };
            if expectation == "same_plan_as" {
                if plan.fingerprint != other_plan.fingerprint {
                    let text = format!("the plan is not that of {:?}", other.name);
                    let plans = Some(Box::new([other_plan, plan.clone()]));
                    found.push(Failure { plans, ..failure(expectation, text) });
                }
                continue;
            }
            found.extend(unlike_rows([&other_rows, rows], (&other.name, check.ordered)));
        }
        found
    }
}

/// Where the rows of a check part from those of another.
fn unlike_rows(sides: [&ResultSet; 2], (other, ordered): (&str, bool)) -> Option<Failure> {
    let odd = unmatched_rows(sides);
    let changes = odd.iter().map(|row| RowChange { found: row.times[1] > row.times[0], row: row.row.clone() });
    let mut changes: Vec<RowChange> = changes.collect();
    changes.sort_by_key(|change| change.found);
    let (counts, changes) = rows::shown_of(changes);
    let text = if !odd.is_empty() {
        let [less, more] = counts;
        let cut = rows::cut_short(counts, &changes);
        format!("the rows are not those of {other:?}: {less} are missing, {more} are not expected{cut}")
    } else if ordered && let Some((number, _)) = first_out_of_order(sides) {
        format!("the rows come in another order than those of {other:?}, from row {number} on")
    } else {
        return None;
    };
    let columns = sides[1].columns().iter().map(|column| column.name.clone()).collect();
    Some(Failure { columns, rows: changes, ..failure("same_rows_as", text) })
}

/// Every combination of the values that a check is to hold over; one without values where there are none.
fn combinations(check: &CheckSpec) -> Vec<Vec<(String, Value)>> {
    let mut all = vec![Vec::new()];
    for (name, values) in &check.over {
        let with = |known: &Vec<(String, Value)>| {
            let mut next = Vec::new();
            for value in values {
                let mut one = known.clone();
                one.push((name.clone(), value.value()));
                next.push(one);
            }
            next
        };
        all = all.iter().flat_map(with).collect();
    }
    all
}

fn read(path: &Path) -> Result<String> {
    std::fs::read_to_string(path).map_err(|error| {
        Error::new(SqlState::FILE_ACCESS, format!("the file cannot be read: {error}")).in_file(path, None)
    })
}
