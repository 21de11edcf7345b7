//! Periods of system time and of application time (clauses 7.6, 8.20, 11.3, 11.27 to 11.30 and 14.9, 14.14), and what is ours beside them.

use super::ast::{
    Changes, Expr, ExprKind, HistoryChange, Ident, Operands, PeriodElement, PeriodOp, Portion, SystemTimeClause,
    SystemTimeKind, SystemTimePoint, TableExpr, TrimHistory,
};
use super::keyword::Keyword as K;
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use crate::catalog::{Roll, WhenFull};
use crate::diagnostic::{Result, Span};
use crate::types::Field;

impl Parser<'_> {
    /// `PERIOD FOR name (start, end)`
    pub(super) fn period_element(&mut self) -> Result<PeriodElement> {
        let start = self.span();
        self.expect_word(K::Period)?;
        self.expect_word(K::For)?;
        let name = self.name("SYSTEM_TIME or the name of a period")?;
        let at = self.span();
        let columns = self.names_in_parentheses("a column")?;
        let Ok([first, last]) = <[Ident; 2]>::try_from(columns) else {
            return Err(self.expected("two columns: where the period starts and where it ends").at(at));
        };
        Ok(PeriodElement { name, start: first, end: last, span: start.to(self.last_span()) })
    }

    /// `WITH SYSTEM VERSIONING` after a table's elements; its place.
    pub(super) fn system_versioning(&mut self) -> Option<Span> {
        let start = self.span();
        self.accept_words(&[K::With, K::System, K::Versioning]).then(|| start.to(self.last_span()))
    }

    /// `FOR SYSTEM_TIME …`, when it appears here.
    pub(super) fn system_time(&mut self) -> Result<Option<Box<SystemTimeClause>>> {
        let start = self.span();
        if !self.accept_words(&[K::For, K::SystemTime]) {
            return Ok(None);
        }
        let kind = if self.accept_words(&[K::As, K::Of]) {
            SystemTimeKind::AsOf(self.moment()?)
        } else if self.accept_word(K::Between) {
            let symmetric = self.accept_word(K::Symmetric);
            if !symmetric {
                self.accept_word(K::Asymmetric);
            }
            let from = self.moment()?;
            self.expect_word(K::And)?;
            SystemTimeKind::Between { from, to: self.moment()?, symmetric }
        } else if self.accept_word(K::From) {
            let from = self.moment()?;
            self.expect_word(K::To)?;
            SystemTimeKind::FromTo { from, to: self.moment()? }
        } else if self.accept_word(K::All) {
            SystemTimeKind::All
        } else {
            return Err(self.expected("AS OF, BETWEEN, FROM or ALL"));
        };
        Ok(Some(Box::new(SystemTimeClause { kind, span: start.to(self.last_span()) })))
    }

    /// A time, or `COMMIT n`.
    pub(super) fn moment(&mut self) -> Result<SystemTimePoint> {
        if self.accept_word(K::Commit) {
            self.additive().map(SystemTimePoint::Commit)
        } else {
            self.additive().map(SystemTimePoint::Time)
        }
    }

    /// `CHANGES OF table BETWEEN a AND b`, when it appears here.
    pub(super) fn changes(&mut self) -> Result<Option<TableExpr>> {
        let start = self.span();
        if !(self.at_words(&[K::Changes, K::Of]) && self.ahead(2).kind != TokenKind::End) {
            return Ok(None);
        }
        self.accept_words(&[K::Changes, K::Of]);
        let table = self.qualified_name("the name of a table")?;
        self.expect_word(K::Between)?;
        let from = self.moment()?;
        self.expect_word(K::And)?;
        let to = self.moment()?;
        let span = start.to(self.last_span());
        let alias = self.table_alias()?;
        Ok(Some(TableExpr::Changes(Box::new(Changes { table, from, to, alias, span }))))
    }

    /// `FOR PORTION OF period FROM a TO b`, when it appears here.
    pub(super) fn portion(&mut self) -> Result<Option<Portion>> {
        let start = self.span();
        if !self.accept_words(&[K::For, K::Portion, K::Of]) {
            return Ok(None);
        }
        let period = self.name("the name of a period")?;
        self.expect_word(K::From)?;
        let from = self.additive()?;
        self.expect_word(K::To)?;
        let to = self.additive()?;
        Ok(Some(Portion { period, from, to, span: start.to(self.last_span()) }))
    }

    /// `TRIM HISTORY OF table BEFORE moment`
    pub(super) fn trim_history(&mut self) -> Result<TrimHistory> {
        for word in [K::Trim, K::History, K::Of] {
            self.expect_word(word)?;
        }
        let table = self.qualified_name("the name of a table")?;
        self.expect_word(K::Before)?;
        Ok(TrimHistory { table, before: self.moment()? })
    }

    /// The `(ROLL EVERY …, KEEP …)` of SET HISTORY.
    pub(super) fn history_rule(&mut self) -> Result<HistoryChange> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and ROLL EVERY or KEEP")?;
        let mut change = HistoryChange::default();
        loop {
            if self.accept_words(&[K::No, K::Roll]) {
                change.roll = Some(None);
            } else if self.accept_words(&[K::Roll, K::Every]) {
                change.roll = Some(Some(self.roll()?));
            } else if self.accept_words(&[K::Keep, K::All]) {
                change.keep = Some(None);
            } else if self.accept_word(K::Keep) {
                change.keep = Some(Some(self.positive("a number of stretches, 1 or more, or ALL")?));
            } else if self.accept_words(&[K::When, K::Full, K::Drop, K::Oldest]) {
                change.when_full = Some(WhenFull::DropOldest);
            } else if self.accept_words(&[K::When, K::Full, K::Note]) {
                change.when_full = Some(WhenFull::Note);
            } else {
                return Err(self.expected("ROLL EVERY, NO ROLL, KEEP, WHEN FULL DROP OLDEST or WHEN FULL NOTE"));
            }
            if !self.accept_symbol(Symbol::Comma) {
                break;
            }
        }
        self.close(open)?;
        Ok(change)
    }

    fn roll(&mut self) -> Result<Roll> {
        let start = self.span();
        if !self.at_word(K::Interval) {
            let rows = self.positive("INTERVAL and a length, or a number of rows, 1 or more")?;
            self.expect_word(K::Rows)?;
            return Ok(Roll::Rows(rows.into()));
        }
        self.advance();
        let text = self.text_literal("a length in single quotes, as in INTERVAL '1' MONTH")?;
        let fields = self.interval_fields()?;
        let length = crate::types::parse_interval(&text, fields.first(), fields.last());
        match length {
            Some(crate::types::Interval::Months(months)) if months > 0 => Ok(Roll::Months(months)),
            Some(crate::types::Interval::Micros(micros)) if micros > 0 => Ok(Roll::Micros(micros)),
            _ => {
                let form = if fields.first() >= Field::Day { "INTERVAL '7' DAY" } else { "INTERVAL '1' MONTH" };
                Err(self.expected("an interval longer than nothing").at(start.to(self.last_span())).with_help(form))
            }
        }
    }

    fn positive(&mut self, what: &'static str) -> Result<u32> {
        let start = self.span();
        match self.whole_number().ok().and_then(|number| u32::try_from(number).ok()) {
            Some(count) if count > 0 => Ok(count),
            _ => Err(self.expected(what).at(start)),
        }
    }

    /// `PERIOD (start, end)`, when it appears here.
    pub(super) fn period_value(&mut self) -> Result<Option<Expr>> {
        if !self.at_word(K::Period) || self.ahead(1).kind != TokenKind::Symbol(Symbol::LeftParen) {
            return Ok(None);
        }
        let start = self.advance().span;
        let open = self.advance().span;
        let mut ends = self.list(Self::expression)?;
        self.close(open)?;
        let span = start.to(self.last_span());
        match (ends.pop(), ends.pop(), ends.is_empty()) {
            (Some(last), Some(first), true) => {
                self.node(ExprKind::Period(Box::new(Operands { left: first, right: last })), span).map(Some)
            }
            _ => Err(self.expected("PERIOD (start, end)").at(span)),
        }
    }

    /// The words of a period predicate, when they come here after a period or a name.
    pub(super) fn period_op(&mut self, left: &Expr) -> Option<PeriodOp> {
        let is_period = matches!(left.kind, ExprKind::Period(_));
        if !is_period && !matches!(left.kind, ExprKind::Name(_)) {
            return None;
        }
        const OPS: [(&[K], PeriodOp); 7] = [
            (&[K::Overlaps], PeriodOp::Overlaps),
            (&[K::Equals], PeriodOp::Equals),
            (&[K::Contains], PeriodOp::Contains),
            (&[K::Precedes], PeriodOp::Precedes),
            (&[K::Succeeds], PeriodOp::Succeeds),
            (&[K::Immediately, K::Precedes], PeriodOp::ImmediatelyPrecedes),
            (&[K::Immediately, K::Succeeds], PeriodOp::ImmediatelySucceeds),
        ];
        OPS.into_iter().find(|(words, _)| self.accept_words(words)).map(|(_, op)| op)
    }
}
