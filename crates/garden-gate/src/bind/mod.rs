//! Syntax tree + catalog → typed logical plan. Names, scopes, types and coercions; every semantic error is found here.
//!
//! The binder goes on after a problem with a NULL in place of what it could not understand, so that two misspelt columns give
//! two errors and no follow-up ones.

mod arithmetic;
mod call;
mod case;
mod convert;
mod expr;
mod group;
mod notes;
mod order;
mod parameter;
mod predicate;
mod problem;
mod scope;
mod select;
mod table;

pub use parameter::Parameters;

use crate::catalog::{Catalog, FileOptions, TableSource};
use crate::diagnostic::{Error, Facts, Note, Result, SourceText, Span};
use crate::logical::{Aggregate, ColumnId, Columns, Expr, LogicalPlan};
use crate::syntax::ast;
use crate::types::{SqlType, Value};
use std::sync::Arc;

/// Opens the file of `FROM FILE`; the session decides which files may be read.
pub(crate) trait OpenFile {
    fn open(&self, path: &str, options: &FileOptions) -> Result<Arc<dyn TableSource>>;
}

/// The moment a statement began; every `CURRENT_…` in it means this one (clause 6.42).
#[derive(Clone, Copy, Debug)]
pub(crate) struct Moment {
    /// Microseconds since 1970-01-01 00:00:00 in the session's zone.
    pub(crate) micros: i64,
}

/// What names can mean to a statement.
pub(crate) struct Surroundings<'a> {
    pub(crate) catalog: &'a Catalog,
    /// The schema of unqualified table names.
    pub(crate) schema: &'a str,
    pub(crate) files: &'a dyn OpenFile,
    pub(crate) parameters: &'a Parameters,
    pub(crate) variables: &'a Parameters,
    /// Whether parameters may lack a value, as when a plan is asked for.
    pub(crate) missing: MissingParameters,
    pub(crate) moment: Moment,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum MissingParameters {
    Refuse,
    PlanGenerically,
}

/// A column of the result.
#[derive(Clone, Debug)]
pub(crate) struct OutputColumn {
    pub(crate) name: String,
    pub(crate) id: ColumnId,
    pub(crate) sql_type: SqlType,
}

/// A bound query.
#[derive(Debug)]
pub(crate) struct Bound {
    pub(crate) plan: LogicalPlan,
    pub(crate) output: Vec<OutputColumn>,
    pub(crate) columns: Columns,
    pub(crate) notes: Vec<Note>,
    /// Whether a parameter lacks its value.
    pub(crate) generic: bool,
}

/// What may have been meant by a bare word.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum BareName {
    #[default]
    Column,
    /// It stands beside a comparison: text without its quotes.
    PerhapsText,
}

pub(crate) struct Binder<'a> {
    around: &'a Surroundings<'a>,
    source: &'a SourceText,
    columns: Columns,
    problems: Vec<Error>,
    notes: Vec<Note>,
    generic: bool,
    /// Aggregates met so far in the SELECT that is being bound.
    aggregates: Vec<(ColumnId, Aggregate)>,
    /// Column aliases of that SELECT with the expressions they stand for; only for messages.
    aliases: Vec<(ast::Ident, Span)>,
    /// What the name that is bound next may be, if it is no column.
    bare_name: BareName,
}

/// Binds a query.
///
/// # Errors
/// The first problem found, with the others as related errors.
pub(crate) fn bind_query(query: &ast::Query, source: &SourceText, around: &Surroundings<'_>) -> Result<Bound> {
    let mut binder = Binder::new(source, around);
    let (plan, output) = binder.query(query)?;
    let Binder { columns, problems, notes, generic, .. } = binder;
    fail_with_all(problems)?;
    Ok(Bound { plan, output, columns, notes, generic })
}

/// Binds and evaluates an expression without columns, as in `LET` and `SET`.
pub(crate) fn bind_value(
    expr: &ast::Expr,
    source: &SourceText,
    around: &Surroundings<'_>,
) -> Result<(Value, Vec<Note>)> {
    let mut binder = Binder::new(source, around);
    let bound = binder.expr(expr, &scope::Scope::default(), scope::Clause::Value)?;
    fail_with_all(binder.problems)?;
    Ok((crate::kernel::evaluate_constant(&bound)?, binder.notes))
}

fn fail_with_all(problems: Vec<Error>) -> Result<()> {
    let mut problems = problems.into_iter();
    problems.next().map_or(Ok(()), |first| Err(first.with_related(problems)))
}

impl<'a> Binder<'a> {
    fn new(source: &'a SourceText, around: &'a Surroundings<'a>) -> Self {
        Self {
            around,
            source,
            columns: Columns::default(),
            problems: Vec::new(),
            notes: Vec::new(),
            generic: false,
            aggregates: Vec::new(),
            aliases: Vec::new(),
            bare_name: BareName::Column,
        }
    }

    /// Records a problem and gives the stand-in with which binding goes on.
    fn report(&mut self, problem: &impl Facts, span: Span) -> Expr {
        self.problems.push(Error::from_facts(problem).at(span));
        stand_in(span)
    }

    fn text(&self, span: Span) -> &'a str {
        self.source.slice(span)
    }
}

/// An expression of unknown type, which raises no follow-up problems.
fn stand_in(span: Span) -> Expr {
    Expr::literal(Value::Null, SqlType::Null, span)
}
