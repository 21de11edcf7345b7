//! GUIDE: the tables it names must be there.

use super::Binder;
use super::scope::Relation;
use crate::diagnostic::{Error, SqlState, suggestion};
use crate::logical::{ColumnId, Directive, Guide};
use crate::syntax::ast::{GuideClause, Ident};

/// The demands of all clauses, and the correlation names of all tables.
#[derive(Debug, Default)]
pub(super) struct CollectedGuide {
    guide: Guide,
    named: Vec<Ident>,
    relations: Vec<(String, Vec<ColumnId>)>,
}

impl CollectedGuide {
    /// Notes the columns of a table under the name by which a guide may speak of it.
    pub(super) fn add_relation(&mut self, relation: &Relation) {
        let columns = || relation.columns.iter().map(|column| column.id);
        match self.relations.iter_mut().find(|(known, _)| known.eq_ignore_ascii_case(&relation.name)) {
            Some((_, known)) => known.extend(columns()),
            None => self.relations.push((relation.name.clone(), columns().collect())),
        }
    }

    /// Takes over what a query demands; one that is bound twice demands it once.
    pub(super) fn add(&mut self, clause: &GuideClause) {
        for directive in &clause.directives {
            if self.guide.directives.iter().any(|known| known.span.range() == directive.span.range()) {
                continue;
            }
            self.named.extend(directive.names.iter().cloned());
            let (kind, if_possible, span) = (directive.kind.clone(), clause.if_possible, directive.span);
            self.guide.directives.push(Directive { kind, if_possible, span });
        }
    }
}

impl Binder<'_> {
    /// What all clauses kind; a name that is not a table of the statement is a problem.
    pub(super) fn take_guide(&mut self) -> Guide {
        let CollectedGuide { guide, named, relations } = std::mem::take(&mut self.guide);
        let known: Vec<&str> = relations.iter().map(|(name, _)| name.as_str()).collect();
        for name in named.iter().filter(|name| !known.iter().any(|known| name.matches(known))) {
            let message = format!("GUIDE names {:?}, which is not a table in FROM", name.text);
            let help = suggestion(&name.text, &known, "the tables are");
            self.problems.push(Error::new(SqlState::TABLE_NOT_FOUND, message).with_help(help).at(name.span));
        }
        let is_joined =
            |name: &str| guide.joins().any(|(tables, _)| tables.iter().any(|table| table.eq_ignore_ascii_case(name)));
        for (name, columns) in relations.into_iter().filter(|(name, _)| is_joined(name)) {
            self.columns.add_guided(name, columns);
        }
        guide
    }
}
