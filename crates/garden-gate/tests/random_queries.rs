//! Random queries over random tables full of NULLs and ties, against the reference; and ternary-logic partitioning, which needs none:
//! a query is the union of its TRUE, FALSE and UNKNOWN parts.

use crate::reference::{Cell, Condition, Number, aggregates, groups};
use crate::support::{show, text};
use garden_gate::{Column, Database, Session, SqlType, Value};

const TEXTS: &[&str] = &["fern", "moss", "fir", "", "f%n"];
const PATTERNS: &[&str] = &["f%", "%n", "_i_", "%", "m_ss", "%r%"];
const OPS: &[&str] = &["=", "<>", "<", "<=", ">", ">="];
/// Rounds of random tables; each has several queries of every kind.
const ROUNDS: u64 = 120;

/// How many random cases are tried: a third of them in a build without optimisation, where each takes ten times as long.
pub(crate) fn trials(usual: u64) -> u64 {
    if cfg!(debug_assertions) { usual.div_ceil(3) } else { usual }
}

/// Draws whatever a test needs from a seed (Steele et al., OOPSLA 2014).
#[derive(Clone)]
pub(crate) struct Draw(u64);

impl Draw {
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed)
    }

    pub(crate) fn below(&mut self, limit: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut bits = self.0;
        bits = (bits ^ (bits >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        bits = (bits ^ (bits >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        usize::try_from((bits ^ (bits >> 31)) >> 33).unwrap() % limit
    }

    pub(crate) fn coin(&mut self) -> bool {
        self.below(2) == 0
    }

    pub(crate) fn pick<'a, T>(&mut self, items: &'a [T]) -> &'a T {
        &items[self.below(items.len())]
    }

    pub(crate) fn word(&mut self, words: &[&'static str]) -> &'static str {
        words[self.below(words.len())]
    }

    pub(crate) fn small(&mut self) -> Option<i64> {
        (self.below(5) > 0).then(|| i64::try_from(self.below(7)).unwrap() - 2)
    }

    fn cell(&mut self, column: usize) -> Cell {
        if column == 2 {
            return if self.below(4) == 0 { Cell::Null } else { Cell::Text(self.word(TEXTS)) };
        }
        self.small().map_or(Cell::Null, Cell::Number)
    }
}

/// A table of three columns: two numbers and a text.
struct Table {
    rows: Vec<Vec<Cell>>,
}

impl Table {
    fn draw(draw: &mut Draw, most: usize) -> Self {
        let count = draw.below(most + 1);
        Self { rows: (0..count).map(|_| (0..3).map(|column| draw.cell(column)).collect()).collect() }
    }

    fn add_to(&self, db: &Database, name: &str) {
        let columns = [Column::new("a", SqlType::BigInt), Column::new("b", SqlType::Integer), Column::new("c", text())];
        let value = |cell: &Cell| match cell {
            Cell::Null => Value::Null,
            Cell::Number(number) => Value::Integer(*number),
            Cell::Text(text) => Value::Text((*text).into()),
        };
        let rows: Vec<Vec<Value>> = self.rows.iter().map(|row| row.iter().map(value).collect()).collect();
        db.add_rows(name, &columns, &rows).unwrap();
    }
}

/// Expressions over the columns of one or two tables, whose names they carry.
struct Terms<'d> {
    draw: &'d mut Draw,
    /// Correlation names of the tables, three columns each.
    tables: &'d [&'d str],
}

impl Terms<'_> {
    fn name(&self, at: usize) -> String {
        format!("{}.{}", self.tables[at / 3], ["a", "b", "c"][at % 3])
    }

    fn number(&mut self, depth: usize) -> Number {
        if depth == 0 || self.draw.below(3) == 0 {
            if self.draw.below(3) == 0 {
                return Number::Constant(self.draw.small());
            }
            let at = self.draw.below(self.tables.len()) * 3 + self.draw.below(2);
            return Number::Column(at, self.name(at));
        }
        let (a, b) = (Box::new(self.number(depth - 1)), Box::new(self.number(depth - 1)));
        match self.draw.below(6) {
            0 => Number::Add(a, b),
            1 => Number::Subtract(a, b),
            2 => Number::Multiply(a, b),
            3 => Number::NullIf(a, b),
            4 => Number::Coalesce(a, b),
            _ => Number::Case(Box::new(self.condition(depth - 1)), a, self.draw.coin().then_some(b)),
        }
    }

    fn condition(&mut self, depth: usize) -> Condition {
        if depth > 0 && self.draw.below(5) < 3 {
            let terms = |terms: &mut Self| (0..2 + terms.draw.below(2)).map(|_| terms.condition(depth - 1)).collect();
            return match self.draw.below(4) {
                0 => Condition::And(terms(self)),
                1 => Condition::Or(terms(self)),
                2 => Condition::Not(Box::new(self.condition(depth - 1))),
                _ => {
                    let wanted = *self.draw.pick(&[Some(true), Some(false), None]);
                    Condition::Is(Box::new(self.condition(depth - 1)), wanted, self.draw.coin())
                }
            };
        }
        let text_at = self.draw.below(self.tables.len()) * 3 + 2;
        let negated = self.draw.coin();
        match self.draw.below(7) {
            0 => Condition::Compare(self.draw.word(OPS), self.number(depth), self.number(depth)),
            1 => Condition::Texts(self.draw.word(OPS), text_at, self.name(text_at), self.draw.word(TEXTS)),
            2 => Condition::Between(self.number(depth), self.number(0), self.number(0), negated),
            3 => {
                let items = 1 + self.draw.below(8);
                Condition::In(
                    self.number(depth),
                    (0..items).map(|_| Number::Constant(self.draw.small())).collect(),
                    negated,
                )
            }
            4 => Condition::IsNull(self.number(depth), negated),
            5 => Condition::Distinct(self.number(depth), self.number(depth), negated),
            _ => Condition::Like(text_at, self.name(text_at), self.draw.word(PATTERNS), negated),
        }
    }
}

/// A session with settings that shake out what depends on batches and workers.
fn session(db: &Database, draw: &mut Draw) -> Session {
    let mut session = db.session();
    session.set("workers", *draw.pick(&[1, 1, 2])).unwrap();
    session.set("batch_rows", *draw.pick(&[1, 2, 3, 7, 8192])).unwrap();
    session
}

fn ask(session: &mut Session, sql: &str, seed: u64) -> String {
    session.query(sql, ()).map(|rows| show(&rows)).unwrap_or_else(|error| panic!("seed {seed}: {sql}\n{error}"))
}

fn line(cells: impl IntoIterator<Item = Cell>) -> String {
    cells.into_iter().map(|cell| cell.to_string()).collect::<Vec<_>>().join("|")
}

fn sorted(rows: &str) -> Vec<String> {
    let mut rows: Vec<String> =
        if rows.is_empty() { Vec::new() } else { rows.split("; ").map(str::to_owned).collect() };
    rows.sort();
    rows
}

#[test]
fn filters_and_expressions_agree_with_the_reference() {
    for seed in 0..ROUNDS {
        let mut draw = Draw(seed);
        let table = Table::draw(&mut draw, 30);
        let db = Database::in_memory();
        table.add_to(&db, "t");
        let mut session = session(&db, &mut draw);
        for _ in 0..8 {
            let mut terms = Terms { draw: &mut draw, tables: &["t"] };
            let (condition, number) = (terms.condition(3), terms.number(3));
            let kept = table.rows.iter().filter(|row| condition.truth(row) == Some(true));
            let expected: Vec<String> = kept
                .map(|row| line([row[0].clone(), row[2].clone(), number.value(row).map_or(Cell::Null, Cell::Number)]))
                .collect();
            let sql = format!("SELECT a, c, {number} FROM t WHERE {condition}");
            assert_eq!(ask(&mut session, &sql, seed), expected.join("; "), "seed {seed}: {sql}");
            let truth =
                |row: &Vec<Cell>| condition.truth(row).map_or("NULL", |truth| if truth { "TRUE" } else { "FALSE" });
            let expected: Vec<&str> = table.rows.iter().map(truth).collect();
            let sql = format!("SELECT {condition} FROM t");
            assert_eq!(ask(&mut session, &sql, seed), expected.join("; "), "seed {seed}: {sql}");
        }
    }
}

#[test]
fn a_query_is_the_union_of_its_true_false_and_unknown_parts() {
    for seed in 1_000..1_000 + ROUNDS {
        let mut draw = Draw(seed);
        let (left, right) = (Table::draw(&mut draw, 12), Table::draw(&mut draw, 12));
        let db = Database::in_memory();
        left.add_to(&db, "t");
        right.add_to(&db, "u");
        let mut session = session(&db, &mut draw);
        let condition = Terms { draw: &mut draw, tables: &["t", "u"] }.condition(2);
        let all = sorted(&ask(&mut session, "SELECT t.a, t.c, u.b FROM t, u", seed));
        let mut parts = Vec::new();
        for part in [format!("{condition}"), format!("NOT ({condition})"), format!("({condition}) IS UNKNOWN")] {
            parts.extend(sorted(&ask(&mut session, &format!("SELECT t.a, t.c, u.b FROM t, u WHERE {part}"), seed)));
        }
        parts.sort();
        assert_eq!(parts, all, "seed {seed}: {condition}");
    }
}

#[test]
fn joins_agree_with_the_reference() {
    for seed in 2_000..2_000 + ROUNDS {
        let mut draw = Draw(seed);
        let (left, right) = (Table::draw(&mut draw, 15), Table::draw(&mut draw, 15));
        let db = Database::in_memory();
        left.add_to(&db, "t");
        right.add_to(&db, "u");
        let mut session = session(&db, &mut draw);
        for _ in 0..4 {
            let mut conditions = Vec::new();
            for (at, name) in [(0, "a"), (1, "b")] {
                if draw.coin() {
                    let side = |table: &str, at: usize| Number::Column(at, format!("{table}.{name}"));
                    conditions.push(Condition::Compare("=", side("t", at), side("u", at + 3)));
                }
            }
            let mut terms = Terms { draw: &mut draw, tables: &["t", "u"] };
            conditions.push(terms.condition(1));
            let on = Condition::And(conditions);
            let filter = terms.condition(1);
            let mut expected = Vec::new();
            for a in &left.rows {
                for b in &right.rows {
                    let row: Vec<Cell> = a.iter().chain(b).cloned().collect();
                    if on.truth(&row) == Some(true) && filter.truth(&row) == Some(true) {
                        expected.push(line(row));
                    }
                }
            }
            expected.sort();
            let sql = format!("SELECT * FROM t JOIN u ON {on} WHERE {filter}");
            assert_eq!(sorted(&ask(&mut session, &sql, seed)), expected, "seed {seed}: {sql}");
        }
    }
}

#[test]
fn groups_agree_with_the_reference() {
    for seed in 3_000..3_000 + ROUNDS {
        let mut draw = Draw(seed);
        let table = Table::draw(&mut draw, 40);
        let db = Database::in_memory();
        table.add_to(&db, "t");
        let mut session = session(&db, &mut draw);
        for keys in [vec![], vec![0], vec![2], vec![1, 2], vec![0, 1, 2]] {
            let mut terms = Terms { draw: &mut draw, tables: &["t"] };
            let (condition, number) = (terms.condition(1), terms.number(1));
            let kept: Vec<&[Cell]> =
                table.rows.iter().map(Vec::as_slice).filter(|row| condition.truth(row) == Some(true)).collect();
            let mut found = groups(&kept, &keys);
            if keys.is_empty() && found.is_empty() {
                found.push((Vec::new(), Vec::new()));
            }
            let expected: Vec<String> = found
                .iter()
                .map(|(key, members)| {
                    let values: Vec<Option<i64>> = members.iter().map(|row| number.value(row)).collect();
                    let key: Vec<String> = key.iter().map(ToString::to_string).collect();
                    let all = [key, vec![members.len().to_string(), aggregates(&values)]].concat();
                    all.join("|")
                })
                .collect();
            let names: Vec<&str> = keys.iter().map(|at| ["a", "b", "c"][*at]).collect();
            let select = if names.is_empty() { String::new() } else { format!("{}, ", names.join(", ")) };
            let group = if names.is_empty() { String::new() } else { format!(" GROUP BY {}", names.join(", ")) };
            let sql = format!(
                "SELECT {select}COUNT(*), COUNT({number}), COUNT(DISTINCT {number}), SUM({number}), MIN({number}), MAX({number}), AVG({number}) FROM t WHERE {condition}{group}"
            );
            assert_eq!(ask(&mut session, &sql, seed), expected.join("; "), "seed {seed}: {sql}");
        }
    }
}

#[test]
fn orders_agree_with_the_reference() {
    for seed in 4_000..4_000 + ROUNDS {
        let mut draw = Draw(seed);
        let table = Table::draw(&mut draw, 40);
        let db = Database::in_memory();
        table.add_to(&db, "t");
        let mut session = session(&db, &mut draw);
        let (column, descending, nulls_first) = (draw.below(3), draw.coin(), draw.coin());
        let (offset, fetch) = (draw.below(10), draw.below(30));
        let mut rows = table.rows.clone();
        // A stable sort: ties keep the order of the table, as ours do.
        rows.sort_by(|a, b| {
            let (a, b) = (&a[column], &b[column]);
            let null = |cell: &Cell| *cell == Cell::Null;
            match (null(a), null(b)) {
                (true, true) => std::cmp::Ordering::Equal,
                (true, false) => {
                    if nulls_first {
                        std::cmp::Ordering::Less
                    } else {
                        std::cmp::Ordering::Greater
                    }
                }
                (false, true) => {
                    if nulls_first {
                        std::cmp::Ordering::Greater
                    } else {
                        std::cmp::Ordering::Less
                    }
                }
                (false, false) => {
                    if descending {
                        b.cmp(a)
                    } else {
                        a.cmp(b)
                    }
                }
            }
        });
        let by = format!(
            "{}{}{}",
            ["a", "b", "c"][column],
            if descending { " DESC" } else { "" },
            if nulls_first { " NULLS FIRST" } else { "" }
        );
        let expected: Vec<String> = rows.iter().map(|row| line(row.clone())).collect();
        assert_eq!(
            ask(&mut session, &format!("SELECT * FROM t ORDER BY {by}"), seed),
            expected.join("; "),
            "seed {seed} by {by}"
        );
        let window: Vec<String> = expected.into_iter().skip(offset).take(fetch).collect();
        let sql = format!("SELECT * FROM t ORDER BY {by} OFFSET {offset} ROWS FETCH FIRST {fetch} ROWS ONLY");
        assert_eq!(ask(&mut session, &sql, seed), window.join("; "), "seed {seed}: {sql}");
    }
}

#[test]
fn a_plan_shows_conditions_that_mean_the_same_when_read_again() {
    for seed in 5_000..5_000 + ROUNDS {
        let mut draw = Draw(seed);
        let table = Table::draw(&mut draw, 20);
        let db = Database::in_memory();
        table.add_to(&db, "t");
        let mut session = session(&db, &mut draw);
        let condition = Terms { draw: &mut draw, tables: &["t"] }.condition(3);
        let sql = format!("SELECT a, b, c FROM t WHERE {condition}");
        let plan = session.plan(&sql, ()).unwrap();
        let shown: Vec<&str> =
            plan.nodes().iter().flat_map(|node| &node.predicates).map(|predicate| predicate.text.as_str()).collect();
        if plan.root.operator.name() == "values" || shown.is_empty() {
            continue;
        }
        let terms: Vec<String> = shown.iter().map(|term| format!("({term})")).collect();
        let again = format!("SELECT a, b, c FROM t WHERE {}", terms.join(" AND "));
        let expected = ask(&mut session, &sql, seed);
        assert_eq!(ask(&mut session, &again, seed), expected, "seed {seed}: {sql}\nread again: {again}");
        // A NULL is shown without the type it has been given; all else reads back as it was shown.
        if shown.iter().any(|term| term.contains("NULL")) {
            continue;
        }
        let second = session.plan(&again, ()).unwrap();
        let reread: Vec<&str> =
            second.nodes().iter().flat_map(|node| &node.predicates).map(|predicate| predicate.text.as_str()).collect();
        assert_eq!(reread, shown, "seed {seed}: what is shown is stable");
    }
}
