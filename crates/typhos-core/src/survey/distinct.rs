//! The distinct values of a column, with how often and where first each was seen.

use super::grouped::Within;
use super::small::SmallCounts;
use crate::intern::{Interner, Key};
use crate::text::LineRef;

/// Distinct values that are counted exactly: those that two-byte codes can stand for.
pub const MAX_DISTINCT: usize = 65_536;

/// Bytes held for distinct values over all columns, by each thread; shared out evenly, so that a file of
/// thousands of columns stays in bounds too. What a column gets does not depend on the threads, since
/// then its facts would.
const TOTAL_BYTES: usize = 48 << 20;

/// The most one column gets of that: enough for [`MAX_DISTINCT`] values of ordinary length.
const MAX_COLUMN_BYTES: usize = 8 << 20;

/// Bytes held over all columns, by each thread, for the hashes of columns whose values are too large or
/// too many to be kept.
const TOTAL_HASH_BYTES: usize = 48 << 20;

/// The most hashes kept of one of `columns` columns: [`MAX_DISTINCT`], unless there are more than ninety
/// columns.
pub(super) fn most_hashes(columns: usize) -> usize {
    (TOTAL_HASH_BYTES / size_of::<u64>() / columns.max(1)).min(MAX_DISTINCT)
}

/// One distinct value.
#[derive(Debug, Clone, Copy)]
pub struct DistinctValue<'t> {
    /// The value.
    pub value: &'t [u8],
    /// How often it was seen.
    pub count: u64,
    /// Where it was seen first.
    pub first: LineRef,
}

/// A table of values that counts.
#[derive(Debug, Clone)]
pub(super) struct DistinctTable {
    values: Interner,
    /// Counts of small integers that are not in the table yet.
    small: SmallCounts,
    /// Where each value was seen first.
    firsts: Vec<LineRef>,
    most_bytes: usize,
    /// Whether some of them may not be valid text.
    pub may_be_malformed: bool,
}

impl DistinctTable {
    /// A table for one of `columns` columns.
    pub fn new(columns: usize) -> Self {
        let most_bytes = (TOTAL_BYTES / columns.max(1)).min(MAX_COLUMN_BYTES);
        DistinctTable {
            values: Interner::new(),
            small: SmallCounts::new(columns),
            firsts: Vec::new(),
            most_bytes,
            may_be_malformed: false,
        }
    }

    pub fn len(&self) -> usize {
        self.values.len()
    }

    /// Bytes of all distinct values.
    pub fn value_bytes(&self) -> usize {
        self.values.bytes()
    }

    /// Whether it holds more than it may; then it has to be folded and dropped.
    pub fn is_over(&self) -> bool {
        self.would_be_over(self.len(), self.value_bytes())
    }

    /// Whether so many distinct values of so many bytes in all are more than it may hold.
    #[inline]
    pub fn would_be_over(&self, values: usize, bytes: usize) -> bool {
        values > MAX_DISTINCT
            || Interner::held_bytes(values, bytes) + values * size_of::<LineRef>() > self.most_bytes
    }

    /// The text that all values stand in.
    pub fn text(&self) -> &[u8] {
        self.values.text()
    }

    /// Where the values stand in [`text`](Self::text), and the number of each.
    pub fn places(&self) -> impl Iterator<Item = Within> {
        let span = |number| {
            let (start, end) = self.values.span(number);
            (start, end, number)
        };
        (0..self.len() as u32).map(span)
    }

    /// How often the value of a number was seen, and where first.
    pub fn seen(&self, number: u32) -> (u64, LineRef) {
        (self.values.count_of(number), self.firsts[number as usize])
    }

    /// The table itself, for look-ups in steps.
    #[inline(always)]
    pub fn values_mut(&mut self) -> &mut Interner {
        &mut self.values
    }

    /// The table, and the small integers that are counted beside it.
    #[inline(always)]
    pub fn counters(&mut self) -> (&mut Interner, &mut SmallCounts) {
        (&mut self.values, &mut self.small)
    }

    /// Brings all counts into the table. Without it they may lack those of small integers.
    pub fn settle(&mut self) {
        self.small.flush(&mut self.values);
    }

    /// Counts a value `count` times more, seen first at `first`.
    pub fn add(&mut self, value: &[u8], count: u64, first: LineRef) {
        let (number, is_new) = self.values.count(Key::of(value), value, count);
        if is_new {
            self.firsts.push(first);
            self.small.note_new(&self.values, value);
        } else {
            let known = &mut self.firsts[number as usize];
            *known = (*known).min(first);
        }
    }

    /// Whether it has a value.
    pub fn has(&self, value: &[u8]) -> bool {
        self.values.find(value).is_some()
    }

    /// Gives the files of all places other numbers.
    pub fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        self.firsts.iter_mut().for_each(|place| *place = new(*place));
    }

    /// All values, in the order they were first added.
    pub fn values(&self) -> impl Iterator<Item = DistinctValue<'_>> {
        let counts = self.values.counts();
        let facts = self.values.iter().zip(&self.firsts).zip(counts);
        facts.map(|((value, first), count)| DistinctValue { value, count, first: *first })
    }
}
