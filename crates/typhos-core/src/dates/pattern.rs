//! The pattern language: symbols → a small program over bytes → a moment.
//!
//! The symbols are date field symbols of Unicode Technical Standard #35. Read so far:
//!
//! | symbol | reads |
//! |---|---|
//! | `yyyy` | a year of four digits |
//! | `yy` | a year of two digits, in the hundred years from the column's `pivot` on |
//! | `MM`, `M` | a month of two digits; of one or two |
//! | `dd`, `d` | a day of two digits; of one or two |
//! | `HH`, `H` | an hour from 0 to 23 of two digits; of one or two |
//! | `mm`, `ss` | minutes, seconds |
//! | `S`…`SSSSSSSSS` | a fraction of a second, from one digit up to the number of letters |
//! | `X`, `XX`, `XXX` | an offset: `+01` (or `+0130`), `+0130`, `+01:30`; each reads `Z` |
//! | `x`, `xx`, `xxx` | the same without `Z` |
//! | `'text'`, `''` | the text itself, a quote |
//!
//! Any other ASCII letter is refused, so that a later symbol can take its place; everything that is
//! no letter stands for itself.
//!
//! A value is read strictly: to its last byte, and only where the day exists. Deviation from the
//! standard: fractions may be shorter than the pattern, since programs trim their zeros.

use std::fmt;

use super::compile::compile;
use super::fixed::Fixed;
use super::{DAY_NANOS, days_from_civil, days_in_month};

/// The first year that a two-digit year can mean, where a column does not say: 69 is 1969, as POSIX
/// has it.
pub const DEFAULT_PIVOT: i32 = 1969;

/// A compiled date pattern.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    pub(super) source: String,
    pub(super) steps: Vec<Step>,
    pub(super) has_date: bool,
    pub(super) has_time: bool,
    pub(super) has_offset: bool,
    pub(super) fraction_digits: u8,
    pub(super) fixed: Option<Fixed>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Step {
    Literal(char),
    Year,
    ShortYear,
    Number { part: Part, loose: bool },
    Fraction { most: u8 },
    Offset { letters: u8, zulu: bool },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Part {
    Month,
    Day,
    Hour,
    Minute,
    Second,
}

impl Part {
    /// Name, symbol and range.
    pub(super) fn facts(self) -> (&'static str, &'static str, u32, u32) {
        match self {
            Part::Month => ("month", "M", 1, 12),
            Part::Day => ("day", "d", 1, 31),
            Part::Hour => ("hour", "H", 0, 23),
            Part::Minute => ("minute", "m", 0, 59),
            Part::Second => ("second", "s", 0, 59),
        }
    }
}

/// A pattern that cannot be read: where, and what was most likely meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PatternError {
    /// Byte range of the wrong symbol in the pattern.
    pub at: (usize, usize),
    /// What is wrong, and what to write instead.
    pub message: String,
}

/// What a value says under a pattern.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Moment {
    /// Days since 1970-01-01; 0 where the pattern has no date.
    pub days: i32,
    /// Time of day in nanoseconds; 0 where the pattern has no time.
    pub nanos: i64,
    /// Offset from UTC in seconds, where the pattern has one.
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

/// Why a pattern does not read a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Misread {
    /// Another thing was expected at a byte of the value.
    Expected {
        /// What the pattern asks for.
        what: String,
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
    },
    /// The month has fewer days.
    NoSuchDay {
        /// The day.
        day: u32,
        /// Days of that month.
        days: u32,
    },
}

impl Misread {
    /// The reason as a clause about `value` under `pattern`.
    pub fn describe(&self, value: &[u8], pattern: &Pattern) -> String {
        let text =
            |from: usize| String::from_utf8_lossy(&value[from.min(value.len())..]).into_owned();
        match self {
            Misread::Expected { what, at } if *at >= value.len() => {
                format!("ends where {what} is expected")
            }
            Misread::Expected { what, at } => {
                let found = text(*at).chars().next().unwrap_or(' ');
                format!(
                    "has '{}' at character {} where {what} is expected",
                    found.escape_debug(),
                    at + 1
                )
            }
            Misread::TooLong { at } => {
                let left = text(*at);
                let last = pattern.last_symbol();
                let plural = if left.len() == 1 { "byte" } else { "bytes" };
                format!(
                    "the pattern ends after '{last}', {} {plural} left: '{}'",
                    left.len(),
                    left.escape_debug()
                )
            }
            Misread::Range { part, number } => format!("{part} {number} does not exist"),
            Misread::NoSuchDay { day, days } => format!("day {day} in a month of {days}"),
        }
    }
}

impl Pattern {
    /// Compiles a pattern.
    ///
    /// # Errors
    /// A symbol that does not exist, one that stands twice, a date that is not whole.
    pub fn compile(source: &str) -> Result<Pattern, PatternError> {
        compile(source)
    }

    /// The pattern as it was written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Whether it reads year, month and day.
    pub fn has_date(&self) -> bool {
        self.has_date
    }

    /// Whether it reads a time of day.
    pub fn has_time(&self) -> bool {
        self.has_time
    }

    /// Whether it reads an offset from UTC.
    pub fn has_offset(&self) -> bool {
        self.has_offset
    }

    /// The most digits of a second's fraction that it reads.
    pub fn fraction_digits(&self) -> u8 {
        self.fraction_digits
    }

    fn last_symbol(&self) -> &str {
        let last = self.source.chars().last().unwrap_or(' ');
        let start = self.source.trim_end_matches(last).len();
        &self.source[start..]
    }

    /// Reads a value.
    ///
    /// # Errors
    /// The first thing in which the value does not follow the pattern.
    #[inline]
    pub fn read(&self, value: &[u8], pivot: i32) -> Result<Moment, Misread> {
        let fast = self.fixed.as_ref().and_then(|fixed| fixed.read(value, pivot, self.has_date));
        fast.map_or_else(|| self.read_steps(value, pivot), Ok)
    }

    /// The long way: every step, and what is wrong at the first that fails.
    fn read_steps(&self, value: &[u8], pivot: i32) -> Result<Moment, Misread> {
        let (mut year, mut month, mut day) = (1970, 1, 1);
        let (mut seconds, mut nanos) = (0i64, 0i64);
        let mut offset = None;
        let mut at = 0;
        for step in &self.steps {
            match *step {
                Step::Literal(literal) => {
                    let mut bytes = [0; 4];
                    let literal_bytes = literal.encode_utf8(&mut bytes).as_bytes();
                    if !value[at..].starts_with(literal_bytes) {
                        return Err(expected(format!("'{}'", literal.escape_debug()), at));
                    }
                    at += literal_bytes.len();
                }
                Step::Year => {
                    let Some(number) = digits(value, at, 4) else {
                        return Err(expected("a year of 4 digits (yyyy)".into(), at));
                    };
                    year = number as i32;
                    at += 4;
                    if year == 0 {
                        return Err(Misread::Range { part: "year", number: 0 });
                    }
                }
                Step::ShortYear => {
                    let Some(number) = digits(value, at, 2) else {
                        return Err(expected("a year of 2 digits (yy)".into(), at));
                    };
                    year = pivot + (number as i32 - pivot).rem_euclid(100);
                    at += 2;
                }
                Step::Number { part, loose } => {
                    let number = match digits(value, at, 2) {
                        Some(number) => {
                            at += 2;
                            number
                        }
                        None => {
                            let one = if loose { digits(value, at, 1) } else { None };
                            let Some(number) = one else {
                                return Err(expected_part(part, loose, at));
                            };
                            at += 1;
                            number
                        }
                    };
                    let (name, _, low, high) = part.facts();
                    if number < low || number > high {
                        return Err(Misread::Range { part: name, number });
                    }
                    match part {
                        Part::Month => month = number,
                        Part::Day => day = number,
                        Part::Hour => seconds += i64::from(number) * 3600,
                        Part::Minute => seconds += i64::from(number) * 60,
                        Part::Second => seconds += i64::from(number),
                    }
                }
                Step::Fraction { most } => {
                    let found = value[at..]
                        .iter()
                        .take(usize::from(most))
                        .take_while(|b| b.is_ascii_digit());
                    let count = found.count();
                    if count == 0 {
                        return Err(expected("a fraction of a second (S)".into(), at));
                    }
                    let number = digits(value, at, count).unwrap_or(0);
                    nanos = i64::from(number) * 10i64.pow(9 - count as u32);
                    at += count;
                }
                Step::Offset { letters, zulu } => {
                    let (seconds, next) = read_offset(value, at, letters, zulu)?;
                    offset = Some(seconds);
                    at = next;
                }
            }
        }
        if at < value.len() {
            return Err(Misread::TooLong { at });
        }
        let days_of_month = days_in_month(year, month);
        if day > days_of_month {
            return Err(Misread::NoSuchDay { day, days: days_of_month });
        }
        let days = if self.has_date { days_from_civil(year, month, day) } else { 0 };
        Ok(Moment { days, nanos: seconds * 1_000_000_000 + nanos, offset })
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.source)
    }
}

#[cold]
fn expected(what: String, at: usize) -> Misread {
    Misread::Expected { what, at }
}

#[cold]
fn expected_part(part: Part, loose: bool, at: usize) -> Misread {
    let (name, symbol, ..) = part.facts();
    let article = if part == Part::Hour { "an" } else { "a" };
    if loose {
        expected(format!("{article} {name} ({symbol})"), at)
    } else {
        expected(format!("{article} {name} of 2 digits ({symbol}{symbol})"), at)
    }
}

/// The number that `count` digits at `at` say, if there are so many.
#[inline]
fn digits(value: &[u8], at: usize, count: usize) -> Option<u32> {
    let bytes = value.get(at..at + count)?;
    bytes.iter().try_fold(0, |number, byte| {
        byte.is_ascii_digit().then(|| number * 10 + u32::from(byte - b'0'))
    })
}

fn read_offset(value: &[u8], at: usize, letters: u8, zulu: bool) -> Result<(i32, usize), Misread> {
    let wanted = || {
        let example = ["+01", "+0100", "+01:00"][usize::from(letters) - 1];
        expected(format!("an offset such as {example}{}", if zulu { " or Z" } else { "" }), at)
    };
    let sign = match value.get(at) {
        Some(b'Z') if zulu => return Ok((0, at + 1)),
        Some(b'+') => 1,
        Some(b'-') => -1,
        _ => return Err(wanted()),
    };
    let hours = digits(value, at + 1, 2).ok_or_else(wanted)?;
    let (minutes, next) = match letters {
        3 if value.get(at + 3) == Some(&b':') => {
            (digits(value, at + 4, 2).ok_or_else(wanted)?, at + 6)
        }
        3 => return Err(wanted()),
        2 => (digits(value, at + 3, 2).ok_or_else(wanted)?, at + 5),
        _ => match digits(value, at + 3, 2) {
            Some(minutes) => (minutes, at + 5),
            None => (0, at + 3),
        },
    };
    if hours > 18 {
        return Err(Misread::Range { part: "offset hour", number: hours });
    }
    if minutes > 59 {
        return Err(Misread::Range { part: "offset minute", number: minutes });
    }
    Ok((sign * (hours * 3600 + minutes * 60) as i32, next))
}

#[cfg(test)]
mod tests {
    use super::super::{format_days, format_nanos};
    use super::*;

    fn read(pattern: &str, value: &str) -> Result<String, String> {
        let pattern =
            Pattern::compile(pattern).unwrap_or_else(|error| panic!("{pattern}: {error:?}"));
        let misread = |misread: Misread| misread.describe(value.as_bytes(), &pattern);
        let moment = pattern.read(value.as_bytes(), DEFAULT_PIVOT).map_err(misread)?;
        let offset = moment.offset.map_or(String::new(), |offset| format!(" {offset:+}"));
        Ok(format!("{}T{}{offset}", format_days(moment.days), format_nanos(moment.nanos)))
    }

    #[test]
    fn values_that_are_read() {
        for (pattern, value, want) in [
            ("yyyy-MM-dd", "2024-03-01", "2024-03-01T00:00:00"),
            ("MM/dd/yy", "12/31/99", "1999-12-31T00:00:00"),
            ("MM/dd/yy", "12/31/68", "2068-12-31T00:00:00"),
            ("d.M.yyyy H:mm", "1.3.2024 9:05", "2024-03-01T09:05:00"),
            ("d.M.yyyy", "11.12.2024", "2024-12-11T00:00:00"),
            ("yyyyMMdd", "20240229", "2024-02-29T00:00:00"),
            (
                "yyyy-MM-dd'T'HH:mm:ss.SSSSSSSXXX",
                "2024-03-01T10:20:30.5+01:30",
                "2024-03-01T10:20:30.500 +5400",
            ),
            ("yyyy-MM-dd'T'HH:mm:ssX", "2024-03-01T10:20:30Z", "2024-03-01T10:20:30 +0"),
            ("yyyy-MM-dd HH:mm:ss XX", "2024-03-01 10:20:30 -0230", "2024-03-01T10:20:30 -9000"),
            ("HH:mm", "23:59", "1970-01-01T23:59:00"),
            (
                "'den' dd. MM. yyyy 'kl.' HH''mm",
                "den 01. 03. 2024 kl. 10'20",
                "2024-03-01T10:20:00",
            ),
        ] {
            assert_eq!(read(pattern, value).as_deref(), Ok(want), "{pattern} {value}");
        }
    }

    #[test]
    fn values_that_are_not() {
        for (pattern, value, want) in [
            ("yyyy-MM-dd", "2024-13-01", "month 13 does not exist"),
            ("dd.MM.yyyy", "31.06.2024", "day 31 in a month of 30"),
            ("dd.MM.yyyy", "29.02.2023", "day 29 in a month of 28"),
            ("MM/dd/yy", "12/31/2024", "the pattern ends after 'yy', 2 bytes left: '24'"),
            (
                "yyyy-MM-dd",
                "2024-3-01",
                "has '3' at character 6 where a month of 2 digits (MM) is expected",
            ),
            ("yyyy-MM-dd", "2024-03", "ends where '-' is expected"),
            ("yyyy-MM-dd HH:mm", "2024-03-01 24:00", "hour 24 does not exist"),
            (
                "yyyy-MM-dd'T'HH:mmXXX",
                "2024-03-01T10:00+0100",
                "has '+' at character 17 where an offset such as +01:00 or Z is expected",
            ),
            ("yyyy-MM-dd", "", "ends where a year of 4 digits (yyyy) is expected"),
            ("yyyy-MM-dd", "0000-01-01", "year 0 does not exist"),
        ] {
            assert_eq!(read(pattern, value), Err(want.to_owned()), "{pattern} {value}");
        }
    }

    proptest::proptest! {
        /// The fast way agrees with the long one on whatever it is given.
        #[test]
        fn both_ways_read_the_same(
            at in 0usize..6, year in 0u32..10_000, parts in proptest::array::uniform5(0u32..70), spoil in proptest::option::of((0usize..20, "[0-9/x ]")),
        ) {
            let pattern = ["yyyy-MM-dd", "MM/dd/yy", "yyyyMMdd", "yyyy-MM-dd HH:mm:ss", "dd.MM.yyyy'T'HHmm", "HH:mm"][at];
            let [month, day, hour, minute, second] = parts;
            let (year4, year2) = (format!("{year:04}"), format!("{:02}", year % 100));
            let two = |n: u32| format!("{n:02}");
            let mut value = pattern.replace('\'', "").replace("yyyy", &year4).replace("yy", &year2).replace("MM", &two(month % 14))
                .replace("dd", &two(day % 34)).replace("HH", &two(hour % 26)).replace("mm", &two(minute)).replace("ss", &two(second));
            if let Some((place, with)) = spoil {
                let place = place % value.len();
                value.replace_range(place..=place, &with);
            }
            let pattern = Pattern::compile(pattern).unwrap();
            assert!(pattern.fixed.is_some());
            proptest::prop_assert_eq!(pattern.read(value.as_bytes(), 1969), pattern.read_steps(value.as_bytes(), 1969), "{}", value);
        }
    }

    #[test]
    fn patterns_that_are_wrong() {
        for (pattern, at, want) in [
            ("", (0, 0), "the pattern is empty"),
            ("%Y-%m-%d", (0, 1), "yyyy for %Y"),
            ("yyyy-mm-dd", (5, 7), "did you mean 'MM'"),
            ("YYYY-MM-dd", (0, 4), "yyyy or yy for the year"),
            ("yyyy-MM-DD", (8, 10), "dd for the day"),
            ("yyyy-MM-ddTHH:mm", (10, 11), "'T' in quotes"),
            ("MM/dd", (0, 5), "the year is missing"),
            ("yyyy-MM-dd mm", (11, 13), "a minute without the hour"),
            ("yyyy-MM-dd HH:MM", (14, 16), "minutes are 'mm'"),
            ("'abc", (0, 4), "never closed"),
            ("-/-", (0, 3), "neither a date nor an hour"),
            ("HH:mm:ss.SSSSSSSSSS", (9, 19), "at most nine S"),
        ] {
            let error = Pattern::compile(pattern).unwrap_err();
            assert_eq!(error.at, at, "{pattern}: {}", error.message);
            assert!(error.message.contains(want), "{pattern}: {}", error.message);
        }
    }
}
