//! What a value says under a pattern, or why it is misread: what all that reads dates has in common.

use super::calendar::DAY_NANOS;

/// What a value says under a pattern.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Moment {
    /// Days since 1970-01-01; 0 where the pattern has no date.
    pub days: i32,
    /// Time of day in nanoseconds; 0 where the pattern has no time.
    pub nanos: i64,
    /// Offset from UTC in seconds, where the pattern or the zone of the column has one.
    pub offset: Option<i32>,
}

impl Moment {
    /// Nanoseconds since 1970-01-01T00:00:00; with an offset, in UTC.
    #[inline]
    pub fn nanos_since_epoch(&self) -> i128 {
        let local = i128::from(self.days) * i128::from(DAY_NANOS) + i128::from(self.nanos);
        local - i128::from(self.offset.unwrap_or(0)) * 1_000_000_000
    }
}

/// Why a pattern does not read a value. Cheap to make: with several patterns most values are misread by
/// all but one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Misread {
    /// Another thing was expected at a byte of the value.
    Expected {
        /// Which step of the pattern.
        step: usize,
        /// Offset in the value.
        at: usize,
    },
    /// The pattern ends before the value does.
    TooLong {
        /// Offset in the value of what is left.
        at: usize,
    },
    /// A number is out of its range.
    Range {
        /// Which part: month, hour…
        part: &'static str,
        /// The number.
        number: u32,
        /// Offset in the value.
        at: usize,
    },
    /// The month has fewer days.
    NoSuchDay {
        /// The day.
        day: u32,
        /// Days of that month.
        days: u32,
    },
    /// The year has fewer days, or fewer weeks.
    NotInYear {
        /// Day of the year, or week.
        part: &'static str,
        /// The number.
        number: u32,
        /// How many of them the year has.
        most: u32,
        /// The year.
        year: i32,
    },
    /// The day is another weekday.
    Weekday {
        /// The day, since 1970-01-01.
        days: i32,
    },
    /// The hour is in the other half of the day.
    Half {
        /// The hour.
        hour: u32,
    },
    /// There is no such zone, or its abbreviation is that of several.
    Zone {
        /// Offset in the value.
        at: usize,
        /// How many bytes it has.
        length: usize,
        /// What an abbreviation may mean.
        meanings: Option<&'static str>,
    },
    /// The clocks of the zone were turned on over this time.
    Gap,
    /// The clocks of the zone showed this time twice.
    Overlap,
    /// The day that a spreadsheet has between 28 February and 1 March 1900.
    NeverWas,
    /// It lies outside of the years 1 to 9999.
    FarOut,
}

impl Misread {
    /// Where in the value it stands, where that is one place.
    pub fn at(&self) -> Option<usize> {
        match *self {
            Misread::Expected { at, .. }
            | Misread::TooLong { at }
            | Misread::Range { at, .. }
            | Misread::Zone { at, .. } => Some(at),
            _ => None,
        }
    }
}
