//! The 22 queries of TPC-H at scale factor 0.01, against answers that were computed by other means, on one worker and on two.

mod allocations;
#[path = "../../benches/tpch/data.rs"]
mod data;

use garden_gate::{Session, Value};

macro_rules! queries {
    ($($name:literal),*) => {
        [$((
            $name,
            include_str!(concat!("../../benches/tpch/queries/", $name, ".sql")),
            include_str!(concat!($name, ".csv")),
        )),*]
    };
}

const QUERIES: [(&str, &str, &str); 22] = queries!(
    "q01", "q02", "q03", "q04", "q05", "q06", "q07", "q08", "q09", "q10", "q11", "q12", "q13", "q14", "q15", "q16",
    "q17", "q18", "q19", "q20", "q21", "q22"
);

/// A line of the answers: fields in quotes where they hold a comma.
fn fields(line: &str) -> Vec<String> {
    let (mut fields, mut quoted) = (vec![String::new()], false);
    for letter in line.chars() {
        match letter {
            '"' => quoted = !quoted,
            ',' if !quoted => fields.push(String::new()),
            other => fields.last_mut().unwrap().push(other),
        }
    }
    fields
}

/// Texts as they are, counts and sums to the last digit, averages and ratios as close as two decimals or 1e-9 of themselves.
fn agrees(expected: &str, found: &str) -> bool {
    let number = |text: &str| text.trim().parse::<f64>().ok();
    match (number(expected), number(found)) {
        (Some(expected), Some(found)) => {
            (expected - found).abs()
                <= f64::max(1e-9 * expected.abs(), if expected.fract() == 0.0 { 0.0 } else { 0.005 })
        }
        _ => expected.trim() == found.trim(),
    }
}

fn check(session: &mut Session, (name, sql, answer): (&str, &str, &str)) {
    // The fraction of q11 goes with the scale factor.
    let rows = session.query(sql.replace("0.0001", if name == "q11" { "0.01" } else { "0.0001" }), ()).unwrap();
    let mut found: Vec<Vec<String>> =
        rows.rows().map(|row| row.values().iter().map(Value::to_string).collect()).collect();
    let mut expected: Vec<Vec<String>> = answer.lines().skip(1).map(fields).collect();
    assert_eq!(found.len(), expected.len(), "{name}: rows");
    // Ties may come in any order.
    found.sort();
    expected.sort();
    for (found, expected) in found.iter().zip(&expected) {
        let same = found.len() == expected.len() && expected.iter().zip(found).all(|(a, b)| agrees(a, b));
        assert!(same, "{name}\nexpected {expected:?}\nfound    {found:?}");
    }
}

#[test]
fn the_answers_are_those_worked_out_elsewhere() {
    let db = data::database(0.01);
    for workers in [1, 2] {
        let mut session = db.session();
        session.set("workers", workers).unwrap();
        QUERIES.into_iter().for_each(|query| check(&mut session, query));
    }
}

/// With a join for everything: no query of the benchmark needs the rows of a product.
#[test]
fn no_query_is_run_for_each_row_of_another() {
    let db = data::database(0.01);
    let mut session = db.session();
    for (name, sql, _) in QUERIES {
        let plan = session.plan(sql, ()).unwrap();
        let loops = plan.nodes().iter().filter(|node| node.operator.name() == "nested-loop join").count();
        // These compare with one computed value, q07 two nations by OR: no equality, but few rows on one side.
        let allowed = usize::from(matches!(name, "q07" | "q11" | "q15" | "q22"));
        assert!(loops <= allowed, "{name}");
    }
}
