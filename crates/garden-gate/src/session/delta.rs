//! A query over the rows of a change: `FROM FINAL TABLE (INSERT …)` (clause 7.6, data change delta table).

use super::result_set::ResultSet;
use super::session::Call;
use super::{Session, statement::prepare};
use crate::bind::{BindContext, MissingParameters};
use crate::catalog::{Column, Segment, Table, TableKind};
use crate::diagnostic::{Error, Result, Span, SqlState};
use crate::storage::MemoryTable;
use crate::syntax::ast::{self, DeltaRows};
use std::sync::Arc;

/// The change in FROM of the outermost SELECT of a query.
pub(super) fn change_in(query: &ast::Query) -> Option<&ast::Delta> {
    fn in_table(table: &ast::TableExpr) -> Option<&ast::Delta> {
        match table {
            ast::TableExpr::Delta(delta) => Some(delta),
            ast::TableExpr::Join(join) => in_table(&join.left).or_else(|| in_table(&join.right)),
            ast::TableExpr::Sampled(sampled) => in_table(&sampled.0),
            _ => None,
        }
    }
    match &query.body {
        ast::QueryBody::Select(select) => select.from.iter().find_map(in_table),
        _ => None,
    }
}

impl Session {
    /// Carries the change out, then runs the query over its rows and over the other tables as they are after it.
    pub(super) fn change_and_query(
        &mut self,
        query: &ast::Query,
        delta: &ast::Delta,
        call: &Call<'_>,
    ) -> Result<ResultSet> {
        let change = with_rows(delta)?;
        self.change_catalog(|session, catalog| {
            let files = session.files();
            let (after, changed) = session.changed(&change, call, (catalog, &files))?;
            let Some(rows) = changed.returned else {
                return Err(Error::new(SqlState::GENERAL, "internal error: a change gave no rows"));
            };
            let columns = rows.columns.iter().map(|column| Column::new(column.name.clone(), column.sql_type));
            let segments = rows.batches.into_iter().map(|batch| Segment { columns: batch.columns, rows: batch.rows });
            let source = MemoryTable::new(columns.collect(), segments.collect());
            let name = delta.change.table.last().map_or_else(String::new, |name| name.text.clone());
            let table = Table {
                name,
                kind: TableKind::Table,
                source: Arc::new(source),
                definition: None,
                groups: Arc::default(),
            };
            let around = session.around(&after, &files, call.parameters, MissingParameters::Refuse);
            let around = BindContext { delta: Some((delta.span, &table)), ..around };
            let prepared = prepare(query, call.source, &around, session.settings(), call.started)?;
            let rows = session.run_prepared(&prepared, None)?;
            session.access.check_rows(rows.row_count())?;
            drop(prepared);
            Ok((after, rows))
        })
    }
}

/// The change with RETURNING of the rows that are asked for.
fn with_rows(delta: &ast::Delta) -> Result<ast::Change> {
    let refuse =
        |message: &str, help: &str| Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help).at(delta.span));
    let removes = matches!(delta.change.kind, ast::ChangeKind::Delete { .. } | ast::ChangeKind::Truncate { .. });
    match delta.rows {
        DeltaRows::Old if matches!(delta.change.kind, ast::ChangeKind::Insert(_)) => {
            return refuse("an INSERT has no old rows", "FINAL TABLE gives the rows that it adds");
        }
        DeltaRows::Final if removes => {
            return refuse("a DELETE has no rows when it is done", "OLD TABLE gives the rows that it takes away");
        }
        _ => {}
    }
    if delta.change.returning.is_some() {
        return refuse("RETURNING has no use here", "the query around it says what is shown");
    }
    let items = if delta.rows == DeltaRows::Old && !removes {
        let old = ast::Ident { text: "OLD".into(), quoted: false, span: Span::default() };
        vec![ast::SelectItem::AllOf(vec![old], Span::default())]
    } else {
        vec![ast::SelectItem::All(Span::default())]
    };
    Ok(ast::Change { returning: Some(items), ..delta.change.clone() })
}
