//! Names: letter case, quotes, schemas, correlation names.

use crate::support::{check_problems, check_rows, run, session, text};
use garden_gate::{Column, Database};

#[test]
fn unquoted_names_match_without_regard_to_case() {
    check_rows(&[
        ("SELECT NAME FROM BED WHERE Bed_Id = 1", "Fern gully"),
        ("SELECT \"name\" FROM \"bed\" WHERE \"bed_id\" = 1", "Fern gully"),
        ("select b.Name from Bed as B where B.bed_id = 1", "Fern gully"),
        ("SELECT bed.name FROM home.bed WHERE home.bed.bed_id = 1", "Fern gully"),
        ("SELECT old_bed.name FROM archive.old_bed ORDER BY 1", "Fern gully; Scree"),
    ]);
    check_problems(&[
        ("SELECT \"NAME\" FROM bed", "42S22", "\"NAME\"", "no column \"NAME\""),
        ("SELECT name FROM \"BED\"", "42S02", "\"BED\"", "no table \"BED\""),
    ]);
}

#[test]
fn columns_are_shown_as_first_written() {
    let mut session = session();
    let names = |sql: &str, session: &mut garden_gate::Session| -> Vec<String> {
        session.query(sql, ()).unwrap().columns().iter().map(|column| column.name.clone()).collect()
    };
    assert_eq!(names("SELECT NAME, Bed_ID AS Number, area * 2 FROM bed", &mut session), ["name", "Number", "area * 2"]);
    assert_eq!(names("SELECT 1 +\n   2", &mut session), ["1 + 2"]);
    assert_eq!(names("SELECT COUNT(*) \"how many\" FROM bed", &mut session), ["how many"]);
}

#[test]
fn quoted_names_may_be_anything() {
    let db = Database::in_memory();
    let columns = [Column::new("Bed name", text()), Column::new("select", text()), Column::new("a\"b", text())];
    db.add_rows("my table", &columns, &[vec!["x".into(), "y".into(), "z".into()]]).unwrap();
    let mut session = db.session();
    let sql = "SELECT \"Bed name\", t.\"select\", \"a\"\"b\" FROM \"my table\" AS t";
    assert_eq!(run(&mut session, sql).unwrap(), "x|y|z");
    let error = session.query("SELECT select FROM \"my table\"", ()).unwrap_err();
    assert!(error.help().unwrap_or("").contains("\"select\""), "{error}");
}

#[test]
fn schemas() {
    let mut session = session();
    session.run("SET SCHEMA 'archive'").unwrap();
    assert_eq!(run(&mut session, "SELECT COUNT(*) FROM old_bed").unwrap(), "2");
    assert_eq!(run(&mut session, "SELECT COUNT(*) FROM home.bed").unwrap(), "5");
    let error = session.query("SELECT 1 FROM task", ()).unwrap_err();
    assert_eq!(error.help(), Some("there is one in another schema: home.task"));
    session.run("SET SCHEMA home").unwrap();
    assert_eq!(run(&mut session, "SELECT COUNT(*) FROM bed").unwrap(), "5");
    let error = session.run("SET SCHEMA archiv").unwrap_err();
    assert_eq!((error.sqlstate().as_str(), error.help()), ("3F000", Some("did you mean \"archive\"?")));
}

#[test]
fn names_that_are_not_there() {
    check_problems(&[
        ("SELECT nmae FROM bed", "42S22", "nmae", "no column \"nmae\" in bed … did you mean \"name\""),
        ("SELECT name FROM beds", "42S02", "beds", "no table \"beds\" … did you mean \"bed\""),
        ("SELECT name FROM archive.bed", "42S02", "archive.bed", "home.bed"),
        ("SELECT name FROM old_bed", "42S02", "old_bed", "archive.old_bed"),
        ("SELECT name FROM nowhere.bed", "3F000", "nowhere.bed", "no schema \"nowhere\" … home and archive"),
        ("SELECT bed.name FROM bed AS b", "42S02", "bed.name", "bed is called b"),
        ("SELECT x.name FROM bed AS b", "42S02", "x.name", "FROM has b"),
        ("SELECT x.* FROM bed", "42S02", "x.*", "no table \"x\""),
        ("SELECT bed.nothing FROM bed", "42S22", "bed.nothing", "no column \"nothing\" in bed"),
        ("SELECT a.b.c.d FROM bed", "42000", "a.b.c.d", "two parts"),
        ("SELECT * FROM a.b.c", "42000", "a.b.c", "two parts"),
        ("SELECT name FROM bed WHERE sun = shade", "42S22", "shade", "single quotes: 'shade'"),
        ("SELECT name FROM bed WHERE sun = \"shade\"", "42S22", "\"shade\"", "single quotes: 'shade'"),
        ("SELECT name FROM bed WHERE sun IN (shade, 'x')", "42S22", "shade", "single quotes"),
        ("SELECT name FROM bed WHERE name LIKE Fern", "42S22", "Fern", "single quotes"),
        (
            "SELECT name AS n FROM bed WHERE n = 'x'",
            "42S22",
            "n",
            "alias \"n\" can't be used in WHERE … repeat the expression in WHERE: name",
        ),
        ("SELECT *", "42000", "*", "needs a table in FROM"),
    ]);
}

#[test]
fn two_misspelt_columns_are_two_errors() {
    let error = session().query("SELECT nmae, sunn + 1, bed_id FROM bed WHERE opend > 3", ()).unwrap_err();
    let all: Vec<String> =
        std::iter::once(&error).chain(error.related()).map(|error| error.message().to_owned()).collect();
    assert_eq!(all.len(), 3, "{all:?}");
    for (message, name) in all.iter().zip(["opend", "nmae", "sunn"]) {
        assert!(message.contains(name), "{message}");
    }
}

#[test]
fn a_forgotten_comma_is_noted() {
    assert_eq!(crate::support::notes("SELECT name sun FROM bed"), ["alias-is-column"]);
    assert_eq!(crate::support::notes("SELECT name AS sun FROM bed"), [""; 0]);
}
