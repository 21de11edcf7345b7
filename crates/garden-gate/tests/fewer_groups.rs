//! Groupings that do less: by fewer columns, of fewer rows, from finer groups. Rows are computed by hand, or those of the same query
//! without the rule.

use crate::support::run;
use garden_gate::{Database, Session};

/// 400 beds, ten to a gardener; 40,000 chores, 100 to a bed; chore `n` of bed `1 + n mod 400` takes `n mod 7` hours, NULL for 0.
fn garden() -> Session {
    let mut session = Database::in_memory().session();
    for sql in [
        "CREATE TABLE gardener (id INTEGER PRIMARY KEY, name VARCHAR(30) NOT NULL, town VARCHAR(20))",
        "INSERT INTO gardener SELECT n, 'a gardener of long name ' || CAST(n AS VARCHAR(3)), CASE MOD(n, 4) WHEN 0 THEN 'Weir' ELSE 'Ford' END \
         FROM SERIES(1, 40) AS s(n)",
        "CREATE TABLE bed (id INTEGER PRIMARY KEY, gardener INTEGER NOT NULL, sun VARCHAR(8), width NUMERIC(5,2))",
        "INSERT INTO bed SELECT n, 1 + MOD(n, 40), CASE WHEN MOD(n, 100) = 0 THEN 'shade' ELSE 'sun' END, n / 8.0 FROM SERIES(1, 400) AS s(n)",
        "CREATE TABLE chore (id INTEGER PRIMARY KEY, bed INTEGER, kind VARCHAR(8), hours INTEGER, cost NUMERIC(7,2), share DOUBLE PRECISION)",
        "INSERT INTO chore SELECT n, 1 + MOD(n, 400), CASE MOD(n, 3) WHEN 0 THEN 'dig' WHEN 1 THEN 'weed' ELSE 'sow' END, \
         NULLIF(MOD(n, 7), 0), n / 100.0, n / 10 FROM SERIES(1, 40000) AS s(n)",
        "CREATE TABLE nothing (a INTEGER, b INTEGER)",
        "ANALYZE gardener",
        "ANALYZE bed",
        "ANALYZE chore",
    ] {
        session.execute(sql, ()).unwrap();
    }
    session
}

/// The rows of a query, sorted.
fn lines(session: &mut Session, sql: &str) -> Vec<String> {
    let rows = run(session, sql).unwrap();
    let mut lines: Vec<String> = rows.split("; ").map(str::to_owned).collect();
    lines.sort_unstable();
    lines
}

/// The rows with a rule and without it, the same; and how many tables are read with it.
fn with_and_without(session: &mut Session, rule: &str, sql: &str) -> (Vec<String>, usize) {
    let plan = session.plan(sql, ()).unwrap();
    let scans = plan.nodes().into_iter().filter(|node| node.operator.name() == "table scan").count();
    let rows = lines(session, sql);
    session.set("without_rules", rule).unwrap();
    assert_eq!(rows, lines(session, sql), "{sql}");
    session.set("without_rules", "").unwrap();
    (rows, scans)
}

#[test]
fn sets_are_grouped_from_finer_ones() {
    let mut session = garden();
    // Each with its rows, some of them, and how often the table is read.
    let cases: &[(&str, usize, &[&str], usize)] = &[
        // 40,000 chores; 5,714 of them take no time. 3 × 400 pairs, of which each comes up: the numbers have no common factor.
        (
            "SELECT kind, bed, COUNT(*), COUNT(hours), SUM(hours), MIN(hours), MAX(cost), AVG(hours) FROM chore GROUP BY ROLLUP (kind, bed)",
            1204,
            &["NULL|NULL|40000|34286|119997|1|400.00|3.499883", "dig|NULL|13333|11429|40001|1|399.99|3.499956"],
            1,
        ),
        ("SELECT kind, COUNT(*) FROM chore GROUP BY CUBE (kind, hours)", 32, &["dig|13333", "NULL|40000"], 1),
        (
            "SELECT kind, bed, COUNT(*) FROM chore GROUP BY GROUPING SETS ((kind), (bed))",
            403,
            &["dig|NULL|13333", "NULL|7|100"],
            2,
        ),
        (
            "SELECT bed, COUNT(*), GROUPING(bed) FROM chore GROUP BY GROUPING SETS ((bed), (), ())",
            402,
            &["NULL|40000|1"],
            1,
        ),
        (
            "SELECT hours / 2, SUM(cost) FROM chore WHERE bed < 3 GROUP BY ROLLUP (hours / 2, bed)",
            16,
            &["NULL|40001.00"],
            1,
        ),
        (
            "SELECT a, COUNT(*), SUM(b), COUNT(b), AVG(b) FROM nothing GROUP BY ROLLUP (a)",
            1,
            &["NULL|0|NULL|0|NULL"],
            1,
        ),
        ("SELECT kind, COUNT(*) FILTER (WHERE hours > 3) FROM chore GROUP BY ROLLUP (kind)", 4, &["NULL|17142"], 1),
        // Sums of approximate numbers depend on their order, and DISTINCT on all rows.
        ("SELECT kind, COUNT(share), SUM(share) > 0 FROM chore GROUP BY ROLLUP (kind)", 4, &["NULL|40000|TRUE"], 2),
        ("SELECT kind, COUNT(DISTINCT hours) FROM chore GROUP BY ROLLUP (kind)", 4, &["NULL|6"], 2),
    ];
    for (sql, count, some, reads) in cases {
        let (rows, scans) = with_and_without(&mut session, "group from finer groups", sql);
        assert_eq!((rows.len(), scans), (*count, *reads), "{sql}");
        for row in *some {
            assert!(rows.iter().any(|known| known == row), "{sql}: no {row} in {:?}", &rows[..rows.len().min(6)]);
        }
    }
}

#[test]
fn groups_that_nothing_meets_are_not_computed() {
    let mut session = garden();
    let cases = [
        // Four beds lie in the shade: of each all 100 chores are grouped.
        "SELECT b.id, c.id FROM bed AS b JOIN chore AS c ON c.bed = b.id WHERE b.sun = 'shade' AND c.hours > \
         (SELECT AVG(d.hours) FROM chore AS d WHERE d.bed = b.id)",
        "SELECT b.id, g.n, g.most FROM bed AS b JOIN (SELECT bed, COUNT(*) AS n, MAX(cost) AS most FROM chore GROUP BY bed) AS g \
         ON g.bed = b.id WHERE b.sun = 'shade'",
        "SELECT b.id, (SELECT SUM(cost) FROM chore AS d WHERE d.bed = b.id) FROM bed AS b WHERE b.sun = 'shade'",
        "SELECT b.id, (SELECT COUNT(*) FROM chore AS d WHERE d.bed = b.id + 1000) FROM bed AS b WHERE b.id < 5",
        // The other side is no table: it is computed once for both.
        "SELECT b.id, (SELECT SUM(d.hours) FROM chore AS d WHERE d.bed = b.id) FROM bed AS b \
         WHERE b.gardener IN (SELECT g.id FROM gardener AS g WHERE g.name LIKE '%e 3' AND g.town = 'Ford')",
        // By a column that equals one of another table; by two columns; none of them has a value in the grouping.
        "SELECT b.width, g.n FROM bed AS b, chore AS c, (SELECT bed, COUNT(*) AS n FROM chore GROUP BY bed) AS g \
         WHERE c.bed = b.id AND g.bed = c.bed AND b.sun = 'shade' AND c.id <= 400",
        "SELECT b.id, x.n FROM bed AS b LEFT JOIN (SELECT bed, kind, COUNT(*) AS n FROM chore GROUP BY bed, kind) AS x \
         ON x.bed = b.id AND x.kind = b.sun WHERE b.id < 4",
        "SELECT b.id, x.n FROM bed AS b LEFT JOIN (SELECT NULLIF(bed, 2) AS bed, COUNT(*) AS n FROM chore GROUP BY NULLIF(bed, 2)) AS x \
         ON x.bed = b.id WHERE b.id < 4",
        // No outer join, and the other side is no table.
        "SELECT b.id FROM bed AS b WHERE b.gardener IN (SELECT g.id FROM gardener AS g WHERE g.name LIKE '%e 3' AND g.town = 'Ford') \
         AND b.width < (SELECT SUM(d.hours) FROM chore AS d WHERE d.bed = b.id)",
    ];
    let counts = [171, 4, 4, 4, 10, 4, 3, 3, 10];
    for (sql, count) in cases.into_iter().zip(counts) {
        let (rows, _) = with_and_without(&mut session, "semi-join reduction", sql);
        assert_eq!(rows.len(), count, "{sql}");
    }
    let plan = session.plan(cases[1], ()).unwrap();
    let aggregate = plan.nodes().into_iter().find(|node| node.operator.name() == "hash aggregate").expect("it groups");
    assert!(aggregate.estimated_rows < 10.0, "{} groups", aggregate.estimated_rows);
    let rows = "100|100|396.99; 200|100|397.99; 300|100|398.99; 400|100|399.99";
    assert_eq!(run(&mut session, &format!("{} ORDER BY 1", cases[1])).unwrap(), rows);
}

#[test]
fn columns_that_follow_from_a_key_are_not_grouped_by() {
    let mut session = garden();
    // Each with the columns that it is grouped by, and how many groups there are.
    let cases = [
        (
            "SELECT b.id, b.sun, b.width, g.id, g.name, COUNT(*) FROM chore AS c JOIN bed AS b ON c.bed = b.id \
          JOIN gardener AS g ON b.gardener = g.id GROUP BY b.id, b.sun, b.width, g.id, g.name",
            "by b.id",
            400,
        ),
        (
            "SELECT g.name, g.id, g.town, SUM(b.width) FROM bed AS b JOIN gardener AS g ON b.gardener = g.id GROUP BY g.name, g.id, g.town",
            "by g.id",
            40,
        ),
        (
            "SELECT g.name, g.town, COUNT(*) FROM bed AS b JOIN gardener AS g ON b.gardener = g.id GROUP BY g.name, g.town",
            "by g.town",
            40,
        ),
        (
            "SELECT g.id, g.name, COUNT(b.id) FROM bed AS b RIGHT JOIN gardener AS g ON b.gardener = g.id AND b.id < 9 GROUP BY g.id, g.name",
            "by g.id",
            40,
        ),
        // A bed without a gardener below ten has none of its columns: one more group.
        (
            "SELECT g.id, g.name, COUNT(*) FROM bed AS b LEFT JOIN gardener AS g ON b.gardener = g.id AND g.id < 10 GROUP BY g.id, g.name",
            "by g.id",
            10,
        ),
        (
            "SELECT b.sun, b.gardener, COUNT(*) FROM bed AS b WHERE b.sun = 'sun' GROUP BY b.sun, b.gardener",
            "by b.gardener",
            40,
        ),
    ];
    for (sql, by, groups) in cases {
        let plan = session.plan(sql, ()).unwrap();
        let aggregate =
            plan.nodes().into_iter().find(|node| node.operator.name() == "hash aggregate").expect("it groups");
        assert!(aggregate.details.iter().any(|detail| detail == by), "{sql}: not {by} but {:?}", aggregate.details);
        assert_eq!(lines(&mut session, sql).len(), groups, "{sql}");
    }
    let names = "SELECT g.id, g.name FROM bed AS b LEFT JOIN gardener AS g ON b.gardener = g.id AND g.id < 3 GROUP BY g.id, g.name ORDER BY g.id";
    assert_eq!(
        run(&mut session, names).unwrap(),
        "1|a gardener of long name 1; 2|a gardener of long name 2; NULL|NULL"
    );
    // Texts of other bytes may be equal: a CHAR does not say which VARCHAR it equals.
    for sql in [
        "CREATE TABLE label (code CHAR(4) PRIMARY KEY)",
        "INSERT INTO label VALUES ('fern')",
        "CREATE TABLE plant (id INTEGER PRIMARY KEY, name VARCHAR(9))",
        "INSERT INTO plant VALUES (1, 'fern'), (2, 'fern '), (3, 'moss')",
    ] {
        session.execute(sql, ()).unwrap();
    }
    let joined = "SELECT COUNT(*) FROM label AS l JOIN plant AS p ON p.name = l.code";
    let pairs: usize = run(&mut session, joined).unwrap().parse().unwrap();
    let both =
        "SELECT l.code, p.name, COUNT(*) FROM label AS l JOIN plant AS p ON p.name = l.code GROUP BY l.code, p.name";
    assert_eq!(lines(&mut session, both).len(), pairs, "each name is a group");
    // A value computed on a side that a full join fills up does not follow from what it is computed from.
    let full = "SELECT x.town, x.known, COUNT(*) FROM (SELECT id, NULLIF(town, 'Weir') AS town, COALESCE(NULLIF(town, 'Weir'), '-') AS known \
                FROM gardener) AS x FULL JOIN SERIES(39, 45) AS s (n) ON s.n = x.id GROUP BY x.town, x.known ORDER BY 3 DESC";
    assert_eq!(run(&mut session, full).unwrap(), "Ford|Ford|30; NULL|-|10; NULL|NULL|5");
}
