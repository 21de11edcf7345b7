//! Periods: in definitions, in FROM, in changes, and in predicates.

use super::{Expr, Ident, TableAlias, definition::Name};
use crate::catalog::{HistoryRule, Roll};
use crate::diagnostic::Span;

/// `PERIOD FOR name (start, end)`
#[derive(Clone, Debug)]
pub struct PeriodElement {
    pub name: Ident,
    pub start: Ident,
    pub end: Ident,
    pub span: Span,
}

/// A point of system time: a time, or a commit.
#[derive(Clone, Debug)]
pub enum SystemTimePoint {
    Time(Expr),
    /// `COMMIT n`
    Commit(Expr),
}

impl SystemTimePoint {
    /// The time or the number of a commit.
    pub fn expr(&self) -> &Expr {
        match self {
            Self::Time(expr) | Self::Commit(expr) => expr,
        }
    }
}

/// Which versions of rows are read.
#[derive(Clone, Debug)]
pub enum SystemTimeKind {
    AsOf(SystemTimePoint),
    Between {
        from: SystemTimePoint,
        to: SystemTimePoint,
        symmetric: bool,
    },
    /// `FROM a TO b`
    FromTo {
        from: SystemTimePoint,
        to: SystemTimePoint,
    },
    All,
}

/// `FOR SYSTEM_TIME …` after a table.
#[derive(Clone, Debug)]
pub struct SystemTimeClause {
    pub kind: SystemTimeKind,
    pub span: Span,
}

impl SystemTimeClause {
    /// The expressions of its moments.
    pub fn exprs(&self) -> impl Iterator<Item = &Expr> {
        let (first, second) = match &self.kind {
            SystemTimeKind::AsOf(moment) => (Some(moment), None),
            SystemTimeKind::Between { from, to, .. } | SystemTimeKind::FromTo { from, to } => (Some(from), Some(to)),
            SystemTimeKind::All => (None, None),
        };
        first.into_iter().chain(second).map(SystemTimePoint::expr)
    }
}

/// `CHANGES OF table BETWEEN a AND b`
#[derive(Clone, Debug)]
pub struct Changes {
    pub table: Name,
    pub from: SystemTimePoint,
    pub to: SystemTimePoint,
    pub alias: TableAlias,
    pub span: Span,
}

/// `FOR PORTION OF period FROM a TO b` of an UPDATE or DELETE.
#[derive(Clone, Debug)]
pub struct Portion {
    pub period: Ident,
    pub from: Expr,
    pub to: Expr,
    pub span: Span,
}

/// `TRIM HISTORY OF table BEFORE moment`
#[derive(Clone, Debug)]
pub struct TrimHistory {
    pub table: Name,
    pub before: SystemTimePoint,
}

/// What SET HISTORY says; what it omits stays as it is.
#[derive(Clone, Copy, Debug, Default)]
pub struct HistoryChange {
    /// `ROLL EVERY …`, or `NO ROLL`
    pub roll: Option<Option<Roll>>,
    /// `KEEP n`, or `KEEP ALL`
    pub keep: Option<Option<u32>>,
    /// `WHEN FULL …`
    pub when_full: Option<crate::catalog::WhenFull>,
}

impl HistoryChange {
    /// Changes what the statement speaks of, and leaves the rest as it is.
    pub fn apply(self, rule: &mut HistoryRule) {
        rule.roll = self.roll.unwrap_or(rule.roll);
        rule.keep = self.keep.unwrap_or(rule.keep);
        rule.when_full = self.when_full.unwrap_or(rule.when_full);
    }
}

/// How two periods lie to each other (clause 8.20).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PeriodOp {
    Overlaps,
    Equals,
    /// Of a period or a point.
    Contains,
    Precedes,
    Succeeds,
    ImmediatelyPrecedes,
    ImmediatelySucceeds,
}

impl PeriodOp {
    /// As it is written.
    pub fn words(self) -> &'static str {
        match self {
            Self::Overlaps => "OVERLAPS",
            Self::Equals => "EQUALS",
            Self::Contains => "CONTAINS",
            Self::Precedes => "PRECEDES",
            Self::Succeeds => "SUCCEEDS",
            Self::ImmediatelyPrecedes => "IMMEDIATELY PRECEDES",
            Self::ImmediatelySucceeds => "IMMEDIATELY SUCCEEDS",
        }
    }
}
