//! Values that were put down as they came, to be looked at later.
//!
//! A column whose first thousands of values were nearly all different will most likely have too many to be counted one
//! by one. Until that is known for sure its values are only put down: a copy of a few bytes each, where a table would
//! look for each of them and keep it, in memory that is in no cache any more. Once there are so many that a table may be
//! over, their hashes tell whether it is. If so, they are taken note of as all values behind them will be; if not, a
//! table is made of them after all. By `perf`, tables that were given up took a third of `scout` in files of distinct values.

use super::distinct::DistinctTable;
use super::estimate::hash;
use super::group::{GROUP, Group};
use super::grouped::Within;
use crate::readings;
use crate::text::LineRef;

/// Values of one column in the order they came.
#[derive(Debug, Clone, Default)]
pub(super) struct ValueLog {
    bytes: Vec<u8>,
    values: Vec<Within>,
    firsts: Vec<LineRef>,
}

/// Zeros behind the values, so that the last ones can be read by whole words too.
const PADDING: usize = 32;

impl ValueLog {
    pub fn len(&self) -> usize {
        self.values.len()
    }

    /// Puts down a value.
    #[inline]
    pub fn push(&mut self, value: &[u8], place: LineRef) {
        let start = self.bytes.len() as u32;
        self.bytes.extend_from_slice(value);
        self.values.push((start, self.bytes.len() as u32, self.firsts.len() as u32));
        self.firsts.push(place);
    }

    /// Puts down the values of a group, and empties it; says how many were blank, which are left out.
    pub fn push_group(
        &mut self,
        group: &mut Group,
        text: &[u8],
        place: impl Fn(u32) -> LineRef,
    ) -> u64 {
        let mut blank = 0;
        for (start, end, row) in &group.values[..group.length] {
            let value = &text[*start as usize..*end as usize];
            if readings::trim(value).is_empty() {
                blank += 1;
            } else {
                self.push(value, place(*row));
            }
        }
        group.length = 0;
        blank
    }

    /// Whether so many values were put down, or so many bytes, that it is time to see whether a table of them and of
    /// those in `table` would be over.
    pub fn is_full(&self, table: &DistinctTable) -> bool {
        table.would_be_over(self.len() + table.len(), self.bytes.len() + table.value_bytes())
    }

    /// How many distinct values there are, those of `table` among them, if a table of all of them would be over. Where
    /// values have one hash, it may be over all the same.
    pub fn distinct_if_over(&self, table: &DistinctTable) -> Option<usize> {
        let mut hashes = HashSet::with_room(self.len() + table.len());
        let (mut distinct, mut bytes) = (0, 0);
        let known = table.values().map(|found| found.value);
        for value in known.chain(self.iter().map(|(value, _)| value)) {
            if hashes.insert(hash(value)) {
                distinct += 1;
                bytes += value.len();
            }
        }
        table.would_be_over(distinct, bytes).then_some(distinct)
    }

    /// All values, and where each stands.
    pub fn iter(&self) -> impl Iterator<Item = (&[u8], LineRef)> {
        let value = |(start, end, _): &Within| &self.bytes[*start as usize..*end as usize];
        self.values.iter().map(value).zip(self.firsts.iter().copied())
    }

    /// Gives all values other places.
    pub fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        self.firsts.iter_mut().for_each(|place| *place = new(*place));
    }

    /// The values in groups, each with the text that they are in; and all of their places.
    pub fn groups(&mut self) -> (&[u8], impl Iterator<Item = &[Within]>, &[LineRef]) {
        self.bytes.resize(self.bytes.len() + PADDING, 0);
        (&self.bytes, self.values.chunks(GROUP), &self.firsts)
    }
}

/// Hashes that were seen, searched linearly from the place that their upper bits say.
struct HashSet {
    /// A hash in each place, 0 where there is none.
    places: Vec<u64>,
    shift: u32,
}

impl HashSet {
    /// An empty one for at most so many hashes.
    fn with_room(hashes: usize) -> HashSet {
        let places = (2 * hashes).next_power_of_two().max(2);
        HashSet { places: vec![0; places], shift: u64::BITS - places.trailing_zeros() }
    }

    /// Adds a hash; says whether it is new.
    #[inline]
    fn insert(&mut self, hash: u64) -> bool {
        // Zero and one count as the same: one pair more of hashes that cannot be told apart.
        let hash = hash.max(1);
        let mut at = (hash >> self.shift) as usize;
        loop {
            match self.places[at] {
                0 => {
                    self.places[at] = hash;
                    return true;
                }
                known if known == hash => return false,
                _ => at = (at + 1) & (self.places.len() - 1),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn place(line: u64) -> LineRef {
        LineRef { part: 0, line }
    }

    proptest! {
        #[test]
        fn hashes_are_new_once(hashes in proptest::collection::vec(prop_oneof![0u64..4, any::<u64>()], 0..200)) {
            let mut set = HashSet::with_room(hashes.len());
            let mut plain = std::collections::HashSet::new();
            for hash in hashes {
                prop_assert_eq!(set.insert(hash), plain.insert(hash.max(1)));
            }
        }

        /// A log is over where a table of the same values is, however often each comes.
        #[test]
        fn a_log_is_over_where_a_table_is(
            first in 0usize..3, others in 0usize..400, length in 1usize..400, again in 1usize..3,
        ) {
            // So many columns that a table takes some kilobytes.
            let mut known = DistinctTable::new(8_000);
            let mut log = ValueLog::default();
            let value = |at: usize| format!("{at:0length$}");
            (0..first).for_each(|at| known.add(value(at).as_bytes(), 1, place(1)));
            let mut whole = known.clone();
            for at in (0..others).flat_map(|at| std::iter::repeat_n(at, again)) {
                log.push(value(at).as_bytes(), place(2));
                whole.add(value(at).as_bytes(), 1, place(2));
            }
            prop_assert_eq!(log.distinct_if_over(&known).is_some(), whole.is_over());
            prop_assert!(log.is_full(&known) || !whole.is_over());
        }
    }
}
