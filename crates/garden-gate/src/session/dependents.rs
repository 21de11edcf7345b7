//! What depends on a thing that goes: views, functions, defaults and foreign keys that worked before and no longer do.

use super::Session;
use super::definition::whole_table;
use super::session::Call;
use super::table_definition::names;
use crate::bind::{MissingParameters, bind_query, check_default, function_problem};
use crate::catalog::{Catalog, Filled, Schema, TableDefinition, TableFunction, View};
use crate::diagnostic::{Error, Result, SqlState};
use crate::syntax::ast;
use std::sync::Arc;

/// What stops working when something is dropped.
enum Dependent {
    View(String),
    Function(String),
    /// Of a column of a table.
    Default(String, usize),
    /// A foreign key of a table.
    Reference(String, String),
}

fn broken_references(catalog: &Catalog) -> Vec<(String, String, Dependent)> {
    let mut broken = Vec::new();
    for (schema, table) in catalog.tables() {
        for reference in table.definition.iter().flat_map(|definition| &definition.references) {
            let target =
                catalog.table(&reference.table.0, &reference.table.1).and_then(|table| table.definition.as_ref());
            let key = |target: &Arc<TableDefinition>| target.keys.iter().any(|key| reference.means(key));
            if !target.is_some_and(key) {
                let what = format!("foreign key {:?} of table {:?}", reference.name, table.name);
                broken.push((
                    schema.to_owned(),
                    what,
                    Dependent::Reference(table.name.clone(), reference.name.clone()),
                ));
            }
        }
    }
    broken
}

impl Session {
    /// Views and foreign keys that worked before and no longer do: dropped with CASCADE, else an error.
    pub(super) fn check_dependents(
        &self,
        before: &Catalog,
        catalog: &mut Catalog,
        cascade: bool,
        call: &Call<'_>,
    ) -> Result<()> {
        loop {
            let mut broken = self.broken_views(before, catalog, call);
            broken.extend(broken_references(catalog));
            broken.extend(self.broken_defaults(before, catalog, call));
            if broken.is_empty() {
                return Ok(());
            }
            if !cascade {
                let what: Vec<String> = broken.iter().map(|(_, what, _)| what.clone()).collect();
                let message = format!("{} {} on it", names(&what), if what.len() == 1 { "depends" } else { "depend" });
                return Err(
                    Error::new(SqlState::SYNTAX_OR_RULE, message).with_help("CASCADE drops what depends as well")
                );
            }
            for (schema, _, what) in broken {
                match what {
                    Dependent::View(view) => catalog.schema_mut(&schema).views.retain(|known| known.name != view),
                    Dependent::Default(table, at) => {
                        let tables = &mut catalog.schema_mut(&schema).tables;
                        for known in tables.iter_mut().filter(|known| known.name == table) {
                            if let Some(definition) = &mut known.definition {
                                Arc::make_mut(definition).columns[at].filled = Filled::Null;
                            }
                        }
                    }
                    Dependent::Function(name) => {
                        catalog.schema_mut(&schema).functions.retain(|known| known.name != name);
                    }
                    Dependent::Reference(table, name) => {
                        let tables = &mut catalog.schema_mut(&schema).tables;
                        for known in tables.iter_mut().filter(|known| known.name == table) {
                            if let Some(definition) = &mut known.definition {
                                Arc::make_mut(definition).references.retain(|reference| reference.name != name);
                            }
                        }
                    }
                }
            }
        }
    }

    fn broken_views(&self, before: &Catalog, catalog: &Catalog, call: &Call<'_>) -> Vec<(String, String, Dependent)> {
        let files = self.files();
        let works = |catalog: &Catalog, schema: &Schema, view: &View| {
            let ident = |text: &str| ast::Ident {
                text: text.to_owned(),
                quoted: true,
                span: crate::diagnostic::Span::default(),
            };
            let around = self.around(catalog, &files, call.parameters, MissingParameters::Refuse);
            bind_query(&whole_table(&[ident(&schema.name), ident(&view.name)]), call.source, &around).is_ok()
        };
        let mut broken = self.broken_functions(before, catalog, call);
        for schema in &catalog.schemas {
            for view in &schema.views {
                if !works(catalog, schema, view) && works(before, schema, view) {
                    broken.push((
                        schema.name.clone(),
                        format!("view {:?}", view.name),
                        Dependent::View(view.name.clone()),
                    ));
                }
            }
        }
        broken
    }

    fn broken_defaults(
        &self,
        before: &Catalog,
        catalog: &Catalog,
        call: &Call<'_>,
    ) -> Vec<(String, String, Dependent)> {
        let files = self.files();
        let mut broken = Vec::new();
        for (schema, table) in catalog.tables() {
            let Some(definition) = &table.definition else { continue };
            for (at, column) in definition.columns.iter().enumerate() {
                let works = |catalog: &Catalog| {
                    let around = self.around(catalog, &files, call.parameters, MissingParameters::Refuse);
                    check_default(column, &around).is_ok()
                };
                if matches!(column.filled, Filled::Default(_)) && !works(catalog) && works(before) {
                    let what = format!("the default of column {:?} of table {:?}", column.name, table.name);
                    broken.push((schema.to_owned(), what, Dependent::Default(table.name.clone(), at)));
                }
            }
        }
        broken
    }

    fn broken_functions(
        &self,
        before: &Catalog,
        catalog: &Catalog,
        call: &Call<'_>,
    ) -> Vec<(String, String, Dependent)> {
        let files = self.files();
        let works = |catalog: &Catalog, schema: &Schema, function: &TableFunction| {
            let around = self.around(catalog, &files, call.parameters, MissingParameters::Refuse);
            function_problem((&schema.name, function), crate::diagnostic::Span::default(), &around).is_none()
        };
        let mut broken = Vec::new();
        for schema in &catalog.schemas {
            for function in &schema.functions {
                if !works(catalog, schema, function) && works(before, schema, function) {
                    let (name, what) = (function.name.clone(), format!("function {:?}", function.name));
                    broken.push((schema.name.clone(), what, Dependent::Function(name)));
                }
            }
        }
        broken
    }
}
