//! Patterns with numbers of one digit or two, and halves of a day, read from the first byte to the last.
//!
//! `M/d/yyyy h:mm a` has no places that could be looked at together, as [`fixed`](super::fixed) does; but between its
//! numbers stand single bytes, and all that has to be known of a part fits into a few. A property test in
//! [`tests`](super) holds it against the steps.

use super::calendar::{days_from_civil, days_in_month};
use super::fixed::{POWERS, finish, is_tail};
use super::moment::Moment;
use super::step::{Step, StepKind, digits};
use super::symbols::Field;

/// The fast way for such patterns. It says yes or nothing; why a value is misread is found the long way.
///
/// Left for the long way: names of months and days, zones, numbers right behind each other, hours of other clocks than
/// those from 0 to 23 and from 1 to 12.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Loose {
    parts: Vec<Part>,
    /// How many steps these are of.
    covers: usize,
    has_short_year: bool,
    has_half: bool,
}

/// What stands next in a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Part {
    Byte(u8),
    /// A number of so many digits, at least and at most, and its place among those that are read.
    Number {
        least: u8,
        most: u8,
        place: u8,
    },
    /// Digits of a second, at most so many.
    Fraction {
        most: u8,
    },
    /// AM or PM, in any letter case.
    Half,
}

/// Year, month, day, hour, minute and second, where a pattern does not have them.
const NOT_SAID: [u32; 6] = [1970, 1, 1, 0, 0, 0];

impl Loose {
    pub fn of(steps: &[Step]) -> Option<Loose> {
        let is_end = |step: &Step| matches!(step.kind, StepKind::Offset(_));
        let covers = steps.iter().position(is_end).unwrap_or(steps.len());
        let mut loose = Loose { parts: Vec::new(), covers, has_short_year: false, has_half: false };
        let mut is_to_12 = false;
        for step in &steps[..covers] {
            match &step.kind {
                StepKind::Literal(literal) if literal.is_ascii() => {
                    loose.parts.extend(literal.bytes().map(Part::Byte));
                }
                StepKind::Number { field, least, most, reserve: 0 } => {
                    let place = match field {
                        Field::Year | Field::ShortYear => 0,
                        Field::Month => 1,
                        Field::Day => 2,
                        Field::Hour | Field::HourTo12 => 3,
                        Field::Minute => 4,
                        Field::Second => 5,
                        _ => return None,
                    };
                    loose.has_short_year |= *field == Field::ShortYear;
                    is_to_12 |= *field == Field::HourTo12;
                    loose.parts.push(Part::Number { least: *least, most: *most, place });
                }
                StepKind::Name { field: Field::Half, names, .. } => {
                    let reads = |name: &[u8], half| names.read(name) == Some((half, 2));
                    if !reads(b"AM", 0) || !reads(b"PM", 1) {
                        return None;
                    }
                    loose.has_half = true;
                    loose.parts.push(Part::Half);
                }
                StepKind::Fraction { most } => loose.parts.push(Part::Fraction { most: *most }),
                _ => return None,
            }
        }
        (loose.has_half == is_to_12 && steps[covers..].iter().all(is_tail)).then_some(loose)
    }

    #[inline]
    pub fn read(&self, value: &[u8], steps: &[Step], pivot: i32, has_date: bool) -> Option<Moment> {
        let digit = |at: usize| {
            let digit = value.get(at).map_or(u8::MAX, |byte| byte.wrapping_sub(b'0'));
            (digit < 10).then_some(u32::from(digit))
        };
        let (mut numbers, mut fraction, mut half, mut at) = (NOT_SAID, 0, 0, 0);
        for part in &self.parts {
            match *part {
                Part::Byte(byte) => {
                    if value.get(at) != Some(&byte) {
                        return None;
                    }
                    at += 1;
                }
                Part::Number { least, most, place } => {
                    let (mut number, mut length) = (0, 0);
                    while length < most
                        && let Some(digit) = digit(at)
                    {
                        (number, length, at) = (number * 10 + digit, length + 1, at + 1);
                    }
                    if length < least {
                        return None;
                    }
                    numbers[usize::from(place)] = number;
                }
                Part::Fraction { most } => {
                    let (number, length) = digits(value.get(at..)?, 1, most, 0)?;
                    fraction = i64::from(number) * POWERS[9 - length];
                    at += length;
                }
                Part::Half => {
                    let [first, second] = *value.get(at..)?.first_chunk()?;
                    half = match first | 0x20 {
                        b'a' => 0,
                        b'p' => 12,
                        _ => return None,
                    };
                    at += 2;
                    // Whether a point belongs to it the steps know.
                    if second | 0x20 != b'm' || value.get(at) == Some(&b'.') {
                        return None;
                    }
                }
            }
        }
        let [year, month, day, mut hour, minute, second] = numbers;
        if self.has_half {
            if !(1..=12).contains(&hour) {
                return None;
            }
            hour = hour % 12 + half;
        }
        if hour > 23 || minute > 59 || second > 59 {
            return None;
        }
        let mut days = 0;
        if has_date {
            let year = match self.has_short_year {
                true => pivot + (year.cast_signed() - pivot).rem_euclid(100),
                false => year.cast_signed(),
            };
            if year < 1 || !(1..=12).contains(&month) || day < 1 || day > days_in_month(year, month)
            {
                return None;
            }
            days = days_from_civil(year, month, day);
        }
        let nanos = i64::from(hour * 3600 + minute * 60 + second) * 1_000_000_000 + fraction;
        let moment = Moment { days, nanos, offset: None };
        finish(&value[at..], &steps[self.covers..], moment)
    }
}
