//! The order of values of one type.

use super::{Decimal, Value, power_of_ten};
use std::cmp::Ordering;

impl Value {
    /// How two values of one kind are ordered, as SQL's `<` has it: text by its code points; `None` for NULL, and for values of different
    /// kinds.
    #[must_use]
    pub fn compare(&self, other: &Self) -> Option<Ordering> {
        match (self, other) {
            (Self::Boolean(a), Self::Boolean(b)) => Some(a.cmp(b)),
            (Self::Integer(a), Self::Integer(b))
            | (Self::Time(a), Self::Time(b))
            | (Self::TimeTz(a), Self::TimeTz(b))
            | (Self::Timestamp(a), Self::Timestamp(b))
            | (Self::Instant(a), Self::Instant(b))
            | (Self::Micros(a), Self::Micros(b)) => Some(a.cmp(b)),
            (Self::Numeric(a), Self::Numeric(b)) => Some(compare_decimals(*a, *b)),
            (Self::Double(a), Self::Double(b)) => a.partial_cmp(b),
            (Self::Text(a), Self::Text(b)) | (Self::Untyped(a), Self::Untyped(b)) => Some(a.cmp(b)),
            (Self::Date(a), Self::Date(b)) | (Self::Months(a), Self::Months(b)) => Some(a.cmp(b)),
            (Self::Binary(a), Self::Binary(b)) => Some(a.cmp(b)),
            (Self::Uuid(a), Self::Uuid(b)) | (Self::IpAddress(a), Self::IpAddress(b)) => Some(a.cmp(b)),
            (Self::Array(a), Self::Array(b)) | (Self::Row(a), Self::Row(b)) => {
                let parts = a.iter().zip(b).map(|(a, b)| a.compare(b));
                // The first parts that differ, or cannot be compared, decide.
                let differ = parts.into_iter().find(|order| *order != Some(Ordering::Equal));
                differ.unwrap_or_else(|| Some(a.len().cmp(&b.len())))
            }
            _ => None,
        }
    }
}

/// Two decimals of any scales: by their integer parts, then by 38 digits of their fractions.
fn compare_decimals(a: Decimal, b: Decimal) -> Ordering {
    let parts = |value: Decimal| {
        let unit = power_of_ten(value.scale).unwrap_or(1);
        let fraction = value.unscaled.rem_euclid(unit) * power_of_ten(38_u8.saturating_sub(value.scale)).unwrap_or(1);
        (value.unscaled.div_euclid(unit), fraction)
    };
    parts(a).cmp(&parts(b))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_of_one_kind_are_ordered() {
        let numeric = |text: &str| Value::numeric(text).unwrap_or(Value::Null);
        let row = |parts: &[i64]| Value::Row(parts.iter().copied().map(Value::Integer).collect());
        for (a, b, order) in [
            (Value::Integer(-1), Value::Integer(1), Some(Ordering::Less)),
            (numeric("1.5"), numeric("1.50"), Some(Ordering::Equal)),
            (numeric("-1.5"), numeric("-1.49"), Some(Ordering::Less)),
            (numeric("0.00000000000000000000000000000000000001"), numeric("0"), Some(Ordering::Greater)),
            (numeric("99999999999999999999999999999999999999"), numeric("1"), Some(Ordering::Greater)),
            (Value::Text("a".into()), Value::Text("B".into()), Some(Ordering::Greater)),
            (Value::Null, Value::Null, None),
            (Value::Integer(1), Value::Text("1".into()), None),
            (row(&[1, 2]), row(&[1, 3]), Some(Ordering::Less)),
            (Value::Array(vec![Value::Null]), Value::Array(vec![Value::Null]), None),
        ] {
            assert_eq!(a.compare(&b), order, "{a:?} {b:?}");
        }
    }
}
