//! CREATE INDEX and DROP INDEX.

use super::Session;
use super::change::stored;
use super::constraints::check_key;
use super::definition::no_table;
use super::session::Call;
use super::table_definition::{Maker, constraint_names, no_column};
use super::unique_index::check_unique;
use crate::bind::{MissingParameters, index_keys};
use crate::catalog::{
    Catalog, Index, IndexKey, IndexPart, KeyConstraint, Table, TableDefinition, TableKind, TableSource, Timing,
};
use crate::diagnostic::{Error, Result, SqlState, suggestion};
use crate::kernel::Batch;
use crate::storage::StoredTable;
use crate::syntax::ast;
use std::sync::Arc;

impl Session {
    /// CREATE INDEX.
    pub(super) fn create_index(&self, catalog: &mut Catalog, index: &ast::CreateIndex, call: &Call<'_>) -> Result<()> {
        let (schema, table) = self.place(catalog, &index.table)?;
        let known = catalog
            .schema(&schema)
            .and_then(|schema| schema.tables.iter().find(|known| table.matches(&known.name)))
            .map(|known| known.name.clone())
            .ok_or_else(|| no_table(catalog, &schema, table))?;
        let (source, definition) = stored(catalog, &schema, &known).map_err(|_| {
            let message = format!("table {known:?} holds rows of a file or a program, and can't have an index");
            let help = "CREATE TABLE … FROM FILE makes a table of its rows";
            Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help).at(table.span)
        })?;
        if names(catalog, &schema).iter().any(|name| index.name.matches(name)) {
            if index.if_not_exists {
                return Ok(());
            }
            let message = format!("there is an index or a key {:?} already", index.name.text);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(index.name.span));
        }
        let before = catalog.clone();
        let files = self.files();
        let around = self.around(&before, &files, call.parameters, MissingParameters::Refuse);
        let maker = Maker { session: self, catalog: &before, source: call.source, table };
        let mut made = TableDefinition::clone(&definition);
        let fresh = maker.index(&made, index)?;
        index_keys(&made, &fresh, &around)?;
        if index.unique {
            let rows = Batch::new(source.columns_whole()?, usize::try_from(source.rows()).unwrap_or(usize::MAX));
            let checked = match unique_key(&fresh) {
                Some(key) => {
                    made.keys.push(key.clone());
                    check_key(&known, &made, &key, (&source, &rows))
                }
                None => check_unique((&known, &made), &fresh, (&source, &rows), &around),
            };
            checked.map_err(|error| error.at(index.name.span))?;
        }
        made.indexes.push(fresh);
        let source = source.with_keys(made.certain_keys());
        put(catalog, &schema, (known, source), made);
        Ok(())
    }

    /// DROP INDEX.
    pub(super) fn drop_index(&self, catalog: &mut Catalog, name: &[ast::Ident], drop: ast::Drop) -> Result<()> {
        let (schema, name) = self.place(catalog, name)?;
        let tables = catalog.schema(&schema).map(|schema| schema.tables.clone()).unwrap_or_default();
        let is_meant = |index: &Index| name.matches(&index.name);
        let holder = tables.iter().find_map(|table| {
            let definition = table.definition.as_ref()?;
            definition.indexes.iter().any(is_meant).then(|| (table.name.clone(), TableDefinition::clone(definition)))
        });
        let Some((table, mut made)) = holder else {
            if drop.if_exists {
                return Ok(());
            }
            let indexes = tables.iter().filter_map(|table| table.definition.as_ref()).flat_map(|known| &known.indexes);
            let known: Vec<&str> = indexes.map(|index| index.name.as_str()).collect();
            let error = Error::new(SqlState::SYNTAX_OR_RULE, format!("no index {:?}", name.text)).at(name.span);
            let is_key = tables
                .iter()
                .filter_map(|table| table.definition.as_ref())
                .any(|definition| definition.keys.iter().any(|key| name.matches(&key.name)));
            return Err(match (is_key, known.is_empty()) {
                (true, _) => error.with_help("this is a key: ALTER TABLE … DROP CONSTRAINT drops it"),
                (false, true) => error,
                (false, false) => error.with_help(suggestion(&name.text, &known, "the indexes are")),
            });
        };
        let (source, _) = stored(catalog, &schema, &table)?;
        made.indexes.retain(|index| !is_meant(index));
        made.keys.retain(|key| !name.matches(&key.name));
        let source = source.with_keys(made.certain_keys());
        put(catalog, &schema, (table, source), made);
        Ok(())
    }
}

fn put(catalog: &mut Catalog, schema: &str, (name, source): (String, StoredTable), definition: TableDefinition) {
    let (kind, definition) = (TableKind::Table, Some(Arc::new(definition)));
    let groups = catalog.table(schema, &name).map(|table| Arc::clone(&table.groups)).unwrap_or_default();
    catalog.put_table(schema, Table { name, kind, source: Arc::new(source), definition, groups });
}

/// The names that an index of the schema can't have.
fn names(catalog: &Catalog, schema: &str) -> Vec<String> {
    let tables = catalog.schema(schema).map(|schema| schema.tables.as_slice()).unwrap_or_default();
    let definitions = tables.iter().filter_map(|table| table.definition.as_ref());
    let of = |definition: &Arc<TableDefinition>| {
        let indexes = definition.indexes.iter().map(|index| index.name.clone());
        indexes.chain(constraint_names(definition)).collect::<Vec<_>>()
    };
    definitions.flat_map(of).collect()
}

/// The key that a unique index of columns keeps.
fn unique_key(index: &Index) -> Option<KeyConstraint> {
    let column = |key: &IndexKey| match key.part {
        IndexPart::Column(at) => Some(at),
        IndexPart::Expression(_) => None,
    };
    let columns = index.keys.iter().map(column).collect::<Option<Vec<usize>>>()?;
    let (name, timing) = (index.name.clone(), Timing::AtOnce);
    Some(KeyConstraint { name, columns, primary: false, nulls_same: false, timing, period_end: None })
}

impl Maker<'_> {
    fn index(&self, made: &TableDefinition, index: &ast::CreateIndex) -> Result<Index> {
        let place = |name: &ast::Ident| {
            let found = made.columns.iter().position(|column| name.matches(&column.name));
            found.ok_or_else(|| no_column(made, &self.table.text, name))
        };
        let key = |item: &ast::SortItem| -> Result<IndexKey> {
            let part = match &item.expr.kind {
                ast::ExprKind::Name(parts) if parts.len() == 1 => IndexPart::Column(place(&parts[0])?),
                _ => IndexPart::Expression(self.written(&item.expr)),
            };
            Ok(IndexKey { part, direction: item.direction, nulls: item.nulls })
        };
        Ok(Index {
            name: index.name.text.clone(),
            unique: index.unique,
            keys: index.keys.iter().map(key).collect::<Result<_>>()?,
            include: index.include.iter().map(place).collect::<Result<_>>()?,
        })
    }
}
