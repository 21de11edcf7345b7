//! Identities of the language over random tables full of NULLs and ties: two ways to ask one question have the same rows, whatever
//! is in the tables and whatever rewriting does to either.

use crate::random_queries::Draw;
use crate::story::{check, told};
use garden_gate::{Database, Session};

/// The tables `r` and `s`, of columns `k` (a key), `a`, `b` and `w`.
fn tables(draw: &mut Draw) -> Session {
    let mut session = Database::in_memory().session();
    for table in ["r", "s"] {
        check(
            &mut session,
            (&format!("CREATE TABLE {table} (k INTEGER PRIMARY KEY, a INTEGER, b INTEGER, w VARCHAR(2))"), ""),
        );
        for key in 0..draw.below(14) {
            let number = |draw: &mut Draw| draw.small().map_or("NULL".to_owned(), |value| value.to_string());
            let word = draw.word(&["NULL", "''", "'a'", "'b'", "'ab'"]);
            let row = format!("INSERT INTO {table} VALUES ({key}, {}, {}, {word})", number(draw), number(draw));
            check(&mut session, (&row, "1"));
        }
    }
    // Some of the rows are gone and some have changed, so that parts have holes; some plans go by an index.
    told(&mut session, "DELETE FROM r WHERE MOD(k, 5) = 3");
    told(&mut session, "UPDATE s SET b = a WHERE MOD(k, 4) = 1");
    if draw.coin() {
        check(&mut session, ("CREATE INDEX by_a ON r (a, b DESC)", ""));
    }
    let rules =
        ["", "decorrelate subquery", "predicate pushdown", "inline CTE, mark join to semi join", "outer to inner join"];
    session.set("without_rules", draw.word(&rules)).unwrap();
    session.set("workers", i64::from(draw.coin()) + 1).unwrap();
    session.set("batch_rows", i64::try_from(draw.below(5) * 2 + 1).unwrap()).unwrap();
    session
}

/// A number over the columns of `x`, which may be a query over `s`.
fn number(draw: &mut Draw, x: &str) -> String {
    let column = draw.word(&["k", "a", "b"]);
    match draw.below(8) {
        0 => format!("{}", draw.below(4)),
        1 => format!("({x}.{column} + 1)"),
        2 => format!("COALESCE({x}.{column}, {x}.b)"),
        3 => format!("(SELECT MAX(q.b) FROM s AS q WHERE q.a = {x}.{column})"),
        4 => format!("(SELECT COUNT(*) FROM s AS q WHERE q.{column} > {x}.b)"),
        5 => format!("CASE WHEN {x}.w = 'a' THEN {x}.a ELSE {x}.{column} END"),
        _ => format!("{x}.{column}"),
    }
}

/// A condition over the columns of `x`, with queries over `s` in it.
fn condition(draw: &mut Draw, x: &str, depth: usize) -> String {
    let compare = draw.word(&["=", "<>", "<", ">="]);
    let (left, right) = (number(draw, x), number(draw, x));
    match draw.below(if depth == 0 { 8 } else { 11 }) {
        0 => format!("{left} {compare} {right}"),
        1 => format!("{x}.w LIKE 'a%'"),
        2 => format!("{left} IS NULL"),
        3 => format!("EXISTS (SELECT 1 FROM s AS q WHERE q.a {compare} {left})"),
        4 => format!("{left} IN (SELECT q.b FROM s AS q WHERE q.k <> {x}.k)"),
        5 => format!("{left} {compare} ALL (SELECT q.a FROM s AS q WHERE q.w = {x}.w)"),
        6 => format!("{left} {compare} ANY (SELECT q.a FROM s AS q)"),
        7 => format!("({left}, {x}.w) NOT IN (SELECT q.a, q.w FROM s AS q)"),
        8 => format!("({}) AND ({})", condition(draw, x, depth - 1), condition(draw, x, depth - 1)),
        9 => format!("({}) OR ({})", condition(draw, x, depth - 1), condition(draw, x, depth - 1)),
        _ => format!("NOT ({})", condition(draw, x, depth - 1)),
    }
}

/// Both queries have the same rows, as often.
#[track_caller]
fn same(session: &mut Session, seed: u64, one: &str, other: &str) {
    let sorted = |session: &mut Session, sql: &str| {
        let rows = session.query(sql, ()).unwrap_or_else(|error| panic!("seed {seed}\n{sql}\n{error}"));
        let mut shown: Vec<String> = rows.rows().map(|row| format!("{:?}", row.values())).collect();
        shown.sort_unstable();
        shown
    };
    let (found, expected) = (sorted(session, one), sorted(session, other));
    assert_eq!(found, expected, "seed {seed}\n{one}\n{other}");
}

/// Calls `test` with random tables, and a condition over `r`; `GARDEN_GATE_ROUNDS` says how often.
fn each(from: u64, test: impl Fn(&mut Session, &mut Draw, u64, &str)) {
    let rounds = std::env::var("GARDEN_GATE_ROUNDS").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(60);
    for seed in from..from + rounds {
        let mut draw = Draw::new(seed);
        let mut session = tables(&mut draw);
        let condition = condition(&mut draw, "r", 2);
        test(&mut session, &mut draw, seed, &condition);
    }
}

#[test]
fn a_condition_is_true_false_or_unknown() {
    each(0, |session, draw, seed, p| {
        let parts = |select: &str, tail: &str| {
            let of = |test: &str| format!("SELECT {select} FROM r WHERE {test} {tail}");
            format!("{} UNION ALL {} UNION ALL {}", of(p), of(&format!("NOT ({p})")), of(&format!("({p}) IS UNKNOWN")))
        };
        same(session, seed, "SELECT * FROM r", &parts("*", ""));
        same(
            session,
            seed,
            "SELECT DISTINCT a, w FROM r",
            &format!("SELECT DISTINCT a, w FROM ({}) AS x", parts("a, w", "")),
        );
        let whole = "SELECT SUM(a), COUNT(b), MIN(w), MAX(k) FROM r";
        let parts = parts("SUM(a) AS a, COUNT(b) AS b, MIN(w) AS w, MAX(k) AS k", "");
        same(
            session,
            seed,
            whole,
            &format!("SELECT CAST(SUM(a) AS BIGINT), CAST(SUM(b) AS BIGINT), MIN(w), MAX(k) FROM ({parts}) AS x"),
        );
        // The same of the rows of a join, and as a value of each row.
        let q = condition(draw, "s", 1);
        same(
            session,
            seed,
            "SELECT r.k, s.k FROM r, s",
            &format!(
                "SELECT r.k, s.k FROM r JOIN s ON {q} UNION ALL SELECT r.k, s.k FROM r JOIN s ON NOT ({q}) \
                 UNION ALL SELECT r.k, s.k FROM r JOIN s ON ({q}) IS UNKNOWN"
            ),
        );
        same(
            session,
            seed,
            &format!("SELECT k, {p} AS p FROM r"),
            &format!(
                "SELECT k, TRUE FROM r WHERE {p} UNION ALL SELECT k, FALSE FROM r WHERE NOT ({p}) \
                 UNION ALL SELECT k, CAST(NULL AS BOOLEAN) FROM r WHERE ({p}) IS UNKNOWN"
            ),
        );
    });
}

#[test]
fn joins_are_made_of_joins() {
    each(1000, |session, draw, seed, p| {
        let on = if draw.coin() { format!("r.a = s.a AND ({p})") } else { "r.a = s.b".to_owned() };
        let inner = format!("SELECT r.k AS x, s.k AS y FROM r JOIN s ON {on}");
        let lonely_left =
            format!("SELECT r.k, CAST(NULL AS INTEGER) FROM r WHERE NOT EXISTS (SELECT 1 FROM s WHERE {on})");
        let lonely_right =
            format!("SELECT CAST(NULL AS INTEGER), s.k FROM s WHERE NOT EXISTS (SELECT 1 FROM r WHERE {on})");
        let join = |kind: &str| format!("SELECT r.k AS x, s.k AS y FROM r {kind} JOIN s ON {on}");
        same(session, seed, &join("LEFT"), &format!("{inner} UNION ALL {lonely_left}"));
        same(session, seed, &join("RIGHT"), &format!("{inner} UNION ALL {lonely_right}"));
        same(session, seed, &join("FULL"), &format!("{inner} UNION ALL {lonely_left} UNION ALL {lonely_right}"));
        same(session, seed, &inner, &format!("SELECT r.k, s.k FROM r, s WHERE {on}"));
        same(session, seed, &inner, &format!("SELECT r.k, t.k FROM r, LATERAL (SELECT s.k FROM s WHERE {on}) AS t"));
        same(
            session,
            seed,
            &format!("SELECT k FROM r WHERE EXISTS (SELECT 1 FROM s WHERE {on})"),
            &format!("SELECT DISTINCT x FROM ({inner}) AS j"),
        );
        same(
            session,
            seed,
            &format!("SELECT r.k, (SELECT COUNT(*) FROM s WHERE {on}) FROM r"),
            &format!("SELECT r.k, COUNT(s.k) FROM r LEFT JOIN s ON {on} GROUP BY r.k"),
        );
    });
}

#[test]
fn sets_are_made_of_sets() {
    each(2000, |session, draw, seed, p| {
        let (a, b) = (format!("SELECT a, w FROM r WHERE {p}"), "SELECT b, w FROM s".to_owned());
        let (a, b) = if draw.coin() { (a, b) } else { (b, a) };
        same(session, seed, &a, &format!("({a} EXCEPT ALL {b}) UNION ALL ({a} INTERSECT ALL {b})"));
        same(session, seed, &format!("{a} UNION {b}"), &format!("SELECT DISTINCT * FROM ({a} UNION ALL {b}) AS x"));
        same(session, seed, &format!("{a} INTERSECT {b}"), &format!("{a} EXCEPT ({a} EXCEPT {b})"));
        same(
            session,
            seed,
            &format!("{a} UNION {b}"),
            &format!("({a} EXCEPT {b}) UNION ({b} EXCEPT {a}) UNION ({a} INTERSECT {b})"),
        );
        same(session, seed, &format!("{a} INTERSECT ALL {b}"), &format!("{b} INTERSECT ALL {a}"));
        let column = if a.starts_with("SELECT a") { "a" } else { "b" };
        same(
            session,
            seed,
            &format!("SELECT DISTINCT * FROM ({a}) AS x"),
            &format!("SELECT {column}, w FROM ({a}) AS x GROUP BY w, {column}"),
        );
        same(session, seed, &a, &format!("WITH x AS ({a}) SELECT * FROM x"));
        same(
            session,
            seed,
            &format!("{a} UNION ALL {a}"),
            &format!("WITH x AS ({a}) SELECT * FROM x UNION ALL SELECT * FROM x"),
        );
    });
}

#[test]
fn groups_are_made_of_groups() {
    each(3000, |session, draw, seed, p| {
        let key = draw.word(&["a", "w", "b"]);
        same(
            session,
            seed,
            &format!("SELECT {key}, COUNT(*), SUM(k) FROM r WHERE {p} GROUP BY ROLLUP ({key})"),
            &format!(
                "SELECT {key}, COUNT(*), SUM(k) FROM r WHERE {p} GROUP BY {key} \
                 UNION ALL SELECT NULL, COUNT(*), SUM(k) FROM r WHERE {p}"
            ),
        );
        same(
            session,
            seed,
            &format!("SELECT {key}, COUNT(*) FROM r GROUP BY {key} HAVING COUNT(b) > 1"),
            &format!(
                "SELECT {key}, n FROM (SELECT {key}, COUNT(*) AS n, COUNT(b) AS m FROM r GROUP BY {key}) AS g WHERE m > 1"
            ),
        );
        same(
            session,
            seed,
            &format!("SELECT {key}, COUNT(*) FILTER (WHERE {p}) FROM r GROUP BY {key}"),
            &format!("SELECT {key}, COUNT(CASE WHEN {p} THEN 1 END) FROM r GROUP BY {key}"),
        );
        same(
            session,
            seed,
            &format!("SELECT COUNT(DISTINCT {key}), SUM(DISTINCT a) FROM r WHERE {p}"),
            &format!(
                "SELECT (SELECT COUNT(x) FROM (SELECT DISTINCT {key} AS x FROM r WHERE {p}) AS d), \
                        (SELECT SUM(x) FROM (SELECT DISTINCT a AS x FROM r WHERE {p}) AS d)"
            ),
        );
        let grouped = format!("SELECT {key} AS g, MAX(k) AS top FROM r GROUP BY {key}");
        same(
            session,
            seed,
            &format!("SELECT r.k FROM r JOIN ({grouped}) AS t ON r.k = t.top"),
            &format!(
                "SELECT k FROM r WHERE NOT EXISTS (SELECT 1 FROM r AS o WHERE o.{key} IS NOT DISTINCT FROM r.{key} AND o.k > r.k)"
            ),
        );
    });
}

#[test]
fn windows_are_made_of_queries() {
    each(4000, |session, draw, seed, p| {
        let key = draw.word(&["a", "w", "b"]);
        let before = format!("o.{key} IS NOT DISTINCT FROM r.{key} AND o.k <= r.k");
        same(
            session,
            seed,
            &format!(
                "SELECT k, COUNT(b) OVER (PARTITION BY {key} ORDER BY k), SUM(a) OVER (PARTITION BY {key} ORDER BY k) FROM r"
            ),
            &format!(
                "SELECT k, (SELECT COUNT(o.b) FROM r AS o WHERE {before}), (SELECT SUM(o.a) FROM r AS o WHERE {before}) FROM r"
            ),
        );
        same(
            session,
            seed,
            "SELECT k, ROW_NUMBER() OVER (ORDER BY k), RANK() OVER (ORDER BY a NULLS FIRST) FROM r",
            "SELECT k, (SELECT COUNT(*) FROM r AS o WHERE o.k <= r.k), \
             1 + (SELECT COUNT(*) FROM r AS o WHERE o.a < r.a OR o.a IS NULL AND r.a IS NOT NULL) FROM r",
        );
        same(
            session,
            seed,
            "SELECT k, LAG(b) OVER (ORDER BY k), LEAD(b, 2, -1) OVER (ORDER BY k) FROM r",
            "WITH n AS (SELECT k, b, ROW_NUMBER() OVER (ORDER BY k) AS i FROM r) \
             SELECT k, (SELECT b FROM n AS o WHERE o.i = n.i - 1), CASE WHEN EXISTS (SELECT 1 FROM n AS o WHERE o.i = n.i + 2) \
             THEN (SELECT b FROM n AS o WHERE o.i = n.i + 2) ELSE -1 END FROM n",
        );
        let (skip, take) = (draw.below(4), draw.below(5));
        same(
            session,
            seed,
            &format!(
                "SELECT k FROM r WHERE {p} ORDER BY a DESC NULLS LAST, k OFFSET {skip} ROWS FETCH FIRST {take} ROWS ONLY"
            ),
            &format!(
                "SELECT k FROM (SELECT k, ROW_NUMBER() OVER (ORDER BY a DESC NULLS LAST, k) AS i FROM r WHERE {p}) AS x \
                 WHERE i > {skip} AND i <= {skip} + {take}"
            ),
        );
        same(
            session,
            seed,
            "SELECT k, SUM(a) OVER (ORDER BY k ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING) FROM r",
            "WITH n AS (SELECT k, a, ROW_NUMBER() OVER (ORDER BY k) AS i FROM r) \
             SELECT k, (SELECT SUM(o.a) FROM n AS o WHERE o.i BETWEEN n.i - 1 AND n.i + 1) FROM n",
        );
    });
}

#[test]
fn quantifiers_are_made_of_counts() {
    each(5000, |session, draw, seed, _| {
        let (left, compare) = (number(draw, "r"), draw.word(&["=", "<>", "<", ">="]));
        let inner = format!("FROM s WHERE s.k <> {} AND s.w IS NOT NULL", draw.below(4));
        let count = |test: &str| format!("(SELECT COUNT(*) {inner} AND ({test}))");
        let (yes, unknown) =
            (count(&format!("{left} {compare} s.a")), count(&format!("({left} {compare} s.a) IS UNKNOWN")));
        let no = count(&format!("NOT ({left} {compare} s.a)"));
        same(
            session,
            seed,
            &format!("SELECT k, {left} {compare} ANY (SELECT s.a {inner}) FROM r"),
            &format!("SELECT k, CASE WHEN {yes} > 0 THEN TRUE WHEN {unknown} > 0 THEN NULL ELSE FALSE END FROM r"),
        );
        same(
            session,
            seed,
            &format!("SELECT k, {left} {compare} ALL (SELECT s.a {inner}) FROM r"),
            &format!("SELECT k, CASE WHEN {no} > 0 THEN FALSE WHEN {unknown} > 0 THEN NULL ELSE TRUE END FROM r"),
        );
        same(
            session,
            seed,
            &format!("SELECT k FROM r WHERE {left} NOT IN (SELECT s.a {inner})"),
            &format!("SELECT k FROM r WHERE {left} <> ALL (SELECT s.a {inner})"),
        );
        same(
            session,
            seed,
            &format!("SELECT k FROM r WHERE {left} IN (SELECT s.a {inner})"),
            &format!("SELECT r.k FROM r, (SELECT DISTINCT s.a AS v {inner}) AS d WHERE {left} = d.v"),
        );
        same(
            session,
            seed,
            &format!("SELECT k, UNIQUE (SELECT s.a {inner} AND s.b = {left}) FROM r"),
            &format!(
                "SELECT k, NOT EXISTS (SELECT 1 {inner} AND s.b = {left} AND s.a IS NOT NULL GROUP BY s.a HAVING COUNT(*) > 1) FROM r"
            ),
        );
    });
}
