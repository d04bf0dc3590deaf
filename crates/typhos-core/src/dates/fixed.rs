//! Patterns of fixed width, read by the places of their digits.
//!
//! Most dates in files are written with all their zeros. For those a pattern is a list of places, and
//! reading is a length, a few literal bytes and a few pairs of digits. A property test in
//! [`tests`](super) holds it against the steps.

use super::offsets::MOST_OFFSET;
use super::pattern::{Moment, Step, StepKind};
use super::read::digits;
use super::symbols::Field;
use super::{days_from_civil, days_in_month};

/// The fast way for patterns whose parts have a fixed width: places of the digits, and of the literal
/// bytes between them. Fractions and offsets may stand behind those. It says yes or nothing; why a value
/// is misread is found the long way.
///
/// Left for the long way: loose parts, names, zones, literals that are not ASCII.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Fixed {
    length: usize,
    /// How many steps these places are of; those behind have no fixed width.
    covers: usize,
    year: Option<u8>,
    short_year: Option<u8>,
    /// Places of month, day, hour, minute and second.
    parts: [Option<u8>; 5],
    literals: Vec<(u8, u8)>,
}

impl Fixed {
    pub fn of(steps: &[Step]) -> Option<Fixed> {
        let mut fixed = Fixed {
            length: 0,
            covers: 0,
            year: None,
            short_year: None,
            parts: [None; 5],
            literals: Vec::new(),
        };
        for step in steps {
            let at = u8::try_from(fixed.length).ok()?;
            fixed.length += match &step.kind {
                StepKind::Literal(literal) if literal.is_ascii() => {
                    let bytes = (at..).zip(literal.bytes());
                    fixed.literals.extend(bytes);
                    literal.len()
                }
                StepKind::Number { field, least, most, .. } if least == most => {
                    match (field, most) {
                        (Field::Year, 4) => fixed.year = Some(at),
                        (Field::ShortYear, 2) => fixed.short_year = Some(at),
                        (Field::Month, 2) => fixed.parts[0] = Some(at),
                        (Field::Day, 2) => fixed.parts[1] = Some(at),
                        (Field::Hour, 2) => fixed.parts[2] = Some(at),
                        (Field::Minute, 2) => fixed.parts[3] = Some(at),
                        (Field::Second, 2) => fixed.parts[4] = Some(at),
                        _ => return None,
                    }
                    usize::from(*most)
                }
                StepKind::Fraction { .. } | StepKind::Offset(_) => break,
                _ => return None,
            };
            fixed.covers += 1;
        }
        let is_tail = |step: &Step| {
            matches!(
                step.kind,
                StepKind::Fraction { .. } | StepKind::Offset(_) | StepKind::Literal(_)
            )
        };
        if !steps[fixed.covers..].iter().all(is_tail) {
            return None;
        }
        Some(fixed)
    }

    #[inline]
    pub fn read(&self, value: &[u8], steps: &[Step], pivot: i32, has_date: bool) -> Option<Moment> {
        let tail = &steps[self.covers..];
        if value.len() < self.length || tail.is_empty() && value.len() > self.length {
            return None;
        }
        let moment = self.places(value, pivot, has_date)?;
        if tail.is_empty() { Some(moment) } else { finish(&value[self.length..], tail, moment) }
    }

    /// What stands in the places.
    #[inline(always)]
    fn places(&self, value: &[u8], pivot: i32, has_date: bool) -> Option<Moment> {
        if self.literals.iter().any(|(at, byte)| value[usize::from(*at)] != *byte) {
            return None;
        }
        let two = |at: usize| -> Option<u32> {
            let (tens, ones) = (value[at].wrapping_sub(b'0'), value[at + 1].wrapping_sub(b'0'));
            (tens <= 9 && ones <= 9).then(|| u32::from(tens) * 10 + u32::from(ones))
        };
        let part = |index: usize, otherwise: u32| match self.parts[index] {
            Some(at) => two(usize::from(at)),
            None => Some(otherwise),
        };
        let (hour, minute, second) = (part(2, 0)?, part(3, 0)?, part(4, 0)?);
        if hour > 23 || minute > 59 || second > 59 {
            return None;
        }
        let nanos = i64::from(hour * 3600 + minute * 60 + second) * 1_000_000_000;
        if !has_date {
            return Some(Moment { days: 0, nanos, offset: None });
        }
        let year = match (self.year, self.short_year) {
            (Some(at), _) => two(usize::from(at))? * 100 + two(usize::from(at) + 2)?,
            (_, Some(at)) => {
                (pivot + (two(usize::from(at))? as i32 - pivot).rem_euclid(100)).cast_unsigned()
            }
            (None, None) => return None,
        };
        let (month, day) = (part(0, 1)?, part(1, 1)?);
        let year = year.cast_signed();
        if year < 1 || !(1..=12).contains(&month) || day < 1 || day > days_in_month(year, month) {
            return None;
        }
        Some(Moment { days: days_from_civil(year, month, day), nanos, offset: None })
    }
}

/// Reads what has no fixed width: fractions, offsets, and what is between them.
fn finish(mut rest: &[u8], tail: &[Step], mut moment: Moment) -> Option<Moment> {
    for step in tail {
        let length = match &step.kind {
            StepKind::Literal(literal) => {
                rest.starts_with(literal.as_bytes()).then_some(literal.len())?
            }
            StepKind::Fraction { most } => {
                let (number, length) = digits(rest, 1, *most, 0)?;
                moment.nanos += i64::from(number) * POWERS[9 - length];
                length
            }
            StepKind::Offset(form) => {
                let (seconds, length) = form.read(rest)?;
                moment.offset = Some(seconds).filter(|seconds| seconds.abs() <= MOST_OFFSET);
                moment.offset?;
                length
            }
            _ => return None,
        };
        rest = &rest[length..];
    }
    rest.is_empty().then_some(moment)
}

/// Powers of ten up to a second's nanoseconds.
const POWERS: [i64; 9] = [1, 10, 100, 1_000, 10_000, 100_000, 1_000_000, 10_000_000, 100_000_000];
