//! The features of ISO/IEC 9075-2 by their ids, each with queries whose rows were computed by hand; `docs/sql.md` has the table.

use crate::support::{check_problems, run, session};

/// Feature id, query, rows.
const CASES: &[(&str, &str, &str)] = &[
    // Joins.
    (
        "F401",
        "SELECT b.bed_id, t.task_id FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id AND t.kind = 'pruning' ORDER BY 1",
        "1|NULL; 2|3; 3|NULL; 4|NULL; 5|NULL",
    ),
    (
        "F401",
        "SELECT t.task_id, b.name FROM bed b RIGHT JOIN task t ON t.bed_id = b.bed_id WHERE t.task_id > 4 ORDER BY 1",
        "5|Rose walk; 6|NULL; 7|NULL",
    ),
    (
        "F401",
        "SELECT bed_id, name, task_id FROM bed FULL JOIN task USING (bed_id) ORDER BY bed_id, task_id",
        "1|Fern gully|1; 1|Fern gully|2; 2|Scree|3; 3|Rose walk|4; 3|Rose walk|5; 4|Bog|NULL; 5|100%_lime|NULL; 9|NULL|7; NULL|NULL|6",
    ),
    ("F401", "SELECT COUNT(*) FROM task NATURAL JOIN bed", "5"),
    ("F401", "SELECT COUNT(*) FROM bed a CROSS JOIN bed b", "25"),
    ("F404", "SELECT j.bed_id FROM task JOIN bed USING (bed_id) AS j WHERE task_id = 3", "2"),
    (
        "F401",
        "SELECT b.bed_id, COUNT(t.task_id) FROM bed b LEFT JOIN (task t JOIN bed c ON c.bed_id = t.bed_id) ON t.bed_id < b.bed_id GROUP BY b.bed_id ORDER BY 1",
        "1|0; 2|2; 3|3; 4|5; 5|5",
    ),
    (
        "T491",
        "SELECT b.bed_id, x.n FROM bed b, LATERAL (SELECT COUNT(*) AS n FROM task t WHERE t.bed_id = b.bed_id) AS x ORDER BY 1",
        "1|2; 2|1; 3|2; 4|0; 5|0",
    ),
    (
        "T491",
        "SELECT b.bed_id, x.task_id FROM bed b LEFT JOIN LATERAL (SELECT task_id FROM task t WHERE t.bed_id = b.bed_id ORDER BY task_id DESC FETCH FIRST ROW ONLY) AS x ON TRUE ORDER BY 1",
        "1|2; 2|3; 3|5; 4|NULL; 5|NULL",
    ),
    // Periods; tables with them are in `time.rs`.
    ("T502", "SELECT PERIOD (DATE '2024-01-01', DATE '2024-02-01') CONTAINS DATE '2024-02-01'", "FALSE"),
    (
        "T502",
        "SELECT bed_id FROM bed WHERE PERIOD (opened, DATE '2010-06-15') OVERLAPS PERIOD (DATE '1990-01-01', DATE '2000-03-01')",
        "1; 2",
    ),
    (
        "T502",
        "SELECT bed_id FROM bed WHERE PERIOD (opened, DATE '2010-06-15') IMMEDIATELY PRECEDES PERIOD (DATE '2010-06-15', DATE '2011-01-01') AND bed_id < 3",
        "1; 2",
    ),
    // Grouping.
    (
        "T431",
        "SELECT sun, COUNT(*), GROUPING(sun) FROM bed GROUP BY ROLLUP (sun) ORDER BY 3, 1",
        "full sun|2|0; shade|2|0; NULL|1|0; NULL|5|1",
    ),
    (
        "T431",
        "SELECT kind, done, COUNT(*) FROM task GROUP BY GROUPING SETS ((kind), (done), ()) ORDER BY 1, 2",
        "pruning|NULL|2; watering|NULL|1; weeding|NULL|4; NULL|FALSE|2; NULL|TRUE|4; NULL|NULL|1; NULL|NULL|7",
    ),
    (
        "T431",
        "SELECT GROUPING(kind, done), COUNT(*) FROM task GROUP BY CUBE (kind, done) ORDER BY 1, 2",
        "0|1; 0|1; 0|1; 0|1; 0|1; 0|2; 1|1; 1|2; 1|4; 2|1; 2|2; 2|4; 3|7",
    ),
    ("T432", "SELECT COUNT(*) FROM (SELECT kind FROM task GROUP BY DISTINCT ROLLUP (kind), ROLLUP (kind)) AS x", "4"),
    ("T612", "SELECT COUNT(*) FILTER (WHERE kind = 'weeding'), SUM(hours) FILTER (WHERE done) FROM task", "4|5.25"),
    (
        "E091",
        "SELECT COUNT(DISTINCT kind), SUM(DISTINCT bed_id), MIN(hours), MAX(day) FROM task",
        "3|15|0.75|2024-03-02",
    ),
    ("E091", "SELECT SUM(hours) FROM task HAVING COUNT(*) > 100", ""),
    (
        "T621",
        "SELECT VAR_POP(x), VAR_SAMP(x), STDDEV_POP(x), REGR_SLOPE(y, x), CORR(y, x), REGR_COUNT(y, x), COVAR_POP(y, x) FROM (VALUES (1, 3), (3, 7), (NULL, 1)) AS v (x, y)",
        "1.0|2.0|1.0|2.0|1.0|2|2.0",
    ),
    ("T611", "SELECT EVERY(done), ANY(done), SOME(NOT done) FROM task WHERE task_id < 4", "FALSE|TRUE|TRUE"),
    ("T626", "SELECT ANY_VALUE(kind) FROM task WHERE kind = 'pruning'", "pruning"),
    (
        "T625",
        "SELECT LISTAGG(DISTINCT kind, '+') WITHIN GROUP (ORDER BY kind DESC) FROM task",
        "weeding+watering+pruning",
    ),
    ("S098", "SELECT ARRAY_AGG(bed_id ORDER BY bed_id DESC NULLS LAST) FROM task", "[9, 3, 3, 2, 1, 1, NULL]"),
    (
        "T614",
        "SELECT PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY x), PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY x), MODE() WITHIN GROUP (ORDER BY x) FROM (VALUES (1), (2), (4), (4)) AS v (x)",
        "3.0|2|4",
    ),
    (
        "T612",
        "SELECT RANK(3) WITHIN GROUP (ORDER BY x), DENSE_RANK(3) WITHIN GROUP (ORDER BY x), CUME_DIST(3) WITHIN GROUP (ORDER BY x), PERCENT_RANK(3) WITHIN GROUP (ORDER BY x) FROM (VALUES (1), (1), (3), (5)) AS v (x)",
        "3|2|0.8|0.5",
    ),
    ("T627", "SELECT BIT_AND_AGG(x), BIT_OR_AGG(x) FROM (VALUES (6), (3)) AS v (x)", "2|7"),
    // Windows.
    (
        "T611",
        "SELECT x, RANK() OVER w, DENSE_RANK() OVER w, PERCENT_RANK() OVER w, CUME_DIST() OVER w, ROW_NUMBER() OVER w FROM (VALUES (10), (20), (20), (40)) AS v (x) WINDOW w AS (ORDER BY x) ORDER BY 6",
        "10|1|1|0.0|0.25|1; 20|2|2|0.3333333333333333|0.75|2; 20|2|2|0.3333333333333333|0.75|3; 40|4|3|1.0|1.0|4",
    ),
    ("T614", "SELECT x, NTILE(2) OVER (ORDER BY x) FROM (VALUES (1), (2), (3)) AS v (x) ORDER BY x", "1|1; 2|1; 3|2"),
    (
        "T615",
        "SELECT x, LAG(x) OVER (ORDER BY x), LEAD(x, 2, 0) OVER (ORDER BY x) FROM (VALUES (1), (2), (3)) AS v (x) ORDER BY x",
        "1|NULL|3; 2|1|0; 3|2|0",
    ),
    (
        "T616",
        "SELECT k, LAG(x) IGNORE NULLS OVER (ORDER BY k) FROM (VALUES (1, 5), (2, NULL), (3, NULL), (4, 6)) AS v (k, x) ORDER BY k",
        "1|NULL; 2|5; 3|5; 4|5",
    ),
    (
        "T617",
        "SELECT x, FIRST_VALUE(x) OVER w, LAST_VALUE(x) OVER w FROM (VALUES (1), (2), (3)) AS v (x) WINDOW w AS (ORDER BY x) ORDER BY x",
        "1|1|1; 2|1|2; 3|1|3",
    ),
    (
        "T618",
        "SELECT x, NTH_VALUE(x, 2) FROM LAST OVER (ORDER BY x ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING) FROM (VALUES (1), (2), (3)) AS v (x) ORDER BY x",
        "1|2; 2|2; 3|2",
    ),
    (
        "T612",
        "SELECT x, SUM(x) OVER (ORDER BY x ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING EXCLUDE CURRENT ROW) FROM (VALUES (1), (2), (4)) AS v (x) ORDER BY x",
        "1|2; 2|5; 4|2",
    ),
    (
        "T612",
        "SELECT x, COUNT(*) OVER (ORDER BY x RANGE BETWEEN 2 PRECEDING AND CURRENT ROW) FROM (VALUES (1), (2), (4), (9)) AS v (x) ORDER BY x",
        "1|1; 2|2; 4|2; 9|1",
    ),
    (
        "T612",
        "SELECT d, COUNT(*) OVER (ORDER BY d RANGE BETWEEN INTERVAL '1' MONTH PRECEDING AND CURRENT ROW) FROM (VALUES (DATE '2024-01-31'), (DATE '2024-02-29'), (DATE '2024-04-01')) AS v (d) ORDER BY d",
        "2024-01-31|1; 2024-02-29|2; 2024-04-01|1",
    ),
    (
        "T620",
        "SELECT x, SUM(x) OVER (ORDER BY x GROUPS BETWEEN 1 PRECEDING AND CURRENT ROW) FROM (VALUES (1), (1), (2), (5)) AS v (x) ORDER BY x",
        "1|2; 1|2; 2|4; 5|7",
    ),
    (
        "T619",
        "SELECT kind, SUM(SUM(hours)) OVER (ORDER BY kind) FROM task GROUP BY kind ORDER BY kind",
        "pruning|4.50; watering|5.25; weeding|12.50",
    ),
    // Queries inside queries.
    (
        "E061",
        "SELECT name FROM bed b WHERE EXISTS (SELECT 1 FROM task t WHERE t.bed_id = b.bed_id AND t.hours > 3)",
        "Rose walk",
    ),
    ("E061", "SELECT COUNT(*) FROM bed WHERE bed_id NOT IN (SELECT bed_id FROM task)", "0"),
    ("E061", "SELECT COUNT(*) FROM bed WHERE bed_id NOT IN (SELECT bed_id FROM task WHERE bed_id IS NOT NULL)", "2"),
    ("E061", "SELECT bed_id IN (SELECT bed_id FROM task) FROM bed ORDER BY bed_id", "TRUE; TRUE; TRUE; NULL; NULL"),
    ("E061", "SELECT bed_id FROM bed WHERE area >= ALL (SELECT area FROM bed WHERE area IS NOT NULL)", "4"),
    ("E061", "SELECT 1 = ANY (SELECT 1 FROM bed WHERE FALSE), 1 = ALL (SELECT 2 FROM bed WHERE FALSE)", "FALSE|TRUE"),
    (
        "F291",
        "SELECT UNIQUE (SELECT bed_id FROM task), UNIQUE (SELECT task_id FROM task), UNIQUE (SELECT sun FROM bed WHERE sun IS NULL)",
        "FALSE|TRUE|TRUE",
    ),
    (
        "F641",
        "SELECT (1, 2) < (1, 3), (1, NULL) = (2, 3), (1, NULL) = (1, 3), (bed_id, sun) IN (SELECT bed_id, sun FROM bed) FROM bed WHERE bed_id = 1",
        "TRUE|FALSE|NULL|TRUE",
    ),
    (
        "T501",
        "SELECT name, (SELECT MAX(t.hours) FROM task t WHERE t.bed_id = b.bed_id) FROM bed b ORDER BY b.bed_id",
        "Fern gully|2.00; Scree|1.50; Rose walk|4.25; Bog|NULL; 100%_lime|NULL",
    ),
    (
        "T501",
        "SELECT sun, (SELECT COUNT(*) FROM task t WHERE t.bed_id = MAX(b.bed_id)) FROM bed b GROUP BY sun ORDER BY 1",
        "full sun|2; shade|0; NULL|0",
    ),
    ("F471", "SELECT CASE WHEN bed_id = 99 THEN (SELECT bed_id FROM task) ELSE 0 END FROM bed WHERE bed_id = 1", "0"),
    ("F591", "SELECT x.a + x.b FROM (SELECT 1, 2) AS x (a, b)", "3"),
    ("F641", "SELECT * FROM (VALUES (1, 'a'), (2, 'b')) AS v (n, t)", "1|a; 2|b"),
    // Set operators.
    ("E071", "SELECT bed_id FROM task WHERE bed_id < 3 UNION ALL SELECT 2 ORDER BY 1", "1; 1; 2; 2"),
    ("E071", "SELECT bed_id FROM bed EXCEPT SELECT bed_id FROM task ORDER BY 1", "4; 5"),
    ("F302", "SELECT sun FROM bed INTERSECT SELECT 'shade'", "shade"),
    ("F304", "SELECT x FROM (VALUES (1), (1), (1), (2)) AS v (x) EXCEPT ALL SELECT 1 ORDER BY 1", "1; 1; 2"),
    ("F302", "SELECT x FROM (VALUES (1), (1), (2)) AS v (x) INTERSECT ALL (VALUES (1), (1), (1)) ORDER BY 1", "1; 1"),
    ("E071", "SELECT 1 UNION SELECT 2 INTERSECT SELECT 3", "1"),
    (
        "F301",
        "SELECT bed_id, name FROM bed WHERE bed_id = 1 UNION ALL CORRESPONDING SELECT name, bed_id, sun FROM bed WHERE bed_id = 2",
        "1|Fern gully; 2|Scree",
    ),
    (
        "F850",
        "(SELECT bed_id FROM bed ORDER BY bed_id DESC FETCH FIRST 1 ROW ONLY) UNION ALL (SELECT bed_id FROM bed ORDER BY bed_id FETCH FIRST 1 ROW ONLY)",
        "5; 1",
    ),
    ("F867", "SELECT kind FROM task ORDER BY kind FETCH FIRST 1 ROWS WITH TIES", "pruning; pruning"),
    ("F866", "SELECT task_id FROM task ORDER BY task_id FETCH FIRST 30 PERCENT ROWS ONLY", "1; 2; 3"),
    // CASE.
    (
        "F262",
        "SELECT CASE bed_id WHEN > 4 THEN 'last' WHEN 1, 2 THEN 'first' WHEN BETWEEN 3 AND 3 THEN 'middle' END FROM bed ORDER BY bed_id",
        "first; first; middle; NULL; last",
    ),
    // WITH and recursion.
    ("T121", "WITH a (x) AS (SELECT 1), b AS (SELECT x + 1 AS y FROM a) SELECT a.x, b.y FROM a, b, a AS c", "1|2"),
    (
        "T131",
        "WITH RECURSIVE n (i) AS (VALUES (1) UNION ALL SELECT i + 1 FROM n WHERE i < 4) SELECT SUM(i) FROM n",
        "10",
    ),
    (
        "T131",
        "WITH RECURSIVE way (a, b) AS (VALUES (1, 2), (2, 3), (3, 1)), r (a) AS (VALUES (1) UNION SELECT b FROM way JOIN r USING (a)) SELECT LISTAGG(CAST(a AS VARCHAR(9)), ',') WITHIN GROUP (ORDER BY a) FROM r",
        "1,2,3",
    ),
    (
        "T131",
        "WITH RECURSIVE path (n, text) AS (SELECT 1, 'a' UNION ALL SELECT n + 1, text || '>b' FROM path WHERE n < 3) SELECT text FROM path ORDER BY n",
        "a; a>b; a>b>b",
    ),
    (
        "T131",
        "WITH RECURSIVE even (n) AS (VALUES (0) UNION ALL SELECT n + 1 FROM odd WHERE n < 5), odd (n) AS (SELECT n + 1 FROM even WHERE n < 5) SELECT n FROM even ORDER BY n",
        "0; 2; 4",
    ),
    (
        "T133",
        "WITH RECURSIVE way (a, b) AS (VALUES (1, 2), (1, 3), (2, 4)), r (a) AS (VALUES (1) UNION ALL SELECT b FROM way JOIN r USING (a)) SEARCH DEPTH FIRST BY a SET place SELECT a FROM r ORDER BY place",
        "1; 2; 4; 3",
    ),
    (
        "T133",
        "WITH RECURSIVE way (a, b) AS (VALUES (1, 2), (1, 3), (2, 4)), r (a) AS (VALUES (1) UNION ALL SELECT b FROM way JOIN r USING (a)) SEARCH BREADTH FIRST BY a SET place SELECT a FROM r ORDER BY place",
        "1; 2; 3; 4",
    ),
    (
        "T133",
        "WITH RECURSIVE way (a, b) AS (VALUES (1, 2), (2, 1)), r (a) AS (VALUES (1) UNION ALL SELECT b FROM way JOIN r USING (a)) CYCLE a SET again TO 'Y' DEFAULT 'N' USING path SELECT a, again, CARDINALITY(path) FROM r ORDER BY 3",
        "1|N|1; 2|N|2; 1|Y|3",
    ),
    // Functions and types.
    (
        "E021",
        "SELECT SUBSTRING('garden' FROM 2 FOR 3), SUBSTRING('garden' FROM 0 FOR 2), POSITION('de' IN 'garden'), CHAR_LENGTH('Bäume'), OCTET_LENGTH('Bäume'), UPPER('Bäume'), TRIM(LEADING '0' FROM '007')",
        "ard|g|4|5|6|BÄUME|7",
    ),
    ("T312", "SELECT OVERLAY('abcdef' PLACING 'X' FROM 2 FOR 3), OVERLAY('abc' PLACING 'xy' FROM 2)", "aXef|axy"),
    (
        "T054",
        "SELECT GREATEST(1, 3, 2), LEAST('b', 'a'), GREATEST(1, NULL), LPAD('7', 3, '0'), RPAD('ab', 1), BTRIM('xyax', 'xy')",
        "3|a|NULL|007|a|a",
    ),
    (
        "T141",
        "SELECT 'fern' SIMILAR TO 'f(e|i)%n', 'fern' SIMILAR TO 'f_', 'a.c' SIMILAR TO 'a.c', 'abc' SIMILAR TO 'a.c', 'x9' SIMILAR TO '[[:ALPHA:]][0-9]+'",
        "TRUE|FALSE|TRUE|FALSE|TRUE",
    ),
    (
        "F841",
        "SELECT 'Fern' LIKE_REGEX '^f.*n$' FLAG 'i', OCCURRENCES_REGEX('a' IN 'banana'), POSITION_REGEX('n' IN 'banana' OCCURRENCE 2), SUBSTRING_REGEX('[an]+' IN 'banana'), TRANSLATE_REGEX('a' IN 'banana' WITH 'o' OCCURRENCE 2)",
        "TRUE|3|5|anana|banona",
    ),
    ("T061", "SELECT NORMALIZE('e' || '́') = 'é', TRANSLATE('Bäume' USING WITHOUT_MARKS)", "TRUE|Baume"),
    ("T441", "SELECT ABS(-3), MOD(-7, 3), ABS(-1.5)", "3|-1|1.5"),
    (
        "T621",
        "SELECT CEILING(1.2), FLOOR(-1.2), ROUND(2.45, 1), TRUNCATE(-2.49, 1), POWER(2, 10), SQRT(16), LN(1), EXP(0), LOG(2, 8), LOG10(1000)",
        "2|-2|2.5|-2.4|1024.0|4.0|0.0|1.0|3.0|3.0",
    ),
    ("T622", "SELECT SIN(0), COS(0), ATAN(0), COSH(0)", "0.0|1.0|0.0|1.0"),
    (
        "T623",
        "SELECT WIDTH_BUCKET(5, 0, 10, 5), WIDTH_BUCKET(-1, 0, 10, 5), WIDTH_BUCKET(10, 0, 10, 5), WIDTH_BUCKET(2, 10, 0, 5)",
        "3|0|6|5",
    ),
    (
        "F052",
        "SELECT EXTRACT(MONTH FROM DATE '2024-02-29'), EXTRACT(SECOND FROM TIME '01:02:03.5'), EXTRACT(DAY FROM INTERVAL '3 04' DAY TO HOUR), (DATE '2024-03-01' - DATE '2024-01-31') MONTH",
        "2|3.500000|3|0-01",
    ),
    (
        "F053",
        "SELECT (DATE '2024-01-01', DATE '2024-02-01') OVERLAPS (DATE '2024-01-31', INTERVAL '1' DAY), (DATE '2024-01-01', DATE '2024-02-01') OVERLAPS (DATE '2024-02-01', DATE '2024-03-01')",
        "TRUE|FALSE",
    ),
    (
        "F411",
        "SELECT TIMESTAMP '2024-01-01 12:00:00+02:00', TIMESTAMP '2024-01-01 12:00:00' AT TIME ZONE '+02:00', TIMESTAMP '2024-01-01 10:00:00+00:00' AT TIME ZONE INTERVAL '2' HOUR",
        "2024-01-01 10:00:00+00:00|2024-01-01 12:00:00+00:00|2024-01-01 10:00:00+00:00",
    ),
    (
        "T839",
        "SELECT CAST(DATE '2024-02-29' AS VARCHAR(20) FORMAT 'DD.MM.YYYY'), CAST('29/02/2024' AS DATE FORMAT 'DD/MM/YYYY')",
        "29.02.2024|2024-02-29",
    ),
    (
        "S091",
        "SELECT ARRAY[3, 1][1], CARDINALITY(ARRAY[1, 2]), ARRAY[1] || ARRAY[2, 3], TRIM_ARRAY(ARRAY[1, 2, 3], 2), ARRAY(SELECT bed_id FROM bed WHERE bed_id < 3 ORDER BY bed_id DESC)",
        "3|2|[1, 2, 3]|[1]|[2, 1]",
    ),
    ("S301", "SELECT x, n FROM UNNEST(ARRAY['a', 'b']) WITH ORDINALITY AS u (x, n)", "a|1; b|2"),
    (
        "T051",
        "SELECT CAST(ROW(1, 'a') AS ROW(n INTEGER, t VARCHAR(5))), (CAST(ROW(1, 'a') AS ROW(n INTEGER, t VARCHAR(5)))).t",
        "(1, 'a')|a",
    ),
    (
        "T021",
        "SELECT X'0aFF' || X'01', OCTET_LENGTH(X'0aFF'), CAST(X'01' AS BINARY(3)), SUBSTRING(X'010203' FROM 2)",
        "0AFF01|2|010000|0203",
    ),
    ("E021", "SELECT CAST('ab' AS CHAR(4)) || '|', CAST('ab' AS CHAR(4)) = 'ab'", "ab  ||TRUE"),
    // Of our own.
    (
        "UUID",
        "SELECT UUID 'F81D4FAE-7DEC-11D0-A765-00A0C91E6BF6', CAST(UUID 'f81d4fae-7dec-11d0-a765-00a0c91e6bf6' AS BINARY(16))",
        "f81d4fae-7dec-11d0-a765-00a0c91e6bf6|F81D4FAE7DEC11D0A76500A0C91E6BF6",
    ),
    (
        "IPADDRESS",
        "SELECT IPADDRESS '192.0.2.1' = IPADDRESS '::ffff:192.0.2.1', CAST('2001:DB8::1' AS IPADDRESS)",
        "TRUE|2001:db8::1",
    ),
    (
        "SERIES",
        "SELECT LISTAGG(CAST(value AS VARCHAR(20)), ' ') WITHIN GROUP (ORDER BY value) FROM SERIES(DATE '2024-01-31', DATE '2024-04-30', INTERVAL '1' MONTH)",
        "2024-01-31 2024-02-29 2024-03-31 2024-04-30",
    ),
    ("SERIES", "SELECT value FROM SERIES(3, 1, -1)", "3; 2; 1"),
    // Information schema.
    (
        "F021",
        "SELECT COLUMN_NAME, DATA_TYPE FROM INFORMATION_SCHEMA.COLUMNS WHERE TABLE_NAME = 'bed' AND ORDINAL_POSITION < 3",
        "bed_id|INTEGER; name|VARCHAR",
    ),
    (
        "F021",
        "SELECT TABLE_SCHEMA, TABLE_NAME FROM INFORMATION_SCHEMA.TABLES WHERE TABLE_TYPE = 'BASE TABLE' ORDER BY 1, 2",
        "archive|old_bed; home|bed; home|task",
    ),
];

#[test]
fn features_by_their_ids() {
    let mut session = session();
    let mut wrong = Vec::new();
    for (id, sql, expected) in CASES {
        match run(&mut session, sql) {
            Ok(found) if found == *expected => {}
            Ok(found) => wrong.push(format!("{id} {sql}\n  expected {expected}\n  found    {found}")),
            Err(error) => wrong.push(format!("{id} {sql}\n  {error}")),
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
#[expect(clippy::too_many_lines, reason = "a table")]
fn broken_rules_say_what_to_write() {
    check_problems(&[
        (
            "SELECT (SELECT bed_id FROM bed)",
            "21000",
            "(SELECT bed_id FROM bed)",
            "more than one row … FETCH FIRST ROW ONLY",
        ),
        (
            "SELECT bed_id, sun FROM bed UNION SELECT bed_id FROM bed",
            "42000",
            "UNION",
            "2 columns in query 1 with 1 in query 2 … sun VARCHAR    | —   <-- here … same columns",
        ),
        (
            "SELECT bed_id FROM bed UNION SELECT name FROM bed",
            "42000",
            "UNION",
            "column 1 has no common type … bed_id INTEGER | name VARCHAR   <-- here … CAST(name AS INTEGER)",
        ),
        (
            "SELECT 1 WHERE ROW_NUMBER() OVER () = 1",
            "42000",
            "ROW_NUMBER() OVER ()",
            "WITH placed AS (SELECT ROW_NUMBER() OVER () AS place) SELECT * FROM placed WHERE place",
        ),
        (
            "SELECT name FROM bed WHERE RANK() OVER (ORDER BY area) = 1",
            "42000",
            "RANK() OVER (ORDER BY area)",
            "can't be used in WHERE … WITH placed AS (SELECT *, RANK() OVER (ORDER BY area) AS place FROM bed) SELECT * FROM placed WHERE place",
        ),
        ("SELECT ROW_NUMBER() FROM bed", "42000", "ROW_NUMBER()", "needs OVER"),
        ("SELECT RANK() OVER () FROM bed", "42000", "RANK() OVER ()", "needs ORDER BY in its window"),
        ("SELECT SUM(area) OVER w FROM bed", "42000", "w", "no window \"w\""),
        (
            "SELECT SUM(area) OVER (ORDER BY bed_id ROWS BETWEEN CURRENT ROW AND 1 PRECEDING) FROM bed",
            "42000",
            "ROWS BETWEEN CURRENT ROW AND 1 PRECEDING",
            "ends before it begins",
        ),
        ("WITH a AS (SELECT 1)", "42000", "", "nothing uses it … SELECT * FROM a"),
        (
            "WITH a (x, y, z) AS (SELECT 1, 2) SELECT * FROM a",
            "42000",
            "x, y, z",
            "3 names for 2 columns … z left over",
        ),
        ("WITH a AS (SELECT * FROM a) SELECT * FROM a", "42000", "a", "WITH RECURSIVE a"),
        ("WITH RECURSIVE r (n) AS (SELECT n FROM r) SELECT * FROM r", "42000", "r", "no query to begin with"),
        (
            "WITH RECURSIVE r (n) AS (VALUES (1) UNION ALL SELECT COUNT(*) FROM r) SELECT * FROM r",
            "42000",
            "r",
            "a grouping or an aggregate",
        ),
        (
            "WITH RECURSIVE r (n) AS (VALUES (1) UNION ALL SELECT b.bed_id FROM bed b LEFT JOIN r ON r.n = b.bed_id) SELECT * FROM r",
            "42000",
            "r",
            "filled up with NULLs",
        ),
        (
            "WITH RECURSIVE r (n) AS (VALUES (1) UNION ALL SELECT bed_id FROM bed WHERE bed_id NOT IN (SELECT n FROM r)) SELECT * FROM r",
            "42000",
            "r",
            "NOT IN or NOT EXISTS",
        ),
        (
            "WITH RECURSIVE r (n) AS (VALUES (1) UNION ALL (SELECT bed_id FROM bed EXCEPT SELECT n FROM r)) SELECT * FROM r",
            "42000",
            "EXCEPT",
            "EXCEPT",
        ),
        (
            "WITH RECURSIVE r (n) AS (VALUES (1) UNION ALL SELECT n FROM r) SELECT * FROM r",
            "R0001",
            "r",
            "not ended after 1000 rounds; the last rows found: n = 1 … CYCLE n SET",
        ),
        (
            "SELECT bed_id IN (SELECT bed_id, name FROM bed) FROM bed",
            "42000",
            "SELECT bed_id, name FROM bed",
            "gives 2 columns, 1 wanted",
        ),
        ("SELECT sun, GROUPING(name) FROM bed GROUP BY sun", "42000", "name", "GROUPING takes what is grouped by"),
        (
            "SELECT PERCENTILE_CONT(2) WITHIN GROUP (ORDER BY area) FROM bed",
            "22003",
            "PERCENTILE_CONT(2) WITHIN GROUP (ORDER BY area)",
            "between 0 and 1",
        ),
        ("SELECT ARRAY[1][2]", "2202E", "ARRAY[1][2]", "1 elements, there is none at 2"),
        ("SELECT LN(0)", "2201E", "LN(0)", "no logarithm"),
        ("SELECT 'a' LIKE_REGEX '('", "2201B", "'a' LIKE_REGEX '('", "not a regular expression"),
        (
            "SELECT CAST('192.0.2.300' AS IPADDRESS)",
            "22018",
            "CAST('192.0.2.300' AS IPADDRESS)",
            "'192.0.2.300' is not a valid IPADDRESS",
        ),
        (
            "SELECT EXTRACT(HOUR FROM DATE '2024-01-01')",
            "42000",
            "EXTRACT(HOUR FROM DATE '2024-01-01')",
            "DATE has no HOUR",
        ),
        (
            "SELECT NTILE(0) OVER (ORDER BY bed_id) FROM bed",
            "22014",
            "NTILE(0) OVER (ORDER BY bed_id)",
            "at least one part",
        ),
    ]);
}

#[test]
fn notes_tell_what_was_probably_not_meant() {
    for (sql, code) in [
        ("WITH a AS (SELECT 1) SELECT 2", "unused-step"),
        // Of two that find each other's rows one is enough.
        (
            "WITH RECURSIVE even (n) AS (SELECT 0 UNION ALL SELECT n + 1 FROM odd WHERE n < 6), \
             odd (n) AS (SELECT n + 1 FROM even WHERE n < 6) SELECT n FROM even",
            "",
        ),
        (
            "WITH RECURSIVE even (n) AS (SELECT 0 UNION ALL SELECT n + 1 FROM even WHERE n < 6), \
             odd (n) AS (SELECT n + 1 FROM even) SELECT n FROM even",
            "unused-step",
        ),
        ("SELECT bed_id, name AS sun, sun AS name FROM bed UNION ALL SELECT bed_id, sun, name FROM bed", ""),
        ("SELECT bed_id, name, sun FROM bed UNION ALL SELECT bed_id, sun, name FROM bed", "mixed-columns"),
        ("SELECT 1 FROM (SELECT 1 AS a) AS x NATURAL JOIN (SELECT 2 AS b) AS y", "natural-without-columns"),
    ] {
        let rows = session().query(sql, ()).unwrap();
        let codes: Vec<String> = rows.notes().iter().map(|note| note.code.to_string()).collect();
        let expected: Vec<&str> = if code.is_empty() { Vec::new() } else { vec![code] };
        assert_eq!(codes, expected, "{sql}");
    }
}

#[test]
fn dependent_queries_become_joins() {
    let mut session = session();
    for (sql, kinds) in [
        ("SELECT name FROM bed b WHERE EXISTS (SELECT 1 FROM task t WHERE t.bed_id = b.bed_id)", vec!["semi"]),
        ("SELECT name FROM bed b WHERE NOT EXISTS (SELECT 1 FROM task t WHERE t.bed_id = b.bed_id)", vec!["anti"]),
        ("SELECT name FROM bed WHERE bed_id NOT IN (SELECT bed_id FROM task)", vec!["anti"]),
        ("SELECT bed_id IN (SELECT bed_id FROM task) FROM bed", vec!["mark"]),
        ("SELECT (SELECT task_id FROM task t WHERE t.bed_id = b.bed_id) FROM bed b", vec!["single"]),
        ("SELECT (SELECT COUNT(*) FROM task t WHERE t.bed_id = b.bed_id) FROM bed b", vec!["left"]),
        ("SELECT b.name FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id WHERE t.hours > 1", vec!["inner"]),
    ] {
        let plan = session.plan(sql, ()).unwrap();
        let found: Vec<&str> = plan.nodes().iter().filter_map(|node| node.kind).map(|kind| kind.name()).collect();
        assert_eq!(found, kinds, "{sql}");
        assert!(plan.nodes().iter().all(|node| node.operator.name() != "nested-loop join"), "{sql}");
    }
}

/// Each was wrong once.
#[test]
fn dependent_queries_in_odd_places() {
    crate::support::check_rows(&[
        // A column from outside as the column, or the grouping key, of an inner query.
        ("SELECT bed_id FROM bed b WHERE 2 < ALL (SELECT b.bed_id) ORDER BY 1", "3; 4; 5"),
        ("SELECT (SELECT COUNT(*) FROM task GROUP BY b.bed_id) FROM bed b WHERE bed_id = 1", "7"),
        // ON of an outer join with a query, also when the right side is lateral.
        ("SELECT COUNT(a.bed_id) FROM task t LEFT JOIN bed a ON t.bed_id = a.bed_id AND 1 NOT IN (SELECT ABS(2))", "5"),
        (
            "SELECT COUNT(x.n) FROM bed b LEFT JOIN LATERAL (SELECT b.bed_id AS n) AS x \
             ON x.n IN (SELECT bed_id FROM task WHERE task_id = b.bed_id)",
            "1",
        ),
        // An operand that is compared twice holds a query.
        ("SELECT 1 WHERE (SELECT MAX(bed_id) FROM bed) BETWEEN 1 AND 5", "1"),
        ("SELECT 1 WHERE CASE WHEN 9 NOT IN (SELECT bed_id FROM bed) THEN 2 END BETWEEN 1 AND 2", "1"),
        // A recursion whose branch joins a table without rows.
        (
            "WITH RECURSIVE r (n) AS (VALUES (1) UNION ALL SELECT r.n FROM r JOIN (SELECT 1 AS n FROM bed WHERE bed_id > 9) \
             AS x ON x.n = r.n) SELECT * FROM r",
            "1",
        ),
        // Two matches of one row are reported where the value is used, and nowhere else.
        (
            "SELECT COUNT(*) FROM (SELECT CASE WHEN b.bed_id > 9 THEN (SELECT task_id FROM task t WHERE t.bed_id = b.bed_id) \
             END AS x FROM bed b) AS y",
            "5",
        ),
    ]);
}
