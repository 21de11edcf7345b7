//! What tables and views there are, as JSON: definitions in SQL's own words, tables as lists of parts.

use super::history_text::{PeriodText, SystemTimeText};
use super::object_text::ObjectTexts;
use super::statistics_text::{ColumnText, GroupText, Tables};
use super::store::stored_table;
use super::stored_segment::StoredSegment;
use super::stored_table::StoredTable;
use crate::catalog::{
    Catalog, CheckConstraint, Column, ColumnDefinition, Filled, ForeignKey, Identity, Index, IndexKey, IndexPart,
    KeyConstraint, KnownColumns, MatchType, Numbers, ReferentialAction, Schema, Table, TableDefinition, TableKind,
    Temporary, TemporaryKind, Timing, View, ViewCheck,
};
use crate::diagnostic::{Result, SourceText};
use crate::syntax::type_of;
use crate::types::{DeclaredType, Direction, Nulls, SqlType};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

#[derive(Serialize, Deserialize)]
struct Text {
    schemas: Vec<SchemaText>,
}

#[derive(Serialize, Deserialize)]
struct SchemaText {
    name: String,
    tables: Vec<TableText>,
    views: Vec<ViewText>,
    #[serde(flatten)]
    objects: ObjectTexts,
}

#[derive(Serialize, Deserialize)]
struct TableText {
    name: String,
    columns: Vec<ColumnDefinitionText>,
    keys: Vec<KeyText>,
    checks: Vec<CheckText>,
    references: Vec<ReferenceText>,
    #[serde(default)]
    indexes: Vec<IndexText>,
    next_number: Option<i64>,
    #[serde(default)]
    groups: Vec<GroupText>,
    parts: Vec<PartText>,
    #[serde(default)]
    periods: Vec<PeriodText>,
    #[serde(default)]
    system_time: Option<SystemTimeText>,
    /// Of a table in which each session has rows of its own: whether they go with each commit.
    #[serde(default)]
    global_temporary: Option<bool>,
}

/// The number of a part in the file, its rows, and how many of them are left (files of before format 4 do not say so).
#[derive(Clone, Copy, Serialize, Deserialize)]
pub(super) struct PartText(pub u64, pub usize, #[serde(default)] pub Option<usize>);

#[derive(Serialize, Deserialize)]
struct ColumnDefinitionText {
    name: String,
    sql_type: String,
    not_null: bool,
    hidden: bool,
    filled: FilledText,
    #[serde(default)]
    domain: Option<(String, String)>,
}

#[derive(Serialize, Deserialize)]
enum FilledText {
    Null,
    Default(String),
    Generated(String),
    Identity {
        always: bool,
        start: i64,
        increment: i64,
        #[serde(default)]
        least: Option<i64>,
        #[serde(default)]
        most: Option<i64>,
        #[serde(default)]
        cycle: bool,
    },
    RowStart,
    RowEnd,
}

#[derive(Serialize, Deserialize)]
struct KeyText {
    name: String,
    columns: Vec<usize>,
    primary: bool,
    nulls_same: bool,
    #[serde(default)]
    timing: Option<String>,
    #[serde(default)]
    period_end: Option<usize>,
}

/// Name and condition; and where there is more to say of it, when it is checked and whether it is unproven.
#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum CheckText {
    Plain(String, String),
    Full(String, String, Option<String>, bool),
}

impl CheckText {
    fn of(check: &CheckConstraint) -> Self {
        let (name, text) = (check.name.clone(), check.condition.text().trim().to_owned());
        if check.timing == Timing::AtOnce && !check.unproven {
            return Self::Plain(name, text);
        }
        Self::Full(name, text, timing_text(check.timing), check.unproven)
    }

    fn check(self) -> CheckConstraint {
        let (name, text, timing, unproven) = match self {
            Self::Plain(name, text) => (name, text, None, false),
            Self::Full(name, text, timing, unproven) => (name, text, timing, unproven),
        };
        let (condition, timing) = (SourceText::new(text), timing_of(timing.as_deref()));
        CheckConstraint { name, condition, timing, unproven }
    }
}

#[derive(Serialize, Deserialize)]
struct ReferenceText {
    name: String,
    columns: Vec<usize>,
    table: (String, String),
    referred: Vec<usize>,
    on_delete: String,
    on_update: String,
    full: bool,
    /// MATCH PARTIAL.
    #[serde(default)]
    partial: bool,
    #[serde(default)]
    timing: Option<String>,
    #[serde(default)]
    unproven: bool,
    #[serde(default)]
    periods: Option<[(usize, usize); 2]>,
}

#[derive(Serialize, Deserialize)]
struct IndexText {
    name: String,
    #[serde(default)]
    unique: bool,
    keys: Vec<IndexKeyText>,
    include: Vec<usize>,
}

#[derive(Serialize, Deserialize)]
struct IndexKeyText {
    column: Option<usize>,
    expression: Option<String>,
    descending: bool,
    nulls_first: bool,
}

impl IndexText {
    fn of(index: &Index) -> Self {
        let key = |key: &IndexKey| {
            let (column, expression) = match &key.part {
                IndexPart::Column(at) => (Some(*at), None),
                IndexPart::Expression(text) => (None, Some(text.text().trim().to_owned())),
            };
            let (descending, nulls_first) = (key.direction == Direction::Descending, key.nulls == Nulls::First);
            IndexKeyText { column, expression, descending, nulls_first }
        };
        Self {
            name: index.name.clone(),
            unique: index.unique,
            keys: index.keys.iter().map(key).collect(),
            include: index.include.clone(),
        }
    }

    fn index(self) -> Index {
        let key = |key: IndexKeyText| IndexKey {
            part: match (key.column, key.expression) {
                (Some(at), _) => IndexPart::Column(at),
                (None, text) => IndexPart::Expression(SourceText::new(text.unwrap_or_default())),
            },
            direction: if key.descending { Direction::Descending } else { Direction::Ascending },
            nulls: if key.nulls_first { Nulls::First } else { Nulls::Last },
        };
        Index {
            name: self.name,
            unique: self.unique,
            keys: self.keys.into_iter().map(key).collect(),
            include: self.include,
        }
    }
}

#[derive(Serialize, Deserialize)]
struct ViewText {
    name: String,
    columns: Vec<String>,
    query: String,
    schema: String,
    #[serde(default)]
    check: Option<String>,
    /// Schema, table and columns of what it reads; files of earlier versions do not have it.
    #[serde(default)]
    known: Vec<(String, String, Vec<String>)>,
}

/// What a view knows of its tables, as it is kept.
pub(super) fn known_text(known: &[KnownColumns]) -> Vec<(String, String, Vec<String>)> {
    known.iter().map(|known| (known.schema.clone(), known.table.clone(), known.columns.clone())).collect()
}

/// The reverse of [`known_text`].
pub(super) fn known_of(text: Vec<(String, String, Vec<String>)>) -> Vec<KnownColumns> {
    text.into_iter().map(|(schema, table, columns)| KnownColumns { schema, table, columns }).collect()
}

const TIMINGS: [(Timing, &str); 2] = [(Timing::Deferrable, "deferrable"), (Timing::Deferred, "deferred")];

fn timing_text(timing: Timing) -> Option<String> {
    TIMINGS.iter().find(|(known, _)| *known == timing).map(|(_, text)| (*text).to_owned())
}

fn timing_of(text: Option<&str>) -> Timing {
    TIMINGS.iter().find(|(_, known)| Some(*known) == text).map_or(Timing::AtOnce, |(timing, _)| *timing)
}

const CHECKS: [(ViewCheck, &str); 2] = [(ViewCheck::Local, "local"), (ViewCheck::Cascaded, "cascaded")];

const ACTIONS: [(ReferentialAction, &str); 5] = [
    (ReferentialAction::NoAction, "no action"),
    (ReferentialAction::Restrict, "restrict"),
    (ReferentialAction::Cascade, "cascade"),
    (ReferentialAction::SetNull, "set null"),
    (ReferentialAction::SetDefault, "set default"),
];

fn action_text(action: ReferentialAction) -> String {
    ACTIONS.iter().find(|(known, _)| *known == action).map_or("no action", |(_, text)| text).to_owned()
}

fn action_of(text: &str) -> ReferentialAction {
    ACTIONS.iter().find(|(_, known)| *known == text).map_or(ReferentialAction::NoAction, |(action, _)| *action)
}

/// The text of a catalog; `number` stores a part and gives its number. Tables of files and programs are omitted.
pub(super) fn write(catalog: &Catalog, number: &mut impl FnMut(&Arc<StoredSegment>) -> Result<u64>) -> Result<Vec<u8>> {
    let mut schemas = Vec::new();
    for schema in &catalog.schemas {
        let mut tables = Vec::new();
        for table in &schema.tables {
            let (Some(stored), Some(definition)) = (stored_table(table), &table.definition) else { continue };
            if definition.temporary.is_some() && !definition.is_temporary(TemporaryKind::Global) {
                continue;
            }
            let parts = stored.parts().iter();
            let parts = parts.map(|part| Ok(PartText(number(part)?, part.mask().0, Some(part.count()))));
            let parts = parts.collect::<Result<_>>()?;
            let groups = table.groups.iter().map(GroupText::of).collect();
            let system_time = SystemTimeText::of(definition, stored.history(), number)?;
            let text = table_text(&table.name, definition, stored.next_number, parts);
            tables.push(TableText { groups, system_time, ..text });
        }
        let view = |view: &Arc<View>| ViewText {
            name: view.name.clone(),
            columns: view.columns.clone(),
            query: view.query.text().to_owned(),
            schema: view.schema.clone(),
            check: CHECKS.iter().find(|(check, _)| Some(*check) == view.check).map(|(_, text)| (*text).to_owned()),
            known: known_text(&view.known),
        };
        let views = schema.views.iter().map(view).collect();
        schemas.push(SchemaText { name: schema.name.clone(), tables, views, objects: ObjectTexts::of(schema) });
    }
    serde_json::to_vec(&Text { schemas }).map_err(|error| {
        let message = format!("internal error: the list of tables cannot be written: {error}");
        crate::diagnostic::Error::new(crate::diagnostic::SqlState::GENERAL, message)
    })
}

fn table_text(name: &str, definition: &TableDefinition, next_number: Option<i64>, parts: Vec<PartText>) -> TableText {
    let column = |column: &ColumnDefinition| ColumnDefinitionText {
        name: column.name.clone(),
        sql_type: column.declared().to_string(),
        not_null: column.not_null,
        hidden: column.hidden,
        filled: match &column.filled {
            Filled::Null => FilledText::Null,
            Filled::Default(text) => FilledText::Default(text.text().trim().to_owned()),
            Filled::Generated(text) => FilledText::Generated(text.text().trim().to_owned()),
            Filled::Identity(Identity { always, numbers }) => {
                let Numbers { start, increment, least, most, cycle, .. } = *numbers;
                let (least, most) = (Some(least), Some(most));
                FilledText::Identity { always: *always, start, increment, least, most, cycle }
            }
            Filled::RowStart => FilledText::RowStart,
            Filled::RowEnd => FilledText::RowEnd,
        },
        domain: column.domain.clone(),
    };
    let key = |key: &KeyConstraint| KeyText {
        name: key.name.clone(),
        columns: key.columns.clone(),
        primary: key.primary,
        nulls_same: key.nulls_same,
        timing: timing_text(key.timing),
        period_end: key.period_end,
    };
    let reference = |reference: &ForeignKey| ReferenceText {
        name: reference.name.clone(),
        columns: reference.columns.clone(),
        table: reference.table.clone(),
        referred: reference.referred.clone(),
        on_delete: action_text(reference.on_delete),
        on_update: action_text(reference.on_update),
        full: reference.match_type == MatchType::Full,
        partial: reference.match_type == MatchType::Partial,
        timing: timing_text(reference.timing),
        unproven: reference.unproven,
        periods: reference.periods,
    };
    TableText {
        name: name.to_owned(),
        columns: definition.columns.iter().map(column).collect(),
        keys: definition.keys.iter().map(key).collect(),
        checks: definition.checks.iter().map(CheckText::of).collect(),
        references: definition.references.iter().map(reference).collect(),
        indexes: definition.indexes.iter().map(IndexText::of).collect(),
        next_number,
        groups: Vec::new(),
        parts,
        periods: definition.periods.iter().map(PeriodText::of).collect(),
        system_time: None,
        global_temporary: definition.temporary.map(|temporary| temporary.delete_rows),
    }
}

/// The catalog of a text; the outer error says which part of the text makes no sense. `part` finds a part, with so many
/// columns.
pub(super) fn read(
    text: &[u8],
    part: &mut impl FnMut(PartText, usize) -> Result<Arc<StoredSegment>>,
    mut statistics: Tables,
) -> std::result::Result<Result<Catalog>, String> {
    let text: Text = serde_json::from_slice(text).map_err(|error| format!("the list of tables ({error})"))?;
    let mut schemas = Vec::new();
    for schema in text.schemas {
        let mut made = Schema::new(&schema.name);
        for table in schema.tables {
            let known = statistics.remove(&(schema.name.clone(), table.name.clone())).unwrap_or_default();
            match read_table(table, part, known)? {
                Ok(table) => made.tables.push(table),
                Err(error) => return Ok(Err(error)),
            }
        }
        made.views = schema
            .views
            .into_iter()
            .map(|view| {
                let ViewText { name, columns, query, schema, check, known } = view;
                let check = CHECKS.iter().find(|(_, text)| Some(*text) == check.as_deref()).map(|(check, _)| *check);
                let (query, known) = (SourceText::new(query), known_of(known));
                Arc::new(View { name, columns, query, schema, check, known })
            })
            .collect();
        schema.objects.put_into(&mut made)?;
        schemas.push(Arc::new(made));
    }
    Ok(Ok(Catalog::of(schemas)))
}

fn read_table(
    table: TableText,
    part: &mut impl FnMut(PartText, usize) -> Result<Arc<StoredSegment>>,
    statistics: Vec<Option<ColumnText>>,
) -> std::result::Result<Result<Table>, String> {
    let mut definition = TableDefinition::default();
    for column in table.columns {
        let declared = type_of(&column.sql_type).map_err(|_| format!("the type of column {:?}", column.name))?;
        let filled = match column.filled {
            FilledText::Null => Filled::Null,
            FilledText::Default(text) => Filled::Default(SourceText::new(text)),
            FilledText::Generated(text) => Filled::Generated(SourceText::new(text)),
            FilledText::Identity { always, start, increment, least, most, cycle } => {
                // Files of before format 6 do not say the ends.
                let ends = if increment > 0 { (start.min(1), i64::MAX) } else { (i64::MIN, start.max(-1)) };
                let (least, most) = (least.unwrap_or(ends.0), most.unwrap_or(ends.1));
                let numbers = Numbers { sql_type: SqlType::BigInt, start, increment, least, most, cycle };
                Filled::Identity(Identity { always, numbers })
            }
            FilledText::RowStart => Filled::RowStart,
            FilledText::RowEnd => Filled::RowEnd,
        };
        let ColumnDefinitionText { name, not_null, hidden, domain, .. } = column;
        let DeclaredType { sql_type, limit } = declared;
        definition.columns.push(ColumnDefinition { name, sql_type, limit, not_null, filled, hidden, domain });
    }
    let key = |key: KeyText| {
        let KeyText { name, columns, primary, nulls_same, timing, period_end } = key;
        KeyConstraint { name, columns, primary, nulls_same, timing: timing_of(timing.as_deref()), period_end }
    };
    definition.keys = table.keys.into_iter().map(key).collect();
    definition.checks = table.checks.into_iter().map(CheckText::check).collect();
    let temporary = |delete_rows| Temporary { kind: TemporaryKind::Global, delete_rows };
    definition.temporary = table.global_temporary.map(temporary);
    let reference = |reference: ReferenceText| ForeignKey {
        on_delete: action_of(&reference.on_delete),
        on_update: action_of(&reference.on_update),
        name: reference.name,
        columns: reference.columns,
        table: reference.table,
        referred: reference.referred,
        match_type: match (reference.full, reference.partial) {
            (true, _) => MatchType::Full,
            (false, true) => MatchType::Partial,
            (false, false) => MatchType::Simple,
        },
        timing: timing_of(reference.timing.as_deref()),
        unproven: reference.unproven,
        periods: reference.periods,
    };
    definition.references = table.references.into_iter().map(reference).collect();
    definition.indexes = table.indexes.into_iter().map(IndexText::index).collect();
    // Files of format 2 do not say it of the index itself.
    for index in &mut definition.indexes {
        index.unique |= definition.keys.iter().any(|key| key.name == index.name);
    }
    definition.periods = table.periods.into_iter().map(PeriodText::period).collect();
    let width = definition.columns.len();
    let parts = table.parts.into_iter().map(|text| part(text, width)).collect::<Result<Vec<_>>>();
    let system_time = table.system_time.map(|text| text.read(width, part)).transpose();
    Ok(parts.and_then(|parts| Ok((parts, system_time?))).map(|(parts, system_time)| {
        let columns =
            definition.columns.iter().map(|column| Column::new(column.name.clone(), column.sql_type)).collect();
        let mut source = StoredTable::from_parts(columns, definition.certain_keys(), parts);
        source.next_number = table.next_number;
        if let Some((period, history)) = system_time {
            definition.system_time = Some(period);
            source.history = Arc::new(history);
        }
        for (at, (known, column)) in statistics.into_iter().zip(&definition.columns).enumerate() {
            if let Some(known) = known.and_then(|known| known.statistics(column.sql_type)) {
                source.remember(at, known);
            }
        }
        let of = |group: GroupText| group.statistics(&definition);
        let groups = Arc::new(table.groups.into_iter().filter_map(of).collect());
        let definition = Some(Arc::new(definition));
        Table { name: table.name, kind: TableKind::Table, source: Arc::new(source), definition, groups }
    }))
}
