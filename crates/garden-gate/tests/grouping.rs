//! GROUP BY, aggregates, HAVING, DISTINCT.

use crate::support::{check_problems, check_rows, notes, session};

#[test]
fn groups_come_in_order_of_first_appearance() {
    check_rows(&[
        ("SELECT kind, COUNT(*) FROM task GROUP BY kind", "weeding|4; pruning|2; watering|1"),
        ("SELECT sun, COUNT(*) FROM bed GROUP BY sun", "shade|2; full sun|2; NULL|1"),
        (
            "SELECT sun, SUM(area), AVG(ph), MIN(name), MAX(opened) FROM bed GROUP BY sun",
            "shade|12.50|6.750000|100%_lime|2020-12-31; full sun|28.25|6.500000|Rose walk|2010-06-15; NULL|30.00|4.000000|Bog|NULL",
        ),
        ("SELECT bed_id, COUNT(hours) FROM task GROUP BY bed_id", "1|1; 2|1; 3|2; NULL|1; 9|1"),
        (
            "SELECT kind, done, COUNT(*) FROM task GROUP BY kind, done",
            "weeding|TRUE|2; weeding|FALSE|1; pruning|TRUE|1; weeding|NULL|1; watering|TRUE|1; pruning|FALSE|1",
        ),
        ("SELECT hours > 2, COUNT(*) FROM task GROUP BY hours > 2", "FALSE|4; NULL|1; TRUE|2"),
        ("SELECT bed_id / 2 + 1, COUNT(*) FROM bed GROUP BY bed_id / 2", "1|1; 2|2; 3|2"),
        ("SELECT kind FROM task GROUP BY kind", "weeding; pruning; watering"),
        ("SELECT MIN(done), MAX(done) FROM task", "FALSE|TRUE"),
    ]);
}

#[test]
fn aggregates_without_groups_give_one_row() {
    check_rows(&[
        ("SELECT COUNT(*) FROM bed WHERE FALSE", "0"),
        ("SELECT COUNT(*), COUNT(area), SUM(area), MIN(name) FROM bed WHERE bed_id > 99", "0|0|NULL|NULL"),
        ("SELECT kind, COUNT(*) FROM task WHERE FALSE GROUP BY kind", ""),
        ("SELECT 1 FROM bed HAVING COUNT(*) > 4", "1"),
        ("SELECT 1 FROM bed HAVING COUNT(*) > 5", ""),
        ("SELECT COUNT(*) + 1, 'n' || CAST(COUNT(*) AS VARCHAR) FROM bed", "6|n5"),
        ("SELECT COUNT(*)", "1"),
    ]);
}

#[test]
fn distinct_rows_and_distinct_aggregates() {
    check_rows(&[
        ("SELECT DISTINCT sun FROM bed", "shade; full sun; NULL"),
        ("SELECT DISTINCT kind, done FROM task WHERE kind = 'weeding'", "weeding|TRUE; weeding|FALSE; weeding|NULL"),
        ("SELECT DISTINCT bed_id - bed_id FROM bed", "0"),
        ("SELECT DISTINCT sun, sun FROM bed ORDER BY sun", "full sun|full sun; shade|shade; NULL|NULL"),
        ("SELECT COUNT(DISTINCT sun), COUNT(sun) FROM bed", "2|4"),
        (
            "SELECT kind, COUNT(DISTINCT bed_id), SUM(DISTINCT bed_id) FROM task GROUP BY kind",
            "weeding|3|13; pruning|1|2; watering|1|3",
        ),
        (
            "SELECT SUM(DISTINCT bed_id / 2), AVG(DISTINCT bed_id / 2), MIN(DISTINCT sun) FROM bed",
            "3|1.000000|full sun",
        ),
        ("SELECT DISTINCT COUNT(*) FROM task GROUP BY kind", "4; 2; 1"),
    ]);
}

#[test]
fn having_and_order_see_aggregates() {
    check_rows(&[
        ("SELECT kind FROM task GROUP BY kind HAVING COUNT(*) > 1 ORDER BY SUM(hours)", "pruning; weeding"),
        (
            "SELECT kind, SUM(hours) AS total FROM task GROUP BY kind HAVING SUM(hours) > 1 ORDER BY total DESC",
            "weeding|7.25; pruning|4.50",
        ),
        ("SELECT kind FROM task GROUP BY kind ORDER BY COUNT(*) DESC, kind FETCH FIRST 1 ROW ONLY", "weeding"),
        ("SELECT kind FROM task GROUP BY kind HAVING kind LIKE 'w%' AND MAX(hours) > 1", "weeding"),
    ]);
}

#[test]
fn what_stands_neither_in_group_by_nor_in_an_aggregate() {
    check_problems(&[
        ("SELECT name, COUNT(*) FROM bed", "42000", "name", "neither in GROUP BY … add GROUP BY name … MIN(name)"),
        ("SELECT sun, name FROM bed GROUP BY sun", "42000", "name", "write GROUP BY sun, name"),
        ("SELECT sun FROM bed GROUP BY sun ORDER BY area", "42000", "area", "neither"),
        ("SELECT sun FROM bed GROUP BY sun HAVING area > 1", "42000", "area", "neither"),
        ("SELECT * FROM bed GROUP BY sun", "42000", "*", "neither"),
        ("SELECT bed_id FROM bed ORDER BY COUNT(*)", "42000", "bed_id", "neither"),
        ("SELECT sun FROM bed WHERE COUNT(*) > 1 GROUP BY sun", "42000", "COUNT(*)", "can't be used in WHERE … HAVING"),
        ("SELECT sun FROM bed GROUP BY COUNT(*)", "42000", "COUNT(*)", "can't be used in GROUP BY"),
        ("SELECT SUM(COUNT(*)) FROM bed", "42000", "COUNT(*)", "inside aggregate"),
        ("SELECT SUM(name) FROM bed", "42000", "SUM(name)", "SUM needs numbers or intervals, this is VARCHAR"),
        ("SELECT SUM(*) FROM bed", "42000", "SUM(*)", "takes no *"),
        ("SELECT SUM(area, ph) FROM bed", "42000", "SUM(area, ph)", "one argument, 2 given"),
        (
            "SELECT COUNT(*) AS n FROM bed GROUP BY sun HAVING n > 1",
            "42S22",
            "n",
            "alias … repeat the expression in HAVING: COUNT(*)",
        ),
        ("SELECT sun AS s FROM bed GROUP BY s", "42S22", "s", "can't be used in GROUP BY … sun"),
    ]);
}

#[test]
fn grouping_by_a_number_is_noted() {
    assert_eq!(notes("SELECT COUNT(*) FROM bed GROUP BY 1"), ["constant-grouping"]);
}

#[test]
fn the_same_problem_is_told_once() {
    let error =
        session().query("SELECT CASE sun WHEN 'a' THEN 1 WHEN 'b' THEN 2 END, COUNT(*) FROM bed", ()).unwrap_err();
    assert!(error.related().is_empty(), "{:?}", error.related());
}
