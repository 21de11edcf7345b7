//! Queries in which a rule, a type or a form of its own kind once went wrong; each computed by hand.

use crate::story::{check, tell};
use garden_gate::{Database, Session};

/// A database with `a` (no rows) and `b` (1, 2, 3), under every rule, and with each omitted.
fn sessions() -> Vec<Session> {
    let mut sessions = Vec::new();
    for rule in
        ["", "eager aggregation", "decorrelate subquery", "mark join to semi join", "predicate pushdown", "inline CTE"]
    {
        let mut session = Database::in_memory().session();
        session.set("without_rules", rule).unwrap();
        session
            .run("CREATE TABLE a (v INTEGER); CREATE TABLE b (g INTEGER); INSERT INTO b VALUES (1), (2), (3)")
            .unwrap();
        sessions.push(session);
    }
    sessions
}

#[test]
fn rules_leave_the_rows_as_they_are() {
    for session in &mut sessions() {
        for line in [
            ("SELECT b.g, COUNT(a.v) FROM a CROSS JOIN b WHERE a.v BETWEEN 4 AND 5 GROUP BY b.g", "="),
            ("SELECT b.g, SUM(a.v) FROM b CROSS JOIN (SELECT g AS v FROM b WHERE g > 5) a GROUP BY b.g", "="),
            // A row is greater when its first part is, whatever comes after.
            ("SELECT 1 WHERE (3, 0) > ANY (VALUES (2, 1))", "=1"),
            ("SELECT 1 WHERE (2, 0) > ANY (VALUES (2, 1))", "="),
            ("SELECT 1 WHERE (3, 0) > ALL (VALUES (2, 1), (2, 9))", "=1"),
            ("SELECT 1 WHERE (2, 1) <> ANY (VALUES (2, 1), (2, 2))", "=1"),
            ("SELECT 1 WHERE (2, 1) <> ALL (VALUES (2, 2), (3, 1))", "=1"),
            ("SELECT 1 WHERE (2, 1) = ANY (VALUES (2, 2), (2, 1))", "=1"),
            ("SELECT g FROM b WHERE (g, 0) < ANY (SELECT g, g FROM b) ORDER BY g", "=1; 2; 3"),
            ("SELECT g FROM b WHERE NOT (g, 9) <= ANY (SELECT g, g FROM b) ORDER BY g", "=3"),
            (
                "SELECT b.g, l.n FROM b LEFT JOIN LATERAL (SELECT COUNT(*) AS n FROM b c WHERE c.g > b.g) l ON FALSE ORDER BY g",
                "=1|NULL; 2|NULL; 3|NULL",
            ),
            (
                "SELECT b.g, l.n FROM b LEFT JOIN LATERAL (SELECT COUNT(*) AS n FROM b c WHERE c.g > b.g) l ON b.g = 3 ORDER BY g",
                "=1|NULL; 2|NULL; 3|0",
            ),
            (
                "SELECT b.g, l.n FROM b LEFT JOIN LATERAL (SELECT COUNT(*) AS n FROM b c WHERE c.g > b.g) l ON l.n > 0 ORDER BY g",
                "=1|2; 2|1; 3|NULL",
            ),
            (
                "SELECT b.g, l.n FROM b LEFT JOIN LATERAL (SELECT COUNT(*) AS n FROM b c WHERE c.g > b.g) l ON TRUE ORDER BY g",
                "=1|2; 2|1; 3|0",
            ),
        ] {
            check(session, line);
        }
    }
}

#[test]
fn two_copies_of_a_column_are_two_columns() {
    let cube = "=1|1|1|0; 2|2|1|0; 1|NULL|1|1; 2|NULL|1|1; NULL|1|1|2; NULL|2|1|2; NULL|NULL|2|3";
    tell(&[
        ("CREATE TABLE b (g INTEGER)", ""),
        ("INSERT INTO b VALUES (1), (2)", "2"),
        ("CREATE VIEW pairs AS SELECT g AS x, g AS y FROM b", ""),
        (
            "SELECT x, y, COUNT(*), GROUPING(x, y) FROM (SELECT g AS x, g AS y FROM b) q GROUP BY CUBE (x, y) ORDER BY 4, 1, 2",
            cube,
        ),
        ("SELECT x, y, COUNT(*), GROUPING(x, y) FROM pairs GROUP BY CUBE (x, y) ORDER BY 4, 1, 2", cube),
        (
            "WITH q AS (SELECT g AS x, g AS y FROM b) SELECT x, y, COUNT(*), GROUPING(x, y) FROM q GROUP BY CUBE (x, y) ORDER BY 4, 1, 2",
            cube,
        ),
    ]);
}

#[test]
fn views_keep_the_meaning_they_were_made_with() {
    tell(&[
        ("CREATE TABLE t (a INTEGER, b INTEGER)", ""),
        ("CREATE TABLE u (a INTEGER, d INTEGER)", ""),
        ("INSERT INTO t VALUES (1, 2)", "1"),
        ("INSERT INTO u VALUES (1, 4)", "1"),
        ("CREATE VIEW star AS SELECT * FROM t", ""),
        ("CREATE VIEW joined AS SELECT b, d FROM t NATURAL JOIN u", ""),
        ("CREATE VIEW above AS SELECT * FROM star", ""),
        ("CREATE VIEW lone AS SELECT d FROM t JOIN u ON t.a = u.a", ""),
        (
            "CREATE FUNCTION pairs (k INTEGER) RETURNS TABLE (a INTEGER, b INTEGER) RETURN SELECT * FROM t WHERE a = k",
            "",
        ),
        ("ALTER TABLE t ADD COLUMN d INTEGER DEFAULT 9", ""),
        ("ALTER TABLE u ADD COLUMN b INTEGER DEFAULT 8", ""),
        ("SELECT * FROM star", "=1|2"),
        ("SELECT * FROM above", "=1|2"),
        // Neither natural join on the new columns, nor an ambiguous name.
        ("SELECT * FROM joined", "=2|4"),
        ("SELECT * FROM lone", "=4"),
        ("SELECT * FROM TABLE (pairs(1))", "=1|2"),
        ("INSERT INTO star VALUES (5, 6)", "1"),
        ("SELECT * FROM t ORDER BY a", "=1|2|9; 5|6|9"),
        ("ALTER TABLE t DROP COLUMN b", "!42000 view \"star\" … view \"joined\" … CASCADE"),
        ("ALTER TABLE t RENAME COLUMN b TO c", "!42000 view \"joined\""),
        ("DROP VIEW joined", ""),
        ("ALTER TABLE t RENAME COLUMN b TO c", ""),
        ("SELECT b FROM star ORDER BY b", "=2; 6"),
        ("ALTER TABLE t DROP COLUMN d", ""),
        ("SELECT * FROM above ORDER BY a", "=1|2; 5|6"),
    ]);
}

#[test]
fn forms_at_their_edges() {
    tell(&[
        ("CREATE TABLE b (g INTEGER)", ""),
        ("INSERT INTO b VALUES (1), (2), (2), (3)", "4"),
        ("SELECT g FROM b ORDER BY g OFFSET 1 ROW FETCH FIRST 0 ROWS WITH TIES", "="),
        ("SELECT g FROM b ORDER BY g OFFSET 1 ROW FETCH FIRST 1 ROW WITH TIES", "=2; 2"),
        (
            "VALUES ('b' SIMILAR TO '[a-z^aeiou]', 'a' SIMILAR TO '[a-z^aeiou]', '[' SIMILAR TO '[[]', '^' SIMILAR TO '[^a]')",
            "=TRUE|FALSE|TRUE|TRUE",
        ),
        (
            "VALUES (CAST('2024-366' AS DATE FORMAT 'YYYY-DDD'), CAST('2023-365' AS DATE FORMAT 'YYYY-DDD'))",
            "=2024-12-31|2023-12-31",
        ),
        ("VALUES (CAST('2023-366' AS DATE FORMAT 'YYYY-DDD'))", "!22007"),
        ("VALUES (CAST('2023-000' AS DATE FORMAT 'YYYY-DDD'))", "!22007"),
        // What appears before 4, the new text, and what appears from 2 on.
        (
            "VALUES (OVERLAY('abcdef' PLACING 'X' FROM 4 FOR -2), OVERLAY('abc' PLACING 'X' FROM 4 FOR 9))",
            "=abcXbcdef|abcX",
        ),
        ("VALUES (OVERLAY('abc' PLACING 'X' FROM 0))", "!22011"),
        (
            "VALUES (9007199254740993 = 9007199254740992e0, 9007199254740993 > 9007199254740992e0, 4e0 = CAST(4 AS BIGINT))",
            "=FALSE|TRUE|TRUE",
        ),
        ("SELECT g + 1 AS x FROM b ORDER BY -x, x * 2", "=4; 3; 3; 2"),
        ("SELECT g, COUNT(*) AS n FROM b GROUP BY g ORDER BY 0 - n, -g", "=2|2; 3|1; 1|1"),
        ("SELECT g + 1 AS x FROM b ORDER BY -y", "!42S22"),
        ("CREATE TABLE m (p NUMERIC(7,2), q NUMERIC(7,2))", ""),
        ("INSERT INTO m VALUES (10, 3), (1, 4)", "2"),
        ("SELECT SUM(p) / SUM(q) FROM m", "=1.5714285714"),
        (
            "VALUES (CAST(TIMESTAMP '2024-01-01 12:00:00' AT TIME ZONE '+02:00' AS TIMESTAMP), TIMESTAMP '2024-01-01 12:00:00' AT TIME ZONE '+02:00')",
            "=2024-01-01 14:00:00|2024-01-01 12:00:00+00:00",
        ),
        ("VALUES (EXTRACT(HOUR FROM TIMESTAMP '2024-01-01 23:00:00+00:00' AT TIME ZONE '+02:00'))", "=1"),
        (
            "SELECT COUNT(*), MIN(value), MAX(value) FROM SERIES(DATE '2024-01-31', DATE '2024-05-31', INTERVAL '1' MONTH)",
            "=5|2024-01-31|2024-05-31",
        ),
        ("SELECT value FROM SERIES(1, 1000000000000) FETCH FIRST 3 ROWS ONLY", "=1; 2; 3"),
        (
            "SELECT a.value, b.value FROM SERIES(1, 1000000) a CROSS JOIN SERIES(1, 1000000) b FETCH FIRST 2 ROWS ONLY",
            "=1|1; 1|2",
        ),
        ("SELECT value FROM SERIES(5, 1, -2)", "=5; 3; 1"),
        ("SELECT value FROM SERIES(1, 2, 0)", "!22000 step"),
    ]);
}

#[test]
fn columns_that_the_grouped_ones_determine() {
    tell(&[
        ("CREATE TABLE bed (id INTEGER PRIMARY KEY, name VARCHAR(9))", ""),
        ("CREATE TABLE task (id INTEGER PRIMARY KEY, bed INTEGER, hours INTEGER)", ""),
        ("INSERT INTO bed VALUES (1, 'Fern'), (2, 'Bog')", "2"),
        ("INSERT INTO task VALUES (1, 1, 3), (2, 1, 4), (3, 2, 5)", "3"),
        ("CREATE VIEW beds AS SELECT id AS b, name || '!' AS loud FROM bed", ""),
        ("SELECT name, SUM(hours) FROM bed JOIN task ON bed.id = bed GROUP BY bed.id ORDER BY 2", "=Bog|5; Fern|7"),
        // By an equality with the key, through a derived table, and through a view.
        ("SELECT name, SUM(hours) FROM bed JOIN task ON bed.id = bed GROUP BY task.bed ORDER BY 2", "=Bog|5; Fern|7"),
        (
            "SELECT n, SUM(hours) FROM (SELECT id AS k, name AS n FROM bed) q JOIN task ON k = bed GROUP BY k ORDER BY 2",
            "=Bog|5; Fern|7",
        ),
        ("SELECT loud, SUM(hours) FROM beds JOIN task ON b = bed GROUP BY b ORDER BY 2", "=Bog!|5; Fern!|7"),
        (
            "SELECT name, COUNT(hours) FROM bed LEFT JOIN task ON bed = bed.id GROUP BY bed.id ORDER BY 1",
            "=Bog|1; Fern|2",
        ),
        ("SELECT hours FROM bed LEFT JOIN task ON bed = bed.id GROUP BY bed.id", "!42000 hours"),
        ("SELECT bed.id FROM bed LEFT JOIN task ON bed = bed.id GROUP BY task.bed", "!42000 bed.id"),
        ("SELECT name FROM bed JOIN task ON bed.id >= bed GROUP BY task.bed", "!42000 name"),
    ]);
}

#[test]
fn what_is_not_reached_does_not_fail() {
    tell(&[
        ("CREATE TABLE t (d INTEGER)", ""),
        ("INSERT INTO t VALUES (0), (5)", "2"),
        ("CREATE TABLE r (x INTEGER)", ""),
        ("INSERT INTO r VALUES (2), (3)", "2"),
        ("SELECT d, CASE WHEN d <> 0 THEN 10 / d IN (SELECT x FROM r) END FROM t ORDER BY d", "=0|NULL; 5|TRUE"),
        ("SELECT d FROM t WHERE d <> 0 AND 10 / d < ALL (SELECT x FROM r)", "="),
        ("SELECT d FROM t WHERE d = 0 OR 10 / d >= ALL (SELECT x - 1 FROM r) ORDER BY d", "=0; 5"),
        ("SELECT d, x FROM t LEFT JOIN r ON d <> 0 AND 10 / d = x ORDER BY d", "=0|NULL; 5|2"),
        ("SELECT d FROM t WHERE EXISTS (SELECT 1 FROM r WHERE d <> 0 AND x = 10 / d)", "=5"),
        ("SELECT d, SUM(10 / d) FILTER (WHERE d <> 0) OVER () FROM t ORDER BY d", "=0|2; 5|2"),
        ("SELECT SUM(1 / 0) FILTER (WHERE d > 9), COUNT(*) FROM t", "=NULL|2"),
        ("SELECT d, MAX(1 / 0) FILTER (WHERE d IN (SELECT x FROM r)) FROM t GROUP BY d ORDER BY d", "=0|NULL; 5|NULL"),
        ("SELECT 10 / d FROM t", "!22012"),
    ]);
}

#[test]
fn results_are_finite_or_errors() {
    let fit = "FROM (VALUES (-1e200, 1e0), (1e200, 3e0)) v (y, x)";
    for (query, outcome) in [
        ("SELECT CAST(1e39 AS REAL)".to_owned(), "!22003"),
        ("SELECT CAST('1e999' AS DOUBLE PRECISION)".into(), "!22003"),
        (format!("SELECT VAR_POP(y) {fit}"), "!22003"),
        // The mean is 0, so the deviation is 1e200; the slope is 2e200 over 2.
        (format!("SELECT STDDEV_POP(y) {fit}"), "=1E200"),
        (format!("SELECT REGR_SLOPE(y, x), CORR(y, x), REGR_R2(y, x) {fit}"), "=1E200|1.0|1.0"),
        (format!("SELECT REGR_SYY(y, x) {fit}"), "!22003"),
        (
            "SELECT CORR(y, x), VAR_SAMP(x) FROM (VALUES (1e-200, 1e0), (2e-200, 2e0), (3e-200, 3e0)) v (y, x)".into(),
            "=1.0|1.0",
        ),
        (
            "SELECT VAR_POP(y), COVAR_SAMP(y, y) FROM (VALUES (1e0), (3e0), (5e-300)) v (y) WHERE y > 1e-100".into(),
            "=1.0|2.0",
        ),
        (
            "SELECT PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY y) FROM (VALUES (-1.7e308), (1.7e308)) v (y)".into(),
            "=0.0",
        ),
        ("SELECT PERCENTILE_CONT(1.5) WITHIN GROUP (ORDER BY y) FROM (VALUES (1e0)) v (y)".into(), "!22003"),
        ("SELECT CAST('unknown' AS BOOLEAN), CAST(TRUE AS CHAR(4))".into(), "=NULL|TRUE"),
        ("SELECT CAST(TRUE AS CHAR(3))".into(), "!22018"),
        ("SELECT CAST(FALSE AS VARCHAR(4))".into(), "!22018"),
    ] {
        tell(&[(&query, outcome)]);
    }
}

/// Statements that are deep, long or wide: none may end the program, on a thread with little stack.
#[test]
fn large_statements_need_no_stack_of_their_own() {
    let chain = |first: &str, each: &str, count: usize| format!("{first}{}", each.repeat(count));
    let nested = |open: &str, inner: &str, close: &str| format!("{}{inner}{}", open.repeat(500), close.repeat(500));
    let list = |item: &dyn Fn(usize) -> String, count| (0..count).map(item).collect::<Vec<_>>().join(", ");
    let joins: String = (1..500).map(|at| format!(" JOIN t t{at} ON t{at}.a = t{}.a", at - 1)).collect();
    let steps: String = (1..300).map(|at| format!(", c{at} AS (SELECT a + 1 AS a FROM c{})", at - 1)).collect();
    let windows = list(&|at| format!("SUM(a) OVER (ORDER BY a + {at})"), 300);
    let statements = [
        (nested("SELECT (", "SELECT 1", ")"), "=1"),
        (nested("SELECT a FROM (", "SELECT 1 AS a", ") q"), "=1"),
        (format!("SELECT {}", nested("(", "1", ")")), "=1"),
        (chain("SELECT 1", " UNION SELECT 1", 499), "=1"),
        (chain("SELECT 1", " EXCEPT SELECT 2 UNION SELECT 1", 249), "=1"),
        (format!("SELECT COUNT(*) FROM t t0{joins}"), "=1"),
        (format!("WITH c0 AS (SELECT 1 AS a){steps} SELECT a FROM c299"), "=300"),
        (format!("SELECT COUNT(*) FROM (SELECT {windows} FROM t) q"), "=1"),
        ("SELECT CHARACTER_LENGTH(CAST('x' AS CHAR(65536)) || 'y') > 0".into(), "=TRUE"),
    ];
    let thread = std::thread::Builder::new().stack_size(512 << 10).spawn(move || {
        let mut session = tell(&[("CREATE TABLE t (a INTEGER)", ""), ("INSERT INTO t VALUES (1)", "1")]);
        for (statement, outcome) in &statements {
            check(&mut session, (statement, outcome));
        }
    });
    assert!(thread.unwrap().join().is_ok());
}

/// Statements of every depth up to where they get a stack of their own: those before have to do with what the thread has.
#[test]
fn statements_of_middling_depth_keep_within_the_stack_of_their_thread() {
    let shapes = [
        ("SELECT (", "SELECT 1", ")"),
        ("SELECT a FROM (", "SELECT 1 AS a", ") q"),
        ("SELECT ", "1", " UNION SELECT 2"),
        ("SELECT a FROM t WHERE a IN (", "SELECT 1", ")"),
        ("SELECT a FROM t WHERE EXISTS (", "SELECT 1", ")"),
        ("SELECT SUM(a) FROM (", "SELECT 1 AS a", ") q GROUP BY a"),
        ("SELECT CASE WHEN a = 1 THEN (", "SELECT 1", ") END FROM t"),
        ("SELECT a FROM t JOIN LATERAL (", "SELECT 1 AS b", ") q ON TRUE"),
    ];
    let thread = std::thread::Builder::new().stack_size(2 << 20).spawn(move || {
        let mut session = tell(&[("CREATE TABLE t (a INTEGER)", ""), ("INSERT INTO t VALUES (1)", "1")]);
        for (open, inner, close) in shapes {
            for depth in 1..40 {
                let deep = if open == "SELECT " {
                    format!("SELECT 1{}", close.repeat(depth))
                } else {
                    format!("{}{inner}{}", open.repeat(depth), close.repeat(depth))
                };
                // Some have names that are not there: they are refused, and nothing overflows.
                let _ = session.query(deep, ());
            }
        }
        // A key of an index is read with the table, whatever the query says.
        let sum = vec!["a"; 1500].join(" + ");
        let not = format!("{}a = 1", "NOT ".repeat(1500));
        for (number, key) in [format!("({sum})"), format!("(CASE WHEN {not} THEN 1 END)")].iter().enumerate() {
            session
                .run(format!("CREATE TABLE k{number} (a INTEGER); CREATE INDEX i{number} ON k{number} ({key})"))
                .unwrap();
            assert_eq!(session.query(format!("SELECT a FROM k{number}"), ()).unwrap().row_count(), 0);
        }
        // A view is nested in the one before, so that the text of the query says nothing.
        session.run("CREATE VIEW v0 AS SELECT a FROM t").unwrap();
        for at in 1..60 {
            session.run(format!("CREATE VIEW v{at} AS SELECT a + 1 AS a FROM v{} WHERE a < 100", at - 1)).unwrap();
            assert_eq!(session.query(format!("SELECT a FROM v{at}"), ()).unwrap().one::<(i64,)>().unwrap(), (at + 1,));
        }
    });
    assert!(thread.unwrap().join().is_ok());
}
