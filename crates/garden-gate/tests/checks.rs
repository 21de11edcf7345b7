//! Check files: what holds passes, and what does not is reported by the key that asked for it.

use garden_gate::inspect::{CheckFile, plan_text};
use garden_gate::{Database, Value};
use std::path::Path;

const HEAD: &str = r#"
setup = """
CREATE TABLE plot (id INTEGER PRIMARY KEY, sun VARCHAR(9));
INSERT INTO plot VALUES (1, 'shade'), (2, NULL), (3, '');
CREATE TABLE chore (id INTEGER, plot INTEGER, hours NUMERIC(4,2));
INSERT INTO chore SELECT value, MOD(value, 3), 1.50 FROM SERIES(1, 900);
CREATE INDEX chore_id_ix ON chore (id);
"""
settings = { workers = 1 }
[[check]]
name = "all"
sql = "SELECT id, sun FROM plot"
[[check]]
name = "it"
"#;

/// What does not hold of the check `it`, as `expectation: text`.
fn failures(body: &str) -> Vec<String> {
    let file =
        CheckFile::parse("it.check.toml", format!("{HEAD}{body}")).unwrap_or_else(|error| panic!("{body}\n{error}"));
    let report = file.run(&Database::in_memory(), &[]).unwrap_or_else(|error| panic!("{body}\n{error}"));
    let own = report.checks.iter().filter(|check| check.name == "it");
    own.flat_map(|check| check.failures.iter().map(|failure| format!("{}: {}", failure.expectation, failure.text)))
        .collect()
}

#[test]
fn what_holds_passes_and_what_does_not_is_told() {
    let plots = "sql = \"SELECT id, sun FROM plot\"";
    let joined = "sql = \"SELECT c.id FROM chore AS c JOIN plot AS p ON p.id = c.plot\"";
    for (body, told) in [
        // NULL is an empty field, and empty text appears in quotes; the order does not count, the case of the header neither.
        (format!("{plots}\nrows = \"ID,sun\\n3,\\\"\\\"\\n1,shade\\n2,\\n\""), &[][..]),
        (
            format!("{plots}\nrows = \"id,sun\\n3,\\n1,shade\\n2,\\n\""),
            &["rows: 1 of 3 expected rows are missing, 1 of 3 rows are not expected"],
        ),
        (
            format!("{plots}\nordered = true\nrows = \"id,sun\\n3,\\\"\\\"\\n1,shade\\n2,\\n\""),
            &["rows: 3 of 3 expected rows are missing, 3 of 3 rows are not expected"],
        ),
        (format!("{plots}\nrows = \"id,light\\n\""), &["rows: the columns are id, sun, not id, light"]),
        (format!("{plots}\nrows = \"id,sun\\n1\\n\""), &["rows: row 1 of what is expected has 1 fields, not 2"]),
        // Numbers are compared by value.
        ("sql = \"SELECT 1.50 AS n\"\nrows = \"n\\n1.5\"".to_owned(), &[]),
        ("sql = \"SELECT 1 AS n\"\nrows = \"n\\nx\"".to_owned(), &["rows: 1 of 1 expected rows are missing, 1 of 1 rows are not expected"]),
        (format!("{plots}\nrow_count = 3"), &[]),
        (format!("{plots}\nrow_count = 2"), &["row_count: the result has 3 rows, not 2"]),
        ("sql = \"SELECT 1 / 0\"\nerror = \"22012\"".to_owned(), &[]),
        ("sql = \"SELECT 1 / 0\"\nerror = \"22\"".to_owned(), &[]),
        ("sql = \"SELECT 1 / 0\"".to_owned(), &["error: it fails with 22012: division by zero"]),
        ("sql = \"SELECT 1 / 0\"\nerror = \"42\"".to_owned(), &["error: it fails with 22012 instead of 42: division by zero"]),
        ("sql = \"SELECT 1\"\nerror = \"22012\"".to_owned(), &["error: it gives 1 rows, and should fail with 22012"]),
        ("sql = \"SELECT 7 / 2\"\nno_notes = true".to_owned(), &["no_notes: integer-division"]),
        ("sql = \"SELECT id, sun FROM plot WHERE id <> 2\"\nsame_rows_as = \"all\"".to_owned(), &["same_rows_as: the rows are not those of \"all\": 1 are missing, 0 are not expected"]),
        // Of many rows twenty are shown, of either kind ten.
        (
            "sql = \"SELECT id, 'x' AS sun FROM chore WHERE id <= 30\"\nsame_rows_as = \"all\"".to_owned(),
            &["same_rows_as: the rows are not those of \"all\": 3 are missing, 30 are not expected; 20 of these are shown"],
        ),
        (format!("{plots}\nsame_rows_as = \"all\"\nsame_plan_as = \"all\""), &[]),
        (format!("{plots} ORDER BY sun\"\nsame_plan_as = \"all\"").replacen("plot\" ORDER", "plot ORDER", 1), &["same_plan_as: the plan is not that of \"all\""]),
        (
            format!("{plots} ORDER BY id DESC\"\nordered = true\nsame_rows_as = \"all\"").replacen("plot\" ORDER", "plot ORDER", 1),
            &["same_rows_as: the rows come in another order than those of \"all\", from row 1 on"],
        ),
        // Plans.
        ("sql = \"SELECT hours FROM chore WHERE id = 7\"\nplan = { uses_index = ['CHORE_ID_IX'], no_table_scan = ['chore'] }".to_owned(), &[]),
        (
            "sql = \"SELECT hours FROM chore WHERE plot = 1\"\nplan = { uses_index = ['chore_id_ix'], no_table_scan = ['chore', 'plot'] }".to_owned(),
            &["uses_index: the plan does not use the index chore_id_ix; it reads by table scan chore", "no_table_scan: chore is read"],
        ),
        (format!("{joined}\nplan = {{ join_methods = ['hash join'], join_order = ['c', 'p'] }}"), &[]),
        (
            format!("{joined}\nplan = {{ join_methods = ['merge join'], join_order = ['p', 'c'] }}"),
            &["join_methods: a join is a hash join, not a merge join", "join_order: the tables are read in the order c, p, not p, c"],
        ),
        (format!("{plots}\nplan = {{ max_cost = 1000.0, max_estimate_error = 1.5 }}"), &[]),
        (
            "sql = \"SELECT id FROM chore WHERE MOD(id, 100) = 0 GUIDE (EXPECT chore 900 ROWS)\"\nplan = { max_cost = 5.0, max_estimate_error = 1.5 }".to_owned(),
            &["max_estimate_error: the estimate of table scan is off by", "max_cost: the plan costs"],
        ),
        // Parameters, and all values of a list.
        ("sql = \"SELECT id FROM plot WHERE sun = :sun\"\nparams = { sun = 'shade' }\nrow_count = 1".to_owned(), &[]),
        (
            "sql = \"SELECT id FROM chore WHERE id <= :most AND hours < :hours\"\nparams = { hours = 1.6 }\nover = { most = [2, 3] }\nrow_count = 2".to_owned(),
            &["row_count: the result has 3 rows, not 2"],
        ),
    ] {
        let found = failures(&body);
        assert_eq!(found.len(), told.len(), "{body}\n{found:#?}");
        assert!(found.iter().zip(told).all(|(found, told)| found.starts_with(told)), "{body}\n{found:#?}");
    }
}

#[test]
fn what_is_wrong_with_a_file_is_told_before_it_runs() {
    for (text, words, line) in [
        ("[[check]]\nname = 'a'\nsql = 'SELECT 1'\ncolour = 1", "unknown field `colour`", Some(4)),
        ("[[check]]\nname = 'a'", "neither sql nor file", None),
        ("[[check]]\nname = 'a'\nsql = 'SELECT 1'\nfile = 'x.sql'", "sql and file are both given", None),
        ("[[check]]\nname = 'a'\nsql = 'SELECT 1'\n[[check]]\nname = 'a'\nsql = 'SELECT 1'", "two of this name", None),
        ("[[check]]\nname = 'a'\nsql = 'SELECT 1'\nsame_plan_as = 'b'", "there is no check \"b\"", None),
        (
            "[[check]]\nname = 'a'\nsql = 'SELECT 1'\nerror = '22'\nrow_count = 1",
            "a statement that fails has no rows",
            None,
        ),
        ("[[check]]\nname = 'a'\nsql = 'SELECT 1'\nover = { x = [] }", "has no values", None),
        ("[[check]]\nname = 'a'\nsql = 'SELECT 1'\nplan = { colour = 1 }", "unknown field `colour`", Some(4)),
        ("[[check]]\nname = 'a'\nsql = 'SELECT 1'\nplan = 1", "the text of a plan, or a table", Some(4)),
        ("[[check]]\nname = 'a'\nsql = 'SELECT 1'\nplan = { text = '', rows_within = 0.5 }", "1 at least", None),
        ("data = [", "", Some(1)),
    ] {
        let error = CheckFile::parse("wrong.check.toml", text).expect_err(text);
        assert_eq!(error.sqlstate().as_str(), "42000", "{text}");
        assert!(error.message().contains(words), "{text}: {error}");
        assert_eq!(error.data_place().and_then(|place| place.line), line, "{text}: {error:?}");
    }
    assert_eq!(CheckFile::read("no/such.check.toml").unwrap_err().sqlstate().as_str(), "58030");
    let broken = CheckFile::parse("a.check.toml", "setup = 'SELECT nothing'").unwrap();
    assert!(broken.run(&Database::in_memory(), &[]).is_err());
    let settings = [("workers".to_owned(), Value::Integer(0))];
    assert!(CheckFile::parse("a.check.toml", "").unwrap().run(&Database::in_memory(), &settings).is_err());
}

#[test]
fn files_stand_beside_the_check_file() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    write("plot.csv", "id,sun\n1,shade\n2,\n");
    write("make.sql", "CREATE TABLE copy AS (SELECT * FROM plot) WITH DATA");
    write("all.sql", "SELECT id FROM copy");
    write("all.csv", "id\n2\n1\n");
    write(
        "it.check.toml",
        "data = ['plot.csv']\nsetup_file = 'make.sql'\n[[check]]\nname = 'it'\nfile = 'all.sql'\nrows_file = 'all.csv'\n",
    );
    let file = CheckFile::read(folder.path().join("it.check.toml")).unwrap();
    let report = file.run(&Database::in_memory(), &[]).unwrap();
    assert!(report.checks[0].passed(), "{:?}", report.checks[0].failures);
    write("all.csv", "id\n2\n");
    assert!(!file.run(&Database::in_memory(), &[]).unwrap().checks[0].passed());
}

#[test]
fn accepting_changes_only_what_is_expected() {
    let text =
        "# Kept.\n[[check]]\nname = \"a\" # and this\nsql = 'VALUES (1)'\nrows = \"\"\"\nx\n\"\"\"\nrow_count = 9\n";
    let mut file = CheckFile::parse(Path::new("a.check.toml"), text).unwrap();
    assert!(!file.accept("b", "y\n", 1).unwrap());
    assert_eq!(file.text(), text);
    assert!(file.accept("a", "column_1\n1\n", 1).unwrap());
    let accepted = file.text().to_owned();
    assert!(accepted.starts_with("# Kept.\n[[check]]\nname = \"a\" # and this\nsql = 'VALUES (1)'\n"), "{accepted}");
    let again = CheckFile::parse("a.check.toml", accepted).unwrap();
    let report = again.run(&Database::in_memory(), &[]).unwrap();
    assert!(report.checks[0].passed(), "{:?}", report.checks[0].failures);
}

/// The text of a plan holds as long as operators, conditions and, by a factor, rows do; what is accepted holds at once.
#[test]
fn a_plan_is_held_to_its_text() {
    let joined = "sql = \"SELECT c.id FROM chore AS c JOIN plot AS p ON p.id = c.plot WHERE c.hours > 1\"";
    // 900 chores of which a third has plot 0, which there is not; all take 1.5 hours.
    let text = "hash join, inner: 600 rows\n  - join key c.plot = p.id\n  table scan chore as c: 900 rows\n    - filter c.hours > 1.00\n  \
                table scan plot as p: 3 rows\n";
    let of = |text: &str| format!("{joined}\nplan = \"\"\"\n{text}\"\"\"");
    let ruled = |text: &str, more: &str| format!("{joined}\n[check.plan]\ntext = \"\"\"\n{text}\"\"\"\n{more}");
    for (body, changed) in [
        (of(text), &[][..]),
        (of(&text.replace("600", "301").replace("900", "1700")), &[]),
        (
            of(&text.replace("900", "1801")),
            &["− table scan chore as c: 1801 rows", "+ table scan chore as c: 900 rows"],
        ),
        (of(&text.replace("hash", "merge")), &["− merge join, inner: 600 rows", "+ hash join, inner: 600 rows"]),
        (of(&text.replace("    - filter c.hours > 1.00\n", "")), &["+ - filter c.hours > 1.00"]),
        (
            of(&text.replace("  - join key c.plot = p.id\n", "  - join key c.plot = p.id\n  - residual x\n")),
            &["− - residual x"],
        ),
        (ruled(&text.replace("900", "1801"), "rows_within = 3"), &[]),
        (
            ruled(&text.replace("900", "1000"), "rows_within = 1.05"),
            &["− table scan chore as c: 1000 rows", "+ table scan chore as c: 900 rows"],
        ),
    ] {
        let mut file = CheckFile::parse("it.check.toml", format!("{HEAD}{body}")).unwrap();
        let run = |file: &CheckFile| file.run(&Database::in_memory(), &[]).unwrap().checks.pop().unwrap();
        let outcome = run(&file);
        let found: Vec<String> = outcome
            .failures
            .iter()
            .flat_map(|failure| {
                assert_eq!(failure.expectation, "plan", "{failure:?}");
                failure.rows.iter().map(|change| {
                    let Value::Text(line) = &change.row[0] else { panic!("{change:?}") };
                    format!("{} {}", if change.found { "+" } else { "−" }, line.trim_start())
                })
            })
            .collect();
        assert_eq!(found, changed, "{body}");
        if !outcome.passed() {
            assert!(file.accept_plan("it", &plan_text(outcome.plan.as_ref().unwrap())).unwrap());
            let again = CheckFile::parse("it.check.toml", file.text()).unwrap();
            assert!(run(&again).passed(), "{}", file.text());
        }
    }
}
