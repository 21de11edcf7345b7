//! ALTER TABLE: a new definition, and a new version of the rows where they change with it.

use super::Session;
use super::change::stored;
use super::constraints::{check_key, repeat, table_columns};
use super::definition::no_table;
use super::session::Call;
use super::table_definition::{Maker, constraint_names, no_column};
use super::versioning::{begun, pending_time, time_value};
use crate::bind::{
    BindContext, MissingParameters, bind_checks, castable, check_definition, default_value, generated_values,
    index_keys, stored_value,
};
use crate::catalog::{
    Catalog, CheckConstraint, ColumnDefinition, FOREVER, Filled, ForeignKey, Identity, Index, IndexPart, KnownColumns,
    SYSTEM_TIME, Table, TableDefinition, TableKind, TableSource,
};
use crate::diagnostic::{Error, Result, SqlState, suggestion};
use crate::kernel::{Batch, cast_values, evaluate};
use crate::storage::StoredTable;
use crate::syntax::ast;
use crate::types::{DeclaredType, SqlType};
use arrow::array::{ArrayRef, Int64Array};
use std::sync::Arc;

/// A table on its way to another definition.
pub(super) struct Altered<'a> {
    pub(super) maker: Maker<'a>,
    around: &'a BindContext<'a>,
    schema: &'a str,
    pub(super) name: String,
    pub(super) made: TableDefinition,
    pub(super) rows: Batch,
    /// What the next row is numbered with.
    pub(super) next_number: Option<i64>,
    /// When rows begin that begin to have a system time.
    pub(super) now: i64,
}

impl Session {
    /// ALTER TABLE: the rows, and then the definition.
    pub(super) fn alter_table(
        &self,
        catalog: &mut Catalog,
        (name, action): (&[ast::Ident], &ast::AlterTable),
        call: &Call<'_>,
    ) -> Result<Option<u64>> {
        let (schema, table) = self.place(catalog, name)?;
        let tables = catalog.schema(&schema).map(|schema| schema.tables.as_slice()).unwrap_or_default();
        let Some(known) = tables.iter().find(|known| table.matches(&known.name)) else {
            return Err(no_table(catalog, &schema, table));
        };
        let known = known.name.clone();
        let (stored, definition) = stored(catalog, &schema, &known).map_err(|_| {
            let message = format!("{known} holds rows of a file or a program, and can't be altered");
            Error::new(SqlState::SYNTAX_OR_RULE, message).at(table.span)
        })?;
        if let ast::AlterTable::Rename(to) = action {
            return rename(catalog, (&schema, &known), to).map(|()| None);
        }
        if let Some(removed) = self.alter_history(catalog, (&schema, &known), action)? {
            return Ok(removed);
        }
        let now = match action {
            ast::AlterTable::AddVersioning(_) | ast::AlterTable::AddPeriod { .. } => {
                pending_time(catalog, chrono::Utc::now().timestamp_micros())
            }
            _ => 0,
        };
        let before = catalog.clone();
        let files = self.files();
        let around = self.around(&before, &files, call.parameters, MissingParameters::Refuse);
        let mut altered = Altered {
            maker: Maker { session: self, catalog: &before, source: call.source, table },
            around: &around,
            schema: &schema,
            name: known,
            made: TableDefinition::clone(&definition),
            rows: all_rows(&stored)?,
            next_number: stored.next_number,
            now,
        };
        let current = usize::try_from(stored.rows()).unwrap_or(usize::MAX);
        let place = |name: &ast::Ident| definition.columns.iter().position(|column| name.matches(&column.name));
        let dropped = match action {
            ast::AlterTable::DropColumn { name, .. } => place(name),
            _ => None,
        };
        if !altered.apply(action)? {
            return Ok(None);
        }
        let Altered { made, rows, name, next_number, .. } = altered;
        let (all, rows) = (rows.clone(), rows.slice(0, current));
        check_definition(&made, &around)?;
        for index in &made.indexes {
            index_keys(&made, index, &around).map_err(|error| {
                let help = format!("index {:?} is made of it: DROP INDEX first", index.name);
                error.with_help(help)
            })?;
        }
        let ended = all.slice(current, all.rows - current);
        let mut source = new_version(&made, (&rows, &ended), (&stored, &definition), now)?;
        source.next_number = next_number;
        for key in &made.keys {
            check_key(&name, &made, key, (&source, &rows))?;
        }
        let definition = Arc::new(made);
        let (kind, source) = (TableKind::Table, Arc::new(source));
        let table = Table {
            name: name.clone(),
            kind,
            source,
            definition: Some(Arc::clone(&definition)),
            groups: Arc::default(),
        };
        catalog.put_table(&schema, table);
        if let Some(at) = dropped {
            shift_references(catalog, (&schema, &name), at);
        }
        if let ast::AlterTable::RenameColumn { name: old, to } = action {
            rename_known(catalog, (&schema, &name), (old, &to.text));
        }
        let changer = self.changer(catalog, &around);
        let proven = definition.proven();
        changer.check_rows((&schema, &name), &proven, &rows)?;
        proven.references.iter().try_for_each(|key| changer.check_reference(&name, &proven, key, &rows))?;
        Ok(None)
    }
}

impl Altered<'_> {
    /// Makes the new definition and rows; `false` when there is nothing to do.
    fn apply(&mut self, action: &ast::AlterTable) -> Result<bool> {
        match action {
            ast::AlterTable::AddColumn(column) => self.add_column(column)?,
            ast::AlterTable::DropColumn { name, drop } => return self.drop_column(name, *drop),
            ast::AlterTable::RenameColumn { name, to } => {
                let taken = |column: &ColumnDefinition| {
                    column.name.eq_ignore_ascii_case(&to.text) && !name.matches(&column.name)
                };
                if self.made.columns.iter().any(taken) {
                    let message = format!("table {:?} has a column {:?} already", self.name, to.text);
                    return Err(Error::new(SqlState::COLUMN_EXISTS, message).at(to.span));
                }
                self.column_mut(name)?.name.clone_from(&to.text);
            }
            ast::AlterTable::Numbering { column, change } => self.numbering(column, *change)?,
            ast::AlterTable::SetDefault { column, value } => {
                let filled = value.as_ref().map_or(Filled::Null, |expr| self.maker.default(expr));
                self.column_mut(column)?.filled = filled;
            }
            ast::AlterTable::SetType { column, declared } => self.set_type(column, *declared)?,
            ast::AlterTable::SetNotNull { column, not_null } => {
                self.column_mut(column)?.not_null = *not_null;
                if !*not_null {
                    self.refuse_period_end(column, "is never NULL")?;
                }
                let in_key = |at: &usize| column.matches(&self.made.columns[*at].name);
                if !*not_null && self.made.keys.iter().any(|key| key.primary && key.columns.iter().any(in_key)) {
                    let message = format!("column {:?} is part of the primary key and is never NULL", column.text);
                    return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(column.span));
                }
            }
            ast::AlterTable::AddConstraint(constraint) => {
                self.maker.constraint(&mut self.made, constraint, self.schema)?;
            }
            ast::AlterTable::DropConstraint { name, drop } => return self.drop_constraint(name, *drop),
            // All that is proven is checked when the definition is made.
            ast::AlterTable::CheckConstraints => {
                self.made = std::mem::take(&mut self.made).with_unproven(false);
            }
            ast::AlterTable::AddPeriod { period, columns } => self.add_period(period, columns)?,
            ast::AlterTable::DropPeriod { name, drop } => self.drop_period(name, *drop)?,
            ast::AlterTable::AddVersioning(span) => self.add_versioning(*span)?,
            // These are about history alone, and done by now.
            ast::AlterTable::Rename(_)
            | ast::AlterTable::SetHistory { .. }
            | ast::AlterTable::DropVersioning { .. } => {}
        }
        Ok(true)
    }

    /// Every value becomes one of the new type, as CAST makes it.
    fn set_type(&mut self, name: &ast::Ident, declared: DeclaredType) -> Result<()> {
        self.refuse_period_end(name, "has its type")?;
        let sql_type = declared.sql_type;
        let Some(at) = self.made.columns.iter().position(|column| name.matches(&column.name)) else {
            return Err(no_column(&self.made, &self.name, name));
        };
        let own = (self.schema.to_owned(), self.name.clone());
        let is_referred = |key: &&ForeignKey| key.table == own && key.referred.contains(&at);
        let tables = self.maker.catalog.tables();
        let mut foreign = tables.filter_map(|(_, table)| table.definition.as_ref()).flat_map(|known| &known.references);
        let part = self.made.references.iter().find(|key| key.columns.contains(&at));
        if let Some(key) = part.or_else(|| foreign.find(is_referred)) {
            let message = format!("column {:?} is part of foreign key {:?}", name.text, key.name);
            let help = "ALTER TABLE … DROP CONSTRAINT first, and add it again when both columns have the new type";
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help).at(name.span));
        }
        let from = self.made.columns[at].sql_type;
        if !castable(from, sql_type) {
            let message = format!("column {:?} is {from}, which can't become {sql_type}", name.text);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(name.span));
        }
        self.rows.columns[at] =
            cast_values(&self.rows.columns[at], from, sql_type).map_err(|error| error.at(name.span))?;
        self.made.columns[at].sql_type = sql_type;
        self.made.columns[at].limit = declared.limit;
        self.rows.columns[at] = self.held_to_limit(at).map_err(|error| error.at(name.span))?;
        Ok(())
    }

    /// The values of a column, held to what it asks besides their type.
    fn held_to_limit(&self, at: usize) -> Result<ArrayRef> {
        let column = &self.made.columns[at];
        evaluate(&stored_value(at, column), &self.rows)?.into_array(self.rows.rows)
    }

    /// A column of the table.
    pub(super) fn column_mut(&mut self, name: &ast::Ident) -> Result<&mut ColumnDefinition> {
        match self.made.columns.iter().position(|column| name.matches(&column.name)) {
            Some(at) => Ok(&mut self.made.columns[at]),
            None => Err(no_column(&self.made, &self.name, name)),
        }
    }

    /// ADD COLUMN: all rows get its default.
    pub(super) fn add_column(&mut self, column: &ast::ColumnElement) -> Result<()> {
        self.maker.column(&mut self.made, column)?;
        for constraint in &column.constraints {
            self.maker.constraint(&mut self.made, constraint, self.schema)?;
        }
        let at = self.made.columns.len() - 1;
        let made = &self.made.columns[at];
        let values = match &made.filled {
            Filled::Generated(_) => {
                let value = generated_values(&self.made, at, self.around)?;
                evaluate(&value, &self.rows)?.into_array(self.rows.rows)?
            }
            Filled::Identity(identity) => self.numbers(*identity, made.sql_type)?,
            Filled::RowStart => repeat(&time_value(self.now, made.sql_type), made.sql_type, self.rows.rows)?,
            Filled::RowEnd => repeat(&time_value(FOREVER, made.sql_type), made.sql_type, self.rows.rows)?,
            Filled::Null | Filled::Default(_) => {
                repeat(&default_value(&self.made, at, self.around)?, made.sql_type, self.rows.rows)?
            }
        };
        self.rows.columns.push(values);
        Ok(())
    }

    /// A number for each row that there is; the next row goes on after them.
    fn numbers(&mut self, identity: Identity, sql_type: SqlType) -> Result<ArrayRef> {
        let used_up = || Error::new(SqlState::NUMERIC_OUT_OF_RANGE, "there are more rows than numbers");
        let number = |row: usize| {
            let row = i64::try_from(row).ok()?;
            row.checked_mul(identity.numbers.increment)?.checked_add(identity.numbers.start)
        };
        let numbers = (0..self.rows.rows).map(number).collect::<Option<Vec<i64>>>().ok_or_else(used_up)?;
        self.next_number = Some(number(self.rows.rows).ok_or_else(used_up)?);
        let numbers: ArrayRef = Arc::new(Int64Array::from(numbers));
        cast_values(&numbers, SqlType::BigInt, sql_type)
    }

    fn drop_column(&mut self, name: &ast::Ident, drop: ast::Drop) -> Result<bool> {
        let Some(at) = self.made.columns.iter().position(|column| name.matches(&column.name)) else {
            return if drop.if_exists { Ok(false) } else { Err(no_column(&self.made, &self.name, name)) };
        };
        drop_column(&mut self.made, at, drop).map_err(|error| error.at(name.span))?;
        self.rows.columns.remove(at);
        let broken = |check: &&CheckConstraint| {
            let alone = TableDefinition { checks: vec![(*check).clone()], ..self.made.clone() };
            bind_checks(&alone, self.around).is_err()
        };
        let used: Vec<String> = self.made.checks.iter().filter(broken).map(|check| check.name.clone()).collect();
        if !used.is_empty() && !drop.cascade {
            return Err(part_of(&name.text, &used).at(name.span));
        }
        self.made.checks.retain(|check| !used.contains(&check.name));
        let around = self.around;
        let made = self.made.clone();
        self.made.indexes.retain(|index| index_keys(&made, index, around).is_ok());
        Ok(true)
    }

    fn drop_constraint(&mut self, name: &ast::Ident, drop: ast::Drop) -> Result<bool> {
        let names = constraint_names(&self.made);
        if !names.iter().any(|known| name.matches(known)) {
            if drop.if_exists {
                return Ok(false);
            }
            let known: Vec<&str> = names.iter().map(String::as_str).collect();
            let help = suggestion(&name.text, &known, "the constraints are");
            let message = format!("no constraint {:?}", name.text);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help).at(name.span));
        }
        self.made.keys.retain(|key| !name.matches(&key.name));
        self.made.indexes.retain(|index| !name.matches(&index.name));
        self.made.checks.retain(|check| !name.matches(&check.name));
        self.made.references.retain(|reference| !name.matches(&reference.name));
        Ok(true)
    }
}

/// A column can't be dropped alone.
fn part_of(column: &str, constraints: &[String]) -> Error {
    let quoted: Vec<String> = constraints.iter().map(|name| format!("{name:?}")).collect();
    let message = format!("column {column:?} is part of {}", super::table_definition::names(&quoted));
    Error::new(SqlState::SYNTAX_OR_RULE, message).with_help("CASCADE drops these as well")
}

/// Foreign keys that refer to a table one of whose columns is gone mean the same columns at their new places; one that referred to the column itself
/// means none.
fn shift_references(catalog: &mut Catalog, (schema, name): (&str, &str), at: usize) {
    let refers = |key: &ForeignKey| key.table.0 == schema && key.table.1 == name;
    let moved = |column: &mut usize| match (*column).cmp(&at) {
        std::cmp::Ordering::Less => {}
        std::cmp::Ordering::Equal => *column = usize::MAX,
        std::cmp::Ordering::Greater => *column -= 1,
    };
    let names: Vec<String> = catalog.schemas.iter().map(|schema| schema.name.clone()).collect();
    for known in names {
        for table in &mut catalog.schema_mut(&known).tables {
            let Some(definition) = &mut table.definition else { continue };
            if !definition.references.iter().any(refers) {
                continue;
            }
            for key in Arc::make_mut(definition).references.iter_mut().filter(|key| refers(key)) {
                key.referred.iter_mut().for_each(moved);
                if let Some([_, (start, end)]) = &mut key.periods {
                    moved(start);
                    moved(end);
                }
            }
        }
    }
}

/// The table of an altered definition: its current rows, and those of its history.
fn new_version(
    made: &TableDefinition,
    (rows, ended): (&Batch, &Batch),
    (before, definition): (&StoredTable, &TableDefinition),
    now: i64,
) -> Result<StoredTable> {
    let mut source = StoredTable::new(table_columns(made), made.certain_keys());
    if rows.rows > 0 {
        source = source.changed(&[], std::slice::from_ref(rows))?;
    }
    Ok(match (made.versioning(), definition.versioning()) {
        (None, _) => source,
        (Some(_), None) => begun(&source, now),
        (Some(_), Some(_)) => source.with_history(before.history().rebuilt(ended)?),
    })
}

/// All rows of a table as one batch: the current ones, then those of its history.
fn all_rows(table: &StoredTable) -> Result<Batch> {
    let current = Batch::new(table.columns_whole()?, usize::try_from(table.rows()).unwrap_or(usize::MAX));
    let history = table.ended_rows()?;
    if history.rows == 0 { Ok(current) } else { Batch::concat(&[current, history], None) }
}

/// Views and functions know a column under its new name now.
fn rename_known(catalog: &mut Catalog, (schema, table): (&str, &str), (old, new): (&ast::Ident, &str)) {
    let renamed = |known: &mut Vec<KnownColumns>| {
        for known in known.iter_mut().filter(|known| known.schema == schema && known.table == table) {
            known.columns.iter_mut().filter(|column| old.matches(column)).for_each(|column| new.clone_into(column));
        }
    };
    let names = |known: &[KnownColumns]| known.iter().any(|known| known.schema == schema && known.table == table);
    for schema in &mut catalog.schemas {
        if !schema.views.iter().any(|view| names(&view.known))
            && !schema.functions.iter().any(|function| names(&function.known))
        {
            continue;
        }
        let schema = Arc::make_mut(schema);
        schema
            .views
            .iter_mut()
            .filter(|view| names(&view.known))
            .for_each(|view| renamed(&mut Arc::make_mut(view).known));
        let functions = schema.functions.iter_mut().filter(|function| names(&function.known));
        functions.for_each(|function| renamed(&mut Arc::make_mut(function).known));
    }
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

/// Takes a column away, with CASCADE also the keys and references it is part of.
pub(super) fn drop_column(made: &mut TableDefinition, at: usize, drop: ast::Drop) -> Result<()> {
    if made.columns.len() == 1 {
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, "a table has at least one column"));
    }
    let periods = made.periods.iter().map(|period| (period.name.as_str(), period.start, period.end));
    let system = made.system_time.iter().map(|period| (SYSTEM_TIME, period.start, period.end));
    if let Some((period, ..)) = periods.chain(system).find(|(_, start, end)| at == *start || at == *end) {
        let message = format!("column {:?} is an end of the period {period:?}", made.columns[at].name);
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help("ALTER TABLE … DROP PERIOD FOR … first"));
    }
    let keys = made.keys.iter().filter(|key| key.columns.contains(&at)).map(|key| key.name.clone());
    let references = made.references.iter().filter(|key| key.columns.contains(&at)).map(|key| key.name.clone());
    let used: Vec<String> = keys.chain(references).collect();
    if !used.is_empty() && !drop.cascade {
        return Err(part_of(&made.columns[at].name, &used));
    }
    made.keys.retain(|key| !key.columns.contains(&at));
    made.references.retain(|key| !key.columns.contains(&at));
    // An index on it goes with it.
    let uses = |index: &Index| {
        index.include.contains(&at)
            || index.keys.iter().any(|key| matches!(key.part, IndexPart::Column(column) if column == at))
    };
    made.indexes.retain(|index| !uses(index));
    let moved = |column: &mut usize| *column -= usize::from(*column > at);
    for index in &mut made.indexes {
        index.include.iter_mut().for_each(moved);
        for key in &mut index.keys {
            if let IndexPart::Column(column) = &mut key.part {
                moved(column);
            }
        }
    }
    made.keys.iter_mut().flat_map(|key| &mut key.columns).for_each(moved);
    made.references.iter_mut().flat_map(|key| &mut key.columns).for_each(moved);
    made.keys.iter_mut().filter_map(|key| key.period_end.as_mut()).for_each(moved);
    let own = made.references.iter_mut().filter_map(|key| key.periods.as_mut()).map(|periods| &mut periods[0]);
    let periods = made.periods.iter_mut().map(|period| (&mut period.start, &mut period.end));
    let system = made.system_time.iter_mut().map(|period| (&mut period.start, &mut period.end));
    for (start, end) in periods.chain(system).chain(own.map(|(start, end)| (start, end))) {
        moved(start);
        moved(end);
    }
    made.columns.remove(at);
    Ok(())
}
