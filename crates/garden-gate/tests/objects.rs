//! Sequences, domains, table functions and comments. What each statement comes to was computed by hand.

use crate::random_queries::Draw;
use crate::story::{check, tell};
use garden_gate::{Database, Parameters};

#[test]
fn a_sequence_numbers_rows() {
    tell(&[
        ("CREATE SEQUENCE s START WITH 5 INCREMENT BY 5", ""),
        ("CREATE SEQUENCE s", "!42000 sequence \"s\" already"),
        ("CREATE SEQUENCE IF NOT EXISTS s", ""),
        ("SELECT NEXT VALUE FOR s", "=5"),
        // One number a row, however often it is named.
        ("SELECT n, NEXT VALUE FOR s, NEXT VALUE FOR s + 1 FROM SERIES(1, 2) AS x (n)", "=1|10|11; 2|15|16"),
        ("SELECT COUNT(*) AS n, NEXT VALUE FOR s FROM SERIES(1, 9) AS x (n) HAVING COUNT(*) > 9", "="),
        (
            "SELECT MOD(n, 2) AS odd, NEXT VALUE FOR s FROM SERIES(1, 4) AS x (n) GROUP BY MOD(n, 2) ORDER BY odd",
            "=0|25; 1|20",
        ),
        ("VALUES (NEXT VALUE FOR s)", "!42000"),
        ("ALTER SEQUENCE s RESTART WITH 100 INCREMENT BY -50 MINVALUE 0", ""),
        ("SELECT NEXT VALUE FOR s FROM SERIES(1, 3) AS x (n)", "=100; 50; 0"),
        ("SELECT NEXT VALUE FOR s", "!2200H no number left … ALTER SEQUENCE"),
        ("ALTER SEQUENCE s MAXVALUE 4", "!42000 can't start with 5 between 0 and 4"),
        ("ALTER SEQUENCE s CYCLE MAXVALUE 7 RESTART WITH 9", "!42000 can't start with 9 between 0 and 7"),
        ("ALTER SEQUENCE s RESTART START WITH 7 CYCLE MAXVALUE 7 INCREMENT BY -4", ""),
        ("SELECT NEXT VALUE FOR s FROM SERIES(1, 4) AS x (n)", "=7; 3; 7; 3"),
        ("CREATE SEQUENCE t AS SMALLINT MAXVALUE 40000", "!42000 as SMALLINT"),
        ("CREATE SEQUENCE t AS VARCHAR(3)", "!42000 integers"),
        ("CREATE SEQUENCE t INCREMENT BY 0", "!42000 BY 0"),
        ("ALTER SEQUENCE t RESTART", "!42000 no sequence \"t\""),
        ("DROP SEQUENCE IF EXISTS t", ""),
        ("DROP SEQUENCE t", "!42000 no sequence \"t\""),
        ("DROP SEQUENCE s", ""),
        ("SELECT NEXT VALUE FOR s", "!42000 no sequence \"s\""),
    ]);
}

#[test]
fn a_sequence_fills_columns() {
    tell(&[
        ("CREATE SEQUENCE s", ""),
        (
            "CREATE TABLE t (id BIGINT DEFAULT NEXT VALUE FOR s PRIMARY KEY, name VARCHAR(9), twice BIGINT GENERATED ALWAYS AS (id * 2))",
            "",
        ),
        ("INSERT INTO t (name) VALUES ('a'), ('b')", "2"),
        ("INSERT INTO t (id, name) VALUES (DEFAULT, 'c'), (NEXT VALUE FOR s * 10, 'd'), (7, 'e')", "3"),
        ("INSERT INTO t (name) SELECT name || name FROM t WHERE id < 3 ORDER BY id", "2"),
        ("INSERT INTO t (id, name) SELECT NEXT VALUE FOR s, 'z' FROM t WHERE id = 1", "!23000 primary key id = 7"),
        ("INSERT INTO t DEFAULT VALUES", "1"),
        ("TABLE t", "=1|a|2; 2|b|4; 3|c|6; 40|d|80; 7|e|14; 5|aa|10; 6|bb|12; 8|NULL|16"),
    ]);
}

#[test]
fn numbers_stay_taken() {
    tell(&[
        ("CREATE SEQUENCE s", ""),
        ("CREATE TABLE t (id BIGINT DEFAULT NEXT VALUE FOR s, n INTEGER CHECK (n > 0))", ""),
        ("INSERT INTO t (n) VALUES (0)", "!23000"),
        ("START TRANSACTION", ""),
        ("INSERT INTO t (n) VALUES (1)", "1"),
        ("ROLLBACK", ""),
        ("INSERT INTO t (n) VALUES (1) RETURNING id", "=3"),
        ("UPDATE t SET id = NEXT VALUE FOR s, n = NEXT VALUE FOR s RETURNING id, n", "=4|4"),
        (
            "MERGE INTO t USING (VALUES 4, 9) AS v (k) ON t.id = v.k WHEN MATCHED THEN UPDATE SET n = k \
             WHEN NOT MATCHED THEN INSERT VALUES (DEFAULT, k)",
            "2",
        ),
        ("SELECT id IN (5, 6), n FROM t ORDER BY n", "=FALSE|4; TRUE|9"),
        ("START TRANSACTION READ ONLY", ""),
        ("SELECT NEXT VALUE FOR s", "!25006"),
        ("ROLLBACK", ""),
        ("DROP SEQUENCE s", "!42000 the default of column \"id\" of table \"t\" depends … CASCADE"),
        ("DROP SEQUENCE s CASCADE", ""),
        ("INSERT INTO t (n) VALUES (5) RETURNING id", "=NULL"),
    ]);
    for (sql, words) in [
        ("SELECT 1 WHERE NEXT VALUE FOR s = 1", "WHERE"),
        ("SELECT * FROM (SELECT NEXT VALUE FOR s) AS t", "in a query inside another"),
        ("SELECT (SELECT NEXT VALUE FOR s)", "in a query inside another"),
        ("SELECT SUM(NEXT VALUE FOR s)", "the argument of an aggregate"),
        ("CREATE VIEW v AS SELECT NEXT VALUE FOR s AS n", "in a query inside another"),
        ("CREATE TABLE u (a INTEGER CHECK (a < NEXT VALUE FOR s))", "CHECK can't use"),
        ("CREATE TABLE u (a INTEGER GENERATED ALWAYS AS (NEXT VALUE FOR s))", "a generated column can't use"),
        ("CREATE TABLE u (a INTEGER DEFAULT NEXT VALUE FOR q)", "no sequence \"q\""),
    ] {
        tell(&[("CREATE SEQUENCE s", ""), (sql, &format!("!42000 {words}"))]);
    }
}

#[test]
fn a_domain_that_is_altered_reaches_its_columns() {
    tell(&[
        ("CREATE DOMAIN area AS NUMERIC(5,2) CHECK (VALUE > 0)", ""),
        ("CREATE TABLE bed (id INTEGER, size area, own area DEFAULT 7)", ""),
        ("ALTER DOMAIN area SET DEFAULT 2.5", ""),
        ("INSERT INTO bed (id) VALUES (1)", "1"),
        ("TABLE bed", "=1|2.50|7.00"),
        ("ALTER DOMAIN area ADD CONSTRAINT small CHECK (VALUE < 3)", "!23000 \"own\" < 3"),
        ("UPDATE bed SET own = 1", "1"),
        ("ALTER DOMAIN area ADD CONSTRAINT small CHECK (VALUE < 3)", ""),
        ("ALTER DOMAIN area ADD CONSTRAINT small CHECK (VALUE < 4)", "!42000 two constraints"),
        ("ALTER DOMAIN area ADD CHECK (VALUE <> 1.25)", ""),
        ("UPDATE bed SET size = 5", "!23000 bed_size_small"),
        ("UPDATE bed SET own = 1.25", "!23000 \"own\" <> 1.25"),
        ("ALTER DOMAIN area DROP CONSTRAINT small", ""),
        ("ALTER DOMAIN area DROP CONSTRAINT tiny", "!42000 no constraint \"tiny\" … check"),
        ("UPDATE bed SET size = 5", "1"),
        ("ALTER DOMAIN area DROP DEFAULT", ""),
        ("INSERT INTO bed (id) VALUES (2)", "1"),
        ("SELECT size, own FROM bed WHERE id = 2", "=NULL|7.00"),
        ("ALTER DOMAIN nothing DROP DEFAULT", "!42000 no domain \"nothing\""),
    ]);
}

#[test]
fn a_cast_to_a_domain_keeps_its_conditions() {
    tell(&[
        ("CREATE DOMAIN share AS NUMERIC(3,2) NOT NULL CONSTRAINT whole CHECK (VALUE <= 1) CHECK (VALUE >= 0)", ""),
        ("SELECT CAST('0.256' AS share), CAST(1 AS share) + 1", "=0.26|2.00"),
        ("SELECT CAST(n AS share) FROM (VALUES (0), (2)) AS v (n)", "!23000 breaks whole of domain \"share\""),
        ("SELECT CAST(n AS share) FROM (VALUES (0), (-0.5)) AS v (n)", "!23000 check_2"),
        ("SELECT CAST(NULL AS share)", "!23000 NOT NULL"),
        ("SELECT CAST('x' AS share)", "!22018"),
        ("SELECT n FROM (VALUES (0), (2)) AS v (n) WHERE CASE WHEN n < 1 THEN CAST(n AS share) END = 0", "=0"),
        ("SELECT CAST(1 AS shar)", "!42000 \"shar\" is neither a type nor a domain … share"),
        // The names of its conditions are not those of the query around.
        ("CREATE DOMAIN even AS INTEGER CHECK (MOD(VALUE, 2) = 0)", ""),
        ("SELECT value, CAST(value AS even) FROM (VALUES (4)) AS v (value)", "=4|4"),
        ("SELECT CAST(value AS even) FROM (VALUES (NULL), (5)) AS v (value)", "!23000"),
        ("SELECT CAST(CAST(NULL AS INTEGER) AS even)", "=NULL"),
    ]);
}

#[test]
fn a_domain_lends_its_type_and_conditions() {
    tell(&[
        (
            "CREATE DOMAIN area AS NUMERIC(5,2) DEFAULT 1.5 CONSTRAINT positive CHECK (VALUE > 0) CHECK (VALUE < 500)",
            "",
        ),
        ("CREATE DOMAIN code AS CHAR(2) NOT NULL", ""),
        ("CREATE TABLE bed (id INTEGER, size area, spare area DEFAULT 2, c code)", ""),
        ("INSERT INTO bed (id, c) VALUES (1, 'ab')", "1"),
        ("INSERT INTO bed VALUES (2, NULL, 3, 'cd')", "1"),
        ("TABLE bed", "=1|1.50|2.00|ab; 2|NULL|3.00|cd"),
        ("INSERT INTO bed VALUES (3, 0, 1, 'x')", "!23000 bed_size_positive"),
        ("INSERT INTO bed VALUES (3, 1, 500, 'x')", "!23000 bed_spare_check_2"),
        ("INSERT INTO bed VALUES (3, 1, 1, NULL)", "!23000 column \"c\""),
        ("INSERT INTO bed VALUES (3, 1000, 1, 'x')", "!22003"),
        ("ALTER TABLE bed ADD COLUMN other area", ""),
        ("SELECT other FROM bed WHERE id = 2", "=1.50"),
        ("DROP DOMAIN area", "!42000 column \"size\" of table \"bed\" has the domain"),
        ("DROP DOMAIN area CASCADE", ""),
        ("UPDATE bed SET size = -1", "!23000 positive"),
        ("CREATE TABLE t (a area)", "!42000 \"area\" is neither a type nor a domain"),
        ("CREATE TABLE t (a intger)", "!42000 did you mean \"INTEGER\""),
        ("CREATE DOMAIN d AS INTEGER DEFAULT 'x'", "!42000 is INTEGER, the value is VARCHAR"),
        ("CREATE DOMAIN d AS INTEGER CHECK (VALUE > (SELECT 1))", "!42000 query"),
        ("CREATE DOMAIN d AS INTEGER CHECK (other > 1)", "!42S22"),
        ("CREATE DOMAIN code AS INTEGER", "!42000 domain \"code\" already"),
        ("SELECT DOMAIN_NAME, DATA_TYPE FROM INFORMATION_SCHEMA.DOMAINS", "=code|CHAR(2)"),
    ]);
}

#[test]
fn a_table_function_is_a_query_with_parameters() {
    let mut session = tell(&[
        ("CREATE TABLE bed (id INTEGER PRIMARY KEY, above INTEGER, area NUMERIC(5,2))", ""),
        ("INSERT INTO bed VALUES (1, NULL, 10), (2, 1, 20), (3, 1, 30), (4, 3, 40)", "4"),
        (
            "CREATE FUNCTION larger (least NUMERIC(5,2), factor INTEGER) RETURNS TABLE (bed INTEGER, area NUMERIC(9,2)) \
             RETURN SELECT id, area * factor FROM bed WHERE area > least",
            "",
        ),
        ("SELECT * FROM larger(25, 2) ORDER BY bed", "=3|60.00; 4|80.00"),
        ("SELECT l.bed FROM TABLE(larger(35, 1)) AS l", "=4"),
        ("SELECT n FROM larger(25, 2) AS x (n, a) WHERE a < 70", "=3"),
        // Arguments from the row to the left, and from a query.
        (
            "SELECT b.id, COUNT(l.bed) FROM bed AS b LEFT JOIN LATERAL (SELECT * FROM larger(b.area, 1)) AS l ON TRUE GROUP BY b.id ORDER BY b.id",
            "=1|3; 2|2; 3|1; 4|0",
        ),
        (
            "SELECT b.id, l.bed FROM bed AS b, larger(b.area + 5, b.id) AS l WHERE b.id > 1 ORDER BY 1, 2",
            "=2|3; 2|4; 3|4",
        ),
        ("SELECT bed FROM larger((SELECT AVG(area) FROM bed), 1) ORDER BY 1", "=3; 4"),
        // The column comes before a parameter of its name; the function's name tells them apart.
        (
            "CREATE FUNCTION under (above INTEGER) RETURNS TABLE (id INTEGER) RETURN \
             WITH RECURSIVE w AS (SELECT id FROM bed WHERE bed.above = under.above UNION ALL \
             SELECT b.id FROM w JOIN bed AS b ON b.above = w.id) SELECT id FROM w",
            "",
        ),
        ("SELECT * FROM under(1) ORDER BY id", "=2; 3; 4"),
        ("SELECT * FROM under(NULL)", "="),
        ("CREATE VIEW low AS SELECT * FROM under(3)", ""),
        ("TABLE low", "=4"),
        ("SELECT * FROM larger(1)", "!42000 has 2 parameters … least NUMERIC(5,2) and factor INTEGER"),
        ("SELECT * FROM larger('x', 1)", "!"),
        ("SELECT * FROM undr(1)", "!42000 no table function \"undr\" … did you mean \"under\""),
        ("CREATE FUNCTION under () RETURNS TABLE (a INTEGER) RETURN SELECT 1", "!42000 function \"under\" already"),
        ("CREATE FUNCTION f () RETURNS TABLE (a INTEGER, b INTEGER) RETURN SELECT 1", "!42000 gives 1 column"),
        ("CREATE FUNCTION f () RETURNS TABLE (a DATE) RETURN SELECT 1", "!42000 is DATE, its query gives INTEGER"),
        ("CREATE FUNCTION f (a INTEGER, a DATE) RETURNS TABLE (a DATE) RETURN SELECT 1", "!42S21 two parameters"),
        ("CREATE FUNCTION f () RETURNS TABLE (a INTEGER) RETURN SELECT :p", "!42000 the parameter :p of a program"),
        (
            "CREATE FUNCTION f (a INTEGER) RETURNS TABLE (n INTEGER) RETURN SELECT n FROM f(a) AS x (n)",
            "!42000 refers to itself",
        ),
        ("CREATE FUNCTION f () RETURNS INTEGER RETURN 1", "!0A000"),
        (
            "CREATE OR REPLACE FUNCTION under (top INTEGER) RETURNS TABLE (id INTEGER) RETURN SELECT id FROM bed WHERE above = top",
            "",
        ),
        ("SELECT * FROM under(1) ORDER BY id", "=2; 3"),
        ("DROP TABLE bed", "!42000 function \"larger\" … view \"low\" … depend on it"),
        ("DROP FUNCTION under", "!42000 view \"low\" depends"),
        ("DROP FUNCTION under CASCADE", ""),
        ("TABLE low", "!42S02"),
        ("SELECT ROUTINE_NAME FROM INFORMATION_SCHEMA.ROUTINES", "=larger"),
        (
            "SELECT PARAMETER_NAME, DATA_TYPE FROM INFORMATION_SCHEMA.PARAMETERS ORDER BY ORDINAL_POSITION",
            "=least|NUMERIC(5,2); factor|INTEGER",
        ),
    ]);
    // A constant argument reaches the table: it is read by its key.
    check(
        &mut session,
        (
            "CREATE FUNCTION one (wanted INTEGER) RETURNS TABLE (area NUMERIC(5,2)) RETURN SELECT area FROM bed WHERE id = wanted",
            "",
        ),
    );
    check(&mut session, ("INSERT INTO bed SELECT n, NULL, 1 FROM SERIES(10, 3000) AS s (n)", "2991"));
    let plan = session.plan("SELECT * FROM one(:n)", Parameters::new().set("n", 3)).unwrap();
    assert!(plan.reads("bed").by_index("bed_primary_key"), "{:?}", plan.root);
}

#[test]
fn comments_go_with_what_they_are_about() {
    let mut session = tell(&[
        ("CREATE TABLE bed (id INTEGER, name VARCHAR(9))", ""),
        ("CREATE VIEW v AS SELECT id FROM bed", ""),
        ("CREATE SEQUENCE s", ""),
        ("COMMENT ON TABLE bed IS 'Where things grow'", ""),
        ("COMMENT ON COLUMN bed.name IS 'As on the sign'", ""),
        ("COMMENT ON VIEW v IS 'Numbers'", ""),
        ("COMMENT ON COLUMN v.id IS 'Of a bed'", ""),
        ("COMMENT ON SEQUENCE s IS 'Numbers'", ""),
        ("COMMENT ON SCHEMA home IS 'Everything'", ""),
        ("COMMENT ON TABLE v IS 'x'", "!42S02 no table \"v\""),
        ("COMMENT ON COLUMN bed.nme IS 'x'", "!42S22 did you mean \"name\""),
        ("COMMENT ON COLUMN name IS 'x'", "!42000 with its table"),
        ("COMMENT ON bed IS 'x'", "!42000 expected TABLE"),
    ]);
    let facts = session.describe(Some("bed")).unwrap();
    assert_eq!(facts[0].comment.as_deref(), Some("Where things grow"));
    assert_eq!(facts[0].columns[1].comment.as_deref(), Some("As on the sign"));
    assert_eq!(facts[0].columns[0].comment, None);
    let view = session.describe(Some("v")).unwrap();
    assert_eq!(
        (view[0].comment.as_deref(), view[0].columns[0].comment.as_deref()),
        (Some("Numbers"), Some("Of a bed"))
    );
    check(&mut session, ("COMMENT ON TABLE bed IS NULL", ""));
    check(&mut session, ("DROP TABLE bed CASCADE", ""));
    check(&mut session, ("CREATE TABLE bed (name VARCHAR(9))", ""));
    let facts = session.describe(Some("bed")).unwrap();
    assert_eq!((facts[0].comment.as_deref(), facts[0].columns[0].comment.as_deref()), (None, None));
}

#[test]
fn objects_come_back_with_their_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    {
        let mut session = Database::open(&path).unwrap().session();
        for sql in [
            "CREATE SEQUENCE s START WITH 3 MAXVALUE 5 CYCLE",
            "CREATE DOMAIN area AS NUMERIC(4,1) DEFAULT 2 CHECK (VALUE > 0)",
            "CREATE TABLE bed (id BIGINT DEFAULT NEXT VALUE FOR s, size area, UNIQUE (id) DEFERRABLE)",
            "CREATE TABLE bed2 (id BIGINT PRIMARY KEY)",
            "CREATE TABLE task (bed BIGINT, FOREIGN KEY (bed) REFERENCES bed2 (id) DEFERRABLE INITIALLY DEFERRED)",
            "CREATE VIEW small AS SELECT id, size FROM bed WHERE size < 5 WITH CHECK OPTION",
            "CREATE FUNCTION f (n NUMERIC(4,1)) RETURNS TABLE (id BIGINT) RETURN SELECT id FROM bed WHERE size = n",
            "COMMENT ON TABLE bed IS 'Beds'",
        ] {
            check(&mut session, (sql, ""));
        }
        check(&mut session, ("SELECT NEXT VALUE FOR s", "=3"));
    }
    let mut session = Database::open(&path).unwrap().session();
    check(&mut session, ("INSERT INTO small VALUES (DEFAULT, DEFAULT), (DEFAULT, 9)", "!44000 view \"small\""));
    // It was left at 3; the rows that were refused took 4 and 5, the last, and it begins again.
    check(&mut session, ("INSERT INTO bed (size) VALUES (DEFAULT), (3) RETURNING id, size", "=1|2.0; 2|3.0"));
    check(&mut session, ("SELECT * FROM f(3)", "=2"));
    check(&mut session, ("INSERT INTO bed (size) VALUES (0)", "!23000 bed_size_check"));
    check(&mut session, ("INSERT INTO task VALUES (1)", "!23000 task_bed_reference"));
    let deferrable = "SELECT CONSTRAINT_NAME, INITIALLY_DEFERRED FROM INFORMATION_SCHEMA.TABLE_CONSTRAINTS WHERE IS_DEFERRABLE = 'YES' ORDER BY 1";
    check(&mut session, (deferrable, "=bed_id_unique|NO; task_bed_reference|YES"));
    assert_eq!(session.describe(Some("bed")).unwrap()[0].comment.as_deref(), Some("Beds"));
}

/// The numbers that a sequence gives, one after the other; `None` when there is none left.
fn model_of_numbers(start: i64, step: i64, (least, most): (i64, i64), cycle: bool, count: usize) -> Vec<Option<i64>> {
    let mut next = Some(start);
    let mut given = Vec::new();
    for _ in 0..count {
        given.push(next);
        next = match next.map(|number| number + step) {
            Some(number) if (least..=most).contains(&number) => Some(number),
            Some(_) if cycle => Some(if step > 0 { least } else { most }),
            _ => None,
        };
    }
    given
}

#[test]
fn random_sequences_agree_with_a_model() {
    for seed in 0..200 {
        let mut draw = Draw::new(seed);
        let mut number = |limit: usize| i64::try_from(draw.below(limit)).unwrap();
        let least = number(20) - 10;
        let most = least + number(15);
        let start = least + number(15).min(most - least);
        let step = match number(9) - 4 {
            0 => 5,
            step => step,
        };
        let cycle = number(2) == 0;
        let words = if cycle { "CYCLE" } else { "NO CYCLE" };
        let mut session = tell(&[(
            &format!(
                "CREATE SEQUENCE s START WITH {start} INCREMENT BY {step} MINVALUE {least} MAXVALUE {most} {words}"
            ),
            "",
        )]);
        let expected = model_of_numbers(start, step, (least, most), cycle, 12);
        let mut at = 0;
        while at < expected.len() {
            let count = (1 + draw.below(4)).min(expected.len() - at);
            let wanted = &expected[at..at + count];
            let sql = format!("SELECT NEXT VALUE FOR s FROM SERIES(1, {count}) AS x (i)");
            match wanted.iter().copied().collect::<Option<Vec<i64>>>() {
                Some(numbers) => {
                    let shown = numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ");
                    check(&mut session, (&sql, &format!("={shown}")));
                }
                None => {
                    // All numbers of a statement, or none.
                    check(&mut session, (&sql, "!2200H"));
                    break;
                }
            }
            at += count;
        }
    }
}
