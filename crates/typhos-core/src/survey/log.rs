//! Values that were put down as they came, to be looked at later.
//!
//! A column whose first thousands of values were nearly all different will most likely have too many to be counted one
//! by one. Until that is known for sure its values are only put down: a copy of a few bytes each, where a table would
//! look for each of them and keep it, in memory that is in no cache any more. Once there are so many that a table may be
//! over, their hashes tell whether it is. If so, they are taken note of as all values behind them will be; if not, a
//! table is made of them after all. By `perf`, tables that were given up took a third of `scout` in files of distinct values.

use std::num::NonZeroUsize;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use super::distinct::DistinctTable;
use super::estimate::hash;
use super::group::Group;
use super::grouped::Within;
use super::hash_set::DistinctHashes;
use crate::readings;
use crate::text::LineRef;

/// Values of one column in the order they came.
#[derive(Debug, Clone, Default)]
pub(super) struct ValueLog {
    bytes: Vec<u8>,
    values: Vec<Within>,
    firsts: Vec<LineRef>,
    /// How many of them are part of what all threads know, and whether those of the table beside are.
    counted: usize,
    is_table_counted: bool,
}

/// What the values of a log and those of a table say of the table that all of them would make.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Outlook {
    /// It may be over or not.
    Open,
    /// It would be over, with so many values. Those of one hash count as one here.
    Over { distinct: usize },
    /// There are so many values, and so few distinct ones, that it may never be over.
    Repeating,
}

/// The distinct values of a column, told apart by their hashes, as far as they were put together.
#[derive(Debug)]
struct Counted {
    hashes: DistinctHashes,
    distinct: usize,
    distinct_bytes: usize,
    /// All values that were looked at.
    values: usize,
    bytes: usize,
}

impl Counted {
    fn with_room(room: usize) -> Counted {
        let hashes = DistinctHashes::with_room(room);
        Counted { hashes, distinct: 0, distinct_bytes: 0, values: 0, bytes: 0 }
    }

    #[inline]
    fn add(&mut self, value: &[u8]) {
        self.values += 1;
        self.bytes += value.len();
        if self.hashes.insert(hash(value)) {
            self.distinct += 1;
            self.distinct_bytes += value.len();
        }
    }
}

/// What the logs of all threads that look at a column say together of the table that all of their values would make: each
/// would have to see as many distinct values by itself, otherwise, until it is told that they are too many.
///
/// The law is that of merging: where a table of the values of all threads is over, none of them is left in the end, and the facts do not
/// depend on when each was given up.
#[derive(Debug)]
pub(super) struct Prospect {
    threads: usize,
    /// How many distinct values there are once they are too many; 0 before.
    over: AtomicUsize,
    counted: Mutex<Option<Counted>>,
}

impl Prospect {
    /// Nothing is known of a column that so many threads look at.
    pub fn of_threads(threads: NonZeroUsize) -> Prospect {
        Prospect { threads: threads.get(), over: AtomicUsize::new(0), counted: Mutex::new(None) }
    }

    /// How many distinct values there are, if they are known to be too many for a table.
    #[inline]
    pub fn over(&self) -> Option<usize> {
        Some(self.over.load(Ordering::Relaxed)).filter(|distinct| *distinct > 0)
    }
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

    /// What is known of the table that these values and those of `table` would make, and those of all other threads.
    #[inline]
    pub fn outlook(&mut self, table: &DistinctTable, prospect: &Prospect) -> Outlook {
        if let Some(distinct) = prospect.over() {
            return Outlook::Over { distinct };
        }
        let (values, bytes) = (self.len() + table.len(), self.bytes.len() + table.value_bytes());
        let threads = prospect.threads;
        match table.would_be_over(values * threads, bytes * threads) {
            true => self.outlook_together(table, prospect),
            false => Outlook::Open,
        }
    }

    /// Puts the values that are new together with those of all other threads.
    #[inline(never)]
    fn outlook_together(&mut self, table: &DistinctTable, prospect: &Prospect) -> Outlook {
        let mut shared = prospect.counted.lock().unwrap_or_else(PoisonError::into_inner);
        // Another thread may have found out while this one waited.
        if let Some(distinct) = prospect.over() {
            return Outlook::Over { distinct };
        }
        let room = (self.len() + table.len()) * prospect.threads;
        // A few more come before it is told that there are too many.
        let counted = shared.get_or_insert_with(|| Counted::with_room(room + room / 16));
        if !std::mem::replace(&mut self.is_table_counted, true) {
            table.values().for_each(|found| counted.add(found.value));
        }
        for (start, end, _) in &self.values[self.counted..] {
            counted.add(&self.bytes[*start as usize..*end as usize]);
        }
        self.counted = self.values.len();
        if table.would_be_over(counted.distinct, counted.distinct_bytes) {
            let distinct = counted.distinct;
            prospect.over.store(distinct, Ordering::Relaxed);
            // Nobody asks for more.
            *shared = None;
            Outlook::Over { distinct }
        } else if table.would_be_over(counted.values / 3 * 2, counted.bytes / 3 * 2) {
            Outlook::Repeating
        } else {
            Outlook::Open
        }
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

    /// Whether each stands behind those before it.
    pub fn is_in_order(&self) -> bool {
        self.firsts.is_sorted()
    }

    /// Whether there is one of no bytes.
    pub fn has_empty(&self) -> bool {
        self.values.iter().any(|(start, end, _)| start == end)
    }

    /// The values within the text that they are in, and the place of each.
    pub fn values(&mut self) -> (&[u8], &[Within], &[LineRef]) {
        self.bytes.resize(self.bytes.len() + PADDING, 0);
        (&self.bytes, &self.values, &self.firsts)
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
            let prospect = Prospect::of_threads(NonZeroUsize::MIN);
            let outlook = log.outlook(&known, &prospect);
            let is_over = matches!(outlook, Outlook::Over { .. });
            prop_assert_eq!(is_over, whole.is_over());
            if let Outlook::Over { distinct } = outlook {
                prop_assert_eq!(distinct, whole.len());
            }
        }

        /// Logs of several threads are over where a table of all their values is, and not before.
        #[test]
        fn logs_are_over_together_where_a_table_is(
            values in proptest::collection::vec((0usize..3, 0usize..300), 1..400), length in 10usize..400,
        ) {
            let known = DistinctTable::new(8_000);
            let prospect = Prospect::of_threads(NonZeroUsize::new(3).unwrap());
            let mut logs: [ValueLog; 3] = Default::default();
            let mut whole = known.clone();
            for (thread, at) in values {
                let value = format!("{at:0length$}");
                logs[thread].push(value.as_bytes(), place(2));
                whole.add(value.as_bytes(), 1, place(2));
                if let Outlook::Over { distinct } = logs[thread].outlook(&known, &prospect) {
                    prop_assert!(whole.is_over());
                    prop_assert!(distinct <= whole.len());
                }
            }
            let mut is_told = false;
            for log in &mut logs {
                is_told |= matches!(log.outlook(&known, &prospect), Outlook::Over { .. });
            }
            let has_share = |log: &ValueLog| known.would_be_over(log.len() * 3, log.bytes.len() * 3);
            prop_assert!(whole.is_over() || !is_told);
            prop_assert!(is_told || !whole.is_over() || !logs.iter().all(has_share));
        }
    }
}
