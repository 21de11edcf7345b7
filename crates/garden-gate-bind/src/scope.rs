use super::problem::Problem;
use crate::diagnostic::nearest;
use crate::logical::ColumnId;
use crate::syntax::ast::Ident;
use std::fmt;

/// The part of a statement an expression appears in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Clause {
    Select,
    On,
    Where,
    GroupBy,
    Having,
    OrderBy,
    Fetch,
    /// The moments of `FOR SYSTEM_TIME`, and the ends of FOR PORTION OF.
    SystemTime,
    Argument,
    /// The parts of a window: its argument, PARTITION BY, ORDER BY.
    Window,
    From,
    Values,
    Value,
    Set,
    /// A default, a check or a generated column.
    Definition,
}

impl Clause {
    /// Whether groups exist at this point, so that aggregates make sense.
    pub(super) fn allows_aggregates(self) -> bool {
        matches!(self, Self::Select | Self::Having | Self::OrderBy | Self::Window)
    }

    /// Whether the rows are final at this point, so that window functions make sense.
    pub(super) fn allows_windows(self) -> bool {
        matches!(self, Self::Select | Self::OrderBy)
    }
}

impl fmt::Display for Clause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Select => "SELECT",
            Self::On => "ON",
            Self::Where => "WHERE",
            Self::GroupBy => "GROUP BY",
            Self::Having => "HAVING",
            Self::OrderBy => "ORDER BY",
            Self::Fetch => "OFFSET or FETCH FIRST",
            Self::SystemTime => "a moment of system time",
            Self::Argument => "the argument of an aggregate",
            Self::Window => "a window function",
            Self::From => "FROM",
            Self::Values => "VALUES",
            Self::Value => "a single value",
            Self::Set => "SET",
            Self::Definition => "a table's definition",
        })
    }
}

/// Where an expression appears: what its names can mean, and the clause.
#[derive(Clone, Copy)]
pub(super) struct At<'s> {
    pub(super) scope: &'s Scope,
    pub(super) clause: Clause,
}

/// A column as a scope shows it.
#[derive(Clone, Debug)]
pub(super) struct ScopeColumn {
    pub(super) name: String,
    pub(super) id: ColumnId,
}

/// A table of FROM under its correlation name.
#[derive(Clone, Debug)]
pub(super) struct Relation {
    pub(super) schema: Option<String>,
    pub(super) name: String,
    /// The table's own name, when the correlation name hides it.
    pub(super) hidden_name: Option<String>,
    pub(super) columns: Vec<ScopeColumn>,
    /// Its periods: their names, and where they start and end.
    pub(super) periods: Vec<ScopePeriod>,
}

/// A period as a scope shows it.
#[derive(Clone, Debug)]
pub(super) struct ScopePeriod {
    pub(super) name: String,
    pub(super) start: ColumnId,
    pub(super) end: ColumnId,
}

impl Relation {
    /// A table of columns that has no period.
    pub(super) fn new(name: impl Into<String>, columns: Vec<ScopeColumn>) -> Self {
        Self { schema: None, name: name.into(), hidden_name: None, columns, periods: Vec::new() }
    }
}

/// A column of both sides of a join with USING, shown once.
#[derive(Clone, Debug)]
pub(super) struct Merged {
    pub(super) left: ColumnId,
    pub(super) right: ColumnId,
    /// As it is shown.
    pub(super) column: ScopeColumn,
}

/// What names mean at one point of a query.
#[derive(Clone, Debug, Default)]
pub(super) struct Scope {
    pub(super) relations: Vec<Relation>,
    /// The columns of `*`, in order; unqualified names mean these. A column merged by USING appears here once.
    pub(super) star: Vec<ScopeColumn>,
}

impl Scope {
    /// A scope with one table.
    pub(super) fn of(relation: Relation) -> Self {
        Self { star: relation.columns.clone(), relations: vec![relation] }
    }

    /// Both scopes side by side; `merged` columns come first, once (clause 7.10).
    pub(super) fn beside(mut self, other: Self, merged: &[Merged]) -> Self {
        let is_merged = |id: ColumnId| merged.iter().any(|merged| merged.left == id || merged.right == id);
        let mut star: Vec<ScopeColumn> = merged.iter().map(|merged| merged.column.clone()).collect();
        star.extend(self.star.into_iter().chain(other.star).filter(|column| !is_merged(column.id)));
        self.relations.extend(other.relations);
        Self { relations: self.relations, star }
    }

    /// The names of the tables in it, for messages.
    pub(super) fn table_names(&self) -> Vec<String> {
        self.relations.iter().map(|relation| relation.name.clone()).collect()
    }

    /// The column that a name of one or more parts means.
    pub(super) fn resolve(&self, name: &[Ident]) -> Result<ColumnId, Problem> {
        match name {
            [] => Err(Problem::NameTooLong),
            [column] => self.resolve_bare(column),
            [qualifier @ .., column] => {
                let relation = self.relation(qualifier)?;
                let found: Vec<&ScopeColumn> =
                    relation.columns.iter().filter(|candidate| column.matches(&candidate.name)).collect();
                match found[..] {
                    [one] => Ok(one.id),
                    [] => Err(no_such_column(column, vec![relation.name.clone()], &relation.columns)),
                    _ => Err(Problem::AmbiguousColumn {
                        name: column.text.clone(),
                        tables: vec![relation.name.clone(); 2],
                    }),
                }
            }
        }
    }

    fn resolve_bare(&self, column: &Ident) -> Result<ColumnId, Problem> {
        let mut found: Vec<&ScopeColumn> =
            self.star.iter().filter(|candidate| column.matches(&candidate.name)).collect();
        if found.is_empty() {
            // Hidden columns have to be named.
            let all = self.relations.iter().flat_map(|relation| &relation.columns);
            found = all.filter(|candidate| column.matches(&candidate.name)).collect();
        }
        match found[..] {
            [one] => Ok(one.id),
            [] => Err(no_such_column(column, self.table_names(), &self.star)),
            _ => {
                let holds = |relation: &&Relation| relation.columns.iter().any(|c| found.iter().any(|f| f.id == c.id));
                let tables = self.relations.iter().filter(holds).map(|relation| relation.name.clone()).collect();
                Err(Problem::AmbiguousColumn { name: column.text.clone(), tables })
            }
        }
    }

    /// The relation that a qualifier (`t` or `s.t`) means.
    pub(super) fn relation(&self, qualifier: &[Ident]) -> Result<&Relation, Problem> {
        let (schema, table) = match qualifier {
            [table] => (None, table),
            [schema, table] => (Some(schema), table),
            _ => return Err(Problem::NameTooLong),
        };
        let matches = |relation: &&Relation| {
            table.matches(&relation.name)
                && schema.is_none_or(|schema| relation.schema.as_ref().is_some_and(|name| schema.matches(name)))
        };
        self.relations.iter().find(matches).ok_or_else(|| {
            let renamed = self
                .relations
                .iter()
                .find(|relation| relation.hidden_name.as_ref().is_some_and(|name| table.matches(name)))
                .map(|relation| relation.name.clone());
            Problem::NoSuchCorrelation { name: table.text.clone(), known: self.table_names(), renamed }
        })
    }
}

fn no_such_column(name: &Ident, tables: Vec<String>, columns: &[ScopeColumn]) -> Problem {
    let near = nearest(&name.text, columns.iter().map(|column| column.name.as_str())).map(str::to_owned);
    Problem::NoSuchColumn { name: name.text.clone(), tables, near, meant_text: false }
}
