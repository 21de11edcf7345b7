//! A query for one value of a parameter after the other: where does its plan change, and how far off are the estimates?

use super::plan_diff::line;
use crate::bind::Parameters;
use crate::diagnostic::{Error, IntoSource, Result, SourceText, Span, SqlState};
use crate::logical::{DirectiveKind, GuidedJoin, GuidedRead};
use crate::physical::{JoinMethod, Plan, PlanNode};
use crate::session::{Session, no_query};
use crate::syntax::ast::{self, GuideClause, GuideDirective, StatementKind};
use crate::types::{Decimal, Value, parse_date};
use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;

/// Combinations of values that a sweep goes through at most.
const MOST_POINTS: usize = 100_000;

/// A parameter with the values that it is to have, one after the other.
pub type Swept = (String, Vec<Value>);

/// What a sweep found, value by value.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Sweep {
    /// The parameters that were swept over.
    pub names: Vec<String>,
    /// One for each combination of values; those of the last parameter change fastest.
    pub points: Vec<SweepPoint>,
    /// For each point what it would cost under each of [`Sweep::plans`], `None` where no guide leads to that plan; empty when it was not
    /// asked for.
    pub fixed: Vec<Vec<Option<f64>>>,
}

/// What a sweep is to find out.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct SweepOptions {
    /// What each value would cost under the plan of each other.
    pub fixed_plans: bool,
}

impl SweepOptions {
    /// Also finds out what each value would cost under the plan of each other.
    #[must_use]
    pub fn fixed_plans(self) -> Self {
        Self { fixed_plans: true }
    }
}

/// A query with one combination of values.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct SweepPoint {
    /// The values, in the order of the names.
    pub values: Vec<Value>,
    /// The plan that was chosen and run.
    pub plan: Plan,
    /// That plan in one line.
    pub line: String,
    /// Rows of the result.
    pub actual_rows: u64,
    /// What the engine took.
    pub elapsed: Duration,
}

impl SweepPoint {
    /// Where the values show in rows: the root of the plan, or, when all rows are grouped into one, what is grouped.
    pub fn telling(&self) -> &PlanNode {
        let mut node = &self.plan.root;
        while let [input] = node.children.as_slice() {
            let has_keys = || node.details.iter().any(|detail| detail.starts_with("by "));
            if node.operator.is_aggregate() {
                return if has_keys() { &self.plan.root } else { input };
            }
            node = input;
        }
        &self.plan.root
    }
}

/// Neighbouring values with one plan.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct PlanInterval {
    /// The plan, counted from 0 in the order plans are met.
    pub plan: usize,
    /// Its points among those of the sweep.
    pub points: Range<usize>,
}

impl Sweep {
    /// The points at which each different plan is met first.
    pub fn plans(&self) -> Vec<&SweepPoint> {
        let mut found: Vec<&SweepPoint> = Vec::new();
        for point in &self.points {
            if !found.iter().any(|known| known.plan.shape == point.plan.shape) {
                found.push(point);
            }
        }
        found
    }

    /// The stretches of equal plan, in order; where one ends and the next begins the plan flips.
    pub fn intervals(&self) -> Vec<PlanInterval> {
        let plans = self.plans();
        let number =
            |point: &SweepPoint| plans.iter().position(|known| known.plan.shape == point.plan.shape).unwrap_or(0);
        let mut found: Vec<PlanInterval> = Vec::new();
        for (at, point) in self.points.iter().enumerate() {
            let plan = number(point);
            match found.last_mut() {
                Some(last) if last.plan == plan => last.points.end = at + 1,
                _ => found.push(PlanInterval { plan, points: at..at + 1 }),
            }
        }
        found
    }

    /// The point with the estimate that is farthest off, anywhere in its plan.
    pub fn worst_estimate(&self) -> Option<&SweepPoint> {
        let error =
            |point: &SweepPoint| point.plan.worst_estimate().and_then(|node| node.estimate_error).unwrap_or(1.0);
        self.points.iter().max_by(|a, b| error(a).total_cmp(&error(b)))
    }
}

impl Session {
    /// Plans and runs a query for each combination of values.
    ///
    /// ```
    /// # use garden_gate::Database;
    /// # fn main() -> garden_gate::Result<()> {
    /// let mut session = Database::in_memory().session();
    /// session.run("CREATE TABLE task (id INTEGER, bed INTEGER); INSERT INTO task VALUES (1, 7), (2, 7), (3, 8)")?;
    /// let over = vec![("bed".to_owned(), vec![7.into(), 8.into(), 9.into()])];
    /// let found = session.sweep("SELECT id FROM task WHERE bed = :bed", &over)?;
    /// assert_eq!(found.points.iter().map(|point| point.actual_rows).collect::<Vec<_>>(), [2, 1, 0]);
    /// assert_eq!(found.intervals().len(), 1);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// 42000 for a text that does not end with a query, 54000 for more than 100,000 combinations, 07001 for a parameter that the text does
    /// not use; whatever the query meets.
    pub fn sweep(&mut self, sql: impl IntoSource, over: &[Swept]) -> Result<Sweep> {
        self.sweep_with(sql, (), over, &SweepOptions::default())
    }

    /// As [`Session::sweep`], with values of the parameters that are not swept over. Statements before the
    /// last are run once.
    ///
    /// # Errors
    /// As [`Session::sweep`].
    pub fn sweep_with(
        &mut self,
        sql: impl IntoSource,
        parameters: impl Into<Parameters>,
        over: &[Swept],
        options: &SweepOptions,
    ) -> Result<Sweep> {
        let (source, parameters) = (&sql.into_source(), &parameters.into());
        crate::control::large_stack(|| {
            let count = over.iter().try_fold(1_usize, |count, (_, values)| count.checked_mul(values.len()));
            let count = count.filter(|count| *count <= MOST_POINTS).ok_or_else(|| {
                let message = format!("a sweep goes through {MOST_POINTS} combinations of values at most");
                Error::new(SqlState::PROGRAM_LIMIT, message).with_help("sweep over fewer values, or with a larger step")
            })?;
            let first = |given: Parameters, (name, values): &Swept| {
                given.set(name, values.first().cloned().unwrap_or(Value::Null))
            };
            let last = self.last_statement(source, &over.iter().fold(parameters.clone(), first))?;
            if !matches!(last.kind, StatementKind::Query(_)) {
                return Err(no_query().at(last.span).in_source(source));
            }
            let names = over.iter().map(|(name, _)| name.clone()).collect();
            let mut sweep = Sweep { names, points: Vec::new(), fixed: Vec::new() };
            for number in 0..count {
                let values = combination(over, number);
                let given = sweep.names.iter().zip(&values);
                let given = given.fold(parameters.clone(), |given, (name, value)| given.set(name, value.clone()));
                let (mut rows, mut plan) = self.measure_statement(&last, source, &given)?;
                // A plan is met cold the first time: columns come from the file, indexes are sorted. That is not what the values cost.
                if !sweep.points.iter().any(|point| point.plan.shape == plan.shape) {
                    (rows, plan) = self.measure_statement(&last, source, &given)?;
                }
                let (actual_rows, elapsed) = (rows.row_count() as u64, rows.elapsed());
                sweep.points.push(SweepPoint { values, line: line(&plan.root), plan, actual_rows, elapsed });
            }
            if options.fixed_plans {
                sweep.fixed = self.fixed_plans(&sweep, &last, (source, parameters))?;
            }
            Ok(sweep)
        })
    }

    /// What each point costs under the plan of each other: planned once more under a guide that demands that plan.
    fn fixed_plans(
        &mut self,
        sweep: &Sweep,
        last: &ast::Statement,
        (source, parameters): (&Arc<SourceText>, &Parameters),
    ) -> Result<Vec<Vec<Option<f64>>>> {
        let StatementKind::Query(query) = &last.kind else { return Ok(Vec::new()) };
        let plans: Vec<(String, ast::Statement)> = sweep
            .plans()
            .iter()
            .map(|point| {
                let mut guided = query.clone();
                guided.guide = Some(guide_to(&point.plan, last.span));
                let kind = StatementKind::Query(guided);
                (point.plan.shape.clone(), ast::Statement { kind, ..last.clone() })
            })
            .collect();
        let mut all = Vec::new();
        for point in &sweep.points {
            let given = sweep.names.iter().zip(&point.values);
            let given = given.fold(parameters.clone(), |given, (name, value)| given.set(name, value.clone()));
            let mut costs = Vec::new();
            for (wanted, statement) in &plans {
                if *wanted == point.plan.shape {
                    costs.push(Some(point.plan.cost));
                    continue;
                }
                let found = self.plan_statement(statement, source, &given)?;
                costs.push((found.shape == *wanted).then_some(found.cost));
            }
            all.push(costs);
        }
        Ok(all)
    }
}

impl Session {
    /// The values that a text names: a list `V1,V2,…`, a range `FROM..TO` or `FROM..TO:STEP` of numbers or days, or a query, whose first
    /// column they are.
    ///
    /// # Errors
    /// 42000 for a range of other things, or one without values; whatever the query meets.
    pub fn values_of(&mut self, text: &str) -> Result<Vec<Value>> {
        let word = text.trim_start().split(|c: char| !c.is_alphabetic()).next().unwrap_or_default().to_uppercase();
        let query = match text.split_once("..") {
            _ if ["SELECT", "WITH", "VALUES", "TABLE"].contains(&word.as_str()) => text.to_owned(),
            Some((from, rest)) => {
                let (to, step) = rest.split_once(':').unwrap_or((rest, "1"));
                series(from.trim(), to.trim(), step.trim()).ok_or_else(|| {
                    let message = format!("{text:?} is not a range of numbers or days");
                    Error::new(SqlState::SYNTAX_OR_RULE, message)
                        .with_help("write it as 1..100, 0..1:0.25 or 2024-01-01..2024-12-31:7")
                })?
            }
            None => return Ok(text.split(',').map(|value| Value::Untyped(value.trim().to_owned())).collect()),
        };
        let rows = self.query(&query, ())?;
        let values: Vec<Value> = rows.rows().map(|row| row.value(0)).collect();
        if values.is_empty() {
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, format!("{text:?} gives no values")));
        }
        Ok(values)
    }
}

/// The guide that demands how a plan reads and joins.
fn guide_to(plan: &Plan, span: Span) -> GuideClause {
    let mut demands = vec![DirectiveKind::Workers(plan.workers)];
    let name = |node: &PlanNode| node.alias.clone().or_else(|| node.target.clone());
    let first_name = |node: &PlanNode| {
        let mut names = Vec::new();
        let mut waiting = vec![node];
        while let Some(node) = waiting.pop() {
            names.extend(name(node));
            waiting.extend(node.children.iter().rev());
        }
        names.into_iter().next()
    };
    for node in plan.nodes() {
        let scan = node.children.is_empty();
        if let (true, Some(table)) = (scan, name(node)) {
            let by = node.index.as_ref().map_or(GuidedRead::Scan, |index| GuidedRead::Indexes(index.names().to_vec()));
            demands.push(DirectiveKind::Read { table, by });
        }
        let by = match node.operator.join_method() {
            Some(JoinMethod::Hash) => GuidedJoin::Hash,
            Some(JoinMethod::Merge) => GuidedJoin::Merge,
            Some(JoinMethod::Range) => GuidedJoin::Range,
            Some(JoinMethod::NestedLoop | JoinMethod::IndexNestedLoop) => GuidedJoin::NestedLoop,
            Some(JoinMethod::Nearest) | None => continue,
        };
        let inner = node.children.get(1).map_or_else(|| name(node), first_name);
        if let (Some(outer), Some(inner)) = (node.children.first().and_then(first_name), inner) {
            demands.push(DirectiveKind::Join { tables: [outer, inner], by });
        }
    }
    // Each kind has a place of its own, so that none is taken for another.
    let directive = |(at, kind): (usize, DirectiveKind)| GuideDirective {
        kind,
        names: Vec::new(),
        span: Span {
            start: span.start + crate::types::index(at),
            end: span.end.max(span.start) + crate::types::index(at),
        },
    };
    GuideClause { if_possible: true, directives: demands.into_iter().enumerate().map(directive).collect() }
}

/// The query for the values of a range.
fn series(from: &str, to: &str, step: &str) -> Option<String> {
    let number = |text: &str| Decimal::parse(text).is_some();
    if !number(step) {
        return None;
    }
    if number(from) && number(to) {
        return Some(format!("SELECT value FROM SERIES({from}, {to}, {step})"));
    }
    let (from, to) = (parse_date(from).map(|_| from)?, parse_date(to).map(|_| to)?);
    Some(format!("SELECT value FROM SERIES(DATE '{from}', DATE '{to}', INTERVAL '{step}' DAY)"))
}

/// The values of a combination, of which the last changes fastest.
fn combination(over: &[Swept], mut number: usize) -> Vec<Value> {
    let mut values: Vec<Value> = over
        .iter()
        .rev()
        .map(|(_, values)| {
            let value = values[number % values.len()].clone();
            number /= values.len();
            value
        })
        .collect();
    values.reverse();
    values
}
