//! Short runs of digits, as most keys and codes are: taken note of many at a time.
//!
//! What [`Facts`] would note of each is worked out from one word of eight bytes and a few registers, and
//! written down once for a group of values. Only what leaves nothing else to note goes this way: a value
//! that might become an example, lose something as a float or be a day is left to the usual one.

use super::numbers::{FLOAT32_SURE, width_of};
use super::{CLASSES, Class, Facts};
use crate::bytewise::ZEROS;
use crate::readings::{COMPACT_DAYS, number_of_digits};
use crate::text::LineRef;

/// A value of one to eight digits.
#[derive(Debug, Clone, Copy)]
pub(super) struct ShortDigits {
    /// The digits, the first one in the highest byte, and zeros: ordered as the texts are.
    prefix: u64,
    number: i64,
    length: u32,
}

impl ShortDigits {
    /// Reads `text[start..end]`. `None` says only that the usual way has to be taken.
    #[inline(always)]
    pub fn read(text: &[u8], start: usize, end: usize) -> Option<ShortDigits> {
        let word = u64::from_be_bytes(*text.get(start..)?.first_chunk::<8>()?);
        let length = (end - start) as u32;
        if !(1..=8).contains(&length) {
            return None;
        }
        let missing = 64 - 8 * length;
        let number = number_of_digits(((word ^ ZEROS) >> missing).swap_bytes())?;
        Some(ShortDigits { prefix: word >> missing << missing, number, length })
    }

    /// The number that they are.
    pub fn number(self) -> i64 {
        self.number
    }

    /// The place of their tally among [`DIGIT_TALLIES`].
    #[inline(always)]
    fn kind(self) -> usize {
        let is_code = self.length > 1 && self.prefix >> 56 == u64::from(b'0');
        if is_code { CODE } else { width_of(self.number) }
    }
}

/// The widths that unsigned numbers of eight digits have are the first ones.
const WIDTHS_OF_DIGITS: usize = 5;

/// Codes are told apart behind them.
const CODE: usize = WIDTHS_OF_DIGITS;

/// The tallies of [`Facts`] that short digits belong to.
const DIGIT_TALLIES: [usize; WIDTHS_OF_DIGITS + 1] = {
    let widths = CLASSES.len();
    [widths, widths + 1, widths + 2, widths + 3, widths + 4, Class::Code as usize]
};

/// What is noted of the short digits among some neighbouring values.
#[derive(Debug)]
pub(super) struct DigitGroup {
    /// Whether nothing but the count is noted of values of each kind.
    is_settled: [bool; DIGIT_TALLIES.len()],
    is_loss_known: bool,
    is_spread: bool,
    counts: [u64; DIGIT_TALLIES.len()],
    bytes: u64,
    lengths: (u32, u32),
    prefixes: (u64, u64),
    /// The smallest and largest that are no codes.
    numbers: (i64, i64),
}

impl DigitGroup {
    /// No values yet, of a column of which this is known; the first of them stands at `first`.
    pub fn of(facts: &Facts, first: LineRef) -> DigitGroup {
        let is_free = facts.said.is_empty();
        let is_settled = |tally: usize| is_free && facts.tallies[tally].is_settled(first);
        DigitGroup {
            is_settled: DIGIT_TALLIES.map(is_settled),
            is_loss_known: facts.numbers.knows_float32_loss(first),
            is_spread: facts.tallies[DIGIT_TALLIES[CODE]].count == 0,
            counts: [0; DIGIT_TALLIES.len()],
            bytes: 0,
            lengths: (u32::MAX, 0),
            prefixes: (u64::MAX, 0),
            numbers: (i64::MAX, i64::MIN),
        }
    }

    /// Whether any value can be added.
    pub fn is_open(&self) -> bool {
        self.is_settled.contains(&true)
    }

    /// Adds a value of the group, seen `count` times, if nothing but what is noted here is to be noted of it; says
    /// whether that is so.
    #[inline(always)]
    pub fn add(&mut self, facts: &mut Facts, digits: ShortDigits, count: u64) -> bool {
        let ShortDigits { prefix, number, length } = digits;
        let kind = digits.kind();
        if !self.is_settled[kind] {
            return false;
        }
        if kind != CODE {
            let may_lose = number > FLOAT32_SURE && !self.is_loss_known;
            if may_lose || length == 8 && COMPACT_DAYS.contains(&number) {
                return false;
            }
            self.numbers = (self.numbers.0.min(number), self.numbers.1.max(number));
            if self.is_spread {
                facts.numbers.spread(number as f64, count);
            }
        }
        self.counts[kind] += count;
        self.bytes += u64::from(length) * count;
        self.lengths = (self.lengths.0.min(length), self.lengths.1.max(length));
        self.prefixes = (self.prefixes.0.min(prefix), self.prefixes.1.max(prefix));
        true
    }

    /// Notes all of them.
    pub fn finish(self, facts: &mut Facts) {
        let count = self.counts.iter().sum();
        if count == 0 {
            return;
        }
        for (tally, count) in DIGIT_TALLIES.into_iter().zip(self.counts) {
            facts.tallies[tally].count += count;
        }
        facts.numbers.add_small_range(self.numbers);
        let lengths = (u64::from(self.lengths.0), u64::from(self.lengths.1));
        facts.text.add_short(count, self.bytes, lengths, self.prefixes);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn widths_of_eight_digits_are_the_first() {
        assert_eq!(width_of(0), 0);
        assert_eq!(width_of(99_999_999), WIDTHS_OF_DIGITS - 1);
    }

    proptest! {
        /// Short digits are what they say, and nothing else is.
        #[test]
        fn digits_are_read(value in "[0-9]{1,9}|[ -~]{1,8}|[0-9]{0,7}[/:][0-9]{0,3}", before in "[0-9,]{0,9}", after in "[0-9,]{8,9}") {
            let text = format!("{before}{value}{after}");
            let read = ShortDigits::read(text.as_bytes(), before.len(), before.len() + value.len());
            let is_short = value.len() <= 8 && value.bytes().all(|byte| byte.is_ascii_digit());
            prop_assert_eq!(read.map(ShortDigits::number), is_short.then(|| value.parse::<i64>().unwrap()));
            if let Some(read) = read {
                prop_assert_eq!(read.length as usize, value.len());
                prop_assert_eq!(&read.prefix.to_be_bytes()[..value.len()], value.as_bytes());
                prop_assert_eq!(read.kind() == CODE, value.len() > 1 && value.starts_with('0'));
            }
        }

        /// In groups or one by one: the same facts.
        #[test]
        fn groups_give_the_facts_of_their_values(
            values in proptest::collection::vec(prop_oneof![3 => "[0-9]{1,8}", 2 => "[1-9][0-9]{7}", 1 => "20[0-9]{6}"], 1..60),
            known in 0usize..60, codes: bool, said in proptest::option::of(Just("7".to_owned())), line in 1u64..40,
        ) {
            let said: Vec<String> = said.into_iter().collect();
            let values: Vec<&String> = values.iter().filter(|value| codes || !value.starts_with('0')).collect();
            let mut singly = Facts::new(&said, false, 512);
            let (first, rest) = values.split_at(known.min(values.len()));
            // Those that are known may stand behind the others.
            for (at, value) in (line..).zip(first) {
                singly.add_valid(value.as_bytes(), 1, LineRef { part: 0, line: at });
            }
            let mut grouped = singly.clone();
            let place = |at: usize| LineRef { part: 0, line: 20 + at as u64 };
            let mut group = DigitGroup::of(&grouped, place(0));
            for (at, value) in rest.iter().enumerate() {
                singly.add_valid(value.as_bytes(), 1, place(at));
                let padded = format!("{value},,,,,,,,");
                let short = ShortDigits::read(padded.as_bytes(), 0, value.len()).unwrap();
                if !group.add(&mut grouped, short, 1) {
                    grouped.add_valid(value.as_bytes(), 1, place(at));
                }
            }
            group.finish(&mut grouped);
            singly.settle();
            grouped.settle();
            prop_assert_eq!(grouped, singly);
        }
    }
}
