//! What GUIDE directs in a plan.

use crate::diagnostic::Span;

/// The directives of all GUIDE clauses of a statement.
#[derive(Clone, Debug, Default)]
pub struct Guide {
    pub directives: Vec<Directive>,
}

/// One directive.
#[derive(Clone, Debug)]
pub struct Directive {
    pub kind: DirectiveKind,
    /// Whether it may be skipped, with a note, when it can't be obeyed.
    pub if_possible: bool,
    pub span: Span,
}

/// Tables are meant by their correlation names.
#[derive(Clone, Debug, PartialEq)]
pub enum DirectiveKind {
    /// Where these two are joined, by this method. A nested loop goes through the first and looks for matches in the second.
    Join {
        tables: [String; 2],
        by: GuidedJoin,
    },
    /// Tables are joined in the order they are written in.
    KeepOrder,
    Read {
        table: String,
        by: GuidedRead,
    },
    /// So many rows are left of the table after its own conditions.
    Expect {
        table: String,
        rows: f64,
    },
    Workers(usize),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GuidedJoin {
    Hash,
    Merge,
    NestedLoop,
    Range,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub enum GuidedRead {
    Scan,
    /// By these indexes and no other; a statement names one, a sweep may demand the several of a plan that it met.
    Indexes(Vec<String>),
}

impl GuidedJoin {
    /// The method as a GUIDE names it.
    pub fn words(self) -> &'static str {
        match self {
            Self::Hash => "HASH",
            Self::Merge => "MERGE",
            Self::NestedLoop => "NESTED LOOP",
            Self::Range => "RANGE",
        }
    }
}

impl DirectiveKind {
    /// As it is written.
    pub fn text(&self) -> String {
        match self {
            Self::Join { tables: [a, b], by } => format!("JOIN ({a}, {b}) BY {}", by.words()),
            Self::KeepOrder => "KEEP ORDER".into(),
            Self::Read { table, by: GuidedRead::Scan } => format!("READ {table} BY SCAN"),
            Self::Read { table, by: GuidedRead::Indexes(names) } => {
                format!("READ {table} BY INDEX {}", names.join(", "))
            }
            Self::Expect { table, rows } => format!("EXPECT {table} {rows} ROWS"),
            Self::Workers(workers) => format!("WORKERS {workers}"),
        }
    }
}

impl Guide {
    /// How a table is to be read.
    pub fn reading(&self, alias: &str) -> Option<&GuidedRead> {
        self.directives.iter().find_map(|directive| match &directive.kind {
            DirectiveKind::Read { table, by } if table.eq_ignore_ascii_case(alias) => Some(by),
            _ => None,
        })
    }

    /// How many rows a table is said to have left.
    pub fn expected(&self, alias: &str) -> Option<f64> {
        self.directives.iter().find_map(|directive| match &directive.kind {
            DirectiveKind::Expect { table, rows } if table.eq_ignore_ascii_case(alias) => Some(*rows),
            _ => None,
        })
    }

    /// Whether it says of any table how many rows are left.
    pub fn expects(&self) -> bool {
        self.directives.iter().any(|directive| matches!(directive.kind, DirectiveKind::Expect { .. }))
    }

    /// The number of workers that the guide demands.
    pub fn workers(&self) -> Option<usize> {
        self.directives.iter().find_map(|directive| match directive.kind {
            DirectiveKind::Workers(workers) => Some(workers),
            _ => None,
        })
    }

    /// Whether tables are to be joined in the order of FROM.
    pub fn keeps_order(&self) -> bool {
        self.directives.iter().any(|directive| directive.kind == DirectiveKind::KeepOrder)
    }

    /// The joins that are demanded, each with its two tables.
    pub fn joins(&self) -> impl Iterator<Item = (&[String; 2], GuidedJoin)> {
        self.directives.iter().filter_map(|directive| match &directive.kind {
            DirectiveKind::Join { tables, by } => Some((tables, *by)),
            _ => None,
        })
    }
}
