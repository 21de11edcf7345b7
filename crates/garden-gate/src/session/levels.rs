//! How much stack a statement may need.

use super::Session;
use crate::catalog::Schema;
use crate::diagnostic::SourceText;
use crate::syntax::most_levels;
use std::sync::Arc;

impl Session {
    /// How deep a query of this text can be nested at most, with the views, functions and domains that it may use.
    pub(super) fn most_levels(&self, source: &SourceText) -> usize {
        let catalog = self.catalog();
        let views = |schema: &Schema| schema.views.iter().map(|view| most_levels(view.query.text())).sum::<usize>();
        let functions =
            |schema: &Schema| schema.functions.iter().map(|known| most_levels(known.query.text())).sum::<usize>();
        let domains = |schema: &Schema| {
            let checks = schema.domains.iter().flat_map(|domain| &domain.checks);
            checks.map(|(_, check)| most_levels(check.text())).sum::<usize>()
        };
        let of_schema = |schema: &Arc<Schema>| views(schema) + functions(schema) + domains(schema);
        catalog.schemas.iter().map(of_schema).fold(most_levels(source.text()), usize::saturating_add)
    }
}
