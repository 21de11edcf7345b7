//! The shell in a terminal: what is typed, what is seen, and what is kept.

use crate::terminal::{CTRL_C, CTRL_D, ENTER, F2, LEFT, RIGHT, TAB, Terminal, UP};
use crate::tool::{root, without_times};
use std::num::NonZero;
use std::path::Path;

fn shell(home: &Path, more: &[&str]) -> Terminal {
    shell_of(NonZero::new(24).unwrap(), home, more)
}

fn shell_of(lines: NonZero<u16>, home: &Path, more: &[&str]) -> Terminal {
    let data = root().canonicalize().unwrap().join("demo/data").display().to_string();
    let mut arguments = vec!["shell", "--data", &data];
    arguments.extend(more);
    let terminal = Terminal::start_with(lines, env!("CARGO_BIN_EXE_garden-gate"), &arguments, home);
    terminal.ends_with("garden>");
    terminal
}

fn home() -> tempfile::TempDir {
    tempfile::tempdir().unwrap()
}

#[test]
fn a_statement_of_several_lines_is_typed_run_and_called_back() {
    let home = home();
    let terminal = shell(home.path(), &[]);
    terminal.press("select name, sun");
    terminal.press(ENTER);
    terminal.press("from bed -- all of them;");
    terminal.press(ENTER);
    terminal.sees("garden> select name, sun\n      · from bed -- all of them;\n      ·");
    terminal.press("where bed_id = 1;");
    terminal.press(ENTER);
    terminal.sees("Fern edge  full sun");
    terminal.ends_with("garden>");
    // The entire statement comes back, and its first line can be changed.
    terminal.press(UP);
    terminal.sees("      · where bed_id = 1;");
    terminal.press(CTRL_C);
    terminal.ends_with("garden>");
    terminal.press("plan");
    terminal.press(ENTER);
    terminal.sees("table scan bed");
    terminal.press("hlep");
    terminal.press(ENTER);
    terminal.sees("hlep is neither a command nor a statement: did you mean help?");
    terminal.press("exit");
    terminal.press(ENTER);
    assert_eq!(terminal.ends(), 0);
    let kept = std::fs::read_to_string(home.path().join(".local/state/garden-gate/history")).unwrap();
    assert!(kept.starts_with("select name, sun<\\n>from bed"), "{kept}");
}

#[test]
fn names_are_completed_and_mistakes_are_marked() {
    let home = home();
    let terminal = shell(home.path(), &["--no-history"]);
    terminal.press("select b. from bed b");
    terminal.press(&LEFT.repeat(11));
    terminal.press(TAB);
    terminal.sees("area_m2");
    terminal.sees("NUMERIC(5,2)");
    terminal.press(CTRL_C);
    terminal.ends_with("garden>");
    terminal.press("select name from bed where soil = '");
    terminal.press(TAB);
    terminal.sees("gravel");
    terminal.press(CTRL_C);
    terminal.ends_with("garden>");
    // A hint, which Right takes.
    terminal.press("select name from bed wh");
    terminal.ends_with("garden> select name from bed where");
    terminal.press(RIGHT);
    terminal.press(" nmae = 1 and");
    terminal.sees("where nmae = 1 and");
    assert_eq!(terminal.style_of("nmae"), (vt100::Color::Idx(1), true), "an unknown name is marked");
    assert_eq!(terminal.style_of("select"), (vt100::Color::Idx(4), false), "a keyword has its colour");
    assert!(!terminal.style_of("name from").1, "a known name is not marked");
    terminal.press(CTRL_C);
    terminal.ends_with("garden>");
    terminal.press("select   name from bed   where sun='shade'");
    terminal.press(F2);
    terminal.sees("SELECT name FROM bed WHERE sun = 'shade'");
    assert!(!home.path().join(".local").exists(), "nothing is kept");
}

#[test]
fn what_is_pasted_comes_as_it_is() {
    let home = home();
    let terminal = shell(home.path(), &[]);
    terminal.press("\x1b[200~select 1 as a; -- not yet; \nselect 'ä漢' as wide,\n\t2 as b\x1b[201~");
    terminal.sees("'ä漢' as wide");
    assert!(!terminal.screen().contains("1 row"), "nothing ran:\n{}", terminal.screen());
    terminal.press(";");
    terminal.press(ENTER);
    terminal.sees("2 as b;");
    terminal.sees("ä漢");
    terminal.ends_with("garden>");
    terminal.resize(40);
    terminal.press("select 5 as narrow;");
    terminal.press(ENTER);
    terminal.sees("narrow\n──────\n     5");
}

#[test]
fn ctrl_c_and_ctrl_d_do_no_harm() {
    let home = home();
    let terminal = shell(home.path(), &[]);
    terminal.press("create table kept (a integer); start transaction; insert into kept values (1);");
    terminal.press(ENTER);
    terminal.ends_with("garden (open)>");
    terminal.press("delete from kept");
    terminal.press(CTRL_D);
    terminal.press(CTRL_C);
    terminal.ends_with("garden (open)>");
    terminal.press(CTRL_D);
    terminal.sees("a transaction is open: COMMIT keeps it; Ctrl-D once more undoes it and leaves");
    terminal.press("commit;");
    terminal.press(ENTER);
    terminal.ends_with("garden>");
    terminal.press("select count(*) as kept_rows from kept;");
    terminal.press(ENTER);
    terminal.sees("        1\n1 row");
    // A statement without an end is ended by Ctrl-C, and by the limit of time.
    terminal.press("select count(*) from reading a, reading b, reading c;");
    terminal.press(ENTER);
    std::thread::sleep(std::time::Duration::from_millis(500));
    terminal.press(CTRL_C);
    terminal.sees("HY008");
    terminal.press("set time_limit = 200; select count(*) from reading a, reading b, reading c;");
    terminal.press(ENTER);
    terminal.sees("the time limit of 200 ms is reached");
    terminal.ends_with("garden>");
    terminal.press(CTRL_D);
    assert_eq!(terminal.ends(), 0);
}

#[test]
#[cfg(unix)]
fn the_history_is_private_and_forgets_what_begins_with_a_blank() {
    use std::os::unix::fs::PermissionsExt;
    let home = home();
    let terminal = shell(home.path(), &[]);
    terminal.press(" select 'secret' as word;");
    terminal.press(ENTER);
    terminal.sees("secret");
    terminal.ends_with("garden>");
    terminal.press("select 'open' as word;");
    terminal.press(ENTER);
    // What was typed is on the screen before the statement has run; keys that come meanwhile are lost.
    terminal.ends_with("garden>");
    terminal.press(CTRL_D);
    assert_eq!(terminal.ends(), 0);
    let file = home.path().join(".local/state/garden-gate/history");
    assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    let kept = std::fs::read_to_string(&file).unwrap();
    assert!(kept.contains("open") && !kept.contains("secret"), "{kept}");
}

#[test]
fn a_long_result_is_cut_and_can_be_saved() {
    let home = home();
    let terminal = shell(home.path(), &[]);
    terminal.press("select n from series(1, 1000) as s (n);");
    terminal.press(ENTER);
    terminal.sees("the first 200 of 1000 rows; page shows them all, save as rows.csv keeps them");
    terminal.press("save as rows.csv");
    terminal.press(ENTER);
    terminal.sees("rows.csv is written");
    terminal.press("save session as all.sql");
    terminal.press(ENTER);
    terminal.sees("all.sql is written");
    assert_eq!(std::fs::read_to_string(home.path().join("rows.csv")).unwrap().lines().count(), 1001);
    let script = std::fs::read_to_string(home.path().join("all.sql")).unwrap();
    assert_eq!(script, "select n from series(1, 1000) as s (n);\n");
}

/// On the 90 columns of the screen there is room for a narrow result and its plan, not for a wide one.
#[test]
fn a_plan_stands_beside_its_rows() {
    let home = home();
    let terminal = shell(home.path(), &["--no-history"]);
    terminal.press("rows with plan");
    terminal.press(ENTER);
    terminal.press("select count(*) as n from bed where sun <> 'shade';");
    terminal.press(ENTER);
    terminal.sees("worst estimate");
    let screen = terminal.screen();
    let line = |start: &str| screen.lines().find(|line| line.starts_with(start)).unwrap_or(&screen).to_owned();
    assert!(line(" n ").contains("  plan "), "{screen}");
    assert!(line("35").contains("aggregate") && line("1 row,").contains("COUNT(*)"), "{screen}");
    assert!(screen.contains("TRUE 35, FALSE 4, UNKNOWN 9"), "{screen}");
    terminal.press("select * from bed where bed_id = 1;");
    terminal.press(ENTER);
    terminal.sees("\nplan ");
    terminal.press("rows alone");
    terminal.press(ENTER);
    terminal.press("select count(*) as beds from bed;");
    terminal.press(ENTER);
    terminal.sees("beds\n────\n  48\n");
    assert_eq!(terminal.screen().matches("\nplan ").count(), 1);
}

#[test]
fn a_result_is_paged_both_ways_and_searched() {
    let home = home();
    let terminal = shell(home.path(), &["--no-history"]);
    terminal.press("select n, n * 1000 as \"a column whose name is very long, so that it reaches far to the right of the screen\", 'tail ' || cast(n as varchar(9)) as last_one from series(1, 500) as s (n);");
    terminal.press(ENTER);
    terminal.ends_with("garden>");
    terminal.press("page");
    terminal.press(ENTER);
    terminal.sees("lines 1–21 of 501");
    terminal.press(" ");
    terminal.sees("lines 22–42 of 501");
    assert!(terminal.screen().starts_with("  n"), "the head stays:\n{}", terminal.screen());
    terminal.press(&RIGHT.repeat(8));
    terminal.sees("tail 22");
    terminal.press("/tail 333");
    terminal.press(ENTER);
    terminal.sees("lines 333–353 of 501");
    terminal.press("/nowhere");
    terminal.press(ENTER);
    terminal.sees("not found below");
    terminal.press("q");
    terminal.ends_with("garden>");
    terminal.press("exit");
    terminal.press(ENTER);
    assert_eq!(terminal.ends(), 0);
}

/// The session that the page on the shell shows: its lines are typed, and the screen is compared.
#[test]
fn the_session_of_the_page_is_what_the_shell_shows() {
    let page = std::fs::read_to_string(root().join("docs/shell.md")).unwrap();
    let session = page.split("```text\n").nth(1).and_then(|rest| rest.split("```").next()).unwrap().trim_end();
    let home = home();
    let terminal = shell_of(NonZero::new(100).unwrap(), home.path(), &["--no-history"]);
    for line in session.lines() {
        let prompts = ["garden> ", "garden (open)> ", "      · "];
        let typed = prompts.iter().find_map(|prompt| line.strip_prefix(prompt));
        let Some(typed) = typed else { continue };
        terminal.press(typed);
        terminal.sees(line);
        terminal.press(ENTER);
        terminal.ends_with_any(&["garden>", "garden (open)>", "      ·"]);
    }
    let seen = terminal.screen();
    let seen = seen.trim_end().trim_end_matches("garden>").trim_end();
    let shown: Vec<String> = session.lines().filter(|line| !line.trim().is_empty()).map(without_times).collect();
    let found: Vec<String> = seen.lines().skip(1).map(without_times).collect();
    assert_eq!(found, shown, "\n{seen}");
}
