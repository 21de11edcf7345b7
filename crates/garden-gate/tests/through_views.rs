//! Changes through random views, against the same changes of a table with the same rows; calls of table functions, against their
//! queries with the arguments written in.

use crate::random_queries::Draw;
use crate::story::{check, told};
use garden_gate::{Database, Session};

const COLUMNS: [&str; 3] = ["a", "b", "c"];

/// A condition over columns of these names.
fn condition(draw: &mut Draw, names: [&str; 3]) -> String {
    let column = |draw: &mut Draw| names[draw.below(3)];
    let (left, right) = (column(draw), column(draw));
    let number = draw.below(6);
    match draw.below(6) {
        0 => format!("{left} > {number}"),
        1 => format!("{left} <> {right}"),
        2 => format!("{left} IS NOT NULL"),
        3 => format!("MOD({left}, 2) = 0 OR {right} IN (1, {number})"),
        4 => format!("COALESCE({left}, {right}, 0) BETWEEN 1 AND {number}"),
        _ => format!("NOT ({left} = {number})"),
    }
}

/// Two tables of the same rows, and a view of the first whose columns stand in another order under other names.
fn tables(draw: &mut Draw) -> (Session, String) {
    let mut session = Database::in_memory().session();
    let mut rows = Vec::new();
    for id in 0..12 {
        let value = |draw: &mut Draw| draw.small().map_or("NULL".to_owned(), |value| value.to_string());
        rows.push(format!("({id}, {}, {}, {})", value(draw), value(draw), value(draw)));
    }
    for table in ["viewed", "plain"] {
        check(
            &mut session,
            (&format!("CREATE TABLE {table} (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER, c INTEGER)"), ""),
        );
        check(&mut session, (&format!("INSERT INTO {table} VALUES {}", rows.join(", ")), "12"));
    }
    let shown = condition(draw, COLUMNS);
    check(
        &mut session,
        (&format!("CREATE VIEW v (z, number, y, x) AS SELECT c, id, b, t.a FROM viewed AS t WHERE {shown}"), ""),
    );
    (session, shown)
}

#[test]
fn a_view_changes_the_rows_it_shows() {
    for seed in 0..150 {
        let mut draw = Draw::new(seed);
        let (mut session, shown) = tables(&mut draw);
        for _ in 0..4 {
            // The same condition in the names of the view and of the table.
            let mut again = draw.clone();
            let (through, direct) = (condition(&mut draw, ["x", "y", "z"]), condition(&mut again, COLUMNS));
            let pair = match draw.below(4) {
                0 => (
                    format!("UPDATE v SET y = x + 1, x = z WHERE {through}"),
                    format!("UPDATE plain SET b = a + 1, a = c WHERE ({shown}) AND ({direct})"),
                ),
                1 => (
                    format!("DELETE FROM v WHERE {through}"),
                    format!("DELETE FROM plain WHERE ({shown}) AND ({direct})"),
                ),
                2 => (
                    format!("INSERT INTO v (number, x) SELECT number + 100, z FROM v WHERE {through}"),
                    format!("INSERT INTO plain (id, a) SELECT id + 100, c FROM plain WHERE ({shown}) AND ({direct})"),
                ),
                _ => (
                    format!(
                        "MERGE INTO v USING (VALUES 1, 3, 50) AS s (k) ON number = k WHEN MATCHED AND {through} THEN DELETE \
                         WHEN MATCHED THEN UPDATE SET z = 9 WHEN NOT MATCHED THEN INSERT (number, x) VALUES (k + 200, 1)"
                    ),
                    format!(
                        "MERGE INTO plain USING (VALUES 1, 3, 50) AS s (k) ON id = k AND ({shown}) WHEN MATCHED AND {direct} THEN DELETE \
                         WHEN MATCHED THEN UPDATE SET c = 9 WHEN NOT MATCHED THEN INSERT (id, a) VALUES (k + 200, 1)"
                    ),
                ),
            };
            let (found, expected) = (told(&mut session, &pair.0), told(&mut session, &pair.1));
            let same = found == expected || found.starts_with("!23000") && expected.starts_with("!23000");
            assert!(same, "seed {seed}\n{}\n  {found}\n{}\n  {expected}", pair.0, pair.1);
            let all = |table: &str| format!("SELECT * FROM {table} ORDER BY id");
            let (found, expected) = (told(&mut session, &all("viewed")), told(&mut session, &all("plain")));
            assert_eq!(found, expected, "seed {seed}, after {}", pair.0);
        }
    }
}

#[test]
fn check_option_keeps_what_the_view_would_hide_out() {
    for seed in 0..100 {
        let mut draw = Draw::new(seed + 1000);
        let (mut session, shown) = tables(&mut draw);
        check(&mut session, (&format!("CREATE VIEW held AS SELECT * FROM viewed WHERE {shown} WITH CHECK OPTION"), ""));
        for id in 20..26 {
            let value =
                |draw: &mut Draw| draw.small().map_or("CAST(NULL AS INTEGER)".to_owned(), |value| value.to_string());
            let row = format!("({id}, {}, {}, {})", value(&mut draw), value(&mut draw), value(&mut draw));
            let test = format!("SELECT COUNT(*) FROM (VALUES {row}) AS t (id, a, b, c) WHERE {shown}");
            let expected = if told(&mut session, &test) == "=1" { "1" } else { "!44000" };
            check(&mut session, (&format!("INSERT INTO held VALUES {row}"), expected));
        }
        // An UPDATE is done exactly when no row it makes is hidden.
        let hidden =
            format!("SELECT COUNT(*) FROM (SELECT id, b AS a, b, c FROM held) AS t WHERE ({shown}) IS NOT TRUE");
        let (hidden, count) = (told(&mut session, &hidden), told(&mut session, "SELECT COUNT(*) FROM held"));
        let expected = if hidden == "=0" { count.trim_start_matches('=').to_owned() } else { "!44000".to_owned() };
        check(&mut session, ("UPDATE held SET a = b", &expected));
    }
}

#[test]
fn a_function_is_its_query_with_the_arguments_in_it() {
    for seed in 0..150 {
        let mut draw = Draw::new(seed + 2000);
        let (mut session, _) = tables(&mut draw);
        let mut again = draw.clone();
        let (own, written) = (condition(&mut draw, ["p", "b", "q"]), condition(&mut again, ["(:p)", "b", "(:q)"]));
        let body = |condition: &str, tail: &str| match seed % 3 {
            0 => format!("SELECT id, a FROM plain WHERE {condition} {tail}"),
            1 => format!("SELECT b, COUNT(*) FROM plain WHERE {condition} GROUP BY b {tail}"),
            _ => format!(
                "SELECT id, (SELECT MAX(o.id) FROM plain AS o WHERE o.a = plain.a AND {condition}) FROM plain {tail}"
            ),
        };
        let made = format!(
            "CREATE FUNCTION f (p INTEGER, q INTEGER) RETURNS TABLE (k BIGINT, n BIGINT) RETURN {}",
            body(&own, "")
        );
        check(&mut session, (&made, ""));
        let with = |p: &str, q: &str| body(&written.replace(":p", p).replace(":q", q), "");
        for (p, q) in [("1", "3"), ("NULL", "2"), ("2 + 1", "(SELECT MIN(a) FROM viewed)")] {
            let call = format!("SELECT k, n FROM f({p}, {q}) ORDER BY k, n");
            let query =
                format!("SELECT k, n FROM ({}) AS t (k, n) ORDER BY k, n", with(&format!("CAST({p} AS INTEGER)"), q));
            assert_eq!(told(&mut session, &call), told(&mut session, &query), "seed {seed}\n{call}\n{made}\n{query}");
        }
        // For each row to the left.
        let call = "SELECT v.id, k, n FROM viewed AS v, f(v.a, v.b) AS t ORDER BY 1, 2, 3".to_owned();
        let query = format!(
            "SELECT v.id, k, n FROM viewed AS v, LATERAL ({}) AS t (k, n) ORDER BY 1, 2, 3",
            with("v.a", "v.b")
        );
        assert_eq!(told(&mut session, &call), told(&mut session, &query), "seed {seed}\n{call}\n{made}\n{query}");
    }
}
