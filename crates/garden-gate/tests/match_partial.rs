//! MATCH PARTIAL of foreign keys (clause 11.8): cases computed by hand, and random changes against a model of plain sets.

use crate::random_queries::{Draw, trials};
use crate::story::{check, tell, told};
use garden_gate::Database;
use std::collections::BTreeMap;

const PARENT: (&str, &str) = ("CREATE TABLE p (a INTEGER, b INTEGER, PRIMARY KEY (a, b))", "");
const PARENTS: (&str, &str) = ("INSERT INTO p VALUES (1, 1), (1, 2), (2, 1)", "3");

#[test]
fn a_row_refers_by_the_columns_that_it_gives() {
    tell(&[
        PARENT,
        PARENTS,
        (
            "CREATE TABLE c (id INTEGER, a BIGINT, b INTEGER, CONSTRAINT r FOREIGN KEY (a, b) REFERENCES p MATCH PARTIAL)",
            "",
        ),
        ("INSERT INTO c VALUES (1, 1, 2), (2, 1, NULL), (3, NULL, 2), (4, NULL, NULL)", "4"),
        ("INSERT INTO c VALUES (5, 3, NULL)", "!23000 breaks r: a = 3, b = NULL is not in table \"p\""),
        ("INSERT INTO c VALUES (5, NULL, 3)", "!23000 breaks r"),
        ("INSERT INTO c VALUES (5, 2, 2)", "!23000 breaks r"),
        // A number that the other type does not hold is not a missing one.
        ("INSERT INTO c VALUES (5, 3000000000, NULL)", "!23000 breaks r"),
        ("UPDATE c SET a = 2 WHERE id = 1", "!23000 breaks r"),
        ("DELETE FROM p WHERE b = 2", "!23000"),
        ("DELETE FROM p WHERE a = 2", "1"),
        ("SELECT match_option FROM INFORMATION_SCHEMA.REFERENTIAL_CONSTRAINTS", "=PARTIAL"),
    ]);
}

#[test]
fn actions_reach_rows_that_match_no_other() {
    let all = "SELECT id, a, b FROM c ORDER BY id";
    let before = "=1|1|2; 2|1|NULL; 3|NULL|2; 4|NULL|1; 5|NULL|NULL";
    for (action, statement, outcome, after) in [
        ("ON DELETE CASCADE", "DELETE FROM p WHERE b = 2", "1", "=2|1|NULL; 4|NULL|1; 5|NULL|NULL"),
        ("ON DELETE CASCADE", "DELETE FROM p WHERE a = 1", "2", "=4|NULL|1; 5|NULL|NULL"),
        ("ON DELETE CASCADE", "DELETE FROM p", "3", "=5|NULL|NULL"),
        (
            "ON DELETE SET NULL",
            "DELETE FROM p WHERE a = 1",
            "2",
            "=1|NULL|NULL; 2|NULL|NULL; 3|NULL|NULL; 4|NULL|1; 5|NULL|NULL",
        ),
        ("ON DELETE RESTRICT", "DELETE FROM p WHERE a = 2", "1", before),
        ("ON DELETE RESTRICT", "DELETE FROM p WHERE b = 2", "!23001", before),
        // Columns that are NULL stay so.
        (
            "ON UPDATE CASCADE",
            "UPDATE p SET b = 7 WHERE b = 2",
            "1",
            "=1|1|7; 2|1|NULL; 3|NULL|7; 4|NULL|1; 5|NULL|NULL",
        ),
        ("ON UPDATE CASCADE", "UPDATE p SET a = a + 10", "3", "=1|11|2; 2|11|NULL; 3|NULL|2; 4|NULL|1; 5|NULL|NULL"),
        // The row without a matches (1, 1) and (2, 1), which part.
        ("ON UPDATE CASCADE", "UPDATE p SET b = a + 10 WHERE a = 1", "!2", before),
        ("ON UPDATE CASCADE", "UPDATE p SET b = a + 10 WHERE b = 1", "!27000 get different keys", before),
        (
            "ON UPDATE SET NULL",
            "UPDATE p SET b = 7 WHERE b = 2",
            "1",
            "=1|1|NULL; 2|1|NULL; 3|NULL|NULL; 4|NULL|1; 5|NULL|NULL",
        ),
        ("ON UPDATE RESTRICT", "UPDATE p SET a = 5 WHERE a = 2", "1", before),
        ("", "UPDATE p SET a = 3 - a WHERE b = 1", "2", before),
    ] {
        let made = format!(
            "CREATE TABLE c (id INTEGER, a INTEGER, b INTEGER, FOREIGN KEY (a, b) REFERENCES p MATCH PARTIAL {action})"
        );
        let rows = ("INSERT INTO c VALUES (1, 1, 2), (2, 1, NULL), (3, NULL, 2), (4, NULL, 1), (5, NULL, NULL)", "5");
        tell(&[PARENT, PARENTS, (&made, ""), rows, (statement, outcome), (all, after)]);
    }
}

#[test]
fn set_null_forgets_what_has_changed() {
    for (match_type, after) in [("SIMPLE", "=1|NULL"), ("PARTIAL", "=1|NULL"), ("FULL", "=NULL|NULL")] {
        let made = format!(
            "CREATE TABLE c (a INTEGER, b INTEGER, FOREIGN KEY (a, b) REFERENCES p MATCH {match_type} ON UPDATE SET NULL)"
        );
        tell(&[
            PARENT,
            PARENTS,
            (&made, ""),
            ("INSERT INTO c VALUES (1, 2)", "1"),
            ("UPDATE p SET b = 9 WHERE b = 2", "1"),
            ("SELECT a, b FROM c", after),
        ]);
    }
}

#[test]
fn it_is_kept_in_the_file_and_deferred() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    {
        let mut session = Database::open(&path).unwrap().session();
        check(&mut session, PARENT);
        let made = "CREATE TABLE c (a INTEGER, b INTEGER, FOREIGN KEY (a, b) REFERENCES p MATCH PARTIAL DEFERRABLE INITIALLY DEFERRED)";
        check(&mut session, (made, ""));
    }
    let mut session = Database::open(&path).unwrap().session();
    for line in [
        ("START TRANSACTION", ""),
        ("INSERT INTO c VALUES (NULL, 2)", "1"),
        ("COMMIT", "!40002"),
        ("START TRANSACTION", ""),
        ("INSERT INTO c VALUES (NULL, 2)", "1"),
        ("INSERT INTO p VALUES (5, 2)", "1"),
        ("COMMIT", ""),
        (
            "CREATE TABLE d (s DATE, e DATE, PERIOD FOR x (s, e), FOREIGN KEY (s, PERIOD x) REFERENCES p (a, PERIOD x) MATCH PARTIAL)",
            "!42",
        ),
    ] {
        check(&mut session, line);
    }
}

#[test]
fn many_columns_that_are_never_null_are_no_work() {
    let names: Vec<String> = (0..40).map(|at| format!("k{at}")).collect();
    let list = names.join(", ");
    let columns = names.iter().map(|name| format!("{name} INTEGER NOT NULL")).collect::<Vec<_>>().join(", ");
    let ones = vec!["1"; 40].join(", ");
    let made = format!("CREATE TABLE p ({columns}, z INTEGER, UNIQUE ({list}, z))");
    let refers = format!(
        "CREATE TABLE c ({columns}, z INTEGER, FOREIGN KEY ({list}, z) REFERENCES p ({list}, z) MATCH PARTIAL ON DELETE CASCADE)"
    );
    tell(&[
        (&made, ""),
        (&refers, ""),
        (&format!("INSERT INTO p VALUES ({ones}, 1), ({ones}, 2)"), "2"),
        (&format!("INSERT INTO c VALUES ({ones}, NULL), ({ones}, 2)"), "2"),
        ("DELETE FROM p WHERE z = 2", "1"),
        ("SELECT z FROM c", "=NULL"),
        ("DELETE FROM p", "1"),
        ("SELECT z FROM c", "="),
    ]);
}

type Key = (Option<i64>, Option<i64>);

#[derive(Clone, Debug, Default)]
struct Model {
    parents: Vec<(i64, i64)>,
    children: BTreeMap<i64, Key>,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Action {
    Refuse,
    Cascade,
    SetNull,
}

fn matches(child: Key, parent: (i64, i64)) -> bool {
    child != (None, None) && child.0.is_none_or(|a| a == parent.0) && child.1.is_none_or(|b| b == parent.1)
}

impl Model {
    fn is_whole(&self) -> bool {
        let refers = |child: &Key| *child == (None, None) || self.parents.iter().any(|parent| matches(*child, *parent));
        self.children.values().all(refers)
    }

    /// Rows of the parent get other keys, or go; what the state of an error is when that is refused.
    fn change(
        &mut self,
        action: Action,
        becomes: impl Fn((i64, i64)) -> Option<(i64, i64)>,
    ) -> Result<(), &'static str> {
        let (stay, leave): (Vec<_>, Vec<_>) =
            self.parents.iter().partition(|parent| becomes(**parent) == Some(**parent));
        let mut after: Vec<(i64, i64)> =
            stay.iter().copied().chain(leave.iter().filter_map(|parent| becomes(*parent))).collect();
        after.sort_unstable();
        if after.windows(2).any(|pair| pair[0] == pair[1]) {
            return Err("!23000");
        }
        let mut gone = Vec::new();
        for (id, child) in &mut self.children {
            let left: Vec<_> = leave.iter().filter(|parent| matches(*child, **parent)).collect();
            if action == Action::Refuse || left.is_empty() || stay.iter().any(|parent| matches(*child, *parent)) {
                continue;
            }
            let new: Vec<_> = left.iter().map(|parent| becomes(**parent)).collect();
            match (action, new[0]) {
                (Action::Cascade, None) => gone.push(*id),
                (Action::Cascade, Some(first)) => {
                    let same = |new: &Option<(i64, i64)>| {
                        new.is_some_and(|new| {
                            (child.0.is_none() || new.0 == first.0) && (child.1.is_none() || new.1 == first.1)
                        })
                    };
                    if !new.iter().all(same) {
                        return Err("!27000");
                    }
                    *child = (child.0.map(|_| first.0), child.1.map(|_| first.1));
                }
                (_, None) => *child = (None, None),
                (_, Some(new)) => {
                    *child = (child.0.filter(|_| new.0 == left[0].0), child.1.filter(|_| new.1 == left[0].1));
                }
            }
        }
        gone.iter().for_each(|id| {
            self.children.remove(id);
        });
        self.parents = after;
        if self.is_whole() { Ok(()) } else { Err("!23000") }
    }

    fn shown(&self) -> String {
        let text = |value: Option<i64>| value.map_or("NULL".to_owned(), |value| value.to_string());
        let parents = self.parents.iter().map(|(a, b)| format!("p|0|{a}|{b}"));
        let children = self.children.iter().map(|(id, (a, b))| format!("q|{id}|{}|{}", text(*a), text(*b)));
        format!("={}", parents.chain(children).collect::<Vec<_>>().join("; "))
    }
}

fn run(seed: u64, action: Action) {
    let mut draw = Draw::new(seed);
    let words = match action {
        Action::Refuse => "",
        Action::Cascade => "ON DELETE CASCADE ON UPDATE CASCADE",
        Action::SetNull => "ON DELETE SET NULL ON UPDATE SET NULL",
    };
    let mut session = Database::in_memory().session();
    let made = format!(
        "CREATE TABLE c (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER, FOREIGN KEY (a, b) REFERENCES p MATCH PARTIAL {words})"
    );
    check(&mut session, PARENT);
    check(&mut session, (&made, ""));
    let all = "SELECT 'p' AS t, 0 AS id, a, b FROM p UNION ALL SELECT 'q', id, a, b FROM c ORDER BY t, id, a, b";
    let mut model = Model::default();
    for step in 0..80 {
        let mut number = |limit: usize| i64::try_from(draw.below(limit)).unwrap();
        let (kind, id, a, b, shift) = (number(8), number(6), number(4), number(4), number(3));
        let mut work = model.clone();
        let given = |value: i64| (value > 0).then_some(value);
        let text = |value: i64| given(value).map_or("NULL".to_owned(), |value| value.to_string());
        let (sql, done) = match kind {
            0 | 1 => {
                let there = work.parents.contains(&(a, b));
                work.parents.push((a, b));
                work.parents.sort_unstable();
                (format!("INSERT INTO p VALUES ({a}, {b})"), if there { Err("!23000") } else { Ok(()) })
            }
            2 | 3 => {
                let there = work.children.insert(id, (given(a), given(b))).is_some();
                let fits = !there && work.is_whole();
                (
                    format!("INSERT INTO c VALUES ({id}, {}, {})", text(a), text(b)),
                    if fits { Ok(()) } else { Err("!23000") },
                )
            }
            4 => (
                format!("DELETE FROM p WHERE a = {a}"),
                work.change(action, |parent| (parent.0 != a).then_some(parent)),
            ),
            5 => (
                format!("DELETE FROM p WHERE a = {a} AND b = {b}"),
                work.change(action, |parent| (parent != (a, b)).then_some(parent)),
            ),
            6 => (
                format!("UPDATE p SET a = a + {shift} WHERE b = {b}"),
                work.change(action, |(x, y)| Some((if y == b { x + shift } else { x }, y))),
            ),
            _ => (
                format!("UPDATE p SET a = b, b = a WHERE a <> {a}"),
                work.change(action, |(x, y)| Some(if x == a { (x, y) } else { (y, x) })),
            ),
        };
        let found = told(&mut session, &sql);
        let at = format!("seed {seed}, {action:?}, step {step}: {sql}");
        match done {
            Ok(()) => {
                assert!(!found.starts_with('!'), "{at}: {found}\n{}", model.shown());
                model = work;
            }
            Err(state) => {
                assert!(found.starts_with('!'), "{at}: {found} where {state} was expected\n{}", model.shown())
            }
        }
        assert_eq!(told(&mut session, all), model.shown(), "after {at}");
    }
}

#[test]
fn partial_references_agree_with_a_model() {
    for action in [Action::Refuse, Action::Cascade, Action::SetNull] {
        (0..trials(60)).for_each(|seed| run(seed, action));
    }
}
