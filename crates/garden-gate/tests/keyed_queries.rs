//! Random queries over tables with keys, foreign keys and NULLs, in the forms that rewrite rules look for: joins that may be needless, DISTINCT
//! over keys, orders, limits, conditions that follow from each other. Each gives the same rows with all rules, and with all of them omitted.

use crate::random_queries::Draw;
use crate::support::show;
use garden_gate::{Database, Session, plan::RewriteRule};

/// Queries of a run; `GARDEN_GATE_ROUNDS` in the environment is another number of them.
const QUERIES: u64 = 400;
/// Beds, tasks of beds (some of none), notes on tasks (one each at most), labels whose bed is unique or NULL.
fn garden(draw: &mut Draw) -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE bed (id INTEGER PRIMARY KEY, sun INTEGER, size INTEGER NOT NULL);
             CREATE TABLE task (id INTEGER PRIMARY KEY, bed INTEGER REFERENCES bed, hours INTEGER);
             CREATE TABLE note (id INTEGER PRIMARY KEY, task INTEGER NOT NULL UNIQUE REFERENCES task, word INTEGER);
             CREATE TABLE label (id INTEGER PRIMARY KEY, bed INTEGER UNIQUE, word INTEGER)",
        )
        .unwrap();
    let number = |draw: &mut Draw, most: usize| match draw.below(4) {
        0 => "NULL".to_owned(),
        _ => draw.below(most).to_string(),
    };
    // Now and then a table is empty, or has one row.
    let (beds, tasks) = ([0, 1, 1, 2, 3, 4, 6][draw.below(7)], draw.below(9));
    let tasks = if beds == 0 { 0 } else { tasks };
    for id in 0..beds {
        let sun = number(draw, 3);
        session.run(format!("INSERT INTO bed VALUES ({id}, {sun}, {})", draw.below(4))).unwrap();
    }
    for id in 0..tasks {
        let (bed, hours) = (number(draw, beds), number(draw, 4));
        session.run(format!("INSERT INTO task VALUES ({id}, {bed}, {hours})")).unwrap();
        if draw.below(2) == 0 {
            let word = number(draw, 3);
            session.run(format!("INSERT INTO note VALUES ({}, {id}, {word})", id + 10)).unwrap();
        }
    }
    for id in 0..draw.below(5) {
        let (bed, word) = (if id % 2 == 0 { "NULL".into() } else { id.to_string() }, number(draw, 3));
        session.run(format!("INSERT INTO label VALUES ({id}, {bed}, {word})")).unwrap();
    }
    session
}

/// Tables by the letters they are called by, and their columns.
const TABLES: [(&str, &str, [&str; 3]); 4] = [
    ("bed", "b", ["id", "sun", "size"]),
    ("task", "t", ["id", "bed", "hours"]),
    ("note", "n", ["id", "task", "word"]),
    ("label", "l", ["id", "bed", "word"]),
];

/// Pairs of columns that people join by; the last ones are no keys.
const LINKS: [(&str, &str); 8] = [
    ("t.bed", "b.id"),
    ("n.task", "t.id"),
    ("l.bed", "b.id"),
    ("l.bed", "t.bed"),
    ("n.task", "b.id"),
    ("l.word", "n.word"),
    ("t.hours", "b.size"),
    ("l.id", "t.id"),
];

fn column(draw: &mut Draw, tables: &[usize]) -> String {
    let (_, letter, columns) = TABLES[tables[draw.below(tables.len())]];
    format!("{letter}.{}", columns[draw.below(3)])
}

fn condition(draw: &mut Draw, tables: &[usize], depth: usize) -> String {
    let column = column(draw, tables);
    let value = draw.below(5);
    match draw.below(if depth > 0 { 11 } else { 7 }) {
        0 => format!("{column} = {value}"),
        1 => format!("{column} > {value}"),
        2 => format!("{column} <= {value}"),
        3 => format!("{column} IN ({value}, {})", value + 2),
        4 => format!("{column} IS NOT NULL"),
        5 => format!("{column} <> {value}"),
        6 => format!("({column} = {value} OR {column} = {})", value + 1),
        7 => format!("({} AND {})", condition(draw, tables, 0), condition(draw, tables, 0)),
        8 => {
            let word = if draw.below(2) == 0 { "NOT IN" } else { "IN" };
            format!("{column} {word} (SELECT x.bed FROM task AS x WHERE x.hours > {value})")
        }
        9 => {
            let op = ["<", "<=", ">", ">=", "=", "<>"][draw.below(6)];
            let all = ["ANY", "ALL"][draw.below(2)];
            let not = ["", "NOT "][draw.below(2)];
            format!("{not}({column}, {value}) {op} {all} (SELECT x.bed, x.hours FROM task AS x WHERE x.id > {value})")
        }
        _ => format!("EXISTS (SELECT * FROM task AS x WHERE x.bed = {column} AND x.id > {value})"),
    }
}

/// FROM with joins by the links between the tables, outer ones among them.
fn from(draw: &mut Draw) -> (String, Vec<usize>) {
    let mut tables = vec![draw.below(TABLES.len())];
    let mut text = format!("{} AS {}", TABLES[tables[0]].0, TABLES[tables[0]].1);
    for _ in 0..draw.below(3) {
        let next = draw.below(TABLES.len());
        if tables.contains(&next) {
            continue;
        }
        let (table, letter, _) = TABLES[next];
        let touches = |link: &&(&str, &str)| {
            let of = |side: &str| TABLES.iter().position(|(_, letter, _)| side.starts_with(letter)).unwrap();
            let (a, b) = (of(link.0), of(link.1));
            a == next && tables.contains(&b) || b == next && tables.contains(&a)
        };
        let links: Vec<_> = LINKS.iter().filter(touches).collect();
        if links.is_empty() {
            continue;
        }
        let (a, b) = links[draw.below(links.len())];
        let kind = ["JOIN", "LEFT JOIN", "LEFT JOIN", "JOIN", "FULL JOIN", "RIGHT JOIN"][draw.below(6)];
        text = format!("{text} {kind} {table} AS {letter} ON {a} = {b}");
        if draw.below(4) == 0 {
            text = format!("{text} AND {}", condition(draw, &[next], 0));
        }
        tables.push(next);
    }
    (text, tables)
}

fn query(draw: &mut Draw) -> String {
    let (from, tables) = from(draw);
    let mut columns: Vec<String> = (0..=draw.below(3)).map(|_| column(draw, &tables)).collect();
    if draw.below(3) == 0 {
        let column = &columns[0];
        columns.push(format!("({column} + 1) * 2"));
        columns.push(format!("({}  + 1) * 2 - 3", columns[0]));
    }
    let list: Vec<String> = columns.iter().enumerate().map(|(at, column)| format!("{column} AS c{at}")).collect();
    let conditions: Vec<String> = (0..draw.below(4)).map(|_| condition(draw, &tables, 1)).collect();
    let filter = if conditions.is_empty() { String::new() } else { format!(" WHERE {}", conditions.join(" AND ")) };
    let order: Vec<String> = (1..=columns.len()).map(|place| place.to_string()).collect();
    let order = order.join(", ");
    match draw.below(8) {
        // An outer join with a row of aggregates for each row, under conditions on either side.
        6 => {
            let on = ["TRUE", "FALSE", "q.n > 0", "q.n = 0", &format!("{} = 1", columns[0])][draw.below(5)].to_owned();
            format!(
                "SELECT {0} AS k, q.n, q.s FROM {from} LEFT JOIN LATERAL (SELECT COUNT(*) AS n, SUM(y.hours) AS s FROM task AS y WHERE y.bed = {0}) AS q ON {on}{filter} ORDER BY 1, 2, 3",
                columns[0]
            )
        }
        // Two copies of a column are two columns to grouping sets.
        7 => {
            let set = ["CUBE (k, m)", "ROLLUP (k, m)", "GROUPING SETS ((k), (m), (k, m))"][draw.below(3)];
            format!(
                "SELECT k, m, COUNT(*), GROUPING(k, m) FROM (SELECT {0} AS k, {0} AS m FROM {from}{filter}) AS x GROUP BY {set} ORDER BY 4, 1, 2",
                columns[0]
            )
        }
        0 => format!("SELECT DISTINCT {} FROM {from}{filter} ORDER BY {order}", list.join(", ")),
        1 => format!("SELECT COUNT(*), SUM({0}), MIN({0} * 2 + 1), MAX({0} * 2 + 1) FROM {from}{filter}", columns[0]),
        2 => {
            format!("SELECT {0} AS k, COUNT(*) FROM {from}{filter} GROUP BY {0} HAVING {0} > 0 ORDER BY 1", columns[0])
        }
        3 => format!(
            "SELECT COUNT(*) FROM (SELECT {} FROM {from}{filter} ORDER BY {order} FETCH FIRST {} ROWS ONLY) AS x",
            list.join(", "),
            1 + draw.below(5)
        ),
        4 => format!(
            "(SELECT {0} FROM {from}{filter} UNION ALL SELECT {0} FROM {from}) ORDER BY {order} OFFSET {1} ROWS FETCH FIRST {2} ROWS ONLY",
            list.join(", "),
            draw.below(3),
            1 + draw.below(6)
        ),
        _ => format!("SELECT {} FROM {from}{filter} ORDER BY {order}", list.join(", ")),
    }
}

/// The rows, or the state of the error.
fn rows(session: &mut Session, sql: &str) -> String {
    match session.query(sql, ()) {
        Ok(rows) => show(&rows),
        Err(error) => format!("{sql}\n{error}"),
    }
}

#[test]
fn rules_that_lean_on_keys_never_change_the_rows() {
    let mut fired = std::collections::HashMap::<&str, u64>::new();
    let all = RewriteRule::ALL.iter().map(|rule| rule.name()).collect::<Vec<_>>().join(", ");
    let rounds = std::env::var("GARDEN_GATE_ROUNDS").ok().and_then(|rounds| rounds.parse().ok());
    for seed in 0..rounds.unwrap_or(QUERIES) {
        let mut draw = Draw::new(seed + 4_000_000);
        let mut session = garden(&mut draw);
        let sql = query(&mut draw);
        let found = rows(&mut session, &sql);
        assert!(!found.contains("error") && !found.contains("SELECT"), "seed {seed}: {found}");
        let plan = session.plan(&sql, ()).unwrap();
        plan.rewrites.iter().for_each(|rewrite| *fired.entry(rewrite.rule.name()).or_default() += 1);
        session.run(format!("SET without_rules = '{all}'")).unwrap();
        assert_eq!(rows(&mut session, &sql), found, "seed {seed}, without rules: {sql}\n{:#?}", plan.rewrites);
        // Each rule that fired is omitted by itself as well.
        for rewrite in &plan.rewrites {
            session.run(format!("SET without_rules = '{}'", rewrite.rule)).unwrap();
            assert_eq!(rows(&mut session, &sql), found, "seed {seed}, without {}: {sql}", rewrite.rule);
        }
    }
    // The queries are such that the rules have something to do.
    for (rule, least) in [
        ("infer predicates", 20),
        ("eliminate join", 10),
        ("eliminate distinct", 3),
        ("eliminate sort", 3),
        ("simplify predicates", 20),
        ("limit pushdown", 10),
        ("common subexpression elimination", 20),
        ("outer to inner join", 20),
    ] {
        let count = fired.get(rule).copied().unwrap_or(0);
        assert!(count >= least, "{rule} fired {count} times only: {fired:?}");
    }
}

#[test]
fn what_the_reference_says_of_rules_and_settings_is_whole() {
    let page = |name: &str| {
        std::fs::read_to_string(std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name)).unwrap()
    };
    let (plans, sql) = (page("plans.md"), page("sql.md"));
    for rule in RewriteRule::ALL {
        assert!(plans.contains(&format!("`{rule}`")), "{rule} is not in plans.md");
        let mut session = Database::in_memory().session();
        session.run(format!("SET without_rules = '{rule}'")).unwrap();
    }
    let mut session = Database::in_memory().session();
    let settings = session.run("SHOW SETTINGS").unwrap().pop().and_then(garden_gate::Outcome::rows).unwrap();
    for row in settings.rows() {
        let name = row.value(0).to_string();
        assert!(sql.contains(&format!("`{name}`")), "{name} is not in sql.md");
        // Every setting takes the value that it shows.
        let value = row.value(1).to_string();
        session.run(format!("SET {name} = '{value}'")).unwrap();
    }
    for (name, value) in [("keep_statistics", "maybe"), ("style_notes", "1"), ("without_rules", "drop everything")] {
        let error = session.run(format!("SET {name} = '{value}'")).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), "HY024", "{name}: {error}");
    }
}
