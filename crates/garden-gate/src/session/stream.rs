//! Rows that come while the query runs.

use super::result_set::{ResultColumn, ResultSet};
use super::script::one_statement;
use super::session::{Call, no_query};
use super::statement::Prepared;
use super::{Session, delta::change_in};
use crate::bind::{MissingParameters, Parameters};
use crate::control::{self, Control, Interrupt};
use crate::diagnostic::{Error, IntoSource, Note, Result, SourceText, SqlState};
use crate::kernel::Batch;
use crate::syntax::ast;
use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use std::marker::PhantomData;
use std::ops::ControlFlow;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, sync_channel};
use std::thread::JoinHandle;
use std::time::Instant;

/// Batches that may wait to be taken; the query waits past them.
const WAITING_BATCHES: usize = 2;

/// The rows of a query as record batches, which come while it runs; see [`Session::stream`]. Dropping it ends the query.
#[derive(Debug)]
pub struct RowStream<'s> {
    columns: Vec<ResultColumn>,
    notes: Vec<Note>,
    schema: SchemaRef,
    source: Arc<SourceText>,
    batches: Batches,
    /// The session does nothing else meanwhile.
    session: PhantomData<&'s mut Session>,
}

/// Where batches come from.
#[derive(Debug)]
enum Batches {
    /// From a query that runs.
    Running(Running),
    /// From one that has run to its end.
    Gathered(std::vec::IntoIter<Batch>),
    /// From nowhere: all have come.
    Ended,
}

#[derive(Debug)]
struct Running {
    received: Option<Receiver<Result<Batch>>>,
    worker: Option<JoinHandle<()>>,
    interrupt: Interrupt,
}

impl Running {
    /// The next batch; a thread that ends without a word has panicked, and its rows are not all that there are.
    fn next(&mut self) -> Option<Result<Batch>> {
        if let Ok(batch) = self.received.as_ref()?.recv() {
            return Some(batch);
        }
        let panicked = self.worker.take().is_some_and(|worker| worker.join().is_err());
        panicked.then(|| Err(Error::new(SqlState::GENERAL, "internal error: the thread of the stream ended early")))
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.received = None;
        if let Some(worker) = self.worker.take().filter(|worker| !worker.is_finished()) {
            // It may sort or group, and would hear of it only with its next batch.
            self.interrupt.interrupt();
            let _ = worker.join();
            self.interrupt.clear();
        }
    }
}

impl RowStream<'_> {
    /// The columns, in order; names may repeat.
    pub fn columns(&self) -> &[ResultColumn] {
        &self.columns
    }

    /// The schema that every batch has; columns have the Arrow types of [`SqlType::arrow`](crate::SqlType::arrow).
    pub fn schema(&self) -> SchemaRef {
        Arc::clone(&self.schema)
    }

    /// What is worth knowing about the query.
    pub fn notes(&self) -> &[Note] {
        &self.notes
    }
}

impl Iterator for RowStream<'_> {
    type Item = Result<RecordBatch>;

    fn next(&mut self) -> Option<Self::Item> {
        let next = match &mut self.batches {
            Batches::Running(running) => running.next(),
            Batches::Gathered(batches) => batches.next().map(Ok),
            Batches::Ended => None,
        };
        if !matches!(next, Some(Ok(_))) {
            self.batches = Batches::Ended;
        }
        let made = next?.and_then(|batch| super::result_set::record_batch(&self.schema, &batch));
        Some(made.map_err(|error| error.in_source(&self.source)))
    }
}

impl Session {
    /// Runs one query, and gives its rows as record batches while it runs: the query waits while nobody takes them, so that a result of
    /// any length needs the memory of a few batches beside what sorts, groupings and joins keep (which `memory_limit` bounds).
    ///
    /// The limits of the session hold, `time_limit` counts the waiting too. Dropping the stream ends the query. The last part of the
    /// plan runs on one worker, so that rows come in their order. A query that takes numbers of a sequence, or contains a change, is
    /// run to its end before the first batch.
    ///
    /// ```
    /// # fn main() -> garden_gate::Result<()> {
    /// let mut session = garden_gate::Database::in_memory().session();
    /// let mut rows = 0;
    /// for batch in session.stream("SELECT n FROM SERIES(1, 1000000000) AS s (n)", ())? {
    ///     rows += batch?.num_rows();
    ///     if rows > 20_000 {
    ///         break;
    ///     }
    /// }
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// As [`Session::query`] for what is known before the first row; what fails while the query runs is the last item of the stream.
    pub fn stream(&mut self, sql: impl IntoSource, parameters: impl Into<Parameters>) -> Result<RowStream<'_>> {
        let (source, parameters) = (sql.into_source(), parameters.into());
        control::large_stack(|| self.stream_now(&source, &parameters)).map_err(|error| error.in_source(&source))
    }

    fn stream_now(&mut self, source: &Arc<SourceText>, parameters: &Parameters) -> Result<RowStream<'_>> {
        let started = Instant::now();
        let entered = self.enter_statement();
        let statement = one_statement(source)?;
        parameters.refuse_unused_in(source)?;
        let call = Call { source, parameters, started, measured: None };
        let ast::StatementKind::Query(query) = &statement.kind else {
            return match &statement.kind {
                ast::StatementKind::Change(change) if change.returning.is_some() => {
                    let rows = self.change(change, &call)?.rows().ok_or_else(no_query)?;
                    Ok(gathered(rows, source))
                }
                _ => Err(no_query().at(statement.span)),
            };
        };
        let prepared = match change_in(query) {
            Some(_) => None,
            None => Some(self.plan_query(query, &call, MissingParameters::Refuse)?),
        };
        let Some(prepared) = prepared.filter(|prepared| !prepared.numbered) else {
            return Ok(gathered(self.rows_of(query, &call)?, source));
        };
        let control = control::current().unwrap_or_else(|| self.new_control());
        drop(entered);
        self.running(prepared, control, source)
    }

    fn running(&self, prepared: Prepared, control: Arc<Control>, source: &Arc<SourceText>) -> Result<RowStream<'_>> {
        let (columns, notes) = (prepared.result_columns(), prepared.notes(self.settings().style_notes));
        let (pool, batch_rows) = (self.pool(), self.settings().batch_rows);
        let (most_rows, interrupt) = (self.access.rows, self.interrupt());
        let (sender, received) = sync_channel(WAITING_BATCHES);
        let work = move || {
            let _entered = control::enter(Some(&control));
            let deliver = |batch: Batch| match sender.send(Ok(batch)) {
                Ok(()) => ControlFlow::Continue(()),
                Err(_) => ControlFlow::Break(()),
            };
            let run = || prepared.stream((&control, &pool, batch_rows), most_rows, &deliver);
            if let Err(error) = control::large_stack(run) {
                // Nobody is left to hear of it.
                let _ = sender.send(Err(error));
            }
        };
        let worker = std::thread::Builder::new().name("garden-gate stream".into()).spawn(work).map_err(|error| {
            Error::new(SqlState::GENERAL, "the thread of a stream of rows cannot be started").caused_by(error)
        })?;
        let running = Running { received: Some(received), worker: Some(worker), interrupt };
        Ok(RowStream {
            schema: super::result_set::schema_of(&columns),
            columns,
            notes,
            source: Arc::clone(source),
            batches: Batches::Running(running),
            session: PhantomData,
        })
    }
}

fn gathered<'s>(rows: ResultSet, source: &Arc<SourceText>) -> RowStream<'s> {
    RowStream {
        schema: super::result_set::schema_of(&rows.columns),
        columns: rows.columns,
        notes: rows.notes,
        source: Arc::clone(source),
        batches: Batches::Gathered(rows.batches.into_iter()),
        session: PhantomData,
    }
}
