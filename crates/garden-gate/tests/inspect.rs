//! Steps, comparisons and sweeps: what they give is computed by hand from a few rows.

use crate::support::session;
use garden_gate::{
    Parameters, Session, SourceText, Value,
    inspect::{CompareOptions, DifferenceKind, StepOptions, StepPart},
};

/// Beds and tasks: bed 1 has three tasks, bed 2 one, bed 3 none; one task is of no bed.
fn garden() -> Session {
    let mut session = session();
    session
        .run(
            "CREATE TABLE plot (id INTEGER PRIMARY KEY, sun VARCHAR(9), parent INTEGER);
             INSERT INTO plot VALUES (1, 'shade', NULL), (2, 'full', 1), (3, NULL, 2);
             CREATE TABLE chore (id INTEGER, plot INTEGER, hours NUMERIC(4,2));
             INSERT INTO chore VALUES (1, 1, 1.5), (2, 1, 2), (3, 1, NULL), (4, 2, 0.5), (5, NULL, 9)",
        )
        .unwrap();
    session
}

fn values(row: &[Value]) -> String {
    row.iter().map(|value| if value.is_null() { "-".into() } else { value.to_string() }).collect::<Vec<_>>().join("|")
}

/// Each step as `name part: rows`.
fn steps_of(sql: &str, options: &StepOptions) -> Vec<String> {
    let source = SourceText::new(sql);
    let steps =
        garden().steps_with(&source, Parameters::new(), options).unwrap_or_else(|error| panic!("{sql}: {error}"));
    let shown = |step: &garden_gate::inspect::Step| {
        let rows: Vec<String> = step.rows.rows().map(|row| values(&row.values())).collect();
        let round = step.round.map(|round| format!(" {round}")).unwrap_or_default();
        let beside = if step.correlated { " beside" } else { "" };
        format!("{} {}{round}{beside}: {}", step.name, step.part.name(), rows.join("; "))
    };
    steps.iter().map(shown).collect()
}

#[test]
fn each_step_gives_its_rows() {
    let plain = StepOptions::default();
    let mut clauses = StepOptions::default();
    clauses.clauses = true;
    for (sql, options, expected) in [
        (
            "WITH a AS (SELECT id FROM plot WHERE sun = 'shade'), b AS (SELECT id + 1 AS n FROM a) SELECT n FROM b",
            &plain,
            &["a with: 1", "b with: 2", "result result: 2"][..],
        ),
        // Names of steps within steps; WITH in WITH; a name that hides another.
        (
            "WITH a AS (WITH a AS (VALUES (7)) SELECT * FROM a) SELECT * FROM (SELECT * FROM a) AS d",
            &plain,
            &["a.a with: 7", "a with: 7", "d derived: 7", "result result: 7"],
        ),
        // The anchor, each round, and all of it; the last round without rows is not told.
        (
            "WITH RECURSIVE r (id, depth) AS (SELECT id, 0 FROM plot WHERE parent IS NULL UNION ALL \
             SELECT p.id, depth + 1 FROM plot p JOIN r ON p.parent = r.id) SELECT COUNT(*) FROM r",
            &plain,
            &[
                "r recursion 0: 1|0",
                "r recursion 1: 2|1",
                "r recursion 2: 3|2",
                "r with: 1|0; 2|1; 3|2",
                "result result: 3",
            ],
        ),
        // Operands, each with what appears inside it.
        (
            "SELECT id FROM plot WHERE id < 2 UNION ALL VALUES (8) EXCEPT SELECT x FROM (VALUES (8)) AS v (x)",
            &plain,
            &[
                "EXCEPT 1.UNION 1 operand: 1",
                "EXCEPT 1.UNION 2 operand: 8",
                "EXCEPT 1 operand: 1; 8",
                "EXCEPT 2.v derived: 8",
                "EXCEPT 2 operand: 8",
                "result result: 1",
            ],
        ),
        // A query that uses columns from around it is used beside them; with no row of its own it has NULL.
        (
            "SELECT p.id, (SELECT SUM(c.hours) FROM chore c WHERE c.plot = p.id) FROM plot p WHERE p.id IN (SELECT plot FROM chore)",
            &plain,
            &[
                "subquery 1 subquery beside: 1|3.50; 2|0.50; 3|-",
                "subquery 2 subquery: 1; 1; 1; 2; -",
                "result result: 1|3.50; 2|0.50",
            ],
        ),
        (
            "SELECT p.id, d.n FROM plot p, LATERAL (SELECT COUNT(*) AS n FROM chore c WHERE c.plot = p.id) AS d",
            &plain,
            &["d derived beside: 1|3; 2|1; 3|0", "result result: 1|3; 2|1; 3|0"],
        ),
        // Before and after WHERE, the groups, and those that HAVING keeps.
        (
            "SELECT plot, SUM(hours) FROM chore WHERE id < 5 GROUP BY plot HAVING COUNT(*) > 1",
            &clauses,
            &[
                "FROM from: 1|1|1.50; 2|1|2.00; 3|1|-; 4|2|0.50; 5|-|9.00",
                "WHERE where: 1|1|1.50; 2|1|2.00; 3|1|-; 4|2|0.50",
                "GROUP BY group: 1|3; 2|1",
                "HAVING having: 1|3",
                "result result: 1|3.50",
            ],
        ),
        ("SELECT 1", &clauses, &["result result: 1"]),
    ] {
        assert_eq!(steps_of(sql, options), expected, "{sql}");
    }
}

#[test]
fn one_step_can_be_asked_for() {
    let sql = "WITH a AS (VALUES (1)), b AS (VALUES (2)) SELECT * FROM a, b";
    let mut options = StepOptions::default();
    options.only = Some("B".into());
    assert_eq!(steps_of(sql, &options), ["b with: 2"]);
    options.only = Some("c".into());
    let source = SourceText::new(sql);
    let error = garden().steps_with(&source, Parameters::new(), &options).unwrap_err();
    assert!(error.help().unwrap().contains("did you mean \"a\""), "{error:?}");
    let error = garden().steps("DELETE FROM plot", ()).unwrap_err();
    assert_eq!(error.sqlstate().as_str(), "42000");
    // What is wrong with the query is shown as the query tells it.
    let error = garden().steps("SELECT nothing FROM plot", ()).unwrap_err();
    assert_eq!(error.sqlstate().as_str(), "42S22");
    let steps = garden().steps("SELECT id FROM plot WHERE sun = :sun", Parameters::new().set("sun", "full")).unwrap();
    assert_eq!((steps.len(), steps[0].part, steps[0].rows.row_count()), (1, StepPart::Result, 1));
}

#[test]
fn comparisons_tell_where_rows_and_plans_part() {
    // The two queries, whether order counts, whether rows and plans are the same, and what is reported.
    for (a, b, ordered, same, told) in [
        ("SELECT id FROM plot", "SELECT id FROM plot", true, (true, true), &[][..]),
        (
            "SELECT id FROM plot WHERE id = 1",
            "SELECT id FROM plot WHERE id < 2 ORDER BY sun",
            false,
            (true, false),
            &["plan at the top: table scan plot in query 1, sort in query 2"],
        ),
        // Numbers are compared by value; the type is shown.
        (
            "VALUES (1)",
            "VALUES (1.0)",
            false,
            (true, true),
            &["column column 1 (column_1) is INTEGER in query 1, NUMERIC(2,1) in query 2"],
        ),
        (
            "SELECT id FROM plot",
            "SELECT id, sun FROM plot",
            false,
            (false, false),
            &["columns query 1 has 1 column, query 2 has 2"],
        ),
        // The trap of NOT IN: plot 3 has no chore, and one chore has no plot.
        (
            "SELECT id FROM plot WHERE id NOT IN (SELECT plot FROM chore)",
            "SELECT id FROM plot WHERE NOT EXISTS (SELECT 1 FROM chore c WHERE c.plot = plot.id)",
            false,
            (false, false),
            &["row (3) only query 2 has it"],
        ),
        // As multisets these are the same, with duplicates they are not.
        ("VALUES (1), (2)", "VALUES (2), (1)", false, (true, true), &[]),
        ("VALUES (1), (2)", "VALUES (2), (1)", true, (false, true), &["order row 1 is (1) in query 1, (2) in query 2"]),
        (
            "VALUES (1), (1), (NULL)",
            "VALUES (1), (1), (1), (1)",
            false,
            (false, true),
            &["row (1) query 1 has it 2 times, query 2 4 times", "row (-) only query 1 has it"],
        ),
        // Of many some of each side are told.
        (
            "SELECT n FROM SERIES(1, 8) AS s (n)",
            "SELECT n FROM SERIES(9, 10) AS s (n)",
            false,
            (false, true),
            &[
                "row (4) only query 1 has it",
                "row (10) only query 2 has it",
                "row and 4 different rows more: 4 of query 1, 0 of query 2",
            ],
        ),
    ] {
        let mut options = CompareOptions::default();
        options.ordered = ordered;
        options.runs = 2;
        let sources = [SourceText::new(a), SourceText::new(b)];
        let found =
            garden().compare_with(&sources, Parameters::new(), &options).unwrap_or_else(|error| panic!("{a}: {error}"));
        let texts: Vec<String> = found
            .differences
            .iter()
            .map(|difference| {
                let row = difference.row.as_ref().map(|row| format!("({}) ", values(row))).unwrap_or_default();
                format!("{} {row}{}", difference.kind.name(), difference.text)
            })
            .collect();
        assert_eq!(found.same_rows, same.0, "{a} with {b}: {texts:?}");
        assert!(told.iter().all(|told| texts.iter().any(|text| text.starts_with(told))), "{a} with {b}: {texts:?}");
        assert_eq!(found.same_plan, found.differences.iter().all(|one| one.kind != DifferenceKind::Plan), "{a}");
        if a.starts_with("SELECT") {
            assert_eq!(found.same_plan, same.1, "{a} with {b}: {texts:?}");
        }
        assert!(found.queries.iter().all(|query| query.times.len() == 2 && query.times[0] <= query.times[1]));
    }
}

#[test]
fn comparisons_need_queries() {
    for (queries, state) in [
        (&["SELECT 1"][..], "42000"),
        (&["SELECT 1", "DELETE FROM plot"], "42000"),
        (&["SELECT 1", "SELECT nothing FROM plot"], "42S22"),
    ] {
        assert_eq!(garden().compare(queries).unwrap_err().sqlstate().as_str(), state, "{queries:?}");
    }
    // Parameters go to those that use them; statements before the last are run.
    let sources =
        ["LET least = 2; SELECT id FROM plot WHERE id >= :least AND id < :most", "SELECT 2"].map(SourceText::new);
    let parameters = Parameters::new().set("most", 3);
    let found = garden().compare_with(&sources, &parameters, &CompareOptions::default()).unwrap();
    assert!(found.same_rows);
    let unused = Parameters::new().set("other", 3);
    assert!(garden().compare_with(&sources, &unused, &CompareOptions::default()).is_err());
}

#[test]
fn sweeps_show_where_the_plan_changes() {
    let mut session = garden();
    // 20,000 rows, of which 0 to 9 have one each in `rare` and the rest have 10: an index for the rare, a scan for the others.
    session
        .run(
            "CREATE TABLE reading (id INTEGER, rare INTEGER, note VARCHAR(20));
             INSERT INTO reading SELECT value, CASE WHEN value < 10 THEN value ELSE 10 END, 'as it is' FROM SERIES(0, 19999);
             CREATE INDEX reading_rare_ix ON reading (rare)",
        )
        .unwrap();
    let over = vec![("rare".to_owned(), session.values_of("7..11").unwrap())];
    let found = session.sweep("SELECT id, note FROM reading WHERE rare = :rare", &over).unwrap();
    let rows: Vec<u64> = found.points.iter().map(|point| point.actual_rows).collect();
    assert_eq!(rows, [1, 1, 1, 19_990, 0]);
    let stretches: Vec<(usize, std::ops::Range<usize>)> =
        found.intervals().into_iter().map(|stretch| (stretch.plan, stretch.points)).collect();
    assert_eq!(stretches, [(0, 0..3), (1, 3..4), (0, 4..5)]);
    let lines: Vec<&str> = found.plans().iter().map(|point| point.line.as_str()).collect();
    assert_eq!(lines, ["index lookup reading by reading_rare_ix", "table scan reading"]);
    assert!(found.points.iter().all(|point| point.plan.root.actual_rows == Some(point.actual_rows)));

    // Of rows that are grouped into one it is shown how many they are.
    for (sql, rows) in [
        ("SELECT COUNT(*) FROM reading WHERE rare = :rare", [1, 1, 1, 19_990, 0]),
        ("SELECT note, COUNT(*) FROM reading WHERE rare = :rare GROUP BY note", [1, 1, 1, 1, 0]),
    ] {
        let points = session.sweep(sql, &over).unwrap().points;
        assert_eq!(points.iter().map(|point| point.telling().actual_rows.unwrap()).collect::<Vec<_>>(), rows, "{sql}");
    }

    // Two parameters: the last changes fastest.
    let over = vec![("a".to_owned(), vec![1.into(), 2.into()]), ("b".to_owned(), session.values_of("x, y").unwrap())];
    let found = session.sweep("SELECT :a + 0, :b || '!'", &over).unwrap();
    let points: Vec<String> = found.points.iter().map(|point| values(&point.values)).collect();
    assert_eq!(points, ["1|x", "1|y", "2|x", "2|y"]);
    let over = vec![("c".to_owned(), vec![1.into()])];
    assert_eq!(session.sweep("SELECT 1", &over).unwrap_err().sqlstate().as_str(), "07001");
}

#[test]
fn values_to_sweep_over_are_lists_ranges_and_queries() {
    let mut session = garden();
    for (text, expected) in [
        ("1,2, x", "1|2|x"),
        ("1..4", "1|2|3|4"),
        ("0..1:0.25", "0.00|0.25|0.50|0.75|1.00"),
        ("10..1:-4", "10|6|2"),
        ("2024-02-27..2024-03-05:3", "2024-02-27|2024-03-01|2024-03-04"),
        ("SELECT id FROM plot WHERE sun IS NOT NULL", "1|2"),
    ] {
        assert_eq!(values(&session.values_of(text).unwrap()), expected, "{text}");
    }
    for text in ["a..b", "1..2:x", "5..1", "SELECT id FROM plot WHERE FALSE"] {
        assert_eq!(session.values_of(text).unwrap_err().sqlstate().as_str(), "42000", "{text}");
    }
}
