//! The parser gives an error or a tree for any text, and never panics.

use crate::support::session;
use garden_gate::{Parameters, SourceText};

const SEEDS: &[&str] = &[
    "SELECT DISTINCT a.name AS n, COUNT(*), CASE WHEN x > 1 THEN 'y' ELSE NULL END FROM bed a JOIN task b USING (bed_id) WHERE NOT a.sun = 'shade' AND b.hours BETWEEN 1 AND 2 OR name LIKE 'x!%' ESCAPE '!' GROUP BY n HAVING SUM(area) > 1.5e3 ORDER BY 1 DESC NULLS FIRST OFFSET 1 ROWS FETCH FIRST 2 ROWS ONLY;",
    "SELECT * FROM FILE 'x.csv' (DELIMITER ';', NO HEADER, SKIP 2, NULL TEXT 'n/a') AS f, \"my bed\" -- comment\n WHERE :p = ? /* more */",
    "LET x = INTERVAL '1-2' YEAR TO MONTH; SET workers = 2; SET SCHEMA 'home'; SHOW SETTINGS; SELECT CAST(DATE '2024-01-01' AS TIMESTAMP) || U&'é'",
];

/// A fixed sequence of numbers that look random.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, limit: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        usize::try_from(self.0 >> 33).unwrap() % limit.max(1)
    }
}

#[test]
fn spoilt_statements_are_errors_and_never_panics() {
    let mut numbers = Numbers(0x5eed_1234_9876_abcd);
    let mut session = session();
    let none = Parameters::new();
    let (mut tried, mut failed) = (0, 0);
    for _ in 0..3_000 {
        let mut text: Vec<char> = SEEDS[numbers.below(SEEDS.len())].chars().collect();
        for _ in 0..=numbers.below(4) {
            if text.is_empty() {
                break;
            }
            let at = numbers.below(text.len());
            match numbers.below(4) {
                0 => drop(text.remove(at)),
                1 => text.insert(at, ['(', ')', '\'', '"', ',', '.', ';', '*', '\u{e9}', '\0'][numbers.below(10)]),
                2 => text.truncate(at + 1),
                _ => {
                    let from = numbers.below(text.len());
                    let piece: Vec<char> = text[from..text.len().min(from + numbers.below(12))].to_vec();
                    text.splice(at..at, piece);
                }
            }
        }
        let text: String = text.into_iter().collect();
        for outcome in session.statements(SourceText::new(&text), &none).unwrap() {
            tried += 1;
            if let Err(error) = outcome {
                failed += 1;
                // Whatever it points at lies in the text.
                let spans = error.span().into_iter().chain(error.labels().iter().map(|label| label.span));
                assert!(spans.into_iter().all(|span| text.get(span.range()).is_some()), "{text}\n{error:?}");
                assert!(!error.message().contains("internal"), "{text}\n{error:?}");
            }
        }
    }
    assert!(tried > 3_000 && failed > 2_000, "{failed} of {tried} failed");
}

#[test]
fn comments_blanks_and_case_do_not_matter() {
    let mut session = session();
    for sql in [
        "select/* a */1--x\n",
        "SELECT -- c\n 1",
        " \t\r\nSELECT\n1\n;\n",
        "SeLeCt 1;;;",
        "; ; SELECT 1",
        "SELECT ((1))",
        "SELECT ALL 1",
        "SELECT +1",
        "SELECT - -1",
        "SELECT 1.",
        "SELECT .5 * 2.0",
    ] {
        let shown = session.run(sql).unwrap().remove(0).rows().unwrap();
        let value: f64 = shown.rows().next().unwrap().get(0).unwrap();
        assert!((value - 1.0).abs() < 1e-9, "{sql}");
    }
    assert!(session.run("").unwrap().is_empty() && session.run(" -- nothing\n;").unwrap().is_empty());
}

#[test]
fn texts_and_operators_as_they_are_written() {
    crate::support::check_values(&[
        ("'it''s'", "it's", "VARCHAR"),
        ("''", "", "VARCHAR"),
        ("'a' || 'b' || 'c'", "abc", "VARCHAR"),
        ("1 <> 2 AND 1 != 2", "TRUE", "BOOLEAN"),
        ("NOT 1 = 2 AND TRUE", "TRUE", "BOOLEAN"),
        ("FALSE AND FALSE OR TRUE", "TRUE", "BOOLEAN"),
        ("FALSE AND (FALSE OR TRUE)", "FALSE", "BOOLEAN"),
        ("1 + 2 = 3", "TRUE", "BOOLEAN"),
        ("NOT NOT TRUE", "TRUE", "BOOLEAN"),
        ("2 * -3", "-6", "INTEGER"),
        ("1 - -1", "2", "INTEGER"),
        ("12 / 2 / 3", "2", "INTEGER"),
        ("TRUE = (1 < 2)", "TRUE", "BOOLEAN"),
        ("1 IS NOT NULL AND NULL IS NULL", "TRUE", "BOOLEAN"),
        ("'x' IN ('x') IS TRUE", "TRUE", "BOOLEAN"),
    ]);
}
