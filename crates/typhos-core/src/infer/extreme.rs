//! The smallest and largest value of a column, as what they are.

use std::fmt::{self, Display, Formatter};

use crate::dates::{DAY_NANOS, format_days, format_nanos};
use crate::readings::{Decimal, length_text};
use crate::wording::grouped;

/// A smallest or largest value. Its `Display` is the value as people write it in ISO 8601 and in plain numbers.
#[derive(Debug, Clone, PartialEq)]
pub enum Extreme {
    /// A truth value.
    Bool(bool),
    /// An exact number.
    Number(Decimal),
    /// A number with an exponent, or an infinite one.
    Float(f64),
    /// A day, in days since 1970-01-01.
    Date(i32),
    /// A time of day, in nanoseconds since midnight.
    Time(i64),
    /// A day with a time, in nanoseconds since 1970-01-01, and whether it is a point in time.
    Instant {
        /// Nanoseconds.
        nanos: i128,
        /// Whether it is a point in time, not what a clock shows.
        utc: bool,
    },
    /// A length of time, in nanoseconds.
    Length(i128),
    /// A text.
    Text(String),
}

impl Extreme {
    /// The integer that it is.
    pub fn integer(&self) -> Option<i128> {
        match self {
            Extreme::Number(number) if number.scale == 0 => Some(number.mantissa),
            _ => None,
        }
    }

    /// The double nearest to it, where it is a number.
    pub fn to_f64(&self) -> Option<f64> {
        match self {
            Extreme::Number(number) => Some(number.to_f64()),
            Extreme::Float(float) => Some(*float),
            _ => None,
        }
    }

    /// Whether it is a number below zero.
    pub fn is_negative(&self) -> bool {
        match self {
            Extreme::Number(number) => number.mantissa < 0,
            Extreme::Float(float) => *float < 0.0,
            _ => false,
        }
    }

    /// The value for a person: integers of five digits and more have their thousands apart. Four digits
    /// are often years, and read well without a comma.
    pub fn shown(&self) -> String {
        match self.integer().map(|number| (number, u64::try_from(number.unsigned_abs()))) {
            Some((number, Ok(size))) if size >= 10_000 => {
                format!("{}{}", if number < 0 { "-" } else { "" }, grouped(size))
            }
            _ => self.to_string(),
        }
    }
}

impl Display for Extreme {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Extreme::Bool(truth) => truth.fmt(f),
            Extreme::Number(number) => number.fmt(f),
            Extreme::Float(float) => float.fmt(f),
            Extreme::Date(days) => f.write_str(&format_days(*days)),
            Extreme::Time(nanos) => f.write_str(&format_nanos(*nanos)),
            Extreme::Instant { nanos, utc } => {
                let day = i128::from(DAY_NANOS);
                let (days, time) = (nanos.div_euclid(day) as i32, nanos.rem_euclid(day) as i64);
                let zone = if *utc { "Z" } else { "" };
                write!(f, "{} {}{zone}", format_days(days), format_nanos(time))
            }
            Extreme::Length(nanos) => f.write_str(&length_text(*nanos)),
            Extreme::Text(text) => f.write_str(text),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thousands_stand_apart_from_five_digits_on() {
        let whole = |mantissa| Extreme::Number(Decimal { mantissa, scale: 0 });
        for (number, want) in [
            (0, "0"),
            (2024, "2024"),
            (-9_999, "-9999"),
            (10_000, "10,000"),
            (-1_234_567, "-1,234,567"),
            (u64::MAX.into(), "18,446,744,073,709,551,615"),
            (i128::from(u64::MAX) + 1, "18446744073709551616"),
        ] {
            assert_eq!(whole(number).shown(), want);
            assert_eq!(whole(number).to_string().parse(), Ok(number));
        }
        assert_eq!(Extreme::Number(Decimal { mantissa: 1_234_567, scale: 2 }).shown(), "12345.67");
    }

    #[test]
    fn instants_before_the_epoch_read_well() {
        let last = Extreme::Instant { nanos: -1_000_000_000, utc: true };
        assert_eq!(last.to_string(), "1969-12-31 23:59:59Z");
        assert_eq!(Extreme::Date(-1).to_string(), "1969-12-31");
        assert_eq!(Extreme::Length(-90_000_000_000).to_string(), "-0:01:30");
    }

    #[test]
    fn only_numbers_are_numbers() {
        let fraction = Extreme::Number(Decimal { mantissa: -25, scale: 1 });
        assert_eq!((fraction.integer(), fraction.to_f64()), (None, Some(-2.5)));
        assert!(fraction.is_negative() && !Extreme::Text("-5".into()).is_negative());
        assert_eq!(Extreme::Float(f64::INFINITY).to_f64(), Some(f64::INFINITY));
        assert_eq!(Extreme::Date(3).to_f64(), None);
    }
}
