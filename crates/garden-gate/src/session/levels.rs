//! How much stack a statement may need.

use super::Session;
use crate::catalog::{IndexPart, Schema, TableDefinition};
use crate::diagnostic::SourceText;
use crate::syntax::most_levels;
use std::sync::Arc;

/// How deep an expression can be nested that a table is indexed by.
fn of_indexes(definition: &TableDefinition) -> usize {
    let parts = definition.indexes.iter().flat_map(|index| &index.keys).map(|key| &key.part);
    let levels = |part: &IndexPart| match part {
        IndexPart::Column(_) => 0,
        IndexPart::Expression(text) => most_levels(text.text()),
    };
    parts.map(levels).max().unwrap_or(0)
}

impl Session {
    /// How deep a query of this text can be nested at most, with the views, functions, domains and indexes that it may use.
    pub(super) fn most_levels(&self, source: &SourceText) -> usize {
        let catalog = self.catalog();
        let views = |schema: &Schema| schema.views.iter().map(|view| most_levels(view.query.text())).sum::<usize>();
        let functions =
            |schema: &Schema| schema.functions.iter().map(|known| most_levels(known.query.text())).sum::<usize>();
        let domains = |schema: &Schema| {
            let checks = schema.domains.iter().flat_map(|domain| &domain.checks);
            checks.map(|(_, check)| most_levels(check.text())).sum::<usize>()
        };
        // A view may stand in another; what a table is indexed by lies above its columns, beside that of others.
        let of_schema = |schema: &Arc<Schema>| views(schema) + functions(schema) + domains(schema);
        let indexed = catalog.tables().filter_map(|(_, table)| table.definition.as_deref()).map(of_indexes).max();
        let least = most_levels(source.text()).saturating_add(indexed.unwrap_or(0));
        catalog.schemas.iter().map(of_schema).fold(least, usize::saturating_add)
    }
}
