//! Whether a plan is as GUIDE demands.

use super::access::allows;
use super::guide_reason::reason;
use super::join_alternatives::{names_at, violations};
use crate::control;
use crate::diagnostic::{Error, Note};
use crate::logical::{Columns, Directive, DirectiveKind, Guide};
use crate::physical::{IndexUse, JoinMethod, Node, Operator, PhysicalPlan};
use std::ops::Range;

/// The demands that a plan does not meet, by their numbers.
pub(super) fn violated(guide: &Guide, columns: &Columns, root: &Node) -> Vec<usize> {
    let mut joins = None;
    let mut is_violated = |directive: &Directive| match &directive.kind {
        DirectiveKind::Read { table, by } => {
            let mut bad = false;
            root.walk(&mut |node| bad |= reads(node, table).is_some_and(|index| !allows(Some(by), index.as_ref())));
            bad
        }
        DirectiveKind::Join { tables, .. } => {
            let alone = Guide { directives: vec![directive.clone()] };
            let joins = joins.get_or_insert_with(|| Joins::of(root, columns));
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
    if let Operator::Scan { scan, access, .. } = &node.operator
        && scan.alias.eq_ignore_ascii_case(table)
    {
        Some(access.as_ref().map(|access| access.index_use()))
    } else if let Operator::IndexJoin(join) = &node.operator
        && join.scan.alias.eq_ignore_ascii_case(table)
    {
        Some(Some(IndexUse::One(join.index.name.clone())))
    } else {
        None
    }
}

/// The method of a join; an index join has an operator of its own.
pub(super) fn method(node: &Node) -> JoinMethod {
    if let Operator::Join(spec) = &node.operator { spec.method } else { JoinMethod::IndexNestedLoop }
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
    fn of(root: &'n Node, columns: &'n Columns) -> Self {
        let mut joins = Self { tables: Vec::new(), joins: Vec::new() };
        joins.add(root, columns);
        joins
    }

    fn add(&mut self, node: &'n Node, columns: &'n Columns) -> Range<usize> {
        let start = self.tables.len();
        self.tables.extend(names_at(node, columns));
        let is_join = matches!(node.operator, Operator::Join(_) | Operator::IndexJoin(_));
        let place = self.joins.len();
        if is_join {
            self.joins.push(PlacedJoin { node, outer: 0..0, inner: start..self.tables.len() });
        }
        for (number, input) in node.inputs.iter().enumerate() {
            let tables = control::stack_of_statement(|| self.add(input, columns));
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
pub(super) fn joining<'n>(
    (root, columns): (&'n Node, &'n Columns),
    tables: &[String; 2],
) -> Option<(&'n Node, Vec<String>, Vec<String>)> {
    let joins = Joins::of(root, columns);
    let found = joins.of_tables(tables)?;
    Some((found.node, joins.names(&found.outer), joins.names(&found.inner)))
}

/// What cannot be obeyed: an error for the first demand that is not met, or notes where all of them are only wishes.
///
/// # Errors
/// 0A000 with the reason, in terms of the query's own predicates.
pub fn check(guide: &Guide, plan: &PhysicalPlan, columns: &Columns, limit: usize) -> Result<Vec<Note>, Error> {
    let mut notes = Vec::new();
    let mut violated_at = violated(guide, columns, &plan.root);
    let workers =
        guide.directives.iter().position(|one| matches!(one.kind, DirectiveKind::Workers(wanted) if wanted > limit));
    violated_at.extend(workers);
    for at in violated_at {
        let directive = &guide.directives[at];
        let reason = reason(&directive.kind, plan, (columns, limit));
        let message = format!("{} can't be obeyed: {reason}", directive.kind.text());
        if !directive.if_possible {
            return Err(Error::not_obeyed(message).at(directive.span));
        }
        notes.push(Note::new("guide-not-obeyed", message).at(directive.span));
    }
    Ok(notes)
}
