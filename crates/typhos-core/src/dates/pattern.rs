//! The pattern language: what a pattern is, and what is wrong with a value that it does not read.
//!
//! The symbols are date field symbols of Unicode Technical Standard #35; [`SYMBOLS`](super::SYMBOLS) lists
//! those that are read, and `docs/date-patterns.md` where and why they deviate from the standard. A
//! pattern with a `%` in it is read as POSIX `strptime` has it, and some words are patterns of their own
//! ([`COUNTS`](super::COUNTS)). Any other ASCII letter is refused, so that a later symbol can take its
//! place; what is not a letter stands for itself.
//!
//! A value is read strictly: to its last byte, and only where the day exists.

use std::fmt;
use std::sync::Arc;

use super::compile::compile;
use super::counts::Count;
use super::fixed::Fixed;
use super::names::{DEFAULT_LOCALE, Names};
use super::offsets::{OffsetForm, Overlap, Zone};
use super::symbols::Field;
use super::{DAY_NANOS, format_days, weekday_name};

/// The first year that a two-digit year can mean, where a column does not say: 69 is 1969, as POSIX
/// has it.
pub const DEFAULT_PIVOT: i32 = 1969;

/// A compiled date pattern.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    pub(super) source: String,
    /// The pattern in symbols, where it was written in another way.
    pub(super) symbols: Option<String>,
    pub(super) program: Program,
    pub(super) has_date: bool,
    pub(super) has_time: bool,
    pub(super) has_offset: bool,
    pub(super) fraction_digits: u8,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Program {
    Steps {
        steps: Vec<Step>,
        calendar: Calendar,
        /// The fast way through the first steps, where there is one.
        fixed: Option<Fixed>,
    },
    Count(Count),
}

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

/// A pattern that cannot be read: where, and what was most likely meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PatternError {
    /// Byte range of the wrong symbol in the pattern.
    pub at: (usize, usize),
    /// What is wrong, and what to write instead.
    pub message: String,
}

/// What a column says of its dates beside the patterns.
#[derive(Debug, Clone, PartialEq)]
pub struct ReadOptions {
    /// The first year that a two-digit year can mean.
    pub pivot: i32,
    /// The zone of times without an offset.
    pub zone: Option<Zone>,
    /// Which of two instants is meant, where clocks are turned back.
    pub overlap: Option<Overlap>,
}

impl Default for ReadOptions {
    fn default() -> Self {
        ReadOptions { pivot: DEFAULT_PIVOT, zone: None, overlap: None }
    }
}

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
    /// The reason as a clause about `value` under `pattern`.
    pub fn describe(&self, value: &[u8], pattern: &Pattern) -> String {
        let text =
            |from: usize| String::from_utf8_lossy(&value[from.min(value.len())..]).into_owned();
        match *self {
            Misread::Expected { step, at } if at >= value.len() => {
                format!("ends where {} is expected", pattern.expects(step))
            }
            Misread::Expected { step, at } => {
                let found = text(at).chars().next().unwrap_or(' ');
                format!(
                    "has '{}' at character {} where {} is expected",
                    found.escape_debug(),
                    String::from_utf8_lossy(&value[..at]).chars().count() + 1,
                    pattern.expects(step)
                )
            }
            Misread::TooLong { at } => {
                let left = text(at);
                let last = pattern.last_symbol();
                let plural = if left.len() == 1 { "byte" } else { "bytes" };
                format!("ends after '{last}', {} {plural} left: '{}'", left.len(), left.escape_debug())
            }
            Misread::Range { part: "second", number: 60, .. } => {
                "second 60 does not exist: leap seconds are not on the calendar of any target".into()
            }
            Misread::Range { part: "hour", number: 24, .. } => {
                "hour 24 does not exist; only 'kk' reads it, as 0 of the same day".into()
            }
            Misread::Range { part, number, .. } => format!("{part} {number} does not exist"),
            Misread::NoSuchDay { day, days } => format!("day {day} in a month of {days}"),
            Misread::NotInYear { part, number, most, year } => {
                format!("{part} {number} in the year {year}, which has {most}")
            }
            Misread::Weekday { days } => format!("{} was a {}", format_days(days), weekday_name(days)),
            Misread::Half { hour } => {
                format!("hour {hour} is in the other half of the day")
            }
            Misread::Zone { at, length, meanings } => {
                let name = text(at).chars().take(length).collect::<String>();
                match meanings {
                    Some(meanings) => {
                        format!("'{name}' means several zones ({meanings}); write an offset instead")
                    }
                    None => format!("there is no time zone '{}'", name.escape_debug()),
                }
            }
            Misread::Gap => "the clocks of the zone were turned on over this time".into(),
            Misread::Overlap => {
                "the clocks of the zone showed this time twice; overlap = \"earlier\" or \"later\" says which is meant".into()
            }
            Misread::NeverWas => "day 60 of the sheet is 29 February 1900, which never was".into(),
            Misread::FarOut => "lies outside of the years 1 to 9999".into(),
        }
    }

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

impl Pattern {
    /// Compiles a pattern; names are those of the English language.
    ///
    /// # Errors
    /// A symbol that does not exist, one that stands twice, a date that is not whole.
    pub fn compile(source: &str) -> Result<Pattern, PatternError> {
        compile(source, DEFAULT_LOCALE)
    }

    /// Compiles a pattern whose names are those of a language.
    ///
    /// # Errors
    /// As [`compile`](Self::compile), and a language that there are no names for.
    pub fn compile_in(source: &str, locale: &str) -> Result<Pattern, PatternError> {
        compile(source, locale)
    }

    /// The pattern as it was written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// The pattern in symbols, where it was written in another way.
    pub fn in_symbols(&self) -> Option<&str> {
        self.symbols.as_deref()
    }

    /// Whether it reads a day.
    pub fn has_date(&self) -> bool {
        self.has_date
    }

    /// Whether it reads a time of day.
    pub fn has_time(&self) -> bool {
        self.has_time
    }

    /// Whether it reads an offset from UTC, or says a point in time otherwise.
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
        if self.source[..start].ends_with('%') {
            &self.source[start - 1..]
        } else {
            &self.source[start..]
        }
    }

    /// What a step expects, with its article.
    fn expects(&self, step: usize) -> String {
        let Program::Steps { steps, .. } = &self.program else { return "a number".into() };
        let Some(step) = steps.get(step) else { return "the end".into() };
        let symbol = &self.source[step.place.0..step.place.1];
        match &step.kind {
            StepKind::Literal(literal) => format!("'{}'", literal.escape_debug()),
            StepKind::Number { field, least, most, .. } => {
                let name = field.name();
                let article = if name.starts_with('h') { "an" } else { "a" };
                if least == most && *most > 1 {
                    format!("{article} {name} of {most} digits ({symbol})")
                } else {
                    format!("{article} {name} ({symbol})")
                }
            }
            StepKind::Name { field: Field::Half, .. } => format!("AM or PM ({symbol})"),
            StepKind::Name { field, names, .. } => {
                let first = |number| names.iter().find(|(_, known)| *known == number);
                let examples: Vec<_> = (1..=3).filter_map(first).map(|(name, _)| name).collect();
                format!("the name of a {} ({symbol}: {}, …)", field.name(), examples.join(", "))
            }
            StepKind::Fraction { .. } => "a fraction of a second (S)".into(),
            StepKind::Offset(form) => form.example().into(),
            StepKind::ZoneId => "the name of a time zone such as Europe/Oslo".into(),
            StepKind::ZoneName => "the abbreviation of a time zone such as CET".into(),
        }
    }

    /// Reads a value, where nobody asks why it is misread: with several patterns, most values are read
    /// by another one.
    #[inline]
    pub fn read_if(&self, value: &[u8], options: &ReadOptions) -> Option<Moment> {
        match &self.program {
            Program::Steps { steps, fixed: Some(fixed), .. } if options.zone.is_none() => {
                fixed.read(value, steps, options.pivot, self.has_date)
            }
            _ => self.read(value, options).ok(),
        }
    }

    /// Reads a value.
    ///
    /// # Errors
    /// The first thing in which the value does not follow the pattern.
    #[inline]
    pub fn read(&self, value: &[u8], options: &ReadOptions) -> Result<Moment, Misread> {
        match &self.program {
            Program::Steps { steps, calendar, fixed } => {
                let moment = super::read::read(value, steps, *calendar, fixed.as_ref(), options)?;
                match &options.zone {
                    Some(zone) if moment.offset.is_none() && self.has_date => {
                        let offset = Some(zone.offset(moment, options.overlap)?);
                        Ok(Moment { offset, ..moment })
                    }
                    _ => Ok(moment),
                }
            }
            Program::Count(count) => count.read(value),
        }
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.source)
    }
}
