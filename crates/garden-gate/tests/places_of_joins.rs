//! Outer, semi and anti joins change places with inner ones: where that pays, and never at the cost of other rows.

use crate::random_queries::Draw;
use crate::support::{shape, show};
use garden_gate::{Database, Session, plan::PlanNode};

/// Beds 1 to 400, tasks 1 to 8000 (bed 1 + MOD(task, 400)), a note for each task but every tenth, and photos of ten tasks.
fn garden() -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE bed (bed_id INTEGER NOT NULL, name VARCHAR(20) NOT NULL);
             CREATE TABLE task (task_id INTEGER NOT NULL, bed_id INTEGER NOT NULL, hours INTEGER);
             CREATE TABLE note (task_id INTEGER NOT NULL, words VARCHAR(20));
             CREATE TABLE photo (task_id INTEGER NOT NULL, bed_id INTEGER);
             INSERT INTO bed SELECT n, 'bed ' || CAST(n AS VARCHAR(4)) FROM SERIES(1, 400) AS s (n);
             INSERT INTO task SELECT n, 1 + MOD(n, 400), MOD(n, 9) FROM SERIES(1, 8000) AS s (n);
             INSERT INTO note SELECT n, 'note ' || CAST(n AS VARCHAR(4)) FROM SERIES(1, 8000) AS s (n) WHERE MOD(n, 10) > 0;
             INSERT INTO photo SELECT n * 800, n FROM SERIES(1, 10) AS s (n)",
        )
        .unwrap();
    session
}

/// The node of the join of this kind.
fn join<'p>(node: &'p PlanNode, kind: &'static str) -> Option<&'p PlanNode> {
    if node.kind.is_some_and(|known| known.name() == kind) {
        return Some(node);
    }
    node.children.iter().find_map(|child| join(child, kind))
}

fn reads(node: &PlanNode, table: &str) -> bool {
    node.target.as_deref() == Some(table) || node.children.iter().any(|child| reads(child, table))
}

#[test]
fn a_join_is_done_where_it_meets_few_rows() {
    let mut session = garden();
    // With each query the kind of join that is moved, a table, whether that is read below the join, and the rows: bed 8 has the
    // tasks 7, 407, 807 …: 20 of them, none of which ends in 0; bed 11 has tasks that all do.
    let cases: &[(&str, &'static str, &str, bool, &str)] = &[
        (
            "SELECT COUNT(*), COUNT(words) FROM task t LEFT JOIN note n ON n.task_id = t.task_id JOIN bed b ON b.bed_id = t.bed_id \
             WHERE b.name = 'bed 8'",
            "left",
            "bed",
            true,
            "20|20",
        ),
        (
            "SELECT COUNT(*), COUNT(words) FROM task t LEFT JOIN note n ON n.task_id = t.task_id JOIN bed b ON b.bed_id = t.bed_id \
             WHERE b.name = 'bed 11'",
            "left",
            "bed",
            true,
            "20|0",
        ),
        // Two outer joins, the second on a column of the first.
        (
            "SELECT COUNT(*), COUNT(p.bed_id) FROM task t LEFT JOIN note n ON n.task_id = t.task_id LEFT JOIN photo p ON p.task_id = n.task_id \
             JOIN bed b ON b.bed_id = t.bed_id WHERE b.name = 'bed 8'",
            "left",
            "bed",
            true,
            "20|0",
        ),
        // A semi join that leaves few rows is done first, one that leaves most of them last. Tasks 800, 1600, … are of bed 1.
        (
            "SELECT COUNT(*) FROM task t JOIN bed b ON b.bed_id = t.bed_id \
             WHERE EXISTS (SELECT 1 FROM photo p WHERE p.task_id = t.task_id)",
            "semi",
            "bed",
            false,
            "10",
        ),
        (
            "SELECT COUNT(*) FROM task t JOIN bed b ON b.bed_id = t.bed_id \
             WHERE b.name = 'bed 8' AND EXISTS (SELECT 1 FROM note n WHERE n.task_id = t.task_id)",
            "semi",
            "bed",
            true,
            "20",
        ),
        (
            "SELECT COUNT(*) FROM task t JOIN bed b ON b.bed_id = t.bed_id \
             WHERE b.name = 'bed 11' AND NOT EXISTS (SELECT 1 FROM note n WHERE n.task_id = t.task_id)",
            "anti",
            "bed",
            true,
            "20",
        ),
    ];
    for (sql, kind, table, below, rows) in cases {
        assert_eq!(show(&session.query(sql, ()).unwrap()), *rows, "{sql}");
        let plan = session.plan(sql, ()).unwrap();
        let node = join(&plan.root, kind)
            .or_else(|| join(&plan.root, "right"))
            .unwrap_or_else(|| panic!("{sql}: {}", shape(&plan)));
        assert_eq!(reads(node, table), *below, "{sql}\n{}", shape(&plan));
        // Who wants the order as it is written gets it.
        let kept = format!("{sql} GUIDE (KEEP ORDER)");
        assert_eq!(show(&session.query(&kept, ()).unwrap()), *rows, "{kept}");
    }
    let plan = session.plan(cases[0].0, ()).unwrap();
    let orders = plan.considered.iter().find(|decision| decision.decision.to_string() == "join order").unwrap();
    let chosen = orders.candidates.iter().find(|candidate| candidate.chosen).unwrap();
    assert!(chosen.choice.contains(") left ⋈ ") && chosen.choice.starts_with("("), "{}", chosen.choice);
    let cheapest = orders.candidates.iter().filter_map(|candidate| candidate.cost).fold(f64::INFINITY, f64::min);
    assert!(chosen.cost.is_some_and(|cost| cost <= cheapest), "{orders:?}");
    assert!(plan.considered.iter().any(|decision| decision.decision.to_string() == "left join"));
}

/// A random query over three to five of the tables.
fn query(draw: &mut Draw) -> String {
    let tables = ["bed", "task", "note", "photo"];
    let (mut from, mut conditions) = ("task x0".to_owned(), Vec::new());
    let mut inner = vec![0];
    let count = 2 + draw.below(3);
    for at in 1..=count {
        let table = *draw.pick(&tables);
        let other = *draw.pick(&inner);
        let key = |name: &str| if name == "bed" { "bed_id" } else { "task_id" };
        // Numbers that all sides have: what they mean does not matter here.
        let on = format!("x{at}.{} = x{other}.task_id", key(table));
        let on = if draw.below(4) == 0 { format!("{on} AND x{at}.{} < {}", key(table), draw.below(3000)) } else { on };
        match draw.below(5) {
            0 | 1 => {
                from.push_str(&format!(" LEFT JOIN {table} x{at} ON {on}"));
                if table != "bed" {
                    inner.push(at);
                }
            }
            2 => conditions.push(format!("EXISTS (SELECT 1 FROM {table} x{at} WHERE {on})")),
            3 => conditions.push(format!("NOT EXISTS (SELECT 1 FROM {table} x{at} WHERE {on})")),
            _ => {
                from.push_str(&format!(" JOIN {table} x{at} ON {on}"));
                if table != "bed" {
                    inner.push(at);
                }
            }
        }
    }
    if draw.coin() {
        conditions.push(format!("x0.hours = {}", draw.below(9)));
    }
    let filter = if conditions.is_empty() { String::new() } else { format!(" WHERE {}", conditions.join(" AND ")) };
    let columns: Vec<String> = inner.iter().map(|at| format!("COUNT(x{at}.task_id), SUM(x{at}.task_id)")).collect();
    format!("SELECT COUNT(*), {} FROM {from}{filter}", columns.join(", "))
}

#[test]
fn the_order_of_joins_changes_no_rows() {
    let mut session = garden();
    let mut draw = Draw::new(11);
    let (mut moved, mut found) = (0, 0);
    for _ in 0..150 {
        let sql = query(&mut draw);
        let free = session.query(&sql, ()).map(|rows| show(&rows)).unwrap_or_else(|error| panic!("{sql}\n{error}"));
        let kept = format!("{sql} GUIDE (KEEP ORDER)");
        assert_eq!(free, show(&session.query(&kept, ()).unwrap()), "{sql}");
        let plans = [session.plan(&sql, ()).unwrap(), session.plan(&kept, ()).unwrap()];
        moved += usize::from(plans[0].fingerprint != plans[1].fingerprint);
        found += usize::from(!free.starts_with("0|"));
    }
    assert!(moved > 20 && found > 80, "{moved} queries were changed, {found} have rows");
}

/// Tasks 1 to 5000 by key, and a note for every second of them, by an index.
#[test]
fn a_merge_join_takes_its_order_from_indexes() {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE task (task_id INTEGER PRIMARY KEY, hours INTEGER);
             CREATE TABLE note (note_id INTEGER PRIMARY KEY, task_id INTEGER); CREATE INDEX note_task_ix ON note (task_id);
             INSERT INTO task SELECT n, MOD(n, 10) FROM SERIES(1, 5000) AS s (n);
             INSERT INTO note SELECT n, 5002 - 2 * n FROM SERIES(1, 2500) AS s (n);
             INSERT INTO note VALUES (0, NULL)",
        )
        .unwrap();
    let joined = "SELECT COUNT(*), SUM(t.hours) FROM task t JOIN note n ON n.task_id = t.task_id";
    let merged = format!("{joined} GUIDE (JOIN (t, n) BY MERGE)");
    let plan = session.plan(&merged, ()).unwrap();
    assert!(!shape(&plan).contains("sort (") && shape(&plan).contains("merge join (index"), "{}", shape(&plan));
    // The cost that is shown is that of the plan.
    let decision = plan.considered.iter().find(|decision| decision.decision.to_string() == "join t with n").unwrap();
    let told =
        decision.candidates.iter().find(|candidate| candidate.choice == "merge join").and_then(|known| known.cost);
    let node = plan.nodes().into_iter().find(|node| node.operator.name() == "merge join").unwrap();
    assert!(told.is_some_and(|told| (told - node.cost).abs() < 1e-6 * told), "{told:?}, not {}", node.cost);
    // The even numbers to 5000: 500 times 0 + 2 + 4 + 6 + 8.
    for sql in [joined, &merged] {
        assert_eq!(show(&session.query(sql, ()).unwrap()), "2500|10000", "{sql}");
    }
    session.run("SET index_cost_factor = 1000").unwrap();
    let plan = session.plan(&merged, ()).unwrap();
    assert!(shape(&plan).contains("sort (table scan task)"), "{}", shape(&plan));
}
