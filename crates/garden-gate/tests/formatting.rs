//! SQL laid out anew: the same statements, the same when it is done again.

use crate::random_queries::{Draw, trials};
use garden_gate::format::{FormatOptions, KeywordCase, format_sql};
use garden_gate::typing::{TokenClass, token_classes};

fn laid_out(sql: &str, width: usize) -> String {
    format_sql(sql, &FormatOptions::default().width(width)).unwrap_or_else(|error| panic!("{error}\n{sql}")).text
}

/// Tokens and comments, in letters that do not count; a comment without the blanks at its ends.
fn tokens(sql: &str) -> Vec<String> {
    let token = |(range, class): (std::ops::Range<usize>, TokenClass)| match class {
        TokenClass::Keyword | TokenClass::Name if !sql[range.clone()].starts_with('"') => sql[range].to_uppercase(),
        TokenClass::Comment => sql[range].split_whitespace().collect::<Vec<_>>().join(" "),
        _ => sql[range].to_owned(),
    };
    token_classes(sql).into_iter().map(token).collect()
}

/// Lays a text out, and sees that nothing but blanks and letters of keywords has changed, and that doing it again changes nothing.
fn checked(sql: &str, width: usize) {
    let once = laid_out(sql, width);
    assert_eq!(tokens(&once), tokens(sql), "{sql}\n{once}");
    assert_eq!(laid_out(&once, width), once, "{sql}");
}

#[test]
fn what_fits_is_a_line_and_what_does_not_is_broken() {
    for (sql, width, expected) in [
        ("", 40, ""),
        ("-- nothing\n", 40, "-- nothing\n"),
        ("select  1 ;", 40, "SELECT 1;\n"),
        (
            "select count( * ),-x+ - -y from t where a<>'it''s'",
            60,
            "SELECT count(*), -x + - -y FROM t WHERE a <> 'it''s'\n",
        ),
        (
            "select a.b . c , x [ 1 ], X'0a', u&'\\0041', date'2024-01-01' from t",
            80,
            "SELECT a.b.c, x [1], X'0a', u&'\\0041', DATE '2024-01-01' FROM t\n",
        ),
        ("select 'a'\n'b'", 40, "SELECT 'a'\n  'b'\n"),
        (
            "select b.name, sum(t.hours) hours from bed b join task t on t.bed_id = b.bed_id where b.sun <> 'shade' and t.hours between 1 and 5 group by b.name order by hours desc",
            48,
            "SELECT b.name, sum(t.hours) hours\nFROM bed b\nJOIN task t ON t.bed_id = b.bed_id\nWHERE b.sun <> 'shade'\n  AND t.hours BETWEEN 1 AND 5\nGROUP BY b.name\nORDER BY hours DESC\n",
        ),
        (
            "select first, second, case when a > 1 then 'many' when a = 1 then 'one' else 'none' end as how_many from t",
            40,
            "SELECT\n  first,\n  second,\n  CASE\n    WHEN a > 1 THEN 'many'\n    WHEN a = 1 THEN 'one'\n    ELSE 'none'\n  END AS how_many\nFROM t\n",
        ),
        (
            "with a as (select 1 as x), b (y) as (select x from a where x in (select bed_id from bed)) select * from b union all select x from a",
            50,
            "WITH a AS (SELECT 1 AS x),\nb (y) AS (\n  SELECT x\n  FROM a\n  WHERE x IN (SELECT bed_id FROM bed)\n)\nSELECT *\nFROM b\nUNION ALL\nSELECT x\nFROM a\n",
        ),
        (
            "select a from t where a = 1 and b = 2 or c = 3 and (d = 4 or e = 55555555555555)",
            40,
            "SELECT a\nFROM t\nWHERE a = 1 AND b = 2\n  OR c = 3\n    AND (d = 4 OR e = 55555555555555)\n",
        ),
        (
            "insert into bed (bed_id, name) values (1, 'Fern gully'), (2, 'Scree'); update bed set name = 'Bog' where bed_id = 2",
            40,
            "INSERT INTO bed (bed_id, name)\nVALUES (1, 'Fern gully'), (2, 'Scree');\nUPDATE bed\nSET name = 'Bog'\nWHERE bed_id = 2\n",
        ),
        (
            "create table bed (bed_id integer primary key, name varchar(20) not null, area numeric(6,2));\n\n\nselect 1",
            40,
            "CREATE TABLE bed (\n  bed_id INTEGER PRIMARY KEY,\n  name VARCHAR(20) NOT NULL,\n  area NUMERIC(6, 2)\n);\n\nSELECT 1\n",
        ),
        // Comments stay where they are.
        (
            "-- all beds\nselect name, -- what it is called\n  /* and */ sun from bed -- of the garden\n; -- done\nselect 1",
            60,
            "-- all beds\nSELECT\n  name, -- what it is called\n  /* and */\n  sun\nFROM bed -- of the garden\n; -- done\nSELECT 1\n",
        ),
        // What cannot be read stays as it is.
        ("selec  1;\nselect  2", 40, "selec  1;\nSELECT 2\n"),
        (
            "select a is distinct from b, extract(year from d) from t",
            60,
            "SELECT a IS DISTINCT FROM b, EXTRACT(YEAR FROM d) FROM t\n",
        ),
        (
            "select first from first order by first fetch first 2 rows only",
            80,
            "SELECT first FROM first ORDER BY first FETCH FIRST 2 ROWS ONLY\n",
        ),
    ] {
        let found = laid_out(sql, width);
        assert_eq!(found, expected, "{sql}\n{found}");
        assert_eq!(laid_out(&found, width), found, "laid out once more: {sql}");
    }
}

#[test]
fn letters_of_keywords_and_what_is_refused() {
    let options = FormatOptions::default();
    for (keywords, expected) in [
        (KeywordCase::Upper, "SELECT Count(*) AS Plain FROM \"Bed\"\n"),
        (KeywordCase::Lower, "select Count(*) as Plain from \"Bed\"\n"),
        (KeywordCase::Keep, "Select Count(*) as Plain From \"Bed\"\n"),
    ] {
        let found = format_sql("Select Count(*) as Plain From \"Bed\"", &options.keywords(keywords)).unwrap();
        assert_eq!(found.text, expected);
        assert!(found.problems.is_empty());
    }
    let broken = format_sql("select 1 from; select 2", &options).unwrap();
    assert_eq!((broken.text.as_str(), broken.problems.len()), ("select 1 from;\nSELECT 2\n", 1));
    for open in ["select 'a", "select \"a", "select /* a"] {
        assert_eq!(format_sql(open, &options).unwrap_err().sqlstate().as_str(), "42000", "{open}");
    }
    let deep = format!("select {}1{}", "(".repeat(1000), ")".repeat(1000));
    let once = laid_out(&deep, 80);
    assert_eq!(laid_out(&once, 80), once);
}

/// The texts in double quotes of a program in Rust; most of those in the tests are SQL.
fn literals(program: &str) -> Vec<String> {
    let (mut found, mut characters) = (Vec::new(), program.chars());
    while characters.any(|c| c == '"') {
        let mut text = String::new();
        while let Some(c) = characters.next().filter(|c| *c != '"') {
            match if c == '\\' { characters.next() } else { None } {
                Some('n') => text.push('\n'),
                // The blanks that begin the next line are none of the text's.
                Some('\n') => text.push(' '),
                Some(escaped) => text.push(escaped),
                None => text.push(c),
            }
        }
        found.push(text);
    }
    found
}

/// Every statement of the documents, the demo, the benchmark and the tests, at several widths.
#[test]
fn texts_of_the_project_are_laid_out_once() {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    let mut texts = Vec::new();
    let mut folders = vec![std::path::PathBuf::from(root).join("docs"), std::path::PathBuf::from(root).join("demo")];
    folders.extend(
        ["benches/tpch/queries", "tests"].map(|name| std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join(name)),
    );
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
            let path = entry.path();
            let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default().to_owned();
            match ending.as_str() {
                _ if path.is_dir() => folders.push(path),
                "sql" => texts.push(std::fs::read_to_string(&path).unwrap()),
                "rs" => texts.extend(literals(&std::fs::read_to_string(&path).unwrap())),
                "md" => {
                    let text = std::fs::read_to_string(&path).unwrap();
                    let blocks = text.split("```sql\n").skip(1).filter_map(|block| block.split("```").next());
                    texts.extend(blocks.map(str::to_owned));
                }
                _ => {}
            }
        }
    }
    // The tests have texts that are no SQL, or are wrong on purpose.
    let is_sql =
        |text: &String| format_sql(text, &FormatOptions::default()).is_ok_and(|found| found.problems.is_empty());
    texts.retain(|text| text.contains(' ') && is_sql(text));
    assert!(texts.len() > 3000, "{} texts", texts.len());
    for (number, text) in texts.iter().enumerate() {
        checked(text, [20, 60, 100][number % 3]);
    }
}

/// Random queries, their blanks drawn anew, with comments between their words.
#[test]
fn random_queries_are_laid_out_once() {
    lay_out_random(0..trials(300));
}

/// As many as are wished for, on demand (see `CONTRIBUTING.md`).
#[test]
#[ignore = "runs for minutes"]
fn many_random_queries_are_laid_out_once() {
    lay_out_random(crate::whole::queries::seeds_wanted());
}

fn lay_out_random(seeds: std::ops::Range<u64>) {
    for seed in seeds {
        let mut draw = Draw::new(seed);
        let sql = crate::whole::random_text(&mut draw);
        let commented: Vec<String> = sql
            .split(' ')
            .map(|word| match draw.below(40) {
                0 => format!("{word} -- {seed}\n"),
                1 => format!("{word}\n/* {seed} */ "),
                2 => format!("{word} /* {seed} */ "),
                3 => format!("{word}\n"),
                _ => format!("{word} "),
            })
            .collect();
        // A comment inside a text is none, and both are the same text then.
        for text in [sql.clone(), commented.concat()] {
            checked(&text, 20 + draw.below(100));
        }
    }
}
