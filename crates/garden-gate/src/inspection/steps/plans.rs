//! The plans of a query's steps, each by itself.

use super::{StepOptions, StepPart, parts_of};
use crate::bind::Parameters;
use crate::diagnostic::{IntoSource, Result};
use crate::physical::Plan;
use crate::session::{ResultSet, Session, no_query};
use crate::syntax::ast::{Query, Statement, StatementKind};

/// A step and its plan.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct StepPlan {
    /// The name that the query gives it, after those of the steps it appears in.
    pub name: String,
    /// What it is.
    pub part: StepPart,
    /// Where its query stands in the text, in bytes.
    pub range: std::ops::Range<usize>,
    /// The plan by which it would run alone. In the query it is often another one: what the rest of the query needs not, it leaves out.
    pub plan: Plan,
}

impl Session {
    /// Plans every step of a query by itself, those inside others first, and the query last. Nothing of the query runs; what uses columns of
    /// the query around it has no plan of its own, and is left out. Parameters may lack a value.
    ///
    /// ```
    /// # use garden_gate::Database;
    /// # fn main() -> garden_gate::Result<()> {
    /// let mut session = Database::in_memory().session();
    /// let sql = "WITH few AS (SELECT n FROM (VALUES (1), (2), (4)) AS v (n)) SELECT SUM(n) FROM few";
    /// let steps = session.plan_steps(sql, ())?;
    /// let rows: Vec<_> = steps.iter().map(|step| (step.name.as_str(), step.plan.root.estimated_rows)).collect();
    /// assert_eq!(rows, [("few.v", 3.0), ("few", 3.0), ("result", 1.0)]);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// As [`Session::plan`]; 42000 for a statement that is no query.
    pub fn plan_steps(&mut self, sql: impl IntoSource, parameters: impl Into<Parameters>) -> Result<Vec<StepPlan>> {
        let (source, parameters) = (sql.into_source(), parameters.into());
        let last = self.last_statement(&source, &parameters)?;
        let StatementKind::Query(query) = &last.kind else {
            return Err(no_query().at(last.span).in_source(&source));
        };
        let mut found = Vec::new();
        for part in parts_of(query, false) {
            let is_result = part.part == StepPart::Result;
            match self.plan_statement(&alone(&last, part.query), &source, &parameters) {
                Ok(plan) => {
                    found.push(StepPlan { name: part.name, part: part.part, range: part.span.range(), plan });
                }
                Err(error) if is_result => return Err(error),
                Err(_) => {}
            }
        }
        Ok(found)
    }

    /// Runs one step of a query by itself, and gives its rows with its plan and what it did.
    ///
    /// # Errors
    /// As [`Session::measure`]; 42000 when there is no step of the name.
    pub fn measure_step(
        &mut self,
        sql: impl IntoSource,
        parameters: impl Into<Parameters>,
        name: &str,
    ) -> Result<(ResultSet, Plan)> {
        let (source, parameters) = (sql.into_source(), parameters.into());
        let last = self.last_statement(&source, &parameters)?;
        let StatementKind::Query(query) = &last.kind else {
            return Err(no_query().at(last.span).in_source(&source));
        };
        let mut parts = StepOptions::default().only(name).choose(parts_of(query, false))?;
        let Some(part) = parts.pop() else { return Err(no_query().at(last.span).in_source(&source)) };
        self.measure_statement(&alone(&last, part.query), &source, &parameters)
    }
}

/// A query in the place of a statement.
fn alone(statement: &Statement, query: Query) -> Statement {
    Statement { kind: StatementKind::Query(Box::new(query)), span: statement.span }
}
