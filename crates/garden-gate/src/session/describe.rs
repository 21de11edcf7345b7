//! What is known of tables: columns, constraints, and the statistics the planner goes by.

use super::Session;
use super::describe_time::{HistoryFacts, history_facts, key_words, period_facts, period_words};
use crate::catalog::{
    Catalog, ColumnStatistics, Filled, ForeignKey, Index, MatchType, ReferentialAction, Table, TableDefinition,
    TextReason, Timing, View, ViewCheck, subject,
};
use crate::diagnostic::{Error, Result, Span, SqlState, suggestion};
use crate::storage::StoredTable;
use crate::syntax::ast;
use crate::types::SqlType;
use std::sync::Arc;

/// A table or view, described.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct TableFacts {
    /// Its schema.
    pub schema: String,
    /// Its name.
    pub name: String,
    /// `table` for one that can be changed, `source` for rows of a file or a program, `view`.
    pub kind: &'static str,
    /// How many rows; `None` for a view.
    pub rows: Option<u64>,
    /// The columns, in order.
    pub columns: Vec<ColumnFacts>,
    /// Keys, checks and references, as they are written.
    pub constraints: Vec<ConstraintFacts>,
    /// Its indexes, e.g. `INDEX (sun) INCLUDE (name)`.
    pub indexes: Vec<ConstraintFacts>,
    /// Its periods, e.g. `PERIOD FOR stay (starts, ends)`.
    pub periods: Vec<ConstraintFacts>,
    /// The history that it keeps, if it is versioned.
    pub history: Option<HistoryFacts>,
    /// The query of a view.
    pub query: Option<String>,
    /// What COMMENT ON says of it.
    pub comment: Option<String>,
}

/// A column of a described table.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct ColumnFacts {
    /// Its name.
    pub name: String,
    /// Its type; `None` for the column of a view.
    pub sql_type: Option<SqlType>,
    /// Its type as it was declared, e.g. `TIMESTAMP(3)`; empty for the column of a view.
    pub declared: String,
    /// Whether NULL is refused.
    pub not_null: bool,
    /// Whether `*` leaves it out.
    pub hidden: bool,
    /// What fills it when an INSERT does not, as it is written, e.g. `DEFAULT 'shade'`.
    pub filled: Option<String>,
    /// What the planner knows of its values; `None` for the column of a view.
    pub statistics: Option<Arc<ColumnStatistics>>,
    /// What COMMENT ON says of it.
    pub comment: Option<String>,
    /// Why it is text, though nearly all of its values are of another type.
    pub text_reason: Option<TextReason>,
}

/// A constraint of a described table.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct ConstraintFacts {
    /// Its name.
    pub name: String,
    /// What it says, e.g. `PRIMARY KEY (bed_id)`.
    pub text: String,
}

/// Schema and table of a name as SQL writes it, `north."wet bed"`; what is no such name is that of a table as it appears.
fn name_parts(name: &str) -> (Option<ast::Ident>, Option<ast::Ident>) {
    let ident = |text: &str| ast::Ident { text: text.to_owned(), quoted: false, span: Span::default() };
    match crate::syntax::name_of(name).map(<[ast::Ident; 2]>::try_from) {
        Ok(Ok([schema, table])) => (Some(schema), Some(table)),
        Ok(Err(mut parts)) if parts.len() == 1 => (None, parts.pop()),
        _ => match name.split_once('.') {
            Some((schema, table)) => (Some(ident(schema)), Some(ident(table))),
            None => (None, Some(ident(name))),
        },
    }
}

impl Session {
    /// Describes one table or view, or all of them. Working out statistics reads the columns: O(rows).
    ///
    /// # Errors
    /// 42S02 when there is no such table; what reading a column brings.
    pub fn describe(&self, name: Option<&str>) -> Result<Vec<TableFacts>> {
        crate::control::large_stack(|| {
            let catalog = self.catalog();
            let (schema, table) = name.map_or((None, None), name_parts);
            let wanted = table.as_ref().map(|table| table.text.as_str());
            let mut found = Vec::new();
            let mut known = Vec::new();
            for here in
                catalog.schemas.iter().filter(|known| schema.as_ref().is_none_or(|name| name.matches(&known.name)))
            {
                known.extend(here.names().map(str::to_owned));
                let is_wanted = |name: &str| table.as_ref().is_none_or(|table| table.matches(name));
                for table in here.tables.iter().filter(|table| is_wanted(&table.name)) {
                    let mut facts = described(&catalog, &here.name, table)?;
                    add_comments(&catalog, &mut facts, "TABLE");
                    found.push(facts);
                }
                for view in here.views.iter().filter(|view| is_wanted(&view.name)) {
                    let column = |name: &String| ColumnFacts {
                        name: name.clone(),
                        sql_type: None,
                        declared: String::new(),
                        not_null: false,
                        hidden: false,
                        filled: None,
                        statistics: None,
                        comment: None,
                        text_reason: None,
                    };
                    let mut facts = TableFacts {
                        schema: here.name.clone(),
                        name: view.name.clone(),
                        kind: "view",
                        rows: None,
                        columns: view.columns.iter().map(column).collect(),
                        constraints: Vec::new(),
                        indexes: Vec::new(),
                        periods: Vec::new(),
                        history: None,
                        query: Some(view_text(view)),
                        comment: None,
                    };
                    add_comments(&catalog, &mut facts, "VIEW");
                    found.push(facts);
                }
            }
            match wanted {
                Some(wanted) if found.is_empty() => {
                    let known: Vec<&str> = known.iter().map(String::as_str).collect();
                    let error = Error::new(SqlState::TABLE_NOT_FOUND, format!("no table {wanted:?}"));
                    Err(if known.is_empty() {
                        error
                    } else {
                        error.with_help(suggestion(wanted, &known, "the tables are"))
                    })
                }
                _ => Ok(found),
            }
        })
    }
}

fn add_comments(catalog: &Catalog, facts: &mut TableFacts, kind: &str) {
    let of = |subject: &str| catalog.comment(&facts.schema, subject).map(str::to_owned);
    facts.comment = of(&subject(kind, &facts.name, None));
    let columns: Vec<_> =
        facts.columns.iter().map(|column| of(&subject("COLUMN", &facts.name, Some(&column.name)))).collect();
    facts.columns.iter_mut().zip(columns).for_each(|(column, comment)| column.comment = comment);
}

fn described(catalog: &Catalog, schema: &str, table: &Table) -> Result<TableFacts> {
    let definition = table.definition.as_deref();
    let mut columns = Vec::new();
    for (at, column) in table.source.columns().iter().enumerate() {
        let defined = definition.and_then(|definition| definition.columns.get(at));
        let filled = defined.and_then(|column| match &column.filled {
            Filled::Null => None,
            Filled::Default(text) => Some(format!("DEFAULT {}", text.text().trim())),
            Filled::Generated(text) => Some(format!("GENERATED ALWAYS AS ({})", text.text().trim())),
            Filled::Identity(identity) if identity.always => Some("GENERATED ALWAYS AS IDENTITY".to_owned()),
            Filled::RowStart => Some("GENERATED ALWAYS AS ROW START".to_owned()),
            Filled::RowEnd => Some("GENERATED ALWAYS AS ROW END".to_owned()),
            Filled::Identity(_) => Some("GENERATED BY DEFAULT AS IDENTITY".to_owned()),
        });
        columns.push(ColumnFacts {
            name: column.name.clone(),
            sql_type: Some(column.sql_type),
            declared: defined.map_or_else(|| column.sql_type.to_string(), |column| column.declared().to_string()),
            not_null: defined.is_some_and(|column| column.not_null),
            hidden: defined.is_some_and(|column| column.hidden),
            filled,
            statistics: Some(table.source.statistics(at)?),
            comment: None,
            text_reason: table.source.text_reason(at).cloned(),
        });
    }
    let any: &dyn std::any::Any = table.source.as_ref();
    let history = match (definition, any.downcast_ref::<StoredTable>()) {
        (Some(definition), Some(stored)) => history_facts(stored, definition)?,
        _ => None,
    };
    Ok(TableFacts {
        schema: schema.to_owned(),
        name: table.name.clone(),
        kind: if definition.is_some() { "table" } else { "source" },
        rows: Some(table.source.rows()),
        columns,
        constraints: definition.map(|definition| constraints(catalog, definition)).unwrap_or_default(),
        indexes: definition.map(indexes).unwrap_or_default(),
        periods: definition.map(period_facts).unwrap_or_default(),
        history,
        query: None,
        comment: None,
    })
}

fn indexes(definition: &TableDefinition) -> Vec<ConstraintFacts> {
    let index = |index: &Index| {
        let unique = if index.unique { "UNIQUE " } else { "" };
        let include: Vec<&str> = index.include.iter().map(|at| definition.columns[*at].name.as_str()).collect();
        let include = if include.is_empty() { String::new() } else { format!(" INCLUDE ({})", include.join(", ")) };
        ConstraintFacts {
            name: index.name.clone(),
            text: format!("{unique}INDEX ({}){include}", definition.key_text(index)),
        }
    };
    definition.indexes.iter().map(index).collect()
}

fn constraints(catalog: &Catalog, definition: &TableDefinition) -> Vec<ConstraintFacts> {
    let names = |columns: &[usize]| {
        columns.iter().map(|at| definition.columns[*at].name.as_str()).collect::<Vec<_>>().join(", ")
    };
    let keys = definition.keys.iter().filter(|key| !definition.is_index(&key.name)).map(|key| {
        let kind = match (key.primary, key.nulls_same) {
            (true, _) => "PRIMARY KEY",
            (false, true) => "UNIQUE NULLS NOT DISTINCT",
            (false, false) => "UNIQUE",
        };
        let text = format!("{kind} ({}){}", key_words(definition, key), timing_words(key.timing));
        ConstraintFacts { name: key.name.clone(), text }
    });
    let unproven = |unproven: bool| if unproven { " UNPROVEN" } else { "" };
    let checks = definition.checks.iter().map(|check| ConstraintFacts {
        name: check.name.clone(),
        text: format!(
            "CHECK ({}){}{}",
            check.condition.text().trim(),
            timing_words(check.timing),
            unproven(check.unproven)
        ),
    });
    let references = definition.references.iter().map(|reference| ConstraintFacts {
        name: reference.name.clone(),
        text: format!(
            "FOREIGN KEY ({}{}) REFERENCES {}{}{}{}{}{}{}",
            names(&reference.columns),
            period_words(definition, reference.periods.map(|[(_, end), _]| end)),
            reference.table.1,
            referred_columns(catalog, reference),
            match reference.match_type {
                MatchType::Simple => "",
                MatchType::Partial => " MATCH PARTIAL",
                MatchType::Full => " MATCH FULL",
            },
            action_words(" ON DELETE", reference.on_delete),
            action_words(" ON UPDATE", reference.on_update),
            timing_words(reference.timing),
            unproven(reference.unproven)
        ),
    });
    keys.chain(checks).chain(references).collect()
}

/// The columns that are referred to, where they are not those of the primary key.
fn referred_columns(catalog: &Catalog, reference: &ForeignKey) -> String {
    let (schema, name) = &reference.table;
    let other = catalog.table(schema, name).and_then(|table| table.definition.as_deref());
    let Some(other) = other else { return String::new() };
    if other.keys.iter().any(|key| key.primary && reference.means(key) && key.scalar_columns() == reference.referred) {
        return String::new();
    }
    let names: Vec<&str> = reference.referred.iter().map(|at| other.columns[*at].name.as_str()).collect();
    let period = period_words(other, reference.periods.map(|[_, (_, end)]| end));
    format!(" ({}{period})", names.join(", "))
}

/// The query of a view, with its CHECK OPTION.
fn view_text(view: &View) -> String {
    let check = match view.check {
        None => "",
        Some(ViewCheck::Local) => " WITH LOCAL CHECK OPTION",
        Some(ViewCheck::Cascaded) => " WITH CASCADED CHECK OPTION",
    };
    format!("{}{check}", view.query.text())
}

fn action_words(event: &str, action: ReferentialAction) -> String {
    match action {
        ReferentialAction::NoAction => String::new(),
        other => format!("{event} {}", other.name()),
    }
}

fn timing_words(timing: Timing) -> &'static str {
    match timing {
        Timing::AtOnce => "",
        Timing::Deferrable => " DEFERRABLE",
        Timing::Deferred => " DEFERRABLE INITIALLY DEFERRED",
    }
}
