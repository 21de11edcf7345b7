use super::{Binder, MissingParameters, problem::Problem};
use crate::diagnostic::{Error, Result, SourceText, Span};
use crate::logical::{Expr, ExprKind};
use crate::syntax::{Script, ast::ParameterName};
use crate::types::{Decimal, SqlType, Value, Zone, parse_instant};
use std::sync::Arc;

/// Values for the parameters of a statement: `:name` by name, `?` by position.
///
/// ```
/// # use garden_gate_bind as garden_gate;
/// use garden_gate::Parameters;
/// let by_name = Parameters::new().set("sun", "shade").set("least", 3);
/// let by_position = Parameters::new().push("shade").push(3);
/// assert_ne!(by_name, by_position);
/// assert_eq!(by_name, Parameters::named([("sun", "shade")]).set("least", 3));
/// assert_eq!(Parameters::new().push(3).push(4), Parameters::from([3, 4]));
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Parameters {
    /// Of `?`, in order.
    positions: Vec<Value>,
    /// Of `:name`.
    named: Vec<(String, Value)>,
}

impl Parameters {
    /// No parameters.
    pub fn new() -> Self {
        Self::default()
    }

    /// Values by name; a later one of the same name counts.
    pub fn named<N: AsRef<str>, V: Into<Value>>(values: impl IntoIterator<Item = (N, V)>) -> Self {
        values.into_iter().fold(Self::new(), |all, (name, value)| all.set(name.as_ref(), value))
    }

    /// Gives the parameter `:name` (written here without its colon) a value; an earlier one is replaced. O(named parameters).
    #[must_use]
    pub fn set(mut self, name: &str, value: impl Into<Value>) -> Self {
        self.put(ParameterName::Named(name.to_owned()), value.into());
        self
    }

    /// Gives the next `?` a value. O(1).
    #[must_use]
    pub fn push(mut self, value: impl Into<Value>) -> Self {
        self.positions.push(value.into());
        self
    }

    /// Those that a text uses; for parameters that are given to several texts together.
    #[must_use]
    pub fn used_in(&self, source: &Arc<SourceText>) -> Self {
        let used = Script::new(Arc::clone(source)).parameter_names();
        let is_used = |name: &str| {
            used.iter().any(|used| matches!(used, ParameterName::Named(used) if used.eq_ignore_ascii_case(name)))
        };
        let last = used.iter().filter_map(ParameterName::position).max().unwrap_or(0);
        Self {
            positions: self.positions.iter().take(last).cloned().collect(),
            named: self.named.iter().filter(|(name, _)| is_used(name)).cloned().collect(),
        }
    }

    /// Refuses a value that none of several texts uses.
    ///
    /// # Errors
    /// 07001 with the names that are used.
    pub fn check_used(&self, sources: &[Arc<SourceText>]) -> Result<()> {
        let used: Vec<ParameterName> =
            sources.iter().flat_map(|source| Script::new(Arc::clone(source)).parameter_names()).collect();
        self.refuse_unused(&used)
    }

    /// Gives a parameter a value; an earlier one is replaced. A position is at most the one after the last.
    pub fn put(&mut self, name: ParameterName, value: Value) {
        match name {
            ParameterName::Named(name) => {
                match self.named.iter_mut().find(|(known, _)| known.eq_ignore_ascii_case(&name)) {
                    Some((_, old)) => *old = value,
                    None => self.named.push((name, value)),
                }
            }
            ParameterName::Position(position) => match self.positions.get_mut(position.saturating_sub(1)) {
                Some(old) => *old = value,
                None => self.positions.push(value),
            },
        }
    }

    /// The names of all that have a value.
    fn names(&self) -> impl Iterator<Item = ParameterName> {
        let named = self.named.iter().map(|(name, _)| ParameterName::Named(name.clone()));
        named.chain((1..=self.positions.len()).map(ParameterName::Position))
    }

    /// As [`Parameters::refuse_unused`], for the parameters of a text; without values its text is not read.
    ///
    /// # Errors
    /// 07001 with the names that are used.
    pub fn refuse_unused_in(&self, source: &Arc<SourceText>) -> Result<()> {
        if self.is_empty() {
            return Ok(());
        }
        self.refuse_unused(&Script::new(Arc::clone(source)).parameter_names())
    }

    /// Whether no parameter has a value.
    pub fn is_empty(&self) -> bool {
        self.named.is_empty() && self.positions.is_empty()
    }

    /// A value given for a parameter that nobody uses is a mistake worth stopping for.
    ///
    /// # Errors
    /// 07001 with the names that are used.
    pub fn refuse_unused(&self, used: &[ParameterName]) -> Result<()> {
        if self.is_empty() {
            return Ok(());
        }
        let last = used.iter().filter_map(ParameterName::position).max().unwrap_or(0);
        let is_used = |name: &ParameterName| match name {
            ParameterName::Position(position) => *position <= last,
            ParameterName::Named(_) => used.iter().any(|used| used.is_same(name)),
        };
        let Some(unused) = self.names().find(|name| !is_used(name)) else { return Ok(()) };
        let mut known: Vec<String> = used.iter().map(ToString::to_string).collect();
        known.dedup();
        Err(Error::from_facts(&Problem::ParameterUnused { name: unused.to_string(), known }))
    }

    /// Those with names, and their values.
    pub fn named_values(&self) -> impl Iterator<Item = (&str, &Value)> {
        self.named.iter().map(|(name, value)| (name.as_str(), value))
    }

    /// The value of a parameter.
    pub fn get(&self, name: &ParameterName) -> Option<&Value> {
        match name {
            ParameterName::Position(position) => self.positions.get(position.checked_sub(1)?),
            ParameterName::Named(name) => {
                self.named.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, value)| value)
            }
        }
    }
}

impl From<()> for Parameters {
    /// No parameters.
    fn from((): ()) -> Self {
        Self::new()
    }
}

impl From<&Self> for Parameters {
    fn from(parameters: &Self) -> Self {
        parameters.clone()
    }
}

impl<V: Into<Value>, const N: usize> From<[V; N]> for Parameters {
    /// By position.
    fn from(values: [V; N]) -> Self {
        values.into_iter().collect()
    }
}

impl<V: Into<Value>> From<Vec<V>> for Parameters {
    /// By position.
    fn from(values: Vec<V>) -> Self {
        values.into_iter().collect()
    }
}

impl<V: Into<Value>> FromIterator<V> for Parameters {
    /// By position.
    fn from_iter<I: IntoIterator<Item = V>>(values: I) -> Self {
        Self { positions: values.into_iter().map(Into::into).collect(), named: Vec::new() }
    }
}

impl Binder<'_> {
    /// A parameter: with its value where it has one, so that plans can look at it.
    pub(super) fn parameter(&mut self, name: &ParameterName, span: Span) -> Expr {
        let value = self.around.parameters.get(name).or_else(|| self.around.variables.get(name)).cloned();
        if value.is_none() {
            if self.around.missing == MissingParameters::Refuse {
                let known = self.around.parameters.names().map(|known| known.to_string()).collect();
                return self.report(&Problem::ParameterMissing { name: name.to_string(), known }, span);
            }
            self.generic = true;
        }
        let sql_type = value.as_ref().map_or(SqlType::Null, value_type);
        Expr::new(ExprKind::Parameter(name.clone(), value), sql_type, span)
    }

    /// Settles the type of a parameter whose value came as bare text: an exact number keeps all its digits.
    pub(super) fn settle_parameter(&mut self, expr: Expr, target: SqlType) -> Expr {
        let span = expr.span();
        let ExprKind::Parameter(name, value) = expr.kind() else { return expr };
        let Some(Value::Untyped(text)) = value else {
            return Expr::new(ExprKind::Parameter(name.clone(), value.clone()), target, span);
        };
        if target.is_exact()
            && let Some(decimal) = Decimal::parse(text.trim())
        {
            let value = match i64::try_from(decimal.unscaled) {
                Ok(whole) if decimal.scale == 0 => Value::Integer(whole),
                _ => Value::Numeric(decimal),
            };
            let sql_type = value_type(&value);
            return Expr::new(ExprKind::Parameter(name.clone(), Some(value)), sql_type, span);
        }
        let parsed = if let SqlType::TimestampTz = target
            && self.zone != Zone::UTC
            && parse_instant(text).is_none()
        {
            match crate::kernel::parse_value(text, SqlType::Timestamp) {
                Some(Value::Timestamp(local)) => self.zone.moment_of(local).map(Value::Instant),
                _ => None,
            }
        } else {
            crate::kernel::parse_value(text, target)
        };
        match parsed {
            Some(value) => Expr::new(ExprKind::Parameter(name.clone(), Some(value)), target, span),
            None => {
                let problem = Problem::ParameterValue { name: name.to_string(), value: text.clone(), expected: target };
                self.report(&problem, span)
            }
        }
    }
}

/// The narrowest type of a value.
pub(super) fn value_type(value: &Value) -> SqlType {
    match value {
        Value::Null | Value::Untyped(_) => SqlType::Null,
        Value::Boolean(_) => SqlType::Boolean,
        Value::Integer(value) if i32::try_from(*value).is_ok() => SqlType::Integer,
        Value::Integer(_) => SqlType::BigInt,
        Value::Numeric(decimal) => SqlType::numeric(decimal.precision(), decimal.scale),
        Value::Double(_) => SqlType::Double,
        Value::Text(_) => SqlType::TEXT,
        Value::Date(_) => SqlType::Date,
        Value::Time(_) => SqlType::Time,
        Value::TimeTz(_) => SqlType::TimeTz,
        Value::Timestamp(_) => SqlType::Timestamp,
        Value::Instant(_) => SqlType::TimestampTz,
        Value::Binary(_) => SqlType::Varbinary(None),
        Value::Uuid(_) => SqlType::Uuid,
        Value::IpAddress(_) => SqlType::IpAddress,
        Value::Array(elements) => {
            let common = elements.iter().map(value_type).try_fold(SqlType::Null, SqlType::common);
            let element = common.filter(|common| *common != SqlType::Null).unwrap_or(SqlType::TEXT);
            SqlType::array_of(element)
        }
        Value::Row(fields) => SqlType::row_of_types(fields.iter().map(value_type)),
        Value::Months(_) => SqlType::YearMonth,
        Value::Micros(_) => SqlType::DayTime,
    }
}
