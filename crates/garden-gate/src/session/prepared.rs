//! Statements that are read once and run often.

use super::delta::change_in;
use super::direct::DirectInsert;
use super::direct_lookup::DirectLookup;
use super::script::one_statement;
use super::session::{Call, no_query};
use super::{Outcome, ResultColumn, ResultSet, Session};
use crate::bind::{MissingParameters, OutputColumn, Parameters, bind_change, bind_query};
use crate::diagnostic::{IntoSource, Result, SourceText};
use crate::syntax::{Script, ast};
use crate::types::ParameterName;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Instant;

/// A statement that was read and checked by [`Session::prepare`]. It is planned anew for the values of each run (one that looks up a row
/// by its key only when its tables or the settings have changed), and works in any session of the database.
#[derive(Clone, Debug)]
pub struct PreparedStatement {
    statement: Arc<ast::Statement>,
    source: Arc<SourceText>,
    names: Vec<ParameterName>,
    columns: Vec<ResultColumn>,
    /// Of an INSERT of values, the way that needs no plan.
    direct: Option<Arc<DirectInsert>>,
    /// Of a query for one row by its key, likewise.
    lookup: Arc<RwLock<Option<Arc<DirectLookup>>>>,
}

impl PreparedStatement {
    /// The columns of its rows; none for a statement without rows. A parameter may still change a type.
    pub fn columns(&self) -> &[ResultColumn] {
        &self.columns
    }

    /// Its parameters: those with names once each, and those of positions, in the order of the text.
    pub fn parameters(&self) -> &[ParameterName] {
        &self.names
    }

    /// Its text.
    pub fn text(&self) -> &str {
        self.source.text()
    }
}

impl Session {
    /// Reads a statement and looks whether it could run, to run it often.
    ///
    /// # Errors
    /// As [`Session::query`], for what can be known without the values of parameters.
    pub fn prepare(&self, sql: impl IntoSource) -> Result<PreparedStatement> {
        crate::control::large_stack(|| {
            let source = sql.into_source();
            let statement = one_statement(&source)?;
            let (columns, direct) = self.checked(&statement, &source).map_err(|error| error.in_source(&source))?;
            let mut names: Vec<ParameterName> = Vec::new();
            for name in Script::new(Arc::clone(&source)).parameter_names() {
                if !names.iter().any(|known| known.is_same(&name)) {
                    names.push(name);
                }
            }
            Ok(PreparedStatement {
                statement: Arc::new(statement),
                source,
                names,
                columns,
                direct,
                lookup: Arc::default(),
            })
        })
    }

    fn checked(
        &self,
        statement: &ast::Statement,
        source: &Arc<SourceText>,
    ) -> Result<(Vec<ResultColumn>, Option<Arc<DirectInsert>>)> {
        let (catalog, files, parameters) = (self.catalog(), self.files(), Parameters::new());
        let around = self.around(&catalog, &files, &parameters, MissingParameters::PlanGenerically);
        match &statement.kind {
            ast::StatementKind::Query(query) if change_in(query).is_none() => {
                let bound = bind_query(query, source, &around)?;
                let column =
                    |known: &OutputColumn| ResultColumn::new(&known.name, bound.columns.get(known.id).declared());
                Ok((bound.output.iter().map(column).collect(), None))
            }
            ast::StatementKind::Change(change) => {
                let bound = bind_change(change, source, &around)?;
                Ok((Vec::new(), DirectInsert::of(self, &catalog, change, &bound).map(Arc::new)))
            }
            _ => Ok((Vec::new(), None)),
        }
    }

    /// Runs a prepared query.
    ///
    /// # Errors
    /// As [`Session::query`].
    pub fn query_prepared(
        &mut self,
        prepared: &PreparedStatement,
        parameters: impl Into<Parameters>,
    ) -> Result<ResultSet> {
        let outcome = self.outcome_prepared(prepared, &parameters.into())?;
        outcome.rows().ok_or_else(|| no_query().in_source(&prepared.source))
    }

    /// Runs a prepared statement, and gives how many rows it changed.
    ///
    /// # Errors
    /// As [`Session::execute`].
    pub fn execute_prepared(&mut self, prepared: &PreparedStatement, parameters: impl Into<Parameters>) -> Result<u64> {
        Ok(match self.outcome_prepared(prepared, &parameters.into())? {
            Outcome::Changed { affected, .. } => affected,
            Outcome::Rows(rows) => rows.affected().unwrap_or(0),
            Outcome::Done { .. } => 0,
        })
    }

    fn outcome_prepared(&mut self, prepared: &PreparedStatement, parameters: &Parameters) -> Result<Outcome> {
        parameters.refuse_unused(&prepared.names)?;
        let call = Call { source: &prepared.source, parameters, started: Instant::now(), measured: None };
        if let Some(direct) = &prepared.direct
            && let Some(affected) = self.insert_directly(direct, &call)?
        {
            let what = match &prepared.statement.kind {
                ast::StatementKind::Change(change) => super::words::of_change(change, affected),
                _ => super::words::rows(affected),
            };
            return Ok(Outcome::Changed { what, affected, elapsed: call.started.elapsed(), notes: Vec::new() });
        }
        if let Some(rows) = self.rows_directly(prepared, &call)? {
            return Ok(Outcome::Rows(rows));
        }
        let catalog = self.catalog();
        let outcome = self.run_statement(&prepared.statement, &call).map_err(|error| error.in_source(&prepared.source));
        let way = self.last.of_plan(|plan| DirectLookup::of(self, &catalog, (&prepared.statement, plan)));
        *prepared.lookup.write().unwrap_or_else(PoisonError::into_inner) = way.map(Arc::new);
        outcome
    }

    fn rows_directly(&self, prepared: &PreparedStatement, call: &Call<'_>) -> Result<Option<ResultSet>> {
        let way = prepared.lookup.read().unwrap_or_else(PoisonError::into_inner).clone();
        let Some(way) = way else { return Ok(None) };
        self.look_up(&way, (&prepared.statement, call)).map_err(|error| error.in_source(&prepared.source))
    }
}
