//! What does not fit into memory goes to files: the same rows in the same order, and the plan says so.

use crate::random_queries::Draw;
use crate::support::{garden, show};
use garden_gate::{Column, Database, Session, SqlType, Value};

/// Each with the operators that spill to disk.
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
    // Neither partition nor order: the rows that come from files are one partition, as they are.
    (
        "SELECT taken, COUNT(*) OVER (), FIRST_VALUE(taken) OVER () FROM (SELECT taken FROM reading ORDER BY moisture, taken FETCH FIRST 3000 ROWS ONLY) AS r",
        &[],
    ),
    (
        "SELECT a.taken, COUNT(*) OVER () FROM reading a JOIN reading b ON a.taken = b.taken AND a.moisture = b.moisture",
        &["hash join"],
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
        for (workers, threshold) in [(2, "20 kB"), (1, "60 kB")] {
            session.run(format!("SET workers = {workers}; SET spill_threshold = '{threshold}'")).unwrap();
            let (rows, plan) = session.measure(sql, ()).unwrap();
            assert!(show(&rows) == expected, "{workers} workers, {threshold}: {sql}");
            for operator in *spilling {
                let mut nodes = plan.nodes().into_iter().filter(|node| node.operator.name() == *operator);
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
        // Batches whose texts are wide are gone through in parts.
        ("SELECT SUM(CHARACTER_LENGTH(LPAD(CAST(n AS VARCHAR(9)), 20000) || 'y')) FROM SERIES(1, 3000) AS s (n)", "60003000"),
        ("SELECT COUNT(*), CHARACTER_LENGTH(MAX(t)) FROM (SELECT LPAD(CAST(n AS VARCHAR(9)), 3000, '0') || 'z' AS t
          FROM SERIES(1, 3000) AS s (n)) AS q WHERE t LIKE '%99z'", "30|3001"),
    ] {
        assert_eq!(show(&session.query(sql, ()).unwrap()), expected, "{sql}");
    }
}

/// Rows without columns are only counted, in files too.
#[test]
fn rows_without_columns_go_to_files() {
    let mut session = garden();
    session.run("SET spill_threshold = 100; SET batch_rows = 2").unwrap();
    let found = show(&session.query("SELECT COUNT(*) OVER () AS n FROM SERIES(1, 5)", ()).unwrap());
    assert_eq!(found, "5; 5; 5; 5; 5");
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
        "SELECT COUNT(*) FROM SERIES(1, 3) AS a (n) FULL JOIN SERIES(1, 1000000) AS b (m) ON n < m AND n > m - 2 \
         GUIDE (JOIN (a, b) BY NESTED LOOP)",
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

/// Random rows of a text, a number with NULLs and a place, and the same rows for the tests to work with.
fn random_table(draw: &mut Draw) -> (Session, Vec<(String, Option<i64>, i64)>) {
    let count = 400 + draw.below(2_000);
    let text = |draw: &mut Draw| {
        "long enough for a buffer of its own, ".repeat(draw.below(2)) + draw.word(&["a", "b", "ab", "", "é"])
    };
    let rows: Vec<(String, Option<i64>, i64)> = (0..count)
        .map(|place| {
            let number = (draw.below(9) > 0).then(|| i64::try_from(draw.below(60)).unwrap() - 30);
            (text(draw), number, i64::try_from(place).unwrap())
        })
        .collect();
    let values = |(text, number, place): &(String, Option<i64>, i64)| {
        vec![Value::Text(text.clone()), number.map_or(Value::Null, Value::Integer), Value::Integer(*place)]
    };
    let columns = [("t", SqlType::Varchar(None)), ("n", SqlType::Integer), ("p", SqlType::Integer)]
        .map(|(name, of)| Column::new(name, of));
    let db = Database::in_memory();
    db.add_rows("r", &columns, &rows.iter().map(values).collect::<Vec<_>>()).unwrap();
    let mut session = db.session();
    session.set("workers", i64::try_from(1 + draw.below(2)).unwrap()).unwrap();
    session.set("batch_rows", i64::try_from(1 + draw.below(300)).unwrap()).unwrap();
    session.set("spill_threshold", i64::try_from(500 + draw.below(40_000)).unwrap()).unwrap();
    (session, rows)
}

fn list<T: std::fmt::Display>(rows: impl IntoIterator<Item = T>) -> String {
    rows.into_iter().map(|row| row.to_string()).collect::<Vec<_>>().join("; ")
}

fn number(number: Option<i64>) -> String {
    number.map_or_else(|| "NULL".into(), |number| number.to_string())
}

#[test]
fn random_rows_are_sorted_grouped_and_joined_as_by_hand() {
    for seed in 0..30 {
        let mut draw = Draw::new(400 + seed);
        let (mut session, rows) = random_table(&mut draw);
        let mut query =
            |sql: &str| show(&session.query(sql, ()).unwrap_or_else(|error| panic!("seed {seed}: {sql}\n{error}")));

        // NULL comes last in either direction, and equal keys keep the order of the rows.
        let mut sorted = rows.clone();
        sorted.sort_by(|a, b| (a.1.is_none(), b.1, &a.0).cmp(&(b.1.is_none(), a.1, &b.0)));
        let expected = list(sorted.iter().map(|row| row.2));
        assert!(query("SELECT p FROM r ORDER BY n DESC, t") == expected, "sort, seed {seed}");

        // Groups come in the order of their first rows.
        let mut groups: Vec<(&str, Option<i64>, i64, i64)> = Vec::new();
        for (text, of, place) in &rows {
            match groups.iter_mut().find(|group| (group.0, group.1) == (text.as_str(), *of)) {
                Some(group) => (group.2, group.3) = (group.2 + 1, group.3 + place),
                None => groups.push((text, *of, 1, *place)),
            }
        }
        let group =
            |(text, of, count, sum): &(&str, Option<i64>, i64, i64)| format!("{text}|{}|{count}|{sum}", number(*of));
        let found = query("SELECT t, n, COUNT(*), SUM(p) FROM r GROUP BY t, n");
        assert!(found == list(groups.iter().map(group)), "group, seed {seed}");

        // Each row with its matches in the order of the rows; NULL has none.
        let mut pairs = Vec::new();
        for (text, of, place) in &rows {
            let partners =
                rows.iter().filter(|other| of.is_some() && other.1 == *of && other.0 == *text && other.2 < 40);
            let before = pairs.len();
            pairs.extend(partners.map(|other| format!("{place}|{}", other.2)));
            if pairs.len() == before {
                pairs.push(format!("{place}|NULL"));
            }
        }
        let found = query("SELECT a.p, b.p FROM r a LEFT JOIN r b ON a.n = b.n AND a.t = b.t AND b.p < 40");
        let mut found: Vec<&str> = found.split("; ").collect();
        let mut expected: Vec<&str> = pairs.iter().map(String::as_str).collect();
        found.sort_unstable();
        expected.sort_unstable();
        assert!(found == expected, "join, seed {seed}");

        // The rank of a row among those of its text.
        let rank = |row: &(String, Option<i64>, i64)| {
            let key = |one: &(String, Option<i64>, i64)| (one.1.is_none(), one.1);
            1 + rows.iter().filter(|other| other.0 == row.0 && key(other) < key(row)).count()
        };
        let found = query("SELECT p, RANK() OVER (PARTITION BY t ORDER BY n) FROM r ORDER BY p");
        assert!(found == list(rows.iter().map(|row| format!("{}|{}", row.2, rank(row)))), "window, seed {seed}");
    }
}

/// Rows that came when there was no more room go into groups that were begun before, and into no others: each number into the list of its own
/// remainder, and each tenth counted once.
#[test]
fn rows_that_come_later_go_to_their_own_groups() {
    let mut session = Database::in_memory().session();
    let sql = "SELECT MOD(n, 7) AS a, MOD(n, 3) AS b, LISTAGG(CAST(n AS VARCHAR(3)), ',') WITHIN GROUP (ORDER BY n), COUNT(DISTINCT n / 10), COUNT(*)
        FROM SERIES(1, 90) AS s (n) GROUP BY MOD(n, 7), MOD(n, 3) ORDER BY a, b";
    let row = |a: u32, b: u32| {
        let own: Vec<u32> = (1..=90).filter(|n| n % 7 == a && n % 3 == b).collect();
        let tens: std::collections::BTreeSet<u32> = own.iter().map(|n| n / 10).collect();
        let list = own.iter().map(u32::to_string).collect::<Vec<_>>().join(",");
        format!("{a}|{b}|{list}|{}|{}", tens.len(), own.len())
    };
    let expected: Vec<String> = (0..7).flat_map(|a| (0..3).map(move |b| row(a, b))).collect();
    for threshold in [60, 100, 300, 1000, 3000] {
        for (batch_rows, workers) in [(1, 1), (2, 1), (5, 2), (40, 1)] {
            let set =
                format!("SET spill_threshold = {threshold}; SET batch_rows = {batch_rows}; SET workers = {workers}");
            session.run(&set).unwrap();
            let found = show(&session.query(sql, ()).unwrap());
            assert_eq!(found, expected.join("; "), "{threshold} bytes, batches of {batch_rows}, {workers} workers");
        }
    }
}

/// The rows of a window without partition and order, some of which come from a file: five different rows on the left side, each of which
/// has no match.
#[test]
fn a_window_over_all_rows_takes_them_as_they_come_from_files() {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE x (t VARCHAR(9)); INSERT INTO x VALUES ('b'), (NULL), (NULL), ('a');
             CREATE TABLE z (t VARCHAR(9)); INSERT INTO z VALUES (''), ('a'), (NULL);
             SET batch_rows = 3; SET workers = 1; SET spill_threshold = 100",
        )
        .unwrap();
    let sql = "SELECT COUNT(*) FROM ((SELECT UNKNOWN AS c, t <= 'a' AS d FROM x) UNION (SELECT TRUE, TRUE)) AS l
        LEFT JOIN z ON 1 = ANY (SELECT CAST(NULL AS INTEGER) WHERE NULLIF(z.t, CASE WHEN l.c THEN 'a' END) NOT IN (SELECT 'a'))";
    // UNKNOWN with FALSE, UNKNOWN and TRUE, and the row of TRUE.
    assert_eq!(show(&session.query(sql, ()).unwrap()), "4");
}
