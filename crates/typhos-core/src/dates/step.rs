//! A compiled pattern as a list of steps: what is expected in a value, one thing after the other.

use std::sync::Arc;

use super::names::Names;
use super::offsets::OffsetForm;
use super::symbols::Field;

/// By which numbers a pattern says the day.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Calendar {
    None,
    /// Year, month and day; what is missing at the end is the first.
    Civil,
    /// Year and day of the year.
    Ordinal,
    /// Year and quarter: the first day of it.
    Quarter,
    /// Year of the week, week and weekday; Monday, where no weekday is said.
    Week,
}

/// One thing that is expected in a value. In the pattern it stands where its place says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Step {
    pub kind: StepKind,
    /// Bytes of the pattern's source.
    pub place: (usize, usize),
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum StepKind {
    Literal(Box<str>),
    Number {
        field: Field,
        least: u8,
        most: u8,
        /// Digits right behind it that belong to the next numbers.
        reserve: u8,
    },
    Name {
        field: Field,
        names: Arc<Names>,
        /// Whether a point may stand behind it.
        point: bool,
    },
    Fraction {
        most: u8,
    },
    Offset(OffsetForm),
    ZoneId,
    ZoneName,
}

/// The number that the first digits say: at least so many, at most so many, and so many left for others.
#[inline]
pub(super) fn digits(rest: &[u8], least: u8, most: u8, reserve: u8) -> Option<(u32, usize)> {
    let most = usize::from(most);
    let mut length = 0;
    let mut number = 0;
    while length < most && rest.get(length).is_some_and(u8::is_ascii_digit) {
        number = number * 10 + u32::from(rest[length] - b'0');
        length += 1;
    }
    if reserve > 0 {
        let run = rest.iter().take(most + usize::from(reserve)).take_while(|b| b.is_ascii_digit());
        let wanted = run.count().saturating_sub(usize::from(reserve)).max(usize::from(least));
        while length > wanted {
            length -= 1;
            number /= 10;
        }
    }
    (length >= usize::from(least)).then_some((number, length))
}
