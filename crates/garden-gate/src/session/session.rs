use super::Outcome;
use super::access::Access;
use super::database::Shared;
use super::definition::no_schema;
use super::delta::change_in;
use super::files::Files;
use super::last_query::LastQuery;
use super::past::read_in_the_past;
use super::progress::{Progress, ProgressCallback};
use super::result_set::{ResultColumn, ResultSet};
use super::script::{ScriptRun, Statements, one_statement};
use super::settings::Settings;
use super::statement::{Prepared, RunObserver, prepare, prepare_bound};
use super::temporary::OwnTables;
use super::transaction::Transaction;
use crate::bind::{BindContext, Bound, MissingParameters, OpenFile, Parameters, StatementClock, bind_value};
use crate::catalog::DEFAULT_SCHEMA;
use crate::control::{self, ANY_LEVELS, Control, Entered, Interrupt};
use crate::diagnostic::{Error, IntoSource, Result, SourceText, SqlState};
use crate::execute::{Pool, RoundLog, RoundRows};
use crate::kernel::no_such_zone;
use crate::physical::{Measures, Plan};
use crate::syntax::ast;
use crate::types::{ParameterName, Value};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Instant;

/// A conversation with a [`Database`](crate::Database): settings, variables, the schema of unqualified names.
///
/// A session runs one statement at a time. It may read no files until a program allows folders with
/// [`Session::allow_folder`].
#[derive(Debug)]
pub struct Session {
    pub(super) shared: Arc<Shared>,
    /// Among the sessions of the database.
    pub(super) id: u64,
    /// Its own temporary tables and rows.
    pub(super) own: OwnTables,
    settings: Arc<Settings>,
    variables: Parameters,
    pub(super) schema: String,
    /// Schemas in which names are looked up after that.
    path: Vec<String>,
    /// The moment in the past that versioned tables are read at.
    pub(super) as_of: Option<i64>,
    pub(super) access: Access,
    progress: Option<ProgressCallback>,
    interrupt: Interrupt,
    pool: Arc<Pool>,
    pub(super) transaction: Option<Transaction>,
    /// Commits that were lost to other sessions since the last one that was kept.
    pub(super) lost_commits: u32,
    /// Whether the next transaction is to change nothing.
    pub(super) next_read_only: bool,
    /// Who the session is for.
    user: String,
    pub(super) last: LastQuery,
}

/// The user of a session that nobody has named.
const DEFAULT_USER: &str = "owner";

/// The value of a query of one row and column; NULL when it gives no row.
fn single(rows: &ResultSet) -> Result<Value> {
    match (rows.columns().len(), rows.row_count()) {
        (1, 0) => Ok(Value::Null),
        (1, 1) => Ok(rows.rows().next().map_or(Value::Null, |row| row.value(0))),
        (1, _) => Err(Error::new(SqlState::CARDINALITY, "a query instead of a value gives more than one row")
            .with_help("filter it with WHERE, take an aggregate of it, or FETCH FIRST ROW ONLY with an ORDER BY")),
        (several, _) => {
            let message = format!("a scalar subquery gives one column, this one {several}");
            Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help("select the one column whose value is meant"))
        }
    }
}

impl Session {
    /// A session of a database, with settings as they are at first.
    pub(super) fn new(shared: Arc<Shared>) -> Self {
        let settings = Arc::<Settings>::default();
        Self {
            id: shared.temporary.new_session(),
            own: OwnTables::default(),
            shared,
            pool: Arc::new(Pool::new(settings.workers)),
            settings,
            variables: Parameters::new(),
            schema: DEFAULT_SCHEMA.into(),
            path: Vec::new(),
            as_of: None,
            access: Access::default(),
            progress: None,
            interrupt: Interrupt::default(),
            transaction: None,
            lost_commits: 0,
            next_read_only: false,
            user: DEFAULT_USER.into(),
            last: LastQuery::default(),
        }
    }

    /// Who the session is for: what `CURRENT_USER`, `SESSION_USER` and `SYSTEM_USER` give. There are no rights that depend on it.
    pub fn set_user(&mut self, name: impl Into<String>) {
        self.user = name.into();
    }

    /// Calls `tell` now and then while a statement reads a large file.
    pub fn on_progress(&mut self, tell: impl Fn(&Progress) + Send + 'static) {
        self.progress = Some(ProgressCallback(Box::new(tell)));
    }

    /// Says how far the work has come, where somebody listens.
    pub(super) fn report(&self, progress: &Progress) {
        if let Some(ProgressCallback(tell)) = &self.progress {
            tell(progress);
        }
    }

    /// A handle that interrupts this session's statements from any thread.
    pub fn interrupt(&self) -> Interrupt {
        self.interrupt.clone()
    }

    /// Changes a setting, as `SET name = value` does.
    ///
    /// # Errors
    /// 42000 for an unknown name, HY024 for a value it can't have.
    pub fn set(&mut self, name: &str, value: impl Into<Value>) -> Result<()> {
        let workers = self.settings.workers;
        Arc::make_mut(&mut self.settings).set(name, &value.into())?;
        // Worker threads stay for the next statement, whatever else is set.
        if self.settings.workers != workers {
            self.pool = Arc::new(Pool::new(self.settings.workers));
        }
        Ok(())
    }

    /// Runs a script, and gives what each of its statements came to.
    ///
    /// # Errors
    /// The first statement that fails ends the script.
    pub fn run(&mut self, sql: impl IntoSource) -> Result<Vec<Outcome>> {
        self.statements(sql, ())?.collect()
    }

    /// As [`Session::run`], with parameters, and what came before a statement that failed is kept.
    ///
    /// ```
    /// # use garden_gate::Parameters;
    /// # let mut session = garden_gate::Database::in_memory().session();
    /// let run = session.run_script("VALUES (1); VALUES (CAST(:size AS INTEGER)); VALUES (3)", Parameters::new().set("size", "wide"));
    /// assert_eq!((run.outcomes.len(), run.error.map(|error| error.sqlstate().to_string())), (1, Some("22018".to_owned())));
    /// ```
    pub fn run_script(&mut self, sql: impl IntoSource, parameters: impl Into<Parameters>) -> ScriptRun {
        let mut run = ScriptRun::default();
        match self.statements(sql, parameters) {
            Err(error) => run.error = Some(error),
            Ok(statements) => {
                for outcome in statements {
                    match outcome {
                        Ok(outcome) => run.outcomes.push(outcome),
                        Err(error) => {
                            run.error = Some(error);
                            break;
                        }
                    }
                }
            }
        }
        run
    }

    /// Runs a script a statement at a time: each runs when the iterator is asked for it, so that its outcome can be shown before
    /// the next runs. After a failed statement the iterator goes on with the one after it.
    ///
    /// # Errors
    /// 07001 when a parameter is given that no statement of the script has; nothing has run then.
    pub fn statements(&mut self, sql: impl IntoSource, parameters: impl Into<Parameters>) -> Result<Statements<'_>> {
        let (source, parameters) = (sql.into_source(), parameters.into());
        parameters.refuse_unused_in(&source)?;
        Ok(Statements::new(self, source, parameters))
    }

    /// Runs one query and gives its rows.
    ///
    /// # Errors
    /// 42000 when the text is not exactly one query; whatever is wrong with it (42Sxx, 07001) or fails while it runs (22xxx).
    pub fn query(&mut self, sql: impl IntoSource, parameters: impl Into<Parameters>) -> Result<ResultSet> {
        let (source, parameters) = (sql.into_source(), parameters.into());
        control::stack_for(self.most_levels(&source), || self.query_now(&source, &parameters))
    }

    fn query_now(&mut self, source: &Arc<SourceText>, parameters: &Parameters) -> Result<ResultSet> {
        let started = Instant::now();
        let _entered = self.enter_statement();
        let statement = one_statement(source)?;
        parameters.refuse_unused_in(source)?;
        let call = Call { source, parameters, started, measured: None };
        let rows = match &statement.kind {
            ast::StatementKind::Query(query) => self.rows_of(query, &call),
            ast::StatementKind::Change(change) if change.returning.is_some() => {
                let changed = control::stack_for(ANY_LEVELS, || self.change(change, &call));
                changed.and_then(|outcome| outcome.rows().ok_or_else(no_query))
            }
            _ => Err(no_query().at(statement.span)),
        };
        rows.map_err(|error| error.in_source(source))
    }

    /// Runs one statement that changes rows, and gives how many it changed; 0 for a statement that changes none, such as CREATE.
    ///
    /// # Errors
    /// As [`Session::query`]; 23000 when a constraint is broken, 40001 when a transaction can't be kept.
    pub fn execute(&mut self, sql: impl IntoSource, parameters: impl Into<Parameters>) -> Result<u64> {
        let mut affected = 0;
        for outcome in self.statements(sql, parameters)? {
            affected = match outcome? {
                Outcome::Changed { affected, .. } => affected,
                Outcome::Rows(rows) => rows.affected().unwrap_or(0),
                Outcome::Done { .. } => 0,
            };
        }
        Ok(affected)
    }

    /// Runs any statement.
    pub(super) fn run_statement(&mut self, statement: &ast::Statement, call: &Call<'_>) -> Result<Outcome> {
        let levels = match &statement.kind {
            ast::StatementKind::Query(_) => self.most_levels(call.source),
            _ => ANY_LEVELS,
        };
        control::stack_for(levels, || {
            let _entered = self.enter_statement();
            self.last.forget();
            let started = call.started;
            let done = |notes| Ok(Outcome::Done { what: String::new(), elapsed: started.elapsed(), notes });
            match &statement.kind {
                ast::StatementKind::Change(change) => self.change(change, call),
                ast::StatementKind::Export(export) => self.export(export, call),
                ast::StatementKind::Definition(definition) => self.define(definition, call),
                ast::StatementKind::Transaction(transaction) => {
                    self.transact(transaction).map_err(|error| error.at(statement.span))?;
                    done(Vec::new())
                }
                ast::StatementKind::Query(query) => self.rows_of(query, call).map(Outcome::Rows),
                ast::StatementKind::ShowSettings => self.settings_rows(started).map(Outcome::Rows),
                ast::StatementKind::SetAsOf(moment) => {
                    self.read_past(moment.as_ref(), call)?;
                    done(Vec::new())
                }
                ast::StatementKind::Set { name, value } => {
                    let (value, notes) = self.value(value, call)?;
                    self.set(&name.text, value).map_err(|error| error.at(name.span))?;
                    done(notes)
                }
                ast::StatementKind::Let { name, value } => {
                    let (value, notes) = self.value(value, call)?;
                    self.variables.put(ParameterName::Named(name.text.clone()), value);
                    done(notes)
                }
                ast::StatementKind::SetZone(zone) => {
                    let Some(zone) = zone else {
                        self.set("time_zone", "UTC")?;
                        return done(Vec::new());
                    };
                    let (value, notes) = self.value(zone, call)?;
                    self.set("time_zone", value.clone()).map_err(|_| no_such_zone(value.to_string()).at(zone.span))?;
                    done(notes)
                }
                ast::StatementKind::LetQuery { name, query } => {
                    let rows = self.query_rows(query, call)?;
                    let value = single(&rows).map_err(|error| error.at(query.span))?;
                    self.variables.put(ParameterName::Named(name.text.clone()), value);
                    done(rows.notes().to_vec())
                }
                ast::StatementKind::Analyze(analyze) => {
                    self.analyze(analyze)?;
                    done(Vec::new())
                }
                ast::StatementKind::SetPath(names) => {
                    self.path = names.iter().map(|name| self.find_schema(name)).collect::<Result<_>>()?;
                    done(Vec::new())
                }
                ast::StatementKind::SetSchema(name) => {
                    self.schema = self.find_schema(name)?;
                    done(Vec::new())
                }
            }
        })
    }

    /// The schema in which names of tables are looked up first.
    pub fn schema(&self) -> &str {
        &self.schema
    }

    /// The variables of LET.
    pub(super) fn variables(&self) -> &Parameters {
        &self.variables
    }

    /// Folders in which files may be read.
    pub(super) fn readable_folders(&self) -> &[PathBuf] {
        &self.access.readable
    }

    fn find_schema(&self, name: &ast::Ident) -> Result<String> {
        let catalog = self.catalog();
        let found = catalog.schemas.iter().find(|known| name.matches(&known.name));
        found.map(|schema| schema.name.clone()).ok_or_else(|| no_schema(&catalog, name))
    }

    fn value(&self, value: &ast::Expr, call: &Call<'_>) -> Result<(Value, Vec<crate::diagnostic::Note>)> {
        let (catalog, files) = (self.catalog(), self.files());
        bind_value(value, call.source, &self.around(&catalog, &files, call.parameters, MissingParameters::Refuse))
    }

    /// The settings of the session.
    pub(super) fn settings(&self) -> &Arc<Settings> {
        &self.settings
    }

    /// The threads that statements share.
    pub(super) fn pool(&self) -> Arc<Pool> {
        Arc::clone(&self.pool)
    }

    /// The schemas in which names without one are looked up.
    pub(super) fn path(&self) -> &[String] {
        &self.path
    }

    /// Files that statements may read and write.
    pub(super) fn files(&self) -> Files<'_> {
        Files {
            folders: &self.access.readable,
            writable: &self.access.writable,
            cache: &self.shared.files,
            pool: &self.pool,
            shared: &self.shared,
            settings: &self.settings,
        }
    }

    /// What binding a statement looks at.
    pub(super) fn around<'a>(
        &'a self,
        catalog: &'a crate::catalog::Catalog,
        files: &'a dyn OpenFile,
        parameters: &'a Parameters,
        missing: MissingParameters,
    ) -> BindContext<'a> {
        BindContext {
            catalog,
            user: &self.user,
            schema: &self.schema,
            path: &self.path,
            files,
            parameters,
            variables: &self.variables,
            missing,
            moment: moment_after(catalog.last_time()),
            zone: self.settings.zone,
            as_of: self.as_of,
            delta: None,
        }
    }

    /// The plan of a query.
    pub(super) fn plan_query(
        &self,
        query: &ast::Query,
        call: &Call<'_>,
        missing: MissingParameters,
    ) -> Result<Prepared> {
        let (catalog, files) = (self.catalog(), self.files());
        let around = self.around(&catalog, &files, call.parameters, missing);
        let prepared = prepare(query, call.source, &around, &self.settings, call.started)?;
        self.note_reads(&prepared);
        Ok(prepared)
    }

    /// The plan of what was bound.
    pub(super) fn prepare_bound(&self, bound: Bound, call: &Call<'_>) -> Result<Prepared> {
        let prepared = prepare_bound(bound, call.source, &self.settings, call.started)?;
        self.note_reads(&prepared);
        Ok(prepared)
    }

    fn note_reads(&self, prepared: &Prepared) {
        if let Some(transaction) = &self.transaction {
            transaction.note_reads(&prepared.reads);
            transaction.note_reads(&read_in_the_past(&self.catalog(), &prepared.reads));
        }
        if self.shared.temporary.any() {
            self.note_uses(&self.catalog(), &prepared.reads);
        }
    }

    /// The rows of a query, which may read those of a change.
    pub(super) fn rows_of(&mut self, query: &ast::Query, call: &Call<'_>) -> Result<ResultSet> {
        match change_in(query) {
            Some(delta) => control::stack_for(ANY_LEVELS, || self.change_and_query(query, delta, call)),
            None => self.query_rows(query, call),
        }
    }

    /// The rows of a query within another statement.
    pub(crate) fn query_rows(&self, query: &ast::Query, call: &Call<'_>) -> Result<ResultSet> {
        let prepared = self.plan_query(query, call, MissingParameters::Refuse)?;
        if prepared.numbered {
            self.check_changes()?;
        }
        let rows =
            self.run_watched(&prepared, RunObserver { most_rows: self.access.rows, ..RunObserver::default() })?;
        if prepared.numbered {
            self.keep_sequences()?;
        }
        self.access.check_rows(rows.row_count())?;
        self.last.set(prepared);
        Ok(rows)
    }

    /// The rows of a query, and what each round of its recursions found.
    pub(crate) fn query_rounds(&self, query: &ast::Query, call: &Call<'_>) -> Result<(ResultSet, Vec<Round>)> {
        let prepared = self.plan_query(query, call, MissingParameters::Refuse)?;
        let log = RoundLog::default();
        let rows = self.run_watched(&prepared, RunObserver { rounds: Some(&log), ..RunObserver::default() })?;
        let elapsed = rows.elapsed;
        let round = |found: RoundRows| {
            let column = |(name, sql_type)| ResultColumn::new(name, sql_type);
            let columns = found.columns.into_iter().map(column).collect();
            let rows = ResultSet { columns, batches: found.batches, elapsed, ..ResultSet::default() };
            Round { member: found.member, number: found.round, rows }
        };
        Ok((rows, log.into_rounds().into_iter().map(round).collect()))
    }

    /// Runs a plan.
    pub(super) fn run_prepared(&self, prepared: &Prepared, measures: Option<&Measures>) -> Result<ResultSet> {
        self.run_watched(prepared, RunObserver { measures, ..RunObserver::default() })
    }

    /// Runs a plan, and notes what an observer asks for.
    pub(super) fn run_watched(&self, prepared: &Prepared, watch: RunObserver<'_>) -> Result<ResultSet> {
        control::stack_of_statement(|| {
            let watch = RunObserver { style_notes: self.settings.style_notes, ..watch };
            let _entered = self.enter_statement();
            let control = control::current().unwrap_or_else(|| self.new_control());
            prepared.run(&control, (&self.pool, self.settings.batch_rows), watch)
        })
    }

    /// Limits for a statement that begins now.
    pub(super) fn new_control(&self) -> Arc<Control> {
        Control::new(&self.interrupt, self.settings.limits(&self.access))
    }

    /// Begins a statement, whose limits count from here on, unless this thread is within one already. An interrupt that came while nothing
    /// ran is forgotten.
    pub(crate) fn enter_statement(&self) -> Entered {
        let current = control::current();
        if current.is_none() {
            self.interrupt.clear();
        }
        control::enter(Some(&current.unwrap_or_else(|| self.new_control())))
    }
}

/// This moment, later than the last commit whatever the clock says: `CURRENT_TIMESTAMP` sees what has been committed.
fn moment_after(last: i64) -> StatementClock {
    StatementClock { micros: chrono::Utc::now().timestamp_micros().max(last.saturating_add(1)) }
}

/// The rows that one round of a recursion found; round 0 is the anchor.
pub(crate) struct Round {
    pub(crate) member: String,
    pub(crate) number: u64,
    pub(crate) rows: ResultSet,
}

/// What a statement is run with.
pub(crate) struct Call<'a> {
    pub(crate) source: &'a Arc<SourceText>,
    pub(crate) parameters: &'a Parameters,
    /// When reading its text began.
    pub(crate) started: Instant,
    /// Where the plan of a change is put when it is to be measured.
    pub(crate) measured: Option<&'a std::cell::RefCell<Option<Plan>>>,
}

/// The error of a statement that has no rows.
pub(crate) fn no_query() -> Error {
    Error::new(SqlState::SYNTAX_OR_RULE, "this statement has no rows: a query was expected")
}
