//! Calls of table functions: the function's query appears instead of the call, its parameters replaced by the arguments.

use super::problem::Problem;
use super::scope::{At, Clause, Relation, Scope, ScopeColumn};
use super::view::MOST_VIEWS;
use super::{BindContext, Binder, Level, Outer, OutputColumn};
use crate::catalog::TableFunction;
use crate::collections::HashMap;
use crate::diagnostic::{Error, Result, SourceText, Span, SqlState, counted, nearest};
use crate::logical::{ColumnId, Expr, LogicalPlan};
use crate::syntax::{Script, ast};
use std::convert::Infallible;
use std::sync::Arc;

/// What is wrong with a function of this schema, if anything is: with its query, or the columns it says it gives.
pub fn function_problem(
    (schema, function): (&str, &TableFunction),
    span: Span,
    around: &BindContext<'_>,
) -> Option<Error> {
    let here = around.catalog.schema(schema)?;
    let function = here.functions.iter().find(|known| known.name == function.name)?;
    let nothing = SourceText::new(String::new());
    let mut binder = Binder::new(&nothing, around);
    let output = match binder.body_of(function, span) {
        Ok((_, _, output)) => output,
        Err(error) => return Some(error),
    };
    let fail = |message: String| Some(Error::new(SqlState::SYNTAX_OR_RULE, message).at(span));
    if output.len() != function.columns.len() {
        return fail(format!(
            "the query of function {:?} gives {}, RETURNS TABLE names {}",
            function.name,
            counted(output.len(), "column"),
            function.columns.len()
        ));
    }
    let misfit = output
        .iter()
        .zip(&function.columns)
        .find(|(column, (_, sql_type))| column.sql_type.common(*sql_type).is_none());
    misfit.and_then(|(column, (name, sql_type))| {
        fail(format!(
            "column {name:?} of function {:?} is {sql_type}, its query gives {}",
            function.name, column.sql_type
        ))
    })
}

impl<'a> Binder<'a> {
    /// A call; the scope to its left has been given as an outer one.
    pub(super) fn call_of_own(
        &mut self,
        (name, args): (&[ast::Ident], &[ast::Expr]),
        alias: &ast::TableAlias,
        span: Span,
    ) -> Result<(LogicalPlan, Scope)> {
        let function = self.table_function_of(name).map_err(|problem| Error::from_facts(&problem).at(span))?;
        let nothing = Scope::default();
        let args = self.all(args, At { scope: &nothing, clause: Clause::From })?;
        if args.len() != function.parameters.len() {
            let wanted = function.parameters.iter().map(|(name, sql_type)| format!("{name} {sql_type}")).collect();
            let problem = Problem::FunctionArguments { name: function.name.clone(), wanted, found: args.len() };
            return Err(Error::from_facts(&problem).at(span));
        }
        let args = args.into_iter().zip(&function.parameters).map(|(arg, (_, sql_type))| {
            let arg = self.coerce(arg, *sql_type);
            self.convert(arg, *sql_type)
        });
        let args: Vec<Expr> = args.collect();
        let (input, args) = self.attach_all(LogicalPlan::OneRow, args);
        let (plan, ids, output) = self.body_of(function, span)?;
        let values: HashMap<ColumnId, Expr> = ids.into_iter().zip(args).collect();
        let plan = replaced(plan, &values);
        let plan = if matches!(input, LogicalPlan::OneRow) { plan } else { self.beside(input, plan) };
        let shown = alias.name.as_ref().map_or_else(|| function.name.clone(), |alias| alias.text.clone());
        let mut computed = Vec::new();
        let mut columns = Vec::new();
        for (column, (name, sql_type)) in output.iter().zip(&function.columns) {
            let id = if column.sql_type == *sql_type {
                column.id
            } else {
                let id = self.new_column(name, *sql_type);
                let value = self.column(column.id, span);
                computed.push((id, self.convert(value, *sql_type)));
                id
            };
            columns.push(ScopeColumn { name: name.clone(), id });
        }
        let plan = if computed.is_empty() { plan } else { plan.project(computed) };
        let relation = Relation::new(shown, columns);
        Ok((plan, Scope::of(relation)))
    }

    fn table_function_of(&self, name: &[ast::Ident]) -> Result<&'a TableFunction, Problem> {
        let (schema, function) = match name {
            [function] => (None, function),
            [schema, function] => (Some(schema), function),
            _ => return Err(Problem::NameTooLong),
        };
        let schemas = self.schemas_of(schema);
        let functions = schemas.into_iter().flat_map(|schema| &schema.functions);
        let known: Vec<&'a TableFunction> = functions.map(Arc::as_ref).collect();
        known.iter().find(|known| function.matches(&known.name)).copied().ok_or_else(|| Problem::NoSuchTableFunction {
            name: function.text.clone(),
            near: nearest(&function.text, known.iter().map(|known| known.name.as_str())).map(str::to_owned),
        })
    }

    /// The query of a function, the columns that stand for its parameters, and the columns it gives.
    fn body_of(
        &mut self,
        function: &'a TableFunction,
        span: Span,
    ) -> Result<(LogicalPlan, Vec<ColumnId>, Vec<OutputColumn>)> {
        if self.views >= MOST_VIEWS {
            let message =
                format!("function {:?} refers to itself, or goes through more than {MOST_VIEWS} others", function.name);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(span));
        }
        let mut script = Script::new(Arc::clone(&function.query));
        let Some(Ok(ast::Statement { kind: ast::StatementKind::Query(query), .. })) = script.next_statement() else {
            return Err(Error::new(SqlState::GENERAL, "internal error: the text of a function is not a query").at(span));
        };
        let columns = function
            .parameters
            .iter()
            .map(|(name, sql_type)| ScopeColumn { name: name.clone(), id: self.new_column(name, *sql_type) });
        let columns: Vec<ScopeColumn> = columns.collect();
        let ids = columns.iter().map(|column| column.id).collect();
        let name = function.name.clone();
        let scope = Scope::of(Relation::new(name, columns));
        let around = vec![Outer { scope, clause: Clause::From, level: Level::default() }];
        let (plan, output) =
            self.apart((&function.query, &function.schema, &function.known), around, &query).map_err(|error| {
                let message = format!("function {:?} no longer works: {}", function.name, error.message());
                Error::new(error.sqlstate(), message).at(span)
            })?;
        Ok((plan, ids, output))
    }
}

/// The plan with other expressions instead of some columns, in every node.
fn replaced(plan: LogicalPlan, values: &HashMap<ColumnId, Expr>) -> LogicalPlan {
    let Ok(plan) = plan.map_inputs(&mut |input| Ok::<_, Infallible>(replaced(input, values)));
    let with = |id: ColumnId| values.get(&id).cloned();
    let Ok(plan) = plan.map_exprs(&mut |expr| Ok::<_, Infallible>(expr.replace_columns(&with)));
    plan
}
