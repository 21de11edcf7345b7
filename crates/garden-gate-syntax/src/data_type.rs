//! Types as they are written (clause 6.1).

use super::keyword::Keyword as K;
use super::lexer::Symbol;
use super::parser::Parser;
use super::problem::Problem;
use crate::diagnostic::Result;
use crate::types::{DeclaredType, Fields, RowField, SqlType, TypeLimit};

impl Parser<'_> {
    /// A type, and `ARRAY` after it as often as it appears there.
    pub(super) fn data_type(&mut self) -> Result<SqlType> {
        let element = self.plain_type()?;
        match self.arrays_of(element)? {
            (found, None) => Ok(found),
            _ => Err(self.not_supported("an ARRAY type with a maximum cardinality outside CAST and columns")),
        }
    }

    /// What CAST and a column may name: a type, with the digits of its seconds, or with the maximum cardinality of its arrays.
    pub(super) fn declared_type(&mut self) -> Result<DeclaredType> {
        if self.at_word(K::Interval) {
            return self.declared_interval();
        }
        let at_time = self.at_any(&[K::Time, K::Timestamp]);
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

    /// `ARRAY` after a type as often as it appears there, and how many elements the array may have.
    fn arrays_of(&mut self, mut found: SqlType) -> Result<(SqlType, Option<i32>)> {
        let mut most = None;
        while self.accept_word(K::Array) {
            if most.is_some() {
                return Err(self.not_supported("a maximum cardinality of the arrays in an array"));
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
            (K::Boolean, SqlType::Boolean),
            (K::Smallint, SqlType::SmallInt),
            (K::Integer, SqlType::Integer),
            (K::Int, SqlType::Integer),
            (K::Bigint, SqlType::BigInt),
            (K::Real, SqlType::Real),
            (K::Date, SqlType::Date),
            (K::Uuid, SqlType::Uuid),
            (K::Ipaddress, SqlType::IpAddress),
        ];
        if let Some((_, found)) = simple.into_iter().find(|(word, _)| self.at_word(*word)) {
            self.advance();
            return Ok(found);
        }
        if self.accept_words(&[K::Double, K::Precision]) {
            return Ok(SqlType::Double);
        }
        if self.accept_word(K::Numeric) || self.accept_word(K::Decimal) || self.accept_word(K::Dec) {
            return self.numeric_type();
        }
        if self.accept_word(K::Varchar) || self.accept_words(&[K::Character, K::Varying]) {
            return Ok(SqlType::Varchar(self.optional_length()?));
        }
        if self.at_any(&[K::Time, K::Timestamp]) {
            return self.time_type();
        }
        if self.at_word(K::Interval) {
            let fields = self.interval_type()?;
            if !fields.are_all() {
                return Err(self.not_supported("an interval of fewer fields in an array or row"));
            }
            return Ok(fields.sql_type());
        }
        if let Some(found) = self.string_type()? {
            return Ok(found);
        }
        if self.accept_word(K::Row) {
            return self.row_type();
        }
        Err(self.expected("a data type"))
    }

    /// The types of character and binary strings with a length.
    fn string_type(&mut self) -> Result<Option<SqlType>> {
        if self.accept_words(&[K::Character, K::Large, K::Object])
            || self.accept_words(&[K::Char, K::Large, K::Object])
            || self.accept_word(K::Clob)
        {
            return Ok(Some(SqlType::Varchar(self.optional_length()?)));
        }
        if self.accept_words(&[K::Char, K::Varying]) {
            return Ok(Some(SqlType::Varchar(self.optional_length()?)));
        }
        if self.accept_word(K::Char) || self.accept_word(K::Character) {
            return Ok(Some(SqlType::Char(self.optional_length()?.unwrap_or(1))));
        }
        if self.accept_words(&[K::Binary, K::Large, K::Object])
            || self.accept_words(&[K::Binary, K::Varying])
            || self.accept_word(K::Blob)
            || self.accept_word(K::Varbinary)
        {
            return Ok(Some(SqlType::Varbinary(self.optional_length()?)));
        }
        if self.accept_word(K::Binary) {
            return Ok(Some(SqlType::Binary(self.optional_length()?.unwrap_or(1))));
        }
        if self.accept_word(K::Float) {
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
            _ => Err(self.not_supported("a precision of TIME or TIMESTAMP other than 6, outside CAST and columns")),
        }
    }

    /// The digits after the point of a second, in parentheses; six when they are not given.
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
        let found = if self.at_word(K::Time) { SqlType::Time } else { SqlType::Timestamp };
        self.advance();
        let digits = self.second_digits()?;
        if self.at_words(&[K::With, K::Time, K::Zone]) {
            self.accept_words(&[K::With, K::Time, K::Zone]);
            return Ok((if found == SqlType::Time { SqlType::TimeTz } else { SqlType::TimestampTz }, digits));
        }
        self.accept_words(&[K::Without, K::Time, K::Zone]);
        Ok((found, digits))
    }

    fn interval_type(&mut self) -> Result<Fields> {
        self.advance();
        self.interval_fields()
    }

    /// `DAY TO SECOND`: the fields of an interval.
    pub(super) fn interval_fields(&mut self) -> Result<Fields> {
        let from = self.interval_field()?;
        let to = if self.accept_word(K::To) { self.interval_field()? } else { from };
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
