//! Groups of rows that come sorted: by comparing neighbours, the same groups in the same order as by a hash table.

use crate::random_queries::Draw;
use crate::support::{shape, show};
use garden_gate::{Database, Session};

/// Tasks 1 to 6000: beds 0 to 9 and NULL by turns (545 or 546 of each), days 0 to 99.
fn garden() -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE task (task_id INTEGER PRIMARY KEY, bed_id INTEGER, day INTEGER NOT NULL, who VARCHAR(9), hours NUMERIC(6,2));
             INSERT INTO task SELECT n, NULLIF(MOD(n, 11), 10), MOD(n * 7, 100), 'w' || CAST(MOD(n, 3) AS VARCHAR(2)), n / 100.0
                 FROM SERIES(1, 6000) AS s (n);
             CREATE INDEX task_bed_ix ON task (bed_id) INCLUDE (hours);
             CREATE INDEX task_who_day_ix ON task (who, day DESC)",
        )
        .unwrap();
    session
}

#[test]
fn groups_are_found_beside_one_another() {
    let mut session = garden();
    // Of 1 to 6000 the numbers that leave 1 when divided by 11 are 546 (6000 = 545 * 11 + 5), those that leave 7 are 545.
    let cases: &[(&str, &str, &str)] = &[
        (
            "SELECT bed_id, COUNT(*) FROM task GROUP BY bed_id ORDER BY bed_id NULLS LAST",
            "sorted aggregate (index-only scan task)",
            "0|545; 1|546; 2|546; 3|546; 4|546; 5|546; 6|545; 7|545; 8|545; 9|545; NULL|545",
        ),
        (
            "SELECT bed_id, MAX(hours) FROM task WHERE bed_id BETWEEN 3 AND 4 GROUP BY bed_id",
            "sorted aggregate (index-only scan task)",
            "3|59.98; 4|59.99",
        ),
        // The second key decides the order of groups; the index has it descending.
        (
            "SELECT day, COUNT(*) FROM task WHERE who = 'w0' GROUP BY day ORDER BY day DESC FETCH FIRST 2 ROWS ONLY",
            "limit (sorted aggregate (index-only scan task))",
            "99|20; 98|20",
        ),
        ("SELECT COUNT(*) FROM (SELECT day, who FROM task GROUP BY day, who) AS g", "", "300"),
        // Sorted already, for another reason.
        (
            "SELECT day, COUNT(*) FROM (SELECT day FROM task ORDER BY day FETCH FIRST 90 ROWS ONLY) AS first GROUP BY day",
            "sorted aggregate (top-n (table scan task))",
            "0|60; 1|30",
        ),
    ];
    for (sql, plan, rows) in cases {
        let planned = session.plan(sql, ()).unwrap();
        if !plan.is_empty() {
            assert_eq!(shape(&planned), *plan, "{sql}");
        }
        for workers in [1, 2] {
            session.run(format!("SET workers = {workers}; SET batch_rows = {}", 100 * workers)).unwrap();
            assert_eq!(show(&session.query(sql, ()).unwrap()), *rows, "{sql} with {workers}");
        }
        session.run("SET workers = 1; SET batch_rows = 8192").unwrap();
    }
    let plan = session.plan(cases[0].0, ()).unwrap();
    let decision = plan.considered.iter().find(|decision| decision.decision.to_string() == "group").unwrap();
    let named: Vec<&str> = decision.candidates.iter().map(|candidate| candidate.choice.as_str()).collect();
    assert!(
        named.contains(&"hash aggregate") && named.contains(&"sorted aggregate, by index task_bed_ix"),
        "{named:?}"
    );
}

/// The same groups when an index costs next to nothing, and when it costs more than all else.
#[test]
fn sorted_and_hashed_groups_are_the_same() {
    let mut session = garden();
    let mut draw = Draw::new(3);
    let keys = ["bed_id", "who", "who, day", "day, who", "bed_id, who", "who, bed_id"];
    let aggregates = [
        "COUNT(*)",
        "SUM(hours)",
        "MIN(task_id)",
        "COUNT(DISTINCT day)",
        "COUNT(hours) FILTER (WHERE day > 50)",
        "MAX(who)",
    ];
    let mut sorted = 0;
    for _ in 0..60 {
        let (keys, first, second) = (*draw.pick(&keys), *draw.pick(&aggregates), *draw.pick(&aggregates));
        let filter = match draw.below(4) {
            0 => format!(" WHERE day < {}", draw.below(100)),
            1 => format!(" WHERE bed_id > {}", draw.below(9)),
            2 => format!(" WHERE who = 'w{}'", draw.below(4)),
            _ => String::new(),
        };
        let order = if draw.coin() { format!(" ORDER BY {keys}") } else { String::new() };
        let sql = format!("SELECT {keys}, {first}, {second} FROM task{filter} GROUP BY {keys}{order}");
        let mut results = Vec::new();
        for (factor, workers, batch_rows) in [(0.001, 1, 8192), (0.001, 2, 37), (0.001, 2, 500), (1000.0, 1, 8192)] {
            let set =
                format!("SET index_cost_factor = {factor}; SET workers = {workers}; SET batch_rows = {batch_rows}");
            session.run(&set).unwrap();
            let plan = session.plan(&sql, ()).unwrap();
            sorted += usize::from(shape(&plan).contains("sorted aggregate") && workers == 2);
            let rows = show(&session.query(&sql, ()).unwrap());
            let mut rows: Vec<String> = rows.split("; ").map(str::to_owned).collect();
            if order.is_empty() {
                rows.sort();
            }
            results.push(rows);
        }
        assert!(results.windows(2).all(|pair| pair[0] == pair[1]), "{sql}");
    }
    assert!(sorted > 40, "only {sorted} plans had a sorted aggregate");
}
