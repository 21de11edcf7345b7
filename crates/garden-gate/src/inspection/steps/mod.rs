//! The steps of a query: each common table expression, derived table, query inside an expression, operand of a set operator and round of a
//! recursion, run by itself.

mod around;
mod parts;
mod plans;

use crate::bind::Parameters;
use crate::diagnostic::{Error, IntoSource, Result, SourceText, SqlState, suggestion};
use crate::session::{Call, ResultSet, Session, no_query};
use crate::syntax::ast::StatementKind;
use parts::{QueryPart, parts_of};
pub use plans::StepPlan;
use std::sync::Arc;
use std::time::Instant;

/// What a step is in its query.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum StepPart {
    /// A common table expression.
    With,
    /// A query in FROM.
    Derived,
    /// A query inside an expression.
    Subquery,
    /// An operand of UNION, INTERSECT or EXCEPT.
    Operand,
    /// A round of a recursion.
    Recursion,
    /// The rows of FROM, before WHERE.
    From,
    /// The rows that WHERE keeps.
    Where,
    /// The groups, before HAVING.
    Group,
    /// The groups that HAVING keeps.
    Having,
    /// The query.
    Result,
}

impl StepPart {
    /// Its name in JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::With => "with",
            Self::Derived => "derived",
            Self::Subquery => "subquery",
            Self::Operand => "operand",
            Self::Recursion => "recursion",
            Self::From => "from",
            Self::Where => "where",
            Self::Group => "group",
            Self::Having => "having",
            Self::Result => "result",
        }
    }
}

/// A step and its rows.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Step {
    /// The name that the query gives it, after those of the steps it appears in: `wet_beds`, `wet_beds.d`; a number where there is none.
    pub name: String,
    /// What it is.
    pub part: StepPart,
    /// Of a recursion: the round, 0 for the anchor.
    pub round: Option<u64>,
    /// Whether it uses columns of the query around it; its rows then stand after those of that query.
    pub correlated: bool,
    /// Its text.
    pub text: String,
    /// Its rows.
    pub rows: ResultSet,
}

/// Which steps are run.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct StepOptions {
    /// Also the rows before and after each WHERE, GROUP BY and HAVING.
    pub clauses: bool,
    /// Only the step of this name.
    pub only: Option<String>,
    /// With `only`: also the steps inside it.
    pub inside: bool,
}

impl StepOptions {
    /// Also runs the rows before and after each WHERE, GROUP BY and HAVING.
    #[must_use]
    pub fn clauses(self) -> Self {
        Self { clauses: true, ..self }
    }

    /// Runs only the step of this name.
    #[must_use]
    pub fn only(self, name: impl Into<String>) -> Self {
        Self { only: Some(name.into()), ..self }
    }

    /// With [`StepOptions::only`]: also runs the steps inside it.
    #[must_use]
    pub fn inside(self) -> Self {
        Self { inside: true, ..self }
    }

    /// Keeps the parts that are wanted.
    ///
    /// # Errors
    /// 42000 when there is none of the name, with the names there are.
    fn choose(&self, mut parts: Vec<QueryPart>) -> Result<Vec<QueryPart>> {
        let Some(only) = &self.only else { return Ok(parts) };
        let names: Vec<String> = parts.iter().map(|part| part.name.clone()).collect();
        let is_inside = |name: &str| {
            let start = name.get(..only.len()).filter(|start| self.inside && start.eq_ignore_ascii_case(only));
            start.is_some() && name[only.len()..].starts_with('.')
        };
        parts.retain(|part| part.name.eq_ignore_ascii_case(only) || is_inside(&part.name));
        if parts.is_empty() {
            let names: Vec<&str> = names.iter().map(String::as_str).collect();
            let help = suggestion(only, &names, "the steps are");
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, format!("no step {only:?}")).with_help(help));
        }
        Ok(parts)
    }
}

impl Session {
    /// Runs every step of a query by itself, those inside others first, and the query last.
    ///
    /// ```
    /// # use garden_gate::Database;
    /// # fn main() -> garden_gate::Result<()> {
    /// let mut session = Database::in_memory().session();
    /// let sql = "WITH even AS (SELECT n FROM (VALUES (1), (2), (4)) AS v (n) WHERE MOD(n, 2) = 0) SELECT SUM(n) FROM even";
    /// let steps = session.steps(sql, ())?;
    /// let counts: Vec<_> = steps.iter().map(|step| (step.name.as_str(), step.rows.row_count())).collect();
    /// assert_eq!(counts, [("even.v", 3), ("even", 2), ("result", 1)]);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// 42000 for a text that does not end with a query; whatever a step meets that the query itself would meet.
    pub fn steps(&mut self, sql: impl IntoSource, parameters: impl Into<Parameters>) -> Result<Vec<Step>> {
        self.steps_with(sql, parameters, &StepOptions::default())
    }

    /// As [`Session::steps`], with a choice of the steps.
    ///
    /// # Errors
    /// As [`Session::steps`]; 42000 when there is no step of the name that is asked for, with the names there are.
    pub fn steps_with(
        &mut self,
        sql: impl IntoSource,
        parameters: impl Into<Parameters>,
        options: &StepOptions,
    ) -> Result<Vec<Step>> {
        let (source, parameters) = (&sql.into_source(), &parameters.into());
        crate::control::large_stack(|| {
            let last = self.last_statement(source, parameters)?;
            let StatementKind::Query(query) = &last.kind else {
                return Err(no_query().at(last.span).in_source(source));
            };
            let parts = options.choose(parts_of(query, options.clauses))?;
            let mut steps = Vec::new();
            for part in &parts {
                steps.extend(self.step(part, source, parameters).map_err(|error| error.in_source(source))?);
            }
            Ok(steps)
        })
    }

    /// The rows of a part: of a recursion round by round, and of a query that uses columns from around it, beside those.
    fn step(&self, part: &QueryPart, source: &Arc<SourceText>, parameters: &Parameters) -> Result<Vec<Step>> {
        let call = || Call { source, parameters, started: Instant::now(), measured: None };
        let step = |rows: ResultSet| Step {
            name: part.name.clone(),
            part: part.part,
            round: None,
            correlated: false,
            text: source.slice(part.span).to_owned(),
            rows,
        };
        if part.recursive {
            let (rows, rounds) = self.query_rounds(&part.query, &call())?;
            let own = rounds.into_iter().filter(|round| round.member == part.name);
            let mut found: Vec<Step> = own
                .map(|round| Step { part: StepPart::Recursion, round: Some(round.number), ..step(round.rows) })
                .collect();
            // The round that found nothing ended it.
            while found.last().is_some_and(|last| last.round > Some(0) && last.rows.row_count() == 0) {
                found.pop();
            }
            found.push(step(rows));
            return Ok(found);
        }
        let error = match self.query_rows(&part.query, &call()) {
            Ok(rows) => return Ok(vec![step(rows)]),
            Err(error) => error,
        };
        let unknown = [SqlState::COLUMN_NOT_FOUND, SqlState::TABLE_NOT_FOUND].contains(&error.sqlstate());
        match part.around.as_ref().filter(|_| unknown) {
            Some(around) => match self.query_rows(around, &call()) {
                Ok(rows) => Ok(vec![Step { correlated: true, ..step(rows) }]),
                // It uses columns from farther out: those around it have it among their own.
                Err(_) => Ok(Vec::new()),
            },
            // What appears within such a query cannot be run without it.
            None if unknown && part.part != StepPart::Result => Ok(Vec::new()),
            None => Err(error),
        }
    }
}
