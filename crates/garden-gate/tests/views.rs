//! Changes through views, and CHECK OPTION (clauses 4.15.2 and 11.32). What each statement comes to was computed by hand.

use crate::story::tell;

const BED: (&str, &str) = (
    "CREATE TABLE bed (id INTEGER PRIMARY KEY, name VARCHAR(9), sun VARCHAR(9) DEFAULT 'shade', area NUMERIC(5,2))",
    "",
);
const ROWS: (&str, &str) =
    ("INSERT INTO bed VALUES (1, 'Fern', 'shade', 10), (2, 'Scree', 'sun', 20), (3, 'Bog', 'shade', 30)", "3");
const ALL: &str = "SELECT * FROM bed ORDER BY id";

#[test]
fn a_view_of_one_table_can_be_changed() {
    tell(&[
        BED,
        ROWS,
        (
            "CREATE VIEW shady (number, label, twice) AS SELECT b.id, b.name, b.area * 2 FROM bed AS b WHERE sun = 'shade'",
            "",
        ),
        ("UPDATE shady SET label = UPPER(label) WHERE twice > 50", "1"),
        ("UPDATE shady SET label = 'x' WHERE number = 2", "0"),
        ("DELETE FROM shady AS s WHERE s.number IN (1, 2) RETURNING *", "=1|Fern"),
        ("INSERT INTO shady (label, number) VALUES ('Moss', 4) RETURNING number, label, NEW.label", "=4|Moss|Moss"),
        (ALL, "=2|Scree|sun|20.00; 3|BOG|shade|30.00; 4|Moss|shade|NULL"),
        ("INSERT INTO shady VALUES (5, 'a', 1)", "!42000 column \"twice\" of view \"shady\" is computed"),
        ("UPDATE shady SET twice = 1", "!42000 is computed"),
        ("UPDATE shady SET name = 'a'", "!42S22 no column \"name\" … shady"),
        (
            "MERGE INTO shady USING (VALUES (3, 'New'), (8, 'Ivy')) AS v (n, l) ON number = n \
             WHEN MATCHED THEN UPDATE SET label = l WHEN NOT MATCHED THEN INSERT (number, label) VALUES (n, l)",
            "2",
        ),
        (ALL, "=2|Scree|sun|20.00; 3|New|shade|30.00; 4|Moss|shade|NULL; 8|Ivy|shade|NULL"),
        ("INSERT INTO shady (number, label) VALUES (2, 'no')", "!23000 primary key id = 2"),
        ("TRUNCATE TABLE shady", "!42000 shady is a view: TRUNCATE"),
    ]);
}

#[test]
fn check_option_refuses_rows_the_view_does_not_show() {
    tell(&[
        BED,
        ROWS,
        ("CREATE VIEW plain AS SELECT * FROM bed WHERE area < 100", ""),
        (
            "CREATE VIEW shady AS SELECT id, sun, area AS size FROM plain WHERE sun = 'shade' WITH LOCAL CHECK OPTION",
            "",
        ),
        ("CREATE VIEW strict AS SELECT id AS n, size FROM shady WHERE size > 5 WITH CASCADED CHECK OPTION", ""),
        ("CREATE VIEW free AS SELECT n, size FROM strict WHERE n < 100", ""),
        // LOCAL asks only for its own condition.
        ("INSERT INTO shady VALUES (4, 'shade', 200)", "1"),
        ("INSERT INTO shady VALUES (5, 'sun', 1)", "!44000 view \"shady\" … the row is id = 5"),
        ("UPDATE shady SET sun = NULL WHERE id = 1", "!44000"),
        ("UPDATE shady SET size = size * 10", "2"),
        // CASCADED asks for those below as well.
        ("INSERT INTO strict VALUES (6, 100)", "!44000 view \"plain\""),
        ("INSERT INTO strict VALUES (6, 5)", "!44000 view \"strict\""),
        ("INSERT INTO strict VALUES (6, 6)", "1"),
        // A view without one lets through what those below let through.
        ("INSERT INTO free VALUES (700, 7)", "1"),
        ("INSERT INTO free VALUES (701, 4)", "!44000 view \"strict\""),
        ("UPDATE plain SET area = 500 WHERE id = 2", "1"),
        ("SELECT id, area FROM bed ORDER BY id", "=1|100.00; 2|500.00; 3|300.00; 4|200.00; 6|6.00; 700|7.00"),
        (
            "SELECT TABLE_NAME, CHECK_OPTION, IS_UPDATABLE FROM INFORMATION_SCHEMA.VIEWS ORDER BY 1",
            "=free|NONE|YES; plain|NONE|YES; shady|LOCAL|YES; strict|CASCADED|YES",
        ),
    ]);
}

#[test]
fn other_views_say_why_they_cannot_be_changed() {
    for (query, reason) in [
        ("SELECT DISTINCT sun FROM bed", "DISTINCT, GROUP BY or HAVING"),
        ("SELECT sun FROM bed GROUP BY sun", "DISTINCT, GROUP BY or HAVING"),
        ("SELECT MAX(area) AS m FROM bed", "aggregates, windows or queries"),
        ("SELECT id, ROW_NUMBER() OVER () AS n FROM bed", "aggregates, windows or queries"),
        ("SELECT b.id FROM bed AS b JOIN bed AS c ON b.id = c.id", "just one table"),
        ("SELECT id FROM bed UNION SELECT 1", "not a plain SELECT"),
        ("VALUES (1)", "not a plain SELECT"),
        ("SELECT id FROM bed FETCH FIRST ROW ONLY", "WITH, OFFSET or FETCH"),
        ("SELECT x FROM (SELECT id AS x FROM bed) AS t", "just one table"),
    ] {
        tell(&[
            BED,
            (&format!("CREATE VIEW v AS {query}"), ""),
            ("DELETE FROM v", &format!("!42000 through view \"v\" … {reason}")),
            (&format!("CREATE VIEW w AS {query} WITH CHECK OPTION"), &format!("!42000 {reason}")),
            ("CREATE VIEW below AS SELECT * FROM v", ""),
            ("DELETE FROM below", &format!("!42000 through view \"v\" … {reason}")),
        ]);
    }
    tell(&[
        BED,
        ROWS,
        ("CREATE VIEW v AS SELECT id FROM bed WHERE area > (SELECT AVG(area) FROM bed)", ""),
        ("DELETE FROM v", "1"),
        (ALL, "=1|Fern|shade|10.00; 2|Scree|sun|20.00"),
    ]);
}

#[test]
fn check_option_may_ask_a_query() {
    tell(&[
        BED,
        ROWS,
        ("CREATE TABLE task (bed INTEGER, hours INTEGER)", ""),
        ("INSERT INTO task VALUES (1, 2), (4, 3), (5, NULL)", "3"),
        // The rows are looked at as they are when the statement is done: 20 is the average of 10, 20 and 30.
        ("CREATE VIEW large AS SELECT * FROM bed WHERE area > (SELECT AVG(area) FROM bed) WITH CHECK OPTION", ""),
        ("INSERT INTO large VALUES (6, 'Low', 'sun', 5)", "!44000 view \"large\" … id = 6"),
        ("INSERT INTO large VALUES (6, 'High', 'sun', 100)", "1"),
        // With 15 instead of 30 the average is (10 + 20 + 15 + 100) / 4.
        ("UPDATE large SET area = 15 WHERE id = 3", "0"),
        ("UPDATE large SET area = 15 WHERE id = 6", "!44000"),
        ("DELETE FROM large", "1"),
        (
            "CREATE VIEW worked AS SELECT id, area FROM bed WHERE id IN (SELECT bed FROM task WHERE hours IS NOT NULL)",
            "",
        ),
        ("CREATE VIEW held AS SELECT * FROM worked WHERE area < 50 WITH CASCADED CHECK OPTION", ""),
        ("INSERT INTO held VALUES (4, 1)", "1"),
        ("INSERT INTO held VALUES (5, 1)", "!44000 view \"worked\""),
        ("INSERT INTO held VALUES (4, 90)", "!44000 view \"held\""),
        ("INSERT INTO held VALUES (1, 1)", "!23000 primary key id = 1"),
        ("UPDATE held SET id = 9 WHERE id = 4", "!44000 view \"worked\" … id = 9"),
        ("UPDATE held SET area = 50 WHERE id = 4", "!44000 view \"held\""),
        ("CREATE VIEW own AS SELECT * FROM worked WHERE area < 50 WITH LOCAL CHECK OPTION", ""),
        ("INSERT INTO own VALUES (5, 1)", "1"),
        ("SELECT id FROM bed ORDER BY id", "=1; 2; 3; 4; 5"),
    ]);
}
