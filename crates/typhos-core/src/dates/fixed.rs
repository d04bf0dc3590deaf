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
use crate::bytewise::{self, HIGH};

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
    year: Year,
    /// Places of the last digits of month, day, hour, minute and second; of what is not there a place of its own.
    parts: [u8; 5],
    /// What is looked at eight bytes at a time before anything is read.
    words: Vec<Word>,
}

/// Where the last digits of the numbers of a year stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Year {
    /// There is none.
    None,
    /// Two digits.
    Short(u8),
    /// Four digits: of the first two, and of the others.
    Long(u8, u8),
}

/// Numbers of two digits, each at the place of its last digit.
type Numbers = [u8; 32];

/// The place of a month or a day that is not there: it is the first.
const FIRST: u8 = 30;

/// The place of an hour, a minute or a second that is not there.
const NONE: u8 = 31;

/// The longest text of places: behind it those stand that are not there.
const LONGEST: usize = 24;

/// What eight bytes have to be: which of them are digits, and what the others are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Word {
    /// Where they stand; the last ones overlap those before.
    at: u8,
    /// The literals, and the digit zero where digits stand.
    expected: u64,
    /// For each byte, what brings anything but what may stand there to its highest bit, by exclusive or with what is expected.
    to_high: u64,
}

impl Word {
    /// But for what is expected, a literal is zero and a digit at most nine. What is more has its highest bit, or gets it
    /// when the rest up to there is added; what runs over into the next byte has it.
    #[inline(always)]
    fn fits(self, word: u64) -> bool {
        let other = word ^ self.expected;
        (other.wrapping_add(self.to_high) | other) & HIGH == 0
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
                expected: u64::from_le_bytes(bytes.map(|byte| byte.unwrap_or(b'0'))),
                to_high: u64::from_le_bytes(bytes.map(|byte| byte.map_or(0x76, |_| 0x7f))),
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
            year: Year::None,
            parts: [FIRST, FIRST, NONE, NONE, NONE],
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
                        (Field::Year, 4) => fixed.year = Year::Long(at + 1, at + 3),
                        (Field::ShortYear, 2) if fixed.year == Year::None => {
                            fixed.year = Year::Short(at + 1)
                        }
                        (Field::ShortYear, 2) => {}
                        (Field::Month, 2) => fixed.parts[0] = at + 1,
                        (Field::Day, 2) => fixed.parts[1] = at + 1,
                        (Field::Hour, 2) => fixed.parts[2] = at + 1,
                        (Field::Minute, 2) => fixed.parts[3] = at + 1,
                        (Field::Second, 2) => fixed.parts[4] = at + 1,
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
        let is_read = fixed.length <= LONGEST && steps[fixed.covers..].iter().all(is_tail);
        is_read.then_some(fixed)
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
        let mut numbers: Numbers = [0; 32];
        numbers[usize::from(FIRST)] = 1;
        let mut note = |place: Word, word: u64, before: u64| {
            let at = usize::from(place.at);
            numbers[at..at + 8].copy_from_slice(&pairs(word, before).to_le_bytes());
            place.fits(word)
        };
        let fits = match value.first_chunk::<8>() {
            Some(first) => {
                let first = u64::from_le_bytes(*first);
                let load = |at: usize| {
                    u64::from_le_bytes(value[at..at + 8].try_into().expect("eight bytes"))
                };
                self.words.iter().all(|place| match usize::from(place.at) {
                    0 => note(*place, first, first << 8),
                    at => note(*place, load(at), load(at - 1)),
                })
            }
            None => {
                let mut bytes = [0; 8];
                bytes[..value.len()].copy_from_slice(value);
                let word = u64::from_le_bytes(bytes);
                self.words.iter().all(|place| note(*place, word, word << 8))
            }
        };
        if !fits {
            return None;
        }
        let number = |place: u8| u32::from(numbers[usize::from(place) % numbers.len()]);
        let [month, day, hour, minute, second] = self.parts.map(number);
        if hour > 23 || minute > 59 || second > 59 {
            return None;
        }
        let nanos = i64::from(hour * 3600 + minute * 60 + second) * 1_000_000_000;
        if !has_date {
            return Some(Moment { days: 0, nanos, offset: None });
        }
        let year = match self.year {
            Year::Long(century, year) => (number(century) * 100 + number(year)).cast_signed(),
            Year::Short(year) => pivot + (number(year).cast_signed() - pivot).rem_euclid(100),
            Year::None => return None,
        };
        if year < 1 || !(1..=12).contains(&month) || day < 1 {
            return None;
        }
        // Most days are ones that every month has.
        if day > 28 && day > days_in_month(year, month) {
            return None;
        }
        Some(Moment { days: days_from_civil(year, month, day), nanos, offset: None })
    }
}

/// For each byte of a word the number of two digits that it ends, given the word that begins one byte before. What is no digit
/// gives some number that is not asked for.
#[inline(always)]
fn pairs(word: u64, before: u64) -> u64 {
    const DIGITS: u64 = bytewise::all(0x0f);
    (word & DIGITS) + (before & DIGITS) * 10
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
