//! Character and binary string functions (clauses 6.31 and 6.32). Positions and lengths count characters, of binary strings bytes.

use super::{Arguments, Problem};
use crate::logical::TextFunction as F;
use crate::types::TrimSide;
use arrow::array::ArrayRef;
use unicode_normalization::UnicodeNormalization;

/// Characters that LPAD and RPAD may make at most.
const MOST_PADDED: usize = 1 << 24;

/// The functions of texts.
pub(super) fn call(function: F, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    match function {
        F::Upper => each(arguments, str::to_uppercase),
        F::Lower => each(arguments, str::to_lowercase),
        F::CharacterLength | F::OctetLength if arguments.is_binary(0) => {
            let bytes = arguments.binary(0);
            arguments.wholes(|row| Ok(bytes.get(row).map(<[u8]>::len)))
        }
        F::CharacterLength => {
            let text = arguments.text(0);
            arguments.wholes(|row| Ok(text.get(row).map(|text| text.chars().count())))
        }
        F::OctetLength => {
            let text = arguments.text(0);
            arguments.wholes(|row| Ok(text.get(row).map(str::len)))
        }
        F::Substring => substring(arguments),
        F::Position => position(arguments),
        F::Overlay => overlay(arguments),
        F::LeftPad | F::RightPad => pad(function == F::LeftPad, arguments),
        F::Normalize | F::IsNormalized => normalize(function == F::Normalize, arguments),
        F::Translate => translate(arguments),
        F::Trim(side) if arguments.is_binary(0) => trim_binary(side, arguments),
        F::Trim(side) => trim(side, arguments),
        F::TrimSet(side) => trim_set(side, arguments),
    }
}

fn each(arguments: &Arguments<'_>, change: impl Fn(&str) -> String) -> Result<ArrayRef, Problem> {
    let text = arguments.text(0);
    arguments.texts(|row| Ok(text.get(row).map(&change)))
}

/// The part of `length` units from `start` (1 is the first) that lies inside, as bounds from 0.
fn part(start: i64, length: Option<i64>, units: usize) -> Result<(usize, usize), Problem> {
    let units = i64::try_from(units).unwrap_or(i64::MAX);
    let end = match length {
        Some(length) if length < 0 => return Err(Problem::SubstringLength { length }),
        Some(length) => start.saturating_add(length),
        None => start.max(units.saturating_add(1)),
    };
    let inside = |at: i64| usize::try_from((at - 1).clamp(0, units)).unwrap_or(0);
    Ok((inside(start), inside(end).max(inside(start))))
}

/// The characters of these bounds.
fn slice(text: &str, from: usize, to: usize) -> &str {
    let byte = |at: usize| text.char_indices().nth(at).map_or(text.len(), |(byte, _)| byte);
    let (start, end) =
        if text.is_ascii() { (from.min(text.len()), to.min(text.len())) } else { (byte(from), byte(to)) };
    &text[start..end]
}

fn substring(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let start = arguments.whole(1);
    let length = (arguments.count() > 2).then(|| arguments.whole(2));
    // Start and length of a row; `None` when one of them is NULL.
    let bounds = |row: usize| -> Option<(i64, Option<i64>)> {
        let start = start.get(row)?;
        match length {
            Some(length) => Some((start, Some(length.get(row)?))),
            None => Some((start, None)),
        }
    };
    if arguments.is_binary(0) {
        let bytes = arguments.binary(0);
        return arguments.binaries(|row| {
            let (Some(bytes), Some((start, length))) = (bytes.get(row), bounds(row)) else { return Ok(None) };
            let (from, to) = part(start, length, bytes.len())?;
            Ok(Some(bytes[from..to].to_vec()))
        });
    }
    let text = arguments.text(0);
    arguments.texts(|row| {
        let (Some(text), Some((start, length))) = (text.get(row), bounds(row)) else { return Ok(None) };
        let units = if text.is_ascii() { text.len() } else { text.chars().count() };
        let (from, to) = part(start, length, units)?;
        Ok(Some(slice(text, from, to).to_owned()))
    })
}

/// The first place of the one in the other, from 1; 0 when it is not there. Nothing is found at the first place.
fn position(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    if arguments.is_binary(0) && arguments.is_binary(1) {
        let (wanted, within) = (arguments.binary(0), arguments.binary(1));
        return arguments.wholes(|row| {
            let (Some(wanted), Some(within)) = (wanted.get(row), within.get(row)) else { return Ok(None) };
            Ok(Some(memchr::memmem::find(within, wanted).map_or(0, |at| at + 1)))
        });
    }
    let (wanted, within) = (arguments.text(0), arguments.text(1));
    arguments.wholes(|row| {
        let (Some(wanted), Some(within)) = (wanted.get(row), within.get(row)) else { return Ok(None) };
        Ok(Some(within.find(wanted).map_or(0, |at| within[..at].chars().count() + 1)))
    })
}

/// `OVERLAY(text PLACING other FROM start FOR length)`: the part from `start` is replaced; without a length, as long as `other` is.
/// OVERLAY is what appears before `start`, the other text, and what appears from `start + length` on (clause 6.32): up to which unit the one
/// goes, and from which the other. With a negative length some units stand twice.
fn around(start: i64, length: i64, units: usize) -> Result<(usize, usize), Problem> {
    let (_, before) = part(1, Some(start.saturating_sub(1)), units)?;
    let (behind, _) = part(start.saturating_add(length), None, units)?;
    Ok((before, behind))
}

fn overlay(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let start = arguments.whole(2);
    let length = (arguments.count() > 3).then(|| arguments.whole(3));
    let bounds = |row: usize, usual: usize| -> Option<(i64, i64)> {
        let usual = i64::try_from(usual).unwrap_or(i64::MAX);
        Some((start.get(row)?, length.map_or(Some(usual), |length| length.get(row))?))
    };
    if arguments.is_binary(0) {
        let (bytes, other) = (arguments.binary(0), arguments.binary(1));
        return arguments.binaries(|row| {
            let (Some(bytes), Some(other)) = (bytes.get(row), other.get(row)) else { return Ok(None) };
            let Some((start, length)) = bounds(row, other.len()) else { return Ok(None) };
            let (to, from) = around(start, length, bytes.len())?;
            Ok(Some([&bytes[..to], other, &bytes[from..]].concat()))
        });
    }
    let (text, other) = (arguments.text(0), arguments.text(1));
    arguments.texts(|row| {
        let (Some(text), Some(other)) = (text.get(row), other.get(row)) else { return Ok(None) };
        let Some((start, length)) = bounds(row, other.chars().count()) else { return Ok(None) };
        let units = text.chars().count();
        let (to, from) = around(start, length, units)?;
        Ok(Some(format!("{}{other}{}", slice(text, 0, to), slice(text, from, units))))
    })
}

/// `TRIM(side character FROM text)`: exactly one character (clause 6.32).
fn trim(side: TrimSide, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (text, character) = (arguments.text(0), arguments.text(1));
    arguments.texts(|row| {
        let (Some(text), Some(character)) = (text.get(row), character.get(row)) else { return Ok(None) };
        let mut characters = character.chars();
        let (Some(one), None) = (characters.next(), characters.next()) else {
            return Err(Problem::TrimCharacter { text: character.into() });
        };
        Ok(Some(
            match side {
                TrimSide::Leading => text.trim_start_matches(one),
                TrimSide::Trailing => text.trim_end_matches(one),
                TrimSide::Both => text.trim_matches(one),
            }
            .to_owned(),
        ))
    })
}

fn trim_binary(side: TrimSide, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (bytes, octet) = (arguments.binary(0), arguments.binary(1));
    arguments.binaries(|row| {
        let (Some(mut bytes), Some(octet)) = (bytes.get(row), octet.get(row)) else { return Ok(None) };
        let [one] = octet else { return Err(Problem::TrimCharacter { text: crate::types::format_hex(octet) }) };
        if side != TrimSide::Trailing {
            while let Some(rest) = bytes.strip_prefix(&[*one]) {
                bytes = rest;
            }
        }
        if side != TrimSide::Leading {
            while let Some(rest) = bytes.strip_suffix(&[*one]) {
                bytes = rest;
            }
        }
        Ok(Some(bytes.to_vec()))
    })
}

/// LTRIM, RTRIM and BTRIM: any of a set of characters; without one, blanks.
fn trim_set(side: TrimSide, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let text = arguments.text(0);
    let set = (arguments.count() > 1).then(|| arguments.text(1));
    arguments.texts(|row| {
        let set = match set {
            Some(set) => set.get(row),
            None => Some(" "),
        };
        let (Some(text), Some(set)) = (text.get(row), set) else { return Ok(None) };
        let belongs = |character: char| set.contains(character);
        Ok(Some(
            match side {
                TrimSide::Leading => text.trim_start_matches(belongs),
                TrimSide::Trailing => text.trim_end_matches(belongs),
                TrimSide::Both => text.trim_matches(belongs),
            }
            .to_owned(),
        ))
    })
}

/// LPAD and RPAD: filled up to a length, or cut to it.
fn pad(left: bool, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (text, length) = (arguments.text(0), arguments.whole(1));
    let filler = (arguments.count() > 2).then(|| arguments.text(2));
    arguments.texts(|row| {
        let filler = match filler {
            Some(filler) => filler.get(row),
            None => Some(" "),
        };
        let (Some(text), Some(length), Some(filler)) = (text.get(row), length.get(row), filler) else {
            return Ok(None);
        };
        let Some(length) = usize::try_from(length).ok().filter(|length| *length <= MOST_PADDED) else {
            return Err(Problem::SubstringLength { length });
        };
        let units = text.chars().count();
        if length <= units || filler.is_empty() {
            return Ok(Some(slice(text, 0, length.min(units)).to_owned()));
        }
        let fill = repeated(filler, length - units);
        Ok(Some(if left { fill + text } else { text.to_owned() + &fill }))
    })
}

/// So many characters of a text that is written again and again; in bytes where each character is one.
fn repeated(text: &str, characters: usize) -> String {
    if text.is_ascii() {
        let mut made = text.repeat(characters.div_ceil(text.len()));
        made.truncate(characters);
        made
    } else {
        text.chars().cycle().take(characters).collect()
    }
}

fn normal_form(text: &str, form: &str) -> String {
    match form {
        "NFD" => text.nfd().collect(),
        "NFKC" => text.nfkc().collect(),
        "NFKD" => text.nfkd().collect(),
        _ => text.nfc().collect(),
    }
}

fn normalize(change: bool, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (text, form) = (arguments.text(0), arguments.text(1));
    let both = |row: usize| Some((text.get(row)?, form.get(row)?));
    if change {
        return arguments.texts(|row| Ok(both(row).map(|(text, form)| normal_form(text, form))));
    }
    arguments.truths(|row| Ok(both(row).map(|(text, form)| normal_form(text, form) == text)))
}

/// `TRANSLATE(text USING name)` by the transliterations there are.
fn translate(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (text, name) = (arguments.text(0), arguments.text(1));
    arguments.texts(|row| {
        let (Some(text), Some(name)) = (text.get(row), name.get(row)) else { return Ok(None) };
        match name {
            // Letters without their accents: é becomes e.
            "WITHOUT_MARKS" => {
                let bare = text.nfd().filter(|c| !unicode_normalization::char::is_combining_mark(*c));
                Ok(Some(bare.nfc().collect()))
            }
            other => Err(Problem::NoTransliteration { name: other.into() }),
        }
    })
}
