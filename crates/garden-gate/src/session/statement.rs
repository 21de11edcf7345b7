//! One query, from its tree to its rows: bind, rewrite, choose, execute.
//!
//! [`prepare`] is the only way to a plan: what `plan` shows and what `query` runs come out of the same call.

use super::plan_notes;
use super::result_set::{ResultColumn, ResultSet};
use super::settings::Settings;
use crate::bind::{BindContext, Bound, bind_query};
use crate::catalog::{Segment, TableSource};
use crate::choose::{IndexLookups, MatchedRows, Resources, check_guide, choose};
use crate::control::Control;
use crate::diagnostic::{Note, Result, SourceText};
use crate::execute::{self, Deliver, Pool, RoundLog, Run};
use crate::logical::{ColumnId, CteDefinition, LogicalPlan, RewriteNote, Scan, ScanIndex, WindowFunction};
use crate::physical::{IndexAccess, Measures, PhysicalPlan, Plan, describe};
use crate::syntax::ast;
use crate::types::Zone;
use arrow::array::ArrayRef;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// A query that is ready to run.
pub(super) struct Prepared {
    bound: BoundParts,
    plan: PhysicalPlan,
    rewrites: Vec<RewriteNote>,
    started: Instant,
    /// What it took to come to the plan.
    planning: Duration,
    /// The time zone in which its rows are shown.
    zone: Zone,
    /// Whether it takes numbers of a sequence.
    pub(super) numbered: bool,
    /// Every table that the query names.
    pub(super) reads: Vec<Arc<dyn TableSource>>,
}

/// The indexes of stored tables are asked for rows while a plan is made.
#[derive(Debug)]
struct FromIndexes;

impl IndexLookups for FromIndexes {
    fn count(&self, scan: &Scan, access: &IndexAccess, searches: usize) -> Result<Option<u64>> {
        execute::count_indexed(scan, access, searches)
    }

    fn read(&self, scan: &Scan, access: &IndexAccess, columns: &[usize]) -> Result<Vec<Segment>> {
        execute::read_indexed(scan, access, columns)
    }

    fn matches(
        &self,
        scan: &Scan,
        index: &ScanIndex,
        keys: &[ArrayRef],
        columns: &[usize],
    ) -> Result<Option<MatchedRows>> {
        let found = execute::match_indexed(scan, index, keys, columns)?;
        Ok(found.map(|found| MatchedRows { rows: found.keys, columns: found.columns }))
    }
}

/// What is kept of a run beside its rows.
#[derive(Clone, Copy, Default)]
pub(super) struct RunObserver<'a> {
    pub(super) measures: Option<&'a Measures>,
    pub(super) rounds: Option<&'a RoundLog>,
    /// Whether notes on style come with the rows.
    pub(super) style_notes: bool,
    /// Rows that the result may have.
    pub(super) most_rows: Option<u64>,
}

/// What stays of a bound query when its plan has been handed on.
struct BoundParts {
    output: Vec<crate::bind::OutputColumn>,
    columns: crate::logical::Columns,
    notes: Vec<Note>,
    generic: bool,
}

/// Plans a query.
pub(super) fn prepare(
    query: &ast::Query,
    source: &Arc<SourceText>,
    around: &BindContext<'_>,
    settings: &Settings,
    started: Instant,
) -> Result<Prepared> {
    prepare_bound(bind_query(query, source, around)?, source, settings, started)
}

/// Plans what is bound already.
pub(super) fn prepare_bound(
    bound: Bound,
    source: &Arc<SourceText>,
    settings: &Settings,
    started: Instant,
) -> Result<Prepared> {
    let Bound { plan, output, mut columns, mut notes, generic, steps, guide } = bound;
    columns.keep_old = settings.keep_statistics;
    let numbered = takes_numbers(&plan);
    if columns.keep_old {
        notes.extend(plan_notes::stale(&plan, &steps));
    }
    let reads = sources(&plan, &steps);
    let required = wanted(&output);
    let mut rewritten = crate::rewrite::rewrite(plan, steps, (&required, &mut columns), &settings.without_rules)?;
    let resources = Resources { workers: settings.workers, factors: settings.factors(), lookups: &FromIndexes };
    let mut rewrites = std::mem::take(&mut rewritten.log);
    notes.append(&mut rewritten.notes);
    let mut plan = choose(rewritten, &wanted(&output), &columns, (resources, &guide))?;
    rewrites.append(&mut plan.rewrites);
    notes.extend(check_guide(&guide, &plan, &columns, settings.workers)?);
    notes.extend(plan_notes::hidden_indexes(&plan.root, &columns));
    notes.iter_mut().for_each(|note| note.source = Some(Arc::clone(source)));
    let (bound, zone) = (BoundParts { output, columns, notes, generic }, settings.zone);
    Ok(Prepared { bound, plan, rewrites, started, planning: started.elapsed(), zone, numbered, reads })
}

/// Whether a plan takes numbers of a sequence.
fn takes_numbers(plan: &LogicalPlan) -> bool {
    let mut found = false;
    plan.walk(&mut |node| {
        if let LogicalPlan::Window { calls, .. } = node {
            found |= calls.iter().any(|(_, call)| matches!(call.function, WindowFunction::NextValue(_)));
        }
    });
    found
}

/// The sources of all tables in a plan and its steps.
fn sources(plan: &LogicalPlan, steps: &[CteDefinition]) -> Vec<Arc<dyn TableSource>> {
    let mut found = Vec::new();
    for plan in std::iter::once(plan).chain(steps.iter().map(|step| &step.plan)) {
        plan.walk(&mut |node| {
            if let LogicalPlan::Scan(scan) = node {
                found.push(Arc::clone(&scan.source));
            }
        });
    }
    found
}

fn wanted(output: &[crate::bind::OutputColumn]) -> Vec<ColumnId> {
    output.iter().map(|column| column.id).collect()
}

impl Prepared {
    /// The plan as it is shown; with `measures`, also what it did.
    pub(super) fn describe(&self, measures: Option<&Measures>) -> Plan {
        let output = wanted(&self.bound.output);
        let mut plan = describe((&self.plan, &output), &self.bound.columns, &self.rewrites, measures);
        plan.generic = self.bound.generic;
        plan.planning_ms = self.planning.as_secs_f64() * 1000.0;
        plan.notes.clone_from(&self.bound.notes);
        plan
    }

    /// Whether there is nothing to it but its plan: no notes, no numbers of a sequence.
    pub(super) fn is_plain(&self) -> bool {
        self.bound.notes.is_empty() && !self.numbered
    }

    /// The topmost operator.
    pub(super) fn root(&self) -> &crate::physical::Node {
        &self.plan.root
    }

    /// The columns of the result, by their numbers in the plan.
    pub(super) fn output(&self) -> &[crate::bind::OutputColumn] {
        &self.bound.output
    }

    /// The columns of the result, by names and types.
    pub(super) fn result_columns(&self) -> Vec<ResultColumn> {
        let column = |column: &crate::bind::OutputColumn| {
            ResultColumn::new(&column.name, self.bound.columns.get(column.id).declared())
        };
        self.bound.output.iter().map(column).collect()
    }

    /// What is worth knowing about the query; with `style`, of its style too.
    pub(super) fn notes(&self, style: bool) -> Vec<Note> {
        self.bound.notes.iter().filter(|note| style || !note.style).cloned().collect()
    }

    /// Runs the plan on the threads of `pool`, in batches of so many rows, and hands them on as they come.
    pub(super) fn stream(
        &self,
        (control, pool, batch_rows): (&Control, &Pool, usize),
        most_rows: Option<u64>,
        deliver: &Deliver<'_>,
    ) -> Result<()> {
        let columns = &self.bound.columns;
        let run = Run { control, pool, batch_rows, columns, measures: None, most_rows, rounds: None };
        execute::stream(&self.plan, &wanted(&self.bound.output), &run, deliver)
    }

    /// Counters for a run that is measured.
    pub(super) fn measures(&self) -> Measures {
        Measures::for_plan(&self.plan.root)
    }

    /// Runs the plan on the threads of `pool`, in batches of so many rows.
    pub(super) fn run(
        &self,
        control: &Control,
        (pool, batch_rows): (&Pool, usize),
        RunObserver { measures, rounds, style_notes, most_rows }: RunObserver<'_>,
    ) -> Result<ResultSet> {
        let run = Run { control, pool, batch_rows, columns: &self.bound.columns, measures, most_rows, rounds };
        let batches = execute::run(&self.plan, &wanted(&self.bound.output), &run)?;
        Ok(ResultSet {
            columns: self.result_columns(),
            batches,
            notes: self.notes(style_notes),
            elapsed: self.started.elapsed(),
            affected: None,
            zone: self.zone,
        })
    }
}
