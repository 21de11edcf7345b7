//! CHAR (clauses 4.2, 6.13 and 8.2): the blanks that fill it up are part of the value, and do not count where it is compared.

use crate::story::tell;

#[test]
fn a_char_keeps_its_blanks_and_compares_without_them() {
    tell(&[
        ("CREATE TABLE label (id INTEGER PRIMARY KEY, c CHAR(5), v VARCHAR(9))", ""),
        ("INSERT INTO label VALUES (1, 'ab', 'ab'), (2, 'cd', 'cd  '), (3, 'abcde', 'abcdefgh'), (4, NULL, NULL)", "4"),
        ("SELECT CHAR_LENGTH(c), OCTET_LENGTH(c), c || '|' FROM label WHERE id = 1", "=5|5|ab   |"),
        ("SELECT CAST(c AS VARCHAR(9)) || '|', CAST(c AS VARCHAR(3)) || '|' FROM label WHERE id = 1", "=ab   ||ab |"),
        ("SELECT CAST(c AS CHAR(3)) || '|', CAST(c AS CHAR(6)) || '|' FROM label WHERE id = 1", "=ab ||ab    |"),
        (
            "SELECT UPPER(c) || '|', TRIM(c) || '|', SUBSTRING(c FROM 2 FOR 2) || '|' FROM label WHERE id = 1",
            "=AB   ||ab||b |",
        ),
        ("SELECT CAST(c AS VARCHAR(4)) FROM label WHERE id = 3", "!22001"),
        ("SELECT id FROM label WHERE c LIKE 'ab' OR c LIKE 'cd   '", "=2"),
        ("SELECT id FROM label WHERE c = 'ab'", "=1"),
        ("SELECT id FROM label WHERE c = 'ab ' AND 'ab        ' = c", "=1"),
        ("SELECT id FROM label WHERE c = 'abcdefgh'", "="),
        ("SELECT id FROM label WHERE c <> 'abcdefgh' ORDER BY id", "=1; 2; 3"),
        ("SELECT id FROM label WHERE c IN ('ab ', 'a', NULL)", "=1"),
        ("SELECT id FROM label WHERE c NOT IN ('ab ', 'a') ORDER BY id", "=2; 3"),
        ("SELECT id FROM label WHERE c = v ORDER BY id", "=1; 2"),
        ("SELECT id FROM label WHERE (c, id) = ('ab', 1)", "=1"),
        ("SELECT id FROM label WHERE (id, (c, v)) = (2, ('cd', 'cd  '))", "=2"),
        ("SELECT id FROM label WHERE (c, id) IN (SELECT v, id FROM label) ORDER BY id", "=1; 2"),
        ("SELECT id FROM label WHERE c = ANY (SELECT v FROM label) ORDER BY id", "=1; 2"),
        ("SELECT id FROM label WHERE c > ALL (VALUES ('ab'), ('b'))", "=2"),
        ("SELECT a.id, b.id FROM label a JOIN (SELECT v AS c, id FROM label) b USING (c) ORDER BY 1", "=1|1; 2|2"),
        ("SELECT id FROM label WHERE c < 'abc' OR c BETWEEN 'cd' AND 'cda' ORDER BY id", "=1; 2"),
        ("SELECT id FROM label WHERE c IS NOT DISTINCT FROM 'cd'", "=2"),
        ("SELECT id FROM label WHERE c IS DISTINCT FROM 'cd' ORDER BY id", "=1; 3; 4"),
        ("SELECT NULLIF(c, 'ab'), CASE c WHEN 'ab' THEN 1 END FROM label WHERE id = 1", "=NULL|1"),
        // VARCHAR has no blanks of its own: all that it holds counts.
        ("SELECT id FROM label WHERE v = 'cd'", "="),
        (
            "SELECT COALESCE(NULL, c) || '|' FROM label WHERE id = 1 UNION ALL SELECT v || '|' FROM label WHERE id = 1",
            "=ab   |; ab|",
        ),
        ("CREATE TABLE sort_of (c CHAR(3) PRIMARY KEY)", ""),
        ("CREATE TABLE of_sort (c CHAR(3) REFERENCES sort_of)", ""),
        ("INSERT INTO sort_of VALUES ('a'), ('b')", "2"),
        ("INSERT INTO sort_of VALUES ('a  ')", "!23000"),
        ("INSERT INTO of_sort VALUES ('a ')", "1"),
        ("CREATE TABLE never (c VARCHAR(3) REFERENCES sort_of)", "!42000"),
        ("CREATE TABLE never (c CHAR(4) REFERENCES sort_of)", "!42000"),
    ]);
}

#[test]
fn an_index_on_char_serves_a_comparison_with_text() {
    let mut session = garden_gate::Database::in_memory().session();
    session
        .run(
            "CREATE TABLE label (id INTEGER, c CHAR(5)); \
             INSERT INTO label SELECT value, CAST(value AS CHAR(5)) FROM SERIES(1, 9000); CREATE INDEX label_c ON label (c)",
        )
        .unwrap();
    let plan = session.plan("SELECT id FROM label WHERE c = '77'", garden_gate::Parameters::new()).unwrap();
    assert!(plan.reads("label").by_index("label_c"), "{plan:?}");
    assert_eq!(crate::support::run(&mut session, "SELECT id FROM label WHERE c IN ('77', '78 ')").unwrap(), "77; 78");
}
