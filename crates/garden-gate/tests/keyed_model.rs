//! Random changes of two tables tied by a foreign key, against a model in plain maps: every referential action, deferred or not,
//! a unique index on an expression, a generated column, transactions.

use crate::random_queries::{Draw, trials};
use crate::story::{check, told};
use garden_gate::Database;
use std::collections::BTreeMap;

/// Beds by their ids, with codes; tasks by theirs, with the bed they refer to.
#[derive(Clone, Debug, Default, PartialEq)]
struct Model {
    beds: BTreeMap<i64, Option<i64>>,
    tasks: BTreeMap<i64, Option<i64>>,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Action {
    Refuse,
    Deferred,
    Cascade,
    SetNull,
}

impl Model {
    /// Whether another bed has the code, sign aside.
    fn has_code(&self, code: i64, but: i64) -> bool {
        self.beds.iter().any(|(id, known)| *id != but && known.is_some_and(|known| known.abs() == code.abs()))
    }

    fn is_whole(&self) -> bool {
        self.tasks.values().flatten().all(|bed| self.beds.contains_key(bed))
    }

    fn shown(&self) -> String {
        let number = |value: &Option<i64>| value.map_or("NULL".to_owned(), |value| value.to_string());
        let beds = self.beds.iter().map(|(id, code)| format!("bed|{id}|{}|{}", number(code), id * 2));
        let tasks = self.tasks.iter().map(|(id, bed)| format!("task|{id}|{}|NULL", number(bed)));
        format!("={}", beds.chain(tasks).collect::<Vec<_>>().join("; "))
    }

    /// A bed goes, or gets another id: what becomes of its tasks; `None` when that is refused.
    fn follow(&mut self, action: Action, open: bool, old: i64, new: Option<i64>) -> Option<()> {
        let referred = self.tasks.values().any(|bed| *bed == Some(old));
        match action {
            Action::Refuse if referred => return None,
            Action::Deferred if referred && !open => return None,
            Action::Refuse | Action::Deferred => {}
            Action::Cascade => match new {
                Some(_) => self.tasks.values_mut().filter(|bed| **bed == Some(old)).for_each(|bed| *bed = new),
                None => self.tasks.retain(|_, bed| *bed != Some(old)),
            },
            Action::SetNull => self.tasks.values_mut().filter(|bed| **bed == Some(old)).for_each(|bed| *bed = None),
        }
        Some(())
    }

    /// A change; the rows it is said to change, or `None` when it is refused.
    fn change(&mut self, draw: &mut Draw, (action, open): (Action, bool)) -> (String, Option<usize>) {
        let mut number = |limit: usize| i64::try_from(draw.below(limit)).unwrap();
        let (kind, id, other, small) = (number(6), number(7), number(7), number(5) - 2);
        let code = if small == 2 { None } else { Some(small) };
        let bed = if other == 6 { None } else { Some(other) };
        let text = |value: Option<i64>| value.map_or("NULL".to_owned(), |value| value.to_string());
        let known = |this: &Self, bed: Option<i64>| {
            bed.is_none_or(|bed| this.beds.contains_key(&bed)) || action == Action::Deferred && open
        };
        match kind {
            0 => {
                let sql = format!("INSERT INTO bed (id, code) VALUES ({id}, {})", text(code));
                let fits = !self.beds.contains_key(&id) && !code.is_some_and(|code| self.has_code(code, id));
                (sql, fits.then(|| self.beds.insert(id, code)).map(|_| 1))
            }
            1 => {
                let sql = format!("DELETE FROM bed WHERE id = {id}");
                if self.beds.remove(&id).is_none() {
                    return (sql, Some(0));
                }
                (sql, self.follow(action, open, id, None).map(|()| 1))
            }
            2 => {
                let sql = format!("UPDATE bed SET id = {other} WHERE id = {id}");
                let Some(code) = self.beds.get(&id).copied() else { return (sql, Some(0)) };
                if id == other {
                    return (sql, Some(1));
                }
                if self.beds.contains_key(&other) {
                    return (sql, None);
                }
                self.beds.remove(&id);
                self.beds.insert(other, code);
                (sql, self.follow(action, open, id, Some(other)).map(|()| 1))
            }
            3 => {
                let sql = format!("UPDATE bed SET code = {} WHERE id = {id}", text(code));
                let count = usize::from(self.beds.contains_key(&id));
                if count == 1 && code.is_some_and(|code| self.has_code(code, id)) {
                    return (sql, None);
                }
                self.beds.entry(id).and_modify(|known| *known = code);
                (sql, Some(count))
            }
            4 => {
                let sql = format!("INSERT INTO task VALUES ({id}, {})", text(bed));
                let fits = !self.tasks.contains_key(&id) && known(self, bed);
                (sql, fits.then(|| self.tasks.insert(id, bed)).map(|_| 1))
            }
            _ => {
                let sql = format!("UPDATE task SET bed = {} WHERE id = {id}", text(bed));
                let count = usize::from(self.tasks.contains_key(&id));
                if count == 1 && !known(self, bed) {
                    return (sql, None);
                }
                self.tasks.entry(id).and_modify(|known| *known = bed);
                (sql, Some(count))
            }
        }
    }
}

fn run(seed: u64, action: Action) {
    let mut draw = Draw::new(seed);
    let mut session = Database::in_memory().session();
    let words = match action {
        Action::Refuse => "",
        Action::Deferred => "INITIALLY DEFERRED",
        Action::Cascade => "ON DELETE CASCADE ON UPDATE CASCADE",
        Action::SetNull => "ON DELETE SET NULL ON UPDATE SET NULL",
    };
    for sql in [
        "CREATE TABLE bed (id INTEGER PRIMARY KEY, code INTEGER, twice INTEGER GENERATED ALWAYS AS (id * 2))",
        "CREATE UNIQUE INDEX code_of_bed ON bed (ABS(code))",
        &format!("CREATE TABLE task (id INTEGER PRIMARY KEY, bed INTEGER REFERENCES bed (id) {words})"),
    ] {
        check(&mut session, (sql, ""));
    }
    let all =
        "SELECT 'bed' AS t, id, code, twice FROM bed UNION ALL SELECT 'task', id, bed, NULL FROM task ORDER BY t, id";
    let (mut kept, mut open): (Model, Option<Model>) = (Model::default(), None);
    for step in 0..150 {
        let (sql, expected) = match draw.below(12) {
            0 if open.is_none() => {
                open = Some(kept.clone());
                ("START TRANSACTION".to_owned(), String::new())
            }
            0 | 1 if open.is_some() => {
                let work = open.take().unwrap();
                let whole = work.is_whole();
                if whole {
                    kept = work;
                }
                ("COMMIT".to_owned(), if whole { "" } else { "!40002" }.to_owned())
            }
            2 if open.take().is_some() => ("ROLLBACK".to_owned(), String::new()),
            _ => {
                let mut work = open.clone().unwrap_or_else(|| kept.clone());
                let (sql, changed) = work.change(&mut draw, (action, open.is_some()));
                if changed.is_some() {
                    match &mut open {
                        Some(open) => *open = work,
                        None => kept = work,
                    }
                }
                (sql, changed.map_or("!23000".to_owned(), |rows| rows.to_string()))
            }
        };
        let found = told(&mut session, &sql);
        let fits = if expected.starts_with('!') { found.starts_with(&expected) } else { found == expected };
        assert!(fits, "seed {seed}, {action:?}, step {step}: {sql}\nexpected {expected}\nfound    {found}");
        let model = open.as_ref().unwrap_or(&kept);
        assert_eq!(told(&mut session, all), model.shown(), "seed {seed}, {action:?}, step {step}: after {sql}");
    }
}

#[test]
fn tied_tables_agree_with_a_model() {
    for action in [Action::Refuse, Action::Deferred, Action::Cascade, Action::SetNull] {
        (0..trials(25)).for_each(|seed| run(seed, action));
    }
}
