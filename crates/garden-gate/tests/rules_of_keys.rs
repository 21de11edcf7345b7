//! Rewrite rules that lean on keys, equalities and orders: where each fires, and the traps in which it must not. Every query gives the same
//! rows with the rule omitted.

use crate::support::{run, show};
use garden_gate::{Database, Plan, Session};

const SETUP: &str = "
    CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(9), sun VARCHAR(9));
    CREATE TABLE task (task_id INTEGER PRIMARY KEY, bed_id INTEGER REFERENCES bed, helper INTEGER, hours NUMERIC(4,2));
    CREATE TABLE note (task_id INTEGER NOT NULL UNIQUE, text VARCHAR(9));
    CREATE TABLE loose (bed_id INTEGER UNIQUE, weight INTEGER);
    CREATE TABLE taxon (id INTEGER PRIMARY KEY, parent INTEGER, name VARCHAR(9));
    INSERT INTO bed VALUES (1, 'Fern', 'shade'), (2, 'Scree', 'sun'), (3, 'Bog', NULL);
    INSERT INTO task VALUES (1, 1, 7, 1.5), (2, 1, 8, 2), (3, 2, NULL, 0.5), (4, NULL, 7, 3), (5, 3, 9, NULL);
    INSERT INTO note VALUES (1, 'wet'), (3, 'dry');
    INSERT INTO loose VALUES (1, 5), (NULL, 6), (NULL, 7);
    INSERT INTO taxon VALUES (1, NULL, 'a'), (2, 1, 'b'), (3, 2, 'c'), (4, NULL, 'd'), (5, 4, 'e')";

fn garden() -> Session {
    let mut session = Database::in_memory().session();
    session.run(SETUP).unwrap();
    session
}

fn operators(plan: &Plan) -> Vec<&str> {
    plan.nodes().iter().map(|node| node.operator.name()).collect()
}

/// How often the rule fires, and that the rows are these, with the rule and without it.
#[track_caller]
fn check(rule: &str, cases: &[(&str, usize, &str)]) {
    let mut session = garden();
    for (sql, expected, rows) in cases {
        let plan = session.plan(sql, ()).unwrap_or_else(|error| panic!("{sql}\n{error}"));
        let fired = plan.rewrites.iter().filter(|rewrite| rewrite.rule.name() == rule).count();
        assert_eq!(fired, *expected, "{rule} in {sql}\n{:#?}", plan.rewrites);
        assert_eq!(run(&mut session, sql).unwrap(), *rows, "{sql}");
        session.run(format!("SET without_rules = '{rule}'")).unwrap();
        let without = session.plan(sql, ()).unwrap();
        assert!(without.rewrites.iter().all(|rewrite| rewrite.rule.name() != rule), "{sql}");
        assert_eq!(run(&mut session, sql).unwrap(), *rows, "without {rule}: {sql}");
        session.run("SET without_rules = ''").unwrap();
    }
}

#[test]
fn conditions_reach_the_other_side_of_a_join() {
    check(
        "infer predicates",
        &[
            ("SELECT task_id FROM task t JOIN bed b ON t.bed_id = b.bed_id WHERE b.bed_id = 1 ORDER BY 1", 1, "1; 2"),
            (
                "SELECT task_id FROM task t JOIN bed b USING (bed_id) WHERE b.bed_id > 1 AND b.bed_id < 9 ORDER BY 1",
                2,
                "3; 5",
            ),
            // Over a chain of three tables.
            (
                "SELECT t.task_id FROM bed b, task t, loose l WHERE b.bed_id = t.bed_id AND t.bed_id = l.bed_id AND l.bed_id IN (1, 2) ORDER BY 1",
                2,
                "1; 2",
            ),
            // The condition is there on both sides already.
            ("SELECT COUNT(*) FROM task t JOIN bed b ON t.bed_id = b.bed_id AND t.bed_id = 1 AND b.bed_id = 1", 0, "2"),
            // From the kept side of a left join to the other, never back.
            (
                "SELECT b.bed_id, task_id FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id WHERE b.bed_id = 3",
                1,
                "3|5",
            ),
            (
                "SELECT b.bed_id, task_id FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id AND t.bed_id = 2 ORDER BY 1",
                0,
                "1|NULL; 2|3; 3|NULL",
            ),
            ("SELECT COUNT(*) FROM bed b FULL JOIN loose l ON l.bed_id = b.bed_id AND b.bed_id = 1", 0, "5"),
            // The NULL trap: a row of NOT IN (NULL) counts, so nothing may be filtered away there.
            ("SELECT COUNT(*) FROM bed WHERE bed_id = 2 AND bed_id NOT IN (SELECT bed_id FROM task)", 0, "0"),
            (
                "SELECT bed_id FROM bed b WHERE bed_id > 1 AND EXISTS (SELECT * FROM task t WHERE t.bed_id = b.bed_id) ORDER BY 1",
                1,
                "2; 3",
            ),
            // Columns of different types are equal in another way.
            ("SELECT COUNT(*) FROM task t JOIN bed b ON t.hours = b.bed_id WHERE b.bed_id = 2", 0, "1"),
        ],
    );
    let plan = garden().plan("SELECT 1 FROM task t JOIN bed b ON t.bed_id = b.bed_id WHERE b.bed_id = 1", ()).unwrap();
    let nodes = plan.nodes();
    let of_task = nodes.iter().find(|node| node.target.as_deref() == Some("task")).unwrap();
    assert!(of_task.predicates[0].implied && of_task.predicates[0].text == "t.bed_id = 1", "{of_task:?}");
}

#[test]
fn joins_that_change_nothing_are_dropped() {
    check(
        "eliminate join",
        &[
            ("SELECT t.task_id FROM task t LEFT JOIN bed b ON t.bed_id = b.bed_id ORDER BY 1", 1, "1; 2; 3; 4; 5"),
            (
                "SELECT t.task_id FROM task t LEFT JOIN note n ON n.task_id = t.task_id LEFT JOIN bed b ON t.bed_id = b.bed_id ORDER BY 1",
                2,
                "1; 2; 3; 4; 5",
            ),
            // A column of it is used, also by another condition.
            ("SELECT b.name FROM task t LEFT JOIN bed b ON t.bed_id = b.bed_id WHERE task_id = 3", 0, "Scree"),
            ("SELECT task_id FROM task t LEFT JOIN bed b ON t.bed_id = b.bed_id WHERE b.name IS NULL", 0, "4"),
            ("SELECT COUNT(*) FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id", 0, "4"),
        ],
    );
    check(
        "eliminate join",
        &[
            // A foreign key: each task with a bed has it.
            ("SELECT task_id FROM task t JOIN bed b ON t.bed_id = b.bed_id ORDER BY 1", 1, "1; 2; 3; 5"),
            ("SELECT COUNT(*), SUM(hours) FROM task t, bed b WHERE t.bed_id = b.bed_id", 1, "4|4.00"),
            ("SELECT task_id FROM task t JOIN bed b ON t.bed_id = b.bed_id WHERE b.sun = 'sun'", 0, "3"),
            ("SELECT task_id FROM task t JOIN bed b ON t.task_id = b.bed_id ORDER BY 1", 0, "1; 2; 3"),
            ("SELECT task_id FROM task t JOIN bed b ON t.bed_id = b.bed_id AND t.helper = b.bed_id", 0, ""),
            // No foreign key says so.
            ("SELECT n.text FROM note n JOIN task t ON t.task_id = n.task_id ORDER BY 1", 0, "dry; wet"),
        ],
    );
    // A key that is checked later, or was never checked, is nothing to lean on.
    let mut session = garden();
    session
        .run("CREATE TABLE late (bed_id INTEGER REFERENCES bed DEFERRABLE INITIALLY DEFERRED); START TRANSACTION; INSERT INTO late VALUES (1), (77)")
        .unwrap();
    assert_eq!(run(&mut session, "SELECT l.bed_id FROM late l JOIN bed b ON b.bed_id = l.bed_id").unwrap(), "1");
}

#[test]
fn distinct_and_orders_that_keys_make_needless_are_dropped() {
    check(
        "eliminate distinct",
        &[
            ("SELECT DISTINCT bed_id, name FROM bed ORDER BY 1", 1, "1|Fern; 2|Scree; 3|Bog"),
            ("SELECT DISTINCT helper FROM task ORDER BY 1", 0, "7; 8; 9; NULL"),
            ("SELECT DISTINCT sun, COUNT(*) FROM bed GROUP BY sun ORDER BY 1", 1, "shade|1; sun|1; NULL|1"),
            ("SELECT DISTINCT COUNT(*) FROM bed GROUP BY sun", 0, "1"),
            // Each task has one bed at most: its key is one of the join.
            (
                "SELECT DISTINCT t.task_id, b.sun FROM task t JOIN bed b ON b.bed_id = t.bed_id ORDER BY 1",
                1,
                "1|shade; 2|shade; 3|sun; 5|NULL",
            ),
            // The tasks only say which beds stay.
            ("SELECT DISTINCT b.bed_id FROM task t JOIN bed b ON b.bed_id = t.bed_id ORDER BY 1", 1, "1; 2; 3"),
            // The NULL trap: a unique column may be NULL twice.
            ("SELECT DISTINCT bed_id FROM loose ORDER BY 1", 0, "1; NULL"),
        ],
    );
    let mut session = garden();
    // Sorts are counted: none is to be done by an index.
    session.run("SET index_cost_factor = 1000").unwrap();
    for (sql, fired, sorts) in [
        ("SELECT * FROM bed ORDER BY bed_id, name, sun", 1, 1),
        ("SELECT * FROM bed ORDER BY name, bed_id, sun", 1, 1),
        ("SELECT * FROM bed ORDER BY name, sun", 0, 1),
        ("SELECT COUNT(*) FROM (SELECT name FROM bed ORDER BY name) AS x", 1, 0),
        (
            "SELECT x.name FROM (SELECT name, bed_id FROM bed ORDER BY name) AS x JOIN task t ON t.bed_id = x.bed_id",
            1,
            0,
        ),
        ("SELECT ARRAY_AGG(name) FROM (SELECT name FROM bed ORDER BY name) AS x", 0, 1),
        ("SELECT COUNT(*) FROM (SELECT name FROM bed ORDER BY name FETCH FIRST 2 ROWS ONLY) AS x", 0, 0),
    ] {
        let plan = session.plan(sql, ()).unwrap();
        let found = plan.rewrites.iter().filter(|rewrite| rewrite.rule.name() == "eliminate sort").count();
        assert_eq!(found, fired, "{sql}\n{:#?}", plan.rewrites);
        assert_eq!(operators(&plan).iter().filter(|name| **name == "sort").count(), sorts, "{sql}");
    }
    assert_eq!(run(&mut session, "SELECT name FROM bed ORDER BY sun DESC, bed_id, name").unwrap(), "Scree; Fern; Bog");
}

#[test]
fn conditions_are_tidied() {
    check(
        "simplify predicates",
        &[
            ("SELECT bed_id FROM bed WHERE bed_id > 1 AND bed_id > 2", 1, "3"),
            ("SELECT bed_id FROM bed WHERE bed_id = 2 AND bed_id <= 2 AND bed_id <> 5", 2, "2"),
            ("SELECT bed_id FROM bed WHERE bed_id = 2 AND bed_id = 3", 1, ""),
            ("SELECT COUNT(*) FROM bed WHERE bed_id >= 2 AND bed_id < 2", 1, "0"),
            ("SELECT bed_id FROM bed WHERE bed_id >= 2 AND bed_id <= 2", 0, "2"),
            ("SELECT bed_id FROM bed WHERE bed_id = 1 OR bed_id = 3 OR bed_id IN (3, 9) ORDER BY 1", 1, "1; 3"),
            ("SELECT bed_id FROM bed WHERE sun = 'sun' OR sun = 'shade' ORDER BY 1", 1, "1; 2"),
            // The NULL trap: what is UNKNOWN stays so.
            ("SELECT COUNT(*) FROM bed WHERE NOT (sun = 'sun' OR sun = 'shade')", 0, "0"),
            ("SELECT bed_id FROM bed WHERE bed_id = 1 OR sun = 'sun' ORDER BY 1", 0, "1; 2"),
            (
                "SELECT b.bed_id FROM bed b JOIN task t ON b.bed_id = t.bed_id WHERE b.bed_id = 1 AND b.bed_id > 4",
                2,
                "",
            ),
        ],
    );
    let mut session = garden();
    session.run("CREATE INDEX task_helper_ix ON task (helper); SET index_cost_factor = 0.001").unwrap();
    let plan = session.plan("SELECT task_id FROM task WHERE helper = 7 OR helper = 9", ()).unwrap();
    assert_eq!(plan.root.children.first().unwrap_or(&plan.root).operator.name(), "index lookup");
}

#[test]
fn limits_go_into_the_parts_of_a_union() {
    check(
        "limit pushdown",
        &[
            (
                "(SELECT bed_id FROM bed UNION ALL SELECT task_id FROM task) ORDER BY 1 OFFSET 1 ROW FETCH FIRST 3 ROWS ONLY",
                1,
                "1; 2; 2",
            ),
            (
                "SELECT COUNT(*) FROM (SELECT bed_id FROM bed UNION ALL SELECT task_id FROM task FETCH FIRST 4 ROWS ONLY) AS x",
                1,
                "4",
            ),
            (
                "SELECT COUNT(*) FROM (SELECT bed_id FROM bed UNION SELECT task_id FROM task FETCH FIRST 4 ROWS ONLY) AS x",
                0,
                "4",
            ),
            (
                "SELECT COUNT(*) FROM (SELECT name, hours FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id FETCH FIRST 2 ROWS ONLY) AS x",
                1,
                "2",
            ),
            (
                "SELECT COUNT(*) FROM (SELECT name FROM bed b JOIN task t ON t.bed_id = b.bed_id WHERE hours > 1 FETCH FIRST 2 ROWS ONLY) AS x",
                0,
                "2",
            ),
        ],
    );
}

#[test]
fn expressions_are_worked_out_once() {
    check(
        "common subexpression elimination",
        &[
            ("SELECT SUM(hours * (1 + bed_id)), AVG(hours * (1 + bed_id) * 2) FROM task", 1, "8.50|5.666667"),
            ("SELECT bed_id * 10 + 1, (bed_id * 10 + 1) * 2 FROM bed ORDER BY 1", 1, "11|22; 21|42; 31|62"),
            ("SELECT bed_id * 10, bed_id FROM bed ORDER BY 1", 0, "10|1; 20|2; 30|3"),
            // A branch that is not taken, or a row that FILTER omits, is not evaluated.
            (
                "SELECT CASE WHEN bed_id > 1 THEN 10 / (bed_id - 1) END, CASE WHEN bed_id > 2 THEN 10 / (bed_id - 1) END FROM bed ORDER BY bed_id",
                0,
                "NULL|NULL; 10|NULL; 5|5",
            ),
            (
                "SELECT SUM(10 / (bed_id - 1)) FILTER (WHERE bed_id > 1), MAX(10 / (bed_id - 1)) FILTER (WHERE bed_id > 1) FROM bed",
                0,
                "15|10",
            ),
        ],
    );
}

#[test]
fn what_a_recursion_hands_on_is_tested_where_it_begins() {
    let walk = |condition: &str| {
        format!(
            "WITH RECURSIVE below (root, id) AS (SELECT id, id FROM taxon WHERE parent IS NULL \
             UNION ALL SELECT b.root, t.id FROM below b JOIN taxon t ON t.parent = b.id) SELECT id FROM below WHERE {condition} ORDER BY 1"
        )
    };
    check(
        "predicate pushdown into recursion",
        &[
            (&walk("root = 1"), 1, "1; 2; 3"),
            (&walk("root = 1 AND id > 1"), 1, "2; 3"),
            (&walk("id = 3"), 0, "3"),
            (&walk("root > 1 OR id = 2"), 0, "2; 4; 5"),
        ],
    );
}

#[test]
fn full_joins_lose_the_rows_that_conditions_refuse() {
    check(
        "outer to inner join",
        &[
            (
                "SELECT b.bed_id, task_id FROM bed b FULL JOIN task t ON t.task_id = b.bed_id WHERE b.bed_id > 1 ORDER BY 1",
                1,
                "2|2; 3|3",
            ),
            (
                "SELECT b.bed_id, task_id FROM bed b FULL JOIN task t ON t.task_id = b.bed_id WHERE task_id > 2 ORDER BY 2",
                1,
                "3|3; NULL|4; NULL|5",
            ),
            (
                "SELECT b.bed_id, t.bed_id FROM bed b FULL JOIN task t ON t.task_id = b.bed_id AND t.task_id = 1 WHERE b.bed_id > 1 AND t.bed_id > 1 ORDER BY 2",
                2,
                "",
            ),
            ("SELECT COUNT(*) FROM bed b FULL JOIN task t ON t.task_id = b.bed_id WHERE b.bed_id IS NULL", 0, "2"),
        ],
    );
}

#[test]
fn patterns_with_a_beginning_are_looked_up() {
    let mut session = garden();
    session.run("CREATE INDEX bed_name_ix ON bed (name); SET index_cost_factor = 0.001").unwrap();
    for (pattern, by_index, rows) in [
        ("F%", true, "Fern"),
        ("S_re%", true, "Scree"),
        ("%e%", false, "Fern; Scree"),
        ("_og", false, "Bog"),
        ("Bog", true, "Bog"),
    ] {
        let sql = format!("SELECT name FROM bed WHERE name LIKE '{pattern}'");
        let plan = session.plan(&sql, ()).unwrap();
        assert_eq!(plan.reads("bed").by_index("bed_name_ix"), by_index, "{sql}\n{plan:#?}");
        assert_eq!(show(&session.query(&sql, ()).unwrap()), rows, "{sql}");
    }
}
