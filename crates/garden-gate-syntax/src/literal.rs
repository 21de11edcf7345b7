//! Literals: numbers, `DATE '…'`, `INTERVAL '…' DAY TO SECOND` (clause 5.3).

use super::ast::{Expr, ExprKind, Ident};
use super::keyword::Keyword as K;
use super::lexer::{Symbol, TokenKind, unquote};
use super::parser::Parser;
use super::problem::Problem;
use crate::diagnostic::{Error, Result};
use crate::types::{
    Decimal, Field, Fields, Interval, SqlType, Value, parse_address, parse_date, parse_hex, parse_instant,
    parse_interval, parse_time, parse_time_of_zone, parse_timestamp, parse_uuid,
};
use std::borrow::Cow;

impl Parser<'_> {
    /// An unsigned numeric literal: exact unless it has an exponent (clause 5.3).
    pub(super) fn number(&mut self) -> Result<Expr> {
        let token = self.advance();
        let text = &*grouped_digits(self.raw(token))
            .ok_or_else(|| Error::from_facts(&Problem::BadNumber { text: self.raw(token).into() }).at(token.span))?;
        let (value, sql_type) = if text.contains(['e', 'E']) {
            let value = text.parse::<f64>().ok().filter(|value| value.is_finite());
            let problem = || Error::from_facts(&Problem::BadNumber { text: text.into() }).at(token.span);
            (Value::Double(value.ok_or_else(problem)?), SqlType::Double)
        } else {
            let decimal = Decimal::parse(text)
                .ok_or_else(|| Error::from_facts(&Problem::NumberTooLong { text: text.into() }).at(token.span))?;
            exact_literal(decimal, text.contains('.'))
        };
        self.node(ExprKind::Literal(value, sql_type), token.span)
    }

    /// A row count of one, for `FETCH FIRST ROW ONLY`.
    pub(super) fn one(&self) -> Expr {
        Expr { kind: ExprKind::Literal(Value::Integer(1), SqlType::Integer), span: self.span(), depth: 1 }
    }

    /// A literal that begins with a word: TRUE, NULL, DATE '…', INTERVAL '…' …; `None` when there is none here.
    pub(super) fn word_literal(&mut self) -> Result<Option<Expr>> {
        let start = self.span();
        let plain = [
            (K::True, Value::Boolean(true), SqlType::Boolean),
            (K::False, Value::Boolean(false), SqlType::Boolean),
            (K::Unknown, Value::Null, SqlType::Boolean),
            (K::Null, Value::Null, SqlType::Null),
        ];
        if let Some((_, value, sql_type)) = plain.into_iter().find(|(word, ..)| self.at_word(*word)) {
            self.advance();
            return self.node(ExprKind::Literal(value, sql_type), start).map(Some);
        }
        if self.at_word(K::Interval) {
            return self.interval().map(Some);
        }
        if self.ahead(1).kind != TokenKind::Text {
            return Ok(None);
        }
        let adjacent = self.ahead(1).span.start == start.end;
        if self.at_word(K::X) && adjacent {
            return self.binary().map(Some);
        }
        if adjacent && (self.at_word(K::N) || self.at_unicode_mark()) {
            let text = if self.at_word(K::N) {
                self.advance();
                self.text_literal("text")?
            } else {
                self.unicode_text()?
            };
            let span = start.to(self.last_span());
            return self.node(ExprKind::Literal(Value::Text(text), SqlType::TEXT), span).map(Some);
        }
        let found = if self.at_word(K::Date) {
            self.typed_text(SqlType::Date, "'YYYY-MM-DD'", |text| parse_date(text).map(Value::Date))?
        } else if self.at_word(K::Timestamp) {
            self.timestamp()?
        } else if self.at_word(K::Uuid) {
            self.typed_text(SqlType::Uuid, "'xxxxxxxx-xxxx-xxxx-xxxx-xxxxxxxxxxxx'", |text| {
                parse_uuid(text).map(Value::Uuid)
            })?
        } else if self.at_word(K::Ipaddress) {
            let form = "'192.0.2.7' or '2001:db8::7'";
            self.typed_text(SqlType::IpAddress, form, |text| parse_address(text).map(Value::IpAddress))?
        } else if self.at_word(K::Time) {
            self.time()?
        } else {
            return Ok(None);
        };
        Ok(Some(found))
    }

    /// `TIMESTAMP '…'`; with an offset at the end of the text it is an instant.
    fn timestamp(&mut self) -> Result<Expr> {
        let token = self.ahead(1);
        if let Some(micros) = parse_instant(&unquote(self.raw(token))) {
            let start = self.advance().span;
            self.advance();
            let value = ExprKind::Literal(Value::Instant(micros), SqlType::TimestampTz);
            return self.node(value, start.to(token.span));
        }
        let parse = |text: &str| parse_timestamp(text).map(Value::Timestamp);
        self.typed_text(SqlType::Timestamp, "'YYYY-MM-DD HH:MM:SS'", parse)
    }

    /// `TIME '…'`; with an offset at the end of the text it is one of a zone.
    fn time(&mut self) -> Result<Expr> {
        let token = self.ahead(1);
        if let Some(micros) = parse_time_of_zone(&unquote(self.raw(token))) {
            let start = self.advance().span;
            self.advance();
            return self.node(ExprKind::Literal(Value::TimeTz(micros), SqlType::TimeTz), start.to(token.span));
        }
        self.typed_text(SqlType::Time, "'HH:MM:SS'", |text| parse_time(text).map(Value::Time))
    }

    /// `U&'caf\00e9'`, with UESCAPE for another sign than `\`.
    fn unicode_text(&mut self) -> Result<String> {
        self.advance();
        let span = self.span();
        let text = self.text_literal("text")?;
        let escape = if self.accept_word(K::Uescape) { self.escape_sign()? } else { '\\' };
        unicode(&text, escape).map_err(|what| Error::from_facts(&Problem::BadUnicodeEscape { what }).at(span))
    }

    /// `U&"caf\00e9"`
    pub(super) fn unicode_name(&mut self) -> Result<Ident> {
        let start = self.advance().span;
        let token = self.advance();
        let escape = if self.accept_word(K::Uescape) { self.escape_sign()? } else { '\\' };
        let text = unicode(&unquote(self.raw(token)), escape)
            .map_err(|what| Error::from_facts(&Problem::BadUnicodeEscape { what }).at(token.span))?;
        Ok(Ident { text, quoted: true, span: start.to(token.span) })
    }

    fn escape_sign(&mut self) -> Result<char> {
        let span = self.span();
        let text = self.text_literal("one character in quotes")?;
        let mut characters = text.chars();
        match (characters.next(), characters.next()) {
            (Some(sign), None) if !sign.is_ascii_hexdigit() && !matches!(sign, '+' | '\'' | '"' | ' ') => Ok(sign),
            _ => Err(Error::from_facts(&Problem::BadUnicodeEscape { what: format!("{text:?}") }).at(span)),
        }
    }

    /// `X'0F10'`
    fn binary(&mut self) -> Result<Expr> {
        let start = self.advance().span;
        let at = self.span();
        let text = self.text_literal("hexadecimal digits")?.replace(' ', "");
        let problem =
            || Problem::BadLiteral { text: text.clone(), what: "binary string", form: "X'0F10', two digits a byte" };
        let bytes = parse_hex(&text).ok_or_else(|| Error::from_facts(&problem()).at(at))?;
        let sql_type = u32::try_from(bytes.len()).ok().filter(|length| *length > 0);
        self.node(ExprKind::Literal(Value::Binary(bytes), SqlType::Varbinary(sql_type)), start.to(at))
    }

    fn typed_text(
        &mut self,
        sql_type: SqlType,
        form: &'static str,
        parse: impl FnOnce(&str) -> Option<Value>,
    ) -> Result<Expr> {
        let what = match sql_type {
            SqlType::Date => "date",
            SqlType::Time => "time",
            SqlType::Uuid => "UUID",
            SqlType::IpAddress => "address",
            _ => "timestamp",
        };
        let start = self.advance().span;
        let at = self.span();
        let text = self.text_literal("text")?;
        let value = parse(&text).ok_or_else(|| Error::from_facts(&Problem::BadLiteral { text, what, form }).at(at))?;
        self.node(ExprKind::Literal(value, sql_type), start.to(at))
    }

    fn interval(&mut self) -> Result<Expr> {
        let start = self.advance().span;
        let negative = self.accept_symbol(Symbol::Minus);
        let at = self.span();
        let text = self.text_literal("the length of the interval in single quotes, as in INTERVAL '1' MONTH")?;
        let from = self.interval_field()?;
        let to = if self.accept_word(K::To) { self.interval_field()? } else { from };
        let value = match parse_interval(&text, from, to) {
            Some(Interval::Months(months)) => Value::Months(if negative { -months } else { months }),
            Some(Interval::Micros(micros)) => Value::Micros(if negative { -micros } else { micros }),
            None => {
                let form = "INTERVAL '3' DAY, INTERVAL '1-6' YEAR TO MONTH or INTERVAL '2 04:30' DAY TO MINUTE";
                return Err(
                    Error::from_facts(&Problem::BadLiteral { text, what: "interval of these fields", form }).at(at)
                );
            }
        };
        let sql_type = if matches!(value, Value::Months(_)) { SqlType::YearMonth } else { SqlType::DayTime };
        let span = start.to(self.last_span());
        let literal = self.node(ExprKind::Literal(value, sql_type), span)?;
        match Fields::new(from, to).filter(|fields| !fields.are_all()) {
            Some(fields) => self.node(ExprKind::CastToFields(Box::new(literal), fields), span),
            None => Ok(literal),
        }
    }

    /// A field of an interval type, with its precision.
    pub(super) fn interval_field(&mut self) -> Result<Field> {
        let token = self.current();
        let field = if token.kind == TokenKind::Word { Field::from_word(self.raw(token)) } else { None };
        let field = field.ok_or_else(|| self.expected("YEAR, MONTH, DAY, HOUR, MINUTE or SECOND"))?;
        self.advance();
        if self.at_symbol(Symbol::LeftParen) && self.ahead(1).kind == TokenKind::Number {
            // How many digits a field may have: every interval has room for all.
            let open = self.advance().span;
            self.list(|parser| Ok(parser.advance()))?;
            self.close(open)?;
        }
        Ok(field)
    }
}

/// The narrowest type that holds an exact literal: INTEGER, BIGINT or NUMERIC.
fn exact_literal(decimal: Decimal, has_point: bool) -> (Value, SqlType) {
    match i64::try_from(decimal.unscaled) {
        Ok(value) if !has_point => {
            let sql_type = if i32::try_from(value).is_ok() { SqlType::Integer } else { SqlType::BigInt };
            (Value::Integer(value), sql_type)
        }
        _ => (Value::Numeric(decimal), SqlType::numeric(decimal.precision(), decimal.scale)),
    }
}

/// A number without the marks between its digits, in decimal digits; `None` where a mark appears elsewhere, or a digit is none
/// (clause 5.3: `1_000`, `0xFF`, `0o17`, `0b101`).
fn grouped_digits(text: &str) -> Option<Cow<'_, str>> {
    let radix = match text.as_bytes() {
        [b'0', b'x' | b'X', ..] => 16,
        [b'0', b'o' | b'O', ..] => 8,
        [b'0', b'b' | b'B', ..] => 2,
        _ => 10,
    };
    let digits = if radix == 10 { text } else { &text[2..] };
    let marks_fit = |part: &str| !part.starts_with('_') && !part.ends_with('_') && !part.contains("__");
    // Behind the sign of another radix a mark may stand first.
    let inner = if radix == 10 { digits } else { digits.strip_prefix('_').unwrap_or(digits) };
    if !inner.split(['.', 'e', 'E']).all(marks_fit) {
        return None;
    }
    if radix == 10 {
        return Some(if text.contains('_') { Cow::Owned(text.replace('_', "")) } else { Cow::Borrowed(text) });
    }
    u128::from_str_radix(&inner.replace('_', ""), radix).ok().map(|number| Cow::Owned(number.to_string()))
}

/// The text with its escapes replaced; else the one that stands for no character.
fn unicode(text: &str, escape: char) -> std::result::Result<String, String> {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(escape) {
        out.push_str(&rest[..at]);
        let from = &rest[at..];
        let after = &from[escape.len_utf8()..];
        if let Some(behind) = after.strip_prefix(escape) {
            out.push(escape);
            rest = behind;
            continue;
        }
        let (digits, behind) = match after.strip_prefix('+') {
            Some(long) => (long.get(..6), long.get(6..)),
            None => (after.get(..4), after.get(4..)),
        };
        let character = digits.and_then(|digits| u32::from_str_radix(digits, 16).ok()).and_then(char::from_u32);
        let (Some(character), Some(behind)) = (character, behind) else {
            return Err(from.chars().take(8).collect());
        };
        out.push(character);
        rest = behind;
    }
    Ok(out + rest)
}
