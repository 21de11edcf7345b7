//! What the planner works out beforehand is what the rows would have come to: random expressions over literals, over parameters and
//! over the columns of a table of one row, and of many.

use crate::random_queries::{Draw, trials};
use garden_gate::{Database, Parameters, Session, Value};

/// A literal, its value as a parameter, and the type of a column that holds it.
const LITERALS: &[(&str, &str)] = &[
    ("1", "INTEGER"),
    ("(-3)", "INTEGER"),
    ("0", "INTEGER"),
    ("2147483647", "INTEGER"),
    ("CAST(NULL AS INTEGER)", "INTEGER"),
    ("2.50", "NUMERIC(6,2)"),
    ("(-0.01)", "NUMERIC(6,2)"),
    ("CAST(NULL AS NUMERIC(6,2))", "NUMERIC(6,2)"),
    ("1.5E0", "DOUBLE PRECISION"),
    ("'rose'", "VARCHAR(9)"),
    ("''", "VARCHAR(9)"),
    ("CAST(NULL AS VARCHAR(9))", "VARCHAR(9)"),
    ("DATE '2024-02-29'", "DATE"),
    ("DATE '1999-12-31'", "DATE"),
    ("TIMESTAMP '2024-02-29 23:59:59.5'", "TIMESTAMP"),
    ("TIME '08:30:00'", "TIME"),
    ("INTERVAL '3' MONTH", "INTERVAL YEAR TO MONTH"),
    ("INTERVAL '1 02:00:00' DAY TO SECOND", "INTERVAL DAY TO SECOND"),
    ("TRUE", "BOOLEAN"),
    ("CAST(NULL AS BOOLEAN)", "BOOLEAN"),
];

/// What an expression of a kind may look like: `$` and a letter of [`KINDS`] stand for one of that kind.
const FORMS: &[(&str, &[&str])] = &[
    (
        "INTEGER",
        &[
            "($I + $I)",
            "($I - $I)",
            "($I * $I)",
            "($I / $I)",
            "MOD($I, $I)",
            "-$I",
            "ABS($I)",
            "CHARACTER_LENGTH($V)",
            "COALESCE($I, $I)",
            "NULLIF($I, $I)",
            "CASE WHEN $B THEN $I ELSE $I END",
            "POSITION($V IN $V)",
            "GREATEST($I, $I)",
            "EXTRACT(YEAR FROM $D)",
            "CAST($N AS INTEGER)",
            "CASE $I WHEN $I THEN $I WHEN > $I THEN $I END",
        ],
    ),
    (
        "NUMERIC",
        &[
            "($N + $N)",
            "($N * $I)",
            "($N / $I)",
            "ROUND($N, 1)",
            "TRUNCATE($N)",
            "COALESCE($N, $I)",
            "CAST($I AS NUMERIC(6,2))",
            "CEILING($N)",
        ],
    ),
    (
        "DOUBLE",
        &["($F + $N)", "($F * $I)", "SQRT(ABS($F))", "POWER($F, 2)", "CAST($N AS DOUBLE PRECISION)", "FLOOR($F)"],
    ),
    (
        "VARCHAR",
        &[
            "($V || $V)",
            "UPPER($V)",
            "SUBSTRING($V FROM $I)",
            "SUBSTRING($V FROM 2 FOR ABS($I))",
            "TRIM($V)",
            "CAST($I AS VARCHAR(12))",
            "CAST($D AS VARCHAR(12))",
            "CASE WHEN $B THEN $V END",
            "COALESCE($V, $V)",
            "LPAD($V, 3, 'x')",
            "OVERLAY($V PLACING $V FROM 2)",
        ],
    ),
    ("DATE", &["($D + $Y)", "($D - $Y)", "CAST($T AS DATE)", "COALESCE($D, $D)", "CASE WHEN $B THEN $D ELSE $D END"]),
    ("TIMESTAMP", &["($T + $H)", "($T - $Y)", "CAST($D AS TIMESTAMP)", "COALESCE($T, $T)"]),
    ("INTERVAL DAY", &["($H + $H)", "($T - $T)", "($D - $D)", "($H * $I)", "-$H"]),
    ("INTERVAL YEAR", &["($Y + $Y)", "($Y * $I)", "-$Y"]),
    (
        "BOOLEAN",
        &[
            "($I < $I)",
            "($N >= $I)",
            "($V = $V)",
            "($V LIKE 'r%')",
            "($D <> $D)",
            "($I BETWEEN $I AND $I)",
            "($I IN ($I, $N))",
            "($B AND $B)",
            "($B OR $B)",
            "(NOT $B)",
            "($I IS NULL)",
            "($B IS NOT TRUE)",
            "($V IS DISTINCT FROM $V)",
            "($T < $T)",
            "(($I, $V) = ($I, $V))",
            "($F > $N)",
        ],
    ),
];

/// The letters of forms.
const KINDS: [(char, &str); 9] = [
    ('I', "INTEGER"),
    ('N', "NUMERIC"),
    ('F', "DOUBLE"),
    ('V', "VARCHAR"),
    ('D', "DATE"),
    ('T', "TIMESTAMP"),
    ('H', "INTERVAL DAY"),
    ('Y', "INTERVAL YEAR"),
    ('B', "BOOLEAN"),
];

/// An expression with `?` for each leaf, and the leaves.
fn expression(draw: &mut Draw, kind: &str, depth: usize, leaves: &mut Vec<usize>) -> String {
    let leaf = |draw: &mut Draw, leaves: &mut Vec<usize>| {
        let fitting: Vec<usize> = (0..LITERALS.len()).filter(|at| LITERALS[*at].1.starts_with(kind)).collect();
        leaves.push(*draw.pick(&fitting));
        "?".to_owned()
    };
    if depth == 0 {
        return leaf(draw, leaves);
    }
    let forms = FORMS.iter().find(|(known, _)| *known == kind).map_or(&[][..], |(_, forms)| *forms);
    let form = *draw.pick(forms);
    let mut made = String::new();
    let mut letters = form.chars();
    while let Some(letter) = letters.next() {
        if letter != '$' {
            made.push(letter);
            continue;
        }
        let letter = letters.next();
        let inner = KINDS.iter().find(|(known, _)| Some(*known) == letter).map_or("BOOLEAN", |(_, kind)| kind);
        made += &expression(draw, inner, depth - 1, leaves);
    }
    made
}

/// The value, or the class of the error.
fn outcome(session: &mut Session, sql: &str, parameters: Parameters) -> Vec<String> {
    match session.query(sql, parameters) {
        Ok(rows) => rows.rows().map(|row| format!("{:?}", row.values()[0])).collect(),
        Err(error) => vec![error.sqlstate().to_string()],
    }
}

#[test]
fn an_expression_is_worth_the_same_wherever_its_values_come_from() {
    let mut session = Database::in_memory().session();
    let (mut fine, mut failed) = (0, 0);
    for seed in 0..trials(2500) {
        let mut draw = Draw::new(seed);
        let mut leaves = Vec::new();
        let kind = draw.pick(&KINDS).1;
        let depth = draw.below(3) + 1;
        let shape = expression(&mut draw, kind, depth, &mut leaves);
        let fill = |with: &dyn Fn(usize, usize) -> String| {
            let mut parts = shape.split('?');
            let mut text = parts.next().unwrap_or_default().to_owned();
            for (at, (part, leaf)) in parts.zip(&leaves).enumerate() {
                text += &with(at, *leaf);
                text += part;
            }
            text
        };
        let literal = fill(&|_, leaf| LITERALS[leaf].0.to_owned());
        let expected = outcome(&mut session, &format!("SELECT {literal}"), Parameters::new());
        let columns = fill(&|at, _| format!("x.c{at}"));
        let list = |form: &dyn Fn(usize, usize) -> String| {
            leaves.iter().enumerate().map(|(at, leaf)| form(at, *leaf)).collect::<Vec<_>>().join(", ")
        };
        let typed = list(&|at, leaf| format!("CAST({} AS {}) AS c{at}", LITERALS[leaf].0, LITERALS[leaf].1));
        let one = format!("SELECT {columns} FROM (SELECT {typed} FROM SERIES(1, 1) AS s (i)) AS x");
        let many =
            format!("SELECT {columns} FROM (SELECT {typed}, i FROM SERIES(1, 20) AS s (i)) AS x WHERE x.i IN (3, 17)");
        let found = outcome(&mut session, &one, Parameters::new());
        // A literal of fewer digits than its column may have a narrower result: values are compared, errors by their code.
        let same = |a: &[String], b: &[String]| a == b || numbers(a) == numbers(b);
        assert!(same(&found, &expected), "seed {seed}\n{literal}\n{expected:?}\n{one}\n{found:?}");
        let found = outcome(&mut session, &many, Parameters::new());
        let twice = if expected[0].len() == 5 && !expected[0].contains('(') && expected[0] != "Null" {
            expected.clone()
        } else {
            [expected.clone(), expected.clone()].concat()
        };
        assert!(same(&found, &twice), "seed {seed}\n{literal}\n{expected:?}\n{many}\n{found:?}");
        if expected[0].contains('(') || expected[0] == "Null" { fine += 1 } else { failed += 1 }
    }
    // Both ends are met often enough to mean something.
    assert!(fine > trials(1500) && failed > trials(50), "{fine} values, {failed} errors");
}

/// The digits of numbers, whatever their scale.
fn numbers(shown: &[String]) -> Option<Vec<String>> {
    let digits = |text: &String| {
        let inner = text.strip_prefix("Numeric(Decimal { unscaled: ")?;
        let (unscaled, scale) = inner.trim_end_matches([' ', '}', ')']).split_once(", scale: ")?;
        let (mut unscaled, mut scale): (i128, u8) = (unscaled.parse().ok()?, scale.parse().ok()?);
        while scale > 0 && unscaled % 10 == 0 {
            (unscaled, scale) = (unscaled / 10, scale - 1);
        }
        Some(format!("{unscaled}/{scale}"))
    };
    shown.iter().map(digits).collect()
}

#[test]
fn a_parameter_is_worth_its_value() {
    let mut session = Database::in_memory().session();
    for (expression, value, expected) in [
        (":p + 1", Value::Integer(2), "3"),
        (":p || 'x'", "a".into(), "ax"),
        ("CAST(:p AS DATE) + INTERVAL '1' DAY", "2024-02-28".into(), "2024-02-29"),
        ("COALESCE(:p, 5)", Value::Null, "5"),
        (":p IS NULL", Value::Null, "TRUE"),
        ("CASE WHEN :p > 2 THEN 'more' ELSE 'less' END", Value::Integer(3), "more"),
        (":p BETWEEN 1 AND 3", Value::numeric("2.5").unwrap(), "TRUE"),
        ("DATE '2024-01-01' < :p", Value::date("2024-01-02").unwrap(), "TRUE"),
        (":p LIKE '50!%' ESCAPE '!'", "50%".into(), "TRUE"),
        ("-:p", Value::Double(1.5), "-1.5"),
        ("(:p, 2) = (1, 2)", Value::Integer(1), "TRUE"),
        ("EXTRACT(MONTH FROM :p)", Value::date("2024-02-28").unwrap(), "2"),
    ] {
        let rows = session.query(format!("SELECT {expression}"), Parameters::new().set("p", value)).unwrap();
        assert_eq!(rows.rows().next().unwrap().values()[0].to_string(), expected, "{expression}");
    }
}
