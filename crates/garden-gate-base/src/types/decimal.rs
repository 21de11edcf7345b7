use std::fmt;

/// An exact decimal number: `unscaled` × 10^−`scale`, up to 38 digits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Decimal {
    /// All digits as one integer.
    pub unscaled: i128,
    /// How many of the digits stand after the point.
    pub scale: u8,
}

/// 10^`exponent`, or `None` past what 128 bits hold.
pub fn power_of_ten(exponent: u8) -> Option<i128> {
    10_i128.checked_pow(u32::from(exponent))
}

/// `value` with `from` fractional digits as a number with `to` of them, rounding half away from zero; `None` on overflow.
pub fn rescale(value: i128, from: u8, to: u8) -> Option<i128> {
    if to >= from {
        value.checked_mul(power_of_ten(to - from)?)
    } else {
        Some(divide_rounded(value, power_of_ten(from - to)?))
    }
}

/// `value / divisor`, rounded half away from zero. `divisor` is not 0.
pub fn divide_rounded(value: i128, divisor: i128) -> i128 {
    let (quotient, rest) = (value / divisor, value % divisor);
    // |rest| < |divisor|, so doubling is done by comparing with what is left over: no overflow.
    if rest.unsigned_abs() >= divisor.unsigned_abs() - rest.unsigned_abs() {
        quotient + value.signum() * divisor.signum()
    } else {
        quotient
    }
}

impl Decimal {
    /// Reads fixed-point text such as `-12.50`: digits with at most one point, at most 38 digits; `None` when it is not.
    pub fn parse(text: &str) -> Option<Self> {
        let (negative, digits) = match text.as_bytes().first()? {
            b'-' => (true, &text[1..]),
            b'+' => (false, &text[1..]),
            _ => (false, text),
        };
        let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
        if whole.is_empty() && fraction.is_empty() {
            return None;
        }
        let mut unscaled = 0_i128;
        for byte in whole.bytes().chain(fraction.bytes()) {
            if !byte.is_ascii_digit() {
                return None;
            }
            unscaled = unscaled.checked_mul(10)?.checked_add(i128::from(byte - b'0'))?;
        }
        if unscaled >= 10_i128.pow(38) {
            return None;
        }
        Some(Self { unscaled: if negative { -unscaled } else { unscaled }, scale: u8::try_from(fraction.len()).ok()? })
            .filter(|decimal| decimal.scale <= 38)
    }

    /// Digits the number needs in all, at least one and at least its scale.
    pub fn precision(self) -> u8 {
        let digits = self.unscaled.unsigned_abs().checked_ilog10().map_or(1, |log| log + 1);
        u8::try_from(digits).unwrap_or(u8::MAX).max(self.scale).max(1)
    }

    /// The nearest number of 64 bits.
    pub fn to_f64(self) -> f64 {
        // The text goes through the standard's correctly rounded parser; dividing would round twice.
        self.to_string().parse().unwrap_or(f64::NAN)
    }
}

impl fmt::Display for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sign = if self.unscaled < 0 { "-" } else { "" };
        let digits = format!("{:0>width$}", self.unscaled.unsigned_abs(), width = usize::from(self.scale) + 1);
        let (whole, fraction) = digits.split_at(digits.len() - usize::from(self.scale));
        if fraction.is_empty() { write!(f, "{sign}{whole}") } else { write!(f, "{sign}{whole}.{fraction}") }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_and_back() {
        for (text, shown) in [
            ("0", "0"),
            ("-0.5", "-0.5"),
            (".5", "0.5"),
            ("5.", "5"),
            ("+12.50", "12.50"),
            ("0.001", "0.001"),
            ("99999999999999999999999999999999999999", "99999999999999999999999999999999999999"),
        ] {
            assert_eq!(Decimal::parse(text).map(|d| d.to_string()).as_deref(), Some(shown), "{text}");
        }
        for text in ["", "-", ".", "1e5", "1.2.3", "12a", "100000000000000000000000000000000000000"] {
            assert_eq!(Decimal::parse(text), None, "{text}");
        }
    }

    #[test]
    fn rounding_is_half_away_from_zero() {
        for (value, from, to, expected) in
            [(125, 2, 1, 13), (-125, 2, 1, -13), (124, 2, 1, 12), (-149, 2, 0, -1), (-150, 2, 0, -2), (7, 0, 3, 7000)]
        {
            assert_eq!(rescale(value, from, to), Some(expected), "{value}");
        }
        assert_eq!(rescale(i128::MAX, 0, 1), None);
        assert_eq!(divide_rounded(7, -2), -4);
    }
}
