//! `GUIDE [IF POSSIBLE] (JOIN (a, b) BY HASH, KEEP ORDER, READ a BY INDEX i, READ b BY SCAN, EXPECT a 45 ROWS, WORKERS 2)`

use super::ast::{GuideClause, GuideDirective, Ident};
use super::keyword::Keyword as K;
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use crate::diagnostic::Result;
use garden_gate_base::guide::{DirectiveKind, GuidedJoin, GuidedRead};

const DIRECTIVES: &str = "a directive: JOIN (a, b) BY HASH | MERGE | NESTED LOOP | RANGE, KEEP ORDER, READ a BY INDEX name | SCAN, EXPECT a n ROWS, \
     WORKERS n";

impl Parser<'_> {
    /// Whether the last clause of a query begins here.
    pub(super) fn at_guide(&self) -> bool {
        self.at_words(&[K::Guide, K::If])
            || self.at_word(K::Guide) && self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen)
    }

    /// `GUIDE [IF POSSIBLE] (directive, …)`.
    pub(super) fn guide(&mut self) -> Result<GuideClause> {
        self.expect_word(K::Guide)?;
        let if_possible = self.accept_words(&[K::If, K::Possible]);
        if !if_possible && self.at_word(K::If) {
            return Err(self.expected("IF POSSIBLE, or ("));
        }
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "(")?;
        let directives = self.list(Self::directive)?;
        if self.at_words(&[K::If, K::Possible]) {
            return Err(
                self.expected("a comma or ): IF POSSIBLE belongs before the directives, GUIDE IF POSSIBLE (…),")
            );
        }
        self.close(open)?;
        Ok(GuideClause { if_possible, directives })
    }

    fn directive(&mut self) -> Result<GuideDirective> {
        let start = self.span();
        let (kind, names) = if self.accept_word(K::Join) {
            self.guided_join()?
        } else if self.accept_words(&[K::Keep, K::Order]) {
            (DirectiveKind::KeepOrder, Vec::new())
        } else if self.accept_word(K::Read) {
            let table = self.name("the table that is read")?;
            self.expect_word(K::By)?;
            let by = if self.accept_word(K::Scan) {
                GuidedRead::Scan
            } else if self.accept_word(K::Index) {
                GuidedRead::Indexes(vec![self.name("the name of an index")?.text])
            } else {
                return Err(self.expected("INDEX or SCAN"));
            };
            (DirectiveKind::Read { table: table.text.clone(), by }, vec![table])
        } else if self.accept_word(K::Expect) {
            let table = self.name("the table whose rows are counted")?;
            let rows = self.raw(self.current()).parse::<u32>().map(f64::from);
            let rows = rows.map_err(|_| self.expected("a number of rows"))?;
            self.advance();
            if !self.accept_word(K::Rows) && !self.accept_word(K::Row) {
                return Err(self.expected("ROWS"));
            }
            (DirectiveKind::Expect { table: table.text.clone(), rows }, vec![table])
        } else if self.accept_word(K::Workers) {
            let workers = self.raw(self.current()).parse::<usize>().ok().filter(|workers| (1..=256).contains(workers));
            let workers = workers.ok_or_else(|| self.expected("a number of workers, 1 to 256"))?;
            self.advance();
            (DirectiveKind::Workers(workers), Vec::new())
        } else {
            return Err(self.expected(DIRECTIVES));
        };
        Ok(GuideDirective { kind, names, span: start.to(self.last_span()) })
    }

    /// `(a, b) BY method`
    fn guided_join(&mut self) -> Result<(DirectiveKind, Vec<Ident>)> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "(")?;
        let first = self.name("the name of a table")?;
        self.expect_symbol(Symbol::Comma, "a comma and a second table")?;
        let second = self.name("the name of a table")?;
        self.close(open)?;
        self.expect_word(K::By)?;
        let by = if self.accept_word(K::Hash) {
            GuidedJoin::Hash
        } else if self.accept_word(K::Merge) {
            GuidedJoin::Merge
        } else if self.accept_words(&[K::Nested, K::Loop]) {
            GuidedJoin::NestedLoop
        } else if self.accept_word(K::Range) {
            GuidedJoin::Range
        } else {
            return Err(self.expected("HASH, MERGE, NESTED LOOP or RANGE"));
        };
        Ok((DirectiveKind::Join { tables: [first.text.clone(), second.text.clone()], by }, vec![first, second]))
    }
}
