//! Small integers, counted where their own number says.
//!
//! A look-up in a table of a thousand values waits for two lines of memory, and in a file of hundreds of columns none of
//! them is in a fast cache any more when its column comes again. Numbers of up to three digits, which most columns of
//! integers have, need no look-up: two bytes for each, of which thirty-two share a line. They come into the table when nothing
//! more is counted: by `perf`, to find places for new ones, in each thread and once more where threads are put
//! together, took a third of the survey of 400 columns.

use super::LineRef;
use crate::readings::small_integer;
use crate::records::Bounds;

/// Numbers that are counted, those of up to three digits; and as many more as make their places ten bits.
const NUMBERS: usize = 1024;

/// A table of fewer values than these is in the fastest cache anyway.
pub(super) const FEWEST: usize = 32;

/// The most columns of a survey that have them: so many take two MiB in each thread.
const MOST_COLUMNS: usize = 1000;

/// What a count has lost each time that it was full: it starts again at one.
const FULL: u64 = u16::MAX as u64;

/// How often each small integer was seen, and where first.
#[derive(Debug, Clone)]
pub(super) struct SmallCounts {
    /// 0 where a number was not seen.
    counts: Box<[u16; NUMBERS]>,
    /// Numbers that were seen so often more.
    more: Vec<(u16, u64)>,
    /// The numbers that were seen, in the order of their first time, and where that was.
    firsts: Vec<(u16, LineRef)>,
    /// The last of those places.
    latest: LineRef,
    /// Their digits.
    bytes: usize,
}

/// How a pass over values ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum PassEnd {
    /// With a small integer that was not seen before.
    New(u16),
    /// With what is no small integer.
    Other,
    /// There are no more.
    Done,
}

impl SmallCounts {
    /// Whether a survey of so many columns has room for them.
    pub fn are_for(columns: usize) -> bool {
        columns <= MOST_COLUMNS
    }

    /// Nothing seen yet.
    pub fn new() -> SmallCounts {
        SmallCounts {
            counts: Box::new([0; NUMBERS]),
            more: Vec::new(),
            firsts: Vec::new(),
            latest: LineRef { part: 0, line: 0 },
            bytes: 0,
        }
    }

    /// How many there are.
    #[inline]
    pub fn len(&self) -> usize {
        self.firsts.len()
    }

    /// Digits of all of them.
    #[inline]
    pub fn value_bytes(&self) -> usize {
        self.bytes
    }

    /// Whether a number was seen.
    pub fn has(&self, number: u16) -> bool {
        self.counts[usize::from(number)] > 0
    }

    /// Looks at all lines of the counts at once, before so many values wait for one after another.
    #[inline(always)]
    pub fn touch(&self, values: usize) {
        if values > FEWEST {
            std::hint::black_box(self.counts.iter().step_by(32).fold(0, |all, count| all ^ count));
        }
    }

    /// Counts values of a text from the first on, for as long as they are small integers that were seen before, or empty. Returns
    /// how many, how many of those are empty, and what the next one is.
    ///
    /// Nothing else happens in this loop, so that all that it needs stays in registers.
    #[inline(always)]
    pub fn pass(&mut self, text: &[u8], values: &[Bounds]) -> (usize, u64, PassEnd) {
        let SmallCounts { counts, more, .. } = self;
        let mut empty = 0;
        for (at, (start, end)) in values.iter().enumerate() {
            let length = end.wrapping_sub(*start);
            if length == 0 {
                empty += 1;
                continue;
            }
            let word = text.get(*start as usize..).and_then(<[u8]>::first_chunk::<4>);
            let number = word.and_then(|word| small_integer(u32::from_le_bytes(*word), length));
            let Some(number) = number else { return (at, empty, PassEnd::Other) };
            let count = &mut counts[number as usize % NUMBERS];
            if *count == 0 {
                return (at, empty, PassEnd::New(number as u16));
            }
            *count = count.wrapping_add(1);
            if *count == 0 {
                *count = 1;
                more.push((number as u16, FULL));
            }
        }
        (values.len(), empty, PassEnd::Done)
    }

    /// Counts a number that was not seen before.
    #[inline]
    pub fn add_new(&mut self, number: u16, first: LineRef) {
        self.counts[usize::from(number)] = 1;
        self.firsts.push((number, first));
        self.latest = self.latest.max(first);
        self.bytes += digits(number);
    }

    /// Counts a number `count` times more, seen first at `first`.
    pub fn add(&mut self, number: u16, count: u64, first: LineRef) {
        if count == 0 {
            return;
        }
        if !self.has(number) {
            self.add_new(number, first);
            self.add_count(number, count - 1);
            return;
        }
        self.add_count(number, count);
        // Where values come in order, it stands behind all of them.
        if first < self.latest {
            let known = self.firsts.iter_mut().find(|(known, _)| *known == number);
            known.into_iter().for_each(|(_, known)| *known = first.min(*known));
        }
    }

    /// Counts a number that was seen before so often more.
    fn add_count(&mut self, number: u16, count: u64) {
        let held = &mut self.counts[usize::from(number)];
        match u16::try_from(u64::from(*held) + count) {
            Ok(sum) => *held = sum,
            Err(_) => self.more.push((number, count)),
        }
    }

    /// How often each number was seen.
    fn totals(&self) -> Vec<u64> {
        let mut totals: Vec<u64> = self.counts.iter().map(|count| u64::from(*count)).collect();
        self.more.iter().for_each(|(number, count)| totals[usize::from(*number)] += count);
        totals
    }

    /// Adds what another knows.
    pub fn merge(&mut self, other: &SmallCounts) {
        let mut at = vec![usize::MAX; NUMBERS];
        for (place, (number, _)) in self.firsts.iter().enumerate() {
            at[usize::from(*number)] = place;
        }
        let totals = other.totals();
        for (number, first) in &other.firsts {
            let count = totals[usize::from(*number)];
            match self.firsts.get_mut(at[usize::from(*number)]) {
                Some((_, known)) => {
                    *known = (*known).min(*first);
                    self.add_count(*number, count);
                }
                None => self.add(*number, count, *first),
            }
        }
    }

    /// Tells `add` of each number as it is written, how often it was seen and where first.
    pub fn each(&self, mut add: impl FnMut(&[u8], u64, LineRef)) {
        let totals = self.totals();
        for (number, first) in &self.firsts {
            let text =
                [number / 100, number / 10 % 10, number % 10].map(|digit| b'0' + digit as u8);
            add(&text[text.len() - digits(*number)..], totals[usize::from(*number)], *first);
        }
    }

    /// Gives all numbers other places.
    pub fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        self.firsts.iter_mut().for_each(|(_, place)| *place = new(*place));
        let latest = self.firsts.iter().map(|(_, place)| *place).max();
        self.latest = latest.unwrap_or(self.latest);
    }
}

/// How many digits a number of up to three has.
#[inline]
fn digits(number: u16) -> usize {
    1 + usize::from(number > 9) + usize::from(number > 99)
}

/// The number that a whole value is, where it is a small integer as it is usually written.
pub(super) fn number_of(value: &[u8]) -> Option<u16> {
    let mut bytes = [0; 4];
    bytes.get_mut(..value.len())?.copy_from_slice(value);
    small_integer(u32::from_le_bytes(bytes), value.len() as u32).map(|number| number as u16)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    fn place(line: u64) -> LineRef {
        LineRef { part: 0, line }
    }

    fn found(small: &SmallCounts) -> BTreeMap<Vec<u8>, (u64, LineRef)> {
        let mut found = BTreeMap::new();
        small.each(|value, count, first| {
            assert!(found.insert(value.to_vec(), (count, first)).is_none(), "told once");
        });
        found
    }

    #[test]
    fn only_small_integers_as_they_are_written_have_a_number() {
        for number in 0..1000 {
            assert_eq!(number_of(number.to_string().as_bytes()), Some(number));
        }
        for value in ["", "00", "007", "1000", "-1", "1.5", "1a", " 1", "٣", "12x", ":1", "/9"] {
            assert_eq!(number_of(value.as_bytes()), None, "{value}");
        }
    }

    #[test]
    fn counts_may_be_full_more_than_once() {
        let mut small = SmallCounts::new();
        small.add_new(7, place(1));
        let passed = small.pass(b"7,,,", &vec![(0, 1); 200_000]);
        assert_eq!(passed, (200_000, 0, PassEnd::Done));
        let mut twice = small.clone();
        twice.merge(&small);
        twice.add(7, 1 << 40, place(9));
        assert_eq!(found(&small), BTreeMap::from([(b"7".to_vec(), (200_001, place(1)))]));
        let twice_as_many = 400_002 + (1 << 40);
        assert_eq!(found(&twice), BTreeMap::from([(b"7".to_vec(), (twice_as_many, place(1)))]));
    }

    #[test]
    fn a_pass_ends_with_what_was_not_seen() {
        let mut small = SmallCounts::new();
        small.add_new(12, place(3));
        let values = [(0, 2), (2, 2), (3, 5), (6, 7)];
        assert_eq!(small.pass(b"12,12,5,,,", &values), (3, 1, PassEnd::New(5)));
        assert_eq!(small.pass(b"12,12,x,,,", &values), (3, 1, PassEnd::Other));
        assert!(small.has(12) && !small.has(5));
    }

    proptest! {
        /// In one or in several that are put together: the numbers of a plain map.
        #[test]
        fn counts_are_those_of_a_plain_map(
            values in proptest::collection::vec((0u16..1000, 0usize..3, 1u64..70_000), 0..300),
        ) {
            let mut plain = BTreeMap::new();
            let mut parts = [SmallCounts::new(), SmallCounts::new(), SmallCounts::new()];
            for (line, (number, part, count)) in (1..).zip(&values) {
                // Places that do not rise as well.
                let line = place(if line % 4 == 0 { 1000 - line } else { line });
                parts[*part].add(*number, *count, line);
                let known = plain.entry(number.to_string().into_bytes()).or_insert((0, line));
                *known = (known.0 + count, known.1.min(line));
            }
            let [mut whole, second, third] = parts;
            whole.merge(&second);
            whole.merge(&third);
            prop_assert_eq!(whole.value_bytes(), plain.keys().map(Vec::len).sum::<usize>());
            prop_assert_eq!(whole.len(), plain.len());
            prop_assert_eq!(found(&whole), plain);
        }
    }
}
