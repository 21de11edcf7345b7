//! The expressions of a table's definition: defaults, checks, generated columns.

use super::change_problem::ChangeProblem;
use super::scope::{Relation, Scope, ScopeColumn};
use super::{BindContext, Binder, fail_with_all};
use crate::catalog::{ColumnDefinition, Domain, Filled, Index, IndexPart, TableDefinition};
use crate::diagnostic::{Error, Result, Span, SqlState};
use crate::logical::{ArrayFunction, ColumnId, Expr, ExprKind, Function, ScanIndex, SortKey};
use crate::types::{SqlType, TypeLimit, Value};

/// The checks of a table over batches of all its columns, in order.
///
/// # Errors
/// Whatever is wrong with a check.
pub fn bind_checks<'a>(definition: &'a TableDefinition, around: &'a BindContext<'a>) -> Result<Vec<Expr>> {
    let mut checks = Vec::new();
    for check in &definition.checks {
        let mut binder = Binder::new(&check.condition, around);
        let scope = binder.row_scope(definition);
        let bound = binder.written(&check.condition, &scope)?;
        let bound = binder.condition(bound, "CHECK");
        binder.refuse_query(&bound, "CHECK");
        fail_with_all(binder.problems)?;
        checks.push(in_slots(bound, definition));
    }
    Ok(checks)
}

/// An index of a table, as a scan of it can use it.
///
/// # Errors
/// Whatever is wrong with one of its expressions.
pub fn index_keys<'a>(
    definition: &'a TableDefinition,
    index: &'a Index,
    around: &'a BindContext<'a>,
) -> Result<ScanIndex> {
    if let Some(known) = ScanIndex::over_columns(definition, index) {
        return Ok(known);
    }
    let mut keys = Vec::new();
    let mut never_null = Vec::new();
    for key in &index.keys {
        let expr = match &key.part {
            IndexPart::Column(at) => {
                let column = &definition.columns[*at];
                never_null.push(column.not_null);
                Expr::new(ExprKind::Slot(*at), column.sql_type, Span::default())
            }
            IndexPart::Expression(text) => {
                never_null.push(false);
                let mut binder = Binder::new(text, around);
                let scope = binder.row_scope(definition);
                let bound = binder.written(text, &scope)?;
                binder.refuse_query(&bound, "an index");
                fail_with_all(binder.problems)?;
                in_slots(bound, definition)
            }
        };
        keys.push(SortKey { expr, direction: key.direction, nulls: key.nulls });
    }
    let signature = definition.key_text(index);
    Ok(ScanIndex { name: index.name.clone(), keys, never_null, include: index.include.clone(), signature })
}

/// The indexes that a scan of a table can use. What is wrong with one was said when it was made.
pub(super) fn scan_indexes<'a>(definition: &'a TableDefinition, around: &'a BindContext<'a>) -> Vec<ScanIndex> {
    definition.all_indexes().iter().filter_map(|index| index_keys(definition, index, around).ok()).collect()
}

/// Reads every expression of a definition, to find what is wrong with it.
///
/// # Errors
/// Whatever is wrong with one of them; 42000 when a value does not fit its column.
pub fn check_definition<'a>(definition: &'a TableDefinition, around: &'a BindContext<'a>) -> Result<()> {
    for column in &definition.columns {
        check_default(column, around)?;
        let Filled::Generated(text) = &column.filled else { continue };
        let mut binder = Binder::new(text, around);
        let scope = binder.row_scope(definition);
        let value = binder.written(text, &scope)?;
        binder.refuse_query(&value, "a generated column");
        binder.assign(value, column);
        fail_with_all(binder.problems)?;
    }
    bind_checks(definition, around).map(|_| ())
}

/// Reads the default of a column, to find what is wrong with it.
///
/// # Errors
/// Whatever is wrong with it; 42000 when the value does not fit the column.
pub fn check_default<'a>(column: &'a ColumnDefinition, around: &'a BindContext<'a>) -> Result<()> {
    let Filled::Default(text) = &column.filled else { return Ok(()) };
    let mut binder = Binder::new(text, around);
    let value = binder.written(text, &Scope::default())?;
    binder.refuse_query(&value, "DEFAULT");
    binder.assign(value, column);
    fail_with_all(binder.problems)
}

/// The value a column has in a row that does not give one.
///
/// # Errors
/// What evaluating the default brings.
pub fn default_value<'a>(definition: &'a TableDefinition, column: usize, around: &'a BindContext<'a>) -> Result<Value> {
    let column = &definition.columns[column];
    let Filled::Default(text) = &column.filled else { return Ok(Value::Null) };
    let mut binder = Binder::new(text, around);
    let value = binder.written(text, &Scope::default())?;
    let value = limited(binder.assign(value, column), column);
    if binder.has_next_values() {
        binder.problems.push(Error::not_supported("a number of a sequence for rows that are there already"));
    }
    fail_with_all(binder.problems)?;
    crate::kernel::evaluate_constant(&value)
}

/// Reads the default and the conditions of a domain, to find what is wrong with them.
///
/// # Errors
/// Whatever is wrong with one of them.
pub fn check_domain<'a>(domain: &'a Domain, around: &'a BindContext<'a>) -> Result<()> {
    if let Some(text) = &domain.default {
        let mut binder = Binder::new(text, around);
        let value = binder.written(text, &Scope::default())?;
        binder.refuse_query(&value, "DEFAULT");
        let column = ColumnDefinition {
            name: domain.name.clone(),
            sql_type: domain.sql_type,
            limit: None,
            not_null: false,
            filled: Filled::Null,
            hidden: false,
            domain: None,
        };
        binder.assign(value, &column);
        fail_with_all(binder.problems)?;
    }
    for (_, text) in &domain.checks {
        let mut binder = Binder::new(text, around);
        let columns = vec![ScopeColumn { name: "VALUE".into(), id: binder.new_column("VALUE", domain.sql_type) }];
        let name = domain.name.clone();
        let scope = Scope::of(Relation::new(name, columns));
        let bound = binder.written(text, &scope)?;
        let bound = binder.condition(bound, "CHECK");
        binder.refuse_query(&bound, "CHECK");
        fail_with_all(binder.problems)?;
    }
    Ok(())
}

impl Binder<'_> {
    /// The columns of a table under their own names; the first is column 0 of the statement, and so on.
    pub(super) fn row_scope(&mut self, definition: &TableDefinition) -> Scope {
        let columns = definition.columns.iter().map(|column| ScopeColumn {
            name: column.name.clone(),
            id: self.new_column(&column.name, column.sql_type),
        });
        let columns = columns.collect();
        Scope::of(Relation::new(String::new(), columns))
    }

    fn refuse_query(&mut self, expr: &Expr, what: &'static str) {
        if what != "DEFAULT" && self.has_next_values() {
            let message = format!("{what} can't use NEXT VALUE FOR");
            self.problems.push(Error::new(SqlState::SYNTAX_OR_RULE, message).at(expr.span()));
        }
        if expr.has_subquery() {
            self.problems.push(Error::from_facts(&ChangeProblem::Subquery { what }).at(expr.span()));
        }
        if let ExprKind::Parameter(name, _) = expr.kind() {
            let message = format!("{what} can't use the parameter {name}");
            self.problems.push(Error::new(SqlState::SYNTAX_OR_RULE, message).at(expr.span()));
        }
    }
}

/// A column of a batch of all columns, held to what it asks besides its type.
pub fn stored_value(at: usize, column: &ColumnDefinition) -> Expr {
    limited(Expr::new(ExprKind::Slot(at), column.sql_type, Span::default()), column)
}

/// A generated column, over batches of all columns.
///
/// # Errors
/// Whatever is wrong with its expression.
pub fn generated_values<'a>(definition: &'a TableDefinition, at: usize, around: &'a BindContext<'a>) -> Result<Expr> {
    let column = &definition.columns[at];
    let Filled::Generated(text) = &column.filled else { return Ok(stored_value(at, column)) };
    let mut binder = Binder::new(text, around);
    let scope = binder.row_scope(definition);
    let value = binder.written(text, &scope)?;
    let value = binder.assign(value, column);
    fail_with_all(binder.problems)?;
    Ok(in_slots(limited(value, column), definition))
}

/// A value of the type of a column, held to what the column asks besides.
pub(super) fn limited(value: Expr, column: &ColumnDefinition) -> Expr {
    let (function, number) = match column.limit {
        None => return value,
        Some(TypeLimit::SecondDigits(digits)) => (Function::SecondDigits, i64::from(digits)),
        Some(TypeLimit::Elements(most)) => (Function::Array(ArrayFunction::ArrayLimit), i64::from(most)),
        Some(TypeLimit::Fields(fields)) if fields.unit() == 1 => return value,
        Some(TypeLimit::Fields(fields)) => (Function::IntervalFields, fields.unit()),
    };
    let span = value.span();
    let number = Expr::literal(Value::Integer(number), SqlType::BigInt, span);
    Expr::new(ExprKind::Call(function, vec![value, number]), column.sql_type, span)
}

/// Columns as places in a batch of all columns; each keeps the type it was given where it appears.
pub(super) fn in_slots(expr: Expr, definition: &TableDefinition) -> Expr {
    if let ExprKind::Column(ColumnId(id)) = expr.kind() {
        let slot = ExprKind::Slot(*id as usize);
        let known = definition.columns.len() > *id as usize;
        return if known { Expr::new(slot, expr.sql_type(), Span::default()) } else { expr };
    }
    let Ok(mapped) = expr.map_children(&mut |child| Ok::<_, std::convert::Infallible>(in_slots(child, definition)));
    mapped
}
