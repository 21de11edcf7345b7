//! Calls: the functions whose argument lists have words of their own, aggregates and windows.

use super::ast::{
    Call, Expr, ExprKind, ExtractField, FirstOrLast, FrameBound, FrameExclusion, FrameSpec, FrameUnit, Ident,
    NestedFunction, NullTreatment, Over, Overflow, ValueAt, WindowSpec,
};
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use crate::diagnostic::{Result, Span};
use crate::types::{RowMarker, SqlType, Value};

/// A function's name and its arguments.
type Named = (&'static str, Vec<Expr>);

impl Parser<'_> {
    /// A call without anything after its parentheses, made by the parser itself.
    pub(super) fn plain_call(&self, name: &str, args: Vec<Expr>, span: Span) -> Result<Expr> {
        let name = Ident { text: name.into(), quoted: false, span };
        self.node(ExprKind::Call(Box::new(Call { args, ..empty(name) })), span)
    }

    pub(super) fn text_node(&self, text: &str, span: Span) -> Result<Expr> {
        self.node(ExprKind::Literal(Value::Text(text.into()), SqlType::TEXT), span)
    }

    pub(super) fn number_node(&self, value: i64, span: Span) -> Result<Expr> {
        self.node(ExprKind::Literal(Value::Integer(value), SqlType::Integer), span)
    }

    /// A function with a syntax of its own (clauses 6.30 to 6.32), when one appears here; its name and `(` are ahead.
    pub(super) fn special_call(&mut self) -> Result<Option<Expr>> {
        let start = self.span();
        let word = self.raw(self.current()).to_uppercase();
        let read: fn(&mut Self) -> Result<Named> = match word.as_str() {
            "EXTRACT" => return self.extract(start).map(Some),
            "TRUNCATE" if self.has_unit() => return self.truncate_to(start).map(Some),
            "VALUE_OF" => return self.value_of(start).map(Some),
            "ROW_NUMBER" if RowMarker::from_word(self.raw(self.ahead(2))).is_some() => {
                return self.row_number_at(start).map(Some);
            }
            "SUBSTRING" => Self::substring,
            "POSITION" => |parser| {
                let wanted = parser.additive()?;
                parser.expect_word("IN")?;
                Ok(("POSITION", vec![wanted, parser.additive()?]))
            },
            "OVERLAY" => |parser| {
                let mut args = vec![parser.expression()?];
                for (word, needed) in [("PLACING", true), ("FROM", true), ("FOR", false)] {
                    if needed || parser.at_word(word) {
                        parser.expect_word(word)?;
                        args.push(parser.additive()?);
                    }
                }
                Ok(("OVERLAY", args))
            },
            "TRIM" => Self::trim,
            "TRANSLATE" => |parser| {
                let operand = parser.expression()?;
                parser.expect_word("USING")?;
                let at = parser.span();
                let name = parser.name("the name of a transliteration")?;
                Ok(("TRANSLATE", vec![operand, parser.text_node(&name.text.to_uppercase(), at)?]))
            },
            "NORMALIZE" => Self::normalize,
            "OCCURRENCES_REGEX" | "POSITION_REGEX" | "SUBSTRING_REGEX" | "TRANSLATE_REGEX" => {
                return self.regex(&word, start).map(Some);
            }
            _ => return Ok(None),
        };
        self.advance();
        let open = self.advance().span;
        let (name, args) = self.nested(read)?;
        if self.accept_word("USING") {
            self.expect_either("CHARACTERS", "CHARACTERS")?;
        }
        self.close(open)?;
        self.plain_call(name, args, start.to(self.last_span())).map(Some)
    }

    /// `ROW_NUMBER(marker)`
    fn row_number_at(&mut self, start: Span) -> Result<Expr> {
        self.advance();
        let open = self.advance().span;
        let marker = self.row_marker()?;
        self.close(open)?;
        let nested = NestedFunction { marker, value: None };
        self.node(ExprKind::Nested(Box::new(nested)), start.to(self.last_span()))
    }

    /// `VALUE_OF(value AT marker [{ + | - } n] [, default])`
    fn value_of(&mut self, start: Span) -> Result<Expr> {
        self.advance();
        let open = self.advance().span;
        let value = self.expression()?;
        self.expect_word("AT")?;
        let marker = self.row_marker()?;
        let back = self.accept_symbol(Symbol::Minus);
        let offset = if back || self.accept_symbol(Symbol::Plus) { self.whole_number()? } else { 0 };
        let offset = if back { -offset } else { offset };
        let default = if self.accept_symbol(Symbol::Comma) { Some(self.expression()?) } else { None };
        self.close(open)?;
        let nested = NestedFunction { marker, value: Some(ValueAt { value, offset, default }) };
        self.node(ExprKind::Nested(Box::new(nested)), start.to(self.last_span()))
    }

    fn row_marker(&mut self) -> Result<RowMarker> {
        let marker = RowMarker::from_word(self.raw(self.current())).ok_or_else(|| {
            self.expected("BEGIN_PARTITION, BEGIN_FRAME, CURRENT_ROW, FRAME_ROW, END_FRAME or END_PARTITION")
        })?;
        self.advance();
        Ok(marker)
    }

    fn extract(&mut self, start: Span) -> Result<Expr> {
        self.advance();
        let open = self.advance().span;
        let field = self.field_word()?;
        self.expect_word("FROM")?;
        let source = self.expression()?;
        self.close(open)?;
        self.node(ExprKind::Extract(field, Box::new(source)), start.to(self.last_span()))
    }

    /// A field, its words joined by blanks or underscores.
    fn field_word(&mut self) -> Result<ExtractField> {
        let longer = [
            (["DAY", "OF", "WEEK"].as_slice(), ExtractField::DayOfWeek),
            (&["DAY", "OF", "YEAR"], ExtractField::DayOfYear),
            (&["WEEK", "YEAR"], ExtractField::WeekYear),
        ];
        for (words, field) in longer {
            if self.accept_words(words) {
                return Ok(field);
            }
        }
        let field = ExtractField::from_word(self.raw(self.current())).ok_or_else(|| {
            let error = self.expected(
                "YEAR, QUARTER, MONTH, WEEK, DAY, DAY_OF_WEEK, DAY_OF_YEAR, HOUR, MINUTE, SECOND, TIMEZONE_HOUR or TIMEZONE_MINUTE",
            );
            let help = super::thesaurus::for_field(self.raw(self.current()));
            help.into_iter().fold(error, |error, help| error.with_help(help))
        })?;
        self.advance();
        Ok(field)
    }

    /// Whether TO appears within the parentheses that are ahead, and in none inside them.
    fn has_unit(&self) -> bool {
        let mut open = 0_u32;
        for distance in 1.. {
            match self.ahead(distance).kind {
                TokenKind::Symbol(Symbol::LeftParen) => open += 1,
                TokenKind::Symbol(Symbol::RightParen) if open <= 1 => return false,
                TokenKind::Symbol(Symbol::RightParen) => open -= 1,
                TokenKind::Word if open == 1 && self.is_word_at(distance, "TO") => return true,
                TokenKind::End => return false,
                _ => {}
            }
        }
        false
    }

    /// `TRUNCATE(operand TO unit)`
    fn truncate_to(&mut self, start: Span) -> Result<Expr> {
        self.advance();
        let open = self.advance().span;
        let operand = self.expression()?;
        self.expect_word("TO")?;
        let unit = self.field_word()?;
        self.close(open)?;
        self.node(ExprKind::TruncateTo(unit, Box::new(operand)), start.to(self.last_span()))
    }

    fn substring(&mut self) -> Result<Named> {
        let mut args = vec![self.expression()?];
        if self.accept_word("SIMILAR") {
            args.push(self.additive()?);
            self.expect_word("ESCAPE")?;
            args.push(self.additive()?);
            return Ok(("SUBSTRING SIMILAR", args));
        }
        if self.accept_symbol(Symbol::Comma) {
            args.push(self.expression()?);
            if self.accept_symbol(Symbol::Comma) {
                args.push(self.expression()?);
            }
            return Ok(("SUBSTRING", args));
        }
        self.expect_either("FROM", "FROM, SIMILAR or a comma")?;
        args.push(self.additive()?);
        if self.accept_word("FOR") {
            args.push(self.additive()?);
        }
        Ok(("SUBSTRING", args))
    }

    /// `TRIM([LEADING | TRAILING | BOTH] [character] FROM text)` or `TRIM(text)`.
    fn trim(&mut self) -> Result<Named> {
        let sides = [("LEADING", "TRIM LEADING"), ("TRAILING", "TRIM TRAILING"), ("BOTH", "TRIM BOTH")];
        let side = sides.into_iter().find(|(word, _)| self.accept_word(word)).map(|(_, name)| name);
        let at = self.span();
        let blank = self.text_node(" ", at)?;
        if self.accept_word("FROM") {
            return Ok((side.unwrap_or("TRIM BOTH"), vec![self.expression()?, blank]));
        }
        let first = self.expression()?;
        if self.accept_word("FROM") {
            return Ok((side.unwrap_or("TRIM BOTH"), vec![self.expression()?, first]));
        }
        if side.is_some() {
            return Err(self.expected("FROM"));
        }
        Ok(("TRIM BOTH", vec![first, blank]))
    }

    /// `NORMALIZE(text [, form])`
    fn normalize(&mut self) -> Result<Named> {
        let operand = self.expression()?;
        let at = self.span();
        let mut form = "NFC";
        if self.accept_symbol(Symbol::Comma) {
            let known = ["NFC", "NFD", "NFKC", "NFKD"].into_iter().find(|word| self.accept_word(word));
            form = known.ok_or_else(|| self.expected("NFC, NFD, NFKC or NFKD"))?;
        }
        Ok(("NORMALIZE", vec![operand, self.text_node(form, at)?]))
    }

    /// The functions of regular expressions: arguments come as pattern, text, flag, start, occurrence, group or replacement.
    fn regex(&mut self, word: &str, start: Span) -> Result<Expr> {
        self.advance();
        let open = self.advance().span;
        let behind = word == "POSITION_REGEX" && self.accept_word("AFTER");
        if word == "POSITION_REGEX" && !behind {
            self.accept_word("START");
        }
        let pattern = self.additive()?;
        let at = self.span();
        let flag = if self.accept_word("FLAG") { self.additive()? } else { self.text_node("", at)? };
        self.expect_word("IN")?;
        let text = self.additive()?;
        let replacement = if word == "TRANSLATE_REGEX" {
            Some(if self.accept_word("WITH") { self.additive()? } else { self.text_node("", at)? })
        } else {
            None
        };
        let from = if self.accept_word("FROM") { self.additive()? } else { self.number_node(1, at)? };
        self.accept_words(&["USING", "CHARACTERS"]);
        let mut args = vec![pattern, text, flag, from];
        if word != "OCCURRENCES_REGEX" {
            let all = i64::from(replacement.is_none());
            args.push(if !self.accept_word("OCCURRENCE") || self.accept_word("ALL") {
                self.number_node(all, at)?
            } else {
                self.additive()?
            });
            match replacement {
                Some(replacement) => args.push(replacement),
                None if self.accept_word("GROUP") => args.push(self.additive()?),
                None => args.push(self.number_node(0, at)?),
            }
        }
        self.close(open)?;
        let name = if behind { "POSITION_REGEX AFTER" } else { word };
        self.plain_call(name, args, start.to(self.last_span()))
    }

    /// A call whose name has been read, with everything that may stand after it.
    pub(super) fn call(&mut self, name: Ident, start: Span) -> Result<Expr> {
        let mut call = empty(name);
        self.arguments(&mut call)?;
        if self.accept_words(&["WITHIN", "GROUP"]) {
            let open = self.span();
            self.expect_symbol(Symbol::LeftParen, "(")?;
            self.expect_word("ORDER")?;
            call.order = self.order_by()?;
            call.within_group = true;
            self.close(open)?;
        }
        if self.at_word("FILTER") && self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen) {
            self.advance();
            let open = self.advance().span;
            self.expect_word("WHERE")?;
            call.filter = Some(self.expression()?);
            self.close(open)?;
        }
        if self.accept_words(&["FROM", "LAST"]) {
            call.from = FirstOrLast::Last;
        } else {
            self.accept_words(&["FROM", "FIRST"]);
        }
        if self.accept_words(&["IGNORE", "NULLS"]) {
            call.nulls = Some(NullTreatment::Ignore);
        } else if self.accept_words(&["RESPECT", "NULLS"]) {
            call.nulls = Some(NullTreatment::Respect);
        }
        if self.at_word("OVER") && (self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen) || self.name_ahead(1)) {
            self.advance();
            call.over = Some(if self.at_symbol(Symbol::LeftParen) {
                Over::Spec(self.window_spec()?)
            } else {
                Over::Named(self.name("the name of a window")?)
            });
        }
        self.node(ExprKind::Call(Box::new(call)), start.to(self.last_span()))
    }

    fn arguments(&mut self, call: &mut Call) -> Result<()> {
        let open = self.advance().span;
        if self.accept_symbol(Symbol::Star) {
            call.star = true;
            return self.close(open);
        }
        call.distinct = self.accept_word("DISTINCT");
        if !call.distinct {
            self.accept_word("ALL");
        }
        if !self.at_symbol(Symbol::RightParen) {
            call.args = self.list(Self::expression)?;
        }
        if self.accept_word("ORDER") {
            call.order = self.order_by()?;
        }
        if self.accept_words(&["ON", "OVERFLOW"]) {
            call.overflow = Some(self.overflow()?);
        }
        self.close(open)
    }

    fn overflow(&mut self) -> Result<Overflow> {
        if self.accept_word("ERROR") {
            return Ok(Overflow::Error);
        }
        self.expect_either("TRUNCATE", "ERROR or TRUNCATE")?;
        let filler =
            if self.current().kind == TokenKind::Text { Some(self.text_literal("a filler in quotes")?) } else { None };
        let with_count = !self.accept_words(&["WITHOUT", "COUNT"]);
        if with_count {
            self.accept_words(&["WITH", "COUNT"]);
        }
        Ok(Overflow::Truncate { filler, with_count })
    }

    /// `name AS (…)` of the WINDOW clause.
    pub(super) fn named_window(&mut self) -> Result<(Ident, WindowSpec)> {
        let name = self.name("a name for the window")?;
        self.expect_word("AS")?;
        Ok((name, self.window_spec()?))
    }

    fn window_spec(&mut self) -> Result<WindowSpec> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "(")?;
        let clause = ["PARTITION", "ROWS", "RANGE", "GROUPS"].iter().any(|word| self.at_word(word));
        let base = if self.at_name() && !clause { Some(self.name("the name of a window")?) } else { None };
        let partition = if self.accept_word("PARTITION") {
            self.expect_word("BY")?;
            self.list(Self::expression)?
        } else {
            Vec::new()
        };
        let order = if self.accept_word("ORDER") { self.order_by()? } else { Vec::new() };
        let frame = if self.at_any(&["ROWS", "RANGE", "GROUPS"]) { Some(self.frame()?) } else { None };
        self.close(open)?;
        Ok(WindowSpec { base, partition, order, frame, span: open.to(self.last_span()) })
    }

    fn frame(&mut self) -> Result<FrameSpec> {
        let begin = self.span();
        let token = self.advance();
        let unit = match self.raw(token).to_uppercase().as_str() {
            "ROWS" => FrameUnit::Rows,
            "RANGE" => FrameUnit::Range,
            _ => FrameUnit::Groups,
        };
        let (start, end) = if self.accept_word("BETWEEN") {
            let start = self.frame_bound()?;
            self.expect_word("AND")?;
            (start, self.frame_bound()?)
        } else {
            (self.frame_bound()?, FrameBound::CurrentRow)
        };
        let mut exclude = FrameExclusion::NoOthers;
        if self.accept_word("EXCLUDE") {
            exclude = if self.accept_words(&["CURRENT", "ROW"]) {
                FrameExclusion::CurrentRow
            } else if self.accept_word("GROUP") {
                FrameExclusion::Group
            } else if self.accept_word("TIES") {
                FrameExclusion::Ties
            } else if self.accept_words(&["NO", "OTHERS"]) {
                FrameExclusion::NoOthers
            } else {
                return Err(self.expected("CURRENT ROW, GROUP, TIES or NO OTHERS"));
            };
        }
        Ok(FrameSpec { unit, start, end, exclude, span: begin.to(self.last_span()) })
    }

    fn frame_bound(&mut self) -> Result<FrameBound<Box<Expr>>> {
        if self.accept_words(&["UNBOUNDED", "PRECEDING"]) {
            return Ok(FrameBound::UnboundedPreceding);
        }
        if self.accept_words(&["UNBOUNDED", "FOLLOWING"]) {
            return Ok(FrameBound::UnboundedFollowing);
        }
        if self.accept_words(&["CURRENT", "ROW"]) {
            return Ok(FrameBound::CurrentRow);
        }
        let distance = Box::new(self.additive()?);
        if self.accept_word("PRECEDING") {
            return Ok(FrameBound::Preceding(distance));
        }
        self.expect_either("FOLLOWING", "PRECEDING or FOLLOWING")?;
        Ok(FrameBound::Following(distance))
    }

    fn name_ahead(&self, distance: usize) -> bool {
        matches!(self.ahead(distance).kind, TokenKind::Word | TokenKind::QuotedName)
    }
}

fn empty(name: Ident) -> Call {
    Call { star: false, ..Call::of_all(name) }
}
