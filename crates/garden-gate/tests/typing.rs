//! What a text that is being typed can go on with, and what is wrong with it.

use crate::random_queries::{Draw, trials};
use garden_gate::typing::{CompletionKind, TokenClass, token_classes};
use garden_gate::{Database, Session};

fn session() -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(20), sun VARCHAR(10), \"Soil type\" VARCHAR(9));
             INSERT INTO bed VALUES (1, 'Fern gully', 'shade', 'clay'), (2, 'Scree', 'full sun', 'sand'), (3, 'Bog', 'shade', 'peat');
             CREATE TABLE task (task_id INTEGER, bed_id INTEGER, hours NUMERIC(4,2));
             CREATE VIEW shady AS SELECT name AS shady_name FROM bed WHERE sun = 'shade';
             CREATE SCHEMA shed; CREATE TABLE shed.tool (tool_id INTEGER, label VARCHAR(9));
             LET wanted = 3",
        )
        .unwrap();
    session
}

/// A text with `|` at the cursor; what is among the completions, and, after a minus, what is not.
const CASES: [(&str, &str); 44] = [
    ("|", "SELECT WITH INSERT CREATE -FROM -bed"),
    ("sel|", "select -SELECT -set"),
    ("SELECT |", "DISTINCT COALESCE CASE -WHERE -bed"),
    ("SELECT | FROM bed", "name sun bed_id \"Soil type\" bed UPPER -hours"),
    ("SELECT na| FROM bed", "name -sun"),
    ("SELECT b.| FROM bed AS b", "name sun -hours -UPPER -SELECT"),
    ("select b. from bed b where b.|", "name -hours"),
    ("SELECT b.| FROM task t JOIN bed b ON t.bed_id = b.bed_id", "name -hours"),
    ("SELECT t.h| FROM task t JOIN bed b ON t.bed_id = b.bed_id", "hours -name"),
    ("SELECT 1 FROM |", "bed task shady shed -tool -name"),
    ("SELECT 1 FROM b|", "bed -task"),
    ("SELECT 1 FROM shed.|", "tool -bed"),
    ("SELECT | FROM shed.tool", "label -name"),
    ("SELECT | FROM shady", "shady_name -name"),
    ("SELECT 1 FROM bed |", "WHERE JOIN LEFT AS -SELECT"),
    ("SELECT 1 FROM bed J|", "JOIN -WHERE"),
    ("SELECT 1 FROM bed WHERE |", "name NOT EXISTS -WHERE"),
    ("SELECT 1 FROM bed WHERE name |", "IS LIKE IN BETWEEN AND -SELECT"),
    ("SELECT 1 FROM bed WHERE name IS |", "NULL NOT DISTINCT -LIKE"),
    ("SELECT 1 FROM bed GROUP |", "BY -WHERE"),
    ("SELECT 1 FROM bed ORDER BY |", "name -hours"),
    ("SELECT 1 FROM bed ORDER BY name |", "DESC ASC NULLS -WHERE"),
    ("SELECT 1 FROM bed WHERE sun = '|", "shade -clay"),
    ("SELECT 1 FROM bed WHERE sun = 'sh|'", "shade -clay"),
    ("SELECT 1 FROM bed b WHERE b.sun IN ('shade', '|", "shade"),
    ("SELECT 1 FROM bed WHERE \"Soil type\" = '|", "clay peat -shade"),
    ("SELECT '|", "-shade -name"),
    ("SELECT 1 -- na|", "-name"),
    ("SELECT 1 /* na|", "-name"),
    ("WITH w AS (SELECT name AS n FROM bed) SELECT | FROM w", "n -name"),
    ("WITH w AS (SELECT name AS n FROM bed) SELECT 1 FROM |", "w bed"),
    ("WITH w AS (SELECT name AS n FROM bed), v AS (SELECT | FROM w) SELECT 1", "n -sun"),
    ("WITH w AS (SELECT | FROM bed) SELECT 1 FROM w", "name sun"),
    ("SELECT d.| FROM (SELECT hours AS spent FROM task) AS d", "spent -hours"),
    ("SELECT 1 FROM bed b WHERE EXISTS (SELECT 1 FROM task t WHERE t.bed_id = b.|", "name -hours"),
    ("SELECT (SELECT | FROM task) FROM bed", "hours name"),
    ("SELECT name FROM bed UNION SELECT | FROM shed.tool", "label -sun"),
    ("UPDATE bed SET |", "name sun -hours"),
    ("DELETE FROM bed WHERE |", "name -hours"),
    ("INSERT INTO bed (|", "name sun -hours"),
    ("SET |", "workers time_limit -name"),
    ("SELECT :w| FROM bed", ":wanted"),
    ("SELECT 1; SELECT | FROM task", "hours -name"),
    ("SELECT nmae, | FROM bed; SELECT 1", "name -hours"),
];

#[test]
fn completions_are_what_fits_the_place() {
    let session = session();
    let wrong: Vec<String> = CASES
        .iter()
        .filter_map(|(marked, words)| {
            let at = marked.find('|').unwrap();
            let found = session.completions(&marked.replace('|', ""), at);
            let has = |word: &str| found.items.iter().any(|item| item.text == word);
            let words: Vec<&str> = split(words);
            let wrong: Vec<&str> =
                words.into_iter().filter(|word| word.strip_prefix('-').map_or_else(|| !has(word), has)).collect();
            let texts: Vec<&str> = found.items.iter().map(|item| item.text.as_str()).take(30).collect();
            (!wrong.is_empty()).then(|| format!("{marked}\n  wrong: {wrong:?}\n  found: {texts:?}"))
        })
        .collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Words between blanks; a quoted name is one.
fn split(words: &str) -> Vec<&str> {
    match words.split_once('"').and_then(|(before, rest)| Some((before, rest.split_once('"')?))) {
        Some((before, (name, after))) => {
            let quoted = &words[before.len()..before.len() + name.len() + 2];
            before.split_whitespace().chain([quoted]).chain(after.split_whitespace()).collect()
        }
        None => words.split_whitespace().collect(),
    }
}

#[test]
fn completions_say_what_they_are() {
    let found = session().completions("SELECT h FROM task", 8);
    assert_eq!(found.start, 7);
    let hours = found.items.iter().find(|item| item.text == "hours").expect("a column");
    assert_eq!((hours.kind, hours.detail.as_str()), (CompletionKind::Column, "NUMERIC(4,2)"));
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("reading.csv"), "a\n1\n").unwrap();
    std::fs::write(folder.path().join("notes.txt"), "").unwrap();
    let mut session = session();
    session.allow_folder(folder.path()).unwrap();
    let text = "SELECT * FROM FILE '";
    let files: Vec<String> = session.completions(text, text.len()).items.into_iter().map(|item| item.text).collect();
    assert_eq!(files, ["reading.csv"]);
}

#[test]
fn problems_are_found_without_running_anything() {
    let mut session = session();
    for (text, expected) in [
        ("SELECT name FROM bed", ""),
        ("SELECT nmae FROM bed", "42S22"),
        ("SELECT 1 FROM bde; SELECT", "42S02"),
        ("SELECT name FROM bed WHERE", ""),
        ("SELECT name, sun", ""),
        ("SELECT name, sun;", "42S22 42S22"),
        ("SELECT name FROM bed WHERE nmae = 1 AND", "42S22"),
        ("SELECT name FROM bed WHERE bed_id IN (1,", ""),
        ("SELECT x.name FROM bed b WHERE b.sun = 'shade' ORDER BY", "42S02"),
        ("SELECT name FROM bed WHERE;", "42000"),
        ("SELECT name FORM bed b; SELECT x FROM bed", "42000 42S22"),
        ("CREATE TABLE new (a INTEGER); SELECT a FROM new", ""),
        ("SELECT * FROM FILE 'no such.csv'", ""),
        ("UPDATE bed SET nmae = 'x'", "42S22"),
        ("DELETE FROM bed WHERE bed_id = :which", ""),
        ("SELECT 'open", ""),
    ] {
        let found: Vec<String> = session.problems(text).iter().map(|error| error.sqlstate().to_string()).collect();
        assert_eq!(found.join(" "), expected, "{text}");
    }
    assert_eq!(crate::support::show(&session.query("SELECT COUNT(*) FROM bed", ()).unwrap()), "3");
}

#[test]
fn tokens_have_their_classes() {
    use TokenClass as C;
    for (text, expected) in [
        ("select first from first", vec![C::Keyword, C::Name, C::Keyword, C::Name]),
        ("select 'a' || :p, 1.5;", vec![C::Keyword, C::Text, C::Sign, C::Parameter, C::Sign, C::Number, C::Sign]),
        ("-- all\nselect /* one */ 1", vec![C::Comment, C::Keyword, C::Comment, C::Number]),
        ("select 'open", vec![C::Keyword, C::Text]),
        ("select # 1", vec![C::Keyword, C::Unknown, C::Number]),
        ("select 1 /* open", vec![C::Keyword, C::Number, C::Comment]),
    ] {
        let found: Vec<C> = token_classes(text).into_iter().map(|(_, class)| class).collect();
        assert_eq!(found, expected, "{text}");
    }
}

/// Random queries, cut and changed anywhere: every place has an answer, and ranges lie within the text.
#[test]
fn broken_texts_are_looked_at_without_harm() {
    let session = session();
    for seed in 0..trials(400) {
        let mut draw = Draw::new(seed);
        let mut text: Vec<char> = crate::whole::random_text(&mut draw).chars().collect();
        for _ in 0..draw.below(6) {
            let at = draw.below(text.len().max(1));
            match draw.below(4) {
                0 => text.truncate(at),
                1 => text.insert(at.min(text.len()), *draw.pick(&['\'', '"', '(', ')', ';', 'é', '\n', '-', '.', ','])),
                2 if !text.is_empty() => drop(text.remove(at.min(text.len() - 1))),
                _ => {}
            }
        }
        let text: String = text.into_iter().collect();
        for _ in 0..4 {
            let at = draw.below(text.len() + 1);
            let found = session.completions(&text, at);
            assert!(found.start <= at && text.is_char_boundary(found.start), "{at}: {text}");
        }
        let mut end = 0;
        for (range, _) in token_classes(&text) {
            assert!(range.start >= end && range.end <= text.len() && text.is_char_boundary(range.start), "{text}");
            end = range.end;
        }
        for problem in session.problems(&text) {
            assert!(problem.span().is_none_or(|span| span.end as usize <= text.len()), "{text}");
        }
    }
}
