//! A plan as a graph in the DOT language, for those who draw graphs with tools of their own.

use super::short;
use crate::plan::title;
use garden_gate::{Plan, plan::PlanNode};
use std::fmt::Write as _;

/// The plan as a directed graph: a node an operator, an edge from each input, with its rows.
pub fn plan_dot(plan: &Plan) -> String {
    let mut out = format!("digraph \"plan {}\" {{\n  rankdir=BT;\n  node [shape=box];\n", plan.fingerprint);
    write(&plan.root, &mut 0, &mut out);
    out.push_str("}\n");
    out
}

/// Writes a node and what is below it, and gives its number.
fn write(node: &PlanNode, next: &mut usize, out: &mut String) -> usize {
    let own = *next;
    *next += 1;
    let conditions = node.predicates.iter().map(|predicate| format!("{}: {}", predicate.place, predicate.text));
    let lines: Vec<String> = std::iter::once(title(node)).chain(conditions).map(|line| escaped(&line)).collect();
    let _ = writeln!(out, "  n{own} [label=\"{}\"];", lines.join("\\n"));
    for child in &node.children {
        let number = write(child, next, out);
        let estimated = format!("est. {}", short(child.estimated_rows));
        let rows = child.actual_rows.map_or(estimated.clone(), |rows| format!("{rows} rows ({estimated})"));
        let _ = writeln!(out, "  n{number} -> n{own} [label=\"{rows}\"];");
    }
    own
}

fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', " ")
}
