//! MERGE (clause 14.12): the source's rows beside those they match, each with what is to be done and the row it makes.

use super::Binder;
use super::OutputColumn;
use super::assignment::numbered_anew;
use super::change::{Affected, Meaning, Target, null};
use super::change_problem::ChangeProblem;
use super::scope::{At, Clause, Scope, ScopeColumn};
use crate::catalog::{Filled, TableDefinition};
use crate::diagnostic::{Result, Span};
use crate::logical::{BinaryJoin, ColumnId, Expr, ExprKind, JoinKind, LogicalPlan};
use crate::syntax::ast;
use crate::types::{SqlType, Test, Value};

/// What is done for a row of a MERGE, as its first column says.
pub mod done {
    pub const DELETE: i64 = 0;
    pub const UPDATE: i64 = 1;
    pub const INSERT: i64 = 2;
}

/// A branch: when it is taken, what it does, and the values it gives to columns.
struct Branch {
    taken: Expr,
    done: i64,
    values: Vec<(usize, Expr)>,
}

impl<'a> Binder<'a> {
    /// MERGE as one query: the join of both tables, with what becomes of each row.
    pub(super) fn merge(
        &mut self,
        change: &ast::Change,
        merge: &ast::Merge,
        target: &Target<'a>,
    ) -> Result<(LogicalPlan, Vec<OutputColumn>, Meaning)> {
        let (source, source_scope) = self.table_expr(&merge.source, &Scope::default())?;
        let Affected { plan: rows, scope: rows_scope, place, own } = self.affected(change, None, target)?;
        let scope = source_scope.clone().beside(rows_scope, &[]);
        let on = self.expr(&merge.on, At { scope: &scope, clause: Clause::On })?;
        let on = self.condition(on, "ON");
        let mut plan = if on.has_subquery() {
            self.outer_with_subquery(JoinKind::Left, (source, rows), on)
        } else {
            BinaryJoin::new(JoinKind::Left, source, rows, on.into_conjuncts()).into_plan()
        };
        let mut branches = Vec::new();
        for branch in &merge.branches {
            let place = self.column(place, branch.span);
            let seen = if branch.matched { &scope } else { &source_scope };
            let missing = Expr::new(ExprKind::Is(Box::new(place), Test::Null), SqlType::Boolean, branch.span);
            let mut terms = vec![missing.negated(branch.matched)];
            if let Some(condition) = &branch.condition {
                let bound = self.expr(condition, At { scope: seen, clause: Clause::On })?;
                terms.push(self.condition(bound, "WHEN MATCHED"));
            }
            let (done, values) = self.merge_action(&branch.action, (seen, &own), (target, branch.span))?;
            branches.push(Branch { taken: Expr::and(terms, branch.span), done, values });
        }
        let number = self.new_column("branch", SqlType::Integer);
        let taken = branches.iter().enumerate();
        let taken = taken.map(|(at, branch)| (branch.taken.clone(), whole(crate::types::index(at).into())));
        plan = self.project_attached(plan, vec![(number, case(taken.collect(), null(SqlType::Integer)))]);
        plan = plan.filter(vec![self.is_taken(number)]);
        let done = self.new_column("done", SqlType::Integer);
        let mut computed =
            vec![(done, self.by_branch(number, &branches, |branch| whole(branch.done), null(SqlType::Integer)))];
        let mut ids = Vec::new();
        for (at, column) in target.definition.columns.iter().enumerate() {
            let id = self.new_column(&column.name, column.sql_type);
            let old = own[at].id;
            let old = Expr::column(old, column.sql_type, Span::default());
            let value = |branch: &Branch| {
                branch
                    .values
                    .iter()
                    .find(|(known, _)| *known == at)
                    .map_or_else(|| old.clone(), |(_, value)| value.clone())
            };
            computed.push((id, self.by_branch(number, &branches, value, old.clone())));
            ids.push(id);
        }
        plan = self.with_next_values(plan);
        plan = self.project_attached(plan, computed);
        let (plan, columns) = self.generated(plan, ids, target.definition);
        let first = |name: &str, id: ColumnId, sql_type| OutputColumn { name: name.into(), id, sql_type };
        let firsts = [first("done", done, SqlType::Integer), first("place", place, SqlType::BigInt)];
        let numbered = identity_columns(target.definition);
        let mut renumbered = Vec::new();
        for branch in &merge.branches {
            if let ast::MergeAction::Update(set) = &branch.action {
                renumbered.extend(numbered_anew(set, target));
            }
        }
        Ok((plan, firsts.into_iter().chain(columns).collect(), Meaning::Merged { numbered, renumbered }))
    }

    fn merge_action(
        &mut self,
        action: &ast::MergeAction,
        (scope, own): (&Scope, &[ScopeColumn]),
        (target, span): (&Target<'a>, Span),
    ) -> Result<(i64, Vec<(usize, Expr)>)> {
        let (columns, overriding, given) = match action {
            ast::MergeAction::Delete => return Ok((done::DELETE, Vec::new())),
            ast::MergeAction::Update(set) => {
                let mut values: Vec<(usize, Expr)> = Vec::new();
                for assignment in set {
                    for (at, value) in self.assignment(assignment, scope, (target, own))? {
                        self.refuse_twice(at, &values, (assignment, target));
                        values.push((at, value));
                    }
                }
                return Ok((done::UPDATE, values));
            }
            ast::MergeAction::Insert { columns, overriding, values } => (columns, overriding, values),
        };
        let insert = ast::Insert {
            columns: columns.clone(),
            rows: ast::InsertRows::Defaults,
            overriding: *overriding,
            duplicates: ast::Duplicates::Refuse,
        };
        let wanted = self.insert_columns(&insert, target, span);
        if wanted.len() != given.len() {
            let columns = wanted.iter().map(|at| target.definition.columns[*at].name.clone()).collect();
            self.report(&ChangeProblem::Width { given: given.len(), wanted: wanted.len(), columns }, span);
            return Ok((done::INSERT, Vec::new()));
        }
        let mut values = Vec::new();
        for (at, column) in target.definition.columns.iter().enumerate() {
            let value = match wanted.iter().position(|known| *known == at).map(|number| &given[number]) {
                Some(ast::AssignedValue::Value(expr)) => {
                    self.refuse_own_value(column, &insert, expr.span);
                    let value = self.expr(expr, At { scope, clause: Clause::Values })?;
                    self.assign(value, column)
                }
                _ => self.default_of(column, span)?,
            };
            values.push((at, value));
        }
        Ok((done::INSERT, values))
    }

    /// Whether any branch is taken.
    fn is_taken(&self, number: ColumnId) -> Expr {
        let number = self.column(number, Span::default());
        Expr::new(ExprKind::Is(Box::new(number), Test::Null), SqlType::Boolean, Span::default()).negated(true)
    }

    /// A value by the number of the branch that is taken.
    fn by_branch(
        &self,
        number: ColumnId,
        branches: &[Branch],
        value: impl Fn(&Branch) -> Expr,
        otherwise: Expr,
    ) -> Expr {
        let span = Span::default();
        let taken = |at: usize| {
            let number = self.column(number, span);
            Expr::compare(crate::logical::CompareOp::Equal, number, whole(crate::types::index(at).into()), span)
        };
        case(branches.iter().enumerate().map(|(at, branch)| (taken(at), value(branch))).collect(), otherwise)
    }
}

fn identity_columns(definition: &TableDefinition) -> Vec<usize> {
    let is_identity = |at: &usize| matches!(definition.columns[*at].filled, Filled::Identity(_));
    (0..definition.columns.len()).filter(is_identity).collect()
}

fn case(branches: Vec<(Expr, Expr)>, otherwise: Expr) -> Expr {
    let sql_type = otherwise.sql_type();
    Expr::new(ExprKind::Case(branches, Box::new(otherwise)), sql_type, Span::default())
}

fn whole(number: i64) -> Expr {
    Expr::literal(Value::Integer(number), SqlType::Integer, Span::default())
}
