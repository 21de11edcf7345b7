//! Plans of statements, before and after they run.

use super::script::nothing;
use super::session::{Call, no_query};
use super::statement::RunObserver;
use super::{Outcome, ResultSet, Session};
use crate::bind::{MissingParameters, Parameters};
use crate::control::{self, ANY_LEVELS};
use crate::diagnostic::{IntoSource, Result, SourceText};
use crate::physical::Plan;
use crate::syntax::{Script, ast};
use std::sync::Arc;
use std::time::Instant;

impl Session {
    /// Plans the last statement of a script, a query or a change that is not carried out, after running those before it. Parameters may lack a value; the plan is then generic.
    ///
    /// A plan can be asserted on in tests:
    ///
    /// ```
    /// # use garden_gate::{Database, Column, SqlType};
    /// # fn main() -> garden_gate::Result<()> {
    /// let db = Database::in_memory();
    /// db.add_rows("bed", &[Column::new("bed_id", SqlType::Integer)], &[vec![1.into()], vec![2.into()]])?;
    /// let plan = db.session().plan("SELECT bed_id FROM bed WHERE bed_id = 2", ())?;
    /// assert!(plan.reads("bed").by_scan());
    /// assert!(plan.joins().is_empty());
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// As [`Session::query`].
    pub fn plan(&mut self, sql: impl IntoSource, parameters: impl Into<Parameters>) -> Result<Plan> {
        let (source, parameters) = (sql.into_source(), parameters.into());
        let last = self.last_statement(&source, &parameters)?;
        self.plan_statement(&last, &source, &parameters)
    }

    /// Plans a statement of a text, whose statements before it have been run.
    pub(crate) fn plan_statement(
        &mut self,
        last: &ast::Statement,
        source: &Arc<SourceText>,
        parameters: &Parameters,
    ) -> Result<Plan> {
        let levels = match &last.kind {
            ast::StatementKind::Query(_) => self.most_levels(source),
            _ => ANY_LEVELS,
        };
        control::stack_for(levels, || {
            let _entered = self.enter_statement();
            let call = Call { source, parameters, started: Instant::now(), measured: None };
            let plan = match &last.kind {
                ast::StatementKind::Query(query) => self
                    .plan_query(query, &call, MissingParameters::PlanGenerically)
                    .map(|prepared| prepared.describe(None)),
                ast::StatementKind::Change(change) => self.plan_change(change, &call),
                _ => Err(no_query().at(last.span)),
            };
            plan.map_err(|error| error.in_source(source))
        })
    }

    /// Runs the last statement of a script, a query or a change, after those before it, and gives its rows with the plan that ran and
    /// what it did. The last statement, if it is a change, is taken back.
    ///
    /// # Errors
    /// As [`Session::query`].
    pub fn measure(&mut self, sql: impl IntoSource, parameters: impl Into<Parameters>) -> Result<(ResultSet, Plan)> {
        let (source, parameters) = (sql.into_source(), parameters.into());
        let last = self.last_statement(&source, &parameters)?;
        self.measure_statement(&last, &source, &parameters)
    }

    /// Measures a statement of a text, whose statements before it have been run.
    pub(crate) fn measure_statement(
        &mut self,
        last: &ast::Statement,
        source: &Arc<SourceText>,
        parameters: &Parameters,
    ) -> Result<(ResultSet, Plan)> {
        control::large_stack(|| {
            let _entered = self.enter_statement();
            let measured = std::cell::RefCell::default();
            let call = Call { source, parameters, started: Instant::now(), measured: Some(&measured) };
            let outcome = match &last.kind {
                ast::StatementKind::Query(query) => {
                    self.plan_query(query, &call, MissingParameters::Refuse).and_then(|prepared| {
                        let measures = prepared.measures();
                        let watch = RunObserver {
                            measures: Some(&measures),
                            most_rows: self.access.rows,
                            ..RunObserver::default()
                        };
                        let rows = self.run_watched(&prepared, watch)?;
                        self.access.check_rows(rows.row_count())?;
                        Ok((rows, prepared.describe(Some(&measures))))
                    })
                }
                ast::StatementKind::Change(change) => self.change_undone(change, &call).and_then(|outcome| {
                    let plan = measured.take().ok_or_else(|| no_query().at(last.span))?;
                    let rows = match outcome {
                        Outcome::Rows(rows) => rows,
                        Outcome::Changed { affected, elapsed, notes, .. } => {
                            ResultSet { affected: Some(affected), elapsed, notes, ..ResultSet::default() }
                        }
                        Outcome::Done { .. } => ResultSet::default(),
                    };
                    Ok((rows, plan))
                }),
                _ => Err(no_query().at(last.span)),
            };
            outcome.map_err(|error| error.in_source(source))
        })
    }

    /// Makes a change to see what it does, and takes it back.
    fn change_undone(&mut self, change: &ast::Change, call: &Call<'_>) -> Result<Outcome> {
        let before = self.transaction.as_ref().map(|transaction| Arc::clone(&transaction.work));
        if before.is_none() {
            self.transact(&ast::Transaction::Start { read_only: false })?;
        }
        let outcome = self.change(change, call);
        match (before, &mut self.transaction) {
            (Some(work), Some(transaction)) => transaction.work = work,
            _ => self.transaction = None,
        }
        outcome
    }

    /// Runs all statements but the last.
    pub(crate) fn last_statement(
        &mut self,
        source: &Arc<SourceText>,
        parameters: &Parameters,
    ) -> Result<ast::Statement> {
        control::stack_for(self.most_levels(source), || {
            parameters.refuse_unused_in(source)?;
            let mut script = Script::new(Arc::clone(source));
            let mut last = script.next_statement().unwrap_or_else(|| Err(nothing()))?;
            while let Some(next) = script.next_statement() {
                self.run_statement(&last, &Call { source, parameters, started: Instant::now(), measured: None })
                    .map_err(|error| error.in_source(source))?;
                last = next?;
            }
            Ok(last)
        })
    }
}
