//! `:name`, `?`, session variables and settings.

use crate::support::{session, show};
use garden_gate::{Outcome, Parameters, SourceText, Value};

fn untyped(text: &str) -> Value {
    Value::Untyped(text.into())
}

#[test]
fn by_name_and_by_position() {
    let mut session = session();
    let cases = [
        (
            "SELECT bed_id FROM bed WHERE sun = :sun AND bed_id > :least",
            Parameters::new().set("sun", "shade").set("LEAST", 1),
            "5",
        ),
        ("SELECT bed_id FROM bed WHERE sun = ? AND bed_id > ?", Parameters::new().push("shade").push(1), "5"),
        ("SELECT :n + 1, :n * 2", Parameters::new().set("n", 20), "21|40"),
        ("SELECT :n", Parameters::new().set("n", "text"), "text"),
        ("SELECT :n", Parameters::new().set("n", Value::Null), "NULL"),
        ("SELECT bed_id FROM bed ORDER BY bed_id FETCH FIRST :n ROWS ONLY", Parameters::new().set("n", 2), "1; 2"),
        ("SELECT bed_id FROM bed WHERE opened = :day", Parameters::new().set("day", Value::date("2000-02-29")), "2"),
        ("SELECT bed_id FROM bed WHERE area = :area", Parameters::new().set("area", Value::numeric("8.000")), "2"),
        (
            "SELECT COUNT(*) FROM bed WHERE sun IS NOT DISTINCT FROM :sun",
            Parameters::new().set("sun", Value::Null),
            "1",
        ),
    ];
    for (sql, parameters, expected) in cases {
        assert_eq!(show(&session.query(sql, parameters).unwrap()), expected, "{sql}");
    }
}

#[test]
fn bare_text_is_typed_by_where_it_is_used() {
    let mut session = session();
    for (condition, text, expected) in [
        ("bed_id = :x", "3", "3"),
        ("area > :x", "20", "3; 4"),
        ("area = :x", "12.5", "1"),
        ("opened > :x", "2010-01-01", "3; 5"),
        ("sun = :x", "shade", "1; 5"),
        ("name LIKE :x", "F%", "1"),
        ("bed_id IN (1, :x)", "4", "1; 4"),
        ("bed_id BETWEEN :x AND 4", "3", "3; 4"),
        (":x = bed_id", "2", "2"),
        ("bed_id > :x", "2.5", "3; 4; 5"),
        ("bed_id + :x = 5", "1", "4"),
    ] {
        let sql = format!("SELECT bed_id FROM bed WHERE {condition}");
        let rows =
            session.query(&sql, Parameters::new().set("x", untyped(text))).unwrap_or_else(|e| panic!("{sql}\n{e}"));
        assert_eq!(show(&rows), expected, "{sql} with {text}");
    }
}

#[test]
fn parameters_that_are_missing_or_wrong() {
    let mut session = session();
    for (sql, parameters, sqlstate, words) in [
        ("SELECT 1 FROM bed WHERE sun = :sun", Parameters::new(), "07001", "no value for parameter :sun"),
        ("SELECT ?, ?", Parameters::new().push(1), "07001", "?2"),
        ("SELECT 1", Parameters::new().set("x", 1), "07001", "no parameter :x"),
        ("SELECT :y", Parameters::new().set("x", 1).set("y", 1), "07001", "no parameter :x"),
        (
            "SELECT 1 FROM bed WHERE bed_id = :x",
            Parameters::new().set("x", untyped("abc")),
            "22018",
            "'abc' of parameter :x is not a valid INTEGER",
        ),
        (
            "SELECT 1 FROM bed WHERE opened = :x",
            Parameters::new().set("x", untyped("2024-02-30")),
            "22018",
            "is not a valid DATE",
        ),
        (
            "SELECT 1 FROM bed WHERE opened = :x",
            Parameters::new().set("x", 5),
            "42000",
            "DATE can't be compared with INTEGER",
        ),
    ] {
        let error = session.query(sql, parameters).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), sqlstate, "{sql}: {error}");
        assert!(error.message().contains(words), "{sql}: {error}");
    }
}

#[test]
fn variables_last_as_long_as_the_session() {
    let mut session = session();
    let outcomes = session
        .run("LET nth = 1 + 1; SELECT name FROM bed WHERE bed_id = :nth; LET nth = :nth * 2; SELECT :nth")
        .unwrap();
    let rows: Vec<String> = outcomes.into_iter().filter_map(Outcome::rows).map(|rows| show(&rows)).collect();
    assert_eq!(rows, ["Scree", "4"]);
    let given = session.query("SELECT :nth", Parameters::new().set("nth", 9)).unwrap();
    assert_eq!(show(&given), "9", "a given value goes before a variable");
    assert_eq!(session.run("LET x = name").unwrap_err().sqlstate().as_str(), "42000");
}

#[test]
fn scripts_share_their_parameters() {
    let mut session = session();
    let source = SourceText::new("SELECT :a; SELECT :b -- ; SELECT :c\n; SELECT ':d'");
    let both = Parameters::new().set("a", 1).set("b", 2);
    let shown: Vec<String> = session
        .statements(source.clone(), &both)
        .unwrap()
        .map(|outcome| show(&outcome.unwrap().rows().unwrap()))
        .collect();
    assert_eq!(shown, ["1", "2", ":d"]);
    let one_more = both.clone().set("c", 3);
    assert!(session.statements(source.clone(), &one_more).is_err(), ":c appears in a comment only");
    assert_eq!(one_more.used_in(&source), both);
    assert!(one_more.check_used(&[source, SourceText::new("SELECT :c")]).is_ok());
}

#[test]
fn settings() {
    let mut session = session();
    session.run("SET workers = 1; SET batch_rows = 2; SET memory_limit = '512 MB'; SET time_limit = 60000").unwrap();
    let shown = show(&session.run("SHOW SETTINGS").unwrap().remove(0).rows().unwrap());
    for part in ["batch_rows|2|", "memory_limit|512 MB|", "time_limit|60000|", "workers|1|"] {
        assert!(shown.contains(part), "{part} in {shown}");
    }
    for (sql, sqlstate, words) in [
        ("SET worker = 1", "42000", "did you mean \"workers\"?"),
        ("SET workers = 0", "HY024", "1 to 256"),
        ("SET workers = many", "HY024", "1 to 256"),
        ("SET memory_limit = 'much'", "HY024", "512 MB"),
        ("SET nothing_like_it = 1", "42000", "the settings are batch_rows"),
    ] {
        let error = session.run(sql).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), sqlstate, "{sql}");
        assert!(error.help().unwrap_or("").contains(words), "{sql}: {error}");
    }
}
