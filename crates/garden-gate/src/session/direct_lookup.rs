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
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::logical::{ColumnId, Expr, ExprKind, Scan, ScanIndex};
use crate::physical::{IndexAccess, Node, Operator, Probe};
use crate::storage::{IndexRead, KeyRange, StoredTable};
use crate::syntax::ast;
use crate::types::{ParameterName, SqlType};
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
    /// The columns of the result, by their places in the table.
    read: Vec<usize>,
    columns: Vec<ResultColumn>,
}

impl DirectLookup {
    /// The way a query went, if it was one row by its key.
    pub(super) fn of(session: &Session, catalog: &Arc<Catalog>, prepared: &Prepared) -> Option<Self> {
        if !prepared.is_plain() {
            return None;
        }
        let (scan, read, access) = lookup(prepared.root())?;
        let keys = keys(access)?;
        let columns: Vec<usize> = access.index.keys.iter().map(|key| slot(&key.expr)).collect::<Option<_>>()?;
        let source: Arc<dyn Any + Send + Sync> = Arc::clone(&scan.source) as _;
        let table = source.downcast::<StoredTable>().ok()?;
        let is_key = |key: &Vec<usize>| key.len() == columns.len() && key.iter().all(|at| columns.contains(at));
        if !scan.filter.is_empty() || !table.keys().iter().any(is_key) {
            return None;
        }
        let place = |id: ColumnId| {
            let id = source_column(prepared.root(), id)?;
            read.iter().find(|(known, _)| *known == id).map(|(_, place)| *place)
        };
        Some(Self {
            catalog: Arc::downgrade(catalog),
            settings: Arc::downgrade(session.settings()),
            schema: session.schema.clone(),
            path: session.path().to_vec(),
            table: Arc::downgrade(&table),
            index: access.index.clone(),
            keys,
            read: prepared.output().iter().map(|column| place(column.id)).collect::<Option<_>>()?,
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
        Some(table.read_index(&read).map(first))
    }
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
