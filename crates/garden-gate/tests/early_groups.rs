//! Grouping in part before a join: offered where it is allowed, taken where it is cheaper, with the same groups as after it.

use crate::random_queries::Draw;
use crate::support::show;
use garden_gate::{Database, Plan, Session};

/// Gardeners 1 to 50 of ten crews, and tasks 1 to 20000 of gardeners 1 to 60 and of nobody; beds 1 to 4.
fn garden() -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE gardener (gardener_id INTEGER NOT NULL, crew VARCHAR(9), age INTEGER NOT NULL);
             CREATE TABLE task (task_id INTEGER NOT NULL, gardener_id INTEGER, bed_id INTEGER NOT NULL, hours NUMERIC(6,2), minutes INTEGER);
             CREATE TABLE bed (bed_id INTEGER NOT NULL, sun VARCHAR(9));
             INSERT INTO gardener SELECT n, 'crew ' || CAST(MOD(n, 10) AS VARCHAR(2)), 20 + n FROM SERIES(1, 50) AS s (n);
             INSERT INTO task SELECT n, NULLIF(MOD(n, 61), 0), 1 + MOD(n, 4), MOD(n, 8) / 4.0, NULLIF(MOD(n, 7), 3) FROM SERIES(1, 20000) AS s (n);
             INSERT INTO bed VALUES (1, 'sun'), (2, 'shade'), (3, 'sun'), (4, NULL)",
        )
        .unwrap();
    session
}

fn is_early(plan: &Plan) -> bool {
    let fired = plan.rewrites.iter().any(|rewrite| rewrite.rule.name() == "eager aggregation");
    let groupings = plan.nodes().iter().filter(|node| node.operator.name().ends_with("aggregate")).count();
    assert_eq!(fired, groupings == 2, "{:?}", plan.rewrites);
    fired
}

#[test]
fn groups_are_made_before_the_join_where_that_is_cheaper() {
    let mut session = garden();
    // Of 1 to 20000 (327 * 61 + 53) there are 328 for each gardener from 1 to 50. Crew 3 has gardeners 3, 13, 23, 33, 43.
    let cases: &[(&str, bool, &str)] = &[
        (
            "SELECT crew, COUNT(*) FROM task t JOIN gardener g ON g.gardener_id = t.gardener_id WHERE crew = 'crew 3' GROUP BY crew",
            true,
            "crew 3|1640",
        ),
        (
            "SELECT g.age, MIN(t.task_id), MAX(t.task_id), COUNT(t.hours) FROM task t JOIN gardener g ON g.gardener_id = t.gardener_id \
             WHERE g.age BETWEEN 21 AND 22 GROUP BY g.age ORDER BY g.age",
            // The join leaves few rows to group.
            false,
            "21|1|19948|328; 22|2|19949|328",
        ),
        // With a condition that is not an equality: each bed has 5000 tasks, and meets the beds after it.
        (
            "SELECT b.bed_id, COUNT(*) FROM task t JOIN bed b ON b.bed_id > t.bed_id GROUP BY b.bed_id ORDER BY b.bed_id",
            true,
            "2|5000; 3|10000; 4|15000",
        ),
        // Groups of one row each are not worth it.
        (
            "SELECT t.task_id, COUNT(*) FROM task t JOIN gardener g ON g.gardener_id = t.gardener_id WHERE t.task_id < 3 GROUP BY t.task_id",
            false,
            "1|1; 2|1",
        ),
        // Columns of both sides, DISTINCT, averages and no grouping columns stay as they are.
        (
            "SELECT crew, SUM(t.minutes + g.age) FROM task t JOIN gardener g ON g.gardener_id = t.gardener_id WHERE t.task_id = 1 GROUP BY crew",
            false,
            "crew 1|22",
        ),
        (
            "SELECT sun, COUNT(DISTINCT t.bed_id) FROM task t JOIN bed b ON b.bed_id = t.bed_id GROUP BY sun ORDER BY sun NULLS LAST",
            false,
            "shade|1; sun|2; NULL|1",
        ),
        ("SELECT COUNT(*) FROM task t JOIN gardener g ON g.gardener_id = t.gardener_id", false, "16400"),
    ];
    for (sql, early, rows) in cases {
        assert_eq!(show(&session.query(sql, ()).unwrap()), *rows, "{sql}");
        assert_eq!(is_early(&session.plan(sql, ()).unwrap()), *early, "{sql}");
    }
    let plan = session.plan(cases[0].0, ()).unwrap();
    let decision = plan.considered.iter().find(|decision| decision.decision.to_string() == "group when").unwrap();
    let costs: Vec<f64> = decision.candidates.iter().filter_map(|candidate| candidate.cost).collect();
    assert!(decision.candidates[0].chosen && costs[0] < costs[1], "{decision:?}");
    // Under a guide, too, as long as the joins are as it demands.
    for (guide, method) in [("JOIN (t, g) BY MERGE", "merge join"), ("READ t BY SCAN, KEEP ORDER", "hash join")] {
        let sql = format!("{} GUIDE ({guide})", cases[0].0);
        let plan = session.plan(&sql, ()).unwrap();
        assert!(is_early(&plan) && plan.nodes().iter().any(|node| node.operator.name() == method), "{sql}");
        assert_eq!(show(&session.query(&sql, ()).unwrap()), cases[0].2, "{sql}");
    }
    session.run("SET without_rules = 'eager aggregation'").unwrap();
    assert!(!is_early(&session.plan(cases[0].0, ()).unwrap()));
}

#[test]
fn early_groups_change_no_rows() {
    let mut session = garden();
    let mut draw = Draw::new(17);
    let aggregates = [
        "COUNT(*)",
        "COUNT(t.minutes)",
        "SUM(t.minutes)",
        "SUM(t.hours)",
        "MIN(t.hours)",
        "MAX(t.task_id)",
        "SUM(t.hours) FILTER (WHERE t.minutes > 2)",
        "COUNT(*) FILTER (WHERE t.bed_id = 2)",
        "MIN(t.bed_id)",
    ];
    let keys =
        ["crew", "g.age", "sun", "sun, crew", "t.bed_id", "t.gardener_id", "t.bed_id, crew", "crew, MOD(t.bed_id, 2)"];
    let mut taken = 0;
    for _ in 0..60 {
        let (first, second, keys) = (draw.pick(&aggregates), draw.pick(&aggregates), draw.pick(&keys));
        let on = [
            "g.gardener_id = t.gardener_id",
            "g.gardener_id = t.gardener_id AND g.age > t.minutes * 10",
            "g.gardener_id = t.bed_id",
        ];
        let filter = ["", " WHERE t.minutes <> 4", " WHERE g.age > 40", " WHERE sun = 'sun'"];
        let sql = format!(
            "SELECT {keys}, {first}, {second} FROM task t JOIN gardener g ON {} JOIN bed b ON b.bed_id = t.bed_id{} GROUP BY {keys}",
            draw.pick(&on),
            draw.pick(&filter)
        );
        let mut results = Vec::new();
        for without in ["", "eager aggregation"] {
            session.run(format!("SET without_rules = '{without}'")).unwrap();
            taken += usize::from(is_early(&session.plan(&sql, ()).unwrap()));
            let shown = show(&session.query(&sql, ()).unwrap());
            let mut rows: Vec<String> = shown.split("; ").map(str::to_owned).collect();
            rows.sort();
            results.push(rows);
        }
        assert_eq!(results[0], results[1], "{sql}");
    }
    assert!(taken > 20, "only {taken} plans group early");
}

/// Groupings one in the other that have a grouping column in common: each has its own other way.
#[test]
fn groupings_of_one_column_are_told_apart() {
    let mut session = garden();
    // No gardener is named, so no crew is aggregated: MAX over nothing is NULL, and NULL is not among these.
    let sql = "SELECT gardener_id, (SELECT MAX('x') FROM (SELECT MAX(g.crew) AS c FROM gardener g WHERE b.bed_id < 0 + t.gardener_id GROUP BY g.age, g.crew)
        AS crews (c), bed AS other WHERE other.bed_id = b.bed_id AND (SELECT LISTAGG(sun, ',') WITHIN GROUP (ORDER BY sun) FROM bed) NOT IN ('a', 'b'))
        FROM task t JOIN bed b ON b.bed_id = t.bed_id WHERE t.task_id IN (1, 61, 62) ORDER BY 1 NULLS LAST";
    // Task 1 is gardener 1's in bed 2, task 61 nobody's, task 62 gardener 1's in bed 3: 2 < 1 and 3 < 1 do not hold.
    assert_eq!(show(&session.query(sql, ()).unwrap()), "1|NULL; 1|NULL; NULL|NULL");
    let sql = "SELECT ('a' <= ALL (SELECT MAX('') FROM (SELECT MAX(CASE WHEN UNKNOWN THEN a2.sun END) FROM bed AS a2 WHERE (1 BETWEEN 1 AND a1.age)
        GROUP BY a2.bed_id, a2.sun) AS a3 (c0) WHERE ((SELECT LISTAGG(a4.sun, ',') WITHIN GROUP (ORDER BY a4.sun) FROM bed AS a4) NOT IN ('a', 'a'))))
        FROM gardener AS a1 WHERE a1.gardener_id < 3";
    // 'a' <= '' is FALSE.
    assert_eq!(show(&session.query(sql, ()).unwrap()), "FALSE; FALSE");
}
