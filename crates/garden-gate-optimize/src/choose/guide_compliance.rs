//! Whether a plan is as GUIDE demands, and why it is not.

use super::access::allows;
use super::join_alternatives::{table_of, violations};
use crate::control;
use crate::diagnostic::{Error, Note};
use crate::logical::{Columns, Directive, DirectiveKind, Guide, GuidedJoin, JoinKind, Printer};
use crate::physical::{IndexUse, JoinMethod, JoinSpec, Node, Operator, PhysicalPlan};
use std::ops::Range;

/// The demands that a plan does not meet, by their numbers.
pub(super) fn violated(guide: &Guide, root: &Node) -> Vec<usize> {
    let mut joins = None;
    let mut is_violated = |directive: &Directive| match &directive.kind {
        DirectiveKind::Read { table, by } => {
            let mut bad = false;
            root.walk(&mut |node| bad |= reads(node, table).is_some_and(|index| !allows(Some(by), index.as_ref())));
            bad
        }
        DirectiveKind::Join { tables, .. } => {
            let alone = Guide { directives: vec![directive.clone()] };
            let joins = joins.get_or_insert_with(|| Joins::of(root));
            joins.of_tables(tables).is_none_or(|join| {
                let (outer, inner) = (joins.names(&join.outer), joins.names(&join.inner));
                violations(&alone, method(join.node), &outer, &inner) > 0
            })
        }
        DirectiveKind::KeepOrder | DirectiveKind::Expect { .. } | DirectiveKind::Workers(_) => false,
    };
    guide.directives.iter().enumerate().filter(|(_, directive)| is_violated(directive)).map(|(at, _)| at).collect()
}

/// The index by which a node reads the table of this name; `None` when it reads another, or nothing.
fn reads(node: &Node, table: &str) -> Option<Option<IndexUse>> {
    match &node.operator {
        Operator::Scan { scan, access, .. } if scan.alias.eq_ignore_ascii_case(table) => {
            Some(access.as_ref().map(|access| access.index_use()))
        }
        Operator::IndexJoin(join) if join.scan.alias.eq_ignore_ascii_case(table) => {
            Some(Some(IndexUse::One(join.index.name.clone())))
        }
        _ => None,
    }
}

fn method(node: &Node) -> JoinMethod {
    match &node.operator {
        Operator::Join(spec) => spec.method,
        _ => JoinMethod::IndexNestedLoop,
    }
}

/// The tables of a plan in one list, so that those of each subtree are a run of it, and its joins from the root on.
struct Joins<'n> {
    tables: Vec<&'n str>,
    joins: Vec<PlacedJoin<'n>>,
}

struct PlacedJoin<'n> {
    node: &'n Node,
    outer: Range<usize>,
    inner: Range<usize>,
}

impl<'n> Joins<'n> {
    /// O(nodes).
    fn of(root: &'n Node) -> Self {
        let mut joins = Self { tables: Vec::new(), joins: Vec::new() };
        joins.add(root);
        joins
    }

    fn add(&mut self, node: &'n Node) -> Range<usize> {
        let start = self.tables.len();
        self.tables.extend(table_of(node));
        let is_join = matches!(node.operator, Operator::Join(_) | Operator::IndexJoin(_));
        let place = self.joins.len();
        if is_join {
            self.joins.push(PlacedJoin { node, outer: 0..0, inner: start..self.tables.len() });
        }
        for (number, input) in node.inputs.iter().enumerate() {
            let tables = control::large_stack(|| self.add(input));
            match self.joins.get_mut(place).filter(|_| is_join) {
                Some(join) if number == 0 => join.outer = tables,
                Some(join) => join.inner = tables,
                None => {}
            }
        }
        start..self.tables.len()
    }

    /// The join at which two tables meet.
    fn of_tables(&self, wanted: &[String; 2]) -> Option<&PlacedJoin<'n>> {
        let places = |name: &String| -> Vec<usize> {
            let all = self.tables.iter().enumerate();
            all.filter(|(_, known)| known.eq_ignore_ascii_case(name)).map(|(place, _)| place).collect()
        };
        let [a, b] = [places(&wanted[0]), places(&wanted[1])];
        let has = |side: &Range<usize>, places: &[usize]| places.iter().any(|place| side.contains(place));
        self.joins
            .iter()
            .rev()
            .find(|join| has(&join.outer, &a) && has(&join.inner, &b) || has(&join.outer, &b) && has(&join.inner, &a))
    }

    fn names(&self, side: &Range<usize>) -> Vec<String> {
        self.tables[side.clone()].iter().map(|name| (*name).to_owned()).collect()
    }
}

/// The join at which two tables meet, with the tables of its outer and its inner side.
fn joining<'n>(root: &'n Node, tables: &[String; 2]) -> Option<(&'n Node, Vec<String>, Vec<String>)> {
    let joins = Joins::of(root);
    let found = joins.of_tables(tables)?;
    Some((found.node, joins.names(&found.outer), joins.names(&found.inner)))
}

/// What cannot be obeyed: an error for the first demand that is not met, or notes where all of them are only wishes.
///
/// # Errors
/// 0A000 with the reason, in terms of the query's own predicates.
pub fn check(guide: &Guide, plan: &PhysicalPlan, columns: &Columns, limit: usize) -> Result<Vec<Note>, Error> {
    let mut notes = Vec::new();
    let mut violated_at = violated(guide, &plan.root);
    let workers =
        guide.directives.iter().position(|one| matches!(one.kind, DirectiveKind::Workers(wanted) if wanted > limit));
    violated_at.extend(workers);
    for at in violated_at {
        let directive = &guide.directives[at];
        let reason = reason(&directive.kind, plan, columns, limit);
        let message = format!("{} can't be obeyed: {reason}", directive.kind.text());
        if !directive.if_possible {
            return Err(Error::not_obeyed(message).at(directive.span));
        }
        notes.push(Note::new("guide-not-obeyed", message).at(directive.span));
    }
    Ok(notes)
}

fn reason(kind: &DirectiveKind, plan: &PhysicalPlan, columns: &Columns, limit: usize) -> String {
    match kind {
        DirectiveKind::Join { tables, by } => join_reason(plan, columns, tables, *by),
        DirectiveKind::Read { table, .. } => read_reason(plan, columns, table, kind),
        DirectiveKind::Workers(_) => format!("the session has {limit} workers; SET workers changes that"),
        DirectiveKind::KeepOrder | DirectiveKind::Expect { .. } => "the plan has no such place".into(),
    }
}

fn join_reason(plan: &PhysicalPlan, columns: &Columns, tables: &[String; 2], by: GuidedJoin) -> String {
    let [a, b] = tables;
    let Some((node, outer, inner)) = joining(&plan.root, tables) else {
        return format!("{a} and {b} are not joined with each other in this plan");
    };
    let printer = Printer::new(columns);
    let (kind, residual, keys) = match &node.operator {
        Operator::Join(spec) => (spec.kind, spec.residual.as_slice(), key_count(spec)),
        Operator::IndexJoin(join) => (join.kind, join.residual.as_slice(), join.keys.len()),
        _ => return "the plan has no such join".into(),
    };
    let conditions = if residual.is_empty() {
        "there is no condition between them".to_owned()
    } else {
        format!("{} is none", printer.conjunction(residual))
    };
    let mirrored = matches!(&node.operator, Operator::Join(spec) if spec.mirrored);
    let leads = if mirrored { &inner } else { &outer };
    let leads = leads.iter().any(|name| name.eq_ignore_ascii_case(a));
    match by {
        GuidedJoin::Hash | GuidedJoin::Merge if keys == 0 => {
            let method = if by == GuidedJoin::Hash { "a hash join" } else { "a merge join" };
            format!("{method} needs an equality between {a} and {b}; {conditions}")
        }
        GuidedJoin::Merge if matches!(kind, JoinKind::Mark) || has_any(node) => {
            "its UNKNOWN must be distinguished from FALSE, which only a hash join or a nested loop does here".into()
        }
        GuidedJoin::Merge => "the rows of a round of a recursion do not come sorted".into(),
        GuidedJoin::NestedLoop if kind != JoinKind::Inner && !leads => {
            format!(
                "every row of {b} is kept by this {} join, so the loop goes through {b} and looks for matches in {a}; write JOIN ({b}, {a})",
                if kind == JoinKind::Left { "outer" } else { kind.name() }
            )
        }
        _ => format!("this {} join has to be computed by {}", kind.name(), method(node)),
    }
}

fn key_count(spec: &JoinSpec) -> usize {
    spec.keys.len() + spec.any.as_ref().map_or(0, |any| any.left.len())
}

fn has_any(node: &Node) -> bool {
    matches!(&node.operator, Operator::Join(spec) if spec.any.is_some())
}

/// The index is missing, or there is no usable predicate on the leading column.
fn read_reason(plan: &PhysicalPlan, columns: &Columns, table: &str, kind: &DirectiveKind) -> String {
    let mut scan = None;
    plan.root.walk(&mut |node| match &node.operator {
        Operator::Scan { scan: own, access, .. } if own.alias.eq_ignore_ascii_case(table) => {
            scan = Some((own.as_ref(), access.as_ref().map_or(&[][..], |access| &access.bounds)));
        }
        Operator::IndexJoin(join) if join.scan.alias.eq_ignore_ascii_case(table) => {
            scan = Some((&join.scan, &join.residual));
        }
        _ => {}
    });
    let (Some((scan, bounds)), DirectiveKind::Read { by: crate::logical::GuidedRead::Indexes(indexes), .. }) =
        (scan, kind)
    else {
        return "the table is looked up by an index for each row of another".into();
    };
    let known: Vec<&str> = scan.indexes.iter().map(|index| index.name.as_str()).collect();
    if !indexes.iter().all(|index| known.iter().any(|known| known.eq_ignore_ascii_case(index))) {
        return if known.is_empty() {
            format!("{table} has no index")
        } else {
            format!("{table} has no such index; it has {}", known.join(", "))
        };
    }
    let own = [bounds, scan.filter.as_slice()].concat();
    let conditions = if own.is_empty() {
        format!("{table} has no condition of its own")
    } else {
        format!("there is only {}", Printer::new(columns).conjunction(&own))
    };
    format!(
        "there is no usable predicate on the leading column, or between what it lies, and no order it has is asked for; {conditions}"
    )
}
