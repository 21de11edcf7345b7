//! FOREIGN KEY in definitions (clause 11.8).

use super::definition::no_table;
use super::key_types::are_comparable;
use super::partial_match;
use super::table_definition::{Maker, no_column, period_of};
use crate::catalog::{ForeignKey, LOCAL_SCHEMA, MatchType, ReferentialAction, TableDefinition, TemporaryKind, Timing};
use crate::diagnostic::{Error, Result, Span, SqlState, counted};
use crate::syntax::ast;

/// Columns in which a period of a row, and those of the rows it refers to, start and end.
type Periods = Option<[(usize, usize); 2]>;

impl Maker<'_> {
    /// The definition of a foreign key.
    pub(super) fn foreign(
        &self,
        made: &TableDefinition,
        (foreign, span): (&ast::ForeignElement, Span),
        name: String,
        own_schema: &str,
    ) -> Result<ForeignKey> {
        let columns = self.columns(made, &foreign.columns)?;
        let (schema, target) = self.session.place(self.catalog, &foreign.table)?;
        let own = schema == own_schema && target.matches(&self.table.text);
        if schema == LOCAL_SCHEMA && own_schema != LOCAL_SCHEMA {
            let message = format!("table {:?} is temporary: a table that stays can't refer to it", target.text);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(target.span));
        }
        let (parent, parent_name) = self.parent(made, (&schema, target), own)?;
        check_lives(made, (parent, &parent_name)).map_err(|error| error.at(target.span))?;
        let find = |name: &ast::Ident| {
            parent
                .columns
                .iter()
                .position(|column| name.matches(&column.name))
                .ok_or_else(|| no_column(parent, &parent_name, name))
        };
        let referred = match &foreign.referred {
            Some(names) => names.iter().map(find).collect::<Result<Vec<_>>>()?,
            None => parent.keys.iter().find(|key| key.primary).map(|key| key.scalar_columns().to_vec()).ok_or_else(
                || {
                    let message = format!("table {parent_name:?} has no primary key to refer to");
                    Error::new(SqlState::SYNTAX_OR_RULE, message).at(target.span)
                },
            )?,
        };
        let periods = self.foreign_periods(made, foreign, (parent, &parent_name))?;
        let (on_delete, on_update, match_type) = (foreign.on_delete, foreign.on_update, foreign.match_type);
        if periods.is_some() && (on_delete != ReferentialAction::NoAction || on_update != ReferentialAction::NoAction) {
            return Err(Error::not_supported("an action of a foreign key with PERIOD but NO ACTION").at(span));
        }
        if match_type == MatchType::Partial {
            partial_match::check_definition(made, &columns, periods.is_some()).map_err(|error| error.at(span))?;
        }
        let (timing, unproven, table) = (Timing::AtOnce, false, (schema, parent_name.clone()));
        let key =
            ForeignKey { name, columns, table, referred, on_delete, on_update, match_type, timing, unproven, periods };
        check_parent_key((parent, &parent_name), &key).map_err(|error| error.at(span))?;
        check_types((made, &key.columns), (parent, &key.referred, &parent_name), foreign.period.is_some())
            .map_err(|error| error.at(span))?;
        Ok(key)
    }

    /// The table that is referred to, which may be the one that is made.
    fn parent<'d>(
        &'d self,
        made: &'d TableDefinition,
        (schema, target): (&str, &ast::Ident),
        own: bool,
    ) -> Result<(&'d TableDefinition, String)> {
        if own {
            return Ok((made, self.table.text.clone()));
        }
        let tables = self.catalog.schema(schema).map(|schema| schema.tables.as_slice()).unwrap_or_default();
        let Some(table) = tables.iter().find(|table| target.matches(&table.name)) else {
            return Err(no_table(self.catalog, schema, target));
        };
        match &table.definition {
            Some(definition) => Ok((definition.as_ref(), table.name.clone())),
            None => {
                let message =
                    format!("table {:?} holds rows of a file or a program: it has no keys to refer to", table.name);
                Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(target.span))
            }
        }
    }

    /// PERIOD on both sides of a foreign key, or on none.
    fn foreign_periods(
        &self,
        made: &TableDefinition,
        foreign: &ast::ForeignElement,
        (parent, parent_name): (&TableDefinition, &str),
    ) -> Result<Periods> {
        let one_side = |name: &ast::Ident| {
            let help = "write FOREIGN KEY (k, PERIOD p) REFERENCES t (k, PERIOD q)";
            let message = "a foreign key has a PERIOD on both sides, or on none";
            Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help).at(name.span)
        };
        let (own, referred) = match (&foreign.period, &foreign.referred_period) {
            (None, None) => return Ok(None),
            (Some(own), Some(referred)) => (own, period_of(parent, parent_name, referred)?),
            (Some(own), None) if foreign.referred.is_none() => {
                let key = parent.keys.iter().find(|key| key.primary);
                let period = key.and_then(|key| Some((*key.columns.last()?, key.period_end?)));
                (own, period.ok_or_else(|| one_side(own))?)
            }
            (Some(name), None) | (None, Some(name)) => return Err(one_side(name)),
        };
        let found = self.own_period(made, own)?;
        let (a, b) = (&made.columns[found.0], &parent.columns[referred.0]);
        if a.sql_type != b.sql_type {
            let message = format!(
                "period {:?} is made of {}, that of table {parent_name:?} of {}",
                own.text, a.sql_type, b.sql_type
            );
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(own.span));
        }
        Ok(Some([found, referred]))
    }
}

/// An error when a table in which each session has rows of its own is tied to one in which they have the same rows (clause 11.8, syntax rule 5).
fn check_lives(made: &TableDefinition, (parent, parent_name): (&TableDefinition, &str)) -> Result<()> {
    let global = |definition: &TableDefinition| definition.is_temporary(TemporaryKind::Global);
    if global(made) == global(parent) {
        return Ok(());
    }
    let one = if global(parent) { "the table that is referred to" } else { "the table that refers" };
    let message = format!("rows that refer to table {parent_name:?}: {one} is GLOBAL TEMPORARY, the other is not");
    Err(Error::new(SqlState::SYNTAX_OR_RULE, message)
        .with_help("a GLOBAL TEMPORARY table refers to GLOBAL TEMPORARY tables only, and only they refer to it"))
}

/// An error when the columns are no key that rows can refer to.
fn check_parent_key((parent, parent_name): (&TableDefinition, &str), reference: &ForeignKey) -> Result<()> {
    let mut keys = parent.keys.iter().filter(|key| reference.means(key)).peekable();
    if keys.peek().is_none() {
        let message = format!("no key of table {parent_name:?} has just these columns");
        let help = "a row can be referred to by the columns of its PRIMARY KEY or of a UNIQUE constraint";
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help));
    }
    if keys.any(|key| key.timing != Timing::AtOnce) {
        let message = format!("the key of table {parent_name:?} is DEFERRABLE: rows can't refer to it");
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message));
    }
    Ok(())
}

/// An error when the columns differ in number or type from those that they refer to.
fn check_types(
    (made, columns): (&TableDefinition, &[usize]),
    (parent, referred, parent_name): (&TableDefinition, &[usize], &str),
    strict: bool,
) -> Result<()> {
    if columns.len() != referred.len() {
        let message = format!("{} can't refer to {}", counted(columns.len(), "column"), referred.len());
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message));
    }
    for (at, other) in columns.iter().zip(referred) {
        let (a, b) = (&made.columns[*at], &parent.columns[*other]);
        let fits = are_comparable(a.sql_type, b.sql_type) && (!strict || a.sql_type.arrow() == b.sql_type.arrow());
        if !fits {
            let message =
                format!("{:?} is {}, {:?} of table {parent_name:?} is {}", a.name, a.sql_type, b.name, b.sql_type);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message)
                .with_help("give both the same type, or types of exact numbers"));
        }
    }
    Ok(())
}
