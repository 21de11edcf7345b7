//! Literals and data types: numbers, `DATE '…'`, `INTERVAL '…' DAY TO SECOND`, `NUMERIC(10,2)`.

use super::ast::{Expr, ExprKind};
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use super::problem::Problem;
use crate::diagnostic::{Error, Result};
use crate::types::{Decimal, Field, Interval, SqlType, Value, parse_date, parse_interval, parse_time, parse_timestamp};

impl Parser<'_> {
    /// An unsigned numeric literal: exact unless it has an exponent (clause 5.3).
    pub(super) fn number(&mut self) -> Result<Expr> {
        let token = self.advance();
        let text = self.raw(token);
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
        let found = if self.at_word("DATE") {
            self.typed_text(SqlType::Date, "'YYYY-MM-DD'", |text| parse_date(text).map(Value::Date))?
        } else if self.at_word("TIMESTAMP") {
            let parse = |text: &str| parse_timestamp(text).map(Value::Timestamp);
            self.typed_text(SqlType::Timestamp, "'YYYY-MM-DD HH:MM:SS'", parse)?
        } else if self.at_word("TIME") {
            self.typed_text(SqlType::Time, "'HH:MM:SS'", |text| parse_time(text).map(Value::Time))?
        } else {
            return Ok(None);
        };
        Ok(Some(found))
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
        self.node(ExprKind::Literal(value, sql_type), start.to(self.last_span()))
    }

    fn interval_field(&mut self) -> Result<Field> {
        let token = self.current();
        let field = if token.kind == TokenKind::Word { Field::from_word(self.raw(token)) } else { None };
        let field = field.ok_or_else(|| self.expected("YEAR, MONTH, DAY, HOUR, MINUTE or SECOND"))?;
        self.advance();
        Ok(field)
    }

    pub(super) fn data_type(&mut self) -> Result<SqlType> {
        let simple = [
            ("BOOLEAN", SqlType::Boolean),
            ("SMALLINT", SqlType::SmallInt),
            ("INTEGER", SqlType::Integer),
            ("INT", SqlType::Integer),
            ("BIGINT", SqlType::BigInt),
            ("REAL", SqlType::Real),
            ("DATE", SqlType::Date),
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
            let length = if self.at_symbol(Symbol::LeftParen) { Some(self.length()?) } else { None };
            return Ok(SqlType::Varchar(length));
        }
        if self.at_any(&["TIME", "TIMESTAMP"]) {
            return self.time_type();
        }
        if self.at_word("INTERVAL") {
            return self.interval_type();
        }
        let later = ["CHAR", "CHARACTER", "CLOB", "BINARY", "VARBINARY", "BLOB", "FLOAT", "UUID", "IPADDRESS", "ROW"];
        if self.at_any(&later) {
            return Err(self.not_supported(format!("the type {}", self.found().to_uppercase())));
        }
        Err(self.expected("a data type"))
    }

    fn time_type(&mut self) -> Result<SqlType> {
        let found = if self.at_word("TIME") { SqlType::Time } else { SqlType::Timestamp };
        self.advance();
        if self.at_symbol(Symbol::LeftParen) {
            return Err(self.not_supported("a precision of TIME or TIMESTAMP other than microseconds"));
        }
        if self.at_words(&["WITH", "TIME", "ZONE"]) {
            return Err(self.not_supported("WITH TIME ZONE"));
        }
        self.accept_words(&["WITHOUT", "TIME", "ZONE"]);
        Ok(found)
    }

    fn interval_type(&mut self) -> Result<SqlType> {
        self.advance();
        let from = self.interval_field()?;
        let to = if self.accept_word("TO") { self.interval_field()? } else { from };
        match (from <= Field::Month, to <= Field::Month) {
            (true, true) if from <= to => Ok(SqlType::YearMonth),
            (false, false) if from <= to => Ok(SqlType::DayTime),
            _ => Err(self.expected("fields of one kind of interval, the wider one first")),
        }
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
