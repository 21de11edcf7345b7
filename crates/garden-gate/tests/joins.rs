//! Inner and cross joins.

use crate::support::{check_problems, check_rows, run, session};

#[test]
fn joins_by_on_using_and_commas() {
    check_rows(&[
        (
            "SELECT task_id, name FROM task JOIN bed ON task.bed_id = bed.bed_id ORDER BY task_id",
            "1|Fern gully; 2|Fern gully; 3|Scree; 4|Rose walk; 5|Rose walk",
        ),
        (
            "SELECT task_id, name FROM task INNER JOIN bed USING (bed_id) WHERE kind = 'weeding' ORDER BY 1 DESC",
            "4|Rose walk; 2|Fern gully; 1|Fern gully",
        ),
        ("SELECT task_id FROM task, bed WHERE task.bed_id = bed.bed_id AND sun = 'full sun' ORDER BY 1", "3; 4; 5"),
        ("SELECT COUNT(*) FROM task CROSS JOIN bed", "35"),
        ("SELECT COUNT(*) FROM task, bed, task AS again", "245"),
        (
            "SELECT a.bed_id, b.bed_id FROM bed a JOIN bed b ON a.sun = b.sun AND a.bed_id < b.bed_id ORDER BY 1",
            "1|5; 2|3",
        ),
        (
            "SELECT a.bed_id, b.bed_id FROM bed a JOIN bed b ON a.area < b.area ORDER BY 1, 2",
            "1|3; 1|4; 2|1; 2|3; 2|4; 3|4",
        ),
        ("SELECT COUNT(*) FROM bed a JOIN bed b ON a.sun = b.sun", "8"),
        ("SELECT COUNT(*) FROM bed a JOIN bed b ON a.sun IS NOT DISTINCT FROM b.sun", "9"),
        (
            "SELECT b.name, SUM(t.hours) FROM task t JOIN bed b USING (bed_id) GROUP BY b.name ORDER BY 2 DESC",
            "Rose walk|5.00; Fern gully|2.00; Scree|1.50",
        ),
        (
            "SELECT t.task_id FROM bed b JOIN (task t JOIN bed c ON t.bed_id = c.bed_id) ON b.bed_id = c.bed_id + 1 ORDER BY 1",
            "1; 2; 3; 4; 5",
        ),
        ("SELECT task_id FROM task JOIN bed ON task.bed_id + 1 = bed.bed_id * 2 ORDER BY 1", "1; 2; 4; 5; 7"),
        ("SELECT task_id FROM task JOIN bed ON task.bed_id = bed.bed_id AND hours > area / 10 ORDER BY 1", "1; 3; 4"),
        ("SELECT COUNT(*) FROM task JOIN bed ON TRUE", "35"),
        ("SELECT COUNT(*) FROM task JOIN bed ON FALSE", "0"),
        ("SELECT COUNT(*) FROM task JOIN bed ON task.hours = bed.bed_id", "3"),
        ("SELECT COUNT(*) FROM bed a, bed b WHERE a.name = b.name AND a.sun = b.sun", "4"),
        ("SELECT COUNT(*) FROM bed a JOIN bed b USING (bed_id, name, sun)", "4"),
    ]);
}

#[test]
fn merged_columns_come_first_and_once() {
    let mut session = session();
    let rows = session
        .query("SELECT * FROM task JOIN bed USING (bed_id) ORDER BY task_id FETCH FIRST 1 ROW ONLY", ())
        .unwrap();
    let names: Vec<&str> = rows.columns().iter().map(|column| column.name.as_str()).collect();
    assert_eq!(names, ["bed_id", "task_id", "day", "hours", "kind", "done", "name", "sun", "area", "ph", "opened"]);
    let on = session.query("SELECT * FROM task JOIN bed ON task.bed_id = bed.bed_id", ()).unwrap();
    assert_eq!(on.columns().len(), 12);
    let side = session.query("SELECT bed.* FROM task JOIN bed USING (bed_id)", ()).unwrap();
    assert_eq!(side.columns().len(), 6);
    assert_eq!(
        run(&mut session, "SELECT bed_id, bed.bed_id FROM task JOIN bed USING (bed_id) WHERE task_id = 3").unwrap(),
        "2|2"
    );
}

#[test]
fn joins_that_mean_nothing() {
    check_problems(&[
        ("SELECT 1 FROM task JOIN bed", "42000", "", "expected ON or USING … CROSS JOIN"),
        ("SELECT 1 FROM task JOIN bed USING (name)", "42S22", "name", "not in task"),
        ("SELECT 1 FROM task JOIN bed USING (bedid)", "42S22", "bedid", "bed_id"),
        (
            "SELECT bed_id FROM task JOIN bed ON task.bed_id = bed.bed_id",
            "42000",
            "bed_id",
            "ambiguous … in task and bed … task.bed_id",
        ),
        ("SELECT 1 FROM bed, bed", "42000", "", "two tables are called \"bed\""),
        (
            "SELECT 1 FROM task JOIN bed ON task.day = bed.bed_id",
            "42000",
            "task.day = bed.bed_id",
            "DATE can't be compared with INTEGER",
        ),
        ("SELECT 1 FROM task JOIN bed ON name", "42000", "name", "ON needs a condition"),
        ("SELECT 1 FROM task LEFT bed", "42000", "bed", "expected JOIN"),
        (
            "SELECT 1 FROM task t RIGHT JOIN LATERAL (SELECT t.bed_id) AS x ON TRUE",
            "42000",
            "RIGHT JOIN",
            "can't use columns of the left … LEFT JOIN LATERAL",
        ),
    ]);
}

#[test]
fn many_tables_are_joined_in_some_order() {
    // A chain of n beds: each has one neighbour with the next number, so 5 − (n − 1) chains exist.
    for tables in [2, 5, 12, 14, 61, 200] {
        let from: Vec<String> = (0..tables).map(|table| format!("bed b{table}")).collect();
        let links: Vec<String> = (1..tables).map(|table| format!("b{}.bed_id = b{table}.bed_id", table - 1)).collect();
        let sql = format!("SELECT COUNT(*) FROM {} WHERE {}", from.join(", "), links.join(" AND "));
        assert_eq!(run(&mut session(), &sql).unwrap(), "5", "{tables} tables");
    }
}
