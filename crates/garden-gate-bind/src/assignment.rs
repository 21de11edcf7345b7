//! The set clauses of UPDATE and MERGE (clause 14.15).

use super::change::Target;
use super::change_problem::ChangeProblem;
use super::scope::{At, Clause, Scope, ScopeColumn};
use super::{Binder, problem::Problem};
use crate::catalog::{ColumnDefinition, Filled};
use crate::diagnostic::{Result, Span};
use crate::logical::{Expr, ExprKind, Function};
use crate::syntax::ast;
use crate::types::SqlType;

impl<'a> Binder<'a> {
    /// The columns that one assignment of SET fills, each with its value.
    pub(super) fn assignment(
        &mut self,
        assignment: &ast::Assignment,
        scope: &Scope,
        (target, own): (&Target<'a>, &[ScopeColumn]),
    ) -> Result<Vec<(usize, Expr)>> {
        let names = &assignment.columns;
        let places: Vec<usize> = names.iter().filter_map(|name| self.target_column(name, target)).collect();
        if places.len() != names.len() {
            return Ok(Vec::new());
        }
        let columns: Vec<&'a ColumnDefinition> = places.iter().map(|at| &target.definition.columns[*at]).collect();
        let span = names[0].span;
        self.refuse_filled(assignment, &columns);
        let values = match &assignment.values {
            ast::Assigned::Each(given) => {
                let mut values = Vec::new();
                for (given, column) in given.iter().zip(&columns) {
                    values.push(match given {
                        ast::AssignedValue::Default(span) => self.default_of(column, *span)?,
                        ast::AssignedValue::Value(expr) => self.expr(expr, At { scope, clause: Clause::Set })?,
                    });
                }
                (given.len() == columns.len()).then_some(values).ok_or(given.len())
            }
            ast::Assigned::Element { place, value } => {
                let place = self.expr(place, At { scope, clause: Clause::Set })?;
                let value = self.expr(value, At { scope, clause: Clause::Set })?;
                Ok(vec![self.with_element(&own[places[0]], (place, value), span)])
            }
            ast::Assigned::Row(expr) => {
                // A query may give a row here.
                self.bare_name = super::BareName::PerhapsText;
                let row = self.expr(expr, At { scope, clause: Clause::Set })?;
                if let SqlType::Row(fields) = row.sql_type()
                    && fields.len() == columns.len()
                {
                    let field = |(at, field): (usize, &crate::types::RowField)| {
                        Expr::new(ExprKind::Field(Box::new(row.clone()), at), field.sql_type, span)
                    };
                    Ok(fields.iter().enumerate().map(field).collect())
                } else if let SqlType::Row(fields) = row.sql_type() {
                    Err(fields.len())
                } else {
                    Err(1)
                }
            }
        };
        match values {
            Ok(values) => {
                let assigned = values.into_iter().zip(columns).map(|(value, column)| self.assign(value, column));
                let assigned: Vec<Expr> = assigned.collect();
                Ok(places.into_iter().zip(assigned).collect())
            }
            Err(given) => {
                let columns = columns.iter().map(|column| column.name.clone()).collect();
                self.report(&ChangeProblem::Width { given, wanted: places.len(), columns }, span);
                Ok(Vec::new())
            }
        }
    }
}

impl Binder<'_> {
    /// The array of a column with another element at a place.
    fn with_element(&mut self, column: &ScopeColumn, (place, value): (Expr, Expr), span: Span) -> Expr {
        let array = self.column(column.id, span);
        let SqlType::Array(element) = array.sql_type() else {
            let found = array.sql_type();
            return self.report(&Problem::WrongType { what: "[…]".into(), expected: "an array", found }, span);
        };
        let value = self.assign_as(value, *element, &column.name);
        self.function(Function::WithElement, vec![array, place, value], span)
    }

    /// Reports a column that a statement sets twice.
    pub(super) fn refuse_twice(
        &mut self,
        at: usize,
        values: &[(usize, Expr)],
        (assignment, target): (&ast::Assignment, &Target<'_>),
    ) {
        if values.iter().any(|(known, _)| *known == at) {
            let column = target.definition.columns[at].name.clone();
            self.report(&ChangeProblem::ColumnTwice { column }, assignment.columns[0].span);
        }
    }

    /// Reports values for columns that the database fills by itself; DEFAULT is what these take.
    fn refuse_filled(&mut self, assignment: &ast::Assignment, columns: &[&ColumnDefinition]) {
        for (at, (name, column)) in assignment.columns.iter().zip(columns).enumerate() {
            let span = match &assignment.values {
                ast::Assigned::Each(given) => match given.get(at) {
                    Some(ast::AssignedValue::Value(expr)) => expr.span,
                    Some(ast::AssignedValue::Default(_)) | None => continue,
                },
                ast::Assigned::Row(_) | ast::Assigned::Element { .. } => name.span,
            };
            let column_name = column.name.clone();
            match &column.filled {
                Filled::Generated(_) => {
                    self.report(&ChangeProblem::Generated { column: column_name }, span);
                }
                Filled::Identity(identity) if identity.always => {
                    self.report(&ChangeProblem::IdentitySet { column: column_name }, span);
                }
                Filled::RowStart | Filled::RowEnd => {
                    self.report(&ChangeProblem::PeriodOfSystem { column: column_name }, span);
                }
                Filled::Null | Filled::Default(_) | Filled::Identity(_) => {}
            }
        }
    }
}

/// The identity columns that an UPDATE sets to DEFAULT: these take the next number (clause 14.14).
pub(super) fn numbered_anew(set: &[ast::Assignment], target: &Target<'_>) -> Vec<usize> {
    let mut numbered = Vec::new();
    for assignment in set {
        let ast::Assigned::Each(given) = &assignment.values else { continue };
        for (name, given) in assignment.columns.iter().zip(given) {
            let place = target.shown.iter().find(|(known, _)| name.matches(known)).and_then(|(_, place)| *place);
            if let (ast::AssignedValue::Default(_), Some(at)) = (given, place)
                && matches!(target.definition.columns[at].filled, Filled::Identity(_))
            {
                numbered.push(at);
            }
        }
    }
    numbered
}
