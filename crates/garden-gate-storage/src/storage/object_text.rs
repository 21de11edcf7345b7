//! Sequences, domains, table functions and comments of a schema, as JSON.

use super::catalog_text::{known_of, known_text};
use crate::catalog::{Comment, Domain, Numbers, Schema, Sequence, TableFunction};
use crate::diagnostic::SourceText;
use crate::syntax::type_of;
use crate::types::SqlType;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

#[derive(Default, Serialize, Deserialize)]
pub(super) struct ObjectTexts {
    #[serde(default)]
    sequences: Vec<SequenceText>,
    #[serde(default)]
    domains: Vec<DomainText>,
    #[serde(default)]
    functions: Vec<FunctionText>,
    #[serde(default)]
    comments: Vec<(String, String)>,
}

#[derive(Serialize, Deserialize)]
struct SequenceText {
    name: String,
    sql_type: String,
    start: i64,
    increment: i64,
    least: i64,
    most: i64,
    cycle: bool,
    next: Option<i64>,
}

#[derive(Serialize, Deserialize)]
struct DomainText {
    name: String,
    sql_type: String,
    default: Option<String>,
    not_null: bool,
    checks: Vec<(String, String)>,
}

#[derive(Serialize, Deserialize)]
struct FunctionText {
    name: String,
    parameters: Vec<(String, String)>,
    columns: Vec<(String, String)>,
    query: String,
    schema: String,
    #[serde(default)]
    known: Vec<(String, String, Vec<String>)>,
}

impl ObjectTexts {
    /// The objects of a schema that are no tables, as the file keeps them.
    pub(super) fn of(schema: &Schema) -> Self {
        let sequence = |sequence: &Arc<Sequence>| {
            let Numbers { sql_type, start, increment, least, most, cycle } = sequence.numbers;
            let (name, sql_type, next) = (sequence.name.clone(), sql_type.to_string(), sequence.next());
            SequenceText { name, sql_type, start, increment, least, most, cycle, next }
        };
        let domain = |domain: &Arc<Domain>| DomainText {
            name: domain.name.clone(),
            sql_type: domain.sql_type.to_string(),
            default: domain.default.as_ref().map(|text| text.text().trim().to_owned()),
            not_null: domain.not_null,
            checks: domain.checks.iter().map(|(name, text)| (name.clone(), text.text().trim().to_owned())).collect(),
        };
        let typed = |list: &[(String, SqlType)]| list.iter().map(|(name, t)| (name.clone(), t.to_string())).collect();
        let function = |function: &Arc<TableFunction>| FunctionText {
            name: function.name.clone(),
            parameters: typed(&function.parameters),
            columns: typed(&function.columns),
            query: function.query.text().to_owned(),
            schema: function.schema.clone(),
            known: known_text(&function.known),
        };
        Self {
            sequences: schema.sequences.iter().map(sequence).collect(),
            domains: schema.domains.iter().map(domain).collect(),
            functions: schema.functions.iter().map(function).collect(),
            comments: schema.comments.iter().map(|c| (c.subject.clone(), c.text.clone())).collect(),
        }
    }

    /// Puts them into a schema; the error says which part of the text makes no sense.
    pub(super) fn put_into(self, schema: &mut Schema) -> Result<(), String> {
        for text in self.sequences {
            let SequenceText { name, start, increment, least, most, cycle, next, .. } = text;
            let sql_type = known_type(&text.sql_type, &name)?;
            let numbers = Numbers { sql_type, start, increment, least, most, cycle };
            schema.sequences.push(Arc::new(Sequence::new(name, numbers, next)));
        }
        for text in self.domains {
            let sql_type = known_type(&text.sql_type, &text.name)?;
            let checks = text.checks.into_iter().map(|(name, text)| (name, SourceText::new(text))).collect();
            let default = text.default.map(SourceText::new);
            let DomainText { name, not_null, .. } = text;
            schema.domains.push(Arc::new(Domain { name, sql_type, default, not_null, checks }));
        }
        for text in self.functions {
            let typed = |list: Vec<(String, String)>| {
                let one = |(name, text): (String, String)| known_type(&text, &name).map(|sql_type| (name, sql_type));
                list.into_iter().map(one).collect::<Result<Vec<_>, _>>()
            };
            let FunctionText { name, parameters, columns, query, schema: inside, known } = text;
            let (parameters, columns) = (typed(parameters)?, typed(columns)?);
            let query = SourceText::new(query);
            let known = known_of(known);
            schema.functions.push(Arc::new(TableFunction { name, parameters, columns, query, schema: inside, known }));
        }
        let comment = |(subject, text)| Arc::new(Comment { subject, text });
        schema.comments = self.comments.into_iter().map(comment).collect();
        Ok(())
    }
}

fn known_type(text: &str, of: &str) -> Result<SqlType, String> {
    type_of(text).map(|declared| declared.sql_type).map_err(|_| format!("the type of {of:?}"))
}
