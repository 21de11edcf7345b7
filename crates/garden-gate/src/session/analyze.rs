//! ANALYZE: looks at the values of tables anew, and of columns that go together.

use super::Session;
use super::change::stored;
use super::definition::no_table;
use crate::catalog::{Catalog, GroupStatistics, Table, TableSource};
use crate::control;
use crate::diagnostic::{Error, Result, SqlState, suggestion};
use crate::storage::collect_group;
use crate::syntax::ast;
use rayon::ThreadPool;
use rayon::iter::{IntoParallelIterator, ParallelIterator};
use std::sync::Arc;

impl Session {
    /// `ANALYZE [table [(column, …)]]`: without a table, all of them. O(rows).
    pub(super) fn analyze(&mut self, analyze: &ast::Analyze) -> Result<()> {
        self.change_catalog(|session, catalog| {
            let mut changed = Catalog::clone(catalog);
            let threads = session.pool().shared_threads()?;
            match &analyze.table {
                None => {
                    for (schema, table) in catalog.tables() {
                        put_analyzed(&mut changed, (schema, table), None, threads.as_deref())?;
                    }
                }
                Some(name) => {
                    let (schema, name) = session.place(catalog, name)?;
                    let tables = catalog.schema(&schema).map(|schema| schema.tables.as_slice()).unwrap_or_default();
                    let Some(table) = tables.iter().find(|table| name.matches(&table.name)) else {
                        return Err(no_table(catalog, &schema, name));
                    };
                    let columns = analyze.columns.as_ref().map(|names| places(table, names)).transpose()?;
                    put_analyzed(&mut changed, (&schema, table), columns, threads.as_deref())?;
                }
            }
            Ok((changed, ()))
        })
    }
}

/// The columns of a group, by their places, ascending.
fn places(table: &Table, names: &[ast::Ident]) -> Result<Vec<usize>> {
    let columns = table.source.columns();
    let place = |name: &ast::Ident| {
        columns.iter().position(|column| name.matches(&column.name)).ok_or_else(|| {
            let known: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
            Error::new(SqlState::COLUMN_NOT_FOUND, format!("no column {:?} in {}", name.text, table.name))
                .with_help(suggestion(&name.text, &known, "the columns are"))
                .at(name.span)
        })
    };
    let mut places = names.iter().map(place).collect::<Result<Vec<usize>>>()?;
    places.sort_unstable();
    places.dedup();
    match names {
        [only] if places.len() == 1 => {
            let error = Error::new(SqlState::SYNTAX_OR_RULE, "a group of columns has at least two of them");
            Err(error.with_help("ANALYZE without columns looks at each separately").at(only.span))
        }
        _ => Ok(places),
    }
}

/// Looks at all columns, several at a time.
fn each_column(source: &dyn TableSource, threads: Option<&ThreadPool>) -> Result<()> {
    let columns = 0..source.columns().len();
    let Some(threads) = threads else {
        return columns.map(|column| source.statistics(column)).try_for_each(|found| found.map(|_| ()));
    };
    let statement = control::current();
    let look = |column: usize| {
        let _entered = control::enter(statement.as_ref());
        source.statistics(column).map(|_| ())
    };
    threads.install(|| columns.into_par_iter().map(look).collect::<Vec<Result<()>>>()).into_iter().collect()
}

/// Puts a table in its place of which everything has been looked at anew, the groups asked for before among it.
fn put_analyzed(
    catalog: &mut Catalog,
    (schema, table): (&str, &Table),
    more: Option<Vec<usize>>,
    threads: Option<&ThreadPool>,
) -> Result<()> {
    let source: Arc<dyn TableSource> = match stored(catalog, schema, &table.name) {
        Ok((stored, _)) => Arc::new(stored.unknown()),
        // Rows of files and programs do not change: what is known of them stays right.
        Err(_) => Arc::clone(&table.source),
    };
    each_column(source.as_ref(), threads)?;
    let mut wanted: Vec<Vec<usize>> = table.groups.iter().map(|group| group.columns.clone()).collect();
    wanted.extend(more.filter(|more| !wanted.contains(more)));
    let groups = wanted.iter().map(|columns| group(source.as_ref(), columns)).collect::<Result<Vec<_>>>()?;
    catalog.put_table(schema, Table { source, groups: Arc::new(groups), ..table.clone() });
    Ok(())
}

fn group(source: &dyn TableSource, columns: &[usize]) -> Result<GroupStatistics> {
    let types: Vec<_> = columns.iter().map(|at| (*at, source.columns()[*at].sql_type)).collect();
    let segments: Vec<_> = source.read(columns)?.into_iter().map(|segment| (segment.columns, segment.rows)).collect();
    collect_group(&types, &segments)
}
