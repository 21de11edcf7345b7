//! CREATE TABLE: of columns, of the rows of a query, or of a file.

use super::Session;
use super::definition::{free_name, plain_column, put_new, whole_file};
use super::files::FileOnce;
use super::session::Call;
use super::table_definition::Maker;
use super::versioning::{fill_system_time, pending_time};
use crate::bind::{MissingParameters, bind_query, check_definition};
use crate::catalog::{Catalog, ColumnDefinition, LOCAL_SCHEMA, SEGMENT_ROWS, TableDefinition, TemporaryKind};
use crate::control::{self, MemoryReservation};
use crate::diagnostic::{Error, Result, SqlState, counted};
use crate::kernel::Batch;
use crate::syntax::ast;
use std::cell::OnceCell;
use std::sync::Arc;

impl Session {
    /// Makes a table; `None` where it is there already and the statement minds nothing, or has no rows.
    pub(super) fn create_table(
        &self,
        catalog: &mut Catalog,
        table: &ast::CreateTable,
        call: &Call<'_>,
    ) -> Result<Option<u64>> {
        let (mut schema, name) = self.new_place(catalog, &table.name)?;
        if table.temporary.is_some_and(|temporary| temporary.kind == TemporaryKind::Local) {
            if table.name.len() > 1 {
                let message = "a table of the session's own has no schema before its name";
                return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(name.span));
            }
            LOCAL_SCHEMA.clone_into(&mut schema);
        }
        if let Err(error) = free_name(catalog, &schema, name) {
            return if table.if_not_exists { Ok(None) } else { Err(error) };
        }
        let before = catalog.clone();
        let (files, read_once) = (self.files(), OnceCell::new());
        let around = self.around(&before, &files, call.parameters, MissingParameters::Refuse);
        let query = match &table.content {
            ast::TableContent::Elements(elements) => {
                let maker = Maker { session: self, catalog: &before, source: call.source, table: name };
                let definition = maker.table(elements, &schema, (table.versioned, table.temporary))?;
                check_definition(&definition, &around)?;
                put_new(catalog, &schema, &name.text, Arc::new(definition), &[])?;
                self.note_use(catalog, &schema, &name.text);
                return Ok(None);
            }
            ast::TableContent::Query { query, .. } => bind_query(query, call.source, &around)?,
            ast::TableContent::File { path, options, span } => {
                let once = read_once.get_or_init(|| FileOnce::of(&files));
                let around = self.around(&before, once, call.parameters, MissingParameters::Refuse);
                bind_query(&whole_file(path, options, *span), call.source, &around)?
            }
        };
        let mut columns: Vec<ColumnDefinition> = query
            .output
            .iter()
            .map(|column| plain_column(&column.name, query.columns.get(column.id).declared()))
            .collect();
        if let ast::TableContent::Query { columns: Some(renamed), .. } = &table.content {
            if renamed.len() != columns.len() {
                let message = format!("{} for {}", counted(renamed.len(), "name"), counted(columns.len(), "column"));
                return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(renamed[0].span));
            }
            columns.iter_mut().zip(renamed).for_each(|(column, name)| column.name.clone_from(&name.text));
        }
        if let Some(twice) = (1..columns.len())
            .find(|at| columns[..*at].iter().any(|other| other.name.eq_ignore_ascii_case(&columns[*at].name)))
        {
            let message = format!("two columns are called {:?}", columns[twice].name);
            return Err(Error::new(SqlState::COLUMN_EXISTS, message)
                .with_help("give one of them another name with AS")
                .at(name.span));
        }
        let rows = match &table.content {
            ast::TableContent::Query { with_data: false, .. } => Vec::new(),
            ast::TableContent::File { .. } => self.rows_of_file(&read_once)?,
            ast::TableContent::Query { .. } | ast::TableContent::Elements(_) => {
                self.run_prepared(&self.prepare_bound(query, call)?, None)?.batches
            }
        };
        drop(read_once);
        let count = rows.iter().map(|batch| batch.rows as u64).sum();
        let temporary = table.temporary;
        let mut definition = TableDefinition { columns, temporary, ..TableDefinition::default() };
        let mut rows = in_segments(rows)?;
        if table.versioned.is_some() {
            let maker = Maker { session: self, catalog: &before, source: call.source, table: name };
            maker.settle_system_time(&mut definition, table.versioned)?;
            for rows in &mut rows {
                let now = pending_time(catalog, around.moment.micros);
                let nothing = super::change::empty(&definition).columns;
                rows.columns.extend(nothing.into_iter().skip(rows.columns.len()));
                fill_system_time(rows, &definition, now)?;
            }
        }
        if temporary.is_none() {
            catalog.pending.note((&schema, &name.text), (count, 0, 0));
        }
        put_new(catalog, &schema, &name.text, Arc::new(definition), &rows)?;
        self.note_use(catalog, &schema, &name.text);
        Ok(Some(count))
    }

    /// The rows of a file, as it was read: nothing is computed of them.
    fn rows_of_file(&self, once: &OnceCell<FileOnce<'_>>) -> Result<Vec<Batch>> {
        let Some(file) = once.get().and_then(FileOnce::table) else { return Ok(Vec::new()) };
        let _entered = self.enter_statement();
        let control = control::current().unwrap_or_else(|| self.new_control());
        let mut held = MemoryReservation::none(control.memory());
        let all: Vec<usize> = (0..file.columns().len()).collect();
        let mut batches = Vec::new();
        for segment in file.read(&all)? {
            let batch = Batch::new(segment.columns, segment.rows);
            held.add(batch.bytes())?;
            batches.push(batch);
        }
        Ok(batches)
    }
}

/// Rows in batches of a segment each: small ones are put together, and what is a segment already stays as it is.
fn in_segments(batches: Vec<Batch>) -> Result<Vec<Batch>> {
    let mut segments = Vec::new();
    let (mut open, mut rows): (Vec<Batch>, usize) = (Vec::new(), 0);
    for mut batch in batches {
        while rows + batch.rows >= SEGMENT_ROWS {
            let taken = SEGMENT_ROWS - rows;
            open.push(batch.slice(0, taken));
            batch = batch.slice(taken, batch.rows - taken);
            segments.push(Batch::concat(&std::mem::take(&mut open), None)?);
            rows = 0;
        }
        if batch.rows > 0 {
            rows += batch.rows;
            open.push(batch);
        }
    }
    if rows > 0 {
        segments.push(Batch::concat(&open, None)?);
    }
    Ok(segments)
}
