//! The types of function calls: arguments are brought to what a function takes, and what comes out (clauses 6.30 to 6.34).

use super::function_signature::{Kind, Signature, signature};
use super::problem::Problem;
use super::{Binder, convert::is_unsettled};
use crate::diagnostic::{Error, Span, SqlState};
use crate::logical::{
    ArrayFunction, Expr, ExprKind, Function, NumberFunction, RegexFunction, TextFunction, ZoneFunction,
};
use crate::types::{ExtractField, MICROS_PER_DAY, SqlType as T, Template, Value, date_parts};

impl Binder<'_> {
    /// A call of a function with arguments of the kinds that it takes.
    pub(super) fn function(&mut self, function: Function, args: Vec<Expr>, span: Span) -> Expr {
        let Signature { kinds, least, expected } = signature(function);
        let most = if matches!(function, Function::Greatest | Function::Least) { usize::MAX } else { kinds.len() };
        if args.len() < least || args.len() > most {
            return self.report(&Problem::ArgumentCount { name: function.name(), expected, found: args.len() }, span);
        }
        if most == usize::MAX {
            let (args, common) = self.unify_all(args, function.name());
            return Expr::new(ExprKind::Call(function, args), common, span);
        }
        let problems = self.problems.len();
        let args: Vec<Expr> =
            args.into_iter().zip(kinds).map(|(arg, kind)| self.argument(function, arg, *kind)).collect();
        if self.problems.len() > problems {
            return super::stand_in(span);
        }
        let (args, sql_type) = match self.call_type(function, args, span) {
            Some(found) => found,
            None => return super::stand_in(span),
        };
        Expr::new(ExprKind::Call(function, args), sql_type, span)
    }

    fn argument(&mut self, function: Function, arg: Expr, kind: Kind) -> Expr {
        let arg = if is_unsettled(&arg) {
            let target = match kind {
                Kind::Whole => T::BigInt,
                Kind::Number | Kind::Measure => T::Integer,
                Kind::Float => T::Double,
                Kind::Text | Kind::Bytes | Kind::Array | Kind::Any => T::TEXT,
            };
            self.settle_parameter(arg, target)
        } else {
            arg
        };
        let found = arg.sql_type();
        let null = found == T::Null;
        let expected = match kind {
            Kind::Text if found.is_text() || null => return self.coerce(arg, T::TEXT),
            Kind::Text => "text",
            Kind::Bytes if found.is_binary() => return self.coerce(arg, T::Varbinary(None)),
            Kind::Bytes if found.is_text() || null => return self.coerce(arg, T::TEXT),
            Kind::Bytes => "text or a binary string",
            Kind::Whole if found.is_exact() || null => return self.coerce(arg, T::BigInt),
            Kind::Whole => "an integer",
            Kind::Number if null => return self.coerce(arg, T::Integer),
            Kind::Number if found.is_number() => return arg,
            Kind::Number => "a number",
            Kind::Float if found.is_number() || null => return self.coerce(arg, T::Double),
            Kind::Float => "a number",
            Kind::Measure if null => return self.coerce(arg, T::Integer),
            Kind::Measure if found.is_number() || found.is_interval() => return arg,
            Kind::Measure => "a number or an interval",
            Kind::Array if matches!(found, T::Array(_)) => return arg,
            Kind::Array => "an array",
            Kind::Any => return arg,
        };
        let span = arg.span();
        self.report(&Problem::WrongType { what: function.name().into(), expected, found }, span)
    }

    /// The template by which the texts of a stored column are days, as far as its statistics and a sample tell.
    fn template_of(&self, operand: &Expr) -> Option<(&'static str, T)> {
        let ExprKind::Column(id) = operand.kind() else { return None };
        let (source, place) = self.columns.get(*id).origin.as_ref()?;
        let known = source.statistics(*place).ok()?;
        let ends = [&known.min, &known.max].into_iter().chain(known.most_common.iter().map(|common| &common.value));
        let mut texts: Vec<String> = ends.filter(|value| !value.is_null()).map(ToString::to_string).collect();
        if let Ok(Some(sample)) = source.sample(&[*place], 1000)
            && let Some(column) =
                sample.columns.first().and_then(|column| arrow::array::AsArray::as_string_view_opt(column.as_ref()))
        {
            texts.extend(column.iter().flatten().map(str::to_owned));
        }
        Template::fitting(&texts.iter().map(String::as_str))
    }

    /// The result type; arguments that must agree are brought together.
    fn call_type(&mut self, function: Function, args: Vec<Expr>, span: Span) -> Option<(Vec<Expr>, T)> {
        use Function as F;
        use ZoneFunction as Z;
        let first = args[0].sql_type();
        let second = args.get(1).map_or(T::Null, Expr::sql_type);
        Some(match function {
            F::Text(function) => (args, text_type(function, first)),
            F::Regex(function) => (args, regex_type(function)),
            F::Number(function) => self.of_number(function, args, span)?,
            F::Float(_) => (args, T::Double),
            F::Array(function) => (args, array_type(function, first)),
            F::WidthBucket => (self.width_bucket(args, span), T::Integer),
            F::WithElement | F::SecondDigits | F::IntervalFields => (args, first),
            F::FieldCount => (args, T::BigInt),
            F::TruncateTo(unit) => {
                if !has_start(unit, first) {
                    let problem =
                        Problem::NoStart { unit: unit.name(), found: first, text: self.text(span).to_owned() };
                    self.report(&problem, span);
                    return None;
                }
                (args, first)
            }
            F::Extract(field) => {
                let Some(sql_type) = extracted(field, first) else {
                    let (text, template) = (self.text(args[0].span()).to_owned(), self.template_of(&args[0]));
                    self.report(&Problem::NoField { field: field.name(), found: first, text, template }, span);
                    return None;
                };
                (args, sql_type)
            }
            F::MonthsBetween => match self.unify_pair(args[0].clone(), args[1].clone(), span) {
                Some((a, b)) if a.sql_type().is_datetime() => {
                    let day = |this: &mut Self, expr| this.cast(expr, T::Date, span);
                    (vec![day(self, a), day(self, b)], T::YearMonth)
                }
                _ => return None,
            },
            F::Zone(Z::AtZone | Z::LocalAtZone | Z::AtLocal) => self.at_zone(function, args, (first, second), span)?,
            F::Zone(Z::MomentOfLocal)
            | F::Greatest
            | F::Least
            | F::RowNumberAt(_)
            | F::ValueAt { .. }
            | F::CompareExactly
            | F::TextOfInstant
            | F::InstantOfText
            | F::Sampled { .. }
            | F::CastFormat
            | F::InDomain => {
                let message = format!("internal error: {} is bound elsewhere", function.name());
                self.problems.push(Error::new(SqlState::GENERAL, message).at(span));
                return None;
            }
        })
    }

    fn of_number(&mut self, function: NumberFunction, args: Vec<Expr>, span: Span) -> Option<(Vec<Expr>, T)> {
        use NumberFunction as N;
        let first = args[0].sql_type();
        let sql_type = match function {
            N::Abs => first,
            N::Ceiling | N::Floor => {
                if let T::Numeric { precision, scale } = first {
                    T::numeric((precision - scale).saturating_add(1), 0)
                } else {
                    first
                }
            }
            N::Mod => return self.modulus(args, span),
            N::Round | N::Truncate => rounded(first, args.get(1)),
        };
        Some((args, sql_type))
    }

    /// `MOD(a, b)` of exact numbers: their common type keeps all digits of the rest.
    fn modulus(&mut self, mut args: Vec<Expr>, span: Span) -> Option<(Vec<Expr>, T)> {
        let (b, a) = (args.pop(), args.pop());
        let (Some(a), Some(b)) = (a, b) else { return None };
        if !a.sql_type().is_exact() || !b.sql_type().is_exact() {
            let found = if a.sql_type().is_exact() { b.sql_type() } else { a.sql_type() };
            self.report(&Problem::WrongType { what: "MOD".into(), expected: "exact numbers", found }, span);
            return None;
        }
        let common = a.sql_type().common(b.sql_type()).unwrap_or(T::BigInt);
        let bring = |this: &mut Self, expr| this.coerce(expr, common);
        Some((vec![bring(self, a), bring(self, b)], common))
    }

    /// The value and both bounds of `WIDTH_BUCKET` in one type.
    fn width_bucket(&mut self, mut args: Vec<Expr>, span: Span) -> Vec<Expr> {
        let count = args.pop().unwrap_or_else(|| super::stand_in(span));
        let (mut args, common) = self.unify_all(args, "WIDTH_BUCKET");
        if !common.is_exact() {
            args = args.into_iter().map(|arg| self.coerce(arg, T::Double)).collect();
        }
        args.push(count);
        args
    }

    /// `CAST(operand AS target FORMAT 'template')` between text and a day or time (clause 9.52).
    pub(super) fn cast_by_format(&mut self, operand: Expr, target: T, format: &str, span: Span) -> Expr {
        let operand = if target.is_text() { self.local_time(operand) } else { operand };
        let from = operand.sql_type();
        let reads = from.is_text() && target.is_datetime();
        let writes = from.is_datetime() && target.is_text();
        if !reads && !writes {
            return self.report(&Problem::NoCast { from, to: target }, span);
        }
        if let Err(what) = Template::parse(format) {
            return self.report(&Problem::BadTemplate { what }, span);
        }
        let operand = if reads { self.coerce(operand, T::TEXT) } else { operand };
        let template = Expr::literal(Value::Text(format.into()), T::TEXT, span);
        // Short years are read beside the current one.
        let days = i32::try_from(self.local_now().div_euclid(MICROS_PER_DAY)).unwrap_or(0);
        let year = Expr::literal(Value::Integer(date_parts(days).0.into()), T::BigInt, span);
        let middle = if writes { T::TEXT } else { without_zone(target) };
        let call = Expr::new(ExprKind::Call(Function::CastFormat, vec![operand, template, year]), middle, span);
        self.convert(call, target)
    }
}

/// ROUND and TRUNCATE to a constant number of digits have a type of so many; to a number known only later, all digits.
fn rounded(first: T, places: Option<&Expr>) -> T {
    let T::Numeric { precision, scale } = first else { return first };
    let places = match places {
        None => Some(0),
        Some(expr) => match expr.constant() {
            Some(Value::Integer(places)) => Some((*places).clamp(0, i64::from(scale))),
            _ => None,
        },
    };
    let whole = (precision - scale).saturating_add(1);
    let kept = places.and_then(|places| u8::try_from(places).ok()).unwrap_or(scale);
    T::numeric(whole.saturating_add(kept), kept)
}

/// The type that a template writes: it has no place for an offset.
fn without_zone(target: T) -> T {
    if target == T::TimestampTz {
        T::Timestamp
    } else if target == T::TimeTz {
        T::Time
    } else {
        target
    }
}

/// Whether values of a type lie in units of this size.
fn has_start(unit: ExtractField, of: T) -> bool {
    use ExtractField as X;
    match unit {
        X::Year | X::Quarter | X::Month | X::Week | X::Day => {
            matches!(of, T::Date | T::Timestamp | T::TimestampTz)
        }
        X::Hour | X::Minute | X::Second => {
            matches!(of, T::Timestamp | T::TimestampTz | T::Time | T::TimeTz)
        }
        X::WeekYear | X::DayOfWeek | X::DayOfYear | X::TimezoneHour | X::TimezoneMinute => false,
    }
}

/// The type of a field; `None` when the value has no such field.
fn extracted(field: ExtractField, from: T) -> Option<T> {
    use ExtractField as X;
    let has = match from {
        T::Date => field.is_of_date(),
        T::Time => matches!(field, X::Hour | X::Minute | X::Second),
        T::TimeTz => !field.is_of_date(),
        T::Timestamp => !matches!(field, X::TimezoneHour | X::TimezoneMinute),
        T::TimestampTz => true,
        T::YearMonth => matches!(field, X::Year | X::Month),
        T::DayTime => matches!(field, X::Day | X::Hour | X::Minute | X::Second),
        T::Null
        | T::Boolean
        | T::SmallInt
        | T::Integer
        | T::BigInt
        | T::Numeric { .. }
        | T::Real
        | T::Double
        | T::Char(_)
        | T::Varchar(_)
        | T::Binary(_)
        | T::Varbinary(_)
        | T::Uuid
        | T::IpAddress
        | T::Array(_)
        | T::Row(_) => false,
    };
    // Seconds have their fraction; a day of an interval may have many digits.
    has.then_some(if field == X::Second { T::numeric(8, 6) } else { T::Integer })
}

fn text_type(function: TextFunction, first: T) -> T {
    use TextFunction as C;
    match function {
        C::CharacterLength | C::OctetLength | C::Position => T::Integer,
        C::IsNormalized => T::Boolean,
        C::Substring | C::Overlay | C::Trim(_) if first.is_binary() => T::Varbinary(None),
        C::Upper
        | C::Lower
        | C::Substring
        | C::Overlay
        | C::Trim(_)
        | C::TrimSet(_)
        | C::LeftPad
        | C::RightPad
        | C::Normalize
        | C::Translate => T::TEXT,
    }
}

fn regex_type(function: RegexFunction) -> T {
    use RegexFunction as X;
    match function {
        X::OccurrencesRegex | X::PositionRegex | X::PositionRegexAfter => T::Integer,
        X::Similar | X::LikeRegex => T::Boolean,
        X::SubstringSimilar | X::SubstringRegex | X::TranslateRegex => T::TEXT,
    }
}

fn array_type(function: ArrayFunction, array: T) -> T {
    use ArrayFunction as A;
    match function {
        A::Cardinality => T::Integer,
        A::Contains => T::Boolean,
        A::TrimArray | A::ArrayLimit => array,
        A::Element => {
            if let T::Array(element) = array {
                *element
            } else {
                T::Null
            }
        }
    }
}
