//! When two plans are the same: the fingerprint covers all that a plan does, the shape only how it goes about it.
//!
//! Both are hashes of a text of the plan in which nothing depends on the user's names. A column of a table is
//! `table.occurrence.column`, occurrences counted in the order the plan reads them; a computed column is the number of its place among
//! all that the plan computes, inputs first; a constant or parameter is its type.

use super::describe::{details, name, predicates};
use super::{Node, Operator, PlanNode};
use crate::collections::HashMap;
use crate::logical::{ColumnId, Columns, JoinKindName, Printer, Scan};
use std::fmt::Write as _;

/// What two plans have in common that do the same: 16 hexadecimal digits of the FNV-1a hash of the canonical text.
pub(super) fn fingerprint((root, output): (&Node, &[ColumnId]), columns: &Columns) -> String {
    let mut names = Names { columns, of: HashMap::default(), tables: HashMap::default(), computed: 0 };
    names.visit(root);
    let printer = Printer::canonical(columns, &names.of);
    let mut text = String::new();
    write_work(root, printer, &mut text);
    let output = output.iter().map(|id| printer.column(*id)).collect::<Vec<_>>();
    let _ = write!(text, "gives {}", output.join(", "));
    hash(&text)
}

/// As [`fingerprint`], of an operator above a plan that has one.
pub(super) fn fingerprint_above(below: &str, node: &PlanNode) -> String {
    let target = node.target.as_deref().unwrap_or_default();
    hash(&format!("{}|{target}|{}({below})", node.operator, node.details.join("|")))
}

/// What two plans have in common that go the same way: operators, join kinds, tables, access paths.
pub(super) fn shape(root: &PlanNode) -> String {
    let mut text = String::new();
    write_shape(root, &mut text);
    hash(&text)
}

fn write_shape(node: &PlanNode, out: &mut String) {
    out.push_str(node.operator.name());
    let _ = write!(out, "|{}", node.kind.map(JoinKindName::name).unwrap_or_default());
    let target = node.target.as_deref().filter(|_| !node.operator.gives_named_rows());
    for text in [target.map(str::to_lowercase), node.index.as_ref().map(|index| index.to_string().to_lowercase())] {
        let _ = write!(out, "|{}", text.unwrap_or_default());
    }
    out.push('(');
    node.children.iter().for_each(|child| write_shape(child, out));
    out.push(')');
}

/// Names for the columns of a plan that are the same in every plan that does the same.
struct Names<'a> {
    columns: &'a Columns,
    of: HashMap<ColumnId, String>,
    /// How often each table has been read so far.
    tables: HashMap<String, usize>,
    computed: usize,
}

impl Names<'_> {
    fn visit(&mut self, node: &Node) {
        node.inputs.iter().for_each(|input| self.visit(input));
        match &node.operator {
            Operator::Scan { scan, .. } => self.read(scan),
            Operator::IndexJoin(join) => self.read(&join.scan),
            Operator::Project(computed) => self.number(computed.iter().map(|(id, _)| *id)),
            Operator::Window { calls, .. } => self.number(calls.iter().map(|(id, _)| *id)),
            Operator::Aggregate { keys, aggregates, .. } => {
                self.number(keys.iter().map(|(id, _)| *id).chain(aggregates.iter().map(|(id, _)| *id)));
            }
            Operator::Expand { made, ordinality, .. } => {
                self.number(made.iter().map(|(id, _)| *id).chain(*ordinality));
            }
            Operator::Join(join) => self.number(join.mark),
            Operator::OneRow
            | Operator::Empty
            | Operator::Filter(_)
            | Operator::Values(_)
            | Operator::UnionAll(_)
            | Operator::Compare { .. }
            | Operator::SharedStep { .. }
            | Operator::Recursion(_)
            | Operator::RecursionInput { .. }
            | Operator::Distinct(_)
            | Operator::Sort(_)
            | Operator::TopN { .. }
            | Operator::Limit { .. } => {}
        }
        self.number(node.output.iter().copied());
    }

    fn read(&mut self, scan: &Scan) {
        let table = scan.table.to_lowercase();
        let times = self.tables.entry(table.clone()).or_default();
        *times += 1;
        for (id, place) in &scan.columns {
            let column = self.columns.get(*id).name.to_lowercase();
            self.of.insert(*id, format!("{table}.{times}.{place}.{column}"));
        }
    }

    fn number(&mut self, ids: impl IntoIterator<Item = ColumnId>) {
        for id in ids {
            let next = self.computed;
            self.of.entry(id).or_insert_with(|| {
                self.computed += 1;
                format!("#{next}")
            });
        }
    }
}

/// A node and all below it: operator, kind, table, index, columns read, what it computes, its conditions in no order.
fn write_work(node: &Node, printer: Printer<'_>, out: &mut String) {
    let (operator, kind) = name(&node.operator);
    let _ = write!(out, "{operator}|{}", kind.map(JoinKindName::name).unwrap_or_default());
    let list = |ids: &[ColumnId]| ids.iter().map(|id| printer.column(*id)).collect::<Vec<_>>().join(",");
    let sorted = |read: &[(ColumnId, usize)]| {
        let mut names: Vec<String> = read.iter().map(|(id, _)| printer.column(*id)).collect();
        names.sort_unstable();
        names.join(",")
    };
    let _ = match &node.operator {
        Operator::Scan { scan, read, access } => {
            let index = access.as_ref().map(|access| access.index_use().to_string()).unwrap_or_default();
            write!(out, "|{}|{index}|{}", scan.table.to_lowercase(), sorted(read))
        }
        Operator::IndexJoin(join) => {
            write!(out, "|{}|{}|{}", join.scan.table.to_lowercase(), join.index.name, sorted(&join.read))
        }
        Operator::UnionAll(inputs) => {
            write!(out, "|{}", inputs.iter().map(|ids| list(ids)).collect::<Vec<_>>().join("|"))
        }
        Operator::Compare { columns, .. } => write!(out, "|{}|{}", list(&columns[0]), list(&columns[1])),
        Operator::SharedStep { columns, .. } => write!(out, "|{}", list(columns)),
        Operator::Recursion(spec) => {
            let inputs = spec.members.iter().flat_map(|member| member.anchors.iter().chain(&member.branches));
            write!(out, "|{}|{}", spec.result, inputs.map(|ids| list(ids)).collect::<Vec<_>>().join("|"))
        }
        Operator::RecursionInput { member, places, .. } => write!(out, "|{member}|{places:?}"),
        Operator::Values(rows) => write!(out, "|{}", rows.first().map_or_else(String::new, |row| printer.exprs(row))),
        Operator::Distinct(keys) => write!(out, "|{}", printer.exprs(keys)),
        Operator::Join(spec) => out.write_str(if spec.null_aware().is_some() { "|NULL-aware" } else { "" }),
        Operator::OneRow
        | Operator::Empty
        | Operator::Filter(_)
        | Operator::Project(_)
        | Operator::Window { .. }
        | Operator::Expand { .. }
        | Operator::Aggregate { .. }
        | Operator::Sort(_)
        | Operator::TopN { .. }
        | Operator::Limit { .. } => Ok(()),
    };
    for detail in details(&node.operator, printer) {
        let _ = write!(out, "|{detail}");
    }
    let mut conditions: Vec<String> = predicates(node, printer)
        .into_iter()
        .filter(|predicate| !predicate.implied)
        .map(|predicate| format!("{}: {}", predicate.place, predicate.text))
        .collect();
    conditions.sort_unstable();
    let _ = write!(out, "|{}(", conditions.join("|"));
    node.inputs.iter().for_each(|input| write_work(input, printer, out));
    out.push(')');
}

/// FNV-1a, 64 bits: the same on every machine and in every version.
fn hash(text: &str) -> String {
    let add = |hash: u64, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
    format!("{:016x}", text.bytes().fold(0xcbf2_9ce4_8422_2325, add))
}
