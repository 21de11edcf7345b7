//! Plans: their shape, their estimates, and that what is shown is what runs.

use crate::support::{check_plans, garden, session, shape};
use garden_gate::{
    Parameters, Plan,
    plan::{JoinMethod, PlanNode},
};

#[test]
fn shapes() {
    check_plans(&[
        ("SELECT 1", "project (values)"),
        ("SELECT * FROM bed", "table scan bed"),
        ("SELECT name FROM bed WHERE sun = 'shade' AND area > 3", "table scan bed"),
        ("SELECT area * 2 FROM bed", "project (table scan bed)"),
        ("SELECT area * 2 AS a FROM bed ORDER BY a", "sort (project (table scan bed))"),
        ("SELECT name FROM bed ORDER BY area FETCH FIRST 3 ROWS ONLY", "top-n (table scan bed)"),
        ("SELECT n FROM SERIES(1, 9000) AS s (n) ORDER BY n DESC FETCH FIRST 9 ROWS ONLY", "top-n (expand (values))"),
        // Nearly all rows are kept: to sort them is cheaper.
        (
            "SELECT n FROM SERIES(1, 9000) AS s (n) ORDER BY n DESC FETCH FIRST 8999 ROWS ONLY",
            "limit (sort (expand (values)))",
        ),
        ("SELECT name FROM bed FETCH FIRST 3 ROWS ONLY", "limit (table scan bed)"),
        ("SELECT name FROM bed ORDER BY area OFFSET 3 ROWS", "limit (sort (table scan bed))"),
        ("SELECT DISTINCT sun FROM bed", "distinct (table scan bed)"),
        ("SELECT sun, COUNT(*) FROM bed GROUP BY sun", "hash aggregate (table scan bed)"),
        ("SELECT sun FROM bed GROUP BY sun HAVING COUNT(*) > 1", "filter (hash aggregate (table scan bed))"),
        ("SELECT sun FROM bed GROUP BY sun HAVING sun > 'a'", "hash aggregate (table scan bed)"),
        ("SELECT 1 FROM task JOIN bed USING (bed_id)", "project (hash join (table scan task, table scan bed))"),
        (
            "SELECT task_id FROM task JOIN bed ON task.bed_id = bed.bed_id + 1 AND 10 / hours > 1",
            "filter (hash join (table scan task, table scan bed))",
        ),
        ("SELECT task_id FROM task JOIN bed ON hours < area", "range join (table scan task, table scan bed)"),
        ("SELECT task_id FROM task, bed", "nested-loop join (table scan task, table scan bed)"),
        (
            "SELECT task_id FROM task, bed WHERE task.bed_id = bed.bed_id AND bed_id / 0 > 1"
                .replace("bed_id / 0", "10 / hours")
                .as_str(),
            "filter (hash join (table scan task, table scan bed))",
        ),
        ("SELECT name FROM bed WHERE 1 = 2", "values"),
        ("SELECT name FROM bed WHERE sun = NULL", "values"),
        ("SELECT COUNT(*) FROM bed WHERE 1 = 2", "hash aggregate (values)"),
        ("SELECT name FROM bed WHERE 1 = 1", "table scan bed"),
    ]);
}

#[test]
fn the_plan_predicted_is_the_plan_measured() {
    let mut session = garden();
    for sql in [
        "SELECT * FROM bed",
        "SELECT sun, COUNT(*) FROM bed WHERE area_m2 > 100 GROUP BY sun ORDER BY 2 DESC FETCH FIRST 2 ROWS ONLY",
        "SELECT g.name, SUM(t.hours) FROM task t JOIN bed b USING (bed_id) JOIN gardener g ON g.gardener_id = t.gardener_id WHERE b.sun = :sun GROUP BY g.name",
        "SELECT COUNT(*) FROM reading r JOIN sensor s USING (sensor_id) JOIN bed b USING (bed_id) WHERE r.moisture > 30 AND b.soil = :sun",
        "SELECT DISTINCT kind FROM task WHERE note IS NOT NULL OR hours > 3",
        "SELECT COUNT(*) FROM bed a JOIN bed b ON a.area_m2 < b.area_m2",
    ] {
        for workers in [1, 2] {
            session.set("workers", workers).unwrap();
            let parameters =
                if sql.contains(":sun") { Parameters::new().set("sun", "shade") } else { Parameters::new() };
            let predicted = session.plan(sql, parameters.clone()).unwrap();
            let (rows, measured) = session.measure(sql, parameters).unwrap();
            assert_eq!(predicted.fingerprint, measured.fingerprint, "{sql}");
            assert_eq!(predicted.cost.to_bits(), measured.cost.to_bits(), "{sql}");
            assert_eq!(measured.root.actual_rows, Some(rows.row_count() as u64), "{sql}");
            assert!(
                predicted.root.actual_rows.is_none() && measured.nodes().iter().all(|node| node.actual_rows.is_some()),
                "{sql}"
            );
        }
    }
}

#[test]
fn fingerprints_cover_all_work_and_no_names_or_constants() {
    let mut session = session();
    // Two texts, whether they do the same work, and whether they go the same way.
    for (a, b, same_work, same_way) in [
        ("SELECT name FROM bed WHERE area > 3", "SELECT name FROM bed WHERE area > 10", true, true),
        ("SELECT name FROM bed WHERE area > 3", "select B.NAME as n from BED b where 3 < b.AREA", true, true),
        (
            "SELECT name FROM bed WHERE area > 3",
            "WITH big AS (SELECT * FROM bed WHERE area > 3) SELECT name FROM big",
            true,
            true,
        ),
        (
            "SELECT name FROM bed WHERE area > 3 AND sun = 'shade'",
            "SELECT name FROM bed WHERE sun = 'full' AND area > 1",
            true,
            true,
        ),
        ("SELECT name FROM bed WHERE area > 3", "SELECT name FROM bed WHERE area >= 3", false, true),
        ("SELECT name FROM bed WHERE area > 3", "SELECT name FROM bed", false, true),
        ("SELECT name FROM bed WHERE area > 3", "SELECT sun FROM bed WHERE area > 3", false, true),
        ("SELECT name, sun FROM bed", "SELECT sun, name FROM bed", false, true),
        ("SELECT name FROM bed ORDER BY area", "SELECT name FROM bed ORDER BY name", false, true),
        ("SELECT name FROM bed ORDER BY area", "SELECT name FROM bed ORDER BY area DESC", false, true),
        (
            "SELECT name FROM bed ORDER BY area FETCH FIRST 2 ROWS ONLY",
            "SELECT name FROM bed ORDER BY area FETCH FIRST 3 ROWS ONLY",
            false,
            true,
        ),
        ("SELECT SUM(hours) FROM task", "SELECT MAX(hours) FROM task", false, true),
        ("SELECT COUNT(*) FROM task GROUP BY kind", "SELECT COUNT(*) FROM task GROUP BY bed_id", false, true),
        ("SELECT area + 1 FROM bed", "SELECT area + 2 AS more FROM bed", true, true),
        ("SELECT area + 1 FROM bed", "SELECT area * 2 FROM bed", false, true),
        ("SELECT RANK() OVER (ORDER BY area) FROM bed", "SELECT RANK() OVER (ORDER BY name) FROM bed", false, true),
        ("SELECT kind FROM task WHERE hours > 3", "SELECT name FROM bed WHERE area > 3", false, false),
        (
            "SELECT 1 FROM task t JOIN bed b ON t.bed_id = b.bed_id",
            "SELECT 2 FROM task x JOIN bed y ON x.bed_id = y.bed_id",
            true,
            true,
        ),
        (
            "SELECT 1 FROM task t JOIN bed b ON t.bed_id = b.bed_id",
            "SELECT 1 FROM task t JOIN bed b ON t.task_id = b.bed_id",
            false,
            true,
        ),
        (
            "SELECT x.name FROM bed x, bed y WHERE x.area < y.area",
            "SELECT y.name FROM bed x, bed y WHERE x.area < y.area",
            false,
            true,
        ),
    ] {
        let [one, other] = [a, b].map(|sql| session.plan(sql, ()).unwrap());
        assert_eq!(one.fingerprint == other.fingerprint, same_work, "{a} | {b}");
        assert_eq!(one.shape == other.shape, same_way, "{a} | {b}");
    }
}

#[test]
fn anti_joins_say_when_null_counts_and_tally_it() {
    let mut session = session();
    // sun of the beds: T F F U T when asked for 'shade'; one NULL on either side makes NOT IN UNKNOWN.
    let (rows, plan) = session
        .measure("SELECT name FROM bed WHERE sun NOT IN (SELECT b.sun FROM bed b WHERE sun = 'shade')", ())
        .unwrap();
    assert_eq!(rows.row_count(), 2);
    let join = plan.nodes().into_iter().find(|node| node.kind == Some(garden_gate::plan::JoinKindName::Anti)).unwrap();
    assert!(join.null_aware);
    assert_eq!([join.truth[0].holds, join.truth[0].fails, join.truth[0].unknown], [2, 2, 1]);
    assert_eq!(join.truth[0].predicate, "bed.sun <> ALL (b.sun)");
    let plain = session
        .plan("SELECT 1 FROM bed WHERE NOT EXISTS (SELECT 1 FROM task t WHERE t.bed_id = bed.bed_id)", ())
        .unwrap();
    assert!(plain.nodes().iter().all(|node| !node.null_aware));
}

#[test]
fn measured_recursions_say_their_rounds() {
    let mut session = session();
    // 1 to 8: the anchor, seven rounds that find a row each, and one that finds none.
    let sql = "WITH RECURSIVE up (n) AS (SELECT 1 AS n UNION ALL SELECT n + 1 FROM up WHERE n < 8) SELECT n FROM up";
    let (_, plan) = session.measure(sql, ()).unwrap();
    let of = |operator: &str| plan.nodes().into_iter().find(|node| node.operator.name() == operator).unwrap();
    assert_eq!((of("recursion").rounds, of("recursion").actual_rows), (Some(8), Some(8)));
    let input = of("recursion input");
    assert_eq!((input.rounds, input.actual_rows), (Some(8), Some(8)));
    assert!((input.estimate_error.unwrap() - input.estimated_rows.max(1.0)).abs() < 1e-9, "one row a round");
}

#[test]
fn decisions_are_those_of_the_plan() {
    let mut session = session();
    session.run("CREATE TABLE big (id INTEGER PRIMARY KEY, k INTEGER); INSERT INTO big SELECT value, MOD(value, 7) FROM SERIES(1, 30000)").unwrap();
    for sql in [
        "SELECT b.k FROM bed d JOIN big b ON b.id = d.bed_id",
        "SELECT d.name FROM bed d LEFT JOIN big b ON b.id = d.bed_id WHERE b.k IS NULL",
        "SELECT k FROM big ORDER BY id FETCH FIRST 3 ROWS ONLY",
        "SELECT id, COUNT(*) FROM big GROUP BY id",
        "SELECT k FROM big WHERE id = 5",
    ] {
        let plan = session.plan(sql, ()).unwrap();
        for decision in &plan.considered {
            let garden_gate::plan::Decision::Read(alias) = &decision.decision else { continue };
            let reads = |node: &&PlanNode| node.alias.as_deref().or(node.target.as_deref()) == Some(alias);
            let node = plan.nodes().into_iter().find(reads).unwrap();
            let chosen: Vec<&str> =
                decision.candidates.iter().filter(|one| one.chosen).map(|one| one.choice.as_str()).collect();
            assert!(
                chosen.len() == 1 && chosen[0].starts_with(node.operator.name()),
                "{sql}: {chosen:?} for {}",
                node.operator
            );
        }
    }
    let plan = session
        .plan("SELECT b.bed_id FROM task t RIGHT JOIN bed b ON t.bed_id = b.bed_id WHERE t.hours > 1", ())
        .unwrap();
    let change = &plan.rewrites.iter().find(|rewrite| rewrite.rule.name() == "outer to inner join").unwrap().change;
    assert!(change.starts_with("the right join became an inner one by "), "{change}");
}

fn scan<'p>(plan: &'p Plan, table: &str) -> &'p PlanNode {
    plan.nodes().into_iter().find(|node| node.target.as_deref() == Some(table)).unwrap()
}

#[test]
fn truth_is_tallied_for_the_whole_and_for_each_part() {
    let mut session = session();
    let tally = |plan: &Plan, table: &str| -> Vec<(String, [u64; 3])> {
        scan(plan, table)
            .truth
            .iter()
            .map(|truth| (truth.predicate.clone(), [truth.holds, truth.fails, truth.unknown]))
            .collect()
    };
    let (_, plan) = session.measure("SELECT name FROM bed WHERE sun = 'shade'", ()).unwrap();
    assert_eq!(tally(&plan, "bed"), [("bed.sun = 'shade'".into(), [2, 2, 1])]);
    // sun: T F F U T; area > 10: T F T T U. The second part is reached by the rows that are not FALSE: beds 1, 4, 5.
    let (_, plan) = session.measure("SELECT name FROM bed WHERE sun = 'shade' AND area > 10", ()).unwrap();
    assert_eq!(
        tally(&plan, "bed"),
        [
            ("bed.sun = 'shade' AND bed.area > 10.00".into(), [1, 2, 2]),
            ("bed.sun = 'shade'".into(), [2, 2, 1]),
            ("bed.area > 10.00".into(), [2, 0, 1]),
        ]
    );
    let (_, plan) = session.measure("SELECT 1 FROM task t JOIN bed b USING (bed_id) WHERE t.hours > 2", ()).unwrap();
    assert_eq!(tally(&plan, "task"), [("t.hours > 2.00".into(), [2, 4, 1])]);
    let (_, plan) = session.measure("SELECT kind FROM task GROUP BY kind HAVING SUM(hours) > 4", ()).unwrap();
    let having = &plan.root.truth[0];
    assert_eq!([having.holds, having.fails, having.unknown], [2, 1, 0]);
}

#[test]
fn estimates_come_from_statistics() {
    let mut session = garden();
    for (sql, estimate) in [
        // Statistics of tables this small are exact, so equalities and their negations are too.
        ("SELECT * FROM bed", "SELECT COUNT(*) FROM bed"),
        ("SELECT * FROM task WHERE bed_id = 7", "SELECT COUNT(*) FROM task WHERE bed_id = 7"),
        ("SELECT * FROM task WHERE bed_id <> 7", "SELECT COUNT(*) FROM task WHERE bed_id <> 7"),
        ("SELECT * FROM task WHERE kind = 'weeding'", "SELECT COUNT(*) FROM task WHERE kind = 'weeding'"),
        (
            "SELECT * FROM task WHERE kind IN ('weeding', 'pruning')",
            "SELECT COUNT(*) FROM task WHERE kind IN ('weeding', 'pruning')",
        ),
        ("SELECT * FROM task WHERE hours IS NULL", "SELECT COUNT(*) FROM task WHERE hours IS NULL"),
        ("SELECT * FROM task WHERE NOT (hours > 2)", "SELECT COUNT(*) FROM task WHERE NOT (hours > 2)"),
        (
            "SELECT * FROM bed WHERE sun IS DISTINCT FROM 'shade'",
            "SELECT COUNT(*) FROM bed WHERE sun IS DISTINCT FROM 'shade'",
        ),
        ("SELECT * FROM task WHERE kind = 'dancing'", "SELECT 0"),
        ("SELECT * FROM task WHERE bed_id > 1000", "SELECT 0"),
        ("SELECT * FROM task JOIN bed USING (bed_id)", "SELECT COUNT(*) FROM task"),
        ("SELECT sun FROM bed GROUP BY sun", "SELECT 4"),
        ("SELECT * FROM task FETCH FIRST 10 ROWS ONLY", "SELECT 10"),
    ] {
        let actual: f64 = session.query(estimate, ()).unwrap().rows().next().unwrap().get(0).unwrap();
        let plan = session.plan(sql, ()).unwrap();
        let estimated = plan.root.estimated_rows;
        assert!((estimated - actual).abs() <= actual * 0.02 + 0.5, "{sql}: {estimated} for {actual}");
    }
    // A range between the least and the greatest day: within a tenth of all rows.
    let (_, plan) = session.measure("SELECT * FROM task WHERE day >= DATE '2024-01-01'", ()).unwrap();
    assert!(plan.worst_estimate().unwrap().estimate_error.unwrap() < 1.1);
}

#[test]
fn parameters_count_in_estimates_and_without_them_averages() {
    let mut session = garden();
    let sql = "SELECT * FROM task WHERE bed_id = :bed";
    let with =
        |session: &mut garden_gate::Session, bed: i32| session.plan(sql, Parameters::new().set("bed", bed)).unwrap();
    let (busy, quiet, generic) = (with(&mut session, 7), with(&mut session, 8), session.plan(sql, ()).unwrap());
    assert!(busy.root.estimated_rows > 20.0 * quiet.root.estimated_rows);
    assert!(generic.generic && !busy.generic);
    assert!((generic.root.estimated_rows - 6_000.0 / 48.0).abs() < 1.0, "{}", generic.root.estimated_rows);
    assert_eq!(busy.root.predicates[0].text, "task.bed_id = :bed");
}

#[test]
fn predicates_stand_where_they_act() {
    let mut session = session();
    let sql =
        "SELECT 1 FROM task t JOIN bed b ON t.bed_id = b.bed_id AND t.hours < b.area WHERE b.sun = 'shade' AND t.done";
    let plan = session.plan(sql, ()).unwrap();
    let mut found: Vec<(String, &str)> =
        plan.nodes().iter().flat_map(|node| node.predicates.iter().map(|p| (p.text.clone(), p.place.name()))).collect();
    found.sort();
    assert_eq!(
        found,
        [
            ("b.sun = 'shade'".into(), "filter"),
            ("CAST(t.hours AS NUMERIC(6,2)) < b.area".into(), "residual"),
            ("t.bed_id = b.bed_id".into(), "join key"),
            ("t.done".into(), "filter"),
        ]
        .map(|(text, place): (String, &str)| (text, place))
        .into_iter()
        .collect::<std::collections::BTreeSet<_>>()
        .into_iter()
        .collect::<Vec<_>>()
    );
}

#[test]
fn the_smaller_side_is_built_and_the_chosen_candidate_is_the_cheapest() {
    let mut session = garden();
    let sql = "SELECT COUNT(*) FROM reading r, sensor s, bed b, task t
               WHERE r.sensor_id = s.sensor_id AND s.bed_id = b.bed_id AND t.bed_id = b.bed_id AND b.soil = 'peat'";
    let plan = session.plan(sql, ()).unwrap();
    assert_eq!(plan.joins(), [JoinMethod::Hash; 3]);
    for node in plan.nodes().iter().filter(|node| node.operator.name() == "hash join") {
        assert!(node.children[1].estimated_rows <= node.children[0].estimated_rows, "{}", shape(&plan));
    }
    for decision in &plan.considered {
        let cheapest = decision.candidates.iter().filter_map(|candidate| candidate.cost).fold(f64::MAX, f64::min);
        let chosen = decision.candidates.iter().find(|candidate| candidate.chosen).unwrap();
        assert!(chosen.cost.unwrap() <= cheapest, "{}: {:?}", decision.decision, decision.candidates);
        assert!(decision.candidates.iter().all(|candidate| candidate.cost.is_some() || candidate.reason.is_some()));
    }
    assert!(
        plan.considered
            .iter()
            .any(|decision| decision.decision.to_string() == "join order" && decision.candidates.len() > 2)
    );
}

#[test]
fn why_a_join_has_no_hash_table() {
    let plan = session().plan("SELECT 1 FROM task t JOIN bed b ON t.hours < b.ph", ()).unwrap();
    let decision =
        plan.considered.iter().find(|decision| decision.decision.to_string().starts_with("join t with b")).unwrap();
    let hash = decision.candidates.iter().find(|candidate| candidate.choice == "hash join").unwrap();
    assert_eq!(hash.cost, None);
    let reason = hash.reason.as_deref().unwrap();
    assert!(reason.contains("needs an equality") && reason.contains("t.hours"), "{reason}");
}

#[test]
fn rewrites_are_told_with_their_reason() {
    let mut session = session();
    for (sql, expected) in [
        ("SELECT name FROM bed", &[][..]),
        (
            "SELECT name FROM bed WHERE opened > DATE '2020-01-01' + INTERVAL '1' MONTH",
            &[
                "fold constants: bed.opened > DATE '2020-01-01' + INTERVAL '0-01' YEAR TO MONTH became bed.opened > DATE '2020-02-01'",
            ][..],
        ),
        (
            "SELECT 1 FROM task t, bed b WHERE t.bed_id = b.bed_id AND b.sun = 'shade'",
            &["predicate pushdown: b.sun = 'shade' moved from WHERE to where its table is read"][..],
        ),
        (
            "SELECT 1 FROM task t JOIN bed b ON t.bed_id = b.bed_id AND t.done",
            &["predicate pushdown: t.done moved from ON to where its table is read"][..],
        ),
        (
            "SELECT kind FROM task GROUP BY kind HAVING kind > 'a' AND COUNT(*) > 0",
            &["predicate pushdown: task.kind > 'a' moved from HAVING below the grouping"][..],
        ),
        // What can fail stays where it was written, lest it fail for a row that no join would let through.
        ("SELECT 1 FROM task t JOIN bed b USING (bed_id) WHERE 10 / t.task_id > 1", &[][..]),
    ] {
        let plan = session.plan(sql, ()).unwrap();
        let found: Vec<String> =
            plan.rewrites.iter().map(|rewrite| format!("{}: {}", rewrite.rule, rewrite.change)).collect();
        assert_eq!(found, expected, "{sql}");
        assert!(plan.rewrites.iter().all(|rewrite| !rewrite.why.is_empty()));
    }
}

#[test]
fn a_plan_can_be_asked_how_it_reads() {
    let mut session = session();
    let plan = session.plan("SELECT 1 FROM bed a JOIN bed b USING (bed_id) JOIN task USING (bed_id)", ()).unwrap();
    assert_eq!((plan.reads("bed").times(), plan.reads("a").times(), plan.reads("x").times()), (2, 1, 0));
    assert!(plan.reads("TASK").by_scan() && !plan.reads("task").by_index("any") && !plan.reads("x").by_scan());
    assert_eq!(plan.worst_estimate().map(|node| node.operator), None, "nothing is measured yet");
    let last = session.plan("SET workers = 1; SELECT 5; SELECT name FROM bed", ()).unwrap();
    assert_eq!(shape(&last), "table scan bed");
    assert_eq!(session.plan("SET workers = 1", ()).unwrap_err().sqlstate().as_str(), "42000");
}
