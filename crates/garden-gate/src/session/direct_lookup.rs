//! A row found by its key: a prepared query that looks up one row by parameters reads it straight from its table, without a plan.
//!
//! The way is found in a plan that ran, and kept as long as planning would come to the same: with the same tables as they were, the same
//! settings and the same schemas. What is out of the ordinary, such as a value of another type, is planned.

use super::direct::value;
use super::last_query::DirectCall;
use super::session::Call;
use super::settings::Settings;
use super::statement::Prepared;
use super::{ResultColumn, ResultSet, Session};
use crate::bind::Parameters;
use crate::catalog::{Catalog, TableSource};
use crate::diagnostic::{Result, Span};
use crate::kernel::{Batch, count_true, evaluate, value_at};
use crate::logical::{ColumnId, Expr, ExprKind, Scan, ScanIndex};
use crate::physical::{IndexAccess, Node, Operator, Probe};
use crate::storage::{IndexRead, KeyRange, StoredTable};
use crate::syntax::ast;
use crate::types::{ParameterName, SqlType};
use arrow::array::AsArray;
use std::any::Any;
use std::sync::{Arc, Weak};

#[derive(Debug)]
pub(super) struct DirectLookup {
    catalog: Weak<Catalog>,
    settings: Weak<Settings>,
    schema: String,
    path: Vec<String>,
    table: Weak<StoredTable>,
    index: ScanIndex,
    /// For each key of the index the parameter that it equals.
    keys: Vec<(ParameterName, SqlType)>,
    /// The columns of the result, by their places in the table, and after them those that further conditions use.
    read: Vec<usize>,
    /// Comparisons of these columns with parameters or constants, which the row has to pass as well.
    filter: Vec<Expr>,
    columns: Vec<ResultColumn>,
}

impl DirectLookup {
    /// The way a query went, if it was one row by its key.
    pub(super) fn of(
        session: &Session,
        catalog: &Arc<Catalog>,
        (statement, prepared): (&ast::Statement, &Prepared),
    ) -> Option<Self> {
        if !prepared.is_plain() {
            return None;
        }
        let (scan, read, access) = lookup(prepared.root())?;
        let keys = keys(access)?;
        let columns: Vec<usize> = access.index.keys.iter().map(|key| slot(&key.expr)).collect::<Option<_>>()?;
        let source: Arc<dyn Any + Send + Sync> = Arc::clone(&scan.source) as _;
        let table = source.downcast::<StoredTable>().ok()?;
        let is_key = |key: &Vec<usize>| key.len() == columns.len() && key.iter().all(|at| columns.contains(at));
        // What values made of the conditions would hold for these values only: as many as were written, and all of them plain.
        let written = comparisons(statement);
        let is_written = written == Some(keys.len() + scan.filter.len()) && scan.filter.iter().all(is_plain_comparison);
        if !is_written || !table.keys().iter().any(is_key) {
            return None;
        }
        let place = |id: ColumnId| {
            let id = source_column(prepared.root(), id)?;
            read.iter().find(|(known, _)| *known == id).map(|(_, place)| *place)
        };
        let mut read: Vec<usize> = prepared.output().iter().map(|column| place(column.id)).collect::<Option<_>>()?;
        let filter = scan.filter.iter().map(|term| in_places(term, scan, &mut read)).collect::<Option<_>>()?;
        Some(Self {
            catalog: Arc::downgrade(catalog),
            settings: Arc::downgrade(session.settings()),
            schema: session.schema.clone(),
            path: session.path().to_vec(),
            table: Arc::downgrade(&table),
            index: access.index.clone(),
            keys,
            read,
            filter,
            columns: prepared.result_columns(),
        })
    }

    /// Whether planning would come to the same.
    fn fits(&self, session: &Session, catalog: &Arc<Catalog>) -> bool {
        std::ptr::eq(self.catalog.as_ptr(), Arc::as_ptr(catalog))
            && std::ptr::eq(self.settings.as_ptr(), Arc::as_ptr(session.settings()))
            && self.schema == session.schema
            && session.as_of.is_none()
            && self.path == session.path()
    }

    /// The row of the key that these parameters make; `None` when a value is not of the type of its key.
    fn row(&self, table: &StoredTable, parameters: &Parameters) -> Option<Result<Batch>> {
        let key = |(name, sql_type): &(ParameterName, SqlType)| {
            parameters.get(name).filter(|value| !value.is_null()).and_then(|given| value(given, *sql_type))
        };
        let equal = self.keys.iter().map(key).collect::<Option<_>>()?;
        let range = KeyRange { equal, ..KeyRange::default() };
        let read = IndexRead { index: &self.index, ranges: vec![range], columns: &self.read, only: false, order: None };
        let first = |segments: Vec<crate::catalog::Segment>| {
            segments.into_iter().next().map_or_else(Batch::default, |found| Batch::new(found.columns, found.rows))
        };
        let filter = self.filter.iter().map(|term| with_values(term, parameters)).collect::<Option<Vec<_>>>()?;
        let passed = |found: Batch| {
            if found.rows > 0 && !filter.is_empty() {
                let truth = evaluate(&Expr::and(filter, Span::default()), &found)?.into_array(found.rows)?;
                if count_true(truth.as_boolean()) == 0 {
                    return Ok(Batch::default());
                }
            }
            Ok(Batch::new(found.columns.into_iter().take(self.columns.len()).collect(), found.rows))
        };
        Some(table.read_index(&read).map(first).and_then(passed))
    }
}

/// How many conditions a query has, when each compares a name with a parameter or a literal and all of them must hold.
fn comparisons(statement: &ast::Statement) -> Option<usize> {
    let ast::StatementKind::Query(query) = &statement.kind else { return None };
    let ast::QueryBody::Select(select) = &query.body else { return None };
    let is_plain = |term: &ast::Expr| match &term.kind {
        ast::ExprKind::Compare(_, sides) => {
            let is_name = |side: &ast::Expr| matches!(side.kind, ast::ExprKind::Name(_));
            let is_value =
                |side: &ast::Expr| matches!(side.kind, ast::ExprKind::Parameter(_) | ast::ExprKind::Literal(..));
            is_name(&sides.left) && is_value(&sides.right) || is_value(&sides.left) && is_name(&sides.right)
        }
        _ => false,
    };
    let terms = match &select.where_.as_ref()?.kind {
        ast::ExprKind::And(terms) => terms.as_slice(),
        _ => std::slice::from_ref(select.where_.as_ref()?),
    };
    terms.iter().all(is_plain).then_some(terms.len())
}

/// Whether a condition compares a column with a parameter or a constant, and nothing was made of their values.
fn is_plain_comparison(term: &Expr) -> bool {
    let ExprKind::Compare(_, sides) = term.kind() else { return false };
    let is_value = |side: &Expr| matches!(side.kind(), ExprKind::Parameter(..) | ExprKind::Literal(_));
    let is_column = |side: &Expr| matches!(side.kind(), ExprKind::Column(_));
    is_column(&sides[0]) && is_value(&sides[1]) || is_value(&sides[0]) && is_column(&sides[1])
}

/// A comparison over the places of what is read; a column that is not read yet is added.
fn in_places(term: &Expr, scan: &Scan, read: &mut Vec<usize>) -> Option<Expr> {
    let mut slot = |expr: Expr| -> Result<Expr, ()> {
        match expr.kind() {
            ExprKind::Column(id) => {
                let (_, place) = scan.columns.iter().find(|(known, _)| known == id).ok_or(())?;
                read.push(*place);
                Ok(Expr::new(ExprKind::Slot(read.len() - 1), expr.sql_type(), expr.span()))
            }
            _ => Ok(expr),
        }
    };
    term.clone().map_children(&mut slot).ok()
}

/// A comparison with the values of a call; `None` when one is NULL or not of the type that it is compared as.
fn with_values(term: &Expr, parameters: &Parameters) -> Option<Expr> {
    let mut given = |expr: Expr| -> Result<Expr, ()> {
        match expr.kind() {
            ExprKind::Parameter(name, _) => {
                let given = parameters.get(name).filter(|value| !value.is_null()).ok_or(())?;
                let array = value(given, expr.sql_type()).ok_or(())?;
                let value = value_at(&array, expr.sql_type(), 0);
                Ok(Expr::new(ExprKind::Literal(value), expr.sql_type(), expr.span()))
            }
            _ => Ok(expr),
        }
    };
    term.clone().map_children(&mut given).ok()
}

/// A read of a table by an index, with the columns that are read.
type Lookup<'n> = (&'n Scan, &'n [(ColumnId, usize)], &'n IndexAccess);

/// The index read that a plan consists of, but for a choice of its columns.
fn lookup(root: &Node) -> Option<Lookup<'_>> {
    match &root.operator {
        Operator::Scan { scan, read, access: Some(access) } => Some((scan, read, access)),
        Operator::Project(_) => lookup(root.inputs.first()?),
        _ => None,
    }
}

/// The parameters that the keys of an index equal, one each.
fn keys(access: &IndexAccess) -> Option<Vec<(ParameterName, SqlType)>> {
    let plain = access.low.is_none() && access.high.is_none() && access.order.is_none() && access.others.is_none();
    if !plain || access.equal.len() != access.index.keys.len() {
        return None;
    }
    let parameter = |(probe, key): (&Probe, &crate::logical::SortKey)| match probe {
        Probe::OneOf(values) => match values.as_slice() {
            [one] => match one.kind() {
                ExprKind::Parameter(name, _) => Some((name.clone(), key.expr.sql_type())),
                _ => None,
            },
            _ => None,
        },
        Probe::Null => None,
    };
    access.equal.iter().zip(&access.index.keys).map(parameter).collect()
}

fn slot(expr: &Expr) -> Option<usize> {
    match expr.kind() {
        ExprKind::Slot(slot) => Some(*slot),
        _ => None,
    }
}

/// The column of the scan that a column of the result is.
fn source_column(node: &Node, id: ColumnId) -> Option<ColumnId> {
    match &node.operator {
        Operator::Project(columns) => {
            let (_, expr) = columns.iter().find(|(made, _)| *made == id)?;
            match expr.kind() {
                ExprKind::Column(from) => source_column(node.inputs.first()?, *from),
                _ => None,
            }
        }
        _ => Some(id),
    }
}

impl Session {
    /// Looks up the row; `None` when the query has to be planned.
    pub(super) fn look_up(
        &self,
        way: &DirectLookup,
        (statement, call): (&Arc<ast::Statement>, &Call<'_>),
    ) -> Result<Option<ResultSet>> {
        let catalog = self.catalog();
        if self.shared.temporary.any() || !way.fits(self, &catalog) {
            return Ok(None);
        }
        let Some(table) = way.table.upgrade() else { return Ok(None) };
        let Some(found) = way.row(&table, call.parameters) else { return Ok(None) };
        let found = found?;
        if let Some(transaction) = &self.transaction {
            transaction.note_reads(&[table as Arc<dyn TableSource>]);
        }
        self.access.check_rows(found.rows)?;
        self.last.set_direct(DirectCall {
            catalog,
            settings: Arc::clone(self.settings()),
            statement: Arc::clone(statement),
            source: Arc::clone(call.source),
            parameters: call.parameters.clone(),
        });
        Ok(Some(ResultSet {
            columns: way.columns.clone(),
            batches: if found.rows == 0 { Vec::new() } else { vec![found] },
            elapsed: call.started.elapsed(),
            zone: self.settings().zone,
            ..ResultSet::default()
        }))
    }
}
