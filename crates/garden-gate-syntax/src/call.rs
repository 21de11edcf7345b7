//! Calls: the functions whose argument lists have words of their own, aggregates and windows.

use super::ast::{
    Call, Expr, ExprKind, ExtractField, FirstOrLast, Form, FrameBound, FrameExclusion, FrameSpec, FrameUnit, Ident,
    NestedFunction, NullTreatment, Over, Overflow, ValueAt, WindowSpec,
};
use super::keyword::Keyword as K;
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use crate::diagnostic::{Result, Span};
use crate::types::{RowMarker, SqlType, TrimSide, Value};

/// The normalisation forms of Unicode (Unicode Standard Annex 15).
pub(super) const NORMAL_FORMS: [K; 4] = [K::Nfc, K::Nfd, K::Nfkc, K::Nfkd];

/// A form and its arguments.
type Formed = (Form, Vec<Expr>);

impl Parser<'_> {
    /// A text that nobody wrote.
    pub(super) fn text_node(&self, text: &str, span: Span) -> Result<Expr> {
        self.node(ExprKind::Literal(Value::Text(text.into()), SqlType::TEXT), span)
    }

    /// An integer that nobody wrote.
    pub(super) fn number_node(&self, value: i64, span: Span) -> Result<Expr> {
        self.node(ExprKind::Literal(Value::Integer(value), SqlType::Integer), span)
    }

    /// A function with a syntax of its own (clauses 6.30 to 6.32), when one appears here; its name and `(` are ahead.
    pub(super) fn special_call(&mut self) -> Result<Option<Expr>> {
        let start = self.span();
        let Some(word) = self.current().keyword else { return Ok(None) };
        let read: fn(&mut Self) -> Result<Formed> = match word {
            K::Extract => return self.extract(start).map(Some),
            K::Truncate if self.has_unit() => return self.truncate_to(start).map(Some),
            K::ValueOf => return self.value_of(start).map(Some),
            K::RowNumber if RowMarker::from_word(self.raw(self.ahead(2))).is_some() => {
                return self.row_number_at(start).map(Some);
            }
            K::Substring => Self::substring,
            K::Position => |parser| {
                let wanted = parser.additive()?;
                parser.expect_word(K::In)?;
                Ok((Form::Position, vec![wanted, parser.additive()?]))
            },
            K::Overlay => |parser| {
                let mut args = vec![parser.expression()?];
                for (word, needed) in [(K::Placing, true), (K::From, true), (K::For, false)] {
                    if needed || parser.at_word(word) {
                        parser.expect_word(word)?;
                        args.push(parser.additive()?);
                    }
                }
                Ok((Form::Overlay, args))
            },
            K::Trim => Self::trim,
            K::Translate => |parser| {
                let operand = parser.expression()?;
                parser.expect_word(K::Using)?;
                let at = parser.span();
                let name = parser.name("the name of a transliteration")?;
                Ok((Form::Translate, vec![operand, parser.text_node(&name.text.to_uppercase(), at)?]))
            },
            K::Normalize => Self::normalize,
            K::Greatest if self.operands_ahead() => |parser| Ok((Form::Greatest, parser.operands()?)),
            K::Least if self.operands_ahead() => |parser| Ok((Form::Least, parser.operands()?)),
            K::OccurrencesRegex => return self.regex(Form::OccurrencesRegex, start).map(Some),
            K::PositionRegex => return self.regex(Form::PositionRegex, start).map(Some),
            K::SubstringRegex => return self.regex(Form::SubstringRegex, start).map(Some),
            K::TranslateRegex => return self.regex(Form::TranslateRegex, start).map(Some),
            _ => return Ok(None),
        };
        self.advance();
        let open = self.advance().span;
        let (form, args) = self.nested(read)?;
        if self.accept_word(K::Using) {
            self.expect_word(K::Characters)?;
        }
        self.close(open)?;
        self.node(ExprKind::Form(form, args), start.to(self.last_span())).map(Some)
    }

    /// Whether operands alone are ahead, after a name and `(`; what belongs to an aggregate is a call, about which the binder has a message.
    fn operands_ahead(&self) -> bool {
        let is_quantifier = self.is_word_at(2, K::Distinct) || self.is_word_at(2, K::All);
        !is_quantifier && self.ahead(2).kind != TokenKind::Symbol(Symbol::Star)
    }

    /// Operands up to the closing parenthesis.
    fn operands(&mut self) -> Result<Vec<Expr>> {
        let mut operands = Vec::new();
        while operands.is_empty() && !self.at_symbol(Symbol::RightParen) || self.accept_symbol(Symbol::Comma) {
            operands.push(self.expression()?);
        }
        Ok(operands)
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
        self.expect_word(K::At)?;
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
        self.expect_word(K::From)?;
        let source = self.expression()?;
        self.close(open)?;
        self.node(ExprKind::Extract(field, Box::new(source)), start.to(self.last_span()))
    }

    /// A field, its words joined by blanks or underscores.
    fn field_word(&mut self) -> Result<ExtractField> {
        let longer = [
            ([K::Day, K::Of, K::Week].as_slice(), ExtractField::DayOfWeek),
            (&[K::Day, K::Of, K::Year], ExtractField::DayOfYear),
            (&[K::Week, K::Year], ExtractField::WeekYear),
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
                TokenKind::Word if open == 1 && self.is_word_at(distance, K::To) => return true,
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
        self.expect_word(K::To)?;
        let unit = self.field_word()?;
        self.close(open)?;
        self.node(ExprKind::TruncateTo(unit, Box::new(operand)), start.to(self.last_span()))
    }

    fn substring(&mut self) -> Result<Formed> {
        let mut args = vec![self.expression()?];
        if self.accept_word(K::Similar) {
            args.push(self.additive()?);
            self.expect_word(K::Escape)?;
            args.push(self.additive()?);
            return Ok((Form::SubstringSimilar, args));
        }
        if self.accept_symbol(Symbol::Comma) {
            args.push(self.expression()?);
            if self.accept_symbol(Symbol::Comma) {
                args.push(self.expression()?);
            }
            return Ok((Form::Substring, args));
        }
        self.expect_either(K::From, "FROM, SIMILAR or a comma")?;
        args.push(self.additive()?);
        if self.accept_word(K::For) {
            args.push(self.additive()?);
        }
        Ok((Form::Substring, args))
    }

    /// `TRIM([LEADING | TRAILING | BOTH] [character] FROM text)` or `TRIM(text)`.
    fn trim(&mut self) -> Result<Formed> {
        let sides = [(K::Leading, TrimSide::Leading), (K::Trailing, TrimSide::Trailing), (K::Both, TrimSide::Both)];
        let side = sides.into_iter().find(|(word, _)| self.accept_word(*word)).map(|(_, side)| side);
        let form = Form::Trim(side.unwrap_or(TrimSide::Both));
        let at = self.span();
        let blank = self.text_node(" ", at)?;
        if self.accept_word(K::From) {
            return Ok((form, vec![self.expression()?, blank]));
        }
        let first = self.expression()?;
        if self.accept_word(K::From) {
            return Ok((form, vec![self.expression()?, first]));
        }
        if side.is_some() {
            return Err(self.expected("FROM"));
        }
        Ok((form, vec![first, blank]))
    }

    /// `NORMALIZE(text [, form])`
    fn normalize(&mut self) -> Result<Formed> {
        let operand = self.expression()?;
        let at = self.span();
        let mut form = K::Nfc;
        if self.accept_symbol(Symbol::Comma) {
            let known = NORMAL_FORMS.into_iter().find(|word| self.accept_word(*word));
            form = known.ok_or_else(|| self.expected("NFC, NFD, NFKC or NFKD"))?;
        }
        Ok((Form::Normalize, vec![operand, self.text_node(form.text(), at)?]))
    }

    /// The functions of regular expressions: arguments come as pattern, text, flag, start, occurrence, group or replacement.
    fn regex(&mut self, form: Form, start: Span) -> Result<Expr> {
        self.advance();
        let open = self.advance().span;
        let behind = form == Form::PositionRegex && self.accept_word(K::After);
        if form == Form::PositionRegex && !behind {
            self.accept_word(K::Start);
        }
        let pattern = self.additive()?;
        let at = self.span();
        let flag = if self.accept_word(K::Flag) { self.additive()? } else { self.text_node("", at)? };
        self.expect_word(K::In)?;
        let text = self.additive()?;
        let replacement = if form == Form::TranslateRegex {
            Some(if self.accept_word(K::With) { self.additive()? } else { self.text_node("", at)? })
        } else {
            None
        };
        let from = if self.accept_word(K::From) { self.additive()? } else { self.number_node(1, at)? };
        self.accept_words(&[K::Using, K::Characters]);
        let mut args = vec![pattern, text, flag, from];
        if form != Form::OccurrencesRegex {
            let all = i64::from(replacement.is_none());
            args.push(if !self.accept_word(K::Occurrence) || self.accept_word(K::All) {
                self.number_node(all, at)?
            } else {
                self.additive()?
            });
            match replacement {
                Some(replacement) => args.push(replacement),
                None if self.accept_word(K::Group) => args.push(self.additive()?),
                None => args.push(self.number_node(0, at)?),
            }
        }
        self.close(open)?;
        let form = if behind { Form::PositionRegexAfter } else { form };
        self.node(ExprKind::Form(form, args), start.to(self.last_span()))
    }

    /// A call whose name has been read, with everything that may stand after it.
    pub(super) fn call(&mut self, name: Ident, start: Span) -> Result<Expr> {
        let mut call = empty(name);
        self.arguments(&mut call)?;
        if self.accept_words(&[K::Within, K::Group]) {
            let open = self.span();
            self.expect_symbol(Symbol::LeftParen, "(")?;
            self.expect_word(K::Order)?;
            call.order = self.order_by()?;
            call.within_group = true;
            self.close(open)?;
        }
        if self.at_word(K::Filter) && self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen) {
            self.advance();
            let open = self.advance().span;
            self.expect_word(K::Where)?;
            call.filter = Some(self.expression()?);
            self.close(open)?;
        }
        if self.accept_words(&[K::From, K::Last]) {
            call.from = FirstOrLast::Last;
        } else {
            self.accept_words(&[K::From, K::First]);
        }
        if self.accept_words(&[K::Ignore, K::Nulls]) {
            call.nulls = Some(NullTreatment::Ignore);
        } else if self.accept_words(&[K::Respect, K::Nulls]) {
            call.nulls = Some(NullTreatment::Respect);
        }
        if self.at_word(K::Over) && (self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen) || self.name_ahead(1)) {
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
        call.distinct = self.accept_word(K::Distinct);
        if !call.distinct {
            self.accept_word(K::All);
        }
        if !self.at_symbol(Symbol::RightParen) {
            call.args = self.list(Self::expression)?;
        }
        if self.accept_word(K::Order) {
            call.order = self.order_by()?;
        }
        if self.accept_words(&[K::On, K::Overflow]) {
            call.overflow = Some(self.overflow()?);
        }
        self.close(open)
    }

    fn overflow(&mut self) -> Result<Overflow> {
        if self.accept_word(K::Error) {
            return Ok(Overflow::Error);
        }
        self.expect_either(K::Truncate, "ERROR or TRUNCATE")?;
        let filler =
            if self.current().kind == TokenKind::Text { Some(self.text_literal("a filler in quotes")?) } else { None };
        let with_count = !self.accept_words(&[K::Without, K::Count]);
        if with_count {
            self.accept_words(&[K::With, K::Count]);
        }
        Ok(Overflow::Truncate { filler, with_count })
    }

    /// `name AS (…)` of the WINDOW clause.
    pub(super) fn named_window(&mut self) -> Result<(Ident, WindowSpec)> {
        let name = self.name("a name for the window")?;
        self.expect_word(K::As)?;
        Ok((name, self.window_spec()?))
    }

    fn window_spec(&mut self) -> Result<WindowSpec> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "(")?;
        let clause = [K::Partition, K::Rows, K::Range, K::Groups].iter().any(|word| self.at_word(*word));
        let base = if self.at_name() && !clause { Some(self.name("the name of a window")?) } else { None };
        let partition = if self.accept_word(K::Partition) {
            self.expect_word(K::By)?;
            self.list(Self::expression)?
        } else {
            Vec::new()
        };
        let order = if self.accept_word(K::Order) { self.order_by()? } else { Vec::new() };
        let frame = if self.at_any(&[K::Rows, K::Range, K::Groups]) { Some(self.frame()?) } else { None };
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
        let (start, end) = if self.accept_word(K::Between) {
            let start = self.frame_bound()?;
            self.expect_word(K::And)?;
            (start, self.frame_bound()?)
        } else {
            (self.frame_bound()?, FrameBound::CurrentRow)
        };
        let mut exclude = FrameExclusion::NoOthers;
        if self.accept_word(K::Exclude) {
            exclude = if self.accept_words(&[K::Current, K::Row]) {
                FrameExclusion::CurrentRow
            } else if self.accept_word(K::Group) {
                FrameExclusion::Group
            } else if self.accept_word(K::Ties) {
                FrameExclusion::Ties
            } else if self.accept_words(&[K::No, K::Others]) {
                FrameExclusion::NoOthers
            } else {
                return Err(self.expected("CURRENT ROW, GROUP, TIES or NO OTHERS"));
            };
        }
        Ok(FrameSpec { unit, start, end, exclude, span: begin.to(self.last_span()) })
    }

    fn frame_bound(&mut self) -> Result<FrameBound<Box<Expr>>> {
        if self.accept_words(&[K::Unbounded, K::Preceding]) {
            return Ok(FrameBound::UnboundedPreceding);
        }
        if self.accept_words(&[K::Unbounded, K::Following]) {
            return Ok(FrameBound::UnboundedFollowing);
        }
        if self.accept_words(&[K::Current, K::Row]) {
            return Ok(FrameBound::CurrentRow);
        }
        let distance = Box::new(self.additive()?);
        if self.accept_word(K::Preceding) {
            return Ok(FrameBound::Preceding(distance));
        }
        self.expect_either(K::Following, "PRECEDING or FOLLOWING")?;
        Ok(FrameBound::Following(distance))
    }

    fn name_ahead(&self, distance: usize) -> bool {
        matches!(self.ahead(distance).kind, TokenKind::Word | TokenKind::QuotedName)
    }
}

fn empty(name: Ident) -> Call {
    Call { star: false, ..Call::of_all(name) }
}
