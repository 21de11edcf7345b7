//! ALTER TABLE: a new definition, and a new version of the rows where they change with it.

use super::Session;
use super::change::stored;
use super::constraints::{check_key, repeat, table_columns};
use super::definition::no_table;
use super::session::Call;
use super::table_definition::{Maker, constraint_names, no_column};
use crate::bind::{MissingParameters, bind_checks, check_definition, default_value};
use crate::catalog::{
    Catalog, CheckConstraint, ColumnDefinition, Filled, Table, TableDefinition, TableKind, TableSource,
};
use crate::diagnostic::{Error, Result, SqlState, suggestion};
use crate::kernel::Batch;
use crate::storage::StoredTable;
use crate::syntax::ast;
use std::sync::Arc;

impl Session {
    pub(super) fn alter_table(
        &self,
        catalog: &mut Catalog,
        (name, action): (&[ast::Ident], &ast::AlterTable),
        call: &Call<'_>,
    ) -> Result<()> {
        let (schema, table) = self.place(catalog, name)?;
        let tables = catalog.schema(&schema).map(|schema| schema.tables.as_slice()).unwrap_or_default();
        let Some(known) = tables.iter().find(|known| table.matches(&known.name)) else {
            return Err(no_table(catalog, &schema, table));
        };
        let known = known.name.clone();
        let (rows, definition) = stored(catalog, &schema, &known).map_err(|_| {
            let message = format!("{known} holds rows of a file or a program, and can't be altered");
            Error::new(SqlState::SYNTAX_OR_RULE, message).at(table.span)
        })?;
        if let ast::AlterTable::Rename(to) = action {
            return rename(catalog, (&schema, &known), to);
        }
        let before = catalog.clone();
        let files = self.files();
        let around = self.around(&before, &files, call.parameters, MissingParameters::Refuse);
        let maker = Maker { session: self, catalog: &before, source: call.source, table };
        let mut made = TableDefinition::clone(&definition);
        let mut columns = all_rows(&rows)?;
        match action {
            ast::AlterTable::AddColumn(column) => {
                maker.column(&mut made, column)?;
                for constraint in &column.constraints {
                    maker.constraint(&mut made, constraint, &schema)?;
                }
                let at = made.columns.len() - 1;
                if matches!(made.columns[at].filled, Filled::Generated(_) | Filled::Identity(_)) && columns.rows > 0 {
                    let what = "a generated or numbered column for a table that has rows";
                    return Err(Error::not_supported(what).at(column.name.span));
                }
                let value = default_value(&made, at, &around)?;
                columns.columns.push(repeat(&value, made.columns[at].sql_type, columns.rows)?);
            }
            ast::AlterTable::DropColumn { name, drop } => {
                let Some(at) = made.columns.iter().position(|column| name.matches(&column.name)) else {
                    return if drop.if_exists { Ok(()) } else { Err(no_column(&made, &known, name)) };
                };
                drop_column(&mut made, at, *drop).map_err(|error| error.at(name.span))?;
                columns.columns.remove(at);
                let broken = |check: &CheckConstraint| {
                    let alone = TableDefinition { checks: vec![check.clone()], ..made.clone() };
                    bind_checks(&alone, &around).is_err()
                };
                let used: Vec<String> =
                    made.checks.iter().filter(|check| broken(check)).map(|check| check.name.clone()).collect();
                if !used.is_empty() && !drop.cascade {
                    let quoted: Vec<String> = used.iter().map(|name| format!("{name:?}")).collect();
                    let message =
                        format!("column {:?} is part of {}", name.text, super::table_definition::names(&quoted));
                    return Err(Error::new(SqlState::SYNTAX_OR_RULE, message)
                        .with_help("CASCADE drops these as well")
                        .at(name.span));
                }
                made.checks.retain(|check| !used.contains(&check.name));
            }
            ast::AlterTable::RenameColumn { name, to } => {
                if made
                    .columns
                    .iter()
                    .any(|column| column.name.eq_ignore_ascii_case(&to.text) && !name.matches(&column.name))
                {
                    let message = format!("table {known:?} has a column {:?} already", to.text);
                    return Err(Error::new(SqlState::COLUMN_EXISTS, message).at(to.span));
                }
                column_mut(&mut made, &known, name)?.name.clone_from(&to.text);
            }
            ast::AlterTable::SetDefault { column, value } => {
                let filled = match value {
                    Some(expr) => maker.default(expr),
                    None => Filled::Null,
                };
                column_mut(&mut made, &known, column)?.filled = filled;
            }
            ast::AlterTable::SetNotNull { column, not_null } => {
                column_mut(&mut made, &known, column)?.not_null = *not_null;
                if !*not_null
                    && made
                        .keys
                        .iter()
                        .any(|key| key.primary && key.columns.iter().any(|at| column.matches(&made.columns[*at].name)))
                {
                    let message = format!("column {:?} is part of the primary key and is never NULL", column.text);
                    return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(column.span));
                }
            }
            ast::AlterTable::AddConstraint(constraint) => maker.constraint(&mut made, constraint, &schema)?,
            ast::AlterTable::DropConstraint { name, drop } => {
                let names = constraint_names(&made);
                if !names.iter().any(|known| name.matches(known)) {
                    if drop.if_exists {
                        return Ok(());
                    }
                    let known: Vec<&str> = names.iter().map(String::as_str).collect();
                    let message = format!("no constraint {:?}", name.text);
                    let help = suggestion(&name.text, &known, "the constraints are");
                    return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help).at(name.span));
                }
                made.keys.retain(|key| !name.matches(&key.name));
                made.checks.retain(|check| !name.matches(&check.name));
                made.references.retain(|reference| !name.matches(&reference.name));
            }
            ast::AlterTable::Rename(_) => {}
        }
        check_definition(&made, &around)?;
        let mut altered = StoredTable::new(table_columns(&made), made.certain_keys());
        if columns.rows > 0 {
            altered = altered.changed(&[], std::slice::from_ref(&columns))?;
        }
        altered.next_number = rows.next_number;
        for key in &made.keys {
            check_key(&known, &made, key, (&altered, &columns))?;
        }
        let definition = Arc::new(made);
        let table = Table {
            name: known.clone(),
            kind: TableKind::Table,
            source: Arc::new(altered),
            definition: Some(Arc::clone(&definition)),
        };
        catalog.put_table(&schema, table);
        let changer = self.changer(catalog, &around);
        changer.check_rows(&known, &definition, &columns)?;
        for reference in &definition.references {
            changer.check_reference(&known, &definition, reference, &columns)?;
        }
        Ok(())
    }
}

/// All rows of a table as one batch.
fn all_rows(table: &StoredTable) -> Result<Batch> {
    let width = table.columns().len();
    let segments = table.read(&(0..width).collect::<Vec<_>>())?;
    let batches: Vec<Batch> = segments.into_iter().map(|segment| Batch::new(segment.columns, segment.rows)).collect();
    if batches.is_empty() {
        return table.rows_at(&[]);
    }
    Batch::concat(&batches, None)
}

fn rename(catalog: &mut Catalog, (schema, known): (&str, &str), to: &ast::Ident) -> Result<()> {
    if catalog
        .schema(schema)
        .is_some_and(|schema| schema.names().any(|name| name.eq_ignore_ascii_case(&to.text) && name != known))
    {
        let message = format!("there is a table or view {:?} already", to.text);
        return Err(Error::new(SqlState::TABLE_EXISTS, message).at(to.span));
    }
    let schemas: Vec<String> = catalog.schemas.iter().map(|schema| schema.name.clone()).collect();
    for name in schemas {
        for table in &mut catalog.schema_mut(&name).tables {
            let Some(definition) = &mut table.definition else { continue };
            if definition.references.iter().any(|reference| reference.table.0 == schema && reference.table.1 == known) {
                for reference in &mut Arc::make_mut(definition).references {
                    if reference.table.0 == schema && reference.table.1 == known {
                        reference.table.1.clone_from(&to.text);
                    }
                }
            }
        }
    }
    for table in catalog.schema_mut(schema).tables.iter_mut().filter(|table| table.name == known) {
        table.name.clone_from(&to.text);
    }
    Ok(())
}

fn column_mut<'d>(made: &'d mut TableDefinition, table: &str, name: &ast::Ident) -> Result<&'d mut ColumnDefinition> {
    match made.columns.iter().position(|column| name.matches(&column.name)) {
        Some(at) => Ok(&mut made.columns[at]),
        None => Err(no_column(made, table, name)),
    }
}

/// Takes a column away, with CASCADE also the keys and references it is part of.
fn drop_column(made: &mut TableDefinition, at: usize, drop: ast::Drop) -> Result<()> {
    if made.columns.len() == 1 {
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, "a table has at least one column"));
    }
    let mut used: Vec<String> =
        made.keys.iter().filter(|key| key.columns.contains(&at)).map(|key| format!("{:?}", key.name)).collect();
    used.extend(made.references.iter().filter(|key| key.columns.contains(&at)).map(|key| format!("{:?}", key.name)));
    if !used.is_empty() && !drop.cascade {
        let message =
            format!("column {:?} is part of {}", made.columns[at].name, super::table_definition::names(&used));
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help("CASCADE drops these as well"));
    }
    made.keys.retain(|key| !key.columns.contains(&at));
    made.references.retain(|key| !key.columns.contains(&at));
    let moved = |column: &mut usize| *column -= usize::from(*column > at);
    made.keys.iter_mut().flat_map(|key| &mut key.columns).for_each(moved);
    made.references.iter_mut().flat_map(|key| &mut key.columns).for_each(moved);
    made.columns.remove(at);
    Ok(())
}
