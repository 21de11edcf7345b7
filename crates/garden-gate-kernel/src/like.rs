//! `LIKE` (clause 8.5): `%` is any run of characters, `_` one character, both escaped by the character of ESCAPE.

use super::{Lane, problem::Problem};
use arrow::array::{Array, AsArray, BooleanArray};
use memchr::memmem;
use std::sync::Arc;

/// A pattern, by the cheapest way to look for it.
#[derive(Debug)]
enum Pattern {
    Equals(String),
    StartsWith(String),
    EndsWith(String),
    Contains(Box<memmem::Finder<'static>>),
    /// Texts that come one after the other, between a start and an end.
    InOrder {
        start: String,
        inner: Vec<memmem::Finder<'static>>,
        end: String,
    },
    General(Vec<PatternPart>),
}

#[derive(Clone, Debug, PartialEq)]
enum PatternPart {
    Character(char),
    One,
    Any,
}

/// VARCHAR operand, pattern and escape; NULL in any gives UNKNOWN. O(characters × runs of `%`) at worst.
pub(super) fn like(operand: &Lane, pattern: &Lane, escape: Option<&Lane>) -> Result<Lane, Problem> {
    let texts = operand.array().as_string_view();
    let patterns = pattern.array().as_string_view();
    let escapes = escape.map(|escape| (escape.array().as_string_view(), escape.is_constant()));
    let escape_at = |row: usize| escapes.map(|(array, constant)| (array, if constant { 0 } else { row }));
    let constant = pattern.is_constant() && escapes.is_none_or(|(_, constant)| constant);
    if constant {
        let null = patterns.is_null(0) || escape_at(0).is_some_and(|(array, row)| array.is_null(row));
        if null {
            return Ok(Lane::like(Arc::new(BooleanArray::new_null(texts.len())), operand.is_constant()));
        }
        let compiled = Pattern::compile(patterns.value(0), escape_at(0).map(|(array, row)| array.value(row)))?;
        let result: BooleanArray = match texts.null_count() {
            0 => (0..texts.len()).map(|row| Some(compiled.matches(texts.value(row)))).collect(),
            _ => texts.iter().map(|text| text.map(|text| compiled.matches(text))).collect(),
        };
        return Ok(Lane::like(Arc::new(result), operand.is_constant()));
    }
    let rows = [operand, pattern].into_iter().chain(escape).map(|lane| lane.array().len()).max().unwrap_or(0);
    let place = |lane: &Lane, row: usize| if lane.is_constant() { 0 } else { row };
    let mut result = Vec::with_capacity(rows);
    for row in 0..rows {
        let (text, pattern) = (place(operand, row), place(pattern, row));
        let null = texts.is_null(text) || patterns.is_null(pattern);
        let escape = escape_at(row);
        result.push(if null || escape.is_some_and(|(array, row)| array.is_null(row)) {
            None
        } else {
            let escape = escape.map(|(array, row)| array.value(row));
            Some(Pattern::compile(patterns.value(pattern), escape)?.matches(texts.value(text)))
        });
    }
    Ok(Lane::Array(Arc::new(BooleanArray::from(result))))
}

impl Pattern {
    fn compile(pattern: &str, escape: Option<&str>) -> Result<Self, Problem> {
        let parts = parts(pattern, escape)?;
        let literal = |parts: &[PatternPart]| -> Option<String> {
            parts.iter().map(|part| if let PatternPart::Character(c) = part { Some(*c) } else { None }).collect()
        };
        Ok(match parts.as_slice() {
            [PatternPart::Any, inner @ .., PatternPart::Any] if literal(inner).is_some_and(|text| !text.is_empty()) => {
                let needle = literal(inner).unwrap_or_default();
                Self::Contains(Box::new(memmem::Finder::new(needle.as_bytes()).into_owned()))
            }
            [start @ .., PatternPart::Any] if literal(start).is_some() => {
                Self::StartsWith(literal(start).unwrap_or_default())
            }
            [PatternPart::Any, end @ ..] if literal(end).is_some() => Self::EndsWith(literal(end).unwrap_or_default()),
            all if all.contains(&PatternPart::One) => Self::General(all.to_vec()),
            all if !all.contains(&PatternPart::Any) => Self::Equals(literal(all).unwrap_or_default()),
            all => {
                let mut texts =
                    all.split(|part| *part == PatternPart::Any).map(|part| literal(part).unwrap_or_default());
                let (start, end) = (texts.next().unwrap_or_default(), texts.next_back().unwrap_or_default());
                let finder = |text: String| memmem::Finder::new(text.as_bytes()).into_owned();
                Self::InOrder { start, inner: texts.map(finder).collect(), end }
            }
        })
    }

    fn matches(&self, text: &str) -> bool {
        match self {
            Self::Equals(wanted) => text == wanted,
            Self::StartsWith(start) => text.starts_with(start),
            Self::EndsWith(end) => text.ends_with(end),
            Self::Contains(finder) => finder.find(text.as_bytes()).is_some(),
            Self::InOrder { start, inner, end } => {
                // No text is compared with an empty one: its bytes lie nowhere, which processors are slow to find out.
                let after = if start.is_empty() { Some(text) } else { text.strip_prefix(start.as_str()) };
                let between =
                    after.and_then(|rest| if end.is_empty() { Some(rest) } else { rest.strip_suffix(end.as_str()) });
                let Some(mut rest) = between else { return false };
                inner.iter().all(|finder| match finder.find(rest.as_bytes()) {
                    Some(at) => {
                        rest = rest.get(at + finder.needle().len()..).unwrap_or_default();
                        true
                    }
                    None => false,
                })
            }
            Self::General(parts) => general(parts, text),
        }
    }
}

fn parts(pattern: &str, escape: Option<&str>) -> Result<Vec<PatternPart>, Problem> {
    let escape = match escape {
        None => None,
        Some(text) => {
            let mut characters = text.chars();
            match (characters.next(), characters.next()) {
                (Some(one), None) => Some(one),
                _ => return Err(Problem::EscapeLength(text.into())),
            }
        }
    };
    let mut parts = Vec::new();
    let mut characters = pattern.chars();
    while let Some(c) = characters.next() {
        parts.push(match (c, escape) {
            (c, Some(escape)) if c == escape => match characters.next() {
                Some(next) if next == '%' || next == '_' || next == escape => PatternPart::Character(next),
                _ => return Err(Problem::EscapeSequence { pattern: pattern.into(), escape }),
            },
            ('%', _) if parts.last() == Some(&PatternPart::Any) => continue,
            ('%', _) => PatternPart::Any,
            ('_', _) => PatternPart::One,
            (c, _) => PatternPart::Character(c),
        });
    }
    Ok(parts)
}

/// Greedy matching that goes back only to the last `%`: O(text × parts).
fn general(parts: &[PatternPart], text: &str) -> bool {
    let mut rest = text.chars();
    let mut at = 0;
    let mut retry: Option<(usize, std::str::Chars<'_>)> = None;
    loop {
        match parts.get(at) {
            Some(PatternPart::Any) => {
                at += 1;
                retry = Some((at, rest.clone()));
                continue;
            }
            Some(part) => {
                let next = rest.next();
                if next.is_some_and(|c| *part == PatternPart::One || *part == PatternPart::Character(c)) {
                    at += 1;
                    continue;
                }
            }
            None if rest.as_str().is_empty() => return true,
            None => {}
        }
        // Let the last `%` take one character more.
        let Some((from, tail)) = &mut retry else { return false };
        if tail.next().is_none() {
            return false;
        }
        at = *from;
        rest = tail.clone();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns() {
        /// Pattern, escape, texts that match, texts that do not.
        type Case = (&'static str, Option<&'static str>, &'static [&'static str], &'static [&'static str]);
        let cases: &[Case] = &[
            ("fern", None, &["fern"], &["ferns", "Fern", ""]),
            ("fern%", None, &["fern", "ferns"], &["a fern"]),
            ("%fern", None, &["fern", "a fern"], &["ferns"]),
            ("%er%", None, &["fern", "er"], &["fen"]),
            ("f_rn", None, &["fern", "färn"], &["frn", "feern"]),
            ("%a%b_", None, &["xaxbx", "abc", "aabbc"], &["ab", "ba"]),
            ("_%_", None, &["ab", "abc"], &["a", ""]),
            ("%", None, &["", "x"], &[]),
            ("%er%fern%", None, &["her fern", "erfern"], &["fern her", "erfer", "fern"]),
            ("a%b%c", None, &["abc", "axbxc", "abbcc"], &["ac", "abcd", "xabc", "acb"]),
            ("ab%ba", None, &["abba", "abxba"], &["aba", "ab"]),
            ("%ä%ö%", None, &["äö", "xäxöx"], &["öä"]),
            ("", None, &[""], &["x"]),
            ("100!%", Some("!"), &["100%"], &["100", "1000"]),
            ("a!!b!_", Some("!"), &["a!b_"], &["a!bx"]),
            ("%o%o%x", None, &["ooox", "fooxoox"], &["ooo", "oxo"]),
        ];
        for (pattern, escape, yes, no) in cases {
            let compiled = Pattern::compile(pattern, *escape).unwrap();
            for (texts, expected) in [(yes, true), (no, false)] {
                for text in *texts {
                    assert_eq!(compiled.matches(text), expected, "{text:?} LIKE {pattern:?}");
                }
            }
        }
        assert_eq!(Pattern::compile("a", Some("xy")).unwrap_err(), Problem::EscapeLength("xy".into()));
        for bad in ["a!b", "a!"] {
            assert!(matches!(Pattern::compile(bad, Some("!")), Err(Problem::EscapeSequence { .. })), "{bad}");
        }
    }
}
