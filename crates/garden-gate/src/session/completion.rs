//! What can be typed at a place of a text: words of the grammar, and names of what there is.

use super::Session;
use crate::bind::{Bound, MissingParameters, OutputColumn, Parameters, bind_query};
use crate::catalog::Table;
use crate::control;
use crate::diagnostic::SourceText;
use crate::logical::{AggregateFunction, FUNCTIONS, WindowFunction};
use crate::syntax::{Inside, Relation, Script, Typing, ast, quoted_name, written_name};
use crate::types::Value;
use std::path::Path;
use std::sync::Arc;

/// What a completion is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum CompletionKind {
    /// A frequent value of the column that a text is compared with.
    Value,
    /// A file or folder.
    File,
    /// A column of a table in scope.
    Column,
    /// A correlation name.
    CorrelationName,
    /// A common table expression.
    CommonTableExpression,
    /// A table.
    Table,
    /// A view.
    View,
    /// A schema.
    Schema,
    /// A variable of the session.
    Variable,
    /// A setting.
    Setting,
    /// A function.
    Function,
    /// A word of the grammar.
    #[default]
    Keyword,
}

/// Something that can be typed.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub struct Completion {
    /// What it is.
    pub kind: CompletionKind,
    /// What takes the place of the word at the cursor.
    pub text: String,
    /// What is known of it: the type of a column, the rows of a table, the meaning of a setting.
    pub detail: String,
}

/// What can be typed at a place.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Completions {
    /// Where the word begins that they take the place of, in bytes.
    pub start: usize,
    /// The completions that begin as the word does; by kind, then by text.
    pub items: Vec<Completion>,
}

/// Rows of a table whose values are counted for a completion.
const MOST_ROWS: u64 = 1_000_000;

/// Clauses that are offered where a statement cannot be read up to the cursor.
const ANYWHERE: [&str; 10] =
    ["FROM", "WHERE", "GROUP BY", "HAVING", "ORDER BY", "JOIN", "ON", "AND", "OR", "FETCH FIRST"];

/// What is found, of which only what begins as the typed word does is kept.
struct Collector<'t> {
    typing: &'t Typing,
    items: Vec<Completion>,
}

impl Collector<'_> {
    fn add(&mut self, kind: CompletionKind, text: &str, detail: impl Into<String>) {
        let word = self.typing.word.trim_start_matches('"');
        let begins = text.get(..word.len()).is_some_and(|start| start.eq_ignore_ascii_case(word));
        if !begins || text.is_empty() {
            return;
        }
        let is_name = match kind {
            CompletionKind::Keyword
            | CompletionKind::Function
            | CompletionKind::Value
            | CompletionKind::File
            | CompletionKind::Variable => false,
            CompletionKind::Column
            | CompletionKind::CorrelationName
            | CompletionKind::CommonTableExpression
            | CompletionKind::Table
            | CompletionKind::View
            | CompletionKind::Schema
            | CompletionKind::Setting => true,
        };
        let text = if is_name {
            if self.typing.word.starts_with('"') { quoted_name(text) } else { written_name(text) }
        } else {
            text.to_owned()
        };
        self.items.push(Completion { kind, text, detail: detail.into() });
    }

    /// Keywords in the letters of what is typed.
    fn add_keyword(&mut self, word: &str) {
        let is_lower = self.typing.word.chars().next().is_some_and(char::is_lowercase);
        let text = if is_lower { word.to_lowercase() } else { word.to_owned() };
        self.add(CompletionKind::Keyword, &text, "");
    }
}

impl Session {
    /// What can be typed at a place of a text, given in bytes. Nothing runs. Columns are those of the tables in FROM, also when it comes
    /// after the place; inside a text after `column =` they are frequent values of the column, and after FILE files.
    ///
    /// ```
    /// # let mut session = garden_gate::Database::in_memory().session();
    /// session.run("CREATE TABLE bed (bed_id INTEGER, name VARCHAR(20))")?;
    /// let found = session.completions("SELECT b.na FROM bed AS b", "SELECT b.na".len());
    /// assert_eq!((found.start, found.items[0].text.as_str(), found.items[0].detail.as_str()), (9, "name", "VARCHAR(20)"));
    /// # Ok::<(), garden_gate::Error>(())
    /// ```
    pub fn completions(&self, text: &str, at: usize) -> Completions {
        control::large_stack(|| {
            let typing = Typing::at(text, at);
            let mut found = Collector { typing: &typing, items: Vec::new() };
            match typing.inside {
                Inside::Comment => {}
                Inside::Text if typing.is_file => self.add_files(&mut found),
                Inside::Text => self.add_values(&mut found),
                Inside::Code if typing.word.starts_with(':') => self.add_variables(&mut found),
                Inside::Code => self.add_names(&mut found),
            }
            let mut items = found.items;
            items.sort();
            items.dedup_by(|a, b| a.text == b.text);
            Completions { start: typing.start, items }
        })
    }

    fn add_names(&self, found: &mut Collector<'_>) {
        let typing = found.typing;
        if let Some(qualifier) = typing.qualifier.last() {
            for relation in typing.relations.iter().filter(|known| known.name.eq_ignore_ascii_case(qualifier)).take(1) {
                self.add_columns(relation, found);
            }
            self.add_tables(Some(qualifier), found);
            return;
        }
        let wants = |kind: &str| typing.wanted.iter().any(|wanted| wanted.contains(kind));
        let wants_value = wants("expression") || wants("value") || !typing.is_read;
        if wants_value || wants("column") {
            typing.relations.iter().for_each(|relation| self.add_columns(relation, found));
        }
        if wants_value {
            for relation in &typing.relations {
                found.add(CompletionKind::CorrelationName, &relation.name, "");
            }
            add_functions(found);
            for program in self.catalog().program_functions.iter().map(|known| known.name.clone()) {
                found.add(CompletionKind::Function, &program, "of the program");
            }
        }
        if wants("table") || !typing.is_read {
            typing.ctes.iter().for_each(|name| found.add(CompletionKind::CommonTableExpression, name, ""));
            self.add_tables(None, found);
        }
        if wants("schema") || wants("table") {
            for schema in &self.catalog().schemas {
                found.add(CompletionKind::Schema, &schema.name, "");
            }
        }
        if wants("setting") {
            for [name, value, meaning] in self.settings().list() {
                found.add(CompletionKind::Setting, &name.to_string(), format!("{value}: {meaning}"));
            }
        }
        typing.keywords.iter().for_each(|word| found.add_keyword(word));
        if !typing.is_read {
            ANYWHERE.iter().for_each(|word| found.add_keyword(word));
        }
    }

    fn add_columns(&self, relation: &Relation, found: &mut Collector<'_>) {
        for column in self.columns_of(relation) {
            found.add(CompletionKind::Column, &column.name, column.sql_type.to_string());
        }
    }

    fn columns_of(&self, relation: &Relation) -> Vec<OutputColumn> {
        self.bound(relation).map(|bound| bound.output).unwrap_or_default()
    }

    /// What FROM gives for each table or query that a name at a place may mean.
    pub(super) fn columns_at(&self, text: &str, at: usize) -> impl Iterator<Item = Bound> {
        let typing = Typing::at(text, at);
        let qualifier = typing.qualifier.last().cloned();
        let is_meant = move |relation: &Relation| {
            qualifier.as_ref().is_none_or(|qualifier| relation.name.eq_ignore_ascii_case(qualifier))
        };
        typing.relations.into_iter().filter(is_meant).filter_map(|relation| self.bound(&relation))
    }

    /// A table or query as FROM gives it; nothing when it cannot be bound.
    fn bound(&self, relation: &Relation) -> Option<Bound> {
        let source = SourceText::new(format!("{} SELECT * FROM {}", relation.with, relation.text));
        let Some(Ok(ast::Statement { kind: ast::StatementKind::Query(query), .. })) =
            Script::new(Arc::clone(&source)).next_statement()
        else {
            return None;
        };
        let (catalog, files, parameters) = (self.catalog(), self.files(), Parameters::new());
        let around = self.around(&catalog, &files, &parameters, MissingParameters::PlanGenerically);
        bind_query(&query, &source, &around).ok()
    }

    fn add_tables(&self, schema: Option<&str>, found: &mut Collector<'_>) {
        let catalog = self.catalog();
        let wanted = |name: &str| match schema {
            Some(schema) => name.eq_ignore_ascii_case(schema),
            None => name == self.schema.as_str() || self.path().iter().any(|known| known == name),
        };
        for schema in catalog.schemas.iter().filter(|schema| wanted(&schema.name)) {
            for table in &schema.tables {
                let rows = table.source.rows();
                let detail = if rows == 1 { "1 row".to_owned() } else { format!("{rows} rows") };
                found.add(CompletionKind::Table, &table.name, detail);
            }
            schema.views.iter().for_each(|view| found.add(CompletionKind::View, &view.name, "view"));
        }
    }

    fn add_variables(&self, found: &mut Collector<'_>) {
        for (name, value) in self.variables().named_values() {
            found.add(CompletionKind::Variable, &format!(":{name}"), value.to_string());
        }
    }

    /// Frequent values of the column that is compared.
    fn add_values(&self, found: &mut Collector<'_>) {
        let Some(compared) = &found.typing.compared else { return };
        let (qualifier, column) = match compared.rsplit_once('.') {
            Some((qualifier, column)) => (Some(qualifier), column),
            None => (None, compared.as_str()),
        };
        let is_meant =
            |name: &str| qualifier.is_none_or(|qualifier| qualifier.trim_matches('"').eq_ignore_ascii_case(name));
        let catalog = self.catalog();
        for relation in found.typing.relations.iter().filter(|relation| is_meant(&relation.name)) {
            let table = relation.text.split(|c: char| c.is_whitespace()).next().unwrap_or_default().trim_matches('"');
            let (schema, table) = table.rsplit_once('.').unwrap_or((self.schema.as_str(), table));
            let Some(table) = catalog
                .schema(schema)
                .and_then(|schema| schema.tables.iter().find(|known| known.name.eq_ignore_ascii_case(table)))
            else {
                continue;
            };
            for value in common_values(table, column.trim_matches('"')) {
                found.add(CompletionKind::Value, &value.replace('\'', "''"), "");
            }
            return;
        }
    }

    /// Files that may be read, and folders, from the folder that the path so far ends in.
    fn add_files(&self, found: &mut Collector<'_>) {
        let (folder, _) = found.typing.word.rsplit_once('/').map_or(("", ""), |(folder, name)| (folder, name));
        let before = if folder.is_empty() { String::new() } else { format!("{folder}/") };
        for readable in self.readable_folders() {
            for entry in std::fs::read_dir(readable.join(folder)).into_iter().flatten().flatten() {
                let path = entry.path();
                let name = entry.file_name().to_string_lossy().into_owned();
                if path.is_dir() && !name.starts_with('.') {
                    found.add(CompletionKind::File, &format!("{before}{name}/"), "folder");
                } else if crate::file::is_table_file(Path::new(&name)) {
                    found.add(CompletionKind::File, &format!("{before}{name}"), "");
                }
            }
        }
    }
}

/// The most common texts of a column; where all are different, none.
fn common_values(table: &Table, column: &str) -> Vec<String> {
    let columns = table.source.columns();
    let Some(at) = columns.iter().position(|known| known.name.eq_ignore_ascii_case(column)) else { return Vec::new() };
    if table.source.rows() > MOST_ROWS {
        return Vec::new();
    }
    let Ok(known) = table.source.statistics(at) else { return Vec::new() };
    let text = |value: &Value| if let Value::Text(text) = value { Some(text.trim_end().to_owned()) } else { None };
    let common = known.most_common.iter().filter_map(|common| text(&common.value));
    // Of few values the histogram has all that are not among the most common.
    let others = if known.distinct <= 100.0 { known.histogram.as_slice() } else { &[] };
    common.chain(others.iter().filter_map(text)).collect()
}

/// Functions of the language.
fn add_functions(found: &mut Collector<'_>) {
    let scalar = FUNCTIONS.iter().map(|(name, function)| (*name, crate::bind::arguments_of(*function)));
    for (name, arguments) in scalar.filter(|(name, _)| !name.contains(' ')) {
        found.add(CompletionKind::Function, name, format!("function of {arguments}"));
    }
    for name in crate::bind::SPECIAL_FUNCTIONS {
        found.add(CompletionKind::Function, name, "function");
    }
    AggregateFunction::names().for_each(|name| found.add(CompletionKind::Function, name, "aggregate"));
    for (name, _) in WindowFunction::NAMED {
        found.add(CompletionKind::Function, name, "window function");
    }
}
