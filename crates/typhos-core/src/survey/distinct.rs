//! The distinct values of a column, with how often and where first each was seen.

use super::grouped::Within;
use super::small::{self, SmallCounts};
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
    /// Small integers that are counted beside the other values, as soon as there are a few of them and nothing else.
    small: Option<SmallCounts>,
    /// Whether they may be.
    may_be_small: bool,
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
            small: None,
            may_be_small: SmallCounts::are_for(columns),
            firsts: Vec::new(),
            most_bytes,
            may_be_malformed: false,
        }
    }

    #[inline]
    pub fn len(&self) -> usize {
        self.values.len() + self.small.as_ref().map_or(0, SmallCounts::len)
    }

    /// Bytes of all distinct values.
    #[inline]
    pub fn value_bytes(&self) -> usize {
        self.values.bytes() + self.small.as_ref().map_or(0, SmallCounts::value_bytes)
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

    /// The text that all values stand in, once the table is [settled](Self::settle).
    pub fn text(&self) -> &[u8] {
        self.values.text()
    }

    /// Where the values stand in [`text`](Self::text), and the number of each.
    pub fn places(&self) -> impl Iterator<Item = Within> {
        debug_assert!(self.small.is_none(), "a table is settled before it is asked");
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

    /// The table, and the small integers that are counted beside it, if there are.
    #[inline(always)]
    pub fn counters(&mut self) -> (&mut Interner, Option<&mut SmallCounts>) {
        (&mut self.values, self.small.as_mut())
    }

    /// Brings all values into the table; from then on none are counted beside it.
    pub fn settle(&mut self) {
        self.may_be_small = false;
        if let Some(small) = self.small.take() {
            small.each(|value, count, first| self.add(value, count, first));
        }
    }

    /// Counts a value `count` times more, seen first at `first`.
    pub fn add(&mut self, value: &[u8], count: u64, first: LineRef) {
        if let Some(small) = &mut self.small
            && let Some(number) = small::number_of(value)
        {
            return small.add(number, count, first);
        }
        let (number, is_new) = self.values.count(Key::of(value), value, count);
        if is_new {
            self.firsts.push(first);
            // Once, when there are just enough, whatever they are.
            if self.may_be_small && self.values.len() == small::FEWEST {
                self.set_small_apart();
            }
        } else {
            let known = &mut self.firsts[number as usize];
            *known = (*known).min(first);
        }
    }

    /// Counts small integers beside the table from now on, if there is nothing else in it.
    fn set_small_apart(&mut self) {
        self.may_be_small = false;
        if !self.values.iter().all(|value| small::number_of(value).is_some()) {
            return;
        }
        let mut small = SmallCounts::new();
        for found in self.values() {
            let number = small::number_of(found.value);
            number.into_iter().for_each(|number| small.add(number, found.count, found.first));
        }
        self.values.clear();
        self.firsts.clear();
        self.small = Some(small);
    }

    /// Adds the values of another table.
    pub fn merge(&mut self, other: &mut DistinctTable) {
        self.may_be_malformed |= other.may_be_malformed;
        if self.small.is_none() || other.small.is_none() {
            self.settle();
            other.settle();
        }
        if let (Some(ours), Some(theirs)) = (&mut self.small, other.small.take()) {
            ours.merge(&theirs);
        }
        for found in other.values() {
            self.add(found.value, found.count, found.first);
        }
    }

    /// Whether it has a value.
    pub fn has(&self, value: &[u8]) -> bool {
        let is_small =
            |small: &SmallCounts| small::number_of(value).is_some_and(|number| small.has(number));
        self.values.find(value).is_some() || self.small.as_ref().is_some_and(is_small)
    }

    /// Gives the files of all places other numbers.
    pub fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        self.firsts.iter_mut().for_each(|place| *place = new(*place));
        self.small.iter_mut().for_each(|small| small.move_places(new));
    }

    /// All values, in the order they were first added, once the table is [settled](Self::settle).
    pub fn values(&self) -> impl Iterator<Item = DistinctValue<'_>> {
        debug_assert!(self.small.is_none(), "a table is settled before it is asked");
        let counts = self.values.counts();
        let facts = self.values.iter().zip(&self.firsts).zip(counts);
        facts.map(|((value, first), count)| DistinctValue { value, count, first: *first })
    }
}
