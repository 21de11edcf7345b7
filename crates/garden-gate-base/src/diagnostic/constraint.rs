/// What kind of constraint a row broke.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum ConstraintKind {
    /// NOT NULL.
    NotNull,
    /// CHECK of a table.
    Check,
    /// PRIMARY KEY.
    PrimaryKey,
    /// UNIQUE, or a unique index.
    Unique,
    /// FOREIGN KEY, from either side.
    ForeignKey,
    /// A period that does not end after it starts.
    Period,
    /// CHECK of a domain.
    Domain,
}

/// The constraint that an error of class 23 is about.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub struct BrokenConstraint {
    /// Its kind.
    pub kind: ConstraintKind,
    /// The table that it belongs to; `None` of a domain.
    pub table: Option<String>,
    /// Its name; of NOT NULL the column's, of a domain's CHECK the domain's and its own with a dot between them.
    pub name: String,
}

impl BrokenConstraint {
    /// A constraint of a table.
    pub fn of_table(kind: ConstraintKind, table: &str, name: &str) -> Self {
        Self { kind, table: Some(table.to_owned()), name: name.to_owned() }
    }

    /// A CHECK of a domain.
    pub fn of_domain(domain: &str, check: &str) -> Self {
        Self { kind: ConstraintKind::Domain, table: None, name: format!("{domain}.{check}") }
    }
}
