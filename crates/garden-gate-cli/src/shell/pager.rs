//! A long or wide result on a screen of its own: it scrolls both ways below its head, and can be searched.

use crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, read};
use crossterm::terminal::{
    Clear, ClearType, EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode, size,
};
use crossterm::{cursor, queue, style::Print};
use std::io::{self, Write};
use unicode_width::UnicodeWidthChar;

/// Columns that Left and Right move by.
const STEP: usize = 8;

/// Lines of text, the first of which stay at the top.
struct Pager<'t> {
    head: &'t [&'t str],
    lines: &'t [&'t str],
    /// The line below the head, and the column at the left edge.
    top: usize,
    left: usize,
    /// Lines and columns of the screen.
    height: usize,
    width: usize,
    sought: String,
    /// What is typed after `/`.
    typed: Option<String>,
    said: &'static str,
}

/// The terminal as it was, whatever happens.
struct Screen;

impl Screen {
    fn enter() -> io::Result<Self> {
        enable_raw_mode()?;
        let screen = Self;
        queue!(io::stdout(), EnterAlternateScreen, cursor::Hide)?;
        Ok(screen)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        // There is nothing more to be done for a terminal that takes nothing.
        let _ = queue!(io::stdout(), cursor::Show, LeaveAlternateScreen).and_then(|()| io::stdout().flush());
        let _ = disable_raw_mode();
    }
}

/// Shows a text whose first `head` lines stay, until `q` is pressed.
pub(super) fn page(text: &str, head: usize) -> io::Result<()> {
    let lines: Vec<&str> = text.lines().collect();
    let (head, lines) = lines.split_at(head.min(lines.len()));
    let (typed, sought) = (None, String::new());
    let mut pager = Pager { head, lines, top: 0, left: 0, height: 24, width: 80, sought, typed, said: "" };
    let _screen = Screen::enter()?;
    loop {
        if let Ok((width, height)) = size() {
            (pager.width, pager.height) = (usize::from(width).max(1), usize::from(height).max(2));
        }
        pager.draw(&mut io::stdout().lock())?;
        let event = read()?;
        if let Event::Key(key @ KeyEvent { kind: KeyEventKind::Press | KeyEventKind::Repeat, .. }) = event
            && !pager.key(key)
        {
            return Ok(());
        }
    }
}

impl Pager<'_> {
    /// Lines between the head and the last one.
    fn room(&self) -> usize {
        self.height.saturating_sub(self.head.len() + 1).max(1)
    }

    /// Does what a key says; `false` to leave.
    fn key(&mut self, key: KeyEvent) -> bool {
        self.said = "";
        if let Some(typed) = &mut self.typed {
            match key.code {
                KeyCode::Enter => {
                    self.sought = self.typed.take().unwrap_or_default();
                    self.seek(self.top);
                }
                KeyCode::Esc => self.typed = None,
                KeyCode::Backspace => drop(typed.pop()),
                KeyCode::Char(letter) => typed.push(letter),
                _ => {}
            }
            return true;
        }
        let page = self.room();
        match key.code {
            KeyCode::Char('q') | KeyCode::Esc => return false,
            KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => return false,
            KeyCode::Down | KeyCode::Enter => self.top += 1,
            KeyCode::Up => self.top = self.top.saturating_sub(1),
            KeyCode::PageDown | KeyCode::Char(' ') => self.top += page,
            KeyCode::PageUp => self.top = self.top.saturating_sub(page),
            KeyCode::Home => (self.top, self.left) = (0, 0),
            KeyCode::End => self.top = self.lines.len(),
            KeyCode::Right => self.left += STEP,
            KeyCode::Left => self.left = self.left.saturating_sub(STEP),
            KeyCode::Char('/') => self.typed = Some(String::new()),
            KeyCode::Char('n') => self.seek(self.top + 1),
            _ => {}
        }
        self.top = self.top.min(self.lines.len().saturating_sub(page));
        true
    }

    /// Goes to the next line that has what is sought, in any case of letters.
    fn seek(&mut self, from: usize) {
        let wanted = self.sought.to_lowercase();
        let rest = self.lines.iter().enumerate().skip(from);
        match rest.into_iter().find(|(_, line)| line.to_lowercase().contains(&wanted)) {
            Some((at, _)) => self.top = at.min(self.lines.len().saturating_sub(1)),
            None => self.said = "not found below; Home goes to the first row",
        }
    }

    fn draw(&self, out: &mut impl Write) -> io::Result<()> {
        queue!(out, cursor::MoveTo(0, 0), Clear(ClearType::All))?;
        let shown = self.head.iter().chain(self.lines.iter().skip(self.top).take(self.room()));
        for line in shown {
            queue!(out, Print(cut(line, self.left, self.width)), Print("\r\n"))?;
        }
        let last = u16::try_from(self.height.saturating_sub(1)).unwrap_or(u16::MAX);
        queue!(out, cursor::MoveTo(0, last), Print(cut(&self.status(), 0, self.width)))?;
        out.flush()
    }

    fn status(&self) -> String {
        if let Some(typed) = &self.typed {
            return format!("/{typed}");
        }
        if !self.said.is_empty() {
            return self.said.to_owned();
        }
        let end = (self.top + self.room()).min(self.lines.len());
        format!("lines {}–{end} of {}   arrows, pages, / searches, n goes on, q leaves", self.top + 1, self.lines.len())
    }
}

/// The columns of a line from the left edge, as many as there is room for.
fn cut(line: &str, left: usize, width: usize) -> String {
    let mut column = 0;
    let mut out = String::new();
    for character in line.chars() {
        let wide = character.width().unwrap_or(0);
        if column >= left && column + wide <= left + width {
            out.push(character);
        }
        column += wide;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_cut_by_columns() {
        for (line, left, width, expected) in [
            ("abcdef", 0, 3, "abc"),
            ("abcdef", 2, 3, "cde"),
            ("a漢字b", 0, 4, "a漢"),
            ("a漢字b", 1, 4, "漢字"),
            ("ab", 5, 4, ""),
        ] {
            assert_eq!(cut(line, left, width), expected, "{line} {left} {width}");
        }
    }
}
