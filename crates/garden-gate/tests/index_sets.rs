//! Several indexes of a table read together, for AND and for OR: the plan, the rows, and what is reported the choice.

use crate::random_queries::Draw;
use crate::support::{shape, show};
use garden_gate::{Database, Session};

/// Tasks 1 to 20000 in four parts: bed MOD(n, 97) with NULL for 0, day MOD(n, 89), hours MOD(n, 83); every 5th is deleted.
fn garden() -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE task (task_id INTEGER PRIMARY KEY, bed_id INTEGER, day INTEGER, hours INTEGER);
             CREATE INDEX task_bed_ix ON task (bed_id); CREATE INDEX task_day_ix ON task (day); CREATE INDEX task_hours_ix ON task (hours)",
        )
        .unwrap();
    for part in 0..4 {
        let insert = format!(
            "INSERT INTO task SELECT n, NULLIF(MOD(n, 97), 0), MOD(n, 89), MOD(n, 83) FROM SERIES({}, {}) AS s (n)",
            part * 5000 + 1,
            part * 5000 + 5000
        );
        session.run(&insert).unwrap();
    }
    session.run("DELETE FROM task WHERE MOD(task_id, 5) = 0; ANALYZE task").unwrap();
    session
}

/// The tasks, computed here, that fulfil a condition on bed, day and hours; NULL is nothing.
fn tasks(holds: impl Fn(Option<i64>, i64, i64) -> bool) -> String {
    let left = (1..=20_000_i64).filter(|n| n % 5 != 0);
    let found = left.filter(|n| holds(Some(n % 97).filter(|bed| *bed != 0), n % 89, n % 83));
    found.map(|n| n.to_string()).collect::<Vec<_>>().join("; ")
}

#[test]
fn two_indexes_leave_fewer_rows_than_one() {
    let mut session = garden();
    let sql = "SELECT * FROM task WHERE bed_id = 5 AND day = 7 ORDER BY task_id";
    let plan = session.plan(sql, ()).unwrap();
    let read = plan.nodes().into_iter().find(|node| node.target.is_some()).unwrap();
    assert_eq!(
        (read.operator.name(), read.index.as_ref().map(ToString::to_string)),
        ("index lookup", Some("task_bed_ix and task_day_ix".into()))
    );
    assert_eq!(read.details, ["rows that all indexes lead to"]);
    assert!(plan.reads("task").by_index("task_day_ix") && plan.reads("task").by_index("TASK_BED_IX"));
    assert!(!plan.reads("task").by_index("task_hours_ix"));
    let found = tasks(|bed, day, _| bed == Some(5) && day == 7);
    let row = |id: &str| format!("{id}|5|7|{}", id.parse::<i64>().unwrap() % 83);
    let rows: Vec<String> = found.split("; ").map(row).collect();
    assert_eq!(show(&session.query(sql, ()).unwrap()), rows.join("; "));
    let decision = plan.considered.iter().find(|decision| decision.decision.to_string() == "read task").unwrap();
    let chosen = decision.candidates.iter().find(|candidate| candidate.chosen).unwrap();
    assert_eq!(chosen.choice, "index lookup task_bed_ix and task_day_ix");
    assert!(decision.candidates.iter().any(|candidate| candidate.choice == "index lookup task_bed_ix"));
    // Who demands one of them gets that one.
    let alone = session.plan(format!("{sql} GUIDE (READ task BY INDEX task_day_ix)"), ()).unwrap();
    assert_eq!(alone.nodes().into_iter().find_map(|node| node.index.clone()).unwrap().names(), ["task_day_ix"]);
}

#[test]
fn an_or_is_read_by_an_index_for_each_part() {
    let mut session = garden();
    let cases: [(&str, &str, String); 6] = [
        ("bed_id = 5 OR day = 7", "task_bed_ix or task_day_ix", tasks(|bed, day, _| bed == Some(5) || day == 7)),
        (
            "bed_id = 5 OR day = 7 AND hours < 40 OR hours BETWEEN 81 AND 82",
            "task_bed_ix or task_day_ix or task_hours_ix",
            tasks(|bed, day, hours| bed == Some(5) || day == 7 && hours < 40 || hours >= 81),
        ),
        (
            "bed_id IS NULL OR day IN (1, 2)",
            "task_bed_ix or task_day_ix",
            tasks(|bed, day, _| bed.is_none() || day == 1 || day == 2),
        ),
        ("(bed_id = 5 OR day = 7) AND task_id < 9000 + 0 * hours", "task_bed_ix or task_day_ix", {
            let all = tasks(|bed, day, _| bed == Some(5) || day == 7);
            let low = all.split("; ").filter(|id| id.parse::<i64>().unwrap() < 9000);
            low.collect::<Vec<_>>().join("; ")
        }),
        // A row that both lead to comes once.
        (
            "bed_id = 5 OR task_id = 5 + 97 AND day = 13",
            "task_bed_ix or task_primary_key",
            tasks(|bed, _, _| bed == Some(5)),
        ),
        // A part that no index bounds has the entire table read.
        ("bed_id = 5 OR MOD(day, 50) = 7", "", tasks(|bed, day, _| bed == Some(5) || day % 50 == 7)),
    ];
    for (condition, index, expected) in cases {
        let sql = format!("SELECT task_id FROM task WHERE {condition} ORDER BY task_id");
        let plan = session.plan(&sql, ()).unwrap();
        let found =
            plan.nodes().into_iter().find_map(|node| node.index.as_ref().map(ToString::to_string)).unwrap_or_default();
        assert_eq!(found, index, "{sql}\n{}", shape(&plan));
        assert_eq!(show(&session.query(&sql, ()).unwrap()), expected, "{sql}");
    }
}

/// Random conditions, by indexes that cost next to nothing and by none.
#[test]
fn sets_of_indexes_change_no_rows() {
    let mut session = garden();
    let mut draw = Draw::new(21);
    let columns = [("bed_id", 97), ("day", 89), ("hours", 83), ("task_id", 20_000)];
    let mut several = 0;
    for _ in 0..120 {
        let mut term = || {
            let (column, limit) = *draw.pick(&columns);
            let (value, other) = (draw.below(limit), draw.below(limit));
            match draw.below(5) {
                0 | 1 => format!("{column} = {value}"),
                2 => format!("{column} IN ({value}, {other})"),
                3 => format!("{column} BETWEEN {value} AND {}", value + limit / 40),
                _ => format!("{column} > {}", limit - limit / 40),
            }
        };
        let terms: Vec<String> = (0..4).map(|_| term()).collect();
        let condition = match draw.below(4) {
            0 => format!("{} AND {}", terms[0], terms[1]),
            1 => format!("{} OR {}", terms[0], terms[1]),
            2 => format!("{} OR {} AND {} OR {}", terms[0], terms[1], terms[2], terms[3]),
            _ => format!("({} OR {}) AND {}", terms[0], terms[1], terms[2]),
        };
        let sql = format!("SELECT task_id, bed_id FROM task WHERE {condition} ORDER BY task_id");
        let mut results = Vec::new();
        for factor in ["0.001", "1", "1000"] {
            session.run(format!("SET index_cost_factor = {factor}")).unwrap();
            let plan = session.plan(&sql, ()).unwrap();
            let index = plan.nodes().into_iter().find_map(|node| node.index.clone());
            several += usize::from(index.is_some_and(|index| index.names().len() > 1));
            results.push(show(&session.query(&sql, ()).unwrap()));
        }
        assert!(results[0] == results[1] && results[1] == results[2], "{sql}");
    }
    assert!(several > 40, "only {several} plans read several indexes");
}
