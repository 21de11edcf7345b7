//! The ways in which two inputs can be joined, and what a guide says of them.

use crate::logical::{ColumnId, Columns, Guide, GuidedJoin};
use crate::physical::{JoinMethod, Node, Operator};

/// A method, and which input is gone through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct JoinAlternative {
    pub(super) method: JoinMethod,
    /// Of an index nested loop the number of the index among those of the inner table.
    pub(super) index: usize,
}

impl JoinAlternative {
    /// A method that no index takes part in.
    pub(super) fn of(method: JoinMethod) -> Self {
        Self { method, index: 0 }
    }
}

/// Whether a method is the one that a guide names.
fn allows(by: GuidedJoin, method: JoinMethod) -> bool {
    match by {
        GuidedJoin::Hash => method == JoinMethod::Hash,
        GuidedJoin::Merge => method == JoinMethod::Merge,
        GuidedJoin::Range => method == JoinMethod::Range,
        GuidedJoin::NestedLoop => matches!(method, JoinMethod::NestedLoop | JoinMethod::IndexNestedLoop),
    }
}

/// How many demands a join breaks, whose outer or probe side has these tables, and its other side those.
pub(super) fn violations(guide: &Guide, method: JoinMethod, outer: &[String], inner: &[String]) -> usize {
    let has = |side: &[String], name: &String| side.iter().any(|known| known.eq_ignore_ascii_case(name));
    let joins = guide.joins().filter(|&([first, second], by)| {
        let forward = has(outer, first) && has(inner, second);
        let backward = has(outer, second) && has(inner, first);
        (forward || backward) && (!allows(by, method) || by == GuidedJoin::NestedLoop && !forward)
    });
    joins.count()
}

/// The correlation names of what a node and those below it read.
pub(super) fn tables_of(node: &Node, columns: &Columns) -> Vec<String> {
    let mut names = Vec::new();
    node.walk(&mut |node| names.extend(names_at(node, columns).into_iter().map(str::to_owned)));
    names
}

/// The correlation names that a node brings in: of the table that it reads, and those that a guide has for the columns that it gives first.
pub(super) fn names_at<'n>(node: &'n Node, columns: &'n Columns) -> Vec<&'n str> {
    let mut names: Vec<&str> = table_of(node).into_iter().collect();
    if columns.is_guided() {
        let is_new = |id: &&ColumnId| !node.inputs.iter().any(|input| input.output.contains(id));
        names.extend(node.output.iter().filter(is_new).flat_map(|id| columns.guided_names(*id)));
        names.sort_unstable();
        names.dedup();
    }
    names
}

/// The correlation name of the table that a node itself reads.
fn table_of(node: &Node) -> Option<&str> {
    match &node.operator {
        Operator::Scan { scan, .. } => Some(&scan.alias),
        Operator::IndexJoin(join) => Some(&join.scan.alias),
        Operator::SharedStep { name, .. } | Operator::RecursionInput { name, .. } => Some(name),
        Operator::OneRow
        | Operator::Empty
        | Operator::Filter(_)
        | Operator::Project(_)
        | Operator::Join(_)
        | Operator::Values(_)
        | Operator::Window { .. }
        | Operator::UnionAll(_)
        | Operator::Compare { .. }
        | Operator::Expand { .. }
        | Operator::Recursion(_)
        | Operator::Aggregate { .. }
        | Operator::Distinct(_)
        | Operator::Sort(_)
        | Operator::TopN { .. }
        | Operator::Limit { .. } => None,
    }
}
