//! What does not fit into memory goes to files: the same rows in the same order, and the plan says so.

use crate::support::{garden, show};

/// Each with the operators that go over to files.
const QUERIES: &[(&str, &[&str])] = &[
    ("SELECT taken, sensor_id, temperature FROM reading ORDER BY temperature DESC NULLS LAST, sensor_id", &["sort"]),
    (
        "SELECT moisture, temperature, COUNT(*), MIN(taken), AVG(moisture) FROM reading GROUP BY moisture, temperature",
        &["hash aggregate"],
    ),
    (
        "SELECT taken, COUNT(DISTINCT moisture), LISTAGG(CAST(sensor_id AS VARCHAR(9)), ',') WITHIN GROUP (ORDER BY sensor_id) FROM reading GROUP BY taken",
        &["hash aggregate"],
    ),
    ("SELECT DISTINCT taken, moisture FROM reading", &["distinct"]),
    (
        "SELECT a.taken, a.sensor_id, b.sensor_id FROM reading a JOIN reading b ON a.taken = b.taken AND a.moisture = b.moisture",
        &["hash join"],
    ),
    (
        "SELECT a.taken, b.moisture FROM reading a LEFT JOIN reading b ON a.taken = b.taken AND a.sensor_id = b.sensor_id + 30 AND b.moisture > 20",
        &["hash join"],
    ),
    (
        "SELECT a.taken, b.taken FROM reading a FULL JOIN reading b ON a.moisture = b.temperature AND a.sensor_id = b.sensor_id",
        &["hash join"],
    ),
    (
        "SELECT taken FROM reading a WHERE EXISTS (SELECT 1 FROM reading b WHERE b.taken = a.taken AND b.sensor_id > a.sensor_id)",
        &["hash join"],
    ),
    (
        "SELECT taken, sensor_id FROM reading a WHERE NOT EXISTS (SELECT 1 FROM reading b WHERE b.taken = a.taken AND b.sensor_id = a.sensor_id + 1)",
        &["hash join"],
    ),
    (
        "SELECT a.taken, (SELECT b.moisture FROM reading b WHERE b.taken = a.taken AND b.sensor_id = a.sensor_id) FROM reading a",
        &["hash join"],
    ),
    (
        "SELECT sensor_id, taken, SUM(moisture) OVER (PARTITION BY sensor_id ORDER BY taken), RANK() OVER (PARTITION BY taken ORDER BY moisture) FROM reading",
        &["window"],
    ),
    (
        "WITH r AS (SELECT * FROM reading WHERE moisture > 5) SELECT a.taken FROM r AS a JOIN r AS b ON a.taken = b.taken WHERE a.sensor_id < 20 AND b.temperature > 10",
        &["hash join"],
    ),
];

#[test]
fn files_do_not_change_rows_or_their_order() {
    let mut session = garden();
    for (sql, spilling) in QUERIES {
        session.run("SET workers = 1; SET spill_threshold = 0").unwrap();
        let (rows, plan) = session.measure(sql, ()).unwrap();
        assert!(plan.nodes().iter().all(|node| node.spilled_bytes == Some(0)), "{sql}");
        let expected = show(&rows);
        for (workers, threshold) in [(1, "20 kB"), (2, "20 kB"), (1, "60 kB")] {
            session.run(&format!("SET workers = {workers}; SET spill_threshold = '{threshold}'")).unwrap();
            let (rows, plan) = session.measure(sql, ()).unwrap();
            assert!(show(&rows) == expected, "{workers} workers, {threshold}: {sql}");
            for operator in *spilling {
                let mut nodes = plan.nodes().into_iter().filter(|node| node.operator == *operator);
                assert!(nodes.any(|node| node.spilled_bytes > Some(0)), "{operator}, {threshold}: {sql}");
            }
        }
    }
}

/// More rows than the limit has room for, of each kind that can do without.
#[test]
fn a_limit_is_kept_by_going_over_to_files() {
    let mut session = garden();
    session.run("SET memory_limit = '4 MB'; SET workers = 1").unwrap();
    for (sql, expected) in [
        ("SELECT COUNT(*), SUM(place) FROM (SELECT ROW_NUMBER() OVER (PARTITION BY MOD(n, 100) ORDER BY n DESC) AS place
          FROM SERIES(1, 200000) AS s (n)) AS t", "200000|200100000"),
        ("SELECT COUNT(*), SUM(c) FROM (SELECT MOD(n, 70000) AS k, COUNT(*) AS c FROM SERIES(1, 200000) AS s (n)
          GROUP BY MOD(n, 70000)) AS t", "70000|200000"),
        ("SELECT COUNT(*), SUM(n - m) FROM SERIES(1, 200000) AS a (n) JOIN SERIES(100001, 300000) AS b (m) ON n = m", "100000|0"),
        ("SELECT n FROM SERIES(1, 200000) AS s (n) ORDER BY MOD(n * 7919, 200003) OFFSET 199997", "197932; 65287; 132645"),
    ] {
        assert_eq!(show(&session.query(sql, ()).unwrap()), expected, "{sql}");
    }
}

/// What has to stay in memory is an error past the limit, and one that says what to do.
#[test]
fn a_limit_is_an_error_where_files_do_not_help() {
    let mut session = garden();
    session.run("SET memory_limit = '1 MB'").unwrap();
    for sql in [
        "SELECT n FROM SERIES(1, 1000000) AS s (n)",
        "SELECT COUNT(DISTINCT n) FROM SERIES(1, 1000000) AS s (n)",
        "SELECT MAX(r) FROM (SELECT RANK() OVER (ORDER BY n) AS r FROM SERIES(1, 1000000) AS s (n)) AS t",
        "SELECT COUNT(*) FROM SERIES(1, 3) AS a (n) JOIN SERIES(1, 1000000) AS b (m) ON n < m AND n > m - 2",
    ] {
        let error = session.query(sql, ()).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), "HY001", "{sql}: {error}");
        assert!(error.message().contains("memory limit of 1 MB"), "{sql}: {error}");
        assert!(error.help().is_some_and(|help| help.contains("SET memory_limit")), "{sql}");
    }
}

/// Rows that double in every round end at the limit, with the way out.
#[test]
fn a_runaway_recursion_ends_at_the_limit() {
    let mut session = garden();
    session.run("SET memory_limit = '8 MB'").unwrap();
    let sql = "WITH RECURSIVE walk (bed, n) AS (SELECT 1, 0 UNION ALL SELECT p.to_bed, n + 1 FROM walk JOIN path p ON \
               p.from_bed = walk.bed) SELECT COUNT(*) FROM walk";
    let error = session.query(sql, ()).unwrap_err();
    assert_eq!(error.sqlstate().as_str(), "HY001");
    for part in ["memory limit of 8 MB", "the recursion of walk had found", "the last rows found: bed = "] {
        assert!(error.message().contains(part), "{error}");
    }
    assert!(error.help().unwrap().contains("CYCLE bed SET on_cycle"), "{:?}", error.help());
}
