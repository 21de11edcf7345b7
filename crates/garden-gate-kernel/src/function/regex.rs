//! SIMILAR TO (clause 8.6), `LIKE_REGEX` (clause 8.7) and the functions of regular expressions (clause 6.32).

use super::{Arguments, Problem, Texts};
use crate::logical::RegexFunction as F;
use arrow::array::ArrayRef;
use regex::{Regex, RegexBuilder};
use std::cell::RefCell;

/// The pattern of the row before, which is nearly always that of the next.
#[derive(Default)]
struct Cache(RefCell<Option<(String, String, Regex)>>);

impl Cache {
    fn get(
        &self,
        pattern: &str,
        option: &str,
        make: impl FnOnce() -> Result<Regex, Problem>,
    ) -> Result<Regex, Problem> {
        if let Some((known, known_option, regex)) = &*self.0.borrow()
            && known == pattern
            && known_option == option
        {
            return Ok(regex.clone());
        }
        let regex = make()?;
        *self.0.borrow_mut() = Some((pattern.to_owned(), option.to_owned(), regex.clone()));
        Ok(regex)
    }
}

/// The functions of regular expressions; a pattern that stays the same from row to row is compiled once.
pub(super) fn call(function: F, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    match function {
        F::Similar => similar(arguments),
        F::SubstringSimilar => substring_similar(arguments),
        F::LikeRegex => like_regex(arguments),
        F::OccurrencesRegex => occurrences(arguments),
        F::SubstringRegex => substring(arguments),
        F::TranslateRegex => translate(arguments),
        F::PositionRegex | F::PositionRegexAfter => position(function == F::PositionRegexAfter, arguments),
    }
}

fn bad(pattern: &str, error: &impl std::fmt::Display) -> Problem {
    let text = error.to_string();
    let reason = text.lines().last().unwrap_or("it cannot be read").trim_start_matches("error: ").to_owned();
    Problem::BadRegularExpression { pattern: pattern.into(), reason }
}

/// A regular expression with its flags: `s` the dot matches line ends, `m` lines, `i` either case, `x` blanks are omitted, `q` no
/// character is special.
fn compile(pattern: &str, flags: &str) -> Result<Regex, Problem> {
    let mut text = pattern.to_owned();
    if flags.contains('q') {
        text = regex::escape(pattern);
    }
    let mut builder = RegexBuilder::new(&text);
    for flag in flags.chars() {
        match flag {
            's' => builder.dot_matches_new_line(true),
            'm' => builder.multi_line(true),
            'i' => builder.case_insensitive(true),
            'x' => builder.ignore_whitespace(true),
            'q' => &mut builder,
            other => return Err(Problem::BadRegexFlag { flag: other }),
        };
    }
    builder.build().map_err(|error| bad(pattern, &error))
}

/// The regular expression that a SIMILAR TO pattern means, without anchors.
fn similar_to_regex(pattern: &str, escape: Option<char>) -> Result<String, Problem> {
    let mut out = String::with_capacity(pattern.len() + 8);
    let mut characters = pattern.chars().peekable();
    let mut in_set = false;
    // Within a set: whether it has characters yet, and whether those after a ^ are taken away from them (include minus exclude).
    let (mut has_included, mut excludes) = (false, false);
    while let Some(character) = characters.next() {
        if Some(character) == escape {
            let Some(next) = characters.next() else {
                return Err(Problem::EscapeSequence { pattern: pattern.into(), escape: character });
            };
            out.push_str(&regex::escape(&next.to_string()));
            continue;
        }
        match character {
            '[' if in_set && characters.peek() == Some(&':') => {
                // A named class: [:ALPHA:]
                let class: String = std::iter::once('[').chain(characters.by_ref().take_while(|c| *c != ']')).collect();
                out.push_str(&class.to_lowercase().replace("[:whitespace:", "[:space:"));
                out.push(']');
            }
            '[' if in_set => out.push_str("\\["),
            '[' => {
                (in_set, has_included, excludes) = (true, false, false);
                out.push('[');
                continue;
            }
            ']' => {
                in_set = false;
                out.push_str(if excludes { "]]" } else { "]" });
            }
            '^' if in_set && has_included && !excludes => {
                excludes = true;
                out.push_str("--[");
            }
            '%' if !in_set => out.push_str("(?s:.*)"),
            '_' if !in_set => out.push_str("(?s:.)"),
            '(' if !in_set => out.push_str("(?:"),
            '.' | '$' | '\\' | '&' | '~' | '#' => {
                out.push('\\');
                out.push(character);
            }
            '^' if !in_set => out.push_str("\\^"),
            other => out.push(other),
        }
        has_included |= in_set && character != '^';
    }
    Ok(out)
}

fn one_character(escape: Option<Texts<'_>>, row: usize) -> Result<Option<Option<char>>, Problem> {
    let Some(escape) = escape else { return Ok(Some(None)) };
    let Some(text) = escape.get(row) else { return Ok(None) };
    let mut characters = text.chars();
    match (characters.next(), characters.next()) {
        (Some(one), None) => Ok(Some(Some(one))),
        _ => Err(Problem::EscapeLength(text.into())),
    }
}

fn similar(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (text, pattern) = (arguments.text(0), arguments.text(1));
    let escape = (arguments.count() > 2).then(|| arguments.text(2));
    let cache = Cache::default();
    arguments.truths(|row| {
        let (Some(text), Some(pattern)) = (text.get(row), pattern.get(row)) else { return Ok(None) };
        let Some(escape) = one_character(escape, row)? else { return Ok(None) };
        let option = escape.map_or_else(String::new, String::from);
        let regex = cache.get(pattern, &option, || {
            let inner = similar_to_regex(pattern, escape)?;
            Regex::new(&format!("^(?:{inner})$")).map_err(|error| bad(pattern, &error))
        })?;
        Ok(Some(regex.is_match(text)))
    })
}

/// `SUBSTRING(text SIMILAR pattern ESCAPE e)`: the part between the two separators `e"` of the pattern.
fn substring_similar(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (text, pattern, escape) = (arguments.text(0), arguments.text(1), arguments.text(2));
    let cache = Cache::default();
    arguments.texts(|row| {
        let (Some(text), Some(pattern)) = (text.get(row), pattern.get(row)) else { return Ok(None) };
        let Some(Some(escape)) = one_character(Some(escape), row)? else { return Ok(None) };
        let regex = cache.get(pattern, &escape.to_string(), || {
            let separator = format!("{escape}\"");
            let parts: Vec<&str> = pattern.split(&separator).collect();
            let [before, wanted, behind] = parts.as_slice() else {
                let reason = format!("it needs two separators {separator}");
                return Err(Problem::BadRegularExpression { pattern: pattern.into(), reason });
            };
            let part = |text: &str| similar_to_regex(text, Some(escape));
            let whole = format!("^(?U:{})({})(?:{})$", part(before)?, part(wanted)?, part(behind)?);
            Regex::new(&whole).map_err(|error| bad(pattern, &error))
        })?;
        Ok(regex.captures(text).and_then(|found| found.get(1)).map(|part| part.as_str().to_owned()))
    })
}

fn like_regex(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (text, pattern) = (arguments.text(0), arguments.text(1));
    let flags = (arguments.count() > 2).then(|| arguments.text(2));
    let cache = Cache::default();
    arguments.truths(|row| {
        let flags = match flags {
            Some(flags) => flags.get(row),
            None => Some(""),
        };
        let (Some(text), Some(pattern), Some(flags)) = (text.get(row), pattern.get(row), flags) else {
            return Ok(None);
        };
        Ok(Some(cache.get(pattern, flags, || compile(pattern, flags))?.is_match(text)))
    })
}

/// What all functions of regular expressions are given: the expression, and the text from the start on.
struct Call<'t> {
    regex: Regex,
    text: &'t str,
    /// Where the search begins, in bytes.
    from: usize,
}

impl<'t> Call<'t> {
    /// `None` when an argument is NULL, or the start lies outside the text.
    fn of(arguments: &Arguments<'t>, cache: &Cache, row: usize) -> Result<Option<Self>, Problem> {
        let given = (arguments.text(0).get(row), arguments.text(1).get(row), arguments.text(2).get(row));
        let (Some(pattern), Some(text), Some(flags)) = given else { return Ok(None) };
        let Some(start) = arguments.whole(3).get(row) else { return Ok(None) };
        let regex = cache.get(pattern, flags, || compile(pattern, flags))?;
        let Ok(skipped) = usize::try_from(start - 1) else { return Ok(None) };
        let ends = text.char_indices().map(|(at, _)| at).chain(std::iter::once(text.len()));
        Ok(ends.into_iter().nth(skipped).map(|from| Self { regex, text, from }))
    }

    /// The group of the n-th occurrence, as bytes of the text.
    fn group(&self, occurrence: i64, group: i64) -> Option<std::ops::Range<usize>> {
        let (occurrence, group) = (usize::try_from(occurrence - 1).ok()?, usize::try_from(group).ok()?);
        let found = self.regex.captures_iter(&self.text[self.from..]).nth(occurrence)?;
        found.get(group).map(|part| part.start() + self.from..part.end() + self.from)
    }
}

fn occurrences(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let cache = Cache::default();
    arguments.wholes(|row| {
        let call = Call::of(arguments, &cache, row)?;
        Ok(call.map(|call| call.regex.find_iter(&call.text[call.from..]).count()))
    })
}

fn position(after: bool, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (occurrence, group) = (arguments.whole(4), arguments.whole(5));
    let cache = Cache::default();
    arguments.wholes(|row| {
        let Some(call) = Call::of(arguments, &cache, row)? else { return Ok(None) };
        let (Some(occurrence), Some(group)) = (occurrence.get(row), group.get(row)) else { return Ok(None) };
        let place = |range: std::ops::Range<usize>| {
            call.text[..if after { range.end } else { range.start }].chars().count() + 1
        };
        Ok(Some(call.group(occurrence, group).map_or(0, place)))
    })
}

fn substring(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (occurrence, group) = (arguments.whole(4), arguments.whole(5));
    let cache = Cache::default();
    arguments.texts(|row| {
        let Some(call) = Call::of(arguments, &cache, row)? else { return Ok(None) };
        let (Some(occurrence), Some(group)) = (occurrence.get(row), group.get(row)) else { return Ok(None) };
        Ok(call.group(occurrence, group).map(|range| call.text[range].to_owned()))
    })
}

/// `TRANSLATE_REGEX(pattern IN text WITH replacement OCCURRENCE n)`; 0 stands for all occurrences, `$1` for a group.
fn translate(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (occurrence, replacement) = (arguments.whole(4), arguments.text(5));
    let cache = Cache::default();
    arguments.texts(|row| {
        let Some(call) = Call::of(arguments, &cache, row)? else { return Ok(None) };
        let (Some(occurrence), Some(replacement)) = (occurrence.get(row), replacement.get(row)) else {
            return Ok(None);
        };
        let mut out = call.text[..call.from].to_owned();
        let mut last = call.from;
        for (number, found) in (1_i64..).zip(call.regex.captures_iter(&call.text[call.from..])) {
            let Some(whole) = found.get(0) else { continue };
            if occurrence != 0 && number != occurrence {
                continue;
            }
            out.push_str(&call.text[last..whole.start() + call.from]);
            push_replacement(replacement, &found, &mut out);
            last = whole.end() + call.from;
        }
        out.push_str(&call.text[last..]);
        Ok(Some(out))
    })
}

/// Writes a replacement: `$1` is a group, `\\` and `\$` are these characters themselves. Of a number only as many digits count as there
/// are groups (the function `fn:replace` in the functions of `XPath`).
fn push_replacement(replacement: &str, found: &regex::Captures<'_>, out: &mut String) {
    let mut rest = replacement.chars().peekable();
    while let Some(letter) = rest.next() {
        match letter {
            '\\' => out.extend(rest.next()),
            '$' => {
                let mut group = 0;
                let mut digits = 0;
                while let Some(digit) = rest.peek().and_then(|letter| letter.to_digit(10)) {
                    let longer = group * 10 + digit as usize;
                    if digits > 0 && longer >= found.len() {
                        break;
                    }
                    (group, digits) = (longer, digits + 1);
                    rest.next();
                }
                match (digits, found.get(group)) {
                    (0, _) => out.push('$'),
                    (_, Some(part)) => out.push_str(part.as_str()),
                    (_, None) => {}
                }
            }
            other => out.push(other),
        }
    }
}
