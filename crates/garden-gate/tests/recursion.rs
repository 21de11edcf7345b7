//! Recursion: hierarchies, loops, several anchors and branches, search orders, cycles, and the limit. Rows are computed by hand.

use crate::support::{check_problems, check_rows, run, session};

/// Plots of a garden: `(id, parent)`, two trees.
const PLOTS: &str = "plot (id, parent) AS (VALUES (1, NULL), (2, 1), (3, 1), (4, 2), (5, 4), (6, NULL), (7, 6))";
/// Paths between places, with a loop 1 → 2 → 3 → 1 and a way out of it.
const PATHS: &str = "path (a, b) AS (VALUES (1, 2), (2, 3), (3, 1), (3, 4))";

fn check(cases: &[(&str, &str, &str)]) {
    let mut session = session();
    for (tables, query, expected) in cases {
        let sql = format!("WITH RECURSIVE {tables}, {query}");
        assert_eq!(run(&mut session, &sql).unwrap_or_else(|error| panic!("{sql}\n{error}")), *expected, "{sql}");
    }
}

#[test]
fn hierarchies_are_walked_down_and_up() {
    check(&[
        // Down from each root, with depth.
        (
            PLOTS,
            "r (id, depth) AS (SELECT id, 0 FROM plot WHERE parent IS NULL UNION ALL SELECT p.id, depth + 1 FROM plot p \
             JOIN r ON p.parent = r.id) SELECT * FROM r ORDER BY id",
            "1|0; 2|1; 3|1; 4|2; 5|3; 6|0; 7|1",
        ),
        // Up from a leaf.
        (
            PLOTS,
            "r (id, parent) AS (SELECT id, parent FROM plot WHERE id = 5 UNION ALL SELECT p.id, p.parent FROM r JOIN plot p \
             ON p.id = r.parent) SELECT id FROM r ORDER BY id",
            "1; 2; 4; 5",
        ),
        // Sums over subtrees: every node with each of its ancestors.
        (
            PLOTS,
            "r (top, id) AS (SELECT id, id FROM plot UNION ALL SELECT r.top, p.id FROM r, plot p WHERE p.parent = r.id) \
             SELECT top, COUNT(*) FROM r GROUP BY top ORDER BY top",
            "1|5; 2|3; 3|1; 4|2; 5|1; 6|2; 7|1",
        ),
        // A path as text is not cut, though the anchor's is short.
        (
            PLOTS,
            "r (id, way) AS (SELECT id, CAST(id AS VARCHAR(1)) FROM plot WHERE parent IS NULL UNION ALL SELECT p.id, \
             way || '/' || CAST(p.id AS VARCHAR(9)) FROM plot p JOIN r ON p.parent = r.id) SELECT way FROM r ORDER BY id",
            "1; 1/2; 1/3; 1/2/4; 1/2/4/5; 6; 6/7",
        ),
        // Leaves only: a condition on what was not walked to.
        (
            PLOTS,
            "r (id) AS (SELECT id FROM plot WHERE id = 1 UNION ALL SELECT p.id FROM plot p JOIN r ON p.parent = r.id) \
             SELECT id FROM r WHERE NOT EXISTS (SELECT 1 FROM plot c WHERE c.parent = r.id) ORDER BY id",
            "3; 5",
        ),
        // An outer join whose kept side is the recursion.
        (
            PLOTS,
            "r (id, n) AS (SELECT 5, 0 UNION ALL SELECT p.parent, n + 1 FROM r LEFT JOIN plot p ON p.id = r.id \
             WHERE r.id IS NOT NULL) SELECT * FROM r ORDER BY n",
            "5|0; 4|1; 2|2; 1|3; NULL|4",
        ),
    ]);
}

#[test]
fn loops_end_by_union_or_by_cycle() {
    check(&[
        (
            PATHS,
            "r (at) AS (VALUES (1) UNION SELECT b FROM path JOIN r ON a = at) SELECT at FROM r ORDER BY at",
            "1; 2; 3; 4",
        ),
        // Every node that each node reaches.
        (
            PATHS,
            "r (a, b) AS (SELECT a, b FROM path UNION SELECT r.a, p.b FROM r JOIN path p ON p.a = r.b) \
             SELECT a, COUNT(*) FROM r GROUP BY a ORDER BY a",
            "1|4; 2|4; 3|4",
        ),
        (
            PATHS,
            "r (at) AS (VALUES (1) UNION ALL SELECT b FROM path JOIN r ON a = at) CYCLE at SET again USING way \
             SELECT at, again, way FROM r ORDER BY CARDINALITY(way), at",
            "1|FALSE|[(1)]; 2|FALSE|[(1), (2)]; 3|FALSE|[(1), (2), (3)]; 1|TRUE|[(1), (2), (3), (1)]; \
             4|FALSE|[(1), (2), (3), (4)]",
        ),
        // A cycle of two columns is one only when both come back.
        (
            PATHS,
            "r (at, odd) AS (VALUES (1, 0) UNION ALL SELECT b, 1 - odd FROM path JOIN r ON a = at) \
             CYCLE at, odd SET again TO 'yes' DEFAULT 'no' USING way \
             SELECT MAX(CARDINALITY(way)), COUNT(*) FILTER (WHERE again = 'yes'), COUNT(*) FROM r",
            "7|1|9",
        ),
        // DISTINCT compares the way as well: 2 is found twice from 1, and kept once; 4 is found on two ways.
        (
            "way (a, b) AS (VALUES (1, 2), (1, 2), (1, 3), (2, 4), (3, 4), (4, 1))",
            "r (at) AS (VALUES (1) UNION ALL SELECT DISTINCT b FROM way JOIN r ON a = at) SEARCH DEPTH FIRST BY at SET place \
             CYCLE at SET again USING path SELECT at, again, CARDINALITY(path) FROM r ORDER BY place",
            "1|FALSE|1; 2|FALSE|2; 4|FALSE|3; 1|TRUE|4; 3|FALSE|2; 4|FALSE|3; 1|TRUE|4",
        ),
        // A search order and a cycle together.
        (
            PATHS,
            "r (at) AS (VALUES (1) UNION ALL SELECT b FROM path JOIN r ON a = at) SEARCH DEPTH FIRST BY at SET place \
             CYCLE at SET again USING way SELECT at, again FROM r ORDER BY place",
            "1|FALSE; 2|FALSE; 3|FALSE; 1|TRUE; 4|FALSE",
        ),
    ]);
}

#[test]
fn several_anchors_branches_and_members() {
    check(&[
        (
            PLOTS,
            "r (id) AS (VALUES (5) UNION VALUES (7) UNION SELECT p.parent FROM plot p JOIN r ON p.id = r.id \
             WHERE p.parent IS NOT NULL) SELECT id FROM r ORDER BY id",
            "1; 2; 4; 5; 6; 7",
        ),
        // Two branches: to the double and to the triple.
        (
            PLOTS,
            "r (n) AS (VALUES (1) UNION SELECT n * 2 FROM r WHERE n < 10 UNION SELECT n * 3 FROM r WHERE n < 10) \
             SELECT LISTAGG(CAST(n AS VARCHAR(9)), ' ') WITHIN GROUP (ORDER BY n) FROM r",
            "1 2 3 4 6 8 9 12 16 18 24 27",
        ),
        // Both sides of a join are the rows found so far: distances double in each round.
        (
            "line (a, b) AS (VALUES (1, 2), (2, 3), (3, 4), (4, 5))",
            "r (a, b) AS (SELECT a, b FROM line UNION SELECT x.a, p.b FROM r AS x JOIN line p ON p.a = x.b) \
             SELECT COUNT(*) FROM r",
            "10",
        ),
        // Two that call each other: steps on alternate days.
        (
            PATHS,
            "odd (at) AS (SELECT b FROM path JOIN even ON a = even.at), even (at) AS (VALUES (1) UNION SELECT b FROM path \
             JOIN odd ON a = odd.at) SELECT COUNT(DISTINCT at) FROM even",
            "4",
        ),
        // Three tables in the branch.
        (
            PLOTS,
            "tag (id, word) AS (VALUES (2, 'b'), (4, 'd')), r (id, words) AS (SELECT 1, '' UNION ALL SELECT p.id, words || \
             COALESCE(tag.word, '-') FROM r JOIN plot p ON p.parent = r.id LEFT JOIN tag ON tag.id = p.id) \
             SELECT id, words FROM r ORDER BY id",
            "1|; 2|b; 3|-; 4|bd; 5|bd-",
        ),
    ]);
}

#[test]
fn a_recursion_is_used_as_any_table() {
    check_rows(&[
        // Twice, in a query inside a condition, in a derived table, under a set operator.
        (
            "WITH RECURSIVE n (i) AS (VALUES (1) UNION ALL SELECT i + 1 FROM n WHERE i < 3) \
             SELECT a.i, b.i FROM n a JOIN n b ON b.i = a.i + 1 ORDER BY 1",
            "1|2; 2|3",
        ),
        (
            "SELECT name FROM bed WHERE bed_id IN (WITH RECURSIVE n (i) AS (VALUES (2) UNION ALL SELECT i + 2 FROM n WHERE i < 6) \
             SELECT i FROM n) ORDER BY bed_id",
            "Scree; Bog",
        ),
        // Inside a query that depends on the row around it.
        (
            "SELECT bed_id, (WITH RECURSIVE n (i) AS (VALUES (1) UNION ALL SELECT i + 1 FROM n WHERE i < b.bed_id) \
             SELECT SUM(i) FROM n) FROM bed b ORDER BY 1",
            "1|1; 2|3; 3|6; 4|10; 5|15",
        ),
    ]);
}

#[test]
fn the_limit_tells_what_grows_and_what_comes_back() {
    let runaway = |body: &str| format!("WITH RECURSIVE {PATHS}, r {body} SELECT COUNT(*) FROM r");
    let cases = [
        // A counter that nothing bounds.
        (runaway("(n) AS (VALUES (1) UNION ALL SELECT n + 1 FROM r)"), "n = 1001 … bound a value that grows"),
        // A loop: every place comes back; so it does beside a counter.
        (runaway("(at) AS (VALUES (1) UNION ALL SELECT b FROM path JOIN r ON a = at)"), "at comes back … CYCLE at SET"),
        (
            runaway("(at, n) AS (VALUES (1, 0) UNION SELECT b, n + 1 FROM path JOIN r ON a = at)"),
            "at comes back … CYCLE at SET",
        ),
        (
            runaway("(n, w) AS (VALUES (1, 'x') UNION ALL SELECT n + 1, w FROM r)"),
            "n = 1001, w = x … bound a value that grows",
        ),
        (
            runaway("(a, w) AS (VALUES (1, 1) UNION ALL SELECT b, 3 - w FROM path JOIN r USING (a))"),
            "a, w come back … CYCLE a, w SET",
        ),
    ];
    for (sql, words) in &cases {
        check_problems(&[(sql, "R0001", "r", words)]);
    }
    let mut session = session();
    session.set("recursion_limit", 5).unwrap();
    let count = "WITH RECURSIVE n (i) AS (VALUES (1) UNION ALL SELECT i + 1 FROM n WHERE i < 7) SELECT MAX(i) FROM n";
    assert!(run(&mut session, count).unwrap_err().to_string().contains("not ended after 5 rounds"));
    session.set("recursion_limit", 7).unwrap();
    assert_eq!(run(&mut session, count).unwrap(), "7");
}
