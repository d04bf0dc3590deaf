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

use super::calendar::{format_days, weekday_name};
use super::counts::Count;
use super::moment::{Misread, Moment};
use super::quick::Quick;
use super::read::{self, ReadOptions};
use super::step::{Calendar, Step, StepKind};
use super::symbols::Field;

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
        quick: Option<Quick>,
    },
    Count(Count),
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
}

impl Pattern {
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
            Program::Steps { steps, quick: Some(Quick::Fixed(fixed)), .. }
                if options.zone.is_none() =>
            {
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
            Program::Steps { steps, calendar, quick } => {
                let moment = read::read(value, steps, *calendar, quick.as_ref(), options)?;
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
