//! The predefined functions, family by family, at their edges: values and types computed by hand from clauses 6.29 to 6.36.

use crate::support::{check_problems, run, session};

/// Each expression has this value.
#[track_caller]
fn check(cases: &[(&str, &str)]) {
    let mut session = session();
    let mut wrong = Vec::new();
    for (expression, expected) in cases {
        let found = run(&mut session, &format!("SELECT {expression}")).unwrap_or_else(|error| error.to_string());
        if found != *expected {
            wrong.push(format!("{expression}\n  expected {expected}\n  found    {found}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn parts_of_texts() {
    check(&[
        ("SUBSTRING('garden' FROM 4)", "den"),
        ("SUBSTRING('garden' FROM -2 FOR 4)", "g"),
        ("SUBSTRING('garden' FROM 7)", ""),
        ("SUBSTRING('Bäume' FROM 2 FOR 1)", "ä"),
        ("SUBSTRING(NULL FROM 1)", "NULL"),
        ("SUBSTRING('garden' FROM NULL FOR 2)", "NULL"),
        ("SUBSTRING('a-123-b' SIMILAR '%-#\"[0-9]+#\"-%' ESCAPE '#')", "123"),
        ("SUBSTRING('none' SIMILAR '%-#\"[0-9]+#\"-%' ESCAPE '#')", "NULL"),
        ("POSITION('' IN 'x')", "1"),
        ("POSITION('z' IN 'x')", "0"),
        ("POSITION('n' IN 'Bäne')", "3"),
        ("OVERLAY('Rosenbeet' PLACING 'gras' FROM 1 FOR 5)", "grasbeet"),
        ("OVERLAY('abc' PLACING '' FROM 2 FOR 1)", "ac"),
        ("OVERLAY('abc' PLACING 'xyz' FROM 4 FOR 0)", "abcxyz"),
        ("TRIM('  x ')", "x"),
        ("TRIM(TRAILING 'x' FROM 'xaxx')", "xa"),
        ("TRIM(BOTH '' || 'x' FROM 'xax')", "a"),
        ("LTRIM('xxax', 'x') || '|' || RTRIM('xaxx', 'x')", "ax|xa"),
        ("LPAD('abc', 5) || '|'", "  abc|"),
        ("LPAD('abc', 6, 'xy')", "xyxabc"),
        ("LPAD('abc', 2)", "ab"),
        ("RPAD('é', 3, 'ab')", "éab"),
        ("CHARACTER_LENGTH('')", "0"),
        ("CHARACTER_LENGTH('🌱')", "1"),
        ("OCTET_LENGTH('🌱')", "4"),
        ("UPPER('straße')", "STRASSE"),
        ("LOWER('ÄÖ')", "äö"),
        ("'a' || NULL", "NULL"),
        ("CHARACTER_LENGTH(NORMALIZE('é', NFD))", "2"),
        ("'é' IS NORMALIZED, NORMALIZE('é', NFD) IS NFC NORMALIZED", "TRUE|FALSE"),
    ]);
    check_problems(&[
        ("SELECT SUBSTRING('x' FROM 1 FOR -1)", "22011", "SUBSTRING('x' FROM 1 FOR -1)", "length"),
        ("SELECT TRIM('ab' FROM 'xab')", "22027", "TRIM('ab' FROM 'xab')", "one character"),
        ("SELECT LPAD('x', -1)", "22011", "LPAD('x', -1)", ""),
    ]);
}

#[test]
fn patterns_and_regular_expressions() {
    check(&[
        ("'50%' LIKE '50!%' ESCAPE '!'", "TRUE"),
        ("'507' LIKE '50!%' ESCAPE '!'", "FALSE"),
        ("'' LIKE '%'", "TRUE"),
        ("'' LIKE '_'", "FALSE"),
        ("'a\nb' LIKE 'a_b'", "TRUE"),
        ("NULL LIKE '%'", "NULL"),
        ("'abab' SIMILAR TO '(ab){2}'", "TRUE"),
        ("'aab' SIMILAR TO 'a*b'", "TRUE"),
        ("'b' SIMILAR TO 'a?b|c'", "TRUE"),
        ("'x' SIMILAR TO '[^a-w]'", "TRUE"),
        ("'a|b' SIMILAR TO 'a!|b' ESCAPE '!'", "TRUE"),
        ("'rose' LIKE_REGEX 'os'", "TRUE"),
        ("'rose' LIKE_REGEX '^os'", "FALSE"),
        ("'ro\nse' LIKE_REGEX '^se$' FLAG 'm'", "TRUE"),
        ("'a.c' LIKE_REGEX 'a.c' FLAG 'q', 'abc' LIKE_REGEX 'a.c' FLAG 'q'", "TRUE|FALSE"),
        ("OCCURRENCES_REGEX('[aeiou]' IN 'nasturtium')", "4"),
        ("OCCURRENCES_REGEX('a' IN 'banana' FROM 3)", "2"),
        ("POSITION_REGEX('an' IN 'banana')", "2"),
        ("POSITION_REGEX(AFTER 'an' IN 'banana')", "4"),
        ("POSITION_REGEX('x' IN 'banana')", "0"),
        ("SUBSTRING_REGEX('(b)(a)' IN 'xba' GROUP 2)", "a"),
        ("SUBSTRING_REGEX('z' IN 'xba')", "NULL"),
        ("TRANSLATE_REGEX('(.)a' IN 'bana' WITH '$1o' OCCURRENCE ALL)", "bono"),
    ]);
}

#[test]
fn numbers_are_exact_where_their_types_are() {
    check(&[
        ("ROUND(2.5), ROUND(-2.5), ROUND(3.5)", "3|-3|4"),
        ("ROUND(1234, -2), ROUND(1250, -2)", "1200|1300"),
        ("TRUNCATE(1.999, 2), TRUNCATE(-1999, -3)", "1.99|-1000"),
        ("CEILING(-1.5), CEIL(2), FLOOR(1.5), FLOOR(-1.5)", "-1|2|1|-2"),
        ("MOD(7, -3), MOD(-7, 3), MOD(7.5, 2)", "1|-1|1.5"),
        ("ABS(-0.5), ABS(-2.5E0)", "0.5|2.5"),
        ("POWER(2, -1), POWER(0, 0), SQRT(2.25)", "0.5|1.0|1.5"),
        ("LN(EXP(1)), LOG10(0.01), LOG(2, 1)", "1.0|-2.0|0.0"),
        ("WIDTH_BUCKET(9.99, 0, 10, 10), WIDTH_BUCKET(-5, 0, -10, 2)", "10|2"),
        ("GREATEST(1, 2.5, -3), LEAST(DATE '2024-01-01', DATE '2023-12-31')", "2.5|2023-12-31"),
        ("COALESCE(NULL, NULL, 3), NULLIF(2, 2), NULLIF(2, NULL)", "3|NULL|2"),
        ("TANH(0), ASIN(0), ACOS(1), SINH(0), TAN(0)", "0.0|0.0|0.0|0.0|0.0"),
    ]);
    check_problems(&[
        ("SELECT MOD(1, 0)", "22012", "MOD(1, 0)", "zero"),
        ("SELECT SQRT(-1)", "2201F", "SQRT(-1)", ""),
        ("SELECT POWER(0, -1)", "2201F", "POWER(0, -1)", ""),
        ("SELECT POWER(-8, 0.5)", "2201F", "POWER(-8, 0.5)", ""),
        ("SELECT WIDTH_BUCKET(1, 2, 2, 3)", "2201G", "WIDTH_BUCKET(1, 2, 2, 3)", ""),
        ("SELECT WIDTH_BUCKET(1, 0, 2, 0)", "2201G", "WIDTH_BUCKET(1, 0, 2, 0)", ""),
        ("SELECT EXP(1000)", "22003", "EXP(1000)", ""),
        ("SELECT GREATEST(DISTINCT 1, 2)", "42000", "GREATEST(DISTINCT 1, 2)", ""),
        ("SELECT LEAST()", "42000", "LEAST()", ""),
    ]);
}

#[test]
fn days_times_and_intervals() {
    check(&[
        ("EXTRACT(YEAR FROM DATE '0001-01-01'), EXTRACT(DAY FROM TIMESTAMP '2024-02-29 23:59:59')", "1|29"),
        ("EXTRACT(HOUR FROM TIME '23:00:00'), EXTRACT(MINUTE FROM INTERVAL '1:59' HOUR TO MINUTE)", "23|59"),
        ("EXTRACT(MONTH FROM INTERVAL '14' MONTH), EXTRACT(YEAR FROM INTERVAL '-14' MONTH)", "2|-1"),
        ("DATE '2024-01-31' + INTERVAL '1' DAY, DATE '2024-03-01' - INTERVAL '1' DAY", "2024-02-01|2024-02-29"),
        ("DATE '2024-03-01' - DATE '2024-02-01'", "29 00:00:00"),
        ("TIMESTAMP '2024-01-01 00:00:00' - INTERVAL '1' SECOND", "2023-12-31 23:59:59"),
        ("TIME '23:30:00' + INTERVAL '1' HOUR", "00:30:00"),
        ("(TIMESTAMP '2024-01-02 03:00:00' - TIMESTAMP '2024-01-01 00:00:00') HOUR", "1 03:00:00"),
        ("(TIMESTAMP '2024-01-02 03:00:00' - TIMESTAMP '2024-01-01 00:00:00') DAY TO MINUTE", "1 03:00:00"),
        ("INTERVAL '1' YEAR + INTERVAL '2' MONTH, INTERVAL '1' DAY - INTERVAL '36' HOUR", "1-02|-0 12:00:00"),
        ("INTERVAL '3' DAY * 2, INTERVAL '3' HOUR / 2", "6 00:00:00|0 01:30:00"),
        ("INTERVAL '13' MONTH > INTERVAL '1' YEAR, INTERVAL '24' HOUR = INTERVAL '1' DAY", "TRUE|TRUE"),
        ("-INTERVAL '5' DAY", "-5 00:00:00"),
        // A fraction of a month or microsecond is dropped.
        (
            "INTERVAL '1' DAY * 1.5, INTERVAL '1' HOUR / 0.25, 0.5 * INTERVAL '3' SECOND",
            "1 12:00:00|0 04:00:00|0 00:00:01.5",
        ),
        ("INTERVAL '3' MONTH * 1.5, INTERVAL '-3' MONTH * 1.5, INTERVAL '1' YEAR / 2.5E0", "0-04|-0-04|0-04"),
        ("INTERVAL '2' DAY * 1E-1, INTERVAL '1' SECOND / 3.0", "0 04:48:00|0 00:00:00.333333"),
        (
            "CAST(DATE '0987-06-05' AS VARCHAR(9) FORMAT 'YYY/DDD'), CAST('5.6.0987' AS DATE FORMAT 'DD.MM.RRRR')",
            "987/156|0987-06-05",
        ),
        (
            "CAST(DATE '1999-06-05' AS VARCHAR(9) FORMAT 'RR-MM'), CAST('24-02' AS DATE FORMAT 'YY-MM')",
            "99-06|2024-02-01",
        ),
        ("CAST('2024-02-30' AS VARCHAR(10)) || '!'", "2024-02-30!"),
        (
            "CAST(TIMESTAMP '2024-05-06 07:08:09' AS DATE), CAST(DATE '2024-05-06' AS TIMESTAMP)",
            "2024-05-06|2024-05-06 00:00:00",
        ),
        (
            "CAST(TIMESTAMP '2024-05-06 17:08:09' AS VARCHAR(30) FORMAT 'HH12:MI A.M., DD/MM/YYYY')",
            "05:08 P.M., 06/05/2024",
        ),
        ("CAST('6.5.2024' AS DATE FORMAT 'DD.MM.YYYY')", "2024-05-06"),
        ("(TIME '10:00:00', TIME '11:00:00') OVERLAPS (TIME '10:59:59', TIME '12:00:00')", "TRUE"),
        ("(DATE '2024-02-01', DATE '2024-01-01') OVERLAPS (DATE '2024-01-15', DATE '2024-01-16')", "TRUE"),
        ("(DATE '2024-01-01', NULL) OVERLAPS (DATE '2024-01-01', DATE '2024-01-02')", "NULL"),
        (
            "CAST(TIME '10:11:12.987654' AS TIME(2)), CAST('1969-12-31 23:59:59.9' AS TIMESTAMP(0))",
            "10:11:12.98|1969-12-31 23:59:59",
        ),
        (
            "CURRENT_TIMESTAMP(0) <= CURRENT_TIMESTAMP, EXTRACT(SECOND FROM LOCALTIME(0)) = FLOOR(EXTRACT(SECOND FROM CURRENT_TIME))",
            "TRUE|TRUE",
        ),
        (
            "CAST(NULL AS TIMESTAMP(3) WITH TIME ZONE), CAST(TIMESTAMP '2024-01-01 00:00:00.5' AS TIMESTAMP(6))",
            "NULL|2024-01-01 00:00:00.5",
        ),
        ("TIME '01:30:00+02:00', CAST('23:59+00:00' AS TIME WITH TIME ZONE)", "23:30:00+00:00|23:59:00+00:00"),
        ("TIME '12:00:00+02:00' = TIME '10:00:00+00:00', TIME '10:00:00' < TIME '10:00:00-01:00'", "TRUE|TRUE"),
        (
            "TIME '23:00:00' AT TIME ZONE '-02:00', TIME '23:00:00+00:00' AT TIME ZONE '+02:00'",
            "23:00:00+00:00|23:00:00+00:00",
        ),
        ("TIME '10:00:00+01:00' + INTERVAL '16' HOUR, EXTRACT(HOUR FROM TIME '00:30:00+01:00')", "01:00:00+00:00|23"),
        ("EXTRACT(TIMEZONE_HOUR FROM CURRENT_TIME), CAST(CURRENT_TIME AS TIME) = LOCALTIME", "0|TRUE"),
        ("CAST(TIMESTAMP '2024-06-01 12:00:00+02:00' AS TIME WITH TIME ZONE)", "10:00:00+00:00"),
        (
            "CAST(TIME '10:11:12' AS TIMESTAMP) = CAST(CURRENT_DATE AS TIMESTAMP) + INTERVAL '10:11:12' HOUR TO SECOND",
            "TRUE",
        ),
        (
            "CAST(TIME '10:11:12' AS TIME WITH TIME ZONE), CAST(LOCALTIME AS TIMESTAMP WITH TIME ZONE) = CURRENT_TIMESTAMP",
            "10:11:12+00:00|TRUE",
        ),
        ("TIMESTAMP '2024-06-01 12:00:00+02:00' = TIMESTAMP '2024-06-01 10:00:00+00:00'", "TRUE"),
        ("EXTRACT(HOUR FROM TIMESTAMP '2024-06-01 12:00:00+02:00' AT TIME ZONE '+05:30')", "15"),
    ]);
    check_problems(&[
        ("SELECT CAST('2024-02-30' AS DATE)", "22007", "CAST('2024-02-30' AS DATE)", "2024-02-30"),
        ("SELECT INTERVAL '1' DAY / 0.0", "22012", "INTERVAL '1' DAY / 0.0", ""),
        ("SELECT INTERVAL '1' DAY * 1E300", "22015", "INTERVAL '1' DAY * 1E300", ""),
        ("SELECT CAST('x' AS DATE FORMAT 'YYYY-MM-DD')", "22007", "CAST('x' AS DATE FORMAT 'YYYY-MM-DD')", ""),
        ("SELECT DATE '9999-12-31' + INTERVAL '1' DAY", "22008", "DATE '9999-12-31' + INTERVAL '1' DAY", ""),
    ]);
}

#[test]
fn binary_strings_ids_and_addresses() {
    check(&[
        ("X'' = X'', X'01' < X'02', X'01' < X'0100'", "TRUE|TRUE|TRUE"),
        ("POSITION(X'02' IN X'010203'), OVERLAY(X'010203' PLACING X'FF' FROM 2)", "2|01FF03"),
        ("TRIM(X'00' FROM X'00010000'), SUBSTRING(X'0a0b0c' FROM 2 FOR 1)", "01|0B"),
        ("UUID '00000000-0000-0000-0000-000000000001' < UUID '00000000-0000-0000-0000-000000000002'", "TRUE"),
        (
            "CAST(CAST('f81d4fae-7dec-11d0-a765-00a0c91e6bf6' AS UUID) AS VARCHAR(36))",
            "f81d4fae-7dec-11d0-a765-00a0c91e6bf6",
        ),
        ("IPADDRESS '10.0.0.9' < IPADDRESS '10.0.0.10', IPADDRESS '::1' = IPADDRESS '0:0:0:0:0:0:0:1'", "TRUE|TRUE"),
    ]);
}

#[test]
fn arrays_and_rows() {
    check(&[
        ("ARRAY[1, 2.5, NULL]", "[1.0, 2.5, NULL]"),
        ("CARDINALITY(ARRAY[]), CARDINALITY(ARRAY[NULL])", "0|1"),
        ("ARRAY[ARRAY[1], ARRAY[2, 3]][2][1]", "2"),
        ("ARRAY[1, NULL] = ARRAY[1, NULL], ARRAY[1, 2] = ARRAY[1, 3], ARRAY[1] = ARRAY[1, 2]", "NULL|FALSE|FALSE"),
        ("ARRAY['b', 'a'][2], ARRAY[1, 2][CAST(NULL AS INTEGER)]", "a|NULL"),
        ("TRIM_ARRAY(ARRAY[1, 2], 2)", "[]"),
        ("CAST(ARRAY[1, 2] AS VARCHAR(1) ARRAY[2])", "['1', '2']"),
        ("CAST(CAST(NULL AS INTEGER ARRAY) AS INTEGER ARRAY[1])", "NULL"),
        ("CAST(ARRAY[TIME '10:00:00'] AS TIME ARRAY)", "[10:00:00]"),
        ("ROW(1, 2) = ROW(1, 2), ROW(1, 'a') <> ROW(1, 'b'), (1, 2) >= (1, 2)", "TRUE|TRUE|TRUE"),
        ("(1, NULL) IS NULL, (NULL, NULL) IS NULL, (1, NULL) IS NOT NULL, (1, 2) IS NOT NULL", "FALSE|TRUE|FALSE|TRUE"),
        ("(1, NULL) IS DISTINCT FROM (1, NULL), (1, NULL) IS DISTINCT FROM (1, 2)", "FALSE|TRUE"),
        ("(2, 1) BETWEEN (1, 9) AND (2, 1), (1, 2) IN ((1, 3), (1, 2))", "TRUE|TRUE"),
        ("CASE (1, 2) WHEN (1, 2) THEN 'same' END", "same"),
    ]);
    check_problems(&[
        ("SELECT CAST(X'0102' AS VARBINARY(1))", "22001", "CAST(X'0102' AS VARBINARY(1))", "does not fit"),
        (
            "SELECT CAST(ARRAY[1, 2, 3] AS INTEGER ARRAY[2])",
            "2202F",
            "CAST(ARRAY[1, 2, 3] AS INTEGER ARRAY[2])",
            "TRIM_ARRAY",
        ),
        ("SELECT TRIM_ARRAY(ARRAY[1], 2)", "2202E", "TRIM_ARRAY(ARRAY[1], 2)", ""),
        ("SELECT (1, 2) = (1, 2, 3)", "42000", "(1, 2) = (1, 2, 3)", ""),
        ("SELECT ARRAY[1, 'a']", "42000", "'a'", "no common type"),
    ]);
}
