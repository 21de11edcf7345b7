//! `FOR SYSTEM_TIME` (clause 7.6): versions of the rows of a table that keeps history, and the moments that are asked for.
//!
//! A version is there from its start on, and no longer at its end: AS OF t sees those with start <= t < end.

use super::problem::Problem;
use super::scope::{At, Clause, Scope};
use super::{BindContext, Binder, convert};
use crate::catalog::{FOREVER, Table, TableDefinition};
use crate::diagnostic::{Error, Note, Result, SourceText, Span, SqlState};
use crate::kernel::evaluate_constant;
use crate::logical::{Expr, ExprKind, LogicalPlan};
use crate::storage::{MomentFacts, StoredTable};
use crate::syntax::ast::{self, SystemTimeClause, SystemTimeKind, SystemTimePoint};
use crate::types::{MICROS_PER_DAY, SqlType, Value, format_timestamp};
use std::any::Any;
use std::sync::Arc;

/// The versions that were there at some moment from the first to the last; both count. `None` for a moment that has no value yet.
#[derive(Clone, Copy, Debug)]
struct Range {
    first: Option<i64>,
    last: Option<i64>,
}

/// A moment outside a query, as in SET AS OF.
///
/// # Errors
/// Whatever is wrong with it; 07001 where a parameter has no value.
pub fn moment_of(moment: &SystemTimePoint, source: &SourceText, around: &BindContext<'_>) -> Result<i64> {
    let mut binder = Binder::new(source, around);
    let found = binder.moment(moment)?;
    found.ok_or_else(|| Error::new(SqlState::PARAMETER_MISMATCH, "the moment has no value").at(moment.expr().span))
}

impl<'a> Binder<'a> {
    /// A table with the versions of its rows that a clause or the session asks for; without one the current rows.
    pub(super) fn scan_versions(
        &mut self,
        (table, schema, shown): (&Table, String, String),
        clause: Option<&SystemTimeClause>,
        span: Span,
    ) -> Result<(LogicalPlan, Scope)> {
        let any: &dyn Any = table.source.as_ref();
        let versions = table.definition.as_deref().and_then(TableDefinition::versioning).zip(any.downcast_ref());
        let Some((period, stored)) = versions else {
            if let Some(clause) = clause {
                let problem = Problem::NotVersioned { table: table.name.clone(), stored: table.definition.is_some() };
                return Err(Error::from_facts(&problem).at(clause.span));
            }
            if self.around.as_of.is_some() && schema != super::information_schema::NAME {
                let message = format!("{:?} keeps no history: its current rows are read", table.name);
                let note = Note::new("no-history", message).at(span);
                let help = format!("ALTER TABLE {} ADD SYSTEM VERSIONING keeps it from then on", table.name);
                self.notes.push(note.help(help));
            }
            return Ok(self.scan(table, Some(schema), shown));
        };
        let range = match (clause, self.around.as_of) {
            (Some(clause), _) => self.range(clause)?,
            (None, Some(moment)) => Some(Range { first: Some(moment), last: Some(moment) }),
            (None, None) => return Ok(self.scan(table, Some(schema), shown)),
        };
        let at = clause.map_or(span, |clause| clause.span);
        let Some(range) = range else {
            self.note_trimmed(stored, &table.name, at);
            return Ok(self.scan_past((table, schema, shown), stored));
        };
        self.check_kept(range, stored, (&table.name, at))?;
        let words = clause.map_or_else(|| "the moment that the session reads".into(), |clause| self.words(clause));
        let (Some(first), Some(last)) = (range.first, range.last) else {
            // A plan without values is one of all versions.
            return Ok(self.scan_past((table, schema, shown), stored));
        };
        let latest = self.around.catalog.pending.time.unwrap_or_else(|| self.around.catalog.last_time());
        if first >= latest && first <= last {
            // Nothing has ended since: the current rows are all there is.
            return Ok(self.scan(table, Some(schema), shown));
        }
        let (source, facts) = stored.at(period, (first, last))?;
        let moment = Table { source, ..table.clone() };
        let (mut plan, scope) = self.scan(&moment, Some(schema), shown);
        let MomentFacts { read, pruned } = facts;
        of_the_past(&mut plan, vec![words, format!("{read} rows of history looked at, {pruned} in pruned segments")]);
        if last < first {
            plan = self.filter_attached(plan, Expr::truth(false, at));
        }
        Ok((plan, scope))
    }

    /// A clause as it is written, on one line.
    fn words(&self, clause: &SystemTimeClause) -> String {
        self.text(clause.span).split_whitespace().collect::<Vec<_>>().join(" ")
    }

    /// History and current rows, without the keys of the current ones.
    fn scan_past(
        &mut self,
        (table, schema, shown): (&Table, String, String),
        stored: &StoredTable,
    ) -> (LogicalPlan, Scope) {
        let past = Table { source: stored.past(), ..table.clone() };
        let (mut plan, scope) = self.scan(&past, Some(schema), shown);
        of_the_past(&mut plan, vec![format!("FOR SYSTEM_TIME ALL, {} rows of history", stored.history().rows())]);
        (plan, scope)
    }

    /// The moments of a clause; `None` for all.
    fn range(&mut self, clause: &SystemTimeClause) -> Result<Option<Range>> {
        Ok(Some(match &clause.kind {
            SystemTimeKind::All => return Ok(None),
            SystemTimeKind::AsOf(moment) => {
                let moment = self.moment(moment)?;
                Range { first: moment, last: moment }
            }
            SystemTimeKind::Between { from, to, symmetric } => {
                let (from, to) = (self.moment(from)?, self.moment(to)?);
                let swap = *symmetric && from > to;
                if swap { Range { first: to, last: from } } else { Range { first: from, last: to } }
            }
            SystemTimeKind::FromTo { from, to } => {
                let (from, to) = (self.moment(from)?, self.moment(to)?);
                Range { first: from, last: to.map(|to| to.saturating_sub(1)) }
            }
        }))
    }

    /// A moment in microseconds since 1970; `None` when a parameter of it has no value yet.
    pub(super) fn moment(&mut self, moment: &SystemTimePoint) -> Result<Option<i64>> {
        let bound = self.expr(moment.expr(), At { scope: &Scope::default(), clause: Clause::SystemTime })?;
        let span = bound.span();
        let target = match moment {
            SystemTimePoint::Commit(_) => SqlType::BigInt,
            SystemTimePoint::Time(_) => SqlType::TimestampTz,
        };
        let bound = if convert::is_unsettled(&bound) { self.settle_parameter(bound, target) } else { bound };
        let of_zone = target == SqlType::TimestampTz && matches!(bound.sql_type(), SqlType::Date | SqlType::Timestamp);
        let bound = if of_zone { self.across_zones(bound, target) } else { bound };
        if let Some(error) = self.problems.first() {
            return Err(error.clone());
        }
        if has_open_parameter(&bound) {
            return Ok(None);
        }
        if bound.has_subquery() {
            return Err(
                Error::not_supported("a query as a moment of FOR SYSTEM_TIME; LET a variable be its value").at(span)
            );
        }
        let value =
            evaluate_constant(&bound).map_err(|error| if error.span().is_none() { error.at(span) } else { error })?;
        let found = match (moment, &value) {
            (SystemTimePoint::Commit(_), Value::Integer(number)) => {
                return self.time_of_commit(*number, span).map(Some);
            }
            (SystemTimePoint::Time(_), Value::Timestamp(micros) | Value::Instant(micros)) => return Ok(Some(*micros)),
            (SystemTimePoint::Time(_), Value::Date(days)) => return Ok(Some(i64::from(*days) * MICROS_PER_DAY)),
            (_, Value::Null) => {
                let error = Error::new(SqlState::NULL_NOT_ALLOWED, "the moment of FOR SYSTEM_TIME is NULL");
                return Err(error.at(span));
            }
            _ => bound.sql_type(),
        };
        let problem = match moment {
            SystemTimePoint::Commit(_) => {
                Problem::WrongType { what: "COMMIT".into(), expected: "the number of a commit", found }
            }
            SystemTimePoint::Time(_) => {
                let text = if let Value::Text(text) = &value { Some(text.clone()) } else { None };
                Problem::NoMoment { found, text }
            }
        };
        Err(Error::from_facts(&problem).at(span))
    }

    fn time_of_commit(&self, number: i64, span: Span) -> Result<i64> {
        let catalog = self.around.catalog;
        let known = u64::try_from(number).ok().filter(|number| *number <= catalog.last_commit);
        if let Some(commit) = known.and_then(|number| catalog.commits.find(number)) {
            return Ok(commit.time);
        }
        let help = match catalog.last_commit {
            0 => "nothing has been committed yet".to_owned(),
            last => format!("the last commit is {last}; INFORMATION_SCHEMA.COMMITS lists them with their times"),
        };
        Err(Error::new(SqlState::DATA_EXCEPTION, format!("there is no commit {number}")).with_help(help).at(span))
    }

    /// An error when history that the range needs is gone; a note when the range lies in the future.
    fn check_kept(&mut self, range: Range, stored: &StoredTable, (table, span): (&str, Span)) -> Result<()> {
        if let (Some(first), Some(from)) = (range.first, stored.history().from)
            && first < from
        {
            return Err(gone(table, first, from).at(span));
        }
        if range.first.is_some_and(|first| first > self.around.moment.micros && first < FOREVER) {
            let message = "the moment lies in the future: the rows are the current ones";
            self.notes.push(Note::new("future-moment", message).at(span));
        }
        Ok(())
    }

    fn note_trimmed(&mut self, stored: &StoredTable, table: &str, span: Span) {
        let Some(from) = stored.history().from else { return };
        let message = format!("history of {table:?} begins at {}", shown(from));
        self.notes.push(Note::new("trimmed-history", message).at(span).help("what ended before it was not kept"));
    }

    /// What has changed in a table between two moments, both of which count, as a table.
    pub(super) fn changes(&mut self, changes: &ast::Changes) -> Result<(LogicalPlan, Scope)> {
        let (schema, table) =
            self.lookup(&changes.table).map_err(|problem| Error::from_facts(&problem).at(changes.span))?;
        let any: Arc<dyn Any + Send + Sync> = Arc::clone(&table.source) as _;
        let definition = table.definition.clone().filter(|definition| definition.versioning().is_some());
        let (Some(definition), Ok(stored)) = (definition, any.downcast::<StoredTable>()) else {
            let problem = Problem::NotVersioned { table: table.name.clone(), stored: table.definition.is_some() };
            return Err(Error::from_facts(&problem).at(changes.span));
        };
        let range = Range { first: self.moment(&changes.from)?, last: self.moment(&changes.to)? };
        self.check_kept(range, &stored, (&table.name, changes.span))?;
        let between = match (range.first, range.last) {
            (Some(first), Some(last)) => (first, last),
            // A plan without values: as if nothing had changed.
            _ => (1, 0),
        };
        let source = super::changes::changed_rows((&stored, &definition), between, self.around.catalog)?;
        let name = changes.alias.name.as_ref().map_or_else(|| table.name.clone(), |alias| alias.text.clone());
        let made = Table { source, definition: None, groups: Arc::default(), ..table };
        let (plan, scope) = self.scan(&made, Some(schema), name);
        Ok((plan, self.renamed(scope, &changes.alias)))
    }
}

/// A scan of other versions than the current ones: foreign keys mean current rows, and a column that is NOT NULL today may have held NULL.
fn of_the_past(plan: &mut LogicalPlan, versions: Vec<String>) {
    if let LogicalPlan::Scan(scan) = plan {
        scan.references.clear();
        scan.indexes.iter_mut().for_each(|index| index.never_null.fill(false));
        scan.versions = versions;
    }
}

fn shown(micros: i64) -> String {
    format!("{}+00:00", format_timestamp(micros))
}

/// An error for a moment whose rows were taken away.
fn gone(table: &str, asked: i64, from: i64) -> Error {
    let message = format!("history of {table:?} at {} is not kept", shown(asked));
    let help = format!("it begins at {}: ask for that moment or a later one", shown(from));
    Error::new(SqlState::DATA_EXCEPTION, message).with_help(help)
}

/// Whether a parameter in it has no value yet.
fn has_open_parameter(expr: &Expr) -> bool {
    let mut open = false;
    expr.walk(&mut |child| open |= matches!(child.kind(), ExprKind::Parameter(_, None)));
    open
}
