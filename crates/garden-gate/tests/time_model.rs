//! Random changes of versioned tables and of periods, against plain lists of versions: each is asked for by its definition, row by row.

use crate::random_queries::Draw;
use crate::story::{check, told};
use crate::support::show;
use garden_gate::{Database, Session};
use std::collections::BTreeMap;

/// A version: key, value, the commits at which it began and ended.
type Version = (i64, i64, u64, Option<u64>);

/// What the model knows: every version that there ever was, and the number of the last commit.
#[derive(Clone, Default)]
struct Versions {
    all: Vec<Version>,
    last: u64,
}

impl Versions {
    fn rows(&self, holds: impl Fn(&Version) -> bool) -> Vec<(i64, i64)> {
        let mut rows: Vec<(i64, i64)> = self.all.iter().filter(|version| holds(version)).map(|v| (v.0, v.1)).collect();
        rows.sort_unstable();
        rows
    }

    /// What a transaction has made of the current rows becomes a commit: rows that it touched end, and those that it made begin.
    fn commit(&mut self, work: &Work) {
        self.last += 1;
        for version in self.all.iter_mut().filter(|version| version.3.is_none()) {
            if work.ended.contains(&version.0) {
                version.3 = Some(self.last);
            }
        }
        let made = work.rows.iter().filter(|(_, (_, fresh))| *fresh);
        self.all.extend(made.map(|(key, (value, _))| (*key, *value, self.last, None)));
    }
}

/// The current rows as a transaction sees them, each with whether it made it, and the keys of versions that it has ended.
#[derive(Clone, Default)]
struct Work {
    rows: BTreeMap<i64, (i64, bool)>,
    ended: Vec<i64>,
    changed: bool,
    base: u64,
}

impl Work {
    fn of(versions: &Versions, base: u64) -> Self {
        let current = versions.all.iter().filter(|version| version.3.is_none());
        Self { rows: current.map(|v| (v.0, (v.1, false))).collect(), base, ..Self::default() }
    }

    fn end(&mut self, key: i64) {
        if let Some((_, false)) = self.rows.remove(&key) {
            self.ended.push(key);
        }
        self.changed = true;
    }

    fn put(&mut self, key: i64, value: i64) {
        self.end(key);
        self.rows.insert(key, (value, true));
    }

    /// A random change, and how many rows it says it changed.
    fn change(&mut self, draw: &mut Draw) -> (String, usize) {
        let (key, value) = (number(draw, 6), number(draw, 50));
        let at_least: Vec<i64> = self.rows.keys().copied().filter(|known| *known >= key).collect();
        match draw.below(5) {
            0 => {
                at_least.iter().for_each(|key| self.put(*key, value));
                (format!("UPDATE t SET v = {value} WHERE k >= {key}"), at_least.len())
            }
            1 => {
                let found = self.rows.contains_key(&key);
                if found {
                    self.end(key);
                }
                (format!("DELETE FROM t WHERE k = {key}"), usize::from(found))
            }
            2 => {
                // Every key moves: each row is another one then.
                let moved: Vec<(i64, i64)> = self.rows.iter().map(|(key, (value, _))| (key + 1, *value)).collect();
                let all: Vec<i64> = self.rows.keys().copied().collect();
                all.iter().for_each(|key| self.end(*key));
                moved.iter().for_each(|(key, value)| {
                    self.rows.insert(*key, (*value, true));
                });
                ("UPDATE t SET k = k + 1".into(), all.len())
            }
            3 => {
                let found = self.rows.contains_key(&key);
                if !found {
                    self.put(key, value);
                }
                (format!("INSERT INTO t VALUES ({key}, {value}) SKIP DUPLICATES"), usize::from(!found))
            }
            _ => {
                self.put(key, value);
                (format!("INSERT INTO t VALUES ({key}, {value}) REPLACE DUPLICATES"), 1)
            }
        }
    }
}

fn number(draw: &mut Draw, below: usize) -> i64 {
    i64::try_from(draw.below(below)).unwrap()
}

fn text(rows: &[(i64, i64)]) -> String {
    rows.iter().map(|(key, value)| format!("{key}|{value}")).collect::<Vec<_>>().join("; ")
}

/// Asks for random moments and ranges, and for the changes of random commits.
fn ask(session: &mut Session, versions: &Versions, draw: &mut Draw, seed: u64) {
    let mut commit = || 1 + draw.below(usize::try_from(versions.last).unwrap()) as u64;
    let (a, b) = (commit(), commit());
    let ended_after = |version: &Version, moment: u64| version.3.is_none_or(|end| end > moment);
    let between = |a: u64, b: u64| versions.rows(move |v| a <= b && v.2 <= b && ended_after(v, a));
    let questions = [
        (format!("AS OF COMMIT {a}"), versions.rows(|v| v.2 <= a && ended_after(v, a))),
        (format!("BETWEEN COMMIT {a} AND COMMIT {b}"), between(a, b)),
        (format!("BETWEEN SYMMETRIC COMMIT {a} AND COMMIT {b}"), between(a.min(b), a.max(b))),
        (format!("FROM COMMIT {a} TO COMMIT {b}"), versions.rows(|v| a < b && v.2 < b && ended_after(v, a))),
        ("ALL".into(), versions.rows(|_| true)),
    ];
    for (clause, expected) in questions {
        let sql = format!("SELECT k, v FROM t FOR SYSTEM_TIME {clause} ORDER BY k, v");
        let found = show(&session.query(&sql, ()).unwrap());
        assert_eq!(found, text(&expected), "seed {seed}: {sql}");
    }
    let (from, to) = (a.min(b), a.max(b));
    let mut expected: Vec<String> = Vec::new();
    for commit in from..=to {
        let mut of_commit: BTreeMap<i64, [Option<i64>; 2]> = BTreeMap::new();
        for version in &versions.all {
            if version.3 == Some(commit) {
                of_commit.entry(version.0).or_default()[0] = Some(version.1);
            }
            if version.2 == commit {
                of_commit.entry(version.0).or_default()[1] = Some(version.1);
            }
        }
        for (key, [old, new]) in of_commit {
            let kind = match (old, new) {
                (Some(_), Some(_)) => "updated",
                (Some(_), None) => "deleted",
                _ => "inserted",
            };
            let shown = |own: Option<i64>| match own.filter(|_| old != new) {
                Some(value) => value.to_string(),
                None => "NULL".into(),
            };
            expected.push(format!("{commit}|{kind}|{key}|{}|{}", shown(old), shown(new)));
        }
    }
    let sql = format!(
        "SELECT commit_number, change, k, old_v, new_v FROM CHANGES OF t BETWEEN COMMIT {from} AND COMMIT {to} ORDER BY 1, 3"
    );
    assert_eq!(show(&session.query(&sql, ()).unwrap()), expected.join("; "), "seed {seed}: {sql}");
}

/// Interleaved transactions of two sessions; in a file, it is opened anew now and then.
fn run_model(seed: u64) {
    let mut draw = Draw::new(seed);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    let open = |durable: bool| if durable { Database::open(&path).unwrap() } else { Database::in_memory() };
    let durable = seed.is_multiple_of(3);
    let mut db = open(durable);
    let mut sessions = [db.session(), db.session()];
    check(&mut sessions[0], ("CREATE TABLE t (k INTEGER PRIMARY KEY, v INTEGER) WITH SYSTEM VERSIONING", ""));
    let mut versions = Versions { last: 1, ..Versions::default() };
    // How often the table has changed: a transaction that began before another's commit loses.
    let mut changes = 0;
    let mut works: [Option<(Work, Option<Work>)>; 2] = [None, None];
    for _ in 0..60 {
        let who = draw.below(2);
        match draw.below(9) {
            0 if works[who].is_none() => {
                check(&mut sessions[who], ("START TRANSACTION", ""));
                works[who] = Some((Work::of(&versions, changes), None));
            }
            1 | 2 if works[who].is_some() => {
                let (work, _) = works[who].take().unwrap();
                let lost = work.changed && work.base != changes;
                check(&mut sessions[who], ("COMMIT", if lost { "!40001" } else { "" }));
                if work.changed && !lost {
                    versions.commit(&work);
                    changes += 1;
                }
            }
            3 if works[who].is_some() => match (&mut works[who], draw.coin()) {
                (Some((work, saved)), true) => {
                    *saved = Some(work.clone());
                    check(&mut sessions[who], ("SAVEPOINT s", ""));
                }
                (Some((work, Some(saved))), false) => {
                    work.clone_from(saved);
                    check(&mut sessions[who], ("ROLLBACK TO s", ""));
                }
                _ => {
                    works[who] = None;
                    check(&mut sessions[who], ("ROLLBACK", ""));
                }
            },
            4 if versions.last > 1 && works[who].is_none() => ask(&mut sessions[who], &versions, &mut draw, seed),
            5 if durable && works.iter().all(Option::is_none) => {
                drop(sessions);
                drop(db);
                db = open(true);
                sessions = [db.session(), db.session()];
                ask(&mut sessions[0], &versions, &mut draw, seed);
            }
            _ => {
                let mut alone = Work::of(&versions, changes);
                let work = works[who].as_mut().map_or(&mut alone, |(work, _)| work);
                let changed = std::mem::take(&mut work.changed);
                let (sql, count) = work.change(&mut draw);
                // What changes no row leaves the table as it was.
                work.changed = changed || count > 0;
                check(&mut sessions[who], (&sql, &count.to_string()));
                if works[who].is_none() && count > 0 {
                    versions.commit(&alone);
                    changes += 1;
                }
            }
        }
    }
    ask(&mut db.session(), &versions, &mut draw, seed);
}

#[test]
fn random_moments_see_the_versions_of_the_model() {
    (0..if cfg!(debug_assertions) { 24 } else { 200 }).for_each(run_model);
}

/// A booking: bay, guest, the first day and the day after the last.
type Booking = (i64, i64, i64, i64);
/// How the periods of two bookings lie to each other, by definition.
type Relation = fn(&Booking, &Booking) -> bool;

fn day(number: i64) -> String {
    format!("DATE '2024-01-{:02}'", number + 1)
}

/// Random bookings, each compared with a list; a portion is cut by the definition of clause 14.14.
fn run_bookings(seed: u64) {
    let mut draw = Draw::new(seed);
    let mut session = Database::in_memory().session();
    let made = "CREATE TABLE b (bay INTEGER, guest INTEGER, f DATE, t DATE, PERIOD FOR p (f, t), PRIMARY KEY (bay, p WITHOUT OVERLAPS))";
    check(&mut session, (made, ""));
    let mut bookings: Vec<Booking> = Vec::new();
    for _ in 0..50 {
        let (bay, guest, f) = (number(&mut draw, 2), number(&mut draw, 3), number(&mut draw, 20));
        let t = f + 1 + number(&mut draw, 6);
        let meets = |booking: &Booking| booking.2 < t && booking.3 > f;
        let (from, to) = (day(f), day(t));
        match draw.below(4) {
            0 | 1 => {
                let taken = bookings.iter().any(|booking| booking.0 == bay && meets(booking));
                let sql = format!("INSERT INTO b VALUES ({bay}, {guest}, {from}, {to})");
                check(&mut session, (&sql, if taken { "!23000 overlaps" } else { "1" }));
                if !taken {
                    bookings.push((bay, guest, f, t));
                }
            }
            kind => {
                let other = if kind == 2 { Some(guest + 10) } else { None };
                let portion = format!("FOR PORTION OF p FROM {from} TO {to}");
                let sql = match other {
                    Some(other) => format!("UPDATE b {portion} SET guest = {other} WHERE bay = {bay}"),
                    None => format!("DELETE FROM b {portion} WHERE bay = {bay}"),
                };
                let (met, mut rest): (Vec<Booking>, Vec<Booking>) =
                    bookings.into_iter().partition(|booking| booking.0 == bay && meets(booking));
                for (bay, guest, own_f, own_t) in &met {
                    if *own_f < f {
                        rest.push((*bay, *guest, *own_f, f));
                    }
                    if *own_t > t {
                        rest.push((*bay, *guest, t, *own_t));
                    }
                    rest.extend(other.map(|other| (*bay, other, f.max(*own_f), t.min(*own_t))));
                }
                check(&mut session, (&sql, &met.len().to_string()));
                bookings = rest;
            }
        }
        bookings.sort_unstable();
        let row = |(bay, guest, f, t): &Booking| format!("{bay}|{guest}|2024-01-{:02}|2024-01-{:02}", f + 1, t + 1);
        let expected = bookings.iter().map(row).collect::<Vec<_>>().join("; ");
        let found = told(&mut session, "SELECT * FROM b ORDER BY bay, guest, f");
        assert_eq!(found, format!("={expected}"), "seed {seed}");
    }
    predicates(&mut session, &bookings, seed);
}

/// Each period predicate over all pairs of bookings.
fn predicates(session: &mut Session, bookings: &[Booking], seed: u64) {
    let tests: [(&str, Relation); 7] = [
        ("OVERLAPS", |a, b| (a.2..a.3).any(|day| (b.2..b.3).contains(&day))),
        ("EQUALS", |a, b| (a.2, a.3) == (b.2, b.3)),
        ("CONTAINS", |a, b| (b.2..b.3).all(|day| (a.2..a.3).contains(&day))),
        ("PRECEDES", |a, b| (a.2..a.3).all(|day| (b.2..b.3).all(|other| day < other))),
        ("SUCCEEDS", |a, b| (a.2..a.3).all(|day| (b.2..b.3).all(|other| day > other))),
        ("IMMEDIATELY PRECEDES", |a, b| a.3 == b.2),
        ("IMMEDIATELY SUCCEEDS", |a, b| a.2 == b.3),
    ];
    for (op, holds) in tests {
        let pairs = bookings.iter().flat_map(|a| bookings.iter().map(move |b| (a, b)));
        let expected = pairs.filter(|(a, b)| holds(a, b)).count();
        for sql in [
            format!("SELECT COUNT(*) FROM b x, b y WHERE x.p {op} y.p"),
            format!("SELECT COUNT(*) FROM b x, b y WHERE PERIOD (x.f, x.t) {op} y.p"),
        ] {
            assert_eq!(show(&session.query(&sql, ()).unwrap()), expected.to_string(), "seed {seed}: {sql}");
        }
    }
}

#[test]
fn random_portions_and_bookings_do_as_the_list_does() {
    (0..if cfg!(debug_assertions) { 24 } else { 200 }).for_each(run_bookings);
}
