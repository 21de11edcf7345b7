//! The JSON contract: one object a statement, one a line.

pub(crate) use garden_gate::value::json_value as value;
use garden_gate::{Error, Plan, ResultSet, Row, error::Note};
use serde_json::{Map, Value as Json, json};
use std::fmt;
use std::time::Duration;

/// A query's rows: `{"kind":"rows","columns":[…],"rows":[[…]],"elapsed_ms":…,"notes":[…]}`.
pub fn rows_json(rows: &ResultSet) -> String {
    let mut out = String::new();
    // Writing to a String does not fail.
    let _ = write_rows_json(rows, &mut out);
    out
}

/// [`rows_json`], written row by row.
///
/// # Errors
/// As writing to `out` has them.
pub fn write_rows_json(rows: &ResultSet, out: &mut dyn fmt::Write) -> fmt::Result {
    write!(out, "{{\"kind\":\"rows\",\"columns\":{},\"rows\":[", columns(rows))?;
    for (number, row) in rows.rows().enumerate() {
        let comma = if number > 0 { "," } else { "" };
        write!(out, "{comma}{}", row_json(row))?;
    }
    let (elapsed, notes) = (json!(millis(rows.elapsed())), json!(notes(rows.notes())));
    write!(out, "],\"elapsed_ms\":{elapsed},\"notes\":{notes}")?;
    if let Some(affected) = rows.affected() {
        write!(out, ",\"affected\":{affected}")?;
    }
    out.write_str("}\n")
}

fn row_json(row: Row<'_>) -> Json {
    Json::Array(row.all_shown().iter().map(value).collect())
}

/// Name and type of each column.
pub(crate) fn columns(rows: &ResultSet) -> Json {
    let column = |column: &garden_gate::ResultColumn| json!({"name": column.name, "type": column.type_text()});
    Json::Array(rows.columns().iter().map(column).collect())
}

/// The first `most` rows, each an array.
pub(crate) fn rows(rows: &ResultSet, most: usize) -> Json {
    Json::Array(rows.rows().take(most).map(row_json).collect())
}

/// A query's rows as one object a row and a line, with the columns' names as keys; of columns with one name the last is kept.
pub fn lines_json(rows: &ResultSet) -> String {
    let mut out = String::new();
    // Writing to a String does not fail.
    let _ = write_lines_json(rows, &mut out);
    out
}

/// [`lines_json`], written row by row.
///
/// # Errors
/// As writing to `out` has them.
pub fn write_lines_json(rows: &ResultSet, out: &mut dyn fmt::Write) -> fmt::Result {
    for row in rows.rows() {
        let pairs = rows.columns().iter().zip(row.all_shown());
        let object: Map<String, Json> = pairs.map(|(column, cell)| (column.name.clone(), value(&cell))).collect();
        writeln!(out, "{}", Json::Object(object))?;
    }
    Ok(())
}

/// A statement without rows: `{"kind":"done","what":…,"elapsed_ms":…,"notes":[…]}`.
pub fn done_json(what: &str, elapsed: Duration, all: &[Note]) -> String {
    format!("{}\n", json!({"kind": "done", "what": what, "elapsed_ms": millis(elapsed), "notes": notes(all)}))
}

/// Rows that were changed: `{"kind":"changed","what":…,"affected":…,"elapsed_ms":…,"notes":[…]}`.
pub fn changed_json((what, affected): (&str, u64), elapsed: Duration, all: &[Note]) -> String {
    let object = json!({"kind": "changed", "what": what, "affected": affected, "elapsed_ms": millis(elapsed), "notes": notes(all)});
    format!("{object}\n")
}

/// An error, with the further ones of its statement as `related`: one object on a line.
pub fn error_json(error: &Error) -> String {
    format!("{}\n", error_object(error))
}

fn error_object(error: &Error) -> Json {
    let position = error.position();
    let line = position.map(|position| position.line as u64);
    let mut object = json!({
        "kind": "error",
        "sqlstate": error.sqlstate().as_str(),
        "message": error.message(),
        "line": line,
        "column": position.map(|position| position.column),
        "help": error.help(),
    });
    if let (Some(place), Some(object)) = (error.data_place(), object.as_object_mut()) {
        object.insert("file".into(), place.file.display().to_string().into());
        object.insert("file_line".into(), place.line.into());
    }
    if let (false, Some(object)) = (error.related().is_empty(), object.as_object_mut()) {
        object.insert("related".into(), error.related().iter().map(error_object).collect());
    }
    object
}

/// A plan: `{"kind":"plan","fingerprint":…,"generic":…,"cost":…,"root":{…},"rewrites":[…],"considered":[…],"notes":[…]}`.
pub fn plan_json(plan: &Plan) -> String {
    let mut object = Map::new();
    object.insert("kind".into(), "plan".into());
    // A plan is plain data: turning it into JSON cannot fail.
    if let Ok(Json::Object(fields)) = serde_json::to_value(plan) {
        object.extend(fields);
    }
    object.insert("notes".into(), notes(&plan.notes));
    format!("{}\n", Json::Object(object))
}

fn notes(notes: &[Note]) -> Json {
    let note = |note: &Note| {
        let position = note.position();
        json!({
            "code": note.code,
            "message": note.message,
            "line": position.map(|position| position.line),
            "column": position.map(|position| position.column),
            "help": note.help,
        })
    };
    Json::Array(notes.iter().map(note).collect())
}

/// Milliseconds, with three digits after the point.
pub(crate) fn millis(elapsed: Duration) -> Json {
    json!((elapsed.as_secs_f64() * 1e6).round() / 1e3)
}
