//! Parallel equals serial, and batches of any size give the same rows in the same order.

use crate::support::{garden, show};

const QUERIES: &[&str] = &[
    "SELECT * FROM reading WHERE moisture > 50",
    "SELECT sensor_id, taken FROM reading WHERE moisture IS NULL ORDER BY temperature, taken DESC",
    "SELECT sensor_id, COUNT(*), COUNT(moisture), SUM(moisture), AVG(temperature), MIN(taken), MAX(moisture) FROM reading GROUP BY sensor_id",
    "SELECT taken, sensor_id, COUNT(DISTINCT moisture) FROM reading GROUP BY taken, sensor_id HAVING MIN(moisture) > 60",
    "SELECT DISTINCT moisture FROM reading",
    "SELECT DISTINCT moisture, temperature FROM reading WHERE temperature > 10",
    "SELECT COUNT(DISTINCT temperature), SUM(DISTINCT moisture), COUNT(*) FROM reading",
    "SELECT r.taken, b.name FROM reading r JOIN sensor s USING (sensor_id) JOIN bed b USING (bed_id) WHERE r.moisture > 60",
    "SELECT taken FROM reading WHERE moisture < 10 FETCH FIRST 7 ROWS ONLY",
    "SELECT taken, sensor_id FROM reading OFFSET 9000 ROWS FETCH FIRST 3 ROWS ONLY",
    "SELECT taken, moisture FROM reading ORDER BY moisture DESC NULLS FIRST FETCH FIRST 40 ROWS ONLY",
    "SELECT a.taken, b.sensor_id FROM reading a JOIN reading b ON a.temperature = b.temperature AND a.moisture = b.moisture AND a.sensor_id < b.sensor_id",
    "SELECT a.bed_id, b.sensor_id FROM bed a JOIN sensor b ON a.bed_id < b.bed_id AND a.area_m2 > 150",
    "SELECT CASE WHEN moisture > 30 THEN 'wet' WHEN moisture > 15 THEN 'damp' ELSE 'dry' END AS state, COUNT(*) FROM reading
     GROUP BY CASE WHEN moisture > 30 THEN 'wet' WHEN moisture > 15 THEN 'damp' ELSE 'dry' END",
];

#[test]
fn workers_and_batches_do_not_change_rows_or_their_order() {
    let mut session = garden();
    for sql in QUERIES {
        session.run("SET workers = 1; SET batch_rows = 8192").unwrap();
        let expected = show(&session.query(sql, ()).unwrap());
        assert!(!expected.is_empty(), "{sql}");
        // Small batches make the tables large enough, in morsels, for several workers.
        for (workers, batch_rows) in [(1, 7), (2, 8192), (2, 100), (4, 33)] {
            session.run(format!("SET workers = {workers}; SET batch_rows = {batch_rows}")).unwrap();
            assert!(
                show(&session.query(sql, ()).unwrap()) == expected,
                "{workers} workers, {batch_rows} rows a batch: {sql}"
            );
        }
    }
}

const NUMBERS: &str = "CREATE TABLE number (n BIGINT); INSERT INTO number SELECT n FROM SERIES(0, 99999) AS s (n)";

/// A worker whose rows come late may not stop since others have gathered enough.
#[test]
fn rows_that_are_fetched_are_the_first_ones() {
    let mut session = garden();
    session.run(NUMBERS).unwrap();
    session.run("SET workers = 2; SET batch_rows = 50").unwrap();
    let costly = "MOD(n, 7) * 5 + MOD(n, 11) - n * 2 + 3 + n * 5 - 6 > -9";
    for offset in [60_000, 80_000, 90_000, 99_000] {
        let sql = format!("SELECT n FROM number WHERE {costly} OFFSET {offset} ROWS FETCH FIRST 1 ROW ONLY");
        assert_eq!(session.plan(&sql, ()).unwrap().workers, 2);
        for _ in 0..5 {
            assert_eq!(show(&session.query(&sql, ()).unwrap()), offset.to_string());
        }
    }
}

#[test]
fn large_scans_are_planned_for_several_workers() {
    let mut session = garden();
    session.set("workers", 2).unwrap();
    assert_eq!(session.plan("SELECT COUNT(*) FROM bed", ()).unwrap().workers, 1);
    session.run(NUMBERS).unwrap();
    let undivided = Some("no step is fed rows enough to divide");
    for (sql, workers, reason) in [
        ("SELECT COUNT(*) FROM number a JOIN number b ON a.n = b.n", 2, None),
        // What is read counts, not what is left of it.
        ("SELECT n FROM number WHERE MOD(n, 7) * 5 + MOD(n, 11) - n * 2 + 3 + n * 5 - 6 < 0", 2, None),
        ("SELECT n FROM number WHERE n < 0", 1, None),
        // A series comes of one row.
        ("SELECT MOD(n, 7), SUM(n), MIN(n), MAX(n) FROM SERIES(0, 999999) AS t (n) GROUP BY MOD(n, 7)", 1, undivided),
        ("SELECT n, COUNT(*) OVER (ORDER BY n) FROM number WHERE n = 5", 1, None),
    ] {
        let plan = session.plan(sql, ()).unwrap();
        assert_eq!(plan.workers, workers, "{sql}");
        let decision = plan.considered.iter().find(|decision| decision.decision.to_string() == "workers").unwrap();
        assert_eq!(decision.candidates.len(), 2);
        assert_eq!(decision.candidates[1].reason.as_deref(), reason, "{sql}");
    }
}

/// A few rows that meet many others each are work enough for several workers; rows and their order stay.
#[test]
fn few_rows_that_are_much_work_are_divided() {
    let mut session = garden();
    session
        .run(
            "CREATE TABLE chore (id INTEGER PRIMARY KEY, bed INTEGER); CREATE TABLE plot (id INTEGER, bed INTEGER);
             INSERT INTO chore SELECT n, MOD(n * 7, 100) FROM SERIES(1, 40000) AS s (n); CREATE INDEX chore_bed_ix ON chore (bed);
             INSERT INTO plot SELECT n, MOD(n * 3, 100) FROM SERIES(1, 60) AS s (n); ANALYZE chore; ANALYZE plot",
        )
        .unwrap();
    let sql = "SELECT p.id, c.id FROM plot p JOIN chore c ON c.bed = p.bed GUIDE (JOIN (p, c) BY NESTED LOOP)";
    let mut shown = Vec::new();
    for workers in [1, 2, 4] {
        session.set("workers", workers).unwrap();
        let plan = session.plan(sql, ()).unwrap();
        assert!(plan.nodes().iter().any(|node| node.operator.name() == "index nested-loop join"));
        let rows = session.query(sql, ()).unwrap();
        assert_eq!(rows.rows().count(), 60 * 400);
        shown.push((plan.workers, show(&rows)));
    }
    assert_eq!(shown.iter().map(|(workers, _)| *workers).collect::<Vec<_>>(), [1, 2, 4]);
    assert!(shown.iter().all(|(_, rows)| *rows == shown[0].1));
}

/// Many groups are merged in parts, one a worker; their keys are numbers, texts short and long, and NULL.
#[test]
fn many_groups_of_several_workers() {
    let mut session = garden();
    session.run(NUMBERS).unwrap();
    let keys = [
        "n / 2",
        "CASE WHEN MOD(n, 5) > 0 THEN n / 3 END, MOD(n, 2)",
        "CAST(MOD(n, 40000) AS VARCHAR(20)) || CASE WHEN MOD(n, 7) = 0 THEN ' with a long text after' ELSE '' END",
        "MOD(n, 25000), TRUE",
    ];
    for key in keys {
        let inner = format!(
            "SELECT {key}, SUM(n) AS s, COUNT(*) AS c, MIN(CAST(n AS VARCHAR(20))) AS m, AVG(CAST(n AS REAL)) AS a
             FROM number GROUP BY {key}"
        );
        let mut shown = Vec::new();
        for workers in [1, 2, 4] {
            session.run(format!("SET workers = {workers}; SET batch_rows = 1000")).unwrap();
            assert_eq!(session.plan(&inner, ()).unwrap().workers, workers, "{inner}");
            let rows = session.query(&inner, ()).unwrap();
            let total = format!("SELECT SUM(s), SUM(c) FROM ({inner}) AS t");
            assert_eq!(show(&session.query(&total, ()).unwrap()), "4999950000|100000", "{total}");
            shown.push(show(&rows));
        }
        assert!(shown[0].split("; ").count() > 16_384, "{key}");
        assert!(shown.iter().all(|rows| *rows == shown[0]), "{key}");
    }
}
