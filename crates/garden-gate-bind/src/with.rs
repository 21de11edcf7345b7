//! WITH (clause 7.17): queries by name, each seeing those before it.

use super::problem::Problem;
use super::query::Rows;
use super::scope::Scope;
use super::{Binder, OutputColumn};
use crate::diagnostic::{Result, Span};
use crate::logical::{ColumnId, CteDefinition, CteId, CteReference, LogicalPlan, RecursionInput};
use crate::syntax::ast::{self, Ident};

/// A name that WITH has given.
#[derive(Clone)]
pub(super) struct Visible {
    pub(super) name: Ident,
    pub(super) meaning: Meaning,
    pub(super) output: Vec<OutputColumn>,
    pub(super) uses: usize,
    /// The recursion it is found by, together with others of the same number.
    pub(super) recursion: Option<usize>,
}

#[derive(Clone)]
pub(super) enum Meaning {
    /// Run once, or taken into the place of its use: that is decided later.
    Step(CteId),
    /// Depends on rows of a query around it: every use has a copy.
    Copied(Box<LogicalPlan>),
    /// A member of the recursion that is being bound.
    Recursive { id: usize, member: usize },
}

impl Binder<'_> {
    /// Makes the names of a WITH visible; [`Binder::leave_with`] takes them back.
    pub(super) fn with(&mut self, with: &ast::With) -> Result<()> {
        for (at, element) in with.elements.iter().enumerate() {
            if with.elements[..at].iter().any(|other| other.name.matches(&element.name.text)) {
                self.report(&Problem::DuplicateWith { name: element.name.text.clone() }, element.name.span);
            }
        }
        if with.recursive {
            return self.with_recursive(&with.elements);
        }
        for element in &with.elements {
            self.check_not_recursive(element)?;
            self.plain_element(element)?;
        }
        Ok(())
    }

    /// An element of WITH that does not refer to itself.
    pub(super) fn plain_element(&mut self, element: &ast::WithElement) -> Result<()> {
        if element.search.is_some() || element.cycle.is_some() {
            self.report(&Problem::NotRecursive { name: element.name.text.clone() }, element.name.span);
        }
        self.note_needless_order(&element.query);
        let (plan, output) = self.query(&element.query)?;
        let (plan, output) = self.with_own_ids(plan, output);
        let output = self.named_columns(element, output);
        self.make_visible(&element.name, plan, output);
        Ok(())
    }

    /// Makes an element visible to what follows: as a step that is computed once, or, where it depends on the rows around it, as a plan
    /// that each use has for itself.
    pub(super) fn make_visible(&mut self, name: &Ident, plan: LogicalPlan, output: Vec<OutputColumn>) {
        let recursion = if let LogicalPlan::Recursion(recursion) = &plan { Some(recursion.id) } else { None };
        let meaning = if plan.free().is_empty() {
            let columns = output.iter().map(|column| column.id).collect();
            self.steps.push(CteDefinition { name: name.text.clone(), plan, output: columns, uses: 0 });
            Meaning::Step(CteId(self.steps.len() - 1))
        } else {
            Meaning::Copied(Box::new(plan))
        };
        self.withs.push(Visible { name: name.clone(), meaning, output, uses: 0, recursion });
    }

    /// The columns under the names of the element's list; says which are left over when the numbers differ.
    pub(super) fn named_columns(
        &mut self,
        element: &ast::WithElement,
        mut output: Vec<OutputColumn>,
    ) -> Vec<OutputColumn> {
        let Some(names) = &element.columns else { return output };
        if names.len() != output.len() {
            let columns = output.iter().map(|column| column.name.clone()).collect();
            let span = names.first().map_or_else(Span::default, |name| name.span.to(names[names.len() - 1].span));
            let names = names.iter().map(|name| name.text.clone()).collect();
            self.report(&Problem::ColumnNames { what: element.name.text.clone(), names, columns }, span);
        } else {
            for (column, name) in output.iter_mut().zip(names) {
                column.name.clone_from(&name.text);
            }
        }
        output
    }

    /// Takes back the names given since, and notes those that nothing used.
    pub(super) fn leave_with(&mut self, visible: usize) {
        let left = self.withs.split_off(visible);
        // Of queries that refer to each other one is found by the rows of the others.
        let of_use: Vec<usize> = left.iter().filter(|with| with.uses > 0).filter_map(|with| with.recursion).collect();
        for unused in left {
            if unused.uses == 0 && !unused.recursion.is_some_and(|id| of_use.contains(&id)) {
                self.note_unused_with(&unused.name);
            }
        }
    }

    /// The table that a bare name means, when WITH gave it.
    pub(super) fn with_reference(
        &mut self,
        name: &Ident,
        alias: Option<&Ident>,
    ) -> Result<Option<(LogicalPlan, Scope)>> {
        let Some(at) = self.withs.iter().rposition(|known| name.matches(&known.name.text)) else { return Ok(None) };
        self.withs[at].uses += 1;
        let Visible { meaning, output, name: shown, .. } = self.withs[at].clone();
        let shown = alias.unwrap_or(&shown).text.clone();
        let (plan, columns) = match meaning {
            Meaning::Step(id) => {
                self.steps[id.0].uses += 1;
                let definition = self.steps[id.0].name.clone();
                let columns = self.fresh(&output, &shown);
                let pairs = columns.iter().zip(&output).map(|(new, old)| (new.id, old.id)).collect();
                (LogicalPlan::CteReference(CteReference { id, name: definition, columns: pairs }), columns)
            }
            Meaning::Copied(plan) => {
                let (plan, map) = plan.copy(&mut self.columns);
                let moved = |column: &OutputColumn| {
                    let id = map.get(&column.id).copied().unwrap_or(column.id);
                    OutputColumn { id, ..column.clone() }
                };
                (plan, output.iter().map(moved).collect())
            }
            Meaning::Recursive { id, member } => {
                let columns = self.fresh(&output, &shown);
                let ids: Vec<ColumnId> = columns.iter().map(|column| column.id).collect();
                let input = RecursionInput { id, member, name: self.withs[at].name.text.clone(), columns: ids };
                (LogicalPlan::RecursionInput(input), columns)
            }
        };
        let scope = self.derived_scope(shown, &columns);
        Ok(Some((plan, scope)))
    }

    /// Columns of the same names and types under the name of a table.
    fn fresh(&mut self, output: &[OutputColumn], qualifier: &str) -> Vec<OutputColumn> {
        let fresh = |column: &OutputColumn| {
            let mut info = self.columns.get(column.id).clone();
            info.qualifier = Some(qualifier.to_owned());
            info.name.clone_from(&column.name);
            info.sql_type = column.sql_type;
            OutputColumn { id: self.columns.add(info), ..column.clone() }
        };
        output.iter().map(fresh).collect()
    }

    /// A query that uses its own name without RECURSIVE sees another table of that name, or none: say what was probably meant.
    fn check_not_recursive(&mut self, element: &ast::WithElement) -> Result<()> {
        let mut own = false;
        element.query.for_each_table(&mut |name| own |= matches!(name, [bare] if bare.matches(&element.name.text)));
        let known = self.withs.iter().any(|with| element.name.matches(&with.name.text))
            || self
                .around
                .catalog
                .schemas
                .iter()
                .any(|schema| schema.tables.iter().any(|table| element.name.matches(&table.name)));
        if own && !known {
            let problem = Problem::RecursiveMissing { name: element.name.text.clone() };
            return Err(crate::diagnostic::Error::from_facts(&problem).at(element.name.span));
        }
        Ok(())
    }

    /// Runs `bind` and forgets its problems and notes: what it gives is looked at and bound again.
    pub(super) fn tentatively(&mut self, bind: impl FnOnce(&mut Self) -> Result<Rows>) -> Result<Rows> {
        let (problems, notes) = (self.problems.len(), self.notes.len());
        let rows = bind(self);
        self.problems.truncate(problems);
        self.notes.truncate(notes);
        rows
    }
}
