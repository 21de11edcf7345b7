//! Words that the language does not have: the help says what is written for them, and that runs.

use garden_gate::{Database, Session};

/// A call, and what its help says to write.
const CALLS: &[(&str, &str)] = &[
    ("LEN(b)", "CHARACTER_LENGTH(b)"),
    ("Length(b)", "CHARACTER_LENGTH(b)"),
    ("TEXT_SIZE(UPPER(b))", "CHARACTER_LENGTH(UPPER(b))"),
    ("LENGHT(b)", "CHARACTER_LENGTH(b)"),
    ("SUBSTR(b, 2)", "SUBSTRING(b FROM 2)"),
    ("mid(b, 2, a)", "SUBSTRING(b FROM 2 FOR a)"),
    ("LEFT(b, 2)", "SUBSTRING(b FROM 1 FOR 2)"),
    ("RIGHT(b, 2)", "SUBSTRING(b FROM CHARACTER_LENGTH(b) - 2 + 1)"),
    ("FIND('x', b)", "POSITION('x' IN b)"),
    ("find_text(b, 'x')", "POSITION('x' IN b)"),
    ("contains_text(b, 'x')", "POSITION('x' IN b) > 0"),
    ("STARTS_WITH(b, 'x')", "b LIKE 'x' || '%'"),
    ("ENDS_WITH(b, 'x')", "b LIKE '%' || 'x'"),
    ("STRIP(b)", "TRIM(b)"),
    ("LEFT_TRIM(b)", "LTRIM(b)"),
    ("REPLACE(b, 'x', 'y')", "TRANSLATE_REGEX('x' FLAG 'q' IN b WITH 'y' OCCURRENCE ALL)"),
    ("REPEAT(b, 3)", "LPAD('', 3 * CHARACTER_LENGTH(b), b)"),
    ("UPPERCASE(b)", "UPPER(b)"),
    ("CONCAT(b, '-', b)", "b || '-' || b"),
    ("GROUP_TEXT(b)", "LISTAGG(b, ', ') WITHIN GROUP (ORDER BY b)"),
    ("AGGREGATE_TEXT(b, ';')", "LISTAGG(b, ';') WITHIN GROUP (ORDER BY b)"),
    ("NOW()", "CURRENT_TIMESTAMP"),
    ("TODAY()", "CURRENT_DATE"),
    ("GET_DATE()", "CURRENT_DATE"),
    ("YEAR(d)", "EXTRACT(YEAR FROM d)"),
    ("YEAR_OF(d)", "EXTRACT(YEAR FROM d)"),
    ("DATE_PART('hour', s)", "EXTRACT(HOUR FROM s)"),
    ("DATE_PART(month, d)", "EXTRACT(MONTH FROM d)"),
    ("QUARTER(d)", "EXTRACT(QUARTER FROM d)"),
    ("WEEKDAY(d)", "EXTRACT(DAY_OF_WEEK FROM d)"),
    ("DAY_OF_WEEK(d)", "EXTRACT(DAY_OF_WEEK FROM d)"),
    ("DAY_OF_YEAR(d)", "EXTRACT(DAY_OF_YEAR FROM d)"),
    ("START_OF_MONTH(d)", "TRUNCATE(d TO MONTH)"),
    ("WEEK_START(d)", "TRUNCATE(d TO WEEK)"),
    ("TRUNC_DATE(s, 'day')", "CAST(s AS DATE)"),
    ("END_OF_MONTH(d)", "TRUNCATE(d TO MONTH) + INTERVAL '1' MONTH - INTERVAL '1' DAY"),
    ("DAY_DIFF(d, d)", "(d - d) DAY"),
    ("DATE_DIFF(month, d, DATE '2030-01-01')", "(DATE '2030-01-01' - d) MONTH"),
    ("ADD_DAYS(d, 3)", "d + 3 * INTERVAL '1' DAY"),
    ("DATE_ADD(month, 3, d)", "d + 3 * INTERVAL '1' MONTH"),
    ("DATE_SUB(d, 3)", "d - 3 * INTERVAL '1' DAY"),
    ("TO_TEXT(a)", "CAST(a AS VARCHAR(40))"),
    ("TO_TEXT(d, 'YYYY')", "CAST(d AS VARCHAR(40) FORMAT 'YYYY')"),
    ("TO_NUMBER('3')", "CAST('3' AS NUMERIC(18, 2))"),
    ("TO_INT('3')", "CAST('3' AS INTEGER)"),
    ("TO_DATE('02.2000', 'MM.YYYY')", "CAST('02.2000' AS DATE FORMAT 'MM.YYYY')"),
    ("IF_NULL(a, 0)", "COALESCE(a, 0)"),
    ("REPLACE_NULL(a, 0)", "COALESCE(a, 0)"),
    ("IS_NULL(a)", "a IS NULL"),
    ("IF(a > 1, 'x', b)", "CASE WHEN a > 1 THEN 'x' ELSE b END"),
    ("COUNT_DISTINCT(a)", "COUNT(DISTINCT a)"),
    ("COUNT_IF(a > 1)", "COUNT(*) FILTER (WHERE a > 1)"),
    ("AVERAGE(a)", "AVG(a)"),
    ("MEDIAN(a)", "PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY a)"),
    ("VARIANCE(a)", "VAR_SAMP(a)"),
    ("STANDARD_DEVIATION(a)", "STDDEV_SAMP(a)"),
    ("TOTAL(a)", "SUM(a)"),
    ("SMALLEST(a)", "MIN(a)"),
    ("LARGEST(a, 3)", "GREATEST(a, 3)"),
    ("POW(a, 2)", "POWER(a, 2)"),
    ("SQUAREROOT(a)", "SQRT(a)"),
    ("today", "CURRENT_DATE"),
    ("sysdate", "CURRENT_DATE"),
];

fn session() -> Session {
    let mut session = Database::in_memory().session();
    session.execute("CREATE TABLE w (a INTEGER, b VARCHAR(20), d DATE, s TIMESTAMP)", ()).unwrap();
    let row = "INSERT INTO w VALUES (1, 'fox', DATE '2024-02-10', TIMESTAMP '2024-02-10 10:30:00')";
    session.execute(row, ()).unwrap();
    session
}

fn help(sql: &str) -> String {
    let Err(error) = session().run(sql) else { panic!("{sql}") };
    error.help().unwrap_or_default().to_owned()
}

#[test]
fn a_function_that_is_none_says_what_to_write() {
    let mut session = session();
    for (call, written) in CALLS {
        let help = help(&format!("SELECT {call} FROM w"));
        let found = help.strip_prefix("write ").unwrap_or_else(|| panic!("{call}: {help}"));
        let (found, _) = found.split_once(", which").unwrap_or((found, ""));
        assert_eq!(found, *written, "{call}");
        let rows = session.query(format!("SELECT {written} FROM w"), ());
        assert_eq!(rows.unwrap_or_else(|error| panic!("{written}: {error}")).row_count(), 1, "{written}");
    }
}

#[test]
fn what_is_written_means_what_was_meant() {
    let mut session = session();
    for (written, expected) in [
        // 2024-02-10 was a Saturday, the 41st day of its year, in the first quarter.
        ("EXTRACT(DAY_OF_WEEK FROM d)", "6"),
        ("EXTRACT(DAY_OF_YEAR FROM d)", "41"),
        ("EXTRACT(QUARTER FROM d)", "1"),
        ("TRUNCATE(d TO MONTH)", "2024-02-01"),
        ("TRUNCATE(d TO MONTH) + INTERVAL '1' MONTH - INTERVAL '1' DAY", "2024-02-29"),
        ("SUBSTRING(b FROM CHARACTER_LENGTH(b) - 2 + 1)", "ox"),
        ("LPAD('', 3 * CHARACTER_LENGTH(b), b)", "foxfoxfox"),
        ("TRANSLATE_REGEX('o' FLAG 'q' IN b WITH 'i' OCCURRENCE ALL)", "fix"),
    ] {
        let rows = session.query(format!("SELECT {written} FROM w"), ()).unwrap();
        assert_eq!(rows.rows().next().unwrap().values()[0].to_string(), expected, "{written}");
    }
}

#[test]
fn names_that_mean_nothing_get_no_wrong_help() {
    for call in ["WATER(a)", "GARDEN_GATE(a)", "YEAR(d, 1, 2)", "TEXT_PART_LENGTH(b)", "SEC_TO_TIME(a)"] {
        assert_eq!(
            help(&format!("SELECT {call} FROM w")),
            "docs/sql.md lists the functions; CREATE FUNCTION makes one",
            "{call}"
        );
    }
}

#[test]
fn statements_clauses_and_signs() {
    for (sql, wanted) in [
        ("SHOW TABLES", "TABLE INFORMATION_SCHEMA.TABLES"),
        ("LIST TABLES", "TABLE INFORMATION_SCHEMA.TABLES"),
        ("DESCRIBE w", "WHERE table_name = 'w'"),
        ("EXPLAIN SELECT a FROM w", "no statement shows a plan"),
        ("BEGIN", "START TRANSACTION"),
        ("USE archive", "SET SCHEMA archive"),
        ("DECLARE n INTEGER", "LET n = value"),
        ("PRINT 'x'", "VALUES (…)"),
        ("LOAD 'x.csv'", "INSERT INTO table FROM FILE 'path'"),
        ("REPLACE INTO w VALUES (1)", "REPLACE DUPLICATES"),
        ("INSERT IGNORE INTO w VALUES (1)", "SKIP DUPLICATES"),
        ("DELETE w WHERE a = 1", "write DELETE FROM w"),
        ("SELECT TOP 5 a FROM w", "FETCH FIRST 5 ROWS ONLY"),
        ("SELECT a form w", "did you mean FROM instead of form?"),
        ("SELECT a FROM w WHERE b ILIKE 'x'", "UPPER(a) LIKE UPPER(b)"),
        ("SELECT a FROM w WHERE b MATCHES 'x'", "LIKE_REGEX"),
        ("SELECT a FROM w WHERE a NOT NULL", "IS NOT NULL"),
        ("SELECT a FROM w MINUS SELECT a FROM w", "EXCEPT"),
        ("SELECT * FROM w, WHERE a = 1", "take the comma away"),
        ("INSERT INTO w (a, b,) VALUES (1, 'x')", "take the comma away"),
        ("SELECT a FROM w WHERE a IN (1, 2,)", "take the comma away"),
        ("WITH x AS (SELECT 1 AS n), SELECT n FROM x", "take the comma away"),
        ("WITH x AS (SELECT 1 AS n) y AS (SELECT 2 AS n) SELECT n FROM x", "a comma may be missing before y"),
        ("SELECT a FROM w WHERE b = “x”", "straight quotes"),
        ("SELECT a – 1 FROM w", "write a - 1"),
        ("SELECT a FROM w WHERE a == 1", "write a = 1"),
        ("SELECT a % 2 FROM w", "write MOD(a, 2)"),
        ("SELECT (a) % 2 FROM w", "MOD(a, b)"),
        ("SELECT a ≤ 2 FROM w", "write a <= 2"),
        ("SELECT a && 2 FROM w", "AND joins conditions"),
        (
            "SELECT a, ROW_NUMBER() OVER (ORDER BY a) AS rn FROM w WHERE rn = 1",
            "WITH placed AS (SELECT *, ROW_NUMBER() OVER (ORDER BY a) AS rn FROM w) SELECT * FROM placed WHERE rn = …",
        ),
        ("SELECT a, COUNT(*) AS n FROM w WHERE n > 1 GROUP BY a", "HAVING, after GROUP BY, with COUNT(*) instead of n"),
        ("SELECT a + 1 AS n FROM w WHERE n > 1", "repeat the expression in WHERE: a + 1"),
        ("SELECT COALESCE(b, 0) FROM w", "write '0' for a text"),
        ("SELECT COALESCE(a, 'none') FROM w", "write CAST(a AS VARCHAR(40))"),
        ("SELECT COALESCE(a, '7') FROM w", "write 7 for a number"),
        ("SELECT b + b FROM w", "write b || b"),
        ("SELECT d + 7 FROM w", "write d + INTERVAL '7' DAY"),
        ("SELECT d - a FROM w", "write d - a * INTERVAL '1' DAY"),
        ("SELECT EXTRACT(WEEKDAY FROM d) FROM w", "write DAY_OF_WEEK"),
        ("SELECT TRUNCATE(d TO HOUR) FROM w", "a day has YEAR, QUARTER, MONTH, WEEK and DAY"),
        ("SELECT TRUNCATE(b TO MONTH) FROM w", "CAST(b AS DATE)"),
        ("SELECT b, COUNT(*) FROM w GROUP BY b WHERE a > 1", "WHERE comes once, before GROUP BY"),
        ("SELECT a FROM w WHERE a = (SELECT a, b FROM w)", "select the one column"),
        ("SELECT (SELECT a, b FROM w) FROM w", "select the one column"),
        ("CREATE TABLE n (a INTEGER AUTO_INCREMENT, b INTEGER)", "write GENERATED ALWAYS AS IDENTITY"),
        ("ALTER TABLE w MODIFY a BIGINT", "write ALTER COLUMN a SET DATA TYPE"),
        ("ALTER TABLE w MODIFY COLUMN a BIGINT", "write ALTER COLUMN a SET DATA TYPE"),
        ("SET most = 5", "LET most = 5 makes a variable"),
        ("SELECT b + 'x' FROM w", "write b || 'x'"),
        ("SELECT CAST(a AS TEXT) FROM w", "write VARCHAR(200)"),
        ("SELECT a FROM w WHERE d = s", "CAST(s AS DATE) is the day of it, CAST(d AS TIMESTAMP) the first moment"),
        ("SELECT a FROM w WHERE d > 2023-05-01", "write the day as DATE '2023-05-01'"),
        ("SELECT a FROM w WHERE d > '2023-05-01'", "write the day as DATE '2023-05-01'"),
        ("SELECT a FROM w WHERE a = '12'", "write the number without quotes: 12"),
        ("SELECT a FROM w WHERE b = 3", "write the text in quotes, '3', or CAST(b AS INTEGER)"),
        ("SELECT a FROM w WHERE a = b", "CAST(b AS INTEGER) makes a number"),
        ("SELECT b, COUNT(*) FROM w GROUP BY 1", "write GROUP BY b"),
    ] {
        let help = help(sql);
        assert!(help.contains(wanted), "{sql}: {help}");
    }
}

#[test]
fn one_mistake_is_one_error() {
    for sql in ["SELECT b AS n, COUNT(*) FROM w GROUP BY n", "SELECT d + CAST(a AS INTERVAL DAY), nothing FROM w"] {
        let error = session().query(sql, ()).unwrap_err();
        assert_eq!(error.related().len(), 0, "{sql}: {error}");
    }
    let missing = session().query("SELECT q FROM (SELECT a FROM w)", ()).unwrap_err();
    assert_eq!(missing.message(), "no column \"q\"");
    // A byte order mark is a blank wherever files are put together.
    assert_eq!(session().query("\u{feff}SELECT a FROM w", ()).unwrap().row_count(), 1);
}

#[test]
fn statements_of_the_standard_that_come_later() {
    for sql in ["GRANT SELECT ON w TO x", "CALL f()"] {
        assert_eq!(session().query(sql, ()).unwrap_err().sqlstate().as_str(), "0A000", "{sql}");
    }
}
