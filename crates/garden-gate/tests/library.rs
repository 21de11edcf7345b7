//! The library as a program uses it: values in and out, rows as tuples, texts with names, transactions, errors that say what they are about.

use garden_gate::{
    Database, Error, Parameters, Session, SourceText, SqlState, Value, assert_rows,
    error::ConstraintKind,
    inspect::{CompareOptions, RowOrder, StepOptions, SweepOptions},
    plan::Decision,
    value::{Decimal, FromValue},
};
use std::collections::HashSet;
use std::fmt::Debug;
use std::net::IpAddr;

fn session() -> Session {
    Database::in_memory().session()
}

/// A value goes in as a parameter, and comes back as it was.
fn round_trip<T: Into<Value> + FromValue + Clone + PartialEq + Debug>(sql_type: &str, values: &[T]) {
    for value in values {
        let sql = format!("SELECT CAST(? AS {sql_type})");
        let rows = session().query(&sql, [value.clone()]).unwrap();
        assert_eq!(rows.one::<(T,)>().unwrap().0, *value, "{sql_type}");
    }
}

#[test]
fn values_of_rust_types_come_back_as_they_were() {
    round_trip("SMALLINT", &[i8::MIN, i8::MAX]);
    round_trip("SMALLINT", &[u8::MIN, u8::MAX]);
    round_trip("INTEGER", &[u16::MAX, 0]);
    round_trip("BIGINT", &[u32::MAX, 7]);
    round_trip("NUMERIC(20)", &[u64::MAX, 0, 1 << 63]);
    round_trip("BIGINT", &[isize::MIN, isize::MAX]);
    round_trip("NUMERIC(20)", &[usize::MAX, 12]);
    round_trip("REAL", &[0.1_f32, f32::MAX, f32::MIN_POSITIVE]);
    round_trip("VARCHAR(3)", &['ä', '\'']);
    round_trip("VARBINARY(3)", &[vec![0_u8, 255, 7], Vec::new()]);
    round_trip("UUID", &[[7_u8; 16], [0; 16]]);
    round_trip("INTEGER ARRAY", &[vec![1, 2], vec![]]);
    round_trip("VARCHAR(9) ARRAY", &[vec![Some("fern".to_owned()), None]]);
    round_trip("DATE", &[chrono::NaiveDate::from_ymd_opt(2024, 2, 29).unwrap()]);
    round_trip("TIME(6)", &[chrono::NaiveTime::from_hms_micro_opt(23, 59, 59, 999_999).unwrap()]);
    let moment = chrono::DateTime::from_timestamp_micros(1_709_164_800_000_001).unwrap();
    round_trip("TIMESTAMP(6)", &[moment.naive_utc()]);
    round_trip("TIMESTAMP(6) WITH TIME ZONE", &[moment]);
    round_trip("INTERVAL DAY TO SECOND(6)", &[chrono::TimeDelta::microseconds(-86_400_000_001)]);
    round_trip("IPADDRESS", &["10.0.0.1".parse::<IpAddr>().unwrap(), "2001:db8::1".parse().unwrap()]);
    round_trip("BOOLEAN", &[Some(true), None]);
    let too_long = session().query("SELECT 300", ()).unwrap().one::<(u8,)>().unwrap_err();
    assert_eq!(too_long.sqlstate().as_str(), "22000");
}

#[test]
fn values_can_be_keys_and_json() {
    let number = |text: &str| Value::numeric(text).unwrap();
    let set: HashSet<Value> =
        [0.0.into(), (-0.0).into(), f64::NAN.into(), f64::NAN.into(), 1.into(), number("1.0"), Value::Null]
            .into_iter()
            .collect();
    assert_eq!(set.len(), 5, "0 and -0 are one, NaN is itself, 1 and 1.0 are two");
    let row = Value::Row(vec![1.into(), Value::Null, number("12.50"), "a\"b".into(), vec![true].into()]);
    assert_eq!(serde_json::to_string(&row).unwrap(), r#"[1,null,"12.50","a\"b",[true]]"#);
    assert_eq!(Value::numeric(&"9".repeat(39)), None);
}

#[test]
fn parameters_come_from_arrays_iterators_and_references() {
    let mut session = session();
    let both = Parameters::named([("a", 1), ("B", 2)]);
    for (rows, expected) in [
        (session.query("SELECT ? + ?", [3, 4]), 7),
        (session.query("SELECT ? + ?", vec![3, 5]), 8),
        (session.query("SELECT ? + ?", (1..3).collect::<Parameters>()), 3),
        (session.query("SELECT :a + :b", &both), 3),
        (session.query("SELECT :a + :b + ?", both.clone().push(4)), 7),
    ] {
        assert_eq!(rows.unwrap().one::<(i32,)>().unwrap().0, expected);
    }
    let statement = session.prepare("SELECT :a, ?, :A, ? WHERE :b").unwrap();
    let names: Vec<String> = statement.parameters().iter().map(ToString::to_string).collect();
    assert_eq!(names, [":a", "?1", "?2", ":b"]);
    // As many as one likes: no search for each.
    let many: Parameters = (0..50_000).collect();
    let sum = format!("SELECT CARDINALITY(ARRAY[{}])", vec!["?"; 50_000].join(","));
    assert_eq!(session.query(&sum, &many).unwrap().one::<(i32,)>().unwrap().0, 50_000);
}

#[test]
fn rows_are_read_by_name_and_as_tuples() {
    let mut session = session();
    let rows = session.query("SELECT 'Fern' AS name, 4 AS beds, 5 AS twice, 6 AS twice", ()).unwrap();
    let row = (&rows).into_iter().next().unwrap();
    assert_eq!(row.get_by_name::<String>("NAME").unwrap(), "Fern");
    for (name, state, help) in [
        ("nmae", "42S22", "did you mean \"name\"?"),
        ("sun", "42S22", "its columns are name, beds, twice, twice"),
        ("twice", "42000", "give each a name with AS, or read them by their number"),
    ] {
        let error = row.get_by_name::<i32>(name).unwrap_err();
        assert_eq!((error.sqlstate().as_str(), error.help()), (state, Some(help)), "{name}");
    }
    assert_eq!(rows.one::<(String, u8, i64, Option<i32>)>().unwrap(), ("Fern".into(), 4, 5, Some(6)));
    assert_eq!(rows.one::<(String,)>().unwrap_err().sqlstate().as_str(), "42S22", "columns are not dropped silently");
    assert_eq!(row.get::<Value>(99).unwrap_err().sqlstate().as_str(), "42S22");
    assert!(std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| row.value(99))).is_err(), "no NULL is made up");
    for sql in ["SELECT 1 WHERE 1 = 0", "VALUES (1), (2)"] {
        let error = session.query(sql, ()).unwrap().one::<(i32,)>().unwrap_err();
        assert_eq!(error.sqlstate().as_str(), "21000", "{sql}");
    }
    assert_eq!(session.query("VALUES (1), (2), (3)", ()).unwrap().rows().len(), 3);
}

#[test]
fn rows_are_compared_with_those_expected() {
    let rows = session().query("VALUES (1, 'a'), (2, NULL), (2, NULL), (3, 'c')", ()).unwrap();
    let null = Value::Null;
    assert_rows!(rows, [[3, "c"], [2, null.clone()], [1, "a"], [2, null.clone()]]);
    assert_rows!(rows, in order [[1, "a"], [2, null.clone()], [2, null.clone()], [3, "c"]]);
    let row = |number: i32, text: Option<&str>| vec![number.into(), text.into()];
    let one = Value::Numeric(Decimal { unscaled: 10, scale: 1 });
    for (expected, order, diff) in [
        (vec![vec![one, "a".into()], row(2, None), row(2, None), row(3, Some("c"))], RowOrder::Exact, None),
        (vec![row(1, Some("a")), row(2, None), row(3, Some("c"))], RowOrder::Any, Some("unexpected: 2|NULL")),
        (
            vec![row(1, Some("a")), row(2, None), row(2, None), row(2, None), row(3, Some("c"))],
            RowOrder::Any,
            Some("missing:    2|NULL"),
        ),
        (
            vec![row(1, Some("a")), row(3, Some("c")), row(2, None), row(2, None)],
            RowOrder::Exact,
            Some("row 2 is 2|NULL, which comes in another place"),
        ),
        (vec![row(1, Some("a")), row(3, Some("c")), row(2, None), row(2, None)], RowOrder::Any, None),
    ] {
        let found = rows.diff(&expected, order).map(|diff| diff.to_string());
        assert_eq!(found.as_deref(), diff, "{expected:?}");
    }
}

#[test]
fn scripts_keep_what_came_before_an_error_and_texts_have_names() {
    let mut session = session();
    let source = SourceText::named("count.sql", "VALUES (1);\nVALUES (:n);\nSELECT nothing;\nVALUES (4)");
    let run = session.run_script(&source, Parameters::new().set("n", 2));
    assert_eq!(run.outcomes.len(), 2);
    let error = run.error.unwrap();
    let name = error.source_text().and_then(SourceText::name);
    assert_eq!((name, error.position().map(|at| (at.line, at.column))), (Some("count.sql"), Some((3, 8))));
    assert_eq!(session.run_script("VALUES (1)", [5]).error.unwrap().sqlstate().as_str(), "07001");
    let wrong = SourceText::named("wrong.sql", "SELECT nmae FROM SERIES(1, 2) AS s (name)");
    let errors = [
        session.query(&wrong, ()).unwrap_err(),
        session.plan(&wrong, ()).unwrap_err(),
        session.measure(&wrong, ()).unwrap_err(),
        session.execute(&wrong, ()).unwrap_err(),
        session.stream(&wrong, ()).unwrap_err(),
        session.prepare(&wrong).unwrap_err(),
        session.steps(&wrong, ()).unwrap_err(),
        session.compare([&wrong, &wrong]).unwrap_err(),
        session.run(&wrong).unwrap_err(),
    ];
    for error in errors {
        assert_eq!(error.source_text().and_then(SourceText::name), Some("wrong.sql"), "{error}");
    }
}

#[test]
fn a_transaction_is_repeated_when_it_loses() {
    let db = Database::in_memory();
    let mut session = db.session();
    session.run("CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER); INSERT INTO t VALUES (1, 0)").unwrap();
    let (mut tries, mut other) = (0, db.session());
    let mut work = |session: &mut Session| {
        tries += 1;
        let n: (i32,) = session.query("SELECT n FROM t WHERE id = 1", ())?.one()?;
        if tries < 3 {
            other.run("UPDATE t SET n = n + 10")?;
        }
        session.execute("UPDATE t SET n = ? WHERE id = 1", [n.0 + 1])
    };
    assert_eq!(
        session.transaction(1, &mut work).unwrap_err().sqlstate().as_str(),
        "40001",
        "one repetition is not enough"
    );
    assert_eq!(session.transaction(5, &mut work).unwrap(), 1);
    assert_eq!(tries, 3);
    assert_eq!(session.query("SELECT n FROM t", ()).unwrap().one::<(i32,)>().unwrap().0, 21);
    // An error takes back what was done, and no transaction stays open.
    let refused = session.transaction(9, |session| {
        session.execute("DELETE FROM t", ())?;
        Err::<(), _>(Error::custom("no"))
    });
    assert_eq!(refused.unwrap_err().message(), "no");
    assert_eq!(session.query("SELECT COUNT(*) FROM t", ()).unwrap().one::<(i32,)>().unwrap().0, 1);
    session.run("START TRANSACTION").unwrap();
    assert_eq!(session.transaction(1, |_| Ok(())).unwrap_err().sqlstate().as_str(), "25001");
}

#[test]
fn errors_name_the_constraint() {
    let mut session = session();
    session
        .run(
            "CREATE DOMAIN share AS NUMERIC(3, 2) CONSTRAINT part CHECK (VALUE <= 1);
             CREATE TABLE bed (id INTEGER CONSTRAINT bed_key PRIMARY KEY, code VARCHAR(9) CONSTRAINT one_code UNIQUE,
                 area INTEGER NOT NULL CONSTRAINT has_area CHECK (area > 0), wet share);
             CREATE UNIQUE INDEX by_wet ON bed (wet * 2);
             CREATE TABLE task (bed INTEGER CONSTRAINT of_bed REFERENCES bed);
             INSERT INTO bed VALUES (1, 'a', 5, 0.5); INSERT INTO task VALUES (1)",
        )
        .unwrap();
    for (sql, kind, table, name) in [
        ("INSERT INTO bed VALUES (1, 'b', 5, NULL)", ConstraintKind::PrimaryKey, Some("bed"), "bed_key"),
        ("INSERT INTO bed VALUES (2, 'a', 5, NULL)", ConstraintKind::Unique, Some("bed"), "one_code"),
        ("INSERT INTO bed VALUES (2, 'b', 5, 0.5)", ConstraintKind::Unique, Some("bed"), "by_wet"),
        ("INSERT INTO bed VALUES (2, 'b', 0, NULL)", ConstraintKind::Check, Some("bed"), "has_area"),
        ("INSERT INTO bed VALUES (2, 'b', NULL, NULL)", ConstraintKind::NotNull, Some("bed"), "area"),
        ("INSERT INTO bed VALUES (2, 'b', 5, 1.5)", ConstraintKind::Check, Some("bed"), "bed_wet_part"),
        ("UPDATE bed SET area = CAST(1.5 AS share)", ConstraintKind::Domain, None, "share.part"),
        ("INSERT INTO task VALUES (9)", ConstraintKind::ForeignKey, Some("task"), "of_bed"),
        ("DELETE FROM bed", ConstraintKind::ForeignKey, Some("task"), "of_bed"),
    ] {
        let error = session.execute(sql, ()).unwrap_err();
        let broken = error.constraint().unwrap_or_else(|| panic!("{sql}: {error}"));
        assert_eq!((broken.kind, broken.table.as_deref(), broken.name.as_str()), (kind, table, name), "{sql}");
    }
    assert!(session.execute("INSERT INTO bed VALUES (NULLIF(1, 1) / 0, 'b', 1, NULL)", ()).is_err());
    let file: Error = std::io::Error::other("the disk is gone").into();
    assert_eq!((file.sqlstate().as_str(), file.message()), ("58030", "the disk is gone"));
    assert!(std::error::Error::source(&file).is_some());
    assert_eq!(Error::custom("no").sqlstate(), SqlState::GENERAL);
}

#[test]
fn assertions_on_plans_know_the_tables() {
    let mut session = session();
    session
        .run("CREATE TABLE bed (id INTEGER PRIMARY KEY); CREATE TABLE task (id INTEGER PRIMARY KEY, bed INTEGER)")
        .unwrap();
    session.run("INSERT INTO bed SELECT n FROM SERIES(1, 40) AS s (n)").unwrap();
    session.run("INSERT INTO task SELECT n, MOD(n, 40) FROM SERIES(1, 400) AS s (n)").unwrap();
    let sql = "SELECT b.id FROM bed b JOIN task t ON t.bed = b.id GUIDE (JOIN (t, b) BY HASH, KEEP ORDER)";
    let (_, plan) = session.measure(sql, ()).unwrap();
    assert!(plan.try_reads("b").unwrap().by_scan() && plan.try_reads("TASK").unwrap().by_scan());
    let error = plan.try_reads("tsak").unwrap_err();
    assert_eq!((error.sqlstate().as_str(), error.help()), ("42S02", Some("it reads b and t")));
    let mut order = plan.join_order();
    order.sort_unstable();
    assert_eq!(order, ["b", "t"]);
    let text = plan.to_string();
    let lines: Vec<&str> = text.lines().collect();
    assert!(lines[0].starts_with("hash join, inner: ") && lines[0].ends_with(", 390 came"), "{text}");
    assert!(lines[1..].iter().all(|line| line.starts_with("  ")) && lines.len() == 3, "{text}");
}

#[test]
fn what_threads_share_can_be_sent_to_them() {
    fn both<T: Send + Sync>() {}
    fn sent<T: Send>() {}
    both::<Database>();
    both::<garden_gate::PreparedStatement>();
    both::<garden_gate::Interrupt>();
    both::<garden_gate::ResultSet>();
    both::<garden_gate::Plan>();
    both::<Error>();
    both::<Value>();
    both::<Parameters>();
    sent::<Session>();
    sent::<garden_gate::RowStream<'_>>();
}

/// Arrays of other libraries become the engine's own types; what would lose a value is refused, and names its column.
#[test]
fn ordinary_record_batches_become_tables() {
    use garden_gate::arrow::array::{ArrayRef, DictionaryArray, Int8Array, LargeStringArray, RecordBatch, StructArray};
    use garden_gate::arrow::array::{TimestampSecondArray, UInt16Array};
    use garden_gate::arrow::datatypes::{Field, Int8Type};
    use std::sync::Arc;
    let batch = |columns: Vec<(&str, ArrayRef)>| {
        RecordBatch::from(StructArray::from(
            columns
                .into_iter()
                .map(|(name, array)| (Arc::new(Field::new(name, array.data_type().clone(), true)), array))
                .collect::<Vec<_>>(),
        ))
    };
    let codes: DictionaryArray<Int8Type> = vec![Some("shade"), None, Some("shade")].into_iter().collect();
    let made = batch(vec![
        ("small", Arc::new(Int8Array::from(vec![Some(-5), None, Some(7)]))),
        ("wide", Arc::new(UInt16Array::from(vec![1, 2, 65_535]))),
        ("note", Arc::new(LargeStringArray::from(vec![Some("a"), Some("b"), None]))),
        ("sun", Arc::new(codes)),
        ("taken", Arc::new(TimestampSecondArray::from(vec![0, 86_400, 1]))),
    ]);
    let db = Database::in_memory();
    db.add_batches("t", &[made.clone(), made.slice(0, 1)]).unwrap();
    let rows = db.session().query("SELECT small, wide, note, sun, CAST(taken AS DATE) FROM t", ()).unwrap();
    let day = |text: &str| Value::date(text).unwrap();
    assert_rows!(rows, in order [
        [-5, 1, "a", "shade", day("1970-01-01")],
        [Value::Null, 2, "b", Value::Null, day("1970-01-02")],
        [7, 65_535, Value::Null, "shade", day("1970-01-01")],
        [-5, 1, "a", "shade", day("1970-01-01")],
    ]);
    let large = batch(vec![
        ("fine", Arc::new(Int8Array::from(vec![1]))),
        ("large", Arc::new(TimestampSecondArray::from(vec![i64::MAX]))),
    ]);
    for (batches, state, word) in [
        (vec![large], "22003", "large"),
        (vec![made.clone(), made.project(&[0]).unwrap()], "42000", "record batch 2"),
        (Vec::new(), "42000", "schema"),
        (vec![made], "42S01", "t"),
    ] {
        let error = db.add_batches("t", &batches).unwrap_err();
        assert!(error.sqlstate().as_str() == state && error.message().contains(word), "{state}: {error}");
    }
}

#[test]
fn options_are_built_up() {
    let mut session = session();
    let sql = "WITH a AS (VALUES (2), (1)), b AS (VALUES (3)) SELECT * FROM a UNION ALL SELECT * FROM b";
    let names = |options: StepOptions, session: &mut Session| -> Vec<String> {
        session.steps_with(sql, (), &options).unwrap().into_iter().map(|step| step.name).collect()
    };
    assert_eq!(names(StepOptions::default().only("b"), &mut session), ["b"]);
    let other = "WITH a AS (VALUES (1), (2)) SELECT * FROM a UNION ALL VALUES (3)";
    for (options, same, runs) in
        [(CompareOptions::default().runs(1), true, 1), (CompareOptions::default().ordered().runs(2), false, 2)]
    {
        let found = session.compare_with([sql, other], (), &options).unwrap();
        assert_eq!((found.same_rows, found.queries[0].times.len()), (same, runs), "{options:?}");
    }
    let over = [("n".to_owned(), vec![1.into(), 2.into()])];
    let swept = session.sweep_with("SELECT :n", (), &over, &SweepOptions::default().fixed_plans()).unwrap();
    assert_eq!(swept.points.len(), 2);
}

/// A record batch is inserted by the names of its columns, as an INSERT of the same rows would be.
#[test]
fn record_batches_are_appended_to_tables() {
    use garden_gate::arrow::array::{ArrayRef, Int8Array, LargeStringArray, RecordBatch};
    use std::sync::Arc;
    let batch = |ids: Vec<Option<i8>>, notes: Vec<Option<&str>>| {
        let ids: ArrayRef = Arc::new(Int8Array::from(ids));
        let notes: ArrayRef = Arc::new(LargeStringArray::from(notes));
        RecordBatch::try_from_iter_with_nullable([("NOTE", notes, true), ("id", ids, true)]).unwrap()
    };
    let mut session = session();
    session
        .run(
            "CREATE SCHEMA north;
             CREATE TABLE north.\"wet bed\" (id BIGINT PRIMARY KEY, \"NOTE\" VARCHAR(5) DEFAULT 'new', size INTEGER DEFAULT 7)",
        )
        .unwrap();
    let table = "north.\"wet bed\"";
    assert_eq!(session.append(table, &batch(vec![Some(1), Some(2)], vec![Some("a"), None])).unwrap(), 2);
    session.run("START TRANSACTION").unwrap();
    assert_eq!(session.append(table, &batch(vec![Some(3)], vec![Some("c")])).unwrap(), 1);
    session.run("ROLLBACK").unwrap();
    for (bad, state) in [
        (batch(vec![Some(2)], vec![Some("twice")]), "23000"),
        (batch(vec![None], vec![Some("null")]), "23000"),
        (batch(vec![Some(9)], vec![Some("too long")]), "22001"),
    ] {
        assert_eq!(session.append(table, &bad).unwrap_err().sqlstate().as_str(), state);
    }
    let one = batch(vec![Some(9)], vec![None]);
    for (name, state) in [("nowhere", "42S02"), ("north.bed; DELETE FROM t", "42602"), ("", "42602")] {
        assert_eq!(session.append(name, &one).unwrap_err().sqlstate().as_str(), state, "{name}");
    }
    assert_eq!(session.append(table, &one.slice(0, 0)).unwrap(), 0);
    let rows = session.query(format!("SELECT * FROM {table} ORDER BY id"), ()).unwrap();
    assert_rows!(rows, in order [[1, "a", 7], [2, Value::Null, 7]]);
}

#[test]
fn a_plan_is_read_back_from_its_json() {
    let mut session = session();
    session.run("CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(9), area_m2 INTEGER)").unwrap();
    session.run("INSERT INTO bed SELECT n, 'bed', n FROM SERIES(1, 500) AS s (n)").unwrap();
    session.run("CREATE TABLE task AS SELECT n AS id, MOD(n, 500) AS bed_id FROM SERIES(1, 5000) AS s (n)").unwrap();
    session.run("CREATE INDEX task_ix ON task (bed_id)").unwrap();
    for sql in [
        "SELECT b.name, COUNT(*) FROM bed b JOIN task t ON b.bed_id = t.bed_id WHERE b.area_m2 > 3 GROUP BY b.name",
        "SELECT name FROM bed WHERE bed_id NOT IN (SELECT bed_id FROM task) ORDER BY name FETCH FIRST 2 ROWS ONLY",
        "SELECT t.bed_id FROM task t WHERE t.bed_id = 3 OR t.bed_id = 5",
        "SELECT b.name FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id",
    ] {
        let (_, plan) = session.measure(sql, ()).unwrap();
        let json = serde_json::to_string(&plan).unwrap();
        let back: garden_gate::Plan = serde_json::from_str(&json).unwrap();
        assert_eq!(serde_json::to_string(&back).unwrap(), json, "{sql}");
        assert_eq!((back.joins(), back.fingerprint), (plan.joins(), plan.fingerprint), "{sql}");
    }
    let broken = serde_json::from_str::<Decision>("\"rest\"").unwrap_err();
    assert!(broken.to_string().contains("not a decision"), "{broken}");
}
