//! The small language the tests are written in: statements and what they must come to.

use garden_gate::{Column, Database, Error, Parameters, Plan, Result, ResultSet, Session, SqlType, Value};

/// Five beds: one without sun, one without area, one without acidity, one without a day of opening.
const BEDS: &[[&str; 6]] = &[
    ["1", "Fern gully", "shade", "12.50", "5.5", "1990-01-31"],
    ["2", "Scree", "full sun", "8.00", "", "2000-02-29"],
    ["3", "Rose walk", "full sun", "20.25", "6.5", "2010-06-15"],
    ["4", "Bog", "", "30.00", "4.0", ""],
    ["5", "100%_lime", "shade", "", "8.0", "2020-12-31"],
];

/// Seven tasks: one without hours, one without a bed, one in a bed that there is not, one that may or may not be done.
const TASKS: &[[&str; 6]] = &[
    ["1", "1", "2024-01-10", "2.00", "weeding", "true"],
    ["2", "1", "2024-01-11", "", "weeding", "false"],
    ["3", "2", "2024-02-01", "1.50", "pruning", "true"],
    ["4", "3", "2024-02-29", "4.25", "weeding", ""],
    ["5", "3", "2024-03-01", "0.75", "watering", "true"],
    ["6", "", "2024-03-02", "3.00", "pruning", "false"],
    ["7", "9", "2024-03-02", "1.00", "weeding", "true"],
];

fn value(text: &str, sql_type: SqlType) -> Value {
    match sql_type {
        _ if text.is_empty() => Value::Null,
        SqlType::Boolean => Value::Boolean(text == "true"),
        SqlType::Integer => Value::Integer(text.parse().unwrap()),
        SqlType::Numeric { .. } => Value::numeric(text).unwrap(),
        SqlType::Date => Value::date(text).unwrap(),
        _ => Value::Text(text.into()),
    }
}

fn add(db: &Database, name: &str, columns: &[(&str, SqlType)], rows: &[[&str; 6]]) {
    let typed: Vec<Column> = columns.iter().map(|(name, sql_type)| Column::new(*name, *sql_type)).collect();
    let row = |row: &[&str; 6]| row.iter().zip(&typed).map(|(text, column)| value(text, column.sql_type)).collect();
    db.add_rows(name, &typed, &rows.iter().map(row).collect::<Vec<_>>()).unwrap();
}

pub(crate) fn text() -> SqlType {
    SqlType::Varchar(None)
}

pub(crate) fn numeric(precision: u8, scale: u8) -> SqlType {
    SqlType::Numeric { precision, scale }
}

/// A database with the tables `bed` and `task`, and `archive.old_bed`.
pub(crate) fn database() -> Database {
    let db = Database::in_memory();
    let bed = [
        ("bed_id", SqlType::Integer),
        ("name", text()),
        ("sun", text()),
        ("area", numeric(6, 2)),
        ("ph", numeric(3, 1)),
        ("opened", SqlType::Date),
    ];
    let task = [
        ("task_id", SqlType::Integer),
        ("bed_id", SqlType::Integer),
        ("day", SqlType::Date),
        ("hours", numeric(4, 2)),
        ("kind", text()),
        ("done", SqlType::Boolean),
    ];
    add(&db, "bed", &bed, BEDS);
    add(&db, "task", &task, TASKS);
    db.session().execute("CREATE SCHEMA archive", ()).unwrap();
    add(&db, "archive.old_bed", &bed, &BEDS[..2]);
    db
}

pub(crate) fn session() -> Session {
    database().session()
}

/// The path of the demo garden's data.
pub(crate) fn garden_folder() -> std::path::PathBuf {
    std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/data")
}

/// A session over the demo garden.
pub(crate) fn garden() -> Session {
    let db = Database::in_memory();
    db.add_folder(None, garden_folder()).unwrap();
    db.session()
}

/// Rows as text: fields separated by `|`, rows by `; `, NULL for NULL.
pub(crate) fn show(rows: &ResultSet) -> String {
    let row = |row: garden_gate::Row<'_>| row.values().iter().map(Value::to_string).collect::<Vec<_>>().join("|");
    rows.rows().map(row).collect::<Vec<_>>().join("; ")
}

pub(crate) fn run(session: &mut Session, sql: &str) -> Result<String> {
    session.query(sql, ()).map(|rows| show(&rows))
}

/// Each statement gives exactly these rows in this order.
#[track_caller]
pub(crate) fn check_rows(cases: &[(&str, &str)]) {
    let mut session = session();
    for (sql, expected) in cases {
        match run(&mut session, sql) {
            Ok(found) => assert_eq!(found, *expected, "{sql}"),
            Err(error) => panic!("{sql}\n{error}"),
        }
    }
}

/// Each expression has this value and this type.
#[track_caller]
pub(crate) fn check_values(cases: &[(&str, &str, &str)]) {
    let mut session = session();
    for (expression, expected, sql_type) in cases {
        let rows =
            session.query(format!("SELECT {expression}"), ()).unwrap_or_else(|error| panic!("{expression}\n{error}"));
        assert_eq!(show(&rows), *expected, "{expression}");
        assert_eq!(rows.columns()[0].sql_type.to_string(), *sql_type, "type of {expression}");
    }
}

/// Each statement fails with this SQLSTATE, at this text, with words of the message and of the help.
#[track_caller]
pub(crate) fn check_problems(cases: &[(&str, &str, &str, &str)]) {
    let mut session = session();
    for (sql, sqlstate, place, words) in cases {
        let error = match session.query(sql, ()) {
            Ok(rows) => panic!("{sql}\ngave {}", show(&rows)),
            Err(error) => error,
        };
        check_problem(sql, &error, (sqlstate, place, words));
    }
}

#[track_caller]
pub(crate) fn check_problem(sql: &str, error: &Error, (sqlstate, place, words): (&str, &str, &str)) {
    assert_eq!(error.sqlstate().as_str(), sqlstate, "{sql}\n{error}");
    let found = error.span().map_or("", |span| &sql[span.range()]);
    assert_eq!(found, place, "place of the error in {sql}\n{error}");
    let told = format!("{} / {}", error.message(), error.help().unwrap_or(""));
    for part in words.split(" … ") {
        assert!(told.contains(part), "{sql}\n{part:?} is not in {told:?}");
    }
}

/// The operators of a plan with their targets, inputs in parentheses.
pub(crate) fn shape(plan: &Plan) -> String {
    fn describe(node: &garden_gate::plan::PlanNode) -> String {
        let target = node.target.as_ref().map_or_else(String::new, |target| format!(" {target}"));
        let inputs: Vec<String> = node.children.iter().map(describe).collect();
        let inputs = if inputs.is_empty() { String::new() } else { format!(" ({})", inputs.join(", ")) };
        format!("{}{target}{inputs}", node.operator)
    }
    describe(&plan.root)
}

/// Each query has a plan of this shape.
#[track_caller]
pub(crate) fn check_plans(cases: &[(&str, &str)]) {
    let mut session = session();
    for (sql, expected) in cases {
        let plan = session.plan(sql, Parameters::new()).unwrap_or_else(|error| panic!("{sql}\n{error}"));
        assert_eq!(shape(&plan), *expected, "{sql}");
    }
}

/// Codes of the notes that a query comes with.
pub(crate) fn notes(sql: &str) -> Vec<&'static str> {
    session()
        .query(sql, ())
        .unwrap_or_else(|error| panic!("{sql}\n{error}"))
        .notes()
        .iter()
        .map(|note| note.code)
        .collect()
}

/// The rows of a query, in the order of their texts.
pub(crate) fn sorted(session: &mut Session, sql: &str) -> Vec<String> {
    let found = run(session, sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
    let mut rows: Vec<String> =
        if found.is_empty() { Vec::new() } else { found.split("; ").map(str::to_owned).collect() };
    rows.sort_unstable();
    rows
}

/// The estimate of a query, and the rows that come.
fn estimated_and_found(session: &mut Session, sql: &str) -> (f64, f64) {
    let (rows, plan) = session.measure(sql, ()).unwrap_or_else(|error| panic!("{sql}\n{error}"));
    (plan.root.estimated_rows, f64::from(u32::try_from(rows.row_count()).unwrap()))
}

/// Holds an estimate to a factor of the rows that come.
pub(crate) fn check_near(session: &mut Session, sql: &str, within: f64) -> (f64, f64) {
    let (estimate, rows) = estimated_and_found(session, sql);
    let error = (estimate.max(1.0) / rows.max(1.0)).max(rows.max(1.0) / estimate.max(1.0));
    assert!(error <= within, "{sql}: {estimate} estimated, {rows} came");
    (estimate, rows)
}
