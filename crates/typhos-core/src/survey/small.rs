//! Small integers, counted where their own number says.
//!
//! A look-up in a table of a thousand values waits for two lines of memory, and in a file of hundreds of columns none of
//! them is in a fast cache any more when its column comes again. Numbers of up to three digits, which most columns of
//! integers have, need no look-up: two bytes for each, of which thirty-two share a line.

use crate::intern::Interner;
use crate::readings::small_integer;
use crate::records::Bounds;

/// Numbers that are counted, those of up to three digits; and as many more as make their places ten bits.
const NUMBERS: usize = 1024;

/// A table of fewer values than these is in the fastest cache anyway.
const FEWEST: usize = 32;

/// The most columns of a survey that have them: so many take two MiB in each thread.
const MOST_COLUMNS: usize = 1000;

/// How often each small integer was seen since it came into the table, and once more: 0 where it is not in it.
#[derive(Debug, Clone)]
pub(super) struct SmallCounts {
    counts: Option<Box<[u16; NUMBERS]>>,
    /// Numbers whose count was full, once for each time.
    full: Vec<u16>,
    /// Whether the survey has few enough columns.
    may_be_used: bool,
}

impl SmallCounts {
    /// No counts yet, for one of `columns` columns.
    pub fn new(columns: usize) -> SmallCounts {
        SmallCounts { counts: None, full: Vec::new(), may_be_used: columns <= MOST_COLUMNS }
    }

    /// Takes a value into account that is new in a table.
    pub fn note_new(&mut self, table: &Interner, value: &[u8]) {
        if let Some(counts) = &mut self.counts {
            number_of(value).into_iter().for_each(|number| counts[number] = 1);
            return;
        }
        // Once, when there are just enough, whatever they are.
        let is_time = self.may_be_used && table.len() == FEWEST;
        if is_time && table.iter().all(|known| number_of(known).is_some()) {
            let counts = self.counts.insert(Box::new([0; NUMBERS]));
            table.iter().filter_map(number_of).for_each(|number| counts[number] = 1);
        }
    }

    /// Whether any value is counted here.
    #[inline(always)]
    pub fn is_used(&self) -> bool {
        self.counts.is_some()
    }

    /// Looks at all lines of the counts at once, before so many values wait for one after another.
    #[inline(always)]
    pub fn touch(&self, values: usize) {
        if let Some(counts) = self.counts.as_ref().filter(|_| values > FEWEST) {
            std::hint::black_box(counts.iter().step_by(32).fold(0, |all, count| all ^ count));
        }
    }

    /// Counts values of a text from the first on, for as long as they are small integers that are in the table, or empty. Returns
    /// how many, how many of those are empty, and whether the next one is a small integer that is not in the table.
    ///
    /// Nothing else happens in this loop, so that all that it needs stays in registers.
    pub fn pass(&mut self, text: &[u8], values: &[Bounds]) -> (usize, u64, bool) {
        let SmallCounts { counts: Some(counts), full, .. } = self else { return (0, 0, false) };
        let mut empty = 0;
        for (at, (start, end)) in values.iter().enumerate() {
            let length = end.wrapping_sub(*start);
            if length == 0 {
                empty += 1;
                continue;
            }
            let word = text.get(*start as usize..).and_then(<[u8]>::first_chunk::<4>);
            let number = word.and_then(|word| small_integer(u32::from_le_bytes(*word), length));
            let Some(number) = number else { return (at, empty, false) };
            let count = &mut counts[number as usize % NUMBERS];
            if *count == 0 {
                return (at, empty, true);
            }
            *count = count.wrapping_add(1);
            if *count == 0 {
                *count = 1;
                full.push(number as u16);
            }
        }
        (values.len(), empty, false)
    }

    /// Moves the counts into the table.
    pub fn flush(&mut self, table: &mut Interner) {
        let Some(counts) = &mut self.counts else { return };
        for at in 0..table.len() as u32 {
            let count = number_of(table.get(at)).map(|number| &mut counts[number]);
            if let Some(count) = count.filter(|count| **count > 1) {
                table.add_to(at, u64::from(*count - 1));
                *count = 1;
            }
        }
        for number in self.full.drain(..) {
            table.add_count(number.to_string().as_bytes(), FULL);
        }
    }
}

/// What a count has lost each time that it was full: it starts again at one.
const FULL: u64 = u16::MAX as u64;

/// The number that a whole value is, where it is a small integer as it is usually written.
fn number_of(value: &[u8]) -> Option<usize> {
    let mut bytes = [0; 4];
    bytes.get_mut(..value.len())?.copy_from_slice(value);
    small_integer(u32::from_le_bytes(bytes), value.len() as u32).map(|number| number as usize)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::intern::Key;
    use proptest::prelude::*;

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
        let (mut small, mut table) = (SmallCounts::new(1), Interner::new());
        for number in 0..FEWEST {
            let value = number.to_string();
            table.count(Key::of(value.as_bytes()), value.as_bytes(), 1);
            small.note_new(&table, value.as_bytes());
        }
        assert_eq!(small.pass(b"7,,,", &vec![(0, 1); 200_000]), (200_000, 0, false));
        small.flush(&mut table);
        assert_eq!(table.counts().nth(7), Some(200_001));
    }

    proptest! {
        /// Wherever values are counted, the table ends with the same counts.
        #[test]
        fn counts_are_those_of_the_table(
            values in proptest::collection::vec(prop_oneof![(0u32..1100).prop_map(|n| n.to_string()), "[0-9a]{1,4}"], 0..600),
            first in 0usize..50,
        ) {
            let (mut small, mut table, mut plain) = (SmallCounts::new(1), Interner::new(), Interner::new());
            // As many integers first that the small counts may come into use.
            let values: Vec<String> = (0..first).map(|n| n.to_string()).chain(values).collect();
            for value in &values {
                let text = format!("{value},,,,");
                if small.pass(text.as_bytes(), &[(0, value.len() as u32)]).0 == 0 {
                    let (_, is_new) = table.count(Key::of(value.as_bytes()), value.as_bytes(), 1);
                    if is_new {
                        small.note_new(&table, value.as_bytes());
                    }
                }
                plain.count(Key::of(value.as_bytes()), value.as_bytes(), 1);
            }
            small.flush(&mut table);
            small.flush(&mut table);
            prop_assert_eq!(table.iter().collect::<Vec<_>>(), plain.iter().collect::<Vec<_>>());
            prop_assert_eq!(table.counts().collect::<Vec<_>>(), plain.counts().collect::<Vec<_>>());
        }
    }
}
