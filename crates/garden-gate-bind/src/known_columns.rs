//! Views and table functions mean what they meant when they were made (clause 11.32: their columns are fixed then): of a table that they read
//! they see the columns that it had, whatever has been added since. A column that is gone appears in their scope all the same, so that a query
//! that means it no longer works, rather than mean something else.

use super::Binder;
use super::scope::ScopeColumn;
use crate::catalog::{Catalog, KnownColumns};
use crate::diagnostic::{Error, Result, SqlState};
use crate::logical::{ColumnId, ColumnInfo, LogicalPlan, StoredNulls};
use crate::syntax::ast;
use crate::types::SqlType;

/// The columns of all tables and views that a query names, in the schema that its unqualified names are looked up in.
pub fn columns_known_to(query: &ast::Query, catalog: &Catalog, own_schema: &str) -> Vec<KnownColumns> {
    let mut found: Vec<KnownColumns> = Vec::new();
    query.for_each_table(&mut |name| {
        let (schema, table) = match name {
            [table] => (None, table),
            [schema, table] => (Some(schema), table),
            _ => return,
        };
        let is_meant = |known: &str| schema.map_or(known == own_schema, |schema| schema.matches(known));
        let Some(schema) = catalog.schemas.iter().find(|schema| is_meant(&schema.name)) else { return };
        let of_table = schema.tables.iter().find(|known| table.matches(&known.name)).map(|known| {
            let columns = known.source.columns().iter().map(|column| column.name.clone()).collect();
            KnownColumns { schema: schema.name.clone(), table: known.name.clone(), columns }
        });
        let of_view = || {
            let view = schema.views.iter().find(|known| table.matches(&known.name))?;
            Some(KnownColumns { schema: schema.name.clone(), table: view.name.clone(), columns: view.columns.clone() })
        };
        let Some(known) = of_table.or_else(of_view) else { return };
        if !found.iter().any(|other| other.schema == known.schema && other.table == known.table) {
            found.push(known);
        }
    });
    found
}

impl<'a> Binder<'a> {
    /// What a table looked like to the view or function that is being read.
    pub(super) fn known_columns(&self, schema: &str, table: &str) -> Option<&'a KnownColumns> {
        self.known.iter().find(|known| known.schema == schema && known.table == table)
    }

    /// Leaves the columns that were known, and puts a stand-in where one is gone.
    pub(super) fn as_known(
        &mut self,
        known: &KnownColumns,
        visible: &mut Vec<ScopeColumn>,
        star: &mut Vec<ScopeColumn>,
    ) {
        let was_there = |column: &ScopeColumn| known.columns.contains(&column.name);
        visible.retain(was_there);
        star.retain(was_there);
        for name in &known.columns {
            if !visible.iter().any(|column| column.name == *name) {
                let info = ColumnInfo {
                    qualifier: Some(known.table.clone()),
                    name: name.clone(),
                    sql_type: SqlType::TEXT,
                    limit: None,
                    origin: None,
                    nulls: StoredNulls::Possible,
                };
                let id = self.columns.add(info);
                self.gone.push((id, format!("{name:?} of {:?}", known.table)));
                let column = ScopeColumn { name: name.clone(), id };
                visible.push(column.clone());
                star.push(column);
            }
        }
    }

    /// An error when a column that is gone is used in a plan or among its results.
    pub(super) fn refuse_gone(&self, before: usize, plan: &LogicalPlan, results: &[ColumnId]) -> Result<()> {
        for (id, what) in &self.gone[before..] {
            let mut used = results.contains(id);
            plan.walk(&mut |node| {
                node.for_each_expr(|expr| used |= expr.columns().contains(id));
                if let LogicalPlan::SetOperation { operands, .. } = node {
                    used |= operands.iter().any(|operand| operand.columns.contains(id));
                }
            });
            if used {
                return Err(Error::new(SqlState::COLUMN_NOT_FOUND, format!("column {what} is gone")));
            }
        }
        Ok(())
    }
}
