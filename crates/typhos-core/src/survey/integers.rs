//! Integers of any length up to nineteen digits, negative ones among them: taken note of many at a time, as short runs of
//! digits are in [`digits`](super::digits), which are dearer to tell apart here.
//!
//! Only what leaves nothing else to note goes this way: a value that might become an example, lose something as a float for
//! the first time or be a day is left to the usual one.

use super::numbers::{FLOAT32_SURE, FLOAT64_SURE, width_of};
use super::{CLASSES, Class, Facts, WIDTHS};
use crate::readings::{COMPACT_DAYS, integer_within};
use crate::text::LineRef;

/// The first of [`WIDTHS`] that no short run of digits has.
const FIRST_LONG: usize = 5;

/// Bytes of values that may be no short runs of digits, though they are of the width before that.
const LONG_BYTES: u64 = 9;

/// The most digits of an integer that is a small one.
const SMALL_DIGITS: usize = 18;

/// What is noted of the integers among some neighbouring values.
#[derive(Debug)]
pub(super) struct IntegerGroup {
    /// The widths of which nothing but the count is noted, a bit each.
    settled: u32,
    is_float32_loss_known: bool,
    is_float64_loss_known: bool,
    /// Whether it is of interest how small ones are spread.
    is_spread: bool,
    counts: [u64; WIDTHS.len()],
    bytes: u64,
    lengths: (u32, u32),
    /// The smallest and largest of those of at most [`SMALL_DIGITS`], and of the others.
    small: (i64, i64),
    large: (i64, i64),
}

impl IntegerGroup {
    /// No values yet, of a column of which this is known; the first of them stands at `first`.
    pub fn of(facts: &Facts, first: LineRef) -> IntegerGroup {
        let is_free = facts.said.is_empty() && facts.text.count > 0;
        let settled =
            facts.widths().iter().enumerate().filter(|(_, tally)| tally.is_settled(first));
        let settled = settled.fold(0, |settled, (width, _)| settled | 1 << width);
        IntegerGroup {
            settled: if is_free { settled } else { 0 },
            is_float32_loss_known: facts.numbers.knows_float32_loss(first),
            is_float64_loss_known: facts.numbers.knows_float64_loss(first),
            is_spread: facts.count(Class::Code) == 0,
            counts: [0; WIDTHS.len()],
            bytes: 0,
            lengths: (u32::MAX, 0),
            small: (i64::MAX, i64::MIN),
            large: (i64::MAX, i64::MIN),
        }
    }

    /// Whether integers can be added that are no short runs of digits.
    pub fn is_open(&self, facts: &Facts) -> bool {
        let has_long = || facts.text.bytes_range.is_some_and(|(_, most)| most >= LONG_BYTES);
        self.settled >> FIRST_LONG != 0 || self.settled >> (FIRST_LONG - 1) != 0 && has_long()
    }

    /// Adds the value `text[start..end]` of the group, if it is an integer and nothing but what is noted here is to be
    /// noted of it; returns it if that is so.
    #[inline(always)]
    pub fn add(&mut self, facts: &mut Facts, text: &[u8], start: usize, end: usize) -> Option<i64> {
        let number = integer_within(text, start, end)?;
        let length = end - start;
        let is_negative = text[start] == b'-';
        let digits = length - usize::from(is_negative);
        let is_code = digits > 1 && text[start + usize::from(is_negative)] == b'0';
        let width = width_of(number);
        if is_code || self.settled >> width & 1 == 0 {
            return None;
        }
        let size = number.unsigned_abs();
        if size > FLOAT32_SURE.unsigned_abs() {
            let is_lossless = size <= FLOAT64_SURE.unsigned_abs();
            if !self.is_float32_loss_known || !is_lossless && !self.is_float64_loss_known {
                return None;
            }
            let may_be_day = match length {
                8 => COMPACT_DAYS.contains(&number),
                14 => COMPACT_DAYS.contains(&(number / 1_000_000)),
                _ => false,
            };
            if may_be_day {
                return None;
            }
        }
        let is_small = digits <= SMALL_DIGITS;
        let (low, high) = if is_small { &mut self.small } else { &mut self.large };
        (*low, *high) = ((*low).min(number), (*high).max(number));
        if self.is_spread || !is_small {
            facts.numbers.spread(number as f64, 1);
        }
        facts.text.note_extremes(text, start, end);
        self.counts[width] += 1;
        self.bytes += length as u64;
        let length = length as u32;
        self.lengths = (self.lengths.0.min(length), self.lengths.1.max(length));
        Some(number)
    }

    /// Notes all of them.
    pub fn finish(self, facts: &mut Facts) {
        let count = self.counts.iter().sum();
        if count == 0 {
            return;
        }
        for (width, count) in self.counts.into_iter().enumerate() {
            facts.tallies[CLASSES.len() + width].count += count;
        }
        facts.numbers.add_small_range(self.small);
        facts.numbers.add_large_range(self.large);
        let lengths = (u64::from(self.lengths.0), u64::from(self.lengths.1));
        facts.text.add_measures(count, self.bytes, lengths, lengths.1);
    }
}
