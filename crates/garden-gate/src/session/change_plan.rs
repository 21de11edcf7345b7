//! Plans of changes: the query that finds the rows, and what is done with them and checked of them.

use super::Session;
use super::change::stored;
use super::session::Call;
use super::statement::Prepared;
use crate::bind::{MissingParameters, bind_change};
use crate::catalog::{Catalog, ReferentialAction, TableDefinition};
use crate::diagnostic::Result;
use crate::physical::{Measures, OperatorName, Plan, above};
use crate::syntax::ast;

impl Session {
    /// The plan of a change, which is not carried out.
    pub(super) fn plan_change(&self, change: &ast::Change, call: &Call<'_>) -> Result<Plan> {
        let (catalog, files) = (self.catalog(), self.files());
        let around = self.around(&catalog, &files, call.parameters, MissingParameters::PlanGenerically);
        let bound = bind_change(change, call.source, &around)?;
        let prepared = self.prepare_bound(bound.rows, call)?;
        change_plan(change, &catalog, (&bound.schema, &bound.table), (&prepared, None))
    }
}

/// The plan of a change whose rows come from this query.
pub(super) fn change_plan(
    change: &ast::Change,
    catalog: &Catalog,
    (schema, table): (&str, &str),
    (prepared, measures): (&Prepared, Option<&Measures>),
) -> Result<Plan> {
    let (_, definition) = stored(catalog, schema, table)?;
    let (operator, adds, removes) = match &change.kind {
        ast::ChangeKind::Insert(_) => (OperatorName::Insert, true, false),
        ast::ChangeKind::Update { .. } => (OperatorName::Update, true, true),
        ast::ChangeKind::Merge(_) => (OperatorName::Merge, true, true),
        ast::ChangeKind::Delete { .. } | ast::ChangeKind::Truncate { .. } => (OperatorName::Delete, false, true),
    };
    let mut details = Vec::new();
    if adds {
        details.extend(checked(&definition));
    }
    if removes {
        details.extend(referring(catalog, (schema, table), &definition, &change.kind));
    }
    Ok(above(prepared.describe(measures), operator, table, details))
}

/// What is checked of every new row.
fn checked(definition: &TableDefinition) -> Vec<String> {
    let keys = definition.keys.iter().map(|key| format!("checks key {}", key.name));
    let checks =
        definition.checks.iter().map(|check| format!("checks {}: {}", check.name, check.condition.text().trim()));
    let references = definition.references.iter().map(|key| format!("checks {}: a row of {}", key.name, key.table.1));
    keys.chain(checks).chain(references).collect()
}

/// What becomes of the rows that refer to one that goes, or gets another key.
fn referring(
    catalog: &Catalog,
    (schema, table): (&str, &str),
    definition: &TableDefinition,
    kind: &ast::ChangeKind,
) -> Vec<String> {
    let set = match kind {
        ast::ChangeKind::Update { set, .. } => Some(set),
        _ => None,
    };
    let is_set = |at: &usize| {
        let name = &definition.columns[*at].name;
        set.is_none_or(|set| set.iter().any(|one| one.columns.iter().any(|column| column.matches(name))))
    };
    let tables = catalog.tables().filter_map(|(_, known)| Some((&known.name, known.definition.as_ref()?)));
    let keys = tables.flat_map(|(name, definition)| definition.references.iter().map(move |key| (name, key)));
    let here = keys.filter(|(_, key)| key.table.0 == schema && key.table.1 == table);
    let touched = here.filter(|(_, key)| key.referred.iter().any(is_set));
    touched
        .map(|(name, key)| match if set.is_some() { key.on_update } else { key.on_delete } {
            ReferentialAction::Cascade if set.is_none() => format!("deletes from {name} by {}", key.name),
            ReferentialAction::Cascade | ReferentialAction::SetNull | ReferentialAction::SetDefault => {
                format!("changes {name} by {}", key.name)
            }
            ReferentialAction::NoAction | ReferentialAction::Restrict => format!("looks for {} in {name}", key.name),
        })
        .collect()
}
