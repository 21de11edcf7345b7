//! Constraints that are checked when their transaction ends (clauses 10.8 and 17.4).

use super::Session;
use super::change::stored;
use super::constraints::{Changer, check_key};
use super::transaction::{Transaction, holds, no_transaction};
use crate::bind::{MissingParameters, Parameters};
use crate::catalog::{Catalog, CheckConstraint, Table, Timing};
use crate::diagnostic::{Error, Result, SqlState};
use crate::syntax::ast;

/// What SET CONSTRAINTS has said in a transaction.
#[derive(Clone, Debug, Default)]
pub(super) struct Deferral {
    /// Of a constraint of a schema and name, the last one counting.
    named: Vec<(String, String, bool)>,
    all: Option<bool>,
    /// Whether a transaction is open: without one each statement ends its own.
    open: bool,
}

impl Deferral {
    /// Nothing waits, in a transaction.
    pub(super) fn of_transaction() -> Self {
        Self { open: true, ..Self::default() }
    }

    /// Whether a constraint is not looked at before the transaction ends.
    pub(super) fn defers(&self, schema: &str, name: &str, timing: Timing) -> bool {
        if !self.open || timing == Timing::AtOnce {
            return false;
        }
        let named = self.named.iter().rev().find(|(in_schema, known, _)| in_schema == schema && known == name);
        named.map(|(.., deferred)| *deferred).or(self.all).unwrap_or(timing == Timing::Deferred)
    }

    /// Takes note of SET CONSTRAINTS; without constraints it is about all.
    fn set(&mut self, constraints: Option<Vec<(String, String)>>, deferred: bool) {
        match constraints {
            Some(constraints) => {
                self.named.extend(constraints.into_iter().map(|(schema, name)| (schema, name, deferred)));
            }
            None => {
                self.named.clear();
                self.all = Some(deferred);
            }
        }
    }
}

impl Session {
    /// What waits for COMMIT in the transaction that is open.
    pub(super) fn deferral(&self) -> Deferral {
        self.transaction.as_ref().map(|transaction| transaction.deferral.clone()).unwrap_or_default()
    }

    /// `SET CONSTRAINTS { ALL | name, … } { DEFERRED | IMMEDIATE }`: IMMEDIATE checks at once what was put off.
    pub(super) fn set_constraints(&mut self, names: Option<&[ast::Name]>, deferred: bool) -> Result<()> {
        let Some(transaction) = &self.transaction else { return Err(no_transaction()) };
        let find = |names: &[ast::Name]| names.iter().map(|name| self.constraint(&transaction.work, name)).collect();
        let chosen = names.map(find).transpose()?;
        let mut after = transaction.deferral.clone();
        after.set(chosen, deferred);
        let before = transaction.deferral.clone();
        if !deferred {
            let was_put_off = |schema: &str, name: &str, timing| {
                before.defers(schema, name, timing) && !after.defers(schema, name, timing)
            };
            self.check_put_off(transaction, &was_put_off)?;
        }
        if let Some(transaction) = &mut self.transaction {
            transaction.deferral = after;
        }
        Ok(())
    }

    /// The schema and name of a constraint that can be put off.
    fn constraint(&self, catalog: &Catalog, name: &[ast::Ident]) -> Result<(String, String)> {
        let (schema, name) = self.place(catalog, name)?;
        let mut refused = None;
        for (_, table) in catalog.tables().filter(|(known, _)| *known == schema) {
            for (known, timing) in timings(table) {
                match timing {
                    _ if !name.matches(known) => {}
                    Timing::AtOnce => refused = Some(known),
                    _ => return Ok((schema, known.to_owned())),
                }
            }
        }
        Err(match refused {
            Some(known) => Error::new(SqlState::SYNTAX_OR_RULE, format!("constraint {known:?} is not DEFERRABLE")),
            None => Error::new(SqlState::SYNTAX_OR_RULE, format!("no constraint {:?} that is DEFERRABLE", name.text)),
        }
        .at(name.span))
    }

    /// Checks, at the end of a transaction, what it has put off.
    ///
    /// # Errors
    /// 40002: the transaction is undone.
    pub(super) fn check_deferred(&self, transaction: &Transaction) -> Result<()> {
        let put_off = |schema: &str, name: &str, timing| transaction.deferral.defers(schema, name, timing);
        self.check_put_off(transaction, &put_off).map_err(|error| {
            let help = error.help().map_or_else(String::new, |help| format!("; {help}"));
            Error::new(SqlState::CONSTRAINT_ROLLBACK, error.message().to_owned())
                .with_help(format!("the transaction is undone{help}"))
        })
    }

    fn check_put_off(&self, transaction: &Transaction, chosen: &dyn Fn(&str, &str, Timing) -> bool) -> Result<()> {
        let catalog = &transaction.work;
        let (files, parameters) = (self.files(), Parameters::new());
        let around = self.around(catalog, &files, &parameters, MissingParameters::Refuse);
        let changer = Changer::new(Catalog::clone(catalog), &around, false, Deferral::default());
        for (schema, table) in catalog.tables() {
            let Some(definition) = &table.definition else { continue };
            let is_same = |schema: &str, table: &Table| holds(&transaction.base, schema, table);
            let unchanged = is_same(schema, table);
            let keys = definition.keys.iter().filter(|key| !unchanged && chosen(schema, &key.name, key.timing));
            let references = definition.references.iter().filter(|reference| {
                let parent = catalog.table(&reference.table.0, &reference.table.1);
                let settled = unchanged && parent.is_some_and(|parent| is_same(&reference.table.0, parent));
                !settled && chosen(schema, &reference.name, reference.timing)
            });
            let (keys, references): (Vec<_>, Vec<_>) = (keys.collect(), references.collect());
            let is_due = |check: &CheckConstraint| !unchanged && chosen(schema, &check.name, check.timing);
            if keys.is_empty() && references.is_empty() && !definition.checks.iter().any(is_due) {
                continue;
            }
            let (source, _) = stored(catalog, schema, &table.name)?;
            let rows = source.rows_at(&source.places()?)?;
            changer.check_conditions(&table.name, definition, (&rows, &is_due))?;
            for key in keys {
                check_key(&table.name, definition, key, (&source, &rows))?;
            }
            for reference in references {
                changer.check_reference(&table.name, definition, reference, &rows)?;
            }
        }
        Ok(())
    }
}

fn timings(table: &Table) -> Vec<(&str, Timing)> {
    let Some(definition) = &table.definition else { return Vec::new() };
    let keys = definition.keys.iter().map(|key| (key.name.as_str(), key.timing));
    let references = definition.references.iter().map(|reference| (reference.name.as_str(), reference.timing));
    let checks = definition.checks.iter().map(|check| (check.name.as_str(), check.timing));
    keys.chain(references).chain(checks).collect()
}
