//! The texts that results, plans and diagnostics are turned into.
#![expect(clippy::unwrap_used, reason = "a test stops at what it does not expect")]

mod pictures;

use garden_gate::{Column, Database, Parameters, ResultSet, Session, SqlType, Value};
use garden_gate_view::{
    Look, Separated, changed_json, considered, done_json, error, error_json, lines_json, markdown, note, plan_json,
    plan_tree, rewrites, rows_json, separated, table,
};
use serde_json::Value as Json;
use std::time::Duration;

const TEXT: SqlType = SqlType::Varchar(None);

fn session() -> Session {
    let db = Database::in_memory();
    let columns = [
        Column::new("bed_id", SqlType::Integer),
        Column::new("name", TEXT),
        Column::new("area", SqlType::Numeric { precision: 6, scale: 2 }),
        Column::new("opened", SqlType::Date),
    ];
    let rows = [
        vec![1.into(), "Fern gully".into(), Value::numeric("12.50").into(), Value::date("1990-01-31").into()],
        vec![20.into(), Value::Null, Value::Null, Value::Null],
        vec![300.into(), "‹null›".into(), Value::numeric("8.00").into(), Value::date("2000-02-29").into()],
        vec![4.into(), "".into(), Value::numeric("1000.00").into(), Value::Null],
        vec![5.into(), "two\nlines, a \"quote\"\tand | bars".into(), Value::Null, Value::Null],
    ];
    db.add_rows("bed", &columns, &rows).unwrap();
    db.session()
}

fn query(sql: &str) -> ResultSet {
    session().query(sql, ()).unwrap_or_else(|error| panic!("{sql}\n{error}"))
}

/// A text without its last line, which holds a time.
fn without_time(text: &str) -> Vec<&str> {
    let mut lines: Vec<&str> = text.lines().collect();
    assert!(lines.pop().is_some_and(|last| last.contains(" ms")), "{text}");
    lines
}

#[test]
fn tables_align_numbers_right_and_tell_null_from_text() {
    let shown = table(&query("SELECT bed_id, name, area FROM bed WHERE bed_id <> 5"), Look::plain());
    assert_eq!(
        without_time(&shown),
        [
            "bed_id  name           area",
            "──────  ──────────  ───────",
            "     1  Fern gully    12.50",
            "    20  ‹null›       ‹null›",
            "   300  '‹null›'       8.00",
            "     4              1000.00",
        ]
    );
    assert!(shown.lines().last().unwrap().starts_with("4 rows, "), "{shown}");
    let one = table(&query("SELECT 1 AS n"), Look::plain());
    assert!(one.contains("1 row, "), "{one}");
    let none = table(&query("SELECT bed_id FROM bed WHERE FALSE"), Look::plain());
    assert_eq!(without_time(&none), ["bed_id", "──────"]);
}

#[test]
fn every_row_stays_on_its_line() {
    let shown = table(&query("SELECT name FROM bed WHERE bed_id = 5"), Look::plain());
    assert_eq!(shown.lines().nth(2), Some("two↵lines, a \"quote\"→and | bars"));
    let wide = table(&query("SELECT 'ＷＩＤＥ' AS w, 'é' AS e, 1 AS n"), Look::plain());
    assert_eq!(without_time(&wide)[1..], ["────────  ─  ─", "ＷＩＤＥ  é  1"]);
}

#[test]
fn wide_tables_are_cut_and_say_so() {
    let rows = query(
        "SELECT bed_id, 'a long text that goes on and on and never really wants to end' AS words, area, opened, bed_id + 1 AS more FROM bed WHERE bed_id = 1",
    );
    let all = table(&rows, Look::plain().wide(200));
    assert!(all.contains("never really wants to end") && !all.contains("not shown"));
    let cut = table(&rows, Look::plain().wide(70));
    assert!(cut.contains('…') && !cut.contains("not shown"), "{cut}");
    assert!(cut.lines().take(3).all(|line| line.chars().count() <= 70), "{cut}");
    let narrow = table(&rows, Look::plain().wide(45));
    assert!(narrow.ends_with("3 more columns not shown: area, opened, more\n"), "{narrow}");
    let narrowest = table(&rows, Look::plain().wide(12));
    assert!(narrowest.contains("4 more columns not shown"), "{narrowest}");
}

#[test]
fn colours_only_when_asked() {
    let rows = query("SELECT name FROM bed WHERE bed_id = 20");
    assert!(!table(&rows, Look::plain()).contains('\u{1b}'));
    assert!(table(&rows, Look::plain().coloured()).contains("\u{1b}[2m‹null›\u{1b}[0m"));
}

#[test]
fn separated_text_reads_back_as_it_was() {
    let rows = query("SELECT bed_id, name, area FROM bed");
    assert_eq!(
        separated(&rows, Separated::Csv),
        "bed_id,name,area\n1,Fern gully,12.50\n20,,\n300,‹null›,8.00\n4,\"\",1000.00\n5,\"two\nlines, a \"\"quote\"\"\tand | bars\",\n"
    );
    let tabs = separated(&query("SELECT ' x' AS a, 'p,q' AS b, TRUE AS c"), Separated::Tsv);
    assert_eq!(tabs, "a\tb\tc\n\" x\"\tp,q\tTRUE\n");
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("bed.csv");
    std::fs::write(&path, separated(&query("SELECT * FROM bed"), Separated::Csv)).unwrap();
    let db = Database::in_memory();
    db.add_file("bed", &path).unwrap();
    let again = db.session().query("SELECT * FROM bed", ()).unwrap();
    let values = |rows: &ResultSet| rows.rows().map(|row| row.values()).collect::<Vec<_>>();
    assert_eq!(values(&again), values(&query("SELECT * FROM bed")));
}

#[test]
fn markdown_tables() {
    let shown = markdown(&query("SELECT bed_id, name FROM bed WHERE bed_id IN (1, 5, 20)"));
    assert_eq!(
        shown,
        "| bed_id | name |\n| ---: | --- |\n| 1 | Fern gully |\n| 20 |  |\n| 5 | two<br>lines, a \"quote\"→and \\| bars |\n"
    );
}

fn json(text: &str) -> Json {
    assert!(text.ends_with('\n') && text.matches('\n').count() == 1, "one object on one line: {text}");
    serde_json::from_str(text).unwrap()
}

#[test]
fn json_keeps_all_digits_and_types() {
    let sql = "SELECT 12345678901234567890.1250 AS n, 9223372036854775807 AS b, 1e0 / 3 AS d, TRUE AS t, NULL AS u, DATE '2024-02-29' AS day,
               TIMESTAMP '2024-02-29 10:00:00.5' AS at, INTERVAL '1' MONTH AS i, 'a\"b' AS s";
    let text = rows_json(&query(sql));
    assert!(text.contains("[[12345678901234567890.1250,9223372036854775807,0.3333333333333333,true,null,\"2024-02-29\",\"2024-02-29 10:00:00.5\",\"1\",\"a\\\"b\"]]"), "{text}");
    let object = json(&text);
    assert_eq!(object["kind"], "rows");
    assert_eq!(object["columns"][0], serde_json::json!({"name": "n", "type": "NUMERIC(24,4)"}));
    assert_eq!(object["columns"][4]["type"], "VARCHAR");
    assert!(object["elapsed_ms"].is_number() && object["notes"] == serde_json::json!([]));
    let lines = lines_json(&query("SELECT bed_id, area FROM bed WHERE bed_id < 21 ORDER BY 1"));
    assert_eq!(
        lines,
        "{\"bed_id\":1,\"area\":12.50}\n{\"bed_id\":4,\"area\":1000.00}\n{\"bed_id\":5,\"area\":null}\n{\"bed_id\":20,\"area\":null}\n"
    );
}

#[test]
fn json_of_statements_without_rows_notes_and_errors() {
    let done = json(&done_json("table bed created", Duration::from_micros(1500), &[]));
    assert_eq!(done, serde_json::json!({"kind": "done", "what": "table bed created", "elapsed_ms": 1.5, "notes": []}));
    let noted = json(&rows_json(&query("SELECT 1\n  , 7 / 2")));
    let note = &noted["notes"][0];
    assert_eq!((&note["code"], &note["line"], &note["column"]), (&"integer-division".into(), &2.into(), &5.into()));
    let wrong = session().query("SELECT nmae,\n sunn FROM bed", ()).unwrap_err();
    let mut object = json(&error_json(&wrong));
    let related = object.as_object_mut().unwrap().remove("related").unwrap();
    assert_eq!(
        object,
        serde_json::json!({"kind": "error", "sqlstate": "42S22", "message": "no column \"nmae\" in bed", "line": 1, "column": 8, "help": "did you mean \"name\"?"})
    );
    assert_eq!(related.as_array().unwrap().len(), 1);
    assert_eq!((&related[0]["line"], &related[0]["column"]), (&2.into(), &2.into()));
    let missing = Database::in_memory().add_file("x", "no/such.csv").unwrap_err();
    let object = json(&error_json(&missing));
    assert_eq!(
        (&object["file"], &object["file_line"], &object["line"]),
        (&"no/such.csv".into(), &Json::Null, &Json::Null)
    );
}

#[test]
fn json_and_text_of_changes_and_of_arrays() {
    let arrays = json(&rows_json(&query(
        "SELECT ARRAY[1, NULL], ARRAY[ARRAY['a'], ARRAY[]], ARRAY[DATE '2024-02-29'], ROW(1, 'a')",
    )));
    assert_eq!(arrays["rows"], serde_json::json!([[[1, null], [["a"], []], ["2024-02-29"], [1, "a"]]]));
    assert_eq!(arrays.get("affected"), None);
    let mut session = Database::in_memory().session();
    session.run("CREATE TABLE t (a INTEGER)").unwrap();
    let returned = session.query("INSERT INTO t VALUES (1), (2) RETURNING a", ()).unwrap();
    let object = json(&rows_json(&returned));
    assert_eq!((&object["affected"], &object["rows"]), (&2.into(), &serde_json::json!([[1], [2]])));
    assert!(table(&returned, Look::plain()).contains("2 rows changed, "));
    let changed = json(&changed_json(("t: 1 row inserted", 1), Duration::from_micros(250), &[]));
    assert_eq!(
        changed,
        serde_json::json!({"kind": "changed", "what": "t: 1 row inserted", "affected": 1, "elapsed_ms": 0.25, "notes": []})
    );
    assert_eq!(
        garden_gate_view::done("bed: 1 row inserted", Duration::from_micros(250)),
        "bed: 1 row inserted, 0.2 ms\n"
    );
    assert_eq!(
        garden_gate_view::done("table b\u{1b}d created", Duration::from_millis(25)),
        "table b·d created, 25 ms\n"
    );
}

#[test]
fn errors_show_the_line_and_the_place() {
    let wrong = session().query("SELECT name,\n       (area + 1\nFROM bed", ()).unwrap_err();
    let shown = error(&wrong, Look::plain());
    for part in [
        "error[42000]: this parenthesis is never closed",
        "2 │        (area + 1",
        "3 │ FROM bed",
        "expected ) before this",
        "help: write ) before FROM",
    ] {
        assert!(shown.contains(part), "{part:?} is not in\n{shown}");
    }
    assert!(!shown.contains('\u{1b}') && error(&wrong, Look::plain().coloured()).contains('\u{1b}'));
    let two = error(&session().query("SELECT nmae, opend FROM bed", ()).unwrap_err(), Look::plain());
    assert_eq!(two.matches("error[42S22]").count(), 2, "{two}");
    let of = |sql: &str| error(&session().query(sql, ()).unwrap_err(), Look::plain());
    // A statement to copy, and columns side by side, stand on lines of their own.
    let window = of("SELECT ROW_NUMBER() OVER (ORDER BY bed_id) AS n FROM bed WHERE n = 1");
    assert!(
        window.lines().any(|line| line.trim_start().starts_with("WITH placed AS (SELECT *, ROW_NUMBER()")),
        "{window}"
    );
    let sides = of("SELECT bed_id, name FROM bed UNION SELECT bed_id FROM bed");
    assert!(sides.lines().count() > 6 && !sides.contains('↵'), "{sides}");
    let hidden = of("SELECT \"b\u{1b}d\" FROM bed");
    assert!(hidden.contains("help: if text was meant, write it in single quotes: 'b·d'"), "{hidden}");
    let file = error(&Database::in_memory().add_file("x", "no/such.csv").unwrap_err(), Look::plain());
    assert!(file.contains("error[58030]") && file.contains("no/such.csv"), "{file}");
    let noted = query("SELECT bed_id FROM bed WHERE name = NULL");
    let shown = note(&noted.notes()[0], Look::plain());
    assert!(shown.contains("note[null-comparison]") && shown.contains("help: write name IS NULL"), "{shown}");
}

const JOIN: &str = "SELECT a.name FROM bed a JOIN bed b ON a.bed_id = b.bed_id AND a.area < b.bed_id WHERE a.area > 10 AND b.name <> 'x' ORDER BY a.name";

#[test]
fn plans_as_trees() {
    let plan = session().plan(JOIN, ()).unwrap();
    let shown = plan_tree(&plan, Look::plain());
    let lines: Vec<&str> = shown.lines().collect();
    assert!(
        lines[0].starts_with(&format!("plan {}, cost ", plan.fingerprint))
            && lines[0].contains(", 1 worker, planned in "),
        "{shown}"
    );
    assert!(lines[1].trim_start().starts_with("rows est."), "{shown}");
    for (line, part) in
        [(2, "sort"), (4, "└─ hash join, inner"), (7, "   ├─ table scan bed as b"), (10, "   └─ table scan bed as a")]
    {
        assert!(lines[line].starts_with(part), "line {line} is not {part:?} in\n{shown}");
    }
    for part in [
        "a.name",
        "join key: b.bed_id = a.bed_id",
        "residual: CAST(a.area AS NUMERIC(12,2)) < CAST(b.bed_id AS NUMERIC(12,2))",
        "filter: a.area > 10.00",
        "filter: b.name <> 'x'",
        "reads bed_id, name, area",
    ] {
        assert!(shown.contains(part), "{part:?} is not in\n{shown}");
    }
    let generic = session().plan("SELECT name FROM bed WHERE bed_id = :x", ()).unwrap();
    assert!(plan_tree(&generic, Look::plain()).contains("generic: a parameter has no value"));
}

#[test]
fn measured_plans_show_what_happened() {
    let (_, plan) = session().measure("SELECT name FROM bed WHERE area > 10 AND name <> 'x'", ()).unwrap();
    let shown = plan_tree(&plan, Look::plain());
    // area > 10: T U F T U; the second term is reached by rows 1, 2, 4, 5 with name T U T T.
    for part in [
        "filter: bed.area > 10.00",
        "TRUE 2, FALSE 1, UNKNOWN 2",
        "TRUE 3, FALSE 0, UNKNOWN 1",
        "all of them: TRUE 2, FALSE 1, UNKNOWN 2",
        "worst estimate: table scan bed, off by ",
        "2 rows were neither kept nor refused",
    ] {
        assert!(shown.contains(part), "{part:?} is not in\n{shown}");
    }
}

#[test]
fn plans_as_json() {
    let mut session = session();
    let (_, plan) = session.measure(JOIN, ()).unwrap();
    let object = json(&plan_json(&plan));
    assert_eq!((&object["kind"], &object["generic"]), (&"plan".into(), &false.into()));
    assert_eq!(object["fingerprint"], plan.fingerprint.as_str());
    let join = &object["root"]["children"][0];
    assert_eq!(
        (&join["operator"], &join["kind"], &join["target"]),
        (&"hash join".into(), &"inner".into(), &Json::Null)
    );
    assert_eq!(
        join["predicates"][0],
        serde_json::json!({"text": "b.bed_id = a.bed_id", "place": "join key", "implied": false})
    );
    // The side with fewer rows is built: the second child.
    let scan = &join["children"][1];
    assert_eq!(
        (&scan["operator"], &scan["target"], &scan["alias"]),
        (&"table scan".into(), &"bed".into(), &"a".into())
    );
    assert_eq!(
        scan["truth"][0],
        serde_json::json!({"predicate": "a.area > 10.00", "true": 2, "false": 1, "unknown": 2})
    );
    for key in ["estimated_rows", "cost", "actual_rows", "elapsed_ms", "index", "children"] {
        assert!(scan.get(key).is_some(), "{key} is missing");
    }
    assert_eq!(object["rewrites"][0]["rule"], "predicate pushdown");
    let decision =
        object["considered"].as_array().unwrap().iter().find(|decision| decision["decision"] == "join order").unwrap();
    assert_eq!(decision["candidates"][0]["chosen"], true);
    let predicted = json(&plan_json(&session.plan(JOIN, Parameters::new()).unwrap()));
    assert_eq!(predicted["root"]["actual_rows"], Json::Null);
}

#[test]
fn decisions_and_rewrites_as_text() {
    let plan = session().plan("SELECT 1 FROM bed a JOIN bed b ON a.area < b.area WHERE a.bed_id = 1", ()).unwrap();
    let shown = considered(&plan.considered, Look::plain());
    for part in [
        "read a\n",
        "table scan ← chosen",
        "join order\n",
        "impossible  hash join  (needs an equality between the two sides; a.area < b.area is none)",
    ] {
        assert!(shown.contains(part), "{part:?} is not in\n{shown}");
    }
    let shown = rewrites(&plan.rewrites, Look::plain());
    assert_eq!(
        shown,
        "predicate pushdown: a.bed_id = 1 moved from WHERE to where its table is read\n  because an inner join drops a row that one of its inputs lacks\n"
    );
    assert_eq!(rewrites(&[], Look::plain()), "no rewrite fired\n");
}

/// Texts that a careless writer or reader of delimited text would spoil.
const AWKWARD: [&str; 12] =
    ["", " ", "a,b", "a\tb", "\"", "\"\"", "line\nend", "carriage\rreturn", "null", "‹null›", "é", "007x"];

#[test]
fn whatever_is_written_as_csv_reads_back() {
    let folder = tempfile::tempdir().unwrap();
    let columns = [Column::new("key", SqlType::Integer), Column::new("first", TEXT), Column::new("second", TEXT)];
    let mut rows = Vec::new();
    for (number, first) in (0..).zip(AWKWARD) {
        for second in AWKWARD.map(Value::from).into_iter().chain([Value::Null]) {
            rows.push(vec![Value::Integer(number), first.into(), second]);
        }
    }
    let db = Database::in_memory();
    db.add_rows("t", &columns, &rows).unwrap();
    let written = db.session().query("SELECT * FROM t", ()).unwrap();
    for (name, kind) in [("t.csv", Separated::Csv), ("t.tsv", Separated::Tsv)] {
        let path = folder.path().join(name);
        std::fs::write(&path, separated(&written, kind)).unwrap();
        let again = Database::in_memory();
        again.add_file("t", &path).unwrap();
        let read = again.session().query("SELECT * FROM t", ()).unwrap();
        let found: Vec<Vec<Value>> = read.rows().map(|row| row.values()).collect();
        assert_eq!(found, rows, "{name}");
    }
    let path = folder.path().join("t.jsonl");
    std::fs::write(&path, lines_json(&written)).unwrap();
    let again = Database::in_memory();
    again.add_file("t", &path).unwrap();
    let found: Vec<Vec<Value>> =
        again.session().query("SELECT * FROM t", ()).unwrap().rows().map(|row| row.values()).collect();
    assert_eq!(found, rows, "JSON lines");
}

#[test]
fn a_column_of_many_values_has_its_spread_drawn() {
    let mut session = Database::in_memory().session();
    session
        .run("CREATE TABLE reading AS SELECT value AS n, value * value AS square, 20000 - value AS back, MOD(value * 7919, 5000) AS mixed FROM SERIES(1, 20000)")
        .unwrap();
    let text = garden_gate_view::describe(&session.describe(Some("reading")).unwrap()[0], Look::plain());
    let line = |name: &str| {
        let lines = text.lines().skip_while(|line| !line.starts_with("distribution of"));
        lines
            .into_iter()
            .find(|line| line.starts_with(&format!("{name} ")))
            .unwrap_or_else(|| panic!("{name} in {text}"))
            .to_owned()
    };
    // Numbers from 1 on are spread evenly; of their squares most are small; rows stand in their order, or the other way round.
    let drawn = |name: &str| line(name).chars().filter(|c| ('▁'..='█').contains(c)).collect::<String>();
    assert!(drawn("n").chars().all(|block| block >= '▇'), "{}", line("n"));
    let squares: Vec<char> = drawn("square").chars().collect();
    assert!(squares[0] == '█' && squares.windows(2).all(|pair| pair[0] >= pair[1]), "{squares:?}");
    assert!(line("n").ends_with("as the values") && line("back").ends_with("against the values"), "{text}");
    assert!(line("mixed").ends_with("% of it"), "{text}");
    let json = garden_gate_view::describe_json(&session.describe(Some("reading")).unwrap()[0]);
    let json: Json = serde_json::from_str(&json).unwrap();
    assert_eq!(json["columns"][0]["histogram"].as_array().unwrap().len(), 101);
    assert!((json["columns"][2]["correlation"].as_f64().unwrap() + 1.0).abs() < 1e-9);
}
