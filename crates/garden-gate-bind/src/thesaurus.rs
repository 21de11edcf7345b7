//! What an unknown function may mean: the plain words of its name, and what is written for them here.
//!
//! A name is cut into words and their usual short forms. Their senses, and the number of arguments, choose a form,
//! into which the arguments are put as they stand in the statement, so that the help can be copied.

use crate::diagnostic::nearest;
use std::cmp::Reverse;

/// Longer names are no words.
const MOST_LETTERS: usize = 40;

/// Each sense with the words that have it.
const WORDS: &[(&str, &[&str])] = &[
    ("YEAR", &["year", "years", "yr", "yyyy"]),
    ("MONTH", &["month", "months", "mon"]),
    ("DAY", &["day", "days"]),
    ("HOUR", &["hour", "hours", "hr"]),
    ("MINUTE", &["minute", "minutes", "min"]),
    ("SECOND", &["second", "seconds", "sec"]),
    ("week", &["week", "weeks"]),
    ("weekday", &["weekday"]),
    ("quarter", &["quarter", "quarters"]),
    ("now", &["now"]),
    ("today", &["today"]),
    ("current", &["current", "cur", "get", "sys", "system", "this"]),
    ("date", &["date", "dates"]),
    ("time", &["time"]),
    ("timestamp", &["timestamp", "datetime"]),
    ("start", &["start", "begin", "beginning", "trunc", "truncate"]),
    ("first", &["first"]),
    ("last", &["last", "end", "ends"]),
    ("part", &["part", "extract", "sub", "mid", "slice", "piece"]),
    ("difference", &["diff", "difference", "between"]),
    ("add", &["add", "plus"]),
    ("subtract", &["subtract", "minus"]),
    ("text", &["text", "str", "string", "char", "chars", "character", "characters", "letters", "varchar"]),
    ("length", &["len", "length", "size"]),
    ("position", &["pos", "position", "index", "find", "locate", "search", "instr"]),
    ("contains", &["contains", "contain", "has", "includes"]),
    ("left", &["left"]),
    ("right", &["right"]),
    ("trim", &["trim", "strip"]),
    ("replace", &["replace", "substitute"]),
    ("repeat", &["repeat", "replicate"]),
    ("upper", &["upper", "uppercase", "ucase", "capitals"]),
    ("lower", &["lower", "lowercase", "lcase"]),
    ("join", &["concat", "concatenate", "join", "append"]),
    ("group", &["group", "agg", "aggregate", "list"]),
    ("with", &["with", "starts", "startswith", "prefix"]),
    ("convert", &["convert", "to", "as", "parse", "make"]),
    ("format", &["format"]),
    ("integer", &["int", "integer"]),
    ("number", &["number", "numeric", "num", "decimal"]),
    ("null", &["null", "nulls", "missing"]),
    ("if", &["if", "is", "when", "iif"]),
    ("count", &["count"]),
    ("distinct", &["distinct", "unique"]),
    ("mean", &["mean", "average"]),
    ("median", &["median"]),
    ("variance", &["variance", "var"]),
    ("deviation", &["stdev", "stddev", "deviation", "std"]),
    ("total", &["total"]),
    ("smallest", &["smallest", "lowest", "minimum"]),
    ("largest", &["largest", "highest", "biggest", "maximum"]),
    ("power", &["pow"]),
    ("root", &["root", "squareroot"]),
    ("random", &["random", "rand"]),
    ("of", &["of", "in", "from", "the", "standard", "value", "val"]),
];

/// Senses that a form need not have.
const FILLERS: [&str; 5] = ["of", "date", "time", "text", "current"];

/// What has any number of arguments.
const ANY: usize = usize::MAX;

const END_OF_MONTH: &str = "TRUNCATE({1} TO MONTH) + INTERVAL '1' MONTH - INTERVAL '1' DAY";

/// Senses, the number of arguments, and what is written for them. `unit` is any one field of a datetime.
const FORMS: &[(&[&str], usize, &str)] = &[
    (&["now"], 0, "CURRENT_TIMESTAMP"),
    (&["current", "timestamp"], 0, "CURRENT_TIMESTAMP"),
    (&["current", "date"], 0, "CURRENT_DATE"),
    (&["today"], 0, "CURRENT_DATE"),
    (&["current", "time"], 0, "CURRENT_TIME"),
    (&["unit"], 1, "EXTRACT({unit} FROM {1})"),
    (&["part", "unit"], 1, "EXTRACT({unit} FROM {1})"),
    (&["quarter"], 1, "EXTRACT(QUARTER FROM {1})"),
    (&["week"], 1, "EXTRACT(WEEK FROM {1})"),
    (&["week", "YEAR"], 1, "EXTRACT(WEEK FROM {1})"),
    (&["DAY", "week"], 1, "EXTRACT(DAY_OF_WEEK FROM {1}), which is 1 on Mondays"),
    (&["weekday"], 1, "EXTRACT(DAY_OF_WEEK FROM {1}), which is 1 on Mondays"),
    (&["DAY", "YEAR"], 1, "EXTRACT(DAY_OF_YEAR FROM {1})"),
    (&["start", "DAY"], 1, "CAST({1} AS DATE)"),
    (&["start", "date"], 1, "CAST({1} AS DATE)"),
    (&["start", "week"], 1, "TRUNCATE({1} TO WEEK)"),
    (&["start", "quarter"], 1, "TRUNCATE({1} TO QUARTER)"),
    (&["start", "MONTH"], 1, "TRUNCATE({1} TO MONTH)"),
    (&["first", "DAY"], 1, "TRUNCATE({1} TO MONTH)"),
    (&["first", "DAY", "MONTH"], 1, "TRUNCATE({1} TO MONTH)"),
    (&["start", "YEAR"], 1, "TRUNCATE({1} TO YEAR)"),
    (&["last", "DAY"], 1, END_OF_MONTH),
    (&["last", "MONTH"], 1, END_OF_MONTH),
    (&["last", "DAY", "MONTH"], 1, END_OF_MONTH),
    (&["difference", "unit"], 2, "({2} - {1}) {unit}, which counts from {1} to {2}"),
    (&["difference", "date"], 2, "({2} - {1}) DAY, which counts from {1} to {2}"),
    (&["add", "unit"], 2, "{1} + {2} * INTERVAL '1' {unit}"),
    (&["add", "date"], 2, "{1} + {2} * INTERVAL '1' DAY"),
    (&["subtract", "unit"], 2, "{1} - {2} * INTERVAL '1' {unit}"),
    (&["subtract", "date"], 2, "{1} - {2} * INTERVAL '1' DAY"),
    (&["part", "unit"], 2, "{1} - {2} * INTERVAL '1' {unit}"),
    (&["part", "date"], 2, "{1} - {2} * INTERVAL '1' DAY"),
    (&["length"], 1, "CHARACTER_LENGTH({1})"),
    (&["part"], 2, "SUBSTRING({1} FROM {2})"),
    (&["part"], 3, "SUBSTRING({1} FROM {2} FOR {3})"),
    (&["left"], 2, "SUBSTRING({1} FROM 1 FOR {2})"),
    (&["first", "text"], 2, "SUBSTRING({1} FROM 1 FOR {2})"),
    (&["right"], 2, "SUBSTRING({1} FROM CHARACTER_LENGTH({1}) - {2} + 1)"),
    (&["last", "text"], 2, "SUBSTRING({1} FROM CHARACTER_LENGTH({1}) - {2} + 1)"),
    (&["position"], 2, "POSITION({2} IN {1})"),
    (&["contains"], 2, "POSITION({2} IN {1}) > 0"),
    (&["with"], 2, "{1} LIKE {2} || '%'"),
    (&["last", "with"], 2, "{1} LIKE '%' || {2}"),
    (&["trim"], 1, "TRIM({1})"),
    (&["left", "trim"], 1, "LTRIM({1})"),
    (&["right", "trim"], 1, "RTRIM({1})"),
    (&["replace"], 3, "TRANSLATE_REGEX({2} FLAG 'q' IN {1} WITH {3} OCCURRENCE ALL)"),
    (&["repeat"], 2, "LPAD('', {2} * CHARACTER_LENGTH({1}), {1})"),
    (&["upper"], 1, "UPPER({1})"),
    (&["lower"], 1, "LOWER({1})"),
    (&["join"], ANY, "{joined}"),
    (&["group", "join"], 1, "LISTAGG({1}, ', ') WITHIN GROUP (ORDER BY {1})"),
    (&["group", "text"], 1, "LISTAGG({1}, ', ') WITHIN GROUP (ORDER BY {1})"),
    (&["group"], 1, "LISTAGG({1}, ', ') WITHIN GROUP (ORDER BY {1})"),
    (&["group", "join"], 2, "LISTAGG({1}, {2}) WITHIN GROUP (ORDER BY {1})"),
    (&["group"], 2, "LISTAGG({1}, {2}) WITHIN GROUP (ORDER BY {1})"),
    (&["text"], 1, "CAST({1} AS VARCHAR(40))"),
    (&["convert", "text"], 1, "CAST({1} AS VARCHAR(40))"),
    (&["convert", "text"], 2, "CAST({1} AS VARCHAR(40) FORMAT {2})"),
    (&["format"], 2, "CAST({1} AS VARCHAR(40) FORMAT {2})"),
    (&["integer"], 1, "CAST({1} AS INTEGER)"),
    (&["convert", "integer"], 1, "CAST({1} AS INTEGER)"),
    (&["number"], 1, "CAST({1} AS NUMERIC(18, 2))"),
    (&["convert", "number"], 1, "CAST({1} AS NUMERIC(18, 2))"),
    (&["convert", "date"], 1, "CAST({1} AS DATE)"),
    (&["convert", "date"], 2, "CAST({1} AS DATE FORMAT {2})"),
    (&["timestamp"], 1, "CAST({1} AS TIMESTAMP)"),
    (&["convert", "timestamp"], 1, "CAST({1} AS TIMESTAMP)"),
    (&["convert", "timestamp"], 2, "CAST({1} AS TIMESTAMP FORMAT {2})"),
    (&["null"], 2, "COALESCE({1}, {2})"),
    (&["if", "null"], 2, "COALESCE({1}, {2})"),
    (&["replace", "null"], 2, "COALESCE({1}, {2})"),
    (&["if", "null"], 1, "{1} IS NULL"),
    (&["if"], 3, "CASE WHEN {1} THEN {2} ELSE {3} END"),
    (&["count", "distinct"], 1, "COUNT(DISTINCT {1})"),
    (&["count", "if"], 1, "COUNT(*) FILTER (WHERE {1})"),
    (&["mean"], 1, "AVG({1})"),
    (&["median"], 1, "PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY {1})"),
    (&["variance"], 1, "VAR_SAMP({1})"),
    (&["deviation"], 1, "STDDEV_SAMP({1})"),
    (&["total"], 1, "SUM({1})"),
    (&["smallest"], 1, "MIN({1})"),
    (&["largest"], 1, "MAX({1})"),
    (&["smallest"], ANY, "LEAST({all})"),
    (&["largest"], ANY, "GREATEST({all})"),
    (&["power"], 2, "POWER({1}, {2})"),
    (&["root"], 1, "SQRT({1})"),
];

/// What is written for a call of a function that is none.
pub(super) fn for_call(name: &str, args: &[&str]) -> Option<String> {
    let mut senses = senses(name)?;
    if senses.contains(&"random") {
        return Some("nothing is random but TABLESAMPLE: FROM table TABLESAMPLE BERNOULLI (10) takes a tenth".into());
    }
    let mut args: Vec<&str> = args.to_vec();
    let formatted = senses.contains(&"convert") || senses.contains(&"format");
    if args.len() > 1 && !formatted {
        // A unit may be an argument of its own, as a word or in quotes.
        if let Some((at, unit)) = args.iter().enumerate().find_map(|(at, arg)| Some((at, unit_of(arg)?))) {
            senses.push(unit);
            args.remove(at);
        }
    }
    if senses.iter().any(|sense| is_unit(sense)) {
        senses.retain(|sense| *sense != "date");
    }
    if let [first, last] = args.as_slice()
        && stands_last(first)
        && !stands_last(last)
        && !senses.contains(&"null")
        && !senses.contains(&"join")
    {
        args.reverse();
    }
    written(&senses, &args)
}

/// Whether an argument is a constant: how many days, the text to look for.
fn stands_last(arg: &str) -> bool {
    arg.starts_with('\'') || arg.parse::<f64>().is_ok()
}

/// What is written for a word that is not a column: a moment without parentheses.
pub(super) fn for_word(name: &str) -> Option<String> {
    written(&senses(name)?, &[])
}

/// The type of the standard that a word means.
pub fn for_type(name: &str) -> Option<&'static str> {
    const TYPES: &[(&[&str], &str)] = &[
        (&["text", "string", "str", "characters"], "VARCHAR(200)"),
        (&["number", "money", "currency", "amount", "num"], "NUMERIC(12, 2)"),
        (&["datetime", "moment", "instant"], "TIMESTAMP"),
        (&["day"], "DATE"),
        (&["serial", "counter", "autonumber", "identity"], "INTEGER GENERATED ALWAYS AS IDENTITY"),
        (&["long", "bigserial"], "BIGINT"),
        (&["short", "tiny", "byte", "tinyint"], "SMALLINT"),
        (&["single"], "REAL"),
        (&["bytes", "bits", "bit", "raw"], "VARBINARY(200)"),
        (&["logical", "flag", "yesno", "truth"], "BOOLEAN"),
        (&["duration"], "INTERVAL DAY TO SECOND"),
    ];
    let found = TYPES.iter().find(|(words, _)| words.iter().any(|word| word.eq_ignore_ascii_case(name)));
    found.map(|(_, sql_type)| *sql_type)
}

fn written(senses: &[&str], args: &[&str]) -> Option<String> {
    let mut units = senses.iter().filter(|sense| is_unit(sense));
    let unit = units.next().copied().filter(|_| units.next().is_none());
    let meant = |sense: &&str| if *sense == "unit" { unit.is_some() } else { senses.contains(sense) };
    let fits = |count: usize| count == args.len() || count == ANY && args.len() > 1;
    let left_over = |wanted: &[&str], sense: &&str| {
        !(FILLERS.contains(sense) || wanted.contains(sense) || is_unit(sense) && wanted.contains(&"unit"))
    };
    let best = FORMS.iter().filter(|(wanted, count, _)| {
        fits(*count) && wanted.iter().all(meant) && !senses.iter().any(|sense| left_over(wanted, sense))
    });
    let (_, _, form) = best.min_by_key(|(wanted, _, _)| Reverse(wanted.len()))?;
    Some(format!("write {}", filled(form, args, unit.unwrap_or_default())))
}

fn filled(form: &str, args: &[&str], unit: &str) -> String {
    let mut text = String::new();
    let mut rest = form;
    while let Some((before, behind)) = rest.split_once('{') {
        text += before;
        let (name, behind) = behind.split_once('}').unwrap_or((behind, ""));
        match name {
            "unit" => text += unit,
            "all" => text += &args.join(", "),
            "joined" => text += &args.join(" || "),
            number => text += number.parse::<usize>().ok().and_then(|at| args.get(at.checked_sub(1)?)).unwrap_or(&"…"),
        }
        rest = behind;
    }
    text + rest
}

fn is_unit(sense: &str) -> bool {
    sense.starts_with(|letter: char| letter.is_ascii_uppercase())
}

fn unit_of(arg: &str) -> Option<&'static str> {
    let word = arg.trim_matches('\'').to_lowercase();
    sense_of(&word).filter(|sense| is_unit(sense))
}

fn sense_of(word: &str) -> Option<&'static str> {
    WORDS.iter().find(|(_, words)| words.contains(&word)).map(|(sense, _)| *sense)
}

/// The senses of the words that a name is made of; nothing when a part of it is not a word that is known.
fn senses(name: &str) -> Option<Vec<&'static str>> {
    if name.len() > MOST_LETTERS || !name.is_ascii() {
        return None;
    }
    let mut all = Vec::new();
    let name = name.to_lowercase();
    for part in name.split('_').filter(|part| !part.is_empty()) {
        match cut(part) {
            Some(found) => all.extend(found),
            None => all.push(sense_of(misspelt(part)?)?),
        }
    }
    Some(all)
}

/// A long word with one slip.
fn misspelt(part: &str) -> Option<&'static str> {
    let long = WORDS.iter().flat_map(|(_, words)| words.iter().copied()).filter(|word| word.len() >= 5);
    if part.len() < 5 { None } else { nearest(part, long) }
}

/// The words that a run of letters is put together from, the longest first.
fn cut(part: &str) -> Option<Vec<&'static str>> {
    // From each place on: the senses of the rest, when words make it up.
    let mut behind: Vec<Option<Vec<&'static str>>> = vec![None; part.len() + 1];
    behind[part.len()] = Some(Vec::new());
    for from in (0..part.len()).rev() {
        let found = (from + 1..=part.len()).rev().find_map(|to| {
            let sense = sense_of(&part[from..to])?;
            let rest = behind[to].as_ref()?;
            Some(std::iter::once(sense).chain(rest.iter().copied()).collect())
        });
        behind[from] = found;
    }
    behind[0].take()
}
