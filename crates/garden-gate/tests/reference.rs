//! A slow evaluator, a row at a time over plain values, straight from the standard's wording; it shares nothing with the engine.

use std::collections::BTreeSet;
use std::fmt;

/// A cell: integers and short texts are enough to find wrong logic.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Cell {
    Null,
    Number(i64),
    Text(&'static str),
}

impl fmt::Display for Cell {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Null => f.write_str("NULL"),
            Self::Number(number) => write!(f, "{number}"),
            Self::Text(text) => f.write_str(text),
        }
    }
}

/// A numeric expression over the columns of a row.
#[derive(Clone, Debug)]
pub(crate) enum Number {
    /// Column by its place; the name is for the SQL text.
    Column(usize, String),
    Constant(Option<i64>),
    Add(Box<Number>, Box<Number>),
    Subtract(Box<Number>, Box<Number>),
    Multiply(Box<Number>, Box<Number>),
    /// `NULLIF(a, b)`
    NullIf(Box<Number>, Box<Number>),
    /// `COALESCE(a, b)`
    Coalesce(Box<Number>, Box<Number>),
    Case(Box<Condition>, Box<Number>, Option<Box<Number>>),
}

#[derive(Clone, Debug)]
pub(crate) enum Condition {
    Compare(&'static str, Number, Number),
    Texts(&'static str, usize, String, &'static str),
    Between(Number, Number, Number, bool),
    In(Number, Vec<Number>, bool),
    IsNull(Number, bool),
    Distinct(Number, Number, bool),
    Like(usize, String, &'static str, bool),
    /// `IS [NOT] TRUE | FALSE | UNKNOWN`
    Is(Box<Condition>, Option<bool>, bool),
    Not(Box<Condition>),
    And(Vec<Condition>),
    Or(Vec<Condition>),
}

impl Number {
    pub(crate) fn value(&self, row: &[Cell]) -> Option<i64> {
        let both = |a: &Self, b: &Self, f: fn(i64, i64) -> i64| Some(f(a.value(row)?, b.value(row)?));
        match self {
            Self::Column(at, _) => match &row[*at] {
                Cell::Number(number) => Some(*number),
                _ => None,
            },
            Self::Constant(value) => *value,
            Self::Add(a, b) => both(a, b, |a, b| a + b),
            Self::Subtract(a, b) => both(a, b, |a, b| a - b),
            Self::Multiply(a, b) => both(a, b, |a, b| a * b),
            Self::NullIf(a, b) => match (a.value(row), b.value(row)) {
                (a, b) if a == b => None,
                (a, _) => a,
            },
            Self::Coalesce(a, b) => a.value(row).or_else(|| b.value(row)),
            Self::Case(when, then, otherwise) => {
                if when.truth(row) == Some(true) {
                    then.value(row)
                } else {
                    otherwise.as_ref().and_then(|other| other.value(row))
                }
            }
        }
    }
}

impl fmt::Display for Number {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Column(_, name) => f.write_str(name),
            Self::Constant(Some(value)) => write!(f, "{value}"),
            Self::Constant(None) => f.write_str("CAST(NULL AS BIGINT)"),
            Self::Add(a, b) => write!(f, "({a} + {b})"),
            Self::Subtract(a, b) => write!(f, "({a} - {b})"),
            Self::Multiply(a, b) => write!(f, "({a} * {b})"),
            Self::NullIf(a, b) => write!(f, "NULLIF({a}, {b})"),
            Self::Coalesce(a, b) => write!(f, "COALESCE({a}, {b})"),
            Self::Case(when, then, None) => write!(f, "CASE WHEN {when} THEN {then} END"),
            Self::Case(when, then, Some(other)) => write!(f, "CASE WHEN {when} THEN {then} ELSE {other} END"),
        }
    }
}

fn and(a: Option<bool>, b: Option<bool>) -> Option<bool> {
    match (a, b) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}

fn not(a: Option<bool>) -> Option<bool> {
    a.map(|a| !a)
}

/// TRUE if one is TRUE, else UNKNOWN if one is, else FALSE.
fn any(truths: impl Iterator<Item = Option<bool>>) -> Option<bool> {
    let truths: Vec<Option<bool>> = truths.collect();
    if truths.contains(&Some(true)) {
        Some(true)
    } else if truths.contains(&None) {
        None
    } else {
        Some(false)
    }
}

fn holds<T: Ord>(op: &str, a: &T, b: &T) -> bool {
    match op {
        "=" => a == b,
        "<>" => a != b,
        "<" => a < b,
        "<=" => a <= b,
        ">" => a > b,
        _ => a >= b,
    }
}

/// `%` and `_` by trying every way to take them.
fn like(text: &[char], pattern: &[char]) -> bool {
    match pattern {
        [] => text.is_empty(),
        ['%', rest @ ..] => (0..=text.len()).any(|from| like(&text[from..], rest)),
        ['_', rest @ ..] => !text.is_empty() && like(&text[1..], rest),
        [first, rest @ ..] => text.first() == Some(first) && like(&text[1..], rest),
    }
}

impl Condition {
    /// Clause 8 for predicates, clause 6.39 for their combination; `None` is UNKNOWN.
    pub(crate) fn truth(&self, row: &[Cell]) -> Option<bool> {
        let compare = |op: &str, a: &Number, b: &Number| Some(holds(op, &a.value(row)?, &b.value(row)?));
        let negate = |truth: Option<bool>, negated: bool| if negated { not(truth) } else { truth };
        match self {
            Self::Compare(op, a, b) => compare(op, a, b),
            Self::Texts(op, at, _, constant) => match &row[*at] {
                Cell::Text(text) => Some(holds(op, text, constant)),
                _ => None,
            },
            Self::Between(x, low, high, negated) => {
                negate(and(compare(">=", x, low), compare("<=", x, high)), *negated)
            }
            Self::In(x, list, negated) => negate(any(list.iter().map(|item| compare("=", x, item))), *negated),
            Self::IsNull(x, negated) => Some(x.value(row).is_none() != *negated),
            Self::Distinct(a, b, negated) => Some((a.value(row) != b.value(row)) != *negated),
            Self::Like(at, _, pattern, negated) => match &row[*at] {
                Cell::Text(text) => {
                    let (text, pattern): (Vec<char>, Vec<char>) = (text.chars().collect(), pattern.chars().collect());
                    negate(Some(like(&text, &pattern)), *negated)
                }
                _ => None,
            },
            Self::Is(inner, wanted, negated) => Some((inner.truth(row) == *wanted) != *negated),
            Self::Not(inner) => not(inner.truth(row)),
            Self::And(terms) => not(any(terms.iter().map(|term| not(term.truth(row))))),
            Self::Or(terms) => any(terms.iter().map(|term| term.truth(row))),
        }
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = |negated: &bool| if *negated { "NOT " } else { "" };
        let join = |terms: &[Self], word: &str| {
            let terms: Vec<String> = terms.iter().map(|term| format!("({term})")).collect();
            terms.join(word)
        };
        match self {
            Self::Compare(op, a, b) => write!(f, "{a} {op} {b}"),
            Self::Texts(op, _, name, constant) => write!(f, "{name} {op} '{constant}'"),
            Self::Between(x, low, high, negated) => write!(f, "{x} {}BETWEEN {low} AND {high}", word(negated)),
            Self::In(x, list, negated) => {
                let list: Vec<String> = list.iter().map(ToString::to_string).collect();
                write!(f, "{x} {}IN ({})", word(negated), list.join(", "))
            }
            Self::IsNull(x, negated) => write!(f, "{x} IS {}NULL", word(negated)),
            Self::Distinct(a, b, negated) => write!(f, "{a} IS {}DISTINCT FROM {b}", word(negated)),
            Self::Like(_, name, pattern, negated) => write!(f, "{name} {}LIKE '{pattern}'", word(negated)),
            Self::Is(inner, wanted, negated) => {
                let truth = wanted.map_or("UNKNOWN", |wanted| if wanted { "TRUE" } else { "FALSE" });
                write!(f, "({inner}) IS {}{truth}", word(negated))
            }
            Self::Not(inner) => write!(f, "NOT ({inner})"),
            Self::And(terms) => f.write_str(&join(terms, " AND ")),
            Self::Or(terms) => f.write_str(&join(terms, " OR ")),
        }
    }
}

/// Groups of rows by some of their cells, in order of first appearance.
pub(crate) fn groups<'r>(rows: &[&'r [Cell]], keys: &[usize]) -> Vec<(Vec<Cell>, Vec<&'r [Cell]>)> {
    let mut found: Vec<(Vec<Cell>, Vec<&[Cell]>)> = Vec::new();
    for row in rows {
        let key: Vec<Cell> = keys.iter().map(|at| row[*at].clone()).collect();
        match found.iter_mut().find(|(known, _)| *known == key) {
            Some((_, members)) => members.push(row),
            None => found.push((key, vec![row])),
        }
    }
    found
}

/// `COUNT(x)`, `COUNT(DISTINCT x)`, `SUM(x)`, `MIN(x)`, `MAX(x)`, and `AVG(x)` with six digits rounded half away from zero.
pub(crate) fn aggregates(values: &[Option<i64>]) -> String {
    let present: Vec<i64> = values.iter().flatten().copied().collect();
    let different: BTreeSet<i64> = present.iter().copied().collect();
    let sum: i64 = present.iter().sum();
    let or_null = |value: String| if present.is_empty() { "NULL".into() } else { value };
    let average = i64::try_from(present.len().max(1)).unwrap();
    let scaled = (sum.abs() * 1_000_000 * 2 + average) / (2 * average);
    let sign = if sum < 0 && scaled > 0 { "-" } else { "" };
    format!(
        "{}|{}|{}|{}|{}|{}",
        present.len(),
        different.len(),
        or_null(sum.to_string()),
        or_null(present.iter().min().map_or(String::new(), ToString::to_string)),
        or_null(present.iter().max().map_or(String::new(), ToString::to_string)),
        or_null(format!("{sign}{}.{:06}", scaled / 1_000_000, scaled % 1_000_000)),
    )
}

#[test]
fn the_reference_itself_agrees_with_cases_worked_out_by_hand() {
    let row = [Cell::Number(3), Cell::Null, Cell::Text("fern")];
    let (three, null) = (Number::Column(0, "a".into()), Number::Column(1, "b".into()));
    for (condition, expected) in [
        (Condition::Compare("<", three.clone(), null.clone()), None),
        (Condition::In(three.clone(), vec![Number::Constant(Some(1)), null.clone()], true), None),
        (Condition::In(three.clone(), vec![Number::Constant(Some(3)), null.clone()], true), Some(false)),
        (Condition::Between(three.clone(), Number::Constant(Some(5)), null.clone(), true), Some(true)),
        (Condition::Distinct(null.clone(), Number::Constant(None), false), Some(false)),
        (Condition::Like(2, "c".into(), "f_r%", false), Some(true)),
        (Condition::Is(Box::new(Condition::IsNull(null, true)), Some(false), false), Some(true)),
    ] {
        assert_eq!(condition.truth(&row), expected, "{condition}");
    }
    assert_eq!(aggregates(&[Some(1), None, Some(2), Some(2)]), "3|2|5|1|2|1.666667");
    assert_eq!(aggregates(&[Some(-1), Some(0), Some(-1)]), "3|2|-2|-1|0|-0.666667");
    assert_eq!(aggregates(&[None]), "0|0|NULL|NULL|NULL|NULL");
}
