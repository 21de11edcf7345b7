//! GUIDE: demands are obeyed exactly, or refused with the reason; and costs that settings change.

use crate::support::{run, session};
use garden_gate::{Plan, Session, plan::PlanNode};

/// Beds, chores of beds with indexes on the bed and the day, and tools of chores.
fn garden() -> Session {
    let mut session = session();
    session
        .run(
            "CREATE TABLE plot (id INTEGER PRIMARY KEY, sun VARCHAR(9));
             INSERT INTO plot SELECT value, 'shade' FROM SERIES(1, 40);
             CREATE TABLE chore (id INTEGER PRIMARY KEY, plot INTEGER, day INTEGER);
             INSERT INTO chore SELECT value, MOD(value, 50), MOD(value, 7) FROM SERIES(1, 1000);
             CREATE INDEX chore_plot_ix ON chore (plot); CREATE INDEX chore_day_ix ON chore (day);
             CREATE TABLE tool (chore INTEGER, name VARCHAR(9));
             INSERT INTO tool SELECT value, 'rake' FROM SERIES(1, 300); SET workers = 2",
        )
        .unwrap();
    session
}

/// The operators with their tables and indexes, inputs in parentheses.
fn shape(plan: &Plan) -> String {
    fn describe(node: &PlanNode) -> String {
        let target = node.target.as_ref().map_or_else(String::new, |target| format!(" {target}"));
        let index = node.index.as_ref().map_or_else(String::new, |index| format!(" by {index}"));
        let inputs: Vec<String> = node.children.iter().map(describe).collect();
        let inputs = if inputs.is_empty() { String::new() } else { format!(" ({})", inputs.join(", ")) };
        format!("{}{target}{index}{inputs}", node.operator)
    }
    describe(&plan.root)
}

#[test]
fn demands_are_obeyed() {
    let mut session = garden();
    let joined = "SELECT p.id, c.id FROM plot p JOIN chore c ON c.plot = p.id";
    let three = "SELECT p.id FROM tool t JOIN chore c ON t.chore = c.id JOIN plot p ON c.plot = p.id";
    for (sql, guide, plan) in [
        (joined, "JOIN (p, c) BY HASH", "hash join (table scan chore, table scan plot)"),
        (
            joined,
            "JOIN (c, p) BY MERGE",
            "merge join (index-only scan plot by plot_primary_key, index range scan chore by chore_plot_ix)",
        ),
        (joined, "JOIN (p, c) BY NESTED LOOP", "index nested-loop join chore by chore_plot_ix (table scan plot)"),
        (joined, "JOIN (c, p) BY NESTED LOOP", "index nested-loop join plot by plot_primary_key (table scan chore)"),
        (
            "SELECT p.id FROM plot p LEFT JOIN chore c ON c.plot = p.id",
            "JOIN (p, c) BY NESTED LOOP",
            "index nested-loop join chore by chore_plot_ix (table scan plot)",
        ),
        (
            "SELECT p.id FROM chore c RIGHT JOIN plot p ON c.plot = p.id",
            "JOIN (p, c) BY MERGE",
            "merge join (sort (table scan plot), sort (table scan chore))",
        ),
        (
            "SELECT p.id FROM plot p FULL JOIN tool t ON t.chore = p.id",
            "JOIN (p, t) BY MERGE",
            "merge join (sort (table scan plot), sort (table scan tool))",
        ),
        (
            "SELECT p.id FROM plot p WHERE EXISTS (SELECT 1 FROM chore c WHERE c.plot = p.id)",
            "JOIN (p, c) BY NESTED LOOP",
            "index nested-loop join chore by chore_plot_ix (table scan plot)",
        ),
        (
            "SELECT p.id FROM plot p WHERE NOT EXISTS (SELECT 1 FROM tool t WHERE t.chore = p.id)",
            "JOIN (p, t) BY NESTED LOOP",
            "nested-loop join (table scan plot, table scan tool)",
        ),
        (
            three,
            "KEEP ORDER, JOIN (t, c) BY HASH, JOIN (c, p) BY MERGE",
            "merge join (sort (hash join (table scan chore, table scan tool)), index-only scan plot by plot_primary_key)",
        ),
        ("SELECT * FROM chore c WHERE c.plot = 3", "READ c BY SCAN", "table scan chore"),
        (
            "SELECT * FROM chore c WHERE c.plot = 3 AND c.day = 2",
            "READ c BY INDEX chore_day_ix",
            "index lookup chore by chore_day_ix",
        ),
        (
            "SELECT * FROM chore ORDER BY day",
            "READ chore BY INDEX CHORE_DAY_IX",
            "index range scan chore by chore_day_ix",
        ),
        ("SELECT * FROM chore WHERE day < 2 ORDER BY day", "READ chore BY SCAN", "sort (table scan chore)"),
        // What is expected of a table decides how it is joined.
        ("SELECT * FROM chore c WHERE day = 1", "EXPECT c 140 ROWS", "table scan chore"),
        ("SELECT * FROM chore c WHERE day = 1", "EXPECT c 3 ROWS", "index lookup chore by chore_day_ix"),
        ("SELECT * FROM chore c WHERE plot = 3", "EXPECT c 20 ROWS", "index lookup chore by chore_plot_ix"),
        ("SELECT * FROM chore c WHERE plot = 3", "EXPECT c 700 ROWS", "table scan chore"),
        (joined, "EXPECT p 1 ROWS", "index nested-loop join chore by chore_plot_ix (table scan plot)"),
    ] {
        let free = run(&mut session, &format!("SELECT COUNT(*) FROM ({sql}) AS q")).unwrap();
        let guided = format!("{sql} GUIDE ({guide})");
        let found = session.plan(&guided, ()).unwrap_or_else(|error| panic!("{guided}\n{error}"));
        assert_eq!(shape(&found), plan, "{guided}");
        let rows = session.query(&guided, ()).unwrap();
        assert_eq!(rows.row_count().to_string(), free, "{guided}");
        // The same as a wish, without a note.
        let wish = session.plan(format!("{sql} GUIDE IF POSSIBLE ({guide})"), ()).unwrap();
        assert_eq!((shape(&wish).as_str(), wish.notes.len()), (plan, 0), "{guided}");
    }
    for (guide, workers) in [("WORKERS 2", 2), ("WORKERS 1", 1)] {
        assert_eq!(session.plan(format!("{joined} GUIDE ({guide})"), ()).unwrap().workers, workers);
    }
    assert!(
        (session.plan("SELECT * FROM plot p GUIDE (EXPECT p 7 ROWS)", ()).unwrap().root.estimated_rows - 7.0).abs()
            < 1e-9
    );
    // In a query of its own, and in WITH.
    let inner = "WITH few AS (SELECT * FROM chore c WHERE day = 1 GUIDE (READ c BY SCAN)) SELECT COUNT(*) FROM few";
    assert_eq!(shape(&session.plan(inner, ()).unwrap()), "hash aggregate (table scan chore)");
}

#[test]
fn what_cannot_be_obeyed_says_why() {
    let mut session = garden();
    for (sql, state, words) in [
        (
            "SELECT 1 FROM plot p JOIN chore c ON c.plot > p.id GUIDE (JOIN (p, c) BY HASH)",
            "0A000",
            "a hash join needs an equality between p and c; c.plot > p.id is none",
        ),
        ("SELECT 1 FROM plot p, tool t GUIDE (JOIN (p, t) BY MERGE)", "0A000", "there is no condition between them"),
        (
            "SELECT 1 FROM chore c RIGHT JOIN plot p ON c.plot = p.id GUIDE (JOIN (c, p) BY NESTED LOOP)",
            "0A000",
            "a nested loop through c can't give the rows of p that no row of c meets; write JOIN (p, c), or BY HASH",
        ),
        (
            "SELECT 1 FROM plot p WHERE id NOT IN (SELECT c.plot FROM chore c) GUIDE (JOIN (p, c) BY MERGE)",
            "0A000",
            "a merge join can't tell UNKNOWN from FALSE, as this anti join must; write BY HASH",
        ),
        (
            "SELECT 1 FROM plot p WHERE id = 1 UNION ALL SELECT 1 FROM chore c GUIDE (JOIN (p, c) BY HASH)",
            "0A000",
            "no join of this plan has p on one side and c on the other",
        ),
        (
            "SELECT * FROM chore c WHERE plot = 3 GUIDE (READ c BY INDEX chore_day_ix)",
            "0A000",
            "there is no usable predicate on the leading column, or between what it lies, and no order it has is asked for; there is only c.plot = 3",
        ),
        ("SELECT * FROM chore c GUIDE (READ c BY INDEX nothing_ix)", "0A000", "c has no such index; it has"),
        ("SELECT * FROM tool GUIDE (READ tool BY INDEX nothing_ix)", "0A000", "tool has no index"),
        ("SELECT * FROM tool GUIDE (WORKERS 3)", "0A000", "the session has 2 workers"),
        ("SELECT * FROM tool GUIDE (READ tols BY SCAN)", "42S02", "GUIDE names \"tols\", which is not a table in FROM"),
        ("SELECT * FROM tool GUIDE (JOIN (tool, plot) BY HASH)", "42S02", "GUIDE names \"plot\""),
        ("SELECT * FROM tool GUIDE (JOIN (tool) BY HASH)", "42000", "a comma and a second table"),
        ("SELECT * FROM tool GUIDE (JOIN (tool, plot) BY SORT)", "42000", "expected HASH, MERGE, NESTED LOOP or RANGE"),
        ("SELECT * FROM tool GUIDE (HURRY)", "42000", "expected a directive"),
        ("SELECT * FROM tool GUIDE ()", "42000", "expected a directive"),
        ("SELECT * FROM tool GUIDE IF (WORKERS 1)", "42000", "IF POSSIBLE"),
        ("SELECT * FROM tool GUIDE (WORKERS 1 IF POSSIBLE)", "42000", "GUIDE IF POSSIBLE (…)"),
        ("SELECT * FROM tool GUIDE (EXPECT tool many ROWS)", "42000", "a number of rows"),
        ("SELECT * FROM tool GUIDE (WORKERS 0)", "42000", "1 to 256"),
    ] {
        let error = session.plan(sql, ()).expect_err(sql);
        assert_eq!(error.sqlstate().as_str(), state, "{sql}: {error}");
        assert!(error.message().contains(words), "{sql}: {error}");
        assert_eq!(session.query(sql, ()).expect_err(sql).message(), error.message(), "{sql}");
        if state == "0A000" {
            // As a wish it gives a note with the same words, and the rows.
            let wish = sql.replace("GUIDE (", "GUIDE IF POSSIBLE (");
            let plan = session.plan(&wish, ()).unwrap();
            let note = plan.notes.iter().find(|note| note.code == "guide-not-obeyed").expect(sql);
            assert!(note.message.contains(words) && note.position().is_some(), "{wish}: {note:?}");
            assert!(session.query(&wish, ()).is_ok());
        }
    }
}

/// Every kind of join with every method in both directions, in the order as it is written and not: the plan that comes, or the reason.
#[test]
fn every_kind_of_join_meets_every_demand_or_says_why() {
    let mut session = garden();
    let series = "SELECT * FROM SERIES(1, 20, 2) AS a (x) {} JOIN SERIES(1, 30, 3) AS b (y) ON a.x = b.y";
    let of = |kind: &str| series.replace("{}", kind);
    let exists = "SELECT 1 FROM plot a WHERE {} (SELECT 1 FROM chore b WHERE b.plot = a.id)";
    let not_in = "SELECT 1 FROM plot a WHERE {} a.id NOT IN (SELECT b.plot FROM chore b)";
    let greater = "SELECT 1 FROM plot a {} JOIN chore b ON b.plot > a.id";
    let no_equality = |method: &str| format!("a {method} join needs an equality between ");
    let [hash, merge] = ["hash", "merge"].map(no_equality);
    let unmatched = |from: &str, of: &str| {
        format!(
            "a nested loop through {from} can't give the rows of {of} that no row of {from} meets; write JOIN ({of}, {from})"
        )
    };
    let no_unknown = "a merge join can't tell UNKNOWN from FALSE, as this";
    // For HASH and MERGE the direction does not count; a nested loop goes through the first.
    for (sql, hash, merge, loop_a, loop_b) in [
        (of(""), "", "", String::new(), String::new()),
        (of("LEFT"), "", "", String::new(), unmatched("b", "a") + ", or BY HASH"),
        (of("RIGHT"), "", "", unmatched("a", "b") + ", or BY HASH", String::new()),
        (of("FULL"), "", "", String::new(), String::new()),
        (greater.replace("{}", ""), hash.as_str(), merge.as_str(), String::new(), String::new()),
        (greater.replace("{}", "LEFT"), &hash, &merge, String::new(), unmatched("b", "a")),
        (greater.replace("{}", "FULL"), &hash, &merge, String::new(), String::new()),
        (
            exists.replace("{}", "EXISTS"),
            "",
            "",
            String::new(),
            "a nested loop through b would give a row of a as often as rows of b meet it, and this semi join gives it once; write JOIN (a, b), or BY HASH".into(),
        ),
        (
            exists.replace("{}", "NOT EXISTS"),
            "",
            "",
            String::new(),
            "a nested loop through b can't tell which rows of a no row of b meets, as this anti join must; write JOIN (a, b), or BY HASH".into(),
        ),
        (
            exists.replace("{}", "a.id = 1 OR EXISTS"),
            "",
            "a merge join can't give every row with whether it has a match, as this mark join must; write BY HASH",
            String::new(),
            "a nested loop through b can't tell for each row of a whether a row of b meets it, as this mark join must; write JOIN (a, b), or BY HASH".into(),
        ),
        (
            not_in.replace("{}", ""),
            "",
            no_unknown,
            "a nested loop can't tell which comparison was UNKNOWN, as this anti join must; write BY HASH".into(),
            "a nested loop through b can't tell which rows of a no row of b meets, as this anti join must; write BY HASH".into(),
        ),
        (
            not_in.replace("{}", "a.id = 1 OR"),
            "",
            no_unknown,
            "a nested loop can't tell which comparison was UNKNOWN, as this mark join must; write BY HASH".into(),
            "a nested loop through b can't tell for each row of a whether a row of b meets it, as this mark join must; write BY HASH".into(),
        ),
    ] {
        // An inequality, or none at all; with NOT IN it would not do either.
        let ranged = match (sql.contains(" IN ("), hash.is_empty()) {
            (true, _) => "a range join can't tell UNKNOWN from FALSE, as this",
            (false, true) => "a range join needs an inequality between",
            (false, false) => "",
        };
        for (pair, looped) in [("a, b", &loop_a), ("b, a", &loop_b)] {
            for (method, reason) in [("HASH", hash), ("MERGE", merge), ("NESTED LOOP", looped), ("RANGE", ranged)] {
                for order in ["", ", KEEP ORDER"] {
                    demanded(&mut session, &sql, &format!("JOIN ({pair}) BY {method}{order}"), reason);
                }
            }
        }
    }
}

/// A demand is met, with the rows of the query without it, or refused for this reason.
fn demanded(session: &mut Session, sql: &str, demand: &str, reason: &str) {
    let guided = format!("{sql} GUIDE ({demand})");
    match session.plan(guided.as_str(), ()) {
        Ok(plan) => {
            assert_eq!(reason, "", "{guided} is obeyed");
            let method =
                ["HASH", "MERGE", "NESTED LOOP", "RANGE"].into_iter().find(|word| demand.contains(word)).unwrap();
            let name = method.to_lowercase().replace(' ', "-") + " join";
            let joins = plan.joins();
            assert!(joins.iter().all(|join| join.to_string().ends_with(&name)), "{guided}: {joins:?}");
            let counts = [sql, &guided].map(|sql| session.query(sql, ()).unwrap().row_count());
            assert_eq!(counts[0], counts[1], "{guided}");
        }
        Err(error) => {
            let refused = error.message().contains(&format!("can't be obeyed: {reason}"));
            assert!(!reason.is_empty() && refused, "{guided}: {error}");
        }
    }
}

#[test]
fn cost_settings_change_what_is_chosen() {
    let mut session = garden();
    let joined = "SELECT p.id, c.id FROM plot p JOIN chore c ON c.plot = p.id WHERE p.sun LIKE '%a%e'";
    let lookup = "SELECT day FROM chore WHERE plot = 3";
    for (settings, sql, operator) in [
        ("", joined, "index nested-loop join"),
        ("SET index_cost_factor = 1000", joined, "hash join"),
        (
            "SET index_cost_factor = 1000; SET hash_cost_factor = '1000'; SET loop_cost_factor = 1000",
            joined,
            "merge join",
        ),
        (
            "SET index_cost_factor = 1000; SET hash_cost_factor = 1000; SET sort_cost_factor = 1000; SET loop_cost_factor = 0.001",
            joined,
            "nested-loop join",
        ),
        ("SET loop_cost_factor = 1", lookup, "index lookup"),
        ("SET index_cost_factor = 100", lookup, "table scan"),
        ("SET index_cost_factor = 0.5", lookup, "index lookup"),
    ] {
        session.run("SET index_cost_factor = 1; SET hash_cost_factor = 1; SET sort_cost_factor = 1; SET loop_cost_factor = 1").unwrap();
        session.run(settings).unwrap();
        let plan = session.plan(sql, ()).unwrap();
        assert_eq!(plan.root.operator.name(), operator, "{settings}: {}", shape(&plan));
    }
    for value in ["0", "'much'", "1001", "-1"] {
        let error = session.run(format!("SET index_cost_factor = {value}")).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), "HY024", "{value}");
    }
}
