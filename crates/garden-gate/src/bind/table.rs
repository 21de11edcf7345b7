//! FROM: tables, files and joins.

use super::scope::{Clause, Relation, Scope, ScopeColumn};
use super::{Binder, problem::Problem};
use crate::catalog::{Table, TableKind};
use crate::diagnostic::{Error, Result, Span, nearest};
use crate::logical::{ColumnId, ColumnInfo, Expr, LogicalPlan, Scan};
use crate::syntax::ast::{CompareOp, Ident, Join, JoinCondition, TableExpr};
use crate::types::SqlType;
use std::sync::Arc;

impl Binder<'_> {
    /// The items of FROM, side by side; nothing gives one row without columns.
    pub(super) fn from(&mut self, items: &[TableExpr]) -> Result<(LogicalPlan, Scope)> {
        let mut bound = items.iter().map(|item| self.table_expr(item)).collect::<Result<Vec<_>>>()?.into_iter();
        let Some(mut first) = bound.next() else { return Ok((LogicalPlan::OneRow, Scope::default())) };
        for (plan, scope) in bound {
            first = (join_plans(first.0, plan, Vec::new()), self.side_by_side(first.1, scope, &[]));
        }
        Ok(first)
    }

    fn table_expr(&mut self, item: &TableExpr) -> Result<(LogicalPlan, Scope)> {
        match item {
            TableExpr::Named { name, alias, span } => self.named_table(name, alias.as_ref(), *span),
            TableExpr::File { path, options, alias, span } => {
                let source = self.around.files.open(path, options).map_err(|error| error.at(*span))?;
                let table = Table { name: path.clone(), kind: TableKind::File, source };
                let stem =
                    std::path::Path::new(path).file_stem().map_or(path.as_str().into(), |stem| stem.to_string_lossy());
                let name = alias.as_ref().map_or(stem.into_owned(), |alias| alias.text.clone());
                Ok(self.scan(&table, None, name))
            }
            TableExpr::Join(join) => self.join(join),
        }
    }

    fn named_table(&mut self, name: &[Ident], alias: Option<&Ident>, span: Span) -> Result<(LogicalPlan, Scope)> {
        let (schema, table) = match self.lookup(name) {
            Ok(found) => found,
            // Without the table no column of the query means anything: stop here.
            Err(problem) => {
                return Err(Error::from_facts(&problem).at(span).with_related(std::mem::take(&mut self.problems)));
            }
        };
        let shown = alias.map_or_else(|| table.name.clone(), |alias| alias.text.clone());
        let (plan, mut scope) = self.scan(&table, Some(schema), shown);
        if alias.is_some() {
            for relation in &mut scope.relations {
                relation.hidden_name = Some(table.name.clone());
                relation.schema = None;
            }
        }
        Ok((plan, scope))
    }

    fn lookup(&self, name: &[Ident]) -> Result<(String, Table), Problem> {
        let catalog = self.around.catalog;
        let default = Ident { text: self.around.schema.to_owned(), quoted: false, span: Span::default() };
        let (schema_name, table_name) = match name {
            [table] => (&default, table),
            [schema, table] => (schema, table),
            _ => return Err(Problem::NameTooLong),
        };
        let Some(schema) = catalog.schemas.iter().find(|schema| schema_name.matches(&schema.name)) else {
            let known = catalog.schemas.iter().map(|schema| schema.name.clone()).collect();
            return Err(Problem::NoSuchSchema { name: schema_name.text.clone(), known });
        };
        if let Some(table) = schema.tables.iter().find(|table| table_name.matches(&table.name)) {
            return Ok((schema.name.clone(), table.clone()));
        }
        let names: Vec<String> = schema.tables.iter().map(|table| table.name.clone()).collect();
        let elsewhere =
            catalog.schemas.iter().flat_map(|schema| schema.tables.iter().map(move |table| (schema, table)));
        Err(Problem::NoSuchTable {
            name: table_name.text.clone(),
            near: nearest(&table_name.text, names.iter().map(String::as_str)).map(str::to_owned),
            elsewhere: elsewhere
                .filter(|(_, table)| table_name.matches(&table.name))
                .map(|(schema, table)| format!("{}.{}", schema.name, table.name))
                .collect(),
            known: names,
        })
    }

    fn scan(&mut self, table: &Table, schema: Option<String>, name: String) -> (LogicalPlan, Scope) {
        let mut columns = Vec::new();
        let mut visible = Vec::new();
        for (position, column) in table.source.columns().iter().enumerate() {
            let id = self.columns.add(ColumnInfo {
                qualifier: Some(name.clone()),
                name: column.name.clone(),
                sql_type: column.sql_type,
                origin: Some((Arc::clone(&table.source), position)),
            });
            columns.push((id, position));
            visible.push(ScopeColumn { name: column.name.clone(), id });
        }
        let plan = LogicalPlan::Scan(Scan {
            table: table.name.clone(),
            kind: table.kind,
            alias: name.clone(),
            source: Arc::clone(&table.source),
            columns,
            filter: Vec::new(),
        });
        (plan, Scope::of(Relation { schema, name, hidden_name: None, columns: visible }))
    }

    fn join(&mut self, join: &Join) -> Result<(LogicalPlan, Scope)> {
        let (left, left_scope) = self.table_expr(&join.left)?;
        let (right, right_scope) = self.table_expr(&join.right)?;
        let (conjuncts, scope) = match &join.condition {
            JoinCondition::Cross => (Vec::new(), self.side_by_side(left_scope, right_scope, &[])),
            JoinCondition::On(condition) => {
                let scope = self.side_by_side(left_scope, right_scope, &[]);
                let bound = self.expr(condition, &scope, Clause::On)?;
                (self.condition(bound, "ON").into_conjuncts(), scope)
            }
            JoinCondition::Using(names) => self.using(names, left_scope, right_scope),
        };
        Ok((join_plans(left, right, conjuncts), scope))
    }

    /// `USING (a, b)`: equality of the columns of these names, each shown once.
    fn using(&mut self, names: &[Ident], left: Scope, right: Scope) -> (Vec<Expr>, Scope) {
        let mut conjuncts = Vec::new();
        let mut merged = Vec::new();
        for name in names {
            let (Some(a), Some(b)) = (self.using_side(name, &left), self.using_side(name, &right)) else { continue };
            let column = |binder: &Self, id: ColumnId| Expr::column(id, binder.columns.get(id).sql_type, name.span);
            let (left_column, right_column) = (column(self, a.id), column(self, b.id));
            let equal = self.compare(CompareOp::Equal, left_column, right_column, name.span);
            if equal.sql_type() == SqlType::Boolean {
                conjuncts.push(equal);
            }
            merged.push((a, b.id));
        }
        let scope = self.side_by_side(left, right, &merged);
        (conjuncts, scope)
    }

    fn using_side(&mut self, name: &Ident, scope: &Scope) -> Option<ScopeColumn> {
        match scope.resolve(std::slice::from_ref(name)) {
            Ok(id) => scope.star.iter().find(|column| column.id == id).cloned(),
            Err(Problem::NoSuchColumn { name: text, tables, near, .. }) => {
                let side = crate::diagnostic::sentence_list(&tables);
                self.report(&Problem::UsingColumnMissing { name: text, side, near }, name.span);
                None
            }
            Err(problem) => {
                self.report(&problem, name.span);
                None
            }
        }
    }

    fn side_by_side(&mut self, left: Scope, right: Scope, merged: &[(ScopeColumn, ColumnId)]) -> Scope {
        for relation in &right.relations {
            if left
                .relations
                .iter()
                .any(|other| other.name.eq_ignore_ascii_case(&relation.name) && other.schema == relation.schema)
            {
                let problem = Problem::DuplicateCorrelation { name: relation.name.clone() };
                self.problems.push(Error::from_facts(&problem));
            }
        }
        left.beside(right, merged)
    }
}

/// Inner joins are kept flat: one node with all inputs and conditions, so that any order can be chosen.
fn join_plans(left: LogicalPlan, right: LogicalPlan, conjuncts: Vec<Expr>) -> LogicalPlan {
    let mut inputs = Vec::new();
    let mut all = Vec::new();
    for side in [left, right] {
        match side {
            LogicalPlan::Join { inputs: inner, conjuncts } => {
                inputs.extend(inner);
                all.extend(conjuncts);
            }
            other => inputs.push(other),
        }
    }
    all.extend(conjuncts);
    LogicalPlan::Join { inputs, conjuncts: all }
}
