//! Nested window functions (clause 6.11): cases computed by hand, and random frames against a loop over all rows of each frame.

use crate::random_queries::Draw;
use crate::story::{check, tell};
use garden_gate::Database;

const MADE: (&str, &str) = ("CREATE TABLE t (g INTEGER, day INTEGER, x INTEGER)", "");
const ROWS: (&str, &str) =
    ("INSERT INTO t VALUES (1, 1, 10), (1, 2, 30), (1, 3, 20), (1, 4, NULL), (2, 1, 5), (2, 2, 5)", "6");

#[test]
fn each_row_marker_means_its_row() {
    let frame = "PARTITION BY g ORDER BY day ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING";
    for (argument, expected) in [
        // How many rows of the frame have less than this row.
        ("SUM(CASE WHEN x < VALUE_OF(x AT CURRENT_ROW) THEN 1 ELSE 0 END)", "0; 2; 0; 0; 0; 0"),
        ("MAX(VALUE_OF(x AT FRAME_ROW))", "30; 30; 30; 20; 5; 5"),
        ("MIN(VALUE_OF(day AT BEGIN_FRAME))", "1; 1; 2; 3; 1; 1"),
        ("MIN(VALUE_OF(day AT END_FRAME))", "2; 3; 4; 4; 2; 2"),
        ("MIN(VALUE_OF(x AT BEGIN_PARTITION))", "10; 10; 10; 10; 5; 5"),
        ("MIN(VALUE_OF(x AT END_PARTITION))", "NULL; NULL; NULL; NULL; 5; 5"),
        ("MIN(VALUE_OF(x AT CURRENT_ROW + 1))", "30; 20; NULL; NULL; 5; NULL"),
        ("MIN(VALUE_OF(x AT CURRENT_ROW - 1, -1))", "-1; 10; 30; 20; -1; 5"),
        ("MIN(VALUE_OF(x AT END_PARTITION - 1, day))", "20; 20; 20; 20; 5; 5"),
        ("SUM(ROW_NUMBER(FRAME_ROW))", "3; 6; 9; 7; 3; 3"),
        ("SUM(ROW_NUMBER(CURRENT_ROW))", "2; 6; 9; 8; 2; 4"),
        ("MIN(ROW_NUMBER(BEGIN_FRAME) * 10 + ROW_NUMBER(END_FRAME))", "12; 13; 24; 34; 12; 12"),
        ("MAX(ROW_NUMBER(END_PARTITION) - ROW_NUMBER(BEGIN_PARTITION))", "3; 3; 3; 3; 1; 1"),
        ("COUNT(VALUE_OF(x AT CURRENT_ROW) - x)", "2; 3; 2; 0; 2; 2"),
        ("COUNT(x) FILTER (WHERE ROW_NUMBER(FRAME_ROW) <> ROW_NUMBER(CURRENT_ROW))", "1; 2; 1; 1; 1; 1"),
        ("COUNT(DISTINCT VALUE_OF(x AT CURRENT_ROW))", "1; 1; 1; 0; 1; 1"),
        (
            "LISTAGG(CAST(VALUE_OF(day AT FRAME_ROW + 1, 0) AS VARCHAR(2)), ',') WITHIN GROUP (ORDER BY day)",
            "2,3; 2,3,4; 3,4,0; 4,0; 2,0; 2,0",
        ),
    ] {
        let query = format!("SELECT {argument} OVER ({frame}) FROM t ORDER BY g, day");
        tell(&[MADE, ROWS, (&query, &format!("={expected}"))]);
    }
}

#[test]
fn they_stand_in_arguments_of_aggregates_over_frames_only() {
    tell(&[
        MADE,
        ("SELECT VALUE_OF(x AT CURRENT_ROW) FROM t", "!42000 OVER"),
        ("SELECT SUM(VALUE_OF(x AT CURRENT_ROW)) FROM t", "!42000 there is no frame here"),
        ("SELECT LAG(VALUE_OF(x AT CURRENT_ROW)) OVER (ORDER BY day) FROM t", "!42000 there is no frame here"),
        ("SELECT SUM(VALUE_OF(VALUE_OF(x AT CURRENT_ROW) AT FRAME_ROW)) OVER (ORDER BY day) FROM t", "!42000 no frame"),
        ("SELECT SUM((SELECT VALUE_OF(t.x AT CURRENT_ROW))) OVER (ORDER BY day) FROM t", "!42000 no frame"),
        ("SELECT SUM(VALUE_OF(x AT NOON)) OVER (ORDER BY day) FROM t", "!42000 BEGIN_PARTITION"),
        ("SELECT SUM(VALUE_OF(x AT CURRENT_ROW + x)) OVER (ORDER BY day) FROM t", "!42000 an integer"),
        ("SELECT SUM(VALUE_OF(x AT CURRENT_ROW, 'a')) OVER (ORDER BY day) FROM t", "!42000"),
        ("SELECT ROW_NUMBER(CURRENT_ROW) OVER (ORDER BY day) FROM t", "!42000"),
        ("SELECT SUM(VALUE_OF(x AT CURRENT_ROW)) OVER (ORDER BY day) FROM t", "="),
        ROWS,
        // Over groups, and divided only where there is something to divide by.
        (
            "SELECT g, SUM(VALUE_OF(SUM(x) AT CURRENT_ROW) - SUM(x)) OVER () FROM t GROUP BY g ORDER BY g",
            "=1|50; 2|-50",
        ),
        (
            "SELECT SUM(10 / (x - VALUE_OF(x AT CURRENT_ROW))) FILTER (WHERE x <> VALUE_OF(x AT CURRENT_ROW)) OVER (PARTITION BY g) FROM t WHERE g = 2",
            "=NULL; NULL",
        ),
    ]);
}

/// The rows of a frame that reaches so many rows before and after, without the current one if it is excluded.
fn frame(rows: usize, row: usize, (before, behind): (usize, usize), excluded: bool) -> Vec<usize> {
    let all = row.saturating_sub(before)..(row + behind + 1).min(rows);
    all.filter(|other| !excluded || *other != row).collect()
}

#[test]
fn random_frames_agree_with_a_loop() {
    for seed in 0..40 {
        let mut draw = Draw::new(seed);
        let rows = 1 + draw.below(30);
        let values: Vec<i64> = (0..rows).map(|_| i64::try_from(draw.below(9)).unwrap()).collect();
        let (before, behind, excluded) = (draw.below(4), draw.below(4), draw.below(2) == 0);
        let mut session = Database::in_memory().session();
        check(&mut session, ("CREATE TABLE t (day INTEGER, x INTEGER)", ""));
        let list: Vec<String> = values.iter().enumerate().map(|(day, x)| format!("({day}, {x})")).collect();
        check(&mut session, (&format!("INSERT INTO t VALUES {}", list.join(", ")), &rows.to_string()));
        let exclude = if excluded { " EXCLUDE CURRENT ROW" } else { "" };
        let over = format!("OVER (ORDER BY day ROWS BETWEEN {before} PRECEDING AND {behind} FOLLOWING{exclude})");
        let mut expected = Vec::new();
        for row in 0..rows {
            let frame = frame(rows, row, (before, behind), excluded);
            let number = |value: Option<i64>| value.map_or("NULL".to_owned(), |value| value.to_string());
            let less = frame.iter().filter(|other| values[**other] < values[row]).count();
            let steps =
                frame.iter().filter_map(|other| Some(values.get(other + 1)? - values[*other])).reduce(|a, b| a + b);
            let from_first = frame.iter().map(|other| values[*other] - values[frame[0]]).max();
            let apart = frame.iter().map(|other| i64::try_from(other.abs_diff(row)).unwrap()).reduce(|a, b| a + b);
            expected.push(format!("{less}|{}|{}|{}", number(steps), number(from_first), number(apart)));
        }
        let query = format!(
            "SELECT COUNT(*) FILTER (WHERE x < VALUE_OF(x AT CURRENT_ROW)) {over}, SUM(VALUE_OF(x AT FRAME_ROW + 1) - x) {over}, \
             MAX(x - VALUE_OF(x AT BEGIN_FRAME)) {over}, SUM(ABS(ROW_NUMBER(FRAME_ROW) - ROW_NUMBER(CURRENT_ROW))) {over} FROM t ORDER BY day"
        );
        check(&mut session, (&query, &format!("={}", expected.join("; "))));
    }
}
