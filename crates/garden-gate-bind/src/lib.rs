//! Syntax tree + catalog → typed logical plan. Names, scopes, types and coercions; every semantic error is found here.
//!
//! The binder goes on after a problem with a NULL instead of what it could not understand, so that two misspelt columns give
//! two errors and no follow-up ones.
//!
//! A part of the crate `garden-gate`, which exports what programs need of it. There is no semver promise for this crate itself.

#![expect(
    missing_docs,
    reason = "internal: what programs see is documented, and the rest where its name does not say it"
)]
#![warn(clippy::wildcard_enum_match_arm)]
#![expect(clippy::missing_errors_doc, reason = "internal: errors are those of the statement")]

use garden_gate_base::{catalog, collections, control, diagnostic, types};
use garden_gate_kernel as kernel;
use garden_gate_plan::logical;
use garden_gate_storage::storage;
use garden_gate_syntax as syntax;

mod aggregate;
mod arithmetic;
mod assignment;
mod blank_padding;
mod call;
mod case;
mod change;
mod change_problem;
mod changes;
mod convert;
mod definition;
mod domain;
mod expr;
mod function;
mod function_signature;
mod group;
mod grouping_sets;
mod guide;
mod information_schema;
mod information_schema_time;
mod insert;
mod interval;
mod join;
mod known_columns;
mod merge;
mod name_notes;
mod notes;
mod order;
mod parameter;
mod period;
mod predicate;
mod problem;
mod problem_help;
mod query;
mod recursion;
mod sample;
mod scope;
mod search;
mod select;
mod sequence;
mod set_operation;
mod style_notes;
mod subquery;
mod system_time;
mod table;
mod table_function;
mod thesaurus;
mod updatable;
mod view;
mod window;
mod with;
mod zone;

pub use call::{SPECIAL_FUNCTIONS, is_known_function};
pub use change::{BoundChange, Meaning, bind_change, bind_returning};
pub use change_problem::ChangeProblem;
pub use definition::{
    bind_checks, check_default, check_definition, check_domain, default_value, generated_values, index_keys,
    stored_value,
};
pub use expr::castable;
pub use function_signature::arguments_of;
pub use known_columns::columns_known_to;
pub use merge::done;
pub use parameter::Parameters;
pub use period::Portion;
pub use problem::{Computed, Problem as MeaningProblem};
pub use scope::Clause;
pub use system_time::moment_of;
pub use table_function::function_problem;
pub use thesaurus::for_type;
pub use updatable::{ViewChecks, bind_hidden_rows, check_view_option};

use crate::catalog::{Catalog, FileOptions, KnownColumns, Table, TableSource};
use crate::collections::HashSet;
use crate::diagnostic::{Error, Facts, Note, Result, SourceText, Span};
use crate::logical::{Aggregate, ColumnId, ColumnInfo, Columns, CteDefinition, Expr, Guide, LogicalPlan};
use crate::syntax::ast;
use crate::types::{SqlType, Value, Zone};
use std::sync::Arc;

/// Opens the file of `FROM FILE`; the session decides which files may be read.
pub trait OpenFile {
    fn open(&self, path: &str, options: &FileOptions) -> Result<Arc<dyn TableSource>>;

    /// What is wrong with a file that would be the table of this name.
    fn broken(&self, schema: &str, name: &str) -> Option<Error> {
        let _ = (schema, name);
        None
    }
}

/// The moment a statement began; every `CURRENT_…` in it means this one (clause 6.42).
#[derive(Clone, Copy, Debug)]
pub struct StatementClock {
    /// Microseconds since 1970-01-01 00:00:00 UTC.
    pub micros: i64,
}

/// What names can mean to a statement.
#[expect(missing_debug_implementations, reason = "it holds what others own")]
pub struct BindContext<'a> {
    pub catalog: &'a Catalog,
    /// Who the session is for.
    pub user: &'a str,
    /// The schema of unqualified table names.
    pub schema: &'a str,
    /// Schemas in which they are looked up after that.
    pub path: &'a [String],
    pub files: &'a dyn OpenFile,
    pub parameters: &'a Parameters,
    pub variables: &'a Parameters,
    /// Whether parameters may lack a value, as when a plan is asked for.
    pub missing: MissingParameters,
    pub moment: StatementClock,
    /// The session's time zone.
    pub zone: Zone,
    /// The moment in the past that versioned tables are read at, in microseconds since 1970.
    pub as_of: Option<i64>,
    /// The rows of the change in FROM, and where it appears.
    pub delta: Option<(Span, &'a Table)>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MissingParameters {
    Refuse,
    PlanGenerically,
}

/// A column of the result.
#[derive(Clone, Debug)]
pub struct OutputColumn {
    pub name: String,
    pub id: ColumnId,
    pub sql_type: SqlType,
}

/// A bound query.
#[derive(Debug)]
pub struct Bound {
    pub plan: LogicalPlan,
    pub output: Vec<OutputColumn>,
    pub columns: Columns,
    pub notes: Vec<Note>,
    /// Whether a parameter lacks its value.
    pub generic: bool,
    /// The common table expressions, in an order in which each uses earlier ones only.
    pub steps: Vec<CteDefinition>,
    /// What GUIDE demands.
    pub guide: Guide,
}

/// What may have been meant by a bare word.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum BareName {
    #[default]
    Column,
    /// It appears beside a comparison: text without its quotes.
    PerhapsText,
}

/// Which rows an expression is about.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Rows {
    /// The one row of the clause.
    #[default]
    OfClause,
    /// As the argument of an aggregate over a frame: each row of the frame, beside the row that has the frame.
    OfFrame,
}

/// What has been met so far in the SELECT that is being bound.
#[derive(Default)]
struct Level {
    aggregates: Vec<(ColumnId, Aggregate)>,
    windows: Vec<(ColumnId, window::BoundWindow)>,
    /// Calls of GROUPING.
    groupings: Vec<(ColumnId, Vec<Expr>)>,
    /// Columns used beside the grouping columns on which they depend.
    dependents: Vec<ColumnId>,
    /// Column aliases with the expressions they stand for; only for messages.
    aliases: Vec<(ast::Ident, Span)>,
    /// The WINDOW clause.
    definitions: Vec<window::NamedWindow>,
    /// The text of FROM, for messages.
    from: Span,
}

/// A query around the one that is being bound, as the inner one sees it.
struct Outer {
    scope: scope::Scope,
    clause: Clause,
    level: Level,
}

#[expect(missing_debug_implementations, reason = "it lives as long as one statement is bound")]
pub struct Binder<'a> {
    around: &'a BindContext<'a>,
    source: &'a SourceText,
    /// The schema of unqualified table names.
    schema: &'a str,
    /// The time zone of times without one.
    zone: Zone,
    columns: Columns,
    problems: Vec<Error>,
    notes: Vec<Note>,
    generic: bool,
    level: Level,
    /// The queries around, the innermost last.
    outer: Vec<Outer>,
    /// The names that WITH gives, the innermost last.
    withs: Vec<with::Visible>,
    steps: Vec<CteDefinition>,
    /// Columns that hold a bare NULL: a set operator gives them the type of their neighbours.
    untyped: HashSet<ColumnId>,
    /// Which rows the expression that is bound is about.
    rows: Rows,
    recursions: usize,
    /// How many views are being read, one inside the other.
    views: usize,
    /// What the tables of the view or function that is being read looked like when it was made.
    known: &'a [KnownColumns],
    /// Columns that are gone since then, with their names and tables: whoever uses one no longer works.
    gone: Vec<(ColumnId, String)>,
    /// How many queries are being read, one inside the other.
    depth: usize,
    /// How many queries inside expressions there have been.
    subqueries: usize,
    /// The operands of the simple CASEs around, the innermost last.
    case_operands: Vec<Expr>,
    guide: guide::CollectedGuide,
    /// What the name that is bound next may be, if it is not a column.
    bare_name: BareName,
}

/// Binds a query.
///
/// # Errors
/// The first problem found, with the others as related errors.
pub fn bind_query(query: &ast::Query, source: &SourceText, around: &BindContext<'_>) -> Result<Bound> {
    let mut binder = Binder::new(source, around);
    let (plan, output) = binder.query(query)?;
    binder.bound(plan, output)
}

/// Binds and evaluates an expression without columns, as in `LET` and `SET`.
pub fn bind_value(expr: &ast::Expr, source: &SourceText, around: &BindContext<'_>) -> Result<(Value, Vec<Note>)> {
    let mut binder = Binder::new(source, around);
    let bound = binder.expr(expr, scope::At { scope: &scope::Scope::default(), clause: Clause::Value })?;
    if bound.has_subquery() {
        binder.problems.push(Error::not_supported("a query in SET or LET").at(expr.span));
    }
    fail_with_all(binder.problems)?;
    Ok((kernel::evaluate_constant(&bound)?, binder.notes))
}

fn fail_with_all(problems: Vec<Error>) -> Result<()> {
    let mut problems = problems.into_iter();
    problems.next().map_or(Ok(()), |first| Err(first.with_related(problems)))
}

impl<'a> Binder<'a> {
    fn new(source: &'a SourceText, around: &'a BindContext<'a>) -> Self {
        Self {
            around,
            source,
            schema: around.schema,
            zone: around.zone,
            columns: Columns::default(),
            problems: Vec::new(),
            notes: Vec::new(),
            generic: false,
            level: Level::default(),
            outer: Vec::new(),
            withs: Vec::new(),
            steps: Vec::new(),
            untyped: HashSet::default(),
            rows: Rows::OfClause,
            recursions: 0,
            views: 0,
            known: &[],
            gone: Vec::new(),
            depth: 0,
            subqueries: 0,
            case_operands: Vec::new(),
            guide: guide::CollectedGuide::default(),
            bare_name: BareName::Column,
        }
    }

    /// Records a problem and gives the stand-in with which binding goes on.
    fn report(&mut self, problem: &impl Facts, span: Span) -> Expr {
        self.problems.push(Error::from_facts(problem).at(span));
        stand_in(span)
    }

    /// Binds a query that appears inside another, in `clause`, and sees its `scope`.
    fn inner<T>(&mut self, at: scope::At<'_>, bind: impl FnOnce(&mut Self) -> Result<T>) -> Result<T> {
        let level = std::mem::take(&mut self.level);
        let operands = std::mem::take(&mut self.case_operands);
        let rows = std::mem::take(&mut self.rows);
        self.outer.push(Outer { scope: at.scope.clone(), clause: at.clause, level });
        let result = bind(self);
        self.level = self.outer.pop().map(|outer| outer.level).unwrap_or_default();
        self.case_operands = operands;
        self.rows = rows;
        result
    }

    /// A new column that is computed.
    fn new_column(&mut self, name: &str, sql_type: SqlType) -> ColumnId {
        let name = name.split_whitespace().collect::<Vec<_>>().join(" ");
        self.columns.add(ColumnInfo::computed(name, sql_type))
    }

    fn column(&self, id: ColumnId, span: Span) -> Expr {
        Expr::column(id, self.columns.get(id).sql_type, span)
    }

    fn text(&self, span: Span) -> &'a str {
        self.source.slice(span)
    }
}

/// An expression of unknown type, which raises no follow-up problems.
fn stand_in(span: Span) -> Expr {
    Expr::literal(Value::Null, SqlType::Null, span)
}
