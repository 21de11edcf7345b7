//! Databases and sessions: what is shared, what is not, on one thread and on several.

use crate::support::{database, run, show, text};
use garden_gate::{Column, Database, Outcome, Parameters, SqlState, SqlType, Value};
use std::thread;

#[test]
fn sessions_share_tables_and_nothing_else() {
    let db = database();
    let (mut one, mut other) = (db.session(), db.clone().session());
    db.add_rows("late", &[Column::new("a", SqlType::Integer)], &[vec![5.into()]]).unwrap();
    assert_eq!(run(&mut one, "SELECT a FROM late").unwrap(), "5");
    assert_eq!(run(&mut other, "SELECT a FROM late").unwrap(), "5");
    one.run("LET x = 1; SET workers = 1; SET SCHEMA archive").unwrap();
    assert_eq!(other.query("SELECT :x", ()).unwrap_err().sqlstate(), SqlState::PARAMETER_MISMATCH);
    assert!(other.query("SELECT 1 FROM bed", ()).is_ok() && one.query("SELECT 1 FROM bed", ()).is_err());
    assert!(Database::in_memory().session().query("SELECT 1 FROM bed", ()).is_err());
}

#[test]
fn sessions_on_several_threads() {
    let db = database();
    let found: Vec<String> = thread::scope(|scope| {
        let ask = |number: i32| {
            let mut session = db.session();
            session.set("workers", 1 + number % 2).unwrap();
            let sql = format!("SELECT COUNT(*), {number} FROM task JOIN bed USING (bed_id) WHERE hours > 0.5");
            (0..20).map(|_| run(&mut session, &sql).unwrap()).collect::<Vec<_>>().pop().unwrap()
        };
        let running: Vec<_> = (0..6).map(|number| scope.spawn(move || ask(number))).collect();
        running.into_iter().map(|thread| thread.join().unwrap()).collect()
    });
    assert_eq!(found, (0..6).map(|number| format!("4|{number}")).collect::<Vec<_>>());
}

#[test]
fn an_interrupt_without_a_statement_is_forgotten() {
    let mut session = database().session();
    for statement in ["SELECT 1", "VALUES (1)"] {
        session.interrupt().interrupt();
        assert_eq!(run(&mut session, statement).unwrap(), "1");
    }
    session.interrupt().interrupt();
    assert_eq!(session.execute("CREATE TABLE t (a INTEGER)", ()).unwrap(), 0);
}

#[test]
fn outcomes_of_a_script() {
    let outcomes = database()
        .session()
        .run("SELECT name FROM bed WHERE sun = NULL; SET workers = 1; LET x = 7 / 2; SELECT :x")
        .unwrap();
    let kinds: Vec<String> = outcomes
        .iter()
        .map(|outcome| match outcome {
            Outcome::Rows(rows) => format!("{} rows, {} notes", rows.row_count(), rows.notes().len()),
            Outcome::Done { notes, .. } => format!("done, {} notes", notes.len()),
            _ => "new".into(),
        })
        .collect();
    assert_eq!(kinds, ["0 rows, 1 notes", "done, 0 notes", "done, 1 notes", "1 rows, 0 notes"]);
    let error = database().session().run("SELECT 1; SELECT nothing; SELECT 2").unwrap_err();
    assert_eq!(error.position().map(|position| position.column), Some(18));
}

#[test]
fn notes_have_their_place() {
    let rows = database().session().query("SELECT name\nFROM bed\nWHERE  sun = NULL", ()).unwrap();
    let note = &rows.notes()[0];
    let position = note.position().unwrap();
    assert_eq!((position.line, position.column), (3, 8));
    assert_eq!(
        note.source_text().map(|source| source.slice(note.span.unwrap()).to_owned()).as_deref(),
        Some("sun = NULL")
    );
    assert_eq!(note.help.as_deref(), Some("write sun IS NULL"));
}

#[test]
fn sqlstates_have_a_class() {
    for (sql, state, class) in [
        ("SELECT 1 / 0", SqlState::DIVISION_BY_ZERO, "22"),
        ("SELECT nothing FROM bed", SqlState::COLUMN_NOT_FOUND, "42"),
        ("SELECT 1 FROM nothing", SqlState::TABLE_NOT_FOUND, "42"),
        ("SELECT JSON_VALUE(name, 'x') FROM bed", SqlState::FEATURE_NOT_SUPPORTED, "0A"),
    ] {
        let error = database().session().query(sql, ()).unwrap_err();
        assert_eq!((error.sqlstate(), error.sqlstate().class()), (state, class), "{sql}");
        let found = std::error::Error::source(&error).map(ToString::to_string);
        // What is not supported is no problem that a layer has a name for.
        let named = state != SqlState::FEATURE_NOT_SUPPORTED;
        assert_eq!(found.as_deref(), named.then_some(error.message()), "{sql}");
        assert!(format!("{error:?}").starts_with(state.as_str()), "{error:?}");
    }
    let error = Database::in_memory().add_file("x", "no/such.parquet").unwrap_err();
    assert!(std::error::Error::source(&error).is_some(), "the cause is kept: {error}");
    assert!(error.to_string().contains("no/such.parquet"));
}

#[test]
fn values_are_shown_as_their_literals() {
    for (value, shown) in [
        (Value::Null, "NULL"),
        (true.into(), "TRUE"),
        (Value::from(-5_i64), "-5"),
        (Value::from(Some("x")), "x"),
        (Value::from(None::<i32>), "NULL"),
        (Value::from(0.1), "0.1"),
        (Value::from(1e16), "1E16"),
        (Value::from(1e-5), "1E-5"),
        (Value::from(100.0), "100.0"),
        (Value::numeric("-0.050").unwrap(), "-0.050"),
        (Value::date("0001-12-31").unwrap(), "0001-12-31"),
        (Value::Time(34_200_000_000), "09:30:00"),
        (Value::Timestamp(-500_000), "1969-12-31 23:59:59.5"),
        (Value::Months(-14), "-1-02"),
        (Value::Micros(90_061_000_000), "1 01:01:01"),
    ] {
        assert_eq!(value.to_string(), shown, "{value:?}");
    }
    assert_eq!(Value::date("2024-02-30"), None);
    assert_eq!(Value::numeric("1e5"), None);
}

#[test]
fn every_type_survives_a_table() {
    let columns: Vec<Column> = [
        ("b", SqlType::Boolean),
        ("s", SqlType::SmallInt),
        ("i", SqlType::Integer),
        ("l", SqlType::BigInt),
        ("n", SqlType::Numeric { precision: 38, scale: 3 }),
        ("r", SqlType::Real),
        ("d", SqlType::Double),
        ("v", text()),
        ("day", SqlType::Date),
        ("t", SqlType::Time),
        ("at", SqlType::Timestamp),
        ("m", SqlType::YearMonth),
        ("p", SqlType::DayTime),
    ]
    .into_iter()
    .map(|(name, sql_type)| Column::new(name, sql_type))
    .collect();
    let full = vec![
        true.into(),
        (-3).into(),
        4.into(),
        (i64::MIN).into(),
        Value::numeric("12345678901234567890123456789012345.678").unwrap(),
        Value::Double(0.5),
        Value::Double(-2.25),
        "é".into(),
        Value::date("2024-02-29").unwrap(),
        Value::Time(1),
        Value::Timestamp(2),
        Value::Months(3),
        Value::Micros(4),
    ];
    let db = Database::in_memory();
    db.add_rows("t", &columns, &[full.clone(), vec![Value::Null; 13]]).unwrap();
    let mut session = db.session();
    let rows = session.query("SELECT * FROM t", ()).unwrap();
    let found: Vec<Vec<Value>> = rows.rows().map(|row| row.values()).collect();
    assert_eq!(found, [full, vec![Value::Null; 13]]);
    for column in &columns {
        let name = &column.name;
        let grouped = session
            .query(format!("SELECT {name}, COUNT({name}), MIN({name}), MAX({name}) FROM t GROUP BY {name}"), ())
            .unwrap();
        let value =
            show(&session.query(format!("SELECT {name} FROM t"), ()).unwrap()).split("; ").next().unwrap().to_owned();
        assert_eq!(show(&grouped), format!("{value}|1|{value}|{value}; NULL|0|NULL|NULL"), "{name}");
        let sql = format!(
            "SELECT COUNT(*) FROM t a JOIN t b ON a.{name} = b.{name} WHERE a.{name} IN (b.{name}) AND a.{name} <= b.{name}"
        );
        assert_eq!(run(&mut session, &sql).unwrap(), "1", "{name}");
        let sorted = session.query(format!("SELECT {name} FROM t ORDER BY {name} DESC NULLS FIRST"), ()).unwrap();
        assert_eq!(show(&sorted), format!("NULL; {value}"), "{name}");
        assert_eq!(
            session.query(format!("SELECT DISTINCT t.{name} FROM t, t AS u"), ()).unwrap().row_count(),
            2,
            "{name}"
        );
    }
}

#[test]
fn a_prepared_statement_runs_with_other_values() {
    let mut session = Database::in_memory().session();
    session.run("CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(9))").unwrap();
    let insert = session.prepare("INSERT INTO bed VALUES (:id, :name)").unwrap();
    for (id, name) in [(1, "Fern"), (2, "Scree")] {
        let parameters = Parameters::new().set("id", id).set("name", name);
        assert_eq!(session.execute_prepared(&insert, parameters).unwrap(), 1);
    }
    let find = session.prepare("SELECT name FROM bed WHERE bed_id = :id").unwrap();
    assert_eq!((find.columns()[0].name.as_str(), find.text().len()), ("name", 39));
    for (id, expected) in [(2, "Scree"), (1, "Fern"), (3, "")] {
        let rows = session.query_prepared(&find, Parameters::new().set("id", id)).unwrap();
        assert_eq!(show(&rows), expected);
    }
    let again = Parameters::new().set("id", 1).set("name", "x");
    assert_eq!(session.execute_prepared(&insert, again).unwrap_err().sqlstate().as_str(), "23000");
    for (sql, state) in
        [("SELECT nam FROM bed", "42S22"), ("SELECT 1; SELECT 2", "42000"), ("DELETE FROM beds", "42S02")]
    {
        assert_eq!(session.prepare(sql).unwrap_err().sqlstate().as_str(), state, "{sql}");
    }
    let unknown = session.query_prepared(&find, Parameters::new().set("idd", 1)).unwrap_err();
    assert_eq!(unknown.sqlstate().as_str(), "07001");
    // A table may get another form between two runs.
    session.run("ALTER TABLE bed RENAME COLUMN name TO title").unwrap();
    assert_eq!(session.query_prepared(&find, Parameters::new().set("id", 1)).unwrap_err().sqlstate().as_str(), "42S22");
}
