use super::ast::{Delta, DeltaRows, Expr, Join, JoinCondition, JoinKind, Sample, TableAlias, TableCall, TableExpr};
use super::keyword::Keyword as K;
use super::lexer::{Symbol, TokenKind};
use super::parser::{MAX_NESTING, Parser};
use super::problem::Problem;
use crate::diagnostic::{Result, Span};

/// What a join's words say.
struct JoinWords {
    kind: JoinKind,
    mirrored: bool,
    natural: bool,
    cross: bool,
}

impl Parser<'_> {
    /// One item of FROM with the joins that follow it.
    pub(super) fn table_expression(&mut self) -> Result<TableExpr> {
        let first = self.table_factor()?;
        self.joins(first)
    }

    /// The joins after a table, up to an ON that belongs to a join around them: `a JOIN b JOIN c ON … ON …`.
    fn joins(&mut self, mut left: TableExpr) -> Result<TableExpr> {
        for _ in 0..MAX_NESTING {
            let start = self.span();
            let Some(words) = self.join_words()? else { return Ok(left) };
            let span = start.to(self.last_span());
            let mut right = self.table_factor()?;
            let condition = match (words.cross, words.natural) {
                (true, _) => JoinCondition::Cross,
                (_, true) => JoinCondition::Natural,
                _ => {
                    right = self.nested(|parser| parser.joins(right))?;
                    self.join_condition()?
                }
            };
            let JoinWords { kind, mirrored, .. } = words;
            left = TableExpr::Join(Box::new(Join { kind, mirrored, left, right, condition, span }));
        }
        Err(self.fail(&Problem::TooDeep(MAX_NESTING)))
    }

    /// The words of a join, when one appears here.
    fn join_words(&mut self) -> Result<Option<JoinWords>> {
        let inner = JoinWords { kind: JoinKind::Inner, mirrored: false, natural: false, cross: false };
        if self.accept_words(&[K::Cross, K::Join]) {
            return Ok(Some(JoinWords { cross: true, ..inner }));
        }
        let natural = self.accept_word(K::Natural);
        let (kind, mirrored) = if self.accept_word(K::Left) {
            (JoinKind::Left, false)
        } else if self.accept_word(K::Right) {
            (JoinKind::Left, true)
        } else if self.accept_word(K::Full) {
            (JoinKind::Full, false)
        } else {
            let inner_word = self.accept_word(K::Inner);
            if !natural && !inner_word && !self.at_word(K::Join) {
                return Ok(None);
            }
            (JoinKind::Inner, false)
        };
        if kind != JoinKind::Inner {
            self.accept_word(K::Outer);
        }
        self.expect_word(K::Join)?;
        Ok(Some(JoinWords { kind, mirrored, natural, cross: false }))
    }

    fn join_condition(&mut self) -> Result<JoinCondition> {
        if self.accept_word(K::On) {
            return Ok(JoinCondition::On(self.expression()?));
        }
        if self.accept_word(K::Using) {
            let columns = self.names_in_parentheses("a column of both tables")?;
            let name = if self.accept_word(K::As) { Some(self.name("a name for the joined columns")?) } else { None };
            return Ok(JoinCondition::Using(columns, name));
        }
        Err(self.expected("ON or USING").with_help("CROSS JOIN pairs every row with every other, without a condition"))
    }

    /// A table, or a sample of it.
    fn table_factor(&mut self) -> Result<TableExpr> {
        let table = self.table_primary()?;
        let start = self.span();
        if !self.accept_word(K::Tablesample) {
            return Ok(table);
        }
        let pages = self.accept_word(K::System);
        if !pages && !self.accept_word(K::Bernoulli) {
            let help = "BERNOULLI decides for each row, SYSTEM for pages of rows: TABLESAMPLE BERNOULLI (10)";
            return Err(self.expected("BERNOULLI or SYSTEM").with_help(help));
        }
        let percent = self.number_in_parentheses()?;
        let repeatable = if self.accept_word(K::Repeatable) { Some(self.number_in_parentheses()?) } else { None };
        let span = start.to(self.last_span());
        Ok(TableExpr::Sampled(Box::new((table, Sample { pages, percent, repeatable, span }))))
    }

    /// The `(number)` of a sample clause.
    fn number_in_parentheses(&mut self) -> Result<Expr> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and a number")?;
        let number = self.expression()?;
        self.close(open)?;
        Ok(number)
    }

    fn table_primary(&mut self) -> Result<TableExpr> {
        let start = self.span();
        let lateral = self.accept_word(K::Lateral);
        if self.query_here() {
            let query = Box::new(self.parenthesised_query()?);
            return Ok(TableExpr::Derived { query, lateral, alias: self.table_alias()? });
        }
        if self.at_symbol(Symbol::LeftParen) {
            self.advance();
            let inner = self.nested(Self::table_expression)?;
            self.close(start)?;
            return Ok(inner);
        }
        if self.at_word(K::File) && self.ahead(1).kind == TokenKind::Text {
            self.advance();
            let path = self.text_literal("the path of a file")?;
            let options = Box::new(self.file_options()?);
            let span = start.to(self.last_span());
            return Ok(TableExpr::File { path, options, alias: self.table_alias()?, span });
        }
        if self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen) && self.at_any(&[K::Series, K::Unnest]) {
            let call = self.table_call()?;
            return Ok(TableExpr::Function { call, alias: self.table_alias()? });
        }
        let delta = [(K::Final, DeltaRows::Final), (K::New, DeltaRows::Final), (K::Old, DeltaRows::Old)];
        if let Some((word, rows)) = delta.into_iter().find(|(word, _)| self.at_words(&[*word, K::Table])) {
            self.accept_words(&[word, K::Table]);
            let open = self.span();
            self.expect_symbol(Symbol::LeftParen, "( and a change")?;
            let change = self.change_of_rows(None)?;
            self.close(open)?;
            let span = start.to(self.last_span());
            let alias = self.table_alias()?;
            return Ok(TableExpr::Delta(Box::new(Delta { rows, change, alias, span })));
        }
        if self.at_word(K::Table) && self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen) {
            self.advance();
            let open = self.advance().span;
            let at = self.span();
            let name = self.qualified_name("a table function")?;
            let (args, span) = self.table_arguments(at)?;
            self.close(open)?;
            return Ok(TableExpr::Call { name, args, alias: self.table_alias()?, span });
        }
        if let Some(changes) = self.changes()? {
            return Ok(changes);
        }
        let name = self.qualified_name("a table")?;
        if self.at_symbol(Symbol::LeftParen) {
            let (args, span) = self.table_arguments(start)?;
            return Ok(TableExpr::Call { name, args, alias: self.table_alias()?, span });
        }
        let span = start.to(self.last_span());
        let system_time = self.system_time()?;
        let alias = self.table_alias()?;
        if let (Some(name), true) = (&alias.name, self.at_words(&[K::For, K::SystemTime])) {
            let help = format!("write FOR SYSTEM_TIME … AS {}", name.text);
            return Err(self.expected("FOR SYSTEM_TIME before the other name of the table").with_help(help));
        }
        Ok(TableExpr::Named { name, system_time, alias, span })
    }

    /// The arguments of a table function of the database.
    fn table_arguments(&mut self, start: Span) -> Result<(Vec<Expr>, Span)> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and arguments")?;
        let args = if self.at_symbol(Symbol::RightParen) { Vec::new() } else { self.list(Self::expression)? };
        self.close(open)?;
        Ok((args, start.to(self.last_span())))
    }

    fn table_call(&mut self) -> Result<TableCall> {
        let series = self.at_word(K::Series);
        self.advance();
        let open = self.advance().span;
        let args = self.list(Self::expression)?;
        self.close(open)?;
        if series {
            return Ok(TableCall::Series(args));
        }
        let ordinality = self.accept_words(&[K::With, K::Ordinality]);
        Ok(TableCall::Unnest { arrays: args, ordinality })
    }

    /// The name that a table has in the query, and those of its columns.
    pub(super) fn table_alias(&mut self) -> Result<TableAlias> {
        if self.at_any(&[K::Guide, K::For, K::Tablesample]) {
            return Ok(TableAlias::default());
        }
        let Some(alias) = self.alias("a name for the table after AS")? else { return Ok(TableAlias::default()) };
        let columns = if self.at_symbol(Symbol::LeftParen) {
            Some(self.names_in_parentheses("a name for a column")?)
        } else {
            None
        };
        Ok(TableAlias { name: Some(alias.name), columns })
    }
}
