//! Two or more formulations of a question: the same rows, the same plan, and which is cheaper?

use super::plan_diff::first_parting;
use super::row_diff::{UnmatchedRow, first_out_of_order, unmatched_rows};
use crate::bind::Parameters;
pub(super) use crate::diagnostic::counted as count;
use crate::diagnostic::{Error, IntoSource, Result, SourceText, SqlState};
use crate::physical::Plan;
use crate::session::{Call, ResultSet, Session, no_query};
use crate::syntax::ast::{Statement, StatementKind};
use crate::types::Value;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Differences of one kind that are told for two queries.
const MOST_DIFFERENCES: usize = 6;

/// How queries are compared.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct CompareOptions {
    /// Whether the order of the rows counts; without it they are multisets.
    pub ordered: bool,
    /// How often each query is run, the queries in turn.
    pub runs: usize,
    /// Moments at which one query is run, as [`Session::read_as_of`] takes them; none for two or more queries in the present.
    pub as_of: Vec<String>,
}

impl Default for CompareOptions {
    /// Rows as multisets, five runs.
    fn default() -> Self {
        Self { ordered: false, runs: 5, as_of: Vec::new() }
    }
}

impl CompareOptions {
    /// The order of the rows counts.
    #[must_use]
    pub fn ordered(self) -> Self {
        Self { ordered: true, ..self }
    }

    /// Each query is run so often.
    #[must_use]
    pub fn runs(self, runs: usize) -> Self {
        Self { runs, ..self }
    }

    /// The query is also run at this moment, as [`Session::read_as_of`] takes it.
    #[must_use]
    pub fn as_of(mut self, moment: impl Into<String>) -> Self {
        self.as_of.push(moment.into());
        self
    }
}

/// What a comparison found.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Comparison {
    /// The queries, as they were given.
    pub queries: Vec<ComparedQuery>,
    /// Whether all have the rows of the first.
    pub same_rows: bool,
    /// Whether all have the plan of the first: its structure, methods and indexes.
    pub same_plan: bool,
    /// Where they part from the first.
    pub differences: Vec<Difference>,
}

/// One of the queries.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct ComparedQuery {
    /// The name of its text, or `query 1`.
    pub label: String,
    /// Its rows.
    pub rows: ResultSet,
    /// Its plan, with the rows and times of one measured run.
    pub plan: Plan,
    /// What the engine took, run by run, the quickest first.
    pub times: Vec<Duration>,
}

impl ComparedQuery {
    /// The middle one of its times.
    pub fn median(&self) -> Duration {
        self.times.get(self.times.len() / 2).copied().unwrap_or_default()
    }
}

/// What differs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum DifferenceKind {
    /// The number of columns.
    Columns,
    /// The type or the name of a column; the rows may be the same even so.
    Column,
    /// A row that one has and the other has not, or not as often.
    Row,
    /// The order of the rows.
    Order,
    /// The plan.
    Plan,
}

impl DifferenceKind {
    /// Its name in JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Columns => "columns",
            Self::Column => "column",
            Self::Row => "row",
            Self::Order => "order",
            Self::Plan => "plan",
        }
    }
}

/// Something that parts a query from the first one.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Difference {
    /// What differs.
    pub kind: DifferenceKind,
    /// The labels of the first query and of the other.
    pub between: [String; 2],
    /// What is different, in words.
    pub text: String,
    /// Of a row: its values.
    pub row: Option<Vec<Value>>,
    /// Of a row: how often each query has it.
    pub times: Option<[usize; 2]>,
}

impl Session {
    /// Runs queries, in turn and several times each, and tells whether they give the same rows by the same plan, and what they cost.
    ///
    /// ```
    /// # use garden_gate::Database;
    /// # fn main() -> garden_gate::Result<()> {
    /// let mut session = Database::in_memory().session();
    /// session.run("CREATE TABLE bed (id INTEGER, sun VARCHAR(9)); INSERT INTO bed VALUES (1, 'shade'), (2, NULL)")?;
    /// let found = session.compare(&["SELECT id FROM bed WHERE sun = 'shade'", "SELECT id FROM bed WHERE sun <> 'full'"])?;
    /// assert!(found.same_rows && found.queries[0].rows.row_count() == 1);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// 42000 for fewer than two texts, or one that does not end with a query; whatever a query meets.
    pub fn compare<S: IntoSource>(&mut self, queries: impl IntoIterator<Item = S>) -> Result<Comparison> {
        self.compare_with(queries, (), &CompareOptions::default())
    }

    /// As [`Session::compare`], with values of parameters and options. Of a text with several statements all
    /// but the last are run once, before anything is compared.
    ///
    /// # Errors
    /// As [`Session::compare`].
    pub fn compare_with<S: IntoSource>(
        &mut self,
        queries: impl IntoIterator<Item = S>,
        parameters: impl Into<Parameters>,
        options: &CompareOptions,
    ) -> Result<Comparison> {
        let sources: Vec<Arc<SourceText>> = queries.into_iter().map(IntoSource::into_source).collect();
        let (sources, parameters) = (sources.as_slice(), &parameters.into());
        crate::control::large_stack(|| {
            parameters.check_used(sources)?;
            let moments = options.as_of.as_slice();
            if moments.is_empty() && sources.len() < 2 {
                return Err(Error::new(SqlState::SYNTAX_OR_RULE, "two queries or more are compared"));
            }
            if !moments.is_empty() && (sources.len() != 1 || moments.len() < 2) {
                let message = "one query is compared at two moments or more, or several queries at none";
                return Err(Error::new(SqlState::SYNTAX_OR_RULE, message));
            }
            let own: Vec<Parameters> = sources.iter().map(|source| parameters.used_in(source)).collect();
            let mut statements = Vec::new();
            for (source, own) in sources.iter().zip(&own) {
                let last = self.last_statement(source, own)?;
                if !matches!(last.kind, StatementKind::Query(_)) {
                    return Err(no_query().at(last.span).in_source(source));
                }
                statements.push(last);
            }
            if let ([statement], [source], [own]) = (statements.as_slice(), sources, own.as_slice())
                && !moments.is_empty()
            {
                let queries = self.at_moments((statement, source, own), options);
                self.read_as_of(None)?;
                return Ok(compared(queries?, options.ordered));
            }
            let mut queries = Vec::new();
            for (number, ((statement, source), own)) in statements.iter().zip(sources).zip(&own).enumerate() {
                let (rows, plan) = self.measure_statement(statement, source, own)?;
                let label = source.name().map_or_else(|| format!("query {}", number + 1), str::to_owned);
                queries.push(ComparedQuery { label, rows, plan, times: Vec::new() });
            }
            for _ in 0..options.runs {
                for (query, ((statement, source), own)) in
                    queries.iter_mut().zip(statements.iter().zip(sources).zip(&own))
                {
                    query.times.push(self.timed(statement, source, own)?);
                }
            }
            queries.iter_mut().for_each(|query| query.times.sort());
            Ok(compared(queries, options.ordered))
        })
    }

    /// One query at each of the moments.
    fn at_moments(
        &mut self,
        (statement, source, own): (&Statement, &Arc<SourceText>, &Parameters),
        options: &CompareOptions,
    ) -> Result<Vec<ComparedQuery>> {
        let mut queries = Vec::new();
        for moment in &options.as_of {
            self.read_as_of(Some(moment))?;
            let (rows, plan) = self.measure_statement(statement, source, own)?;
            queries.push(ComparedQuery { label: format!("as of {moment}"), rows, plan, times: Vec::new() });
        }
        for _ in 0..options.runs {
            for (query, moment) in queries.iter_mut().zip(&options.as_of) {
                self.read_as_of(Some(moment))?;
                query.times.push(self.timed(statement, source, own)?);
            }
        }
        queries.iter_mut().for_each(|query| query.times.sort());
        Ok(queries)
    }

    fn timed(&mut self, statement: &Statement, source: &Arc<SourceText>, parameters: &Parameters) -> Result<Duration> {
        let StatementKind::Query(query) = &statement.kind else { return Err(no_query()) };
        let call = Call { source, parameters, started: Instant::now(), measured: None };
        self.query_rows(query, &call).map(|rows| rows.elapsed()).map_err(|error| error.in_source(source))
    }
}

fn compared(queries: Vec<ComparedQuery>, ordered: bool) -> Comparison {
    let mut differences = Vec::new();
    let (mut same_rows, mut same_plan) = (true, true);
    if let [first, others @ ..] = queries.as_slice() {
        for other in others {
            let mut found = row_differences([first, other], ordered);
            same_rows &= found.iter().all(|difference| difference.kind == DifferenceKind::Column);
            same_plan &= first.plan.fingerprint == other.plan.fingerprint;
            found.extend(plan_difference([first, other]));
            differences.extend(found);
        }
    }
    Comparison { queries, same_rows, same_plan, differences }
}

fn difference(sides: [&ComparedQuery; 2], kind: DifferenceKind, text: String) -> Difference {
    Difference { kind, between: sides.map(|side| side.label.clone()), text, row: None, times: None }
}

fn row_differences(sides: [&ComparedQuery; 2], ordered: bool) -> Vec<Difference> {
    let results = sides.map(|side| &side.rows);
    let columns = results.map(ResultSet::columns);
    if columns[0].len() != columns[1].len() {
        let text = format!(
            "{} has {}, {} has {}",
            sides[0].label,
            count(columns[0].len(), "column"),
            sides[1].label,
            columns[1].len()
        );
        return vec![difference(sides, DifferenceKind::Columns, text)];
    }
    let mut found = Vec::new();
    for (number, (a, b)) in columns[0].iter().zip(columns[1]).enumerate() {
        if a.sql_type != b.sql_type {
            let (first, other) = (&sides[0].label, &sides[1].label);
            let text =
                format!("column {} ({}) is {} in {first}, {} in {other}", number + 1, a.name, a.sql_type, b.sql_type);
            found.push(difference(sides, DifferenceKind::Column, text));
        }
    }
    let odd = unmatched_rows(results);
    let (told, untold) = told_of(&odd);
    for row in told {
        let text = match row.times {
            [0, times] => format!("only {} has it{}", sides[1].label, often(times)),
            [times, 0] => format!("only {} has it{}", sides[0].label, often(times)),
            [a, b] => format!("{} has it {a} times, {} {b} times", sides[0].label, sides[1].label),
        };
        let (values, times) = (Some(row.row.clone()), Some(row.times));
        found.push(Difference { row: values, times, ..difference(sides, DifferenceKind::Row, text) });
    }
    if untold != [0, 0] {
        let [a, b] = untold;
        let (first, other) = (&sides[0].label, &sides[1].label);
        let text = format!("and {} more: {a} of {first}, {b} of {other}", count(a + b, "different row"));
        found.push(difference(sides, DifferenceKind::Row, text));
    }
    if ordered
        && odd.is_empty()
        && let Some((number, rows)) = first_out_of_order(results)
    {
        let shown = rows.map(|row| row.map_or_else(|| "no row".into(), |row| row_text(&row)));
        let text = format!("row {number} is {} in {}, {} in {}", shown[0], sides[0].label, shown[1], sides[1].label);
        found.push(difference(sides, DifferenceKind::Order, text));
    }
    found
}

/// A few of the rows that differ, of each side those that it has oftener, and how many of each are omitted.
fn told_of(odd: &[UnmatchedRow]) -> (Vec<&UnmatchedRow>, [usize; 2]) {
    let (mut first, mut other): (Vec<&UnmatchedRow>, Vec<&UnmatchedRow>) =
        odd.iter().partition(|row| row.times[0] > row.times[1]);
    let all = [first.len(), other.len()];
    first.truncate(MOST_DIFFERENCES.saturating_sub(other.len()).max(MOST_DIFFERENCES / 2));
    other.truncate(MOST_DIFFERENCES - first.len());
    let untold = [all[0] - first.len(), all[1] - other.len()];
    first.append(&mut other);
    (first, untold)
}

fn plan_difference(sides: [&ComparedQuery; 2]) -> Option<Difference> {
    if sides[0].plan.fingerprint == sides[1].plan.fingerprint {
        return None;
    }
    let Some((way, there)) = first_parting(&sides[0].plan.root, &sides[1].plan.root) else {
        let text = "other columns are read, or those of the result are in another order".to_owned();
        return Some(difference(sides, DifferenceKind::Plan, text));
    };
    let place = if way.is_empty() { "at the top".to_owned() } else { format!("below {way}") };
    let there = there.map(|title| title.unwrap_or_else(|| "nothing".into()));
    let text = format!("{place}: {} in {}, {} in {}", there[0], sides[0].label, there[1], sides[1].label);
    Some(difference(sides, DifferenceKind::Plan, text))
}

/// `(1, ‹null›, 'shade')`
pub(super) fn row_text(row: &[Value]) -> String {
    let value = |value: &Value| match value {
        Value::Null => "NULL".to_owned(),
        Value::Text(text) => format!("'{text}'"),
        other => other.to_string(),
    };
    format!("({})", row.iter().map(value).collect::<Vec<_>>().join(", "))
}

fn often(times: usize) -> String {
    if times == 1 { String::new() } else { format!(" ({times} times)") }
}
