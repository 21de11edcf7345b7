//! Tables that live: definition, change and constraints. What each statement comes to was computed by hand.

use crate::story::tell;
use garden_gate::{Database, Parameters};

const BEDS: (&str, &str) = (
    "CREATE TABLE bed (id INTEGER PRIMARY KEY, name VARCHAR(12) NOT NULL, sun VARCHAR(9) DEFAULT 'shade', area NUMERIC(5,2) CHECK (area > 0))",
    "",
);
const ROWS: (&str, &str) =
    ("INSERT INTO bed VALUES (1, 'Fern', 'shade', 12.5), (2, 'Scree', 'sun', 8), (3, 'Bog', NULL, NULL)", "3");
const ALL: &str = "SELECT * FROM bed ORDER BY id";

#[test]
fn rows_come_change_and_go() {
    tell(&[
        BEDS,
        ("SELECT COUNT(*), MAX(id) FROM bed", "=0|NULL"),
        ROWS,
        (
            "INSERT INTO bed (name, id) VALUES ('Rose', 4), ('Lime', DEFAULT)",
            "!23000 column \"id\" of table \"bed\" can't be NULL",
        ),
        ("INSERT INTO bed (name, id) VALUES ('Rose', 4)", "1"),
        (ALL, "=1|Fern|shade|12.50; 2|Scree|sun|8.00; 3|Bog|NULL|NULL; 4|Rose|shade|NULL"),
        ("UPDATE bed SET area = area + 1, sun = DEFAULT WHERE area IS NOT NULL", "2"),
        ("UPDATE bed SET (name, area) = (SELECT MAX(name), 5 FROM bed) WHERE id = 4", "1"),
        ("UPDATE bed b SET area = (SELECT COUNT(*) FROM bed c WHERE c.id <= b.id) WHERE b.id = 3", "1"),
        (ALL, "=1|Fern|shade|13.50; 2|Scree|shade|9.00; 3|Bog|NULL|3.00; 4|Scree|shade|5.00"),
        (
            "DELETE FROM bed WHERE EXISTS (SELECT 1 FROM bed AS other WHERE other.name = bed.name AND other.id < bed.id)",
            "1",
        ),
        ("DELETE FROM bed WHERE sun = 'sun'", "0"),
        ("WITH small AS (SELECT id FROM bed WHERE area < 10) DELETE FROM bed WHERE id IN (SELECT id FROM small)", "2"),
        (ALL, "=1|Fern|shade|13.50"),
        ("INSERT INTO bed SELECT id + 10, name, sun, area FROM bed", "1"),
        ("WITH more (id) AS (VALUES (7), (8)) INSERT INTO bed (id, name) SELECT id, 'new' FROM more", "2"),
        ("UPDATE bed SET id = id + 1", "4"),
        ("SELECT id FROM bed ORDER BY id", "=2; 8; 9; 12"),
        ("TRUNCATE TABLE bed", "4"),
        (ALL, "="),
    ]);
}

#[test]
fn returning_shows_rows_as_they_were_and_are() {
    tell(&[
        BEDS,
        (
            "INSERT INTO bed VALUES (1, 'Fern', DEFAULT, 2) RETURNING id, sun, NEW.area * 2 AS twice, OLD.id",
            "=1|shade|4.00|NULL",
        ),
        ("UPDATE bed SET area = 3 RETURNING OLD.area, area, NEW.area - OLD.area", "=2.00|3.00|1.00"),
        ("UPDATE bed AS b SET name = 'Moss' WHERE b.id = 1 RETURNING b.name, (SELECT COUNT(*) FROM bed)", "=Moss|1"),
        ("DELETE FROM bed RETURNING *", "=1|Moss|shade|3.00"),
        ("DELETE FROM bed RETURNING name", "="),
        (
            "INSERT INTO bed (id, name) VALUES (1, 'a') RETURNING nam",
            "!42S22 no column \"nam\" … did you mean \"name\"",
        ),
        ("SELECT COUNT(*) FROM bed", "=0"),
    ]);
}

#[test]
fn a_statement_that_fails_changes_nothing() {
    tell(&[
        BEDS,
        ROWS,
        (
            "INSERT INTO bed VALUES (9, 'a', 'b', 1), (2, 'c', 'd', 1)",
            "!23000 primary key id = 2 already (bed_primary_key) … the existing row is id = 2, name = Scree",
        ),
        ("INSERT INTO bed VALUES (8, 'a', 'b', 1), (8, 'c', 'd', 1)", "!23000 primary key id = 8"),
        ("INSERT INTO bed VALUES (9, 'a', 'b', 0)", "!23000 bed_check: CHECK (area > 0) is FALSE … the row is id = 9"),
        ("UPDATE bed SET area = area - 8", "!23000 bed_check"),
        ("UPDATE bed SET id = 1", "!23000 primary key id = 1"),
        ("UPDATE bed SET name = NULL WHERE id = 1", "!23000 column \"name\""),
        ("INSERT INTO bed VALUES (9, 'a name too long', NULL, 1)", "!22001"),
        ("INSERT INTO bed (id, name, area) VALUES (9, 'a', 1000)", "!22003"),
        ("UPDATE bed SET area = 1 / (id - 2)", "!22012"),
        ("INSERT INTO bed VALUES (9, 'a')", "!42000 2 values for 4 columns … id, name, sun and area"),
        ("INSERT INTO bed (id, nme) VALUES (9, 'a')", "!42S22 did you mean \"name\""),
        ("INSERT INTO bed (id, id) VALUES (9, 9)", "!42000 appears twice"),
        ("UPDATE bed SET name = 'a', name = 'b'", "!42000 appears twice"),
        (
            "INSERT INTO bed (id, name) VALUES ('x', 'a')",
            "!42000 column \"id\" is INTEGER, the value is VARCHAR … CAST",
        ),
        ("INSERT INTO beds VALUES (1)", "!42S02 did you mean \"bed\""),
        ("UPDATE bed SET area = SUM(area)", "!42000 aggregate"),
        (ALL, "=1|Fern|shade|12.50; 2|Scree|sun|8.00; 3|Bog|NULL|NULL"),
    ]);
}

#[test]
fn keys_and_their_nulls() {
    tell(&[
        ("CREATE TABLE t (a INTEGER UNIQUE, b INTEGER, c INTEGER, UNIQUE NULLS NOT DISTINCT (b, c))", ""),
        ("INSERT INTO t VALUES (1, 1, 1), (NULL, 1, NULL), (NULL, NULL, NULL)", "3"),
        ("INSERT INTO t VALUES (NULL, 1, NULL)", "!23000 unique key b = 1, c = NULL already (t_b_c_unique)"),
        ("INSERT INTO t VALUES (1, 5, 5)", "!23000 unique key a = 1 already (t_a_unique)"),
        // A key that goes and one that comes in one statement.
        ("UPDATE t SET a = 3 - COALESCE(a, 1) WHERE a = 1 OR b = 1 AND c IS NULL", "!23000 unique key a = 2"),
        ("DELETE FROM t WHERE c IS NULL", "2"),
        ("INSERT INTO t VALUES (2, 1, NULL)", "1"),
        ("UPDATE t SET a = 3 - a", "2"),
        ("SELECT a, c FROM t ORDER BY a", "=1|NULL; 2|1"),
    ]);
}

#[test]
fn duplicates_are_skipped_or_replaced() {
    tell(&[
        BEDS,
        ROWS,
        ("INSERT INTO bed (id, name) VALUES (2, 'x'), (5, 'y'), (5, 'z') SKIP DUPLICATES RETURNING id, name", "=5|y"),
        (
            "INSERT INTO bed (id, name) VALUES (2, 'x'), (6, 'y'), (6, 'z') REPLACE DUPLICATES RETURNING id, name",
            "=2|x; 6|z",
        ),
        ("INSERT INTO bed SELECT * FROM bed SKIP DUPLICATES", "0"),
        ("SELECT id, name FROM bed ORDER BY id", "=1|Fern; 2|x; 3|Bog; 5|y; 6|z"),
    ]);
}

#[test]
fn merge_updates_deletes_and_inserts() {
    let stock =
        "CREATE TABLE stock (plant VARCHAR(9) PRIMARY KEY, n INTEGER CHECK (n >= 0), seen BOOLEAN DEFAULT FALSE)";
    let given = "CREATE TABLE given (plant VARCHAR(9), n INTEGER)";
    let merge = "MERGE INTO stock s USING given g ON s.plant = g.plant \
                 WHEN MATCHED AND s.n + g.n = 0 THEN DELETE \
                 WHEN MATCHED THEN UPDATE SET n = s.n + g.n, seen = TRUE \
                 WHEN NOT MATCHED AND g.n > 0 THEN INSERT (plant, n) VALUES (g.plant, g.n)";
    let returning = format!("{merge} RETURNING plant, OLD.plant, OLD.n, NEW.n");
    let all = "SELECT * FROM stock ORDER BY plant";
    tell(&[
        (stock, ""),
        (given, ""),
        (merge, "0"),
        ("INSERT INTO stock (plant, n) VALUES ('fern', 3), ('moss', 2), ('rose', 5)", "3"),
        ("INSERT INTO given VALUES ('fern', 4), ('moss', -2), ('lily', 1), ('iris', -1)", "4"),
        // Updated and new rows first, then those that went.
        (&returning, "=fern|fern|3|7; lily|NULL|NULL|1; NULL|moss|2|NULL"),
        (all, "=fern|7|TRUE; lily|1|FALSE; rose|5|FALSE"),
        ("UPDATE given SET n = -9", "4"),
        (merge, "!23000 stock_check: CHECK (n >= 0) is FALSE … plant = fern, n = -2"),
        ("UPDATE given SET plant = 'rose', n = 1", "4"),
        (merge, "!21000 matched by more than one row … plant = rose, n = 5"),
        ("UPDATE given SET plant = 'new'", "4"),
        (merge, "!23000 primary key plant = new"),
        (
            "MERGE INTO stock USING (SELECT 'rose' AS plant) AS g ON g.plant = stock.plant WHEN MATCHED THEN UPDATE SET n = 1 / 0",
            "!22012",
        ),
        (
            "MERGE INTO stock USING (SELECT 'none' AS plant) AS g ON g.plant = stock.plant WHEN MATCHED THEN UPDATE SET n = 1 / 0",
            "0",
        ),
        (
            "MERGE INTO stock USING given g ON TRUE WHEN NOT MATCHED THEN INSERT VALUES (stock.plant, 1, TRUE)",
            "!42S02 no table \"stock\"",
        ),
        (
            "MERGE INTO stock USING given g ON TRUE WHEN NOT MATCHED THEN INSERT VALUES (1)",
            "!42000 1 value for 3 columns",
        ),
        ("MERGE INTO stock USING given g ON TRUE", "!42000 expected WHEN MATCHED"),
        (all, "=fern|7|TRUE; lily|1|FALSE; rose|5|FALSE"),
    ]);
}

#[test]
fn numbered_and_generated_columns() {
    tell(&[
        (
            "CREATE TABLE t (id INTEGER GENERATED ALWAYS AS IDENTITY (START WITH 10 INCREMENT BY 5), a INTEGER, twice INTEGER GENERATED ALWAYS AS (a * 2), secret INTEGER DEFAULT 7 HIDDEN)",
            "",
        ),
        ("INSERT INTO t (a) VALUES (1), (2)", "2"),
        ("INSERT INTO t (a) SELECT a FROM t", "2"),
        ("SELECT * FROM t ORDER BY id", "=10|1|2; 15|2|4; 20|1|2; 25|2|4"),
        ("SELECT id, secret FROM t WHERE id = 10", "=10|7"),
        ("INSERT INTO t (id, a) VALUES (1, 1)", "!42000 numbered by the database … OVERRIDING SYSTEM VALUE"),
        ("INSERT INTO t (id, a) OVERRIDING SYSTEM VALUE VALUES (1, 1)", "1"),
        ("INSERT INTO t (id, a) OVERRIDING USER VALUE SELECT 99, 5", "1"),
        ("INSERT INTO t (a, twice) VALUES (1, 1)", "!42000 column \"twice\" is generated"),
        ("UPDATE t SET twice = 1", "!42000 column \"twice\" is generated"),
        ("UPDATE t SET a = 50 WHERE id = 10 RETURNING twice", "=100"),
        ("SELECT MAX(id), MIN(id) FROM t", "=30|1"),
        ("TRUNCATE TABLE t RESTART IDENTITY", "6"),
        ("INSERT INTO t (a) VALUES (NULL) RETURNING id, twice", "=10|NULL"),
        ("CREATE TABLE u (n INTEGER GENERATED BY DEFAULT AS IDENTITY, t VARCHAR(9) DEFAULT 'a' || 'b')", ""),
        ("INSERT INTO u VALUES (5, DEFAULT), (DEFAULT, 'c')", "2"),
        ("INSERT INTO u DEFAULT VALUES", "1"),
        ("SELECT * FROM u ORDER BY n", "=1|c; 2|ab; 5|ab"),
    ]);
}

#[test]
fn references_hold_and_cascade() {
    let tasks = |action: &str| {
        format!(
            "CREATE TABLE task (id INTEGER PRIMARY KEY, bed INTEGER DEFAULT 3 REFERENCES bed {action}, kind VARCHAR(9))"
        )
    };
    let fill = ("INSERT INTO task VALUES (1, 1, 'dig'), (2, 1, 'weed'), (3, 2, 'dig'), (4, NULL, 'dig')", "4");
    let beds = "SELECT id, bed FROM task ORDER BY id";
    for (action, statement, outcome, after) in [
        (
            "",
            "DELETE FROM bed WHERE id = 1",
            "!23000 needed by task_bed_reference of table \"task\": id = 1 … id = 1, bed = 1",
            "=1|1; 2|1; 3|2; 4|NULL",
        ),
        ("ON DELETE RESTRICT", "DELETE FROM bed", "!23001 needed by task_bed_reference", "=1|1; 2|1; 3|2; 4|NULL"),
        ("ON DELETE CASCADE", "DELETE FROM bed WHERE id = 1", "1", "=3|2; 4|NULL"),
        ("ON DELETE SET NULL", "DELETE FROM bed WHERE id = 1", "1", "=1|NULL; 2|NULL; 3|2; 4|NULL"),
        ("ON DELETE SET DEFAULT", "DELETE FROM bed WHERE id = 1", "1", "=1|3; 2|3; 3|2; 4|NULL"),
        (
            "ON DELETE SET DEFAULT",
            "DELETE FROM bed WHERE id <> 2",
            "!23000 breaks task_bed_reference: bed = 3 is not in table \"bed\"",
            "=1|1; 2|1; 3|2; 4|NULL",
        ),
        ("ON UPDATE CASCADE", "UPDATE bed SET id = id * 10", "3", "=1|10; 2|10; 3|20; 4|NULL"),
        ("ON UPDATE SET NULL", "UPDATE bed SET id = 7 WHERE id = 2", "1", "=1|1; 2|1; 3|NULL; 4|NULL"),
        ("ON UPDATE CASCADE", "UPDATE bed SET name = 'same'", "3", "=1|1; 2|1; 3|2; 4|NULL"),
        (
            "",
            "UPDATE task SET bed = 9 WHERE id = 4",
            "!23000 bed = 9 is not in table \"bed\"",
            "=1|1; 2|1; 3|2; 4|NULL",
        ),
        ("", "INSERT INTO task (id) VALUES (5)", "1", "=1|1; 2|1; 3|2; 4|NULL; 5|3"),
    ] {
        tell(&[BEDS, ROWS, (&tasks(action), ""), fill, (statement, outcome), (beds, after)]);
    }
    // A table that refers to itself, rows of one statement to each other, and a chain that goes together.
    tell(&[
        ("CREATE TABLE node (id INTEGER PRIMARY KEY, up INTEGER REFERENCES node ON DELETE CASCADE)", ""),
        ("INSERT INTO node VALUES (3, 2), (2, 1), (1, NULL), (4, 4)", "4"),
        ("INSERT INTO node VALUES (5, 6)", "!23000 up = 6 is not in table \"node\""),
        ("DELETE FROM node WHERE id = 1", "1"),
        ("SELECT id FROM node", "=4"),
        ("DELETE FROM node", "1"),
    ]);
    tell(&[
        ("CREATE TABLE place (x INTEGER, y INTEGER, PRIMARY KEY (x, y))", ""),
        ("CREATE TABLE tree (x INTEGER, y INTEGER, FOREIGN KEY (x, y) REFERENCES place MATCH FULL)", ""),
        ("INSERT INTO place VALUES (1, 1)", "1"),
        ("INSERT INTO tree VALUES (1, 1), (NULL, NULL)", "2"),
        ("INSERT INTO tree VALUES (1, NULL)", "!23000 tree_x_y_reference: x = 1, y = NULL is NULL in part"),
        ("CREATE TABLE bush (x INTEGER REFERENCES place)", "!42000 1 column can't refer to 2"),
        (
            "CREATE TABLE bush (x INTEGER REFERENCES place (x))",
            "!42000 no key of table \"place\" has just these columns",
        ),
        (
            "CREATE TABLE bush (x VARCHAR(4), y INTEGER, FOREIGN KEY (x, y) REFERENCES place)",
            "!42000 is VARCHAR … give both the same type",
        ),
    ]);
}

#[test]
fn tables_are_made_altered_and_dropped() {
    tell(&[
        ("CREATE SCHEMA shed", ""),
        ("CREATE SCHEMA shed", "!42000 already"),
        ("CREATE SCHEMA IF NOT EXISTS shed", ""),
        ("CREATE TABLE shed.tool (id INTEGER, name VARCHAR(9))", ""),
        ("INSERT INTO shed.tool VALUES (1, 'rake'), (2, 'hoe')", "2"),
        ("SET SCHEMA shed", ""),
        ("CREATE TABLE copy AS SELECT name, id * 2 AS n FROM tool", "2"),
        ("CREATE TABLE none (a, b) AS SELECT * FROM tool WITH NO DATA", "0"),
        ("SELECT * FROM none", "="),
        ("INSERT INTO none VALUES (1, 'x') RETURNING b", "=x"),
        ("CREATE TABLE like_tool (LIKE tool, extra DATE)", ""),
        ("INSERT INTO like_tool (id) VALUES (1) RETURNING *", "=1|NULL|NULL"),
        ("ALTER TABLE tool ADD COLUMN weight NUMERIC(4,1) DEFAULT 1.5", ""),
        ("SELECT * FROM tool ORDER BY id", "=1|rake|1.5; 2|hoe|1.5"),
        ("ALTER TABLE tool ADD CONSTRAINT light CHECK (weight < 1)", "!23000 breaks light"),
        ("ALTER TABLE tool ADD CONSTRAINT tool_key PRIMARY KEY (id)", ""),
        ("INSERT INTO tool (id) VALUES (1)", "!23000 (tool_key)"),
        ("ALTER TABLE tool ALTER COLUMN name SET NOT NULL", ""),
        ("INSERT INTO tool (id) VALUES (3)", "!23000 column \"name\""),
        ("ALTER TABLE tool ALTER name SET DEFAULT 'fork'", ""),
        ("INSERT INTO tool (id) VALUES (3) RETURNING name", "=fork"),
        ("ALTER TABLE tool RENAME COLUMN name TO label", ""),
        ("ALTER TABLE tool DROP COLUMN id", "!42000 part of \"tool_key\" … CASCADE"),
        ("ALTER TABLE tool DROP COLUMN weight", ""),
        ("ALTER TABLE tool DROP CONSTRAINT tool_kee", "!42000 did you mean \"tool_key\""),
        ("ALTER TABLE tool DROP CONSTRAINT tool_key", ""),
        ("INSERT INTO tool VALUES (1, 'axe')", "1"),
        ("ALTER TABLE tool RENAME TO implement", ""),
        ("SELECT * FROM implement ORDER BY label", "=1|axe; 3|fork; 2|hoe; 1|rake"),
        ("SELECT * FROM tool", "!42S02"),
        ("CREATE TABLE copy (a INTEGER)", "!42S01"),
        ("CREATE TABLE IF NOT EXISTS copy (a INTEGER)", ""),
        ("CREATE TABLE bad (a INTEGER, A INTEGER)", "!42S21"),
        ("CREATE TABLE bad (a INTEGER DEFAULT 'x')", "!42000 column \"a\" is INTEGER"),
        ("CREATE TABLE bad (a INTEGER CHECK (b > 1))", "!42S22 no column \"b\""),
        ("CREATE TABLE bad (a INTEGER CHECK (a IN (SELECT 1)))", "!42000 CHECK can't hold a query"),
        ("CREATE TABLE bad (a INTEGER PRIMARY KEY, PRIMARY KEY (a))", "!42000 a primary key already"),
        ("DROP TABLE none", ""),
        ("DROP TABLE none", "!42S02"),
        ("DROP TABLE IF EXISTS none", ""),
        ("SET SCHEMA home", ""),
        ("DROP SCHEMA shed", "!42000 holds \"implement\", \"copy\" and \"like_tool\" … CASCADE"),
        ("DROP SCHEMA shed CASCADE", ""),
        ("SELECT * FROM shed.copy", "!3F000"),
    ]);
}

#[test]
fn views_are_read_in_place_of_their_names() {
    tell(&[
        BEDS,
        ROWS,
        ("CREATE VIEW sunny (what, size) AS SELECT name, area FROM bed WHERE sun = 'sun'", ""),
        ("SELECT * FROM sunny", "=Scree|8.00"),
        ("SELECT s.what FROM sunny s JOIN bed ON bed.name = s.what WHERE size > 1", "=Scree"),
        ("CREATE VIEW deep AS WITH x AS (SELECT * FROM sunny) SELECT what || '!' AS loud FROM x", ""),
        ("UPDATE bed SET sun = 'sun'", "3"),
        ("SELECT COUNT(*) FROM deep", "=3"),
        ("INSERT INTO sunny VALUES ('a', 1)", "!23000 column \"id\" of table \"bed\" can't be NULL"),
        ("CREATE VIEW deep AS SELECT 1 AS one", "!42S01"),
        ("CREATE OR REPLACE VIEW deep AS SELECT loud FROM deep", "!42000 refers to itself"),
        ("CREATE VIEW two AS SELECT 1 AS a, 2 AS a", "!42S21"),
        ("CREATE VIEW wrong AS SELECT nme FROM bed", "!42S22"),
        ("DROP TABLE bed", "!42000 view \"sunny\" … view \"deep\" … CASCADE"),
        ("ALTER TABLE bed DROP COLUMN area", "!42000 part of \"bed_check\" … CASCADE"),
        ("ALTER TABLE bed DROP CONSTRAINT bed_check", ""),
        ("ALTER TABLE bed DROP COLUMN area", "!42000 view \"sunny\" … depend"),
        ("DROP VIEW sunny", "!42000 view \"deep\" depends on it"),
        ("DROP VIEW sunny CASCADE", ""),
        ("SELECT * FROM deep", "!42S02"),
        ("DROP TABLE bed", ""),
    ]);
}

#[test]
fn files_and_sources_become_tables() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("beds.csv");
    std::fs::write(&path, "name,id\nFern,1\nScree,2\n").unwrap();
    let db = Database::in_memory();
    let mut session = db.session();
    session.allow_folder(folder.path()).unwrap();
    let mut run = |sql: &str| session.execute(sql.replace("FILE", &format!("FILE '{}'", path.display())), ());
    assert_eq!(run("CREATE TABLE bed FROM FILE").unwrap(), 2);
    assert_eq!(run("CREATE TABLE typed (id INTEGER PRIMARY KEY, name VARCHAR(9), more DATE)").unwrap(), 0);
    // By name, whatever their order; by place when the columns are named.
    assert_eq!(run("INSERT INTO typed FROM FILE").unwrap(), 2);
    assert_eq!(run("INSERT INTO typed (name, id) FROM FILE SKIP DUPLICATES").unwrap(), 0);
    assert_eq!(run("CREATE TABLE other (a INTEGER)").unwrap(), 0);
    assert!(run("INSERT INTO other FROM FILE").unwrap_err().to_string().contains("name, id does not fit"));
    let sum = session.query("SELECT SUM(id), MIN(name) FROM typed", ()).unwrap();
    assert_eq!(crate::support::show(&sum), "3|Fern");
    db.add_file("given", &path).unwrap();
    let error = session.execute("DELETE FROM given", ()).unwrap_err();
    assert!(error.to_string().contains("can't be changed") && error.help().unwrap().contains("CREATE TABLE my_given"));
}

#[test]
fn changes_take_parameters() {
    let mut session = tell(&[BEDS]);
    let row = Parameters::new().set("id", 1).set("name", "Fern");
    assert_eq!(session.execute("INSERT INTO bed (id, name) VALUES (:id, :name)", row).unwrap(), 1);
    let rows = session.query("UPDATE bed SET area = :a RETURNING area", Parameters::new().set("a", 3)).unwrap();
    assert_eq!((crate::support::show(&rows).as_str(), rows.affected()), ("3.00", Some(1)));
    assert!(session.execute("DELETE FROM bed WHERE id = :missing", ()).is_err());
}

#[test]
fn the_information_schema_knows_what_was_defined() {
    tell(&[
        BEDS,
        (
            "CREATE TABLE task (id INTEGER UNIQUE, bed INTEGER, CONSTRAINT in_bed FOREIGN KEY (bed) REFERENCES bed MATCH FULL)",
            "",
        ),
        ("CREATE VIEW sunny AS SELECT name FROM bed WHERE sun = 'sun'", ""),
        (
            "SELECT TABLE_NAME, TABLE_TYPE FROM INFORMATION_SCHEMA.TABLES WHERE TABLE_SCHEMA = 'home' ORDER BY 1",
            "=bed|BASE TABLE; sunny|VIEW; task|BASE TABLE",
        ),
        (
            "SELECT COLUMN_NAME, COLUMN_DEFAULT, IS_NULLABLE, DATA_TYPE FROM INFORMATION_SCHEMA.COLUMNS WHERE TABLE_NAME = 'bed' ORDER BY ORDINAL_POSITION",
            "=id|NULL|NO|INTEGER; name|NULL|NO|VARCHAR(12); sun|'shade'|YES|VARCHAR(9); area|NULL|YES|NUMERIC(5,2)",
        ),
        (
            "SELECT CONSTRAINT_NAME, TABLE_NAME, CONSTRAINT_TYPE FROM INFORMATION_SCHEMA.TABLE_CONSTRAINTS ORDER BY 1",
            "=bed_check|bed|CHECK; bed_primary_key|bed|PRIMARY KEY; in_bed|task|FOREIGN KEY; task_id_unique|task|UNIQUE",
        ),
        (
            "SELECT COLUMN_NAME, ORDINAL_POSITION FROM INFORMATION_SCHEMA.KEY_COLUMN_USAGE WHERE CONSTRAINT_NAME = 'in_bed'",
            "=bed|1",
        ),
        (
            "SELECT CONSTRAINT_NAME, UNIQUE_CONSTRAINT_NAME, MATCH_OPTION FROM INFORMATION_SCHEMA.REFERENTIAL_CONSTRAINTS",
            "=in_bed|bed_primary_key|FULL",
        ),
        ("SELECT CHECK_CLAUSE FROM INFORMATION_SCHEMA.CHECK_CONSTRAINTS", "=area > 0"),
        (
            "SELECT VIEW_DEFINITION, IS_UPDATABLE FROM INFORMATION_SCHEMA.VIEWS",
            "=SELECT name FROM bed WHERE sun = 'sun'|YES",
        ),
    ]);
}

/// Tables of several parts: large inserts are cut, small ones merged, deletes masked.
#[test]
fn large_tables_change_as_small_ones_do() {
    let mut session = tell(&[
        ("CREATE TABLE t (k BIGINT PRIMARY KEY, v BIGINT)", ""),
        ("INSERT INTO t SELECT value, MOD(value, 7) FROM SERIES(1, 300000)", "300000"),
        ("DELETE FROM t WHERE MOD(k, 100000) = 5", "3"),
        ("UPDATE t SET v = 100 WHERE k BETWEEN 131000 AND 131200", "201"),
        ("SELECT COUNT(*), SUM(k), COUNT(*) FILTER (WHERE v = 100) FROM t", "=299997|44999849985|201"),
        // Rows of three parts, those changed before after the others.
        (
            "UPDATE t SET v = -1 WHERE k IN (7, 131072, 262145) RETURNING OLD.k, OLD.v, v",
            "=7|0|-1; 262145|2|-1; 131072|100|-1",
        ),
        ("INSERT INTO t VALUES (131100, 0)", "!23000 k = 131100 already"),
        ("INSERT INTO t VALUES (100005, 0)", "1"),
        ("INSERT INTO t SELECT k, 1 FROM t SKIP DUPLICATES", "0"),
        ("DELETE FROM t WHERE k > 5", "299994"),
        ("SELECT k, v FROM t ORDER BY k", "=1|1; 2|2; 3|3; 4|4"),
    ]);
    for k in 10..300 {
        assert_eq!(session.execute(format!("INSERT INTO t VALUES ({k}, {k})"), ()).unwrap(), 1);
    }
    crate::story::check(&mut session, ("SELECT COUNT(*), SUM(v) FROM t", "=294|44815"));
    crate::story::check(&mut session, ("DELETE FROM t", "294"));
    crate::story::check(&mut session, ("SELECT COUNT(*) FROM t", "=0"));
}

/// The planner goes by figures that follow the changes.
#[test]
fn statistics_follow_the_changes() {
    let mut session = tell(&[
        ("CREATE TABLE t (k INTEGER, kind VARCHAR(9))", ""),
        ("INSERT INTO t SELECT value, CASE WHEN value <= 10 THEN 'rare' ELSE 'often' END FROM SERIES(1, 1000)", "1000"),
    ]);
    let mut estimate = |sql: &str| {
        let plan = session.plan(sql, ()).unwrap();
        plan.nodes()[0].estimated_rows
    };
    assert!((estimate("SELECT * FROM t WHERE kind = 'rare'") - 10.0).abs() < 1.0);
    assert!((estimate("SELECT * FROM t WHERE kind = 'often'") - 990.0).abs() < 10.0);
    session.execute("UPDATE t SET kind = 'rare' WHERE k <= 500", ()).unwrap();
    let plan = session.plan("SELECT * FROM t WHERE kind = 'rare'", ()).unwrap();
    let rows = plan.nodes()[0].estimated_rows;
    assert!((rows - 500.0).abs() < 10.0, "{rows}");
}

#[test]
fn words_that_do_not_make_a_definition_or_a_change() {
    tell(&[
        ("CREATE TABLE", "!42000 expected the name of a table"),
        ("CREATE TABLE t", "!42000 expected (, AS or FROM FILE"),
        ("CREATE TABLE t (a)", "!42000 expected AS"),
        ("CREATE TABLE t (a INTEGER", "!42000"),
        ("CREATE TABLE t (a INTEGER NOT)", "!42000"),
        ("CREATE TABLE t (a INTEGER GENERATED ALWAYS AS 1)", "!42000 IDENTITY, ROW START, ROW END, or ("),
        ("CREATE TABLE t (a VARCHAR(5) GENERATED ALWAYS AS IDENTITY)", "!42000 can't be numbered: it is VARCHAR(5)"),
        ("CREATE TABLE t (a INTEGER REFERENCES t ON DELETE EXPLODE)", "!42000 CASCADE, SET NULL"),
        ("CREATE THING x", "!42000 expected SCHEMA, TABLE, VIEW, INDEX"),
        ("CREATE TRIGGER s", "!0A000 CREATE TRIGGER"),
        ("DROP DATABASE x", "!42000 expected SCHEMA, TABLE, VIEW, INDEX"),
        ("DROP SCHEMA home", "!42000 stays"),
        ("CREATE SCHEMA INFORMATION_SCHEMA", "!42000 already"),
        ("CREATE TABLE nowhere.t (a INTEGER)", "!3F000 no schema \"nowhere\""),
        ("CREATE TABLE a.b.c (a INTEGER)", "!42000 at most two parts"),
        BEDS,
        ("INSERT bed VALUES (1)", "!42000 expected INTO"),
        ("INSERT INTO bed", "!42000 expected VALUES, a query, DEFAULT VALUES or FROM FILE"),
        ("INSERT INTO bed VALUES", "!42000"),
        ("UPDATE bed SET id 1", "!42000 expected ="),
        ("UPDATE bed SET id = 1 FROM task", "!42S02 no table \"task\""),
        ("UPDATE bed SET (id, name) = (1)", "!42000 1 value for 2 columns"),
        ("DELETE bed", "!42000 expected FROM"),
        ("DELETE FROM bed WHERE", "!42000"),
        ("INSERT INTO bed (id, name) VALUES (1, DEFAULT + 1)", "!42000"),
        ("ALTER TABLE bed CHANGE id", "!42000 expected ADD, DROP, RENAME, ALTER, SET HISTORY or CHECK CONSTRAINTS"),
        ("ALTER TABLE bed ADD COLUMN n INTEGER NOT NULL", ""),
        ("ALTER TABLE bed RENAME COLUMN n TO name", "!42S21"),
        ("ALTER TABLE bed ALTER id DROP NOT NULL", "!42000 part of the primary key"),
        ("ALTER TABLE bad ADD n INTEGER", "!42S02 did you mean \"bed\""),
        ("CREATE VIEW v AS SELECT :p", "!42000 parameters"),
        ("ROLLBACK TO SAVEPOINT x", "!25000"),
        ("START TRANSACTION ISOLATION LEVEL SNAPSHOT", "!42000 expected SERIALIZABLE"),
        ("INSRT INTO bed VALUES (1)", "!42000 did you mean INSERT"),
    ]);
}
