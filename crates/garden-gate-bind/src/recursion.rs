//! WITH RECURSIVE (clause 7.17): which queries refer to each other, their anchors and branches, and the rules that keep a recursion
//! monotone.

use super::problem::Problem;
use super::query::Rows;
use super::with::{Meaning, Visible};
use super::{Binder, OutputColumn};
use crate::diagnostic::{Error, Result};
use crate::logical::{ColumnId, ExprKind, JoinKind, LogicalPlan, Member, Recursion, SetOp};
use crate::syntax::ast::{QueryBody, WithElement};
use crate::types::SqlType;

/// An element with its operands told apart.
struct Parts<'q> {
    element: &'q WithElement,
    anchors: Vec<&'q QueryBody>,
    branches: Vec<&'q QueryBody>,
    distinct: bool,
}

impl Binder<'_> {
    /// The elements of WITH RECURSIVE: those that use one another become one recursion.
    pub(super) fn with_recursive(&mut self, elements: &[WithElement]) -> Result<()> {
        for group in groups(elements) {
            match group.as_slice() {
                [one] if !uses(elements, *one).contains(one) => self.plain_element(&elements[*one])?,
                members => {
                    let members: Vec<&WithElement> = members.iter().map(|at| &elements[*at]).collect();
                    self.recursion(&members)?;
                }
            }
        }
        Ok(())
    }

    /// Binds queries that refer to each other, and makes their names visible.
    fn recursion(&mut self, members: &[&WithElement]) -> Result<()> {
        let id = self.recursions;
        self.recursions += 1;
        let visible = self.withs.len();
        let mut parts = Vec::new();
        for element in members {
            parts.push(self.parts(element, members)?);
        }
        if parts.iter().all(|parts| parts.anchors.is_empty()) {
            let problem = Problem::NoAnchor { name: members[0].name.text.clone() };
            return Err(Error::from_facts(&problem).at(members[0].name.span));
        }
        // Types first: those of the anchors, widened by what the branches make of them.
        let mut types: Vec<Option<Vec<SqlType>>> = vec![None; parts.len()];
        let mut names: Vec<Vec<String>> = vec![Vec::new(); parts.len()];
        for _ in 0..3 {
            for (at, part) in parts.iter().enumerate() {
                self.widen(part, at, &mut types, &mut names)?;
            }
            self.withs.truncate(visible);
            self.show_members(id, members, &types, &names);
            let before = types.clone();
            for (at, part) in parts.iter().enumerate() {
                for branch in &part.branches {
                    let (_, output) = self.tentatively(|binder| binder.body(branch))?;
                    merge_types(&mut types[at], &output);
                    if names[at].is_empty() {
                        names[at] = output.iter().map(|column| column.name.clone()).collect();
                    }
                }
            }
            self.withs.truncate(visible);
            if types == before {
                break;
            }
        }
        self.show_members(id, members, &types, &names);
        let mut bound = Vec::new();
        for (at, part) in parts.iter().enumerate() {
            let types = types[at].clone().unwrap_or_default();
            let names = &names[at];
            bound.push(self.member(part, (&types, names), id)?);
        }
        for (number, part) in parts.iter().enumerate() {
            let visible = &self.withs[visible + number];
            if visible.uses == 0 && part.branches.is_empty() {
                self.note_unused_with(&part.element.name);
            }
        }
        self.withs.truncate(visible);
        self.show_results(id, &parts, bound);
        Ok(())
    }

    /// Each member's recursion gets its name; several share their rounds by being the same recursion with another result.
    fn show_results(&mut self, id: usize, parts: &[Parts<'_>], members: Vec<(Member, Vec<OutputColumn>)>) {
        let (members, outputs): (Vec<Member>, Vec<_>) = members.into_iter().unzip();
        for (result, output) in outputs.into_iter().enumerate() {
            let recursion = Recursion { id, members: members.clone(), result };
            let plan = LogicalPlan::Recursion(Box::new(recursion));
            let (plan, map) = plan.copy(&mut self.columns);
            let output = output.into_iter().map(|column| OutputColumn { id: map[&column.id], ..column }).collect();
            self.make_visible(&parts[result].element.name, plan, output);
        }
    }

    /// The operands of the element's outermost UNION, by whether they are recursive.
    fn parts<'q>(&mut self, element: &'q WithElement, members: &[&WithElement]) -> Result<Parts<'q>> {
        let query = &element.query;
        let too_much =
            query.with.is_some() || !query.order_by.is_empty() || query.offset.is_some() || query.fetch.is_some();
        let recursive = |body: &QueryBody| {
            let mut found = false;
            body.for_each_table(&mut |name| {
                found |= matches!(name, [bare] if members.iter().any(|member| bare.matches(&member.name.text)));
            });
            found
        };
        if too_much && recursive(&query.body) {
            let problem =
                Problem::RecursionRule { rule: "WITH, ORDER BY, OFFSET or FETCH in the recursive query itself" };
            return Err(Error::from_facts(&problem).at(query.span));
        }
        let mut operands = Vec::new();
        let mut distinct = false;
        match &query.body {
            QueryBody::SetOperation(operation) if operation.op == SetOp::Union => {
                distinct = !operation.all;
                flatten(&query.body, operation.all, &mut operands);
            }
            body @ (QueryBody::Select(_)
            | QueryBody::Values(_)
            | QueryBody::Table(..)
            | QueryBody::SetOperation(_)
            | QueryBody::Nested(_)) => operands.push(body),
        }
        let (branches, anchors): (Vec<_>, Vec<_>) = operands.into_iter().partition(|body| recursive(body));
        for branch in &branches {
            if let QueryBody::SetOperation(operation) = branch {
                let rule = match operation.op {
                    SetOp::Except => {
                        "the right side of EXCEPT, nor at its left: what is found later could take a row back"
                    }
                    SetOp::Intersect => "INTERSECT",
                    SetOp::Union => "a UNION inside a UNION ALL, or the other way round",
                };
                return Err(Error::from_facts(&Problem::RecursionRule { rule }).at(operation.span));
            }
        }
        Ok(Parts { element, anchors, branches, distinct })
    }

    /// Takes the types of the anchors into account.
    fn widen(
        &mut self,
        part: &Parts<'_>,
        at: usize,
        types: &mut [Option<Vec<SqlType>>],
        names: &mut [Vec<String>],
    ) -> Result<()> {
        for anchor in &part.anchors {
            let (_, output) = self.tentatively(|binder| binder.body(anchor))?;
            merge_types(&mut types[at], &output);
            if names[at].is_empty() {
                names[at] = output.iter().map(|column| column.name.clone()).collect();
            }
        }
        if let Some(columns) = &part.element.columns
            && (names[at].is_empty() || columns.len() == names[at].len())
        {
            names[at] = columns.iter().map(|name| name.text.clone()).collect();
        }
        Ok(())
    }

    /// Makes the members visible to each other, as the rows of the round before.
    fn show_members(
        &mut self,
        id: usize,
        members: &[&WithElement],
        types: &[Option<Vec<SqlType>>],
        names: &[Vec<String>],
    ) {
        for (member, element) in members.iter().enumerate() {
            let no_types = vec![SqlType::TEXT; names[member].len()];
            let types = types[member].as_ref().unwrap_or(&no_types);
            let mut output = self.new_output(&names[member], types);
            output.extend(self.search_columns(element, &output));
            let meaning = Meaning::Recursive { id, member };
            self.withs.push(Visible { name: element.name.clone(), meaning, output, uses: 0, recursion: None });
        }
    }

    fn new_output(&mut self, names: &[String], types: &[SqlType]) -> Vec<OutputColumn> {
        let column = |(name, sql_type): (&String, &SqlType)| OutputColumn {
            id: self.new_column(name, *sql_type),
            name: name.clone(),
            sql_type: *sql_type,
        };
        names.iter().zip(types).map(column).collect()
    }

    /// One member: its queries brought to the common types, with the columns of SEARCH and CYCLE.
    fn member(
        &mut self,
        part: &Parts<'_>,
        (types, names): (&[SqlType], &[String]),
        id: usize,
    ) -> Result<(Member, Vec<OutputColumn>)> {
        let span = part.element.name.span;
        let bind = |binder: &mut Self, bodies: &[&QueryBody]| -> Result<Vec<Rows>> {
            bodies.iter().map(|body| binder.body(body)).collect()
        };
        let anchors = bind(self, &part.anchors)?;
        let branches = bind(self, &part.branches)?;
        for (_, output) in anchors.iter().chain(&branches) {
            if output.len() != types.len() {
                let list = |output: &[OutputColumn]| output.iter().map(|c| (c.name.clone(), c.sql_type)).collect();
                let first = anchors.first().or(branches.first()).map_or_else(Vec::new, |(_, output)| list(output));
                let problem = Problem::SetColumns { what: "UNION", odd: 2, lists: [first, list(output)], at: None };
                return Err(Error::from_facts(&problem).at(span));
            }
        }
        for (plan, _) in &branches {
            check_rules(plan, id).map_err(|rule| Error::from_facts(&Problem::RecursionRule { rule }).at(span))?;
        }
        let mut output = self.new_output(names, types);
        output = self.named_columns(part.element, output);
        let anchors = anchors.into_iter().map(|rows| self.as_types(rows, types, span)).collect::<Vec<_>>();
        let branches = branches.into_iter().map(|rows| self.as_types(rows, types, span)).collect::<Vec<_>>();
        let (anchors, branches) = self.with_search(part.element, &mut output, (anchors, branches))?;
        let columns: Vec<ColumnId> = output.iter().map(|column| column.id).collect();
        let member = Member {
            name: part.element.name.text.clone(),
            span: (self.views == 0).then_some(part.element.name.span),
            columns,
            anchors,
            branches,
            distinct: part.distinct,
        };
        Ok((member, output))
    }
}

fn merge_types(types: &mut Option<Vec<SqlType>>, output: &[OutputColumn]) {
    match types {
        None => {
            let text = |sql_type| if sql_type == SqlType::Null { SqlType::TEXT } else { sql_type };
            *types = Some(output.iter().map(|column| text(column.sql_type)).collect());
        }
        Some(known) => {
            for (known, column) in known.iter_mut().zip(output) {
                *known = known.common(column.sql_type).unwrap_or(*known);
            }
        }
    }
}

/// The operands of UNIONs of one kind inside each other.
fn flatten<'q>(body: &'q QueryBody, all: bool, operands: &mut Vec<&'q QueryBody>) {
    match body {
        QueryBody::SetOperation(operation)
            if operation.op == SetOp::Union && operation.all == all && operation.corresponding.is_none() =>
        {
            operation.operands.iter().for_each(|operand| flatten(operand, all, operands));
        }
        QueryBody::Nested(query)
            if query.with.is_none() && query.order_by.is_empty() && query.offset.is_none() && query.fetch.is_none() =>
        {
            flatten(&query.body, all, operands);
        }
        other @ (QueryBody::Select(_)
        | QueryBody::Values(_)
        | QueryBody::Table(..)
        | QueryBody::SetOperation(_)
        | QueryBody::Nested(_)) => operands.push(other),
    }
}

/// The elements that an element uses, itself among them.
fn uses(elements: &[WithElement], at: usize) -> Vec<usize> {
    let mut used = Vec::new();
    elements[at].query.for_each_table(&mut |name| {
        if let [bare] = name
            && let Some(found) = elements.iter().position(|element| bare.matches(&element.name.text))
            && !used.contains(&found)
        {
            used.push(found);
        }
    });
    used
}

/// Elements that use each other form a group; groups come in an order in which each uses earlier ones only.
fn groups(elements: &[WithElement]) -> Vec<Vec<usize>> {
    let count = elements.len();
    let mut reach: Vec<Vec<bool>> = (0..count)
        .map(|at| {
            let used = uses(elements, at);
            (0..count).map(|other| used.contains(&other)).collect()
        })
        .collect();
    for middle in 0..count {
        let further = reach[middle].clone();
        for known in reach.iter_mut().filter(|known| known[middle]) {
            known.iter_mut().zip(&further).for_each(|(known, further)| *known |= further);
        }
    }
    let mut order: Vec<Vec<usize>> = Vec::new();
    let mut placed = vec![false; count];
    while let Some(next) = (0..count).find(|at| {
        !placed[*at] && (0..count).all(|other| placed[other] || !reach[*at][other] || reach[other][*at] || other == *at)
    }) {
        let group: Vec<usize> =
            (0..count).filter(|other| *other == next || reach[next][*other] && reach[*other][next]).collect();
        group.iter().for_each(|at| placed[*at] = true);
        order.push(group);
    }
    order
}

fn has_input(plan: &LogicalPlan, id: usize) -> bool {
    let mut found = false;
    plan.walk(&mut |node| found |= matches!(node, LogicalPlan::RecursionInput(input) if input.id == id));
    found
}

/// The rule that a recursive branch breaks, if any.
fn check_rules(plan: &LogicalPlan, id: usize) -> Result<(), &'static str> {
    let mut count = 0;
    let mut broken = None;
    plan.walk(&mut |node| {
        let below = |plan: &LogicalPlan| has_input(plan, id);
        let rule = match node {
            LogicalPlan::RecursionInput(input) if input.id == id => {
                count += 1;
                None
            }
            LogicalPlan::Aggregate { input, .. } if below(input) => Some("a grouping or an aggregate"),
            LogicalPlan::Window { input, .. } if below(input) => Some("a window function"),
            LogicalPlan::Limit { input, .. } if below(input) => Some("OFFSET or FETCH"),
            LogicalPlan::Join(join) => {
                let (left, right) = (below(&join.left), below(&join.right));
                match join.kind {
                    JoinKind::Left if right => Some("the side of an outer join that is filled up with NULLs"),
                    JoinKind::Full if left || right => Some("a FULL JOIN"),
                    JoinKind::Inner => None,
                    _ if right => Some("a query inside an expression, such as NOT IN or NOT EXISTS"),
                    JoinKind::Left
                    | JoinKind::Full
                    | JoinKind::Semi
                    | JoinKind::Anti
                    | JoinKind::Mark
                    | JoinKind::Single => None,
                }
            }
            LogicalPlan::SetOperation { op: SetOp::Except, operands, .. }
                if operands.iter().skip(1).any(|o| below(&o.plan)) =>
            {
                Some("the right side of EXCEPT")
            }
            LogicalPlan::SetOperation { op: SetOp::Intersect, operands, .. }
                if operands.iter().any(|o| below(&o.plan)) =>
            {
                Some("INTERSECT")
            }
            LogicalPlan::OneRow
            | LogicalPlan::Empty(_)
            | LogicalPlan::Scan(_)
            | LogicalPlan::Values { .. }
            | LogicalPlan::Filter { .. }
            | LogicalPlan::Project { .. }
            | LogicalPlan::InnerJoin { .. }
            | LogicalPlan::Aggregate { .. }
            | LogicalPlan::Window { .. }
            | LogicalPlan::Distinct { .. }
            | LogicalPlan::Sort { .. }
            | LogicalPlan::Limit { .. }
            | LogicalPlan::SetOperation { .. }
            | LogicalPlan::Expand { .. }
            | LogicalPlan::CteReference(_)
            | LogicalPlan::Recursion(_)
            | LogicalPlan::RecursionInput(_) => None,
        };
        node.for_each_expr(|expr| {
            expr.walk(&mut |expr| {
                if let ExprKind::Subquery(subquery) = expr.kind()
                    && has_input(&subquery.plan, id)
                {
                    broken.get_or_insert("a query inside an expression, such as NOT IN or NOT EXISTS");
                }
            });
        });
        if let Some(rule) = rule {
            broken.get_or_insert(rule);
        }
    });
    match broken {
        Some(rule) => Err(rule),
        None if count > 1 => Err("more than one place of a branch: the recursion must be linear"),
        None => Ok(()),
    }
}
