//! Reading a value step by step, and making a day of the numbers found.

use super::calendar::{days_from_civil, days_in_month, days_of_year, weekday, weeks_of_year};
use super::moment::{Misread, Moment};
use super::offsets::{
    AMBIGUOUS_ZONE_NAMES, MOST_OFFSET, Overlap, ZONE_NAMES, Zone, find_zone, letters, offset_in,
    zone_id,
};
use super::quick::Quick;
use super::step::{Calendar, Step, StepKind, digits};
use super::symbols::Field;

/// The first year that a two-digit year can mean, where a column does not say: 69 is 1969, as POSIX
/// has it.
pub const DEFAULT_PIVOT: i32 = 1969;

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

/// Numbers of a value, by field; those that are not said are the first.
struct Parts {
    year: i32,
    month: u32,
    day: u32,
    quarter: u32,
    day_of_year: u32,
    week: u32,
    weekday: Option<u32>,
    hour: u32,
    half: Option<u32>,
    /// Whether the hour is one of a half.
    is_half: bool,
    minute: u32,
    second: u32,
    nanos: i64,
    offset: Option<i32>,
}

#[inline]
pub(super) fn read(
    value: &[u8],
    steps: &[Step],
    calendar: Calendar,
    quick: Option<&Quick>,
    options: &ReadOptions,
) -> Result<Moment, Misread> {
    if let Some(quick) = quick
        && let Some(moment) = quick.read(value, steps, options.pivot, calendar != Calendar::None)
    {
        return Ok(moment);
    }
    read_steps(value, steps, calendar, options)
}

/// The long way: every step, and what is wrong at the first that fails.
pub(super) fn read_steps(
    value: &[u8],
    steps: &[Step],
    calendar: Calendar,
    options: &ReadOptions,
) -> Result<Moment, Misread> {
    let mut parts = Parts {
        year: 1970,
        month: 1,
        day: 1,
        quarter: 1,
        day_of_year: 1,
        week: 1,
        weekday: None,
        hour: 0,
        half: None,
        is_half: false,
        minute: 0,
        second: 0,
        nanos: 0,
        offset: None,
    };
    // A zone that the value names: the offset is known once the time is.
    let mut named = None;
    let mut at = 0;
    for (index, step) in steps.iter().enumerate() {
        let rest = &value[at..];
        let expected = Misread::Expected { step: index, at };
        at += match &step.kind {
            StepKind::Literal(literal) => {
                if !rest.starts_with(literal.as_bytes()) {
                    let same = rest.iter().zip(literal.as_bytes()).take_while(|(a, b)| a == b);
                    let same = same.count();
                    let starts = literal.char_indices().map(|(start, _)| start);
                    let whole = starts.take_while(|start| *start <= same).last().unwrap_or(0);
                    return Err(Misread::Expected { step: index, at: at + whole });
                }
                literal.len()
            }
            StepKind::Number { field, least, most, reserve } => {
                let (number, length) = digits(rest, *least, *most, *reserve).ok_or(expected)?;
                parts.set(*field, number, at, options.pivot)?;
                length
            }
            StepKind::Name { field, names, point } => {
                let (number, length) = names.read(rest).ok_or(expected)?;
                parts.set(*field, number.into(), at, options.pivot)?;
                length + usize::from(*point && rest.get(length) == Some(&b'.'))
            }
            StepKind::Fraction { most } => {
                let (number, length) = digits(rest, 1, *most, 0).ok_or(expected)?;
                parts.nanos = i64::from(number) * 10i64.pow(9 - length as u32);
                length
            }
            StepKind::Offset(form) => {
                let (seconds, length) = form.read(rest).ok_or(expected)?;
                if seconds.abs() > MOST_OFFSET {
                    let number = seconds.unsigned_abs() / 3600;
                    return Err(Misread::Range { part: "offset hour", number, at });
                }
                parts.offset = Some(seconds);
                length
            }
            StepKind::ZoneName => {
                let name = letters(rest);
                let (_, seconds) = ZONE_NAMES
                    .iter()
                    .find(|(known, _)| known.as_bytes().eq_ignore_ascii_case(name))
                    .ok_or_else(|| no_zone(name, at, expected))?;
                parts.offset = Some(*seconds);
                name.len()
            }
            StepKind::ZoneId => {
                let name = zone_id(rest);
                let text = std::str::from_utf8(name).ok().filter(|text| !text.is_empty());
                let unknown = Misread::Zone { at, length: name.len(), meanings: None };
                named = Some(find_zone(text.ok_or(expected)?).ok_or(unknown)?);
                name.len()
            }
        };
    }
    if at < value.len() {
        return Err(Misread::TooLong { at });
    }
    let days = parts.days(calendar)?;
    let hour = parts.hour_of_day()?;
    if calendar != Calendar::None
        && let Some(said) = parts.weekday.filter(|_| calendar != Calendar::Week)
        && said != weekday(days)
    {
        return Err(Misread::Weekday { days });
    }
    let seconds = i64::from(hour * 3600 + parts.minute * 60 + parts.second);
    let mut moment =
        Moment { days, nanos: seconds * 1_000_000_000 + parts.nanos, offset: parts.offset };
    if let Some(zone) = named {
        moment.offset = Some(offset_in(&zone, moment, options.overlap)?);
    }
    Ok(moment)
}

#[cold]
fn no_zone(name: &[u8], at: usize, expected: Misread) -> Misread {
    if name.is_empty() {
        return expected;
    }
    let known =
        AMBIGUOUS_ZONE_NAMES.iter().find(|(known, _)| known.as_bytes().eq_ignore_ascii_case(name));
    Misread::Zone { at, length: name.len(), meanings: known.map(|(_, meanings)| *meanings) }
}

impl Parts {
    #[inline]
    fn set(&mut self, field: Field, number: u32, at: usize, pivot: i32) -> Result<(), Misread> {
        let (low, high) = field.range();
        if number < low || number > high {
            return Err(Misread::Range { part: field.name(), number, at });
        }
        match field {
            Field::Year | Field::WeekYear => self.year = number.cast_signed(),
            Field::ShortYear | Field::ShortWeekYear => {
                self.year = pivot + (number.cast_signed() - pivot).rem_euclid(100);
            }
            Field::Quarter => self.quarter = number,
            Field::Month => self.month = number,
            Field::Day => self.day = number,
            Field::DayOfYear => self.day_of_year = number,
            Field::Week => self.week = number,
            Field::Weekday => self.weekday = Some(number),
            Field::Half => self.half = Some(number),
            Field::Hour => self.hour = number,
            Field::HourTo24 => self.hour = number % 24,
            Field::HourTo12 => (self.hour, self.is_half) = (number % 12, true),
            Field::HourTo11 => (self.hour, self.is_half) = (number, true),
            Field::Minute => self.minute = number,
            Field::Second => self.second = number,
        }
        Ok(())
    }

    fn hour_of_day(&self) -> Result<u32, Misread> {
        match self.half {
            None => Ok(self.hour),
            Some(half) if self.is_half => Ok(self.hour + 12 * half),
            Some(half) if self.hour / 12 == half => Ok(self.hour),
            Some(_) => Err(Misread::Half { hour: self.hour }),
        }
    }

    #[inline]
    fn days(&self, calendar: Calendar) -> Result<i32, Misread> {
        let Parts { year, month, day, .. } = *self;
        Ok(match calendar {
            Calendar::None => 0,
            Calendar::Civil => {
                let days = days_in_month(year, month);
                if day > days {
                    return Err(Misread::NoSuchDay { day, days });
                }
                days_from_civil(year, month, day)
            }
            Calendar::Quarter => days_from_civil(year, self.quarter * 3 - 2, 1),
            Calendar::Ordinal => {
                let (number, most) = (self.day_of_year, days_of_year(year));
                if number > most {
                    return Err(Misread::NotInYear { part: "day", number, most, year });
                }
                days_from_civil(year, 1, 1) + number as i32 - 1
            }
            Calendar::Week => {
                let (number, most) = (self.week, weeks_of_year(year));
                if number > most {
                    return Err(Misread::NotInYear { part: "week", number, most, year });
                }
                // The week with the fourth of January is the first.
                let fourth = days_from_civil(year, 1, 4);
                let monday = fourth - weekday(fourth) as i32 + 1;
                let days = monday + (number as i32 - 1) * 7 + self.weekday.unwrap_or(1) as i32 - 1;
                // The last week of the year 9999 goes on into the next.
                if days > days_from_civil(9999, 12, 31) || days < days_from_civil(1, 1, 1) {
                    return Err(Misread::FarOut);
                }
                days
            }
        })
    }
}
