//! Drawings: whole, well-formed, with the plan's own words in them.

use garden_gate::{Database, Session, SourceText, inspect::SweepOptions};
use garden_gate_view::{Look, PlanReport, plan_dot, plan_html, plan_svg, plan_tree, sweep_svg};

fn garden() -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(20), sun VARCHAR(9));
             CREATE TABLE task (task_id INTEGER PRIMARY KEY, bed_id INTEGER, hours NUMERIC(4,2));
             CREATE INDEX task_bed_ix ON task (bed_id);
             INSERT INTO bed VALUES (1, 'Fern <gully>', 'shade'), (2, 'Scree', NULL);
             INSERT INTO task SELECT value, CASE WHEN MOD(value, 10) < 9 THEN 1 ELSE value END, 1.5 FROM SERIES(1, 20000); SET workers = 1",
        )
        .unwrap();
    session
}

/// Checks that every element is closed where it should be, and gives the names of all in order.
fn elements(text: &str) -> Vec<String> {
    let mut open: Vec<String> = Vec::new();
    let mut all = Vec::new();
    let mut rest = text;
    while let Some(at) = rest.find('<') {
        let end = at + rest[at..].find('>').expect("a tag is closed");
        let tag = &rest[at + 1..end];
        rest = &rest[end + 1..];
        let name = tag.trim_start_matches('/').split([' ', '\n']).next().unwrap().to_owned();
        match tag.chars().next() {
            Some('!') => {}
            Some('/') => assert_eq!(open.pop().as_deref(), Some(name.as_str()), "{tag}"),
            _ => {
                all.push(name.clone());
                if !["meta", "br"].contains(&name.as_str()) && !tag.ends_with('/') {
                    open.push(name);
                }
            }
        }
    }
    assert!(open.is_empty(), "{open:?}");
    all
}

const JOINED: &str = "SELECT b.name, SUM(t.hours) FROM bed b JOIN task t ON t.bed_id = b.bed_id WHERE b.sun <> 'x' AND b.name <> '<' GROUP BY b.name";

#[test]
fn a_plan_is_drawn_with_a_card_for_each_operator() {
    let mut session = garden();
    let plan = session.plan(JOINED, ()).unwrap();
    let (_, measured) = session.measure(JOINED, ()).unwrap();
    for (plan, words) in [
        (&plan, &["rows est.", "share of cost", "hash aggregate", "t.bed_id = b.bed_id", "b.name &lt;&gt; '&lt;'"][..]),
        (&measured, &["off by", "share of time", "est. ", "UNKNOWN for 1 rows", "worst estimate off by", " ms"]),
    ] {
        let drawing = plan_svg(plan);
        let found = elements(&drawing);
        let count = |name: &str| found.iter().filter(|found| *found == name).count();
        let nodes = plan.nodes().len();
        // A card and a bar each, and the paper; an edge from each but the topmost.
        assert_eq!((count("rect"), count("path"), count("g")), (2 * nodes + 1, nodes - 1, nodes), "{drawing}");
        assert!(words.iter().all(|word| drawing.contains(word)), "{words:?} in {drawing}");
        assert!(drawing.starts_with("<svg xmlns=") && drawing.contains("prefers-color-scheme:dark"));
        assert!(drawing.contains(&plan.fingerprint) && !drawing.contains("<script"));
    }
    // Estimates that are far off stand out.
    let wrong = format!("{JOINED} GUIDE (EXPECT t 3 ROWS)");
    let (_, measured) = session.measure(&wrong, ()).unwrap();
    assert!(plan_svg(&measured).contains("class=\"count bad\""));
}

#[test]
fn deep_plans_stay_within_the_picture() {
    let mut sql = "SELECT bed_id FROM bed".to_owned();
    for level in 0..30 {
        sql = format!(
            "SELECT bed_id FROM ({sql} FETCH FIRST {} ROWS ONLY) AS q{level} WHERE bed_id + {level} > 0",
            90 - level
        );
    }
    let drawing = plan_svg(&garden().plan(&sql, ()).unwrap());
    let widths = drawing.match_indices("class=\"card\" x=\"").map(|(at, found)| {
        let rest = &drawing[at + found.len()..];
        rest[..rest.find('"').unwrap()].parse::<f64>().unwrap()
    });
    let widths: Vec<f64> = widths.collect();
    assert!(widths.len() > 30 && widths.iter().all(|x| *x < 480.0), "{widths:?}");
}

#[test]
fn a_graph_has_each_operator_and_each_edge() {
    let (_, plan) = garden().measure(JOINED, ()).unwrap();
    let graph = plan_dot(&plan);
    let nodes = plan.nodes().len();
    assert_eq!(graph.matches("[label=").count(), 2 * nodes - 1, "{graph}");
    assert_eq!(graph.matches(" -> ").count(), nodes - 1);
    assert!(graph.starts_with("digraph") && graph.ends_with("}\n") && graph.contains(" rows (est. "));
}

#[test]
fn a_page_has_the_query_its_rows_and_what_was_decided() {
    let (rows, plan) =
        garden().measure("SELECT b.name, b.sun FROM bed b WHERE b.sun = 'a' OR b.bed_id > 0 AND 1 = 1", ()).unwrap();
    let page = plan_html(&PlanReport { sql: "SELECT 1 < 2", plan: &plan, rows: Some(&rows) });
    let found = elements(page.split_once("<html").map(|(_, rest)| rest).map_or("", |_| page.as_str()));
    assert!(found.contains(&"svg".to_owned()) && found.contains(&"table".to_owned()));
    for words in [
        "SELECT 1 &lt; 2",
        "Fern &lt;gully&gt;",
        "<td class=\"null\">NULL</td>",
        "What was considered",
        "From what was written to what is run",
        "fold constants",
        "← chosen",
    ] {
        assert!(page.contains(words), "{words} in {page}");
    }
    let bare = plan_html(&PlanReport { sql: "", plan: &plan, rows: None });
    assert!(!bare.contains("<h2>Rows</h2>"));
}

#[test]
fn a_sweep_is_drawn_with_a_mark_at_each_flip() {
    let mut session = garden();
    let source = SourceText::new("SELECT SUM(hours) FROM task WHERE bed_id = :bed");
    let over = vec![("bed".to_owned(), vec![1.into(), 19.into(), 29.into(), 2.into(), 1.into()])];
    let mut options = SweepOptions::default();
    options.fixed_plans = true;
    let sweep = session.sweep_with(&source, (), &over, &options).unwrap();
    // Nearly all rows are of bed 1: it is read by a scan, the others by the index.
    assert_eq!(sweep.intervals().len(), 3, "{:?}", sweep.points.iter().map(|point| &point.line).collect::<Vec<_>>());
    for (point, costs) in sweep.points.iter().zip(&sweep.fixed) {
        let costs: Vec<f64> = costs.iter().map(|cost| cost.expect("each plan is possible for each value")).collect();
        let least = costs.iter().copied().fold(f64::INFINITY, f64::min);
        assert!((least - point.plan.cost).abs() < 1e-6 && costs.len() == 2, "{costs:?}");
    }
    let drawing = sweep_svg(&sweep);
    let found = elements(&drawing);
    assert_eq!(found.iter().filter(|name| *name == "circle").count(), 5);
    assert_eq!(drawing.matches("class=\"flip\"").count(), 2, "{drawing}");
    assert!(drawing.contains("plan A") && drawing.contains("plan B") && !drawing.contains("plan C"));
}

#[test]
fn a_measured_plan_tells_what_went_to_files_and_what_was_not_read() {
    let mut session = garden();
    let tree = |session: &mut Session, sql: &str| {
        let (_, plan) = session.measure(sql, ()).unwrap();
        plan_tree(&plan, Look::plain())
    };
    let grouped = "SELECT task_id + 0, SUM(hours) FROM task GROUP BY task_id + 0";
    assert!(!tree(&mut session, grouped).contains("in files"));
    session.run("SET spill_threshold = '20 kB'").unwrap();
    let found = tree(&mut session, grouped);
    let line = found.lines().find(|line| line.contains("in files: ")).unwrap_or_else(|| panic!("{found}"));
    assert!(line.contains(" kB, at most ") && line.ends_with("of a worker in memory"), "{line}");
    // Every task takes an hour and a half.
    let found = tree(&mut session, "SELECT task_id FROM task WHERE hours > 5");
    assert!(found.contains("not read: 20000 rows, in parts whose values all lie elsewhere"), "{found}");
    assert!(!tree(&mut session, "SELECT task_id FROM task WHERE hours > 1").contains("not read"));
}
