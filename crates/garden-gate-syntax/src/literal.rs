//! Literals and data types: numbers, `DATE '…'`, `INTERVAL '…' DAY TO SECOND`, `NUMERIC(10,2)`.

use super::ast::{Expr, ExprKind, Ident};
use super::lexer::{Symbol, TokenKind, unquote};
use super::parser::Parser;
use super::problem::Problem;
use crate::diagnostic::{Error, Result};
use crate::types::{
    Decimal, DeclaredType, Field, Fields, Interval, RowField, SqlType, TypeLimit, Value, parse_address, parse_date,
    parse_hex, parse_instant, parse_interval, parse_time, parse_time_of_zone, parse_timestamp, parse_uuid,
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
            ("TRUE", Value::Boolean(true), SqlType::Boolean),
            ("FALSE", Value::Boolean(false), SqlType::Boolean),
            ("UNKNOWN", Value::Null, SqlType::Boolean),
            ("NULL", Value::Null, SqlType::Null),
        ];
        if let Some((_, value, sql_type)) = plain.into_iter().find(|(word, ..)| self.at_word(word)) {
            self.advance();
            return self.node(ExprKind::Literal(value, sql_type), start).map(Some);
        }
        if self.at_word("INTERVAL") {
            return self.interval().map(Some);
        }
        if self.ahead(1).kind != TokenKind::Text {
            return Ok(None);
        }
        let adjacent = self.ahead(1).span.start == start.end;
        if self.at_word("X") && adjacent {
            return self.binary().map(Some);
        }
        if adjacent && (self.at_word("N") || self.at_word("U&")) {
            let text = if self.at_word("N") {
                self.advance();
                self.text_literal("text")?
            } else {
                self.unicode_text()?
            };
            let span = start.to(self.last_span());
            return self.node(ExprKind::Literal(Value::Text(text), SqlType::TEXT), span).map(Some);
        }
        let found = if self.at_word("DATE") {
            self.typed_text(SqlType::Date, "'YYYY-MM-DD'", |text| parse_date(text).map(Value::Date))?
        } else if self.at_word("TIMESTAMP") {
            self.timestamp()?
        } else if self.at_word("UUID") {
            self.typed_text(SqlType::Uuid, "'xxxxxxxx-xxxx-xxxx-xxxx-xxxxxxxxxxxx'", |text| {
                parse_uuid(text).map(Value::Uuid)
            })?
        } else if self.at_word("IPADDRESS") {
            let form = "'192.0.2.7' or '2001:db8::7'";
            self.typed_text(SqlType::IpAddress, form, |text| parse_address(text).map(Value::IpAddress))?
        } else if self.at_word("TIME") {
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
        let escape = if self.accept_word("UESCAPE") { self.escape_sign()? } else { '\\' };
        unicode(&text, escape).map_err(|what| Error::from_facts(&Problem::BadUnicodeEscape { what }).at(span))
    }

    /// `U&"caf\00e9"`
    pub(super) fn unicode_name(&mut self) -> Result<Ident> {
        let start = self.advance().span;
        let token = self.advance();
        let escape = if self.accept_word("UESCAPE") { self.escape_sign()? } else { '\\' };
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
        let to = if self.accept_word("TO") { self.interval_field()? } else { from };
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

    fn interval_field(&mut self) -> Result<Field> {
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

    /// A type, and `ARRAY` behind it as often as it stands there.
    pub(super) fn data_type(&mut self) -> Result<SqlType> {
        let element = self.plain_type()?;
        match self.arrays_of(element)? {
            (found, None) => Ok(found),
            _ => Err(self.not_supported("an ARRAY type with a greatest cardinality outside of CAST and columns")),
        }
    }

    /// What CAST and a column may name: a type, with the digits of its seconds, or with the greatest cardinality of its arrays.
    pub(super) fn declared_type(&mut self) -> Result<DeclaredType> {
        if self.at_word("INTERVAL") {
            return self.declared_interval();
        }
        let at_time = self.at_any(&["TIME", "TIMESTAMP"]);
        let (element, digits) = if at_time { self.precise_time_type()? } else { (self.plain_type()?, 6) };
        let (sql_type, most) = self.arrays_of(element)?;
        if digits != 6 && sql_type != element {
            return Err(self.not_supported("a precision of the times in an array other than 6"));
        }
        let digits = (digits != 6).then_some(TypeLimit::SecondDigits(digits));
        Ok(DeclaredType { sql_type, limit: most.map(TypeLimit::Elements).or(digits) })
    }

    fn declared_interval(&mut self) -> Result<DeclaredType> {
        let fields = self.interval_type()?;
        let element = fields.sql_type();
        let (sql_type, most) = self.arrays_of(element)?;
        if sql_type != element && !fields.are_all() {
            return Err(self.not_supported("an interval of fewer fields in an array"));
        }
        let limit = (!fields.are_all()).then_some(TypeLimit::Fields(fields));
        Ok(DeclaredType { sql_type, limit: most.map(TypeLimit::Elements).or(limit) })
    }

    /// `ARRAY` behind a type as often as it stands there, and how many elements the array may have.
    fn arrays_of(&mut self, mut found: SqlType) -> Result<(SqlType, Option<i32>)> {
        let mut most = None;
        while self.accept_word("ARRAY") {
            if most.is_some() {
                return Err(self.not_supported("a greatest cardinality of the arrays in an array"));
            }
            found = SqlType::array_of(found);
            if self.at_symbol(Symbol::LeftBracket) {
                most = Some(self.greatest_cardinality()?);
            }
        }
        Ok((found, most))
    }

    /// `[n]`
    fn greatest_cardinality(&mut self) -> Result<i32> {
        self.advance();
        let most = self.raw(self.current()).parse::<i32>().ok().filter(|most| *most > 0);
        let most = most.ok_or_else(|| self.expected("how many elements the array may have"))?;
        self.advance();
        self.expect_symbol(Symbol::RightBracket, "]")?;
        Ok(most)
    }

    fn plain_type(&mut self) -> Result<SqlType> {
        let simple = [
            ("BOOLEAN", SqlType::Boolean),
            ("SMALLINT", SqlType::SmallInt),
            ("INTEGER", SqlType::Integer),
            ("INT", SqlType::Integer),
            ("BIGINT", SqlType::BigInt),
            ("REAL", SqlType::Real),
            ("DATE", SqlType::Date),
            ("UUID", SqlType::Uuid),
            ("IPADDRESS", SqlType::IpAddress),
        ];
        if let Some((_, found)) = simple.into_iter().find(|(word, _)| self.at_word(word)) {
            self.advance();
            return Ok(found);
        }
        if self.accept_words(&["DOUBLE", "PRECISION"]) {
            return Ok(SqlType::Double);
        }
        if self.accept_word("NUMERIC") || self.accept_word("DECIMAL") || self.accept_word("DEC") {
            return self.numeric_type();
        }
        if self.accept_word("VARCHAR") || self.accept_words(&["CHARACTER", "VARYING"]) {
            return Ok(SqlType::Varchar(self.optional_length()?));
        }
        if self.at_any(&["TIME", "TIMESTAMP"]) {
            return self.time_type();
        }
        if self.at_word("INTERVAL") {
            let fields = self.interval_type()?;
            if !fields.are_all() {
                return Err(self.not_supported("an interval of fewer fields in an array or row"));
            }
            return Ok(fields.sql_type());
        }
        if let Some(found) = self.string_type()? {
            return Ok(found);
        }
        if self.accept_word("ROW") {
            return self.row_type();
        }
        Err(self.expected("a data type"))
    }

    /// The types of character and binary strings with a length.
    fn string_type(&mut self) -> Result<Option<SqlType>> {
        if self.accept_words(&["CHARACTER", "LARGE", "OBJECT"])
            || self.accept_words(&["CHAR", "LARGE", "OBJECT"])
            || self.accept_word("CLOB")
        {
            return Ok(Some(SqlType::Varchar(self.optional_length()?)));
        }
        if self.accept_words(&["CHAR", "VARYING"]) {
            return Ok(Some(SqlType::Varchar(self.optional_length()?)));
        }
        if self.accept_word("CHAR") || self.accept_word("CHARACTER") {
            return Ok(Some(SqlType::Char(self.optional_length()?.unwrap_or(1))));
        }
        if self.accept_words(&["BINARY", "LARGE", "OBJECT"])
            || self.accept_words(&["BINARY", "VARYING"])
            || self.accept_word("BLOB")
            || self.accept_word("VARBINARY")
        {
            return Ok(Some(SqlType::Varbinary(self.optional_length()?)));
        }
        if self.accept_word("BINARY") {
            return Ok(Some(SqlType::Binary(self.optional_length()?.unwrap_or(1))));
        }
        if self.accept_word("FLOAT") {
            // 24 binary digits fit REAL.
            let digits = self.optional_length()?.unwrap_or(53);
            return Ok(Some(if digits <= 24 { SqlType::Real } else { SqlType::Double }));
        }
        Ok(None)
    }

    fn optional_length(&mut self) -> Result<Option<u32>> {
        if self.at_symbol(Symbol::LeftParen) { self.length().map(Some) } else { Ok(None) }
    }

    /// `ROW(name type, …)`
    fn row_type(&mut self) -> Result<SqlType> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "(")?;
        let fields = self.nested(|parser| {
            parser.list(|parser| {
                let name = parser.name("the name of a field")?.text;
                Ok(RowField { name, sql_type: parser.data_type()? })
            })
        })?;
        self.close(open)?;
        Ok(SqlType::row_of(fields))
    }

    fn time_type(&mut self) -> Result<SqlType> {
        match self.precise_time_type()? {
            (found, 6) => Ok(found),
            _ => Err(self.not_supported("a precision of TIME or TIMESTAMP other than 6, outside of CAST and columns")),
        }
    }

    /// The digits behind the point of a second, in parentheses; six when they are not given.
    pub(super) fn second_digits(&mut self) -> Result<u8> {
        if !self.at_symbol(Symbol::LeftParen) {
            return Ok(6);
        }
        let open = self.advance().span;
        let digits = self.raw(self.current()).parse::<u8>().ok().filter(|digits| *digits <= 6);
        let digits = digits.ok_or_else(|| self.expected("a number of digits from 0 to 6"))?;
        self.advance();
        self.close(open)?;
        Ok(digits)
    }

    /// TIME or TIMESTAMP, and the digits of its seconds.
    fn precise_time_type(&mut self) -> Result<(SqlType, u8)> {
        let found = if self.at_word("TIME") { SqlType::Time } else { SqlType::Timestamp };
        self.advance();
        let digits = self.second_digits()?;
        if self.at_words(&["WITH", "TIME", "ZONE"]) {
            self.accept_words(&["WITH", "TIME", "ZONE"]);
            return Ok((if found == SqlType::Time { SqlType::TimeTz } else { SqlType::TimestampTz }, digits));
        }
        self.accept_words(&["WITHOUT", "TIME", "ZONE"]);
        Ok((found, digits))
    }

    fn interval_type(&mut self) -> Result<Fields> {
        self.advance();
        self.interval_fields()
    }

    /// `DAY TO SECOND`: the fields of an interval.
    pub(super) fn interval_fields(&mut self) -> Result<Fields> {
        let from = self.interval_field()?;
        let to = if self.accept_word("TO") { self.interval_field()? } else { from };
        Fields::new(from, to).ok_or_else(|| self.expected("fields of one kind of interval, the wider one first"))
    }

    fn numeric_type(&mut self) -> Result<SqlType> {
        if !self.at_symbol(Symbol::LeftParen) {
            return Ok(SqlType::numeric(38, 0));
        }
        let open = self.advance().span;
        let precision = self.small_number("precision", 1, 38)?;
        let scale = if self.accept_symbol(Symbol::Comma) { self.small_number("scale", 0, precision)? } else { 0 };
        self.close(open)?;
        Ok(SqlType::numeric(precision, scale))
    }

    fn small_number(&mut self, what: &'static str, low: u8, high: u8) -> Result<u8> {
        let token = self.current();
        let value = self.raw(token).parse::<u8>().ok().filter(|value| (low..=high).contains(value));
        let value = value.ok_or_else(|| self.fail(&Problem::OutOfBounds { what, low, high }))?;
        self.advance();
        Ok(value)
    }

    fn length(&mut self) -> Result<u32> {
        let open = self.advance().span;
        let token = self.current();
        let length = self.raw(token).parse::<u32>().ok().filter(|length| *length > 0);
        let length = length.ok_or_else(|| self.expected("a length of at least 1"))?;
        self.advance();
        self.close(open)?;
        Ok(length)
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

/// A number without the marks between its digits, in decimal digits; `None` where a mark stands elsewhere, or a digit is none
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
