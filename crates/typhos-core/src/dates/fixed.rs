//! Patterns of fixed width, read by the places of their digits.
//!
//! Most dates in files are written with all their zeros. For those a pattern is a list of places, and
//! reading is a length, a few literal bytes and a few pairs of digits. A property test in
//! [`tests`](super) holds it against the steps.

use super::calendar::{days_from_civil, days_in_month};
use super::moment::Moment;
use super::offsets::MOST_OFFSET;
use super::step::{Step, StepKind, digits};
use super::symbols::Field;

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
    /// What is looked at eight bytes at a time before anything is read.
    words: Vec<Word>,
}

/// What eight bytes have to be: which of them are digits, and what the others are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Word {
    /// Where they stand; the last ones overlap those before.
    at: u8,
    /// All ones where a literal stands.
    literals: u64,
    /// The literals, and zeros where digits stand.
    expected: u64,
}

const HIGH: u64 = 0xf0f0_f0f0_f0f0_f0f0;
const ZEROS: u64 = 0x3030_3030_3030_3030;
const SIXES: u64 = 0x0606_0606_0606_0606;

impl Word {
    /// Digits have 3 for their upper half, and still have it when six is added to them.
    #[inline(always)]
    fn fits(self, word: u64) -> bool {
        let digits = (word & !self.literals) | (ZEROS & self.literals);
        let upper = (digits & HIGH) | ((digits.wrapping_add(SIXES) & HIGH) >> 4);
        word & self.literals == self.expected && upper == ZEROS | (ZEROS >> 4)
    }

    /// The words of a text of places, given what stands in them: a literal, or a digit.
    fn of(places: &[Option<u8>]) -> Vec<Word> {
        let count = places.len().div_ceil(8);
        let word = |index: usize| {
            let at = (index * 8).min(places.len().saturating_sub(8));
            // A text shorter than a word is looked at as if zeros stood behind it.
            let bytes: [Option<u8>; 8] =
                std::array::from_fn(|place| places.get(at + place).copied().unwrap_or(Some(0)));
            Word {
                at: at as u8,
                literals: u64::from_le_bytes(bytes.map(|byte| byte.map_or(0, |_| 0xff))),
                expected: u64::from_le_bytes(bytes.map(|byte| byte.unwrap_or(0))),
            }
        };
        (0..count).map(word).collect()
    }
}

impl Fixed {
    pub fn of(steps: &[Step]) -> Option<Fixed> {
        let mut fixed = Fixed {
            length: 0,
            covers: 0,
            year: None,
            short_year: None,
            parts: [None; 5],
            words: Vec::new(),
        };
        let mut places = Vec::new();
        for step in steps {
            let at = u8::try_from(fixed.length).ok()?;
            fixed.length += match &step.kind {
                StepKind::Literal(literal) if literal.is_ascii() => {
                    places.extend(literal.bytes().map(Some));
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
            places.resize(fixed.length, None);
            fixed.covers += 1;
        }
        fixed.words = Word::of(&places);
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
        let value = &value[..self.length];
        let fits = match value.first_chunk::<8>() {
            Some(_) => self.words.iter().all(|word| {
                let at = usize::from(word.at);
                let bytes = value[at..at + 8].try_into().expect("eight bytes");
                word.fits(u64::from_le_bytes(bytes))
            }),
            None => {
                let mut bytes = [0; 8];
                bytes[..value.len()].copy_from_slice(value);
                self.words.iter().all(|word| word.fits(u64::from_le_bytes(bytes)))
            }
        };
        if !fits {
            return None;
        }
        // They are digits.
        let two = |at: u8| {
            let at = usize::from(at);
            u32::from(value[at]) * 10 + u32::from(value[at + 1]) - 11 * u32::from(b'0')
        };
        let part = |index: usize, otherwise: u32| self.parts[index].map_or(otherwise, two);
        let (hour, minute, second) = (part(2, 0), part(3, 0), part(4, 0));
        if hour > 23 || minute > 59 || second > 59 {
            return None;
        }
        let nanos = i64::from(hour * 3600 + minute * 60 + second) * 1_000_000_000;
        if !has_date {
            return Some(Moment { days: 0, nanos, offset: None });
        }
        let year = match (self.year, self.short_year) {
            (Some(at), _) => two(at) * 100 + two(at + 2),
            (_, Some(at)) => (pivot + (two(at) as i32 - pivot).rem_euclid(100)).cast_unsigned(),
            (None, None) => return None,
        };
        let (month, day) = (part(0, 1), part(1, 1));
        let year = year.cast_signed();
        if year < 1 || !(1..=12).contains(&month) || day < 1 || day > days_in_month(year, month) {
            return None;
        }
        Some(Moment { days: days_from_civil(year, month, day), nanos, offset: None })
    }
}

/// Whether a step is one that [`finish`] reads.
pub(super) fn is_tail(step: &Step) -> bool {
    matches!(step.kind, StepKind::Fraction { .. } | StepKind::Offset(_) | StepKind::Literal(_))
}

/// Reads what has no fixed width: fractions, offsets, and what is between them.
pub(super) fn finish(mut rest: &[u8], tail: &[Step], mut moment: Moment) -> Option<Moment> {
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
pub(super) const POWERS: [i64; 9] =
    [1, 10, 100, 1_000, 10_000, 100_000, 1_000_000, 10_000_000, 100_000_000];
