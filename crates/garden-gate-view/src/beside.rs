//! Rows with their plan to the right of them, where there is room for both.

use crate::Look;
use crate::plan::marked_plan_tree;
use crate::table::marked_table;
use crate::visible::{finished, marked_width};
use garden_gate::{Plan, ResultSet};

/// Blanks between rows and plan.
const GAP: usize = 4;
/// Columns of a terminal below which the two stand below each other when they do not fit as they are.
const WIDE: usize = 120;
/// Of a hundred columns, those of the plan where both must give way.
const SHARE_OF_PLAN: usize = 60;

/// The first `most` rows as [`table`](crate::table()) has them, and to the right of them their plan as [`plan_tree`](crate::plan_tree) has it;
/// below each other where [`Look::width`] has no room for both.
pub fn rows_beside_plan(rows: &ResultSet, most: usize, plan: &Plan, look: Look) -> String {
    let unbounded = Look { width: None, ..look };
    let (left, right) = (marked_table(rows, most, unbounded), marked_plan_tree(plan, unbounded));
    let Some(width) = look.width else { return finished(&joined(&left, &right)) };
    // Notes below the tree may be broken, the tree may lose nothing.
    let fitting = marked_plan_tree(plan, look.wide(width.saturating_sub(widest(&left) + GAP)));
    if is_whole(&fitting, &right) && widest(&left) + GAP + widest(&fitting) <= width {
        return finished(&joined(&left, &fitting));
    }
    if width < WIDE {
        return finished(&format!("{}\n{}", marked_table(rows, most, look), marked_plan_tree(plan, look)));
    }
    let of_rows = (width - width * SHARE_OF_PLAN / 100 - GAP).min(widest(&left));
    let left = marked_table(rows, most, look.wide(of_rows));
    finished(&joined(&left, &marked_plan_tree(plan, look.wide(width - of_rows - GAP))))
}

/// Whether a tree has all the figures of another, and no more texts that are cut.
fn is_whole(tree: &str, all: &str) -> bool {
    let headings = |tree: &str| tree.lines().nth(1).map(|line| line.split_whitespace().count());
    let cuts = |tree: &str| tree.matches('…').count();
    headings(tree) == headings(all) && cuts(tree) == cuts(all)
}

fn widest(text: &str) -> usize {
    text.lines().map(marked_width).max().unwrap_or(0)
}

/// Lines of two texts beside each other.
fn joined(left: &str, right: &str) -> String {
    let column = widest(left);
    let (mut left, mut right) = (left.lines(), right.lines());
    let mut out = String::new();
    loop {
        let (first, second) = (left.next(), right.next());
        if first.is_none() && second.is_none() {
            return out;
        }
        let first = first.unwrap_or_default();
        out.push_str(first);
        if let Some(second) = second.filter(|second| !second.is_empty()) {
            out.push_str(&" ".repeat(column.saturating_sub(marked_width(first)) + GAP));
            out.push_str(second);
        }
        out.push('\n');
    }
}
