//! Messages: SQLSTATE, place, what was expected, what to write instead.

use crate::support::{check_problem, check_problems, session};
use garden_gate::SourceText;

#[test]
fn syntax_errors_point_at_their_cause() {
    check_problems(&[
        ("SELEC name FROM bed", "42000", "SELEC", "did you mean SELECT?"),
        ("SELECT name sun soil FROM bed", "42000", "soil", "a comma may be missing before soil"),
        ("SELECT * fom bed", "42000", "fom", "did you mean FROM instead of fom?"),
        ("SELECT name, sun fromm bed", "42000", "bed", "did you mean FROM instead of fromm?"),
        ("SELECT name 'x' FROM bed", "42000", "'x'", "a comma may be missing before 'x'"),
        ("SELECT name, FROM bed", "42000", "FROM", "take the comma away"),
        ("SELECT FROM bed", "42000", "FROM", "* stands for all columns"),
        ("SELECT order FROM bed", "42000", "order", "reserved word … \"order\""),
        ("SELECT name FROM group", "42000", "group", "reserved word … \"group\""),
        ("SELECT (1 + (2 * 3) FROM bed", "42000", "(", "never closed … write ) before FROM"),
        ("SELECT COUNT(* FROM bed", "42000", "(", "never closed"),
        ("SELECT name FROM bed WHERE bed_id IN (1, 2", "42000", "(", "the end of the text"),
        ("SELECT name FROM bed)", "42000", ")", "closes nothing"),
        ("SELECT 'abc", "42000", "'", "never closed … written twice"),
        ("SELECT \"abc", "42000", "\"", "never closed"),
        ("SELECT 1 /* note", "42000", "/*", "comment is never closed"),
        ("SELECT 12abc", "42000", "12abc", "not a number … digit"),
        ("SELECT `name` FROM bed", "42000", "`", "no meaning … double quotes"),
        ("SELECT name FROM bed WHERE", "42000", "", "expected an expression, found the end of the text"),
        ("SELECT name FROM bed WHERE sun IS shade", "42000", "shade", "NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM"),
        ("SELECT CASE bed_id END FROM bed", "42000", "END", "expected WHEN"),
        ("SELECT CASE WHEN TRUE THEN 1 FROM bed", "42000", "FROM", "WHEN, ELSE or END"),
        ("SELECT CAST(1 INTEGER)", "42000", "INTEGER", "expected AS"),
        ("SELECT name FROM bed ORDER name", "42000", "name", "expected BY"),
        ("SELECT name FROM bed GROUP sun", "42000", "sun", "expected BY"),
        ("SELECT name FROM bed 5", "42000", "5", "the end of the statement"),
        ("SELECT \"\" FROM bed", "42000", "\"\"", "empty name"),
        ("SELECT 1; SELECT 2", "42000", "SELECT 2", "one query was expected"),
        ("", "42000", "", "no statement"),
        ("SET workers = 1", "42000", "SET workers = 1", "a query was expected"),
    ]);
}

#[test]
fn an_unclosed_parenthesis_shows_both_places() {
    let sql = "SELECT (area + 1 FROM bed";
    let error = session().query(sql, ()).unwrap_err();
    check_problem(sql, &error, ("42000", "(", "write ) before FROM"));
    let [label] = error.labels() else { panic!("{:?}", error.labels()) };
    assert_eq!(&sql[label.span.range()], "FROM");
}

#[test]
fn what_comes_later_says_so() {
    for (sql, what) in [
        ("SELECT JSON_VALUE(name, 'x') FROM bed", "JSON_VALUE"),
        ("CREATE DOMAIN x AS TIME(3)", "a precision of TIME"),
        ("CREATE TRIGGER x", "CREATE TRIGGER"),
    ] {
        let error = session().query(sql, ()).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), "0A000", "{sql}: {error}");
        assert!(error.message().contains(what), "{sql}: {error}");
        assert!(error.span().is_some(), "{sql}");
    }
}

#[test]
fn types_that_do_not_go_together() {
    check_problems(&[
        ("SELECT 1 = 'a'", "42000", "1 = 'a'", "INTEGER can't be compared with VARCHAR … makes a text of the number"),
        ("SELECT TRUE > 1", "42000", "TRUE > 1", "BOOLEAN can't be compared with INTEGER"),
        ("SELECT bed_id FROM bed WHERE bed_id IN (1, 'x')", "42000", "'x'", "INTEGER can't be compared with VARCHAR"),
        (
            "SELECT bed_id FROM bed WHERE opened BETWEEN '2020-01-01' AND DATE '2021-01-01'",
            "42000",
            "opened BETWEEN '2020-01-01' AND DATE '2021-01-01'",
            "DATE",
        ),
        ("SELECT 'a' + 1", "42000", "'a' + 1", "+ does not apply to VARCHAR and INTEGER … 'a' || 1 joins texts"),
        ("SELECT 1 || 'a'", "42000", "1", "|| needs text, this is INTEGER"),
        ("SELECT -'a'", "42000", "-'a'", "needs a number"),
        ("SELECT NOT 1", "42000", "1", "NOT needs a condition"),
        ("SELECT TRUE AND 'x'", "42000", "'x'", "AND, OR and NOT needs a condition"),
        ("SELECT 1 FROM bed WHERE name", "42000", "name", "WHERE needs a condition … VARCHAR"),
        ("SELECT 1 FROM bed HAVING 5", "42000", "5", "HAVING needs a condition"),
        ("SELECT 5 IS TRUE", "42000", "5", "needs a condition"),
        ("SELECT CASE WHEN 1 THEN 2 END", "42000", "1", "WHEN needs a condition"),
        (
            "SELECT CASE WHEN TRUE THEN 1 ELSE 'x' END",
            "42000",
            "'x'",
            "CASE has no common type: INTEGER in the first place, VARCHAR here",
        ),
        (
            "SELECT COALESCE(1, DATE '2020-01-01')",
            "42000",
            "DATE '2020-01-01'",
            "COALESCE has no common type … AS VARCHAR(40)",
        ),
        ("SELECT UPPR(name) FROM bed", "42000", "UPPR", "no function UPPR"),
        ("SELECT SUMM(area) FROM bed", "42000", "SUMM", "did you mean \"SUM\""),
        ("SELECT NULLIF(1)", "42000", "NULLIF(1)", "two arguments, 1 given"),
        ("SELECT COALESCE()", "42000", "COALESCE()", "one or more arguments"),
        ("SELECT COALESCE(*)", "42000", "COALESCE(*)", "takes no *"),
    ]);
}

#[test]
fn lines_and_columns_count_from_one() {
    let text = "SELECT 1;\n\n  SELECT 'é', nothing\n  FROM bed";
    let mut session = session();
    let source = SourceText::named("q.sql", text);
    let none = garden_gate::Parameters::new();
    let error = session.statements(source, &none).unwrap().nth(1).unwrap().unwrap_err();
    let position = error.position().unwrap();
    assert_eq!((position.line, position.column), (3, 15));
    assert_eq!(error.source_text().unwrap().name(), Some("q.sql"));
    assert_eq!(error.to_string(), "42S22: no column \"nothing\" in bed at line 3, column 15");
}

#[test]
fn a_failed_statement_does_not_hide_the_next() {
    let source = SourceText::new("SELECT 'a\n; SELECT 1; SELECT 2; SELECT nothing; SELECT 3");
    let none = garden_gate::Parameters::new();
    let mut session = session();
    let outcomes: Vec<bool> = session.statements(source, &none).unwrap().map(|outcome| outcome.is_ok()).collect();
    assert_eq!(outcomes, [false, true, true, false, true]);
}

#[test]
fn deep_nesting_is_an_error_and_wide_lists_are_not() {
    let mut session = session();
    let deep = [
        format!("SELECT {}1{}", "(".repeat(1_000_000), ")".repeat(1_000_000)),
        format!("SELECT {}TRUE", "NOT ".repeat(1_000_000)),
        format!("SELECT {}1", "- ".repeat(1_000_000)),
        format!("SELECT 1{}", " + 1".repeat(1_000_000)),
        format!("SELECT {} 1 {}", "CASE WHEN TRUE THEN ".repeat(100_000), "END ".repeat(100_000)),
        format!("SELECT {}1{}", "COALESCE(".repeat(100_000), ")".repeat(100_000)),
        format!("SELECT 1 FROM {}bed{}", "(".repeat(100_000), ")".repeat(100_000)),
    ];
    for sql in deep {
        let error = session.query(&sql, ()).unwrap_err();
        assert!(error.message().contains("nested deeper than"), "{}: {}", &sql[..40], error.message());
    }
    let wide = [
        format!("SELECT FALSE{}", " OR 1 = 2".repeat(10_000)),
        format!("SELECT 1 IN (2{})", ", 3".repeat(10_000)),
        format!("SELECT 1 <> 1{}", " AND TRUE".repeat(10_000)),
    ];
    for sql in wide {
        assert_eq!(crate::support::run(&mut session, &sql).unwrap(), "FALSE", "{}", &sql[..40]);
    }
    assert_eq!(crate::support::run(&mut session, &format!("SELECT 1{}", " + 1".repeat(500))).unwrap(), "501");
    assert_eq!(
        crate::support::run(&mut session, &format!("SELECT {}1{}", "(".repeat(100), ")".repeat(100))).unwrap(),
        "1"
    );
}

/// Where text is needed, the help says how a value becomes text.
#[test]
fn what_is_not_text_can_be_cast() {
    crate::story::tell(&[
        (
            "SELECT 'no. ' || n FROM SERIES(1, 2) AS s (n)",
            "!42000 needs text … CAST(n AS VARCHAR(40)) makes text of it",
        ),
        ("SELECT 'no. ' || CAST(n AS VARCHAR(40)) FROM SERIES(1, 2) AS s (n)", "=no. 1; no. 2"),
        ("SELECT n LIKE '5' FROM SERIES(1, 2) AS s (n)", "!42000 CAST(n AS VARCHAR(40))"),
        ("SELECT 'a' || ARRAY[1]", "!42000"),
    ]);
}
