//! A terminal that a program runs in, with the screen as a person sees it.

use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};
use std::io::{Read, Write};
use std::num::NonZero;
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// How long a person would wait for the screen to change, with room for a busy machine.
const PATIENCE: Duration = Duration::from_secs(30);

/// Lines and columns of the screen.
const LINES: NonZero<u16> = NonZero::new(24).unwrap();
const COLUMNS: NonZero<u16> = NonZero::new(90).unwrap();

pub(crate) struct Terminal {
    master: Box<dyn MasterPty + Send>,
    keys: Arc<Mutex<Box<dyn Write + Send>>>,
    screen: Arc<Mutex<vt100::Parser>>,
    child: Box<dyn Child + Send + Sync>,
}

/// Keys as a terminal sends them.
pub(crate) const ENTER: &str = "\r";
pub(crate) const TAB: &str = "\t";
pub(crate) const UP: &str = "\x1b[A";
pub(crate) const LEFT: &str = "\x1b[D";
pub(crate) const RIGHT: &str = "\x1b[C";
pub(crate) const F2: &str = "\x1bOQ";
pub(crate) const CTRL_C: &str = "\x03";
pub(crate) const CTRL_D: &str = "\x04";

impl Terminal {
    /// Starts a program in a terminal of so many lines.
    pub(crate) fn start_with(lines: NonZero<u16>, program: &str, arguments: &[&str], home: &Path) -> Self {
        let pair = native_pty_system().openpty(size(lines, COLUMNS.get())).unwrap();
        let mut command = CommandBuilder::new(program);
        command.args(arguments);
        command.env("TERM", "xterm-256color");
        command.env("HOME", home);
        command.env("XDG_STATE_HOME", "");
        command.env_remove("NO_COLOR");
        command.env("EDITOR", "");
        command.env("PAGER", "");
        command.cwd(home);
        let child = pair.slave.spawn_command(command).unwrap();
        drop(pair.slave);
        let mut output = pair.master.try_clone_reader().unwrap();
        let keys = Arc::new(Mutex::new(pair.master.take_writer().unwrap()));
        let screen = Arc::new(Mutex::new(vt100::Parser::new(lines, COLUMNS, 200)));
        let (answers, shown) = (Arc::clone(&keys), Arc::clone(&screen));
        std::thread::spawn(move || {
            let mut block = [0; 4096];
            while let Ok(length @ 1..) = output.read(&mut block) {
                let mut screen = shown.lock().unwrap();
                // Up to a question where the cursor is, which a terminal answers.
                let mut rest = &block[..length];
                while let Some(at) = rest.windows(4).position(|bytes| bytes == b"\x1b[6n") {
                    screen.process(&rest[..at]);
                    let (line, column) = screen.screen().cursor_position();
                    write!(answers.lock().unwrap(), "\x1b[{};{}R", line + 1, column + 1).unwrap();
                    rest = &rest[at + 4..];
                }
                screen.process(rest);
            }
        });
        Self { master: pair.master, keys, screen, child }
    }

    /// Presses keys.
    pub(crate) fn press(&self, keys: &str) {
        let mut writer = self.keys.lock().unwrap();
        writer.write_all(keys.as_bytes()).unwrap();
        writer.flush().unwrap();
    }

    /// The lines of the screen that are not empty.
    pub(crate) fn screen(&self) -> String {
        let contents = self.screen.lock().unwrap().screen().contents();
        contents.lines().map(str::trim_end).filter(|line| !line.is_empty()).collect::<Vec<_>>().join("\n")
    }

    /// Waits until the screen has a text.
    #[track_caller]
    pub(crate) fn sees(&self, text: &str) {
        self.waits(&format!("{text:?}"), |screen| screen.contains(text));
    }

    /// Waits until the last line of the screen is this one, and stays so: a prompt that is about to be drawn anew takes no keys.
    #[track_caller]
    pub(crate) fn ends_with(&self, line: &str) {
        self.ends_with_any(&[line]);
    }

    /// [`Terminal::ends_with`] for one of several lines.
    #[track_caller]
    pub(crate) fn ends_with_any(&self, lines: &[&str]) {
        let since = std::cell::Cell::new(Instant::now());
        self.waits(&format!("one of {lines:?} at the end"), |screen| {
            if !screen.lines().last().is_some_and(|last| lines.contains(&last)) {
                since.set(Instant::now());
            }
            since.get().elapsed() > Duration::from_millis(400)
        });
    }

    #[track_caller]
    fn waits(&self, what: &str, holds: impl Fn(&str) -> bool) {
        let started = Instant::now();
        while !holds(&self.screen()) {
            assert!(started.elapsed() < PATIENCE, "{what} is not seen:\n{}", self.screen());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// The style of the first place of a text on the screen: its colour, and whether it is underlined.
    pub(crate) fn style_of(&self, text: &str) -> (vt100::Color, bool) {
        let parser = self.screen.lock().unwrap();
        let screen = parser.screen();
        let (rows, columns) = screen.size();
        let (rows, columns) = (rows.get(), columns.get());
        let found = (0..rows).find_map(|row| {
            let line: String = screen.contents_between(row, 0, row, columns);
            let column = u16::try_from(line[..line.find(text)?].chars().count()).ok()?;
            screen.cell(row, column).map(|cell| (cell.fgcolor(), cell.underline()))
        });
        found.unwrap_or_else(|| panic!("{text:?} is not seen:\n{}", screen.contents()))
    }

    pub(crate) fn resize(&self, columns: u16) {
        self.master.resize(size(LINES, columns)).unwrap();
        self.screen.lock().unwrap().screen_mut().set_size(LINES, NonZero::new(columns).unwrap());
    }

    /// Waits until the program has ended, and gives its exit status.
    pub(crate) fn ends(mut self) -> u32 {
        let started = Instant::now();
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                return status.exit_code();
            }
            assert!(started.elapsed() < PATIENCE, "it does not end:\n{}", self.screen());
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
    }
}

fn size(lines: NonZero<u16>, columns: u16) -> PtySize {
    PtySize { rows: lines.get(), cols: columns, pixel_width: 0, pixel_height: 0 }
}
