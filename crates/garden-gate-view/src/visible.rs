//! What data and names may do to a terminal: nothing. Characters that move the cursor, change colours or turn the direction of writing
//! around are shown as signs; what is to be coloured is marked on the way by characters that no text has a use for.

use anstyle::{AnsiColor, Style};
use std::borrow::Cow;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// How a piece of text is to stand out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Paint {
    Dim,
    Strong,
    Good,
    Warn,
}

/// Noncharacters (Unicode, section 23.7): they stand in no text, and mark where a style begins and ends.
const FIRST_MARK: u32 = 0xFDD0;
const END_MARK: char = '\u{FDDF}';

impl Paint {
    const ALL: [Self; 4] = [Self::Dim, Self::Strong, Self::Good, Self::Warn];

    fn style(self) -> Style {
        match self {
            Self::Dim => Style::new().dimmed(),
            Self::Strong => Style::new().bold(),
            Self::Good => AnsiColor::Green.on_default(),
            Self::Warn => AnsiColor::Magenta.on_default(),
        }
    }

    /// The text between its marks.
    pub(crate) fn mark(self, text: &str) -> String {
        let first = char::from_u32(FIRST_MARK + self as u32).unwrap_or(END_MARK);
        format!("{first}{}{END_MARK}", text.replace(is_mark, "·"))
    }

    fn of_mark(mark: char) -> Option<Self> {
        Self::ALL.get((mark as u32).checked_sub(FIRST_MARK)? as usize).copied()
    }
}

fn is_mark(character: char) -> bool {
    (FIRST_MARK..=0xFDEF).contains(&(character as u32))
}

/// Characters that turn the direction of writing around, end lines, or can't be seen.
fn is_unseen(character: char) -> bool {
    matches!(character,
        '\u{61c}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}')
}

fn sign(character: char) -> char {
    match character {
        '\n' => '↵',
        '\t' => '→',
        character if character.is_control() || is_unseen(character) || is_mark(character) => '·',
        character => character,
    }
}

/// A text on one line, with a sign for each character that can't be seen or that a terminal would obey.
pub fn visible(text: &str) -> Cow<'_, str> {
    if text.chars().all(|character| sign(character) == character) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(text.chars().map(sign).collect())
}

/// Columns that a line takes when its marks have become styles.
pub(crate) fn marked_width(line: &str) -> usize {
    line.chars().filter(|character| !is_mark(*character)).map(|character| character.width().unwrap_or(0)).sum()
}

/// An entire output as it goes to a terminal: marks have become styles, and nothing else in it is a control character.
pub(crate) fn finished(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut open = Style::new();
    for character in text.chars() {
        match character {
            '\n' | '\t' => out.push(character),
            END_MARK => {
                out.push_str(&open.render_reset().to_string());
            }
            mark if Paint::of_mark(mark).is_some() => {
                open = Paint::of_mark(mark).map_or(open, Paint::style);
                out.push_str(&open.render().to_string());
            }
            other => out.push(sign(other)),
        }
    }
    out
}

/// At most `width` columns of a text, the last one `…` when some of it is missing.
pub(crate) fn cut(text: &str, width: usize) -> Cow<'_, str> {
    if text.width() <= width {
        return Cow::Borrowed(text);
    }
    let mut kept = String::new();
    let mut used = 1;
    for character in text.chars() {
        used += character.width().unwrap_or(0);
        if used > width {
            break;
        }
        kept.push(character);
    }
    kept.push('…');
    kept.into()
}

/// Lines of at most `width` columns, broken at blanks; those after the first begin with `indent`.
pub(crate) fn wrapped(text: &str, width: Option<usize>, indent: &str) -> String {
    let Some(width) = width.filter(|width| text.width() > *width) else { return text.to_owned() };
    let (mut out, mut used) = (String::new(), 0);
    for word in text.split(' ') {
        let gap = usize::from(used > 0);
        if used > indent.width() && used + gap + word.width() > width {
            out.push('\n');
            out.push_str(indent);
            used = indent.width();
        } else if !out.is_empty() {
            out.push(' ');
            used += 1;
        }
        out.push_str(word);
        used += word.width();
    }
    out
}

/// Paragraphs, with a blank line between two, as lines of at most `width` columns.
pub fn paragraphs(text: &str, width: usize) -> String {
    let joined = text.split("\n\n").map(|paragraph| paragraph.split_whitespace().collect::<Vec<_>>().join(" "));
    joined.map(|paragraph| wrapped(&paragraph, Some(width), "")).collect::<Vec<_>>().join("\n\n")
}

/// Narrows the widest columns until all of them, with gaps between, fit; none below `least`.
pub(crate) fn narrow(widths: &mut [usize], gap: usize, limit: Option<usize>, least: usize) {
    let Some(limit) = limit else { return };
    let total = |widths: &[usize]| widths.iter().sum::<usize>() + gap * widths.len().saturating_sub(1);
    while total(widths) > limit {
        let Some(widest) = widths.iter_mut().filter(|width| **width > least).max() else { return };
        *widest -= 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_unseen_gets_through() {
        assert_eq!(visible("a\u{1b}[31m\nb\u{202e}c\u{9b}"), "a·[31m↵b·c·");
        let marked = Paint::Strong.mark("x\u{1b}[2J\u{FDD1}");
        assert_eq!(finished(&format!("{marked}\u{1b}c\n")), "\u{1b}[1mx·[2J·\u{1b}[0m·c\n");
        assert_eq!(wrapped("one two three", Some(8), "  "), "one two\n  three");
        assert_eq!(cut("abcdef", 4), "abc…");
    }
}
