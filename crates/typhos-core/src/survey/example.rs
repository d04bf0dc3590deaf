//! Values that are remembered with their place.

use serde::{Deserialize, Serialize};

use super::saved::text_or_bytes;
use crate::text::LineRef;

/// Most examples kept of a kind.
pub const MAX_EXAMPLES: usize = 5;

/// Bytes of an example that are kept.
pub(super) const MAX_EXAMPLE_BYTES: usize = 200;

/// A value and where it was first seen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Example {
    /// Where it was first seen.
    pub place: LineRef,
    /// The value, cut at 200 bytes.
    #[serde(with = "text_or_bytes")]
    pub value: Vec<u8>,
}

impl Example {
    pub(super) fn new(value: &[u8], place: LineRef) -> Example {
        Example { place, value: value[..value.len().min(MAX_EXAMPLE_BYTES)].to_vec() }
    }

    pub(super) fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        self.place = new(self.place);
    }

    /// The value for a person.
    pub fn text(&self) -> String {
        crate::lossless(&self.value)
    }
}

/// Keeps the earlier of two examples.
pub(super) fn earlier(ours: &mut Option<Example>, theirs: Option<Example>) {
    if let Some(theirs) = theirs
        && ours.as_ref().is_none_or(|ours| theirs.place < ours.place)
    {
        *ours = Some(theirs);
    }
}

/// Values of one kind: how many, and the first few distinct ones.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tally {
    /// How many values.
    pub count: u64,
    /// The first distinct ones, by their place.
    pub examples: Vec<Example>,
}

impl Tally {
    /// Whether nothing but the count of values from `place` on is noted.
    #[inline]
    pub(super) fn is_settled(&self, place: LineRef) -> bool {
        self.examples.get(MAX_EXAMPLES - 1).is_some_and(|last| last.place <= place)
    }

    #[inline]
    pub(super) fn add(&mut self, value: &[u8], count: u64, place: LineRef) {
        self.count += count;
        if !self.is_settled(place) && !self.is_known(value, place) {
            self.keep(Example::new(value, place));
        }
    }

    /// Whether a value is among the examples, from a place before this one.
    #[inline(never)]
    pub(super) fn is_known(&self, value: &[u8], place: LineRef) -> bool {
        let value = &value[..value.len().min(MAX_EXAMPLE_BYTES)];
        self.examples.iter().any(|known| known.place <= place && known.value == value)
    }

    /// The first distinct values by place: in any order of arrival the same ones remain, since what
    /// stands before a value in one part stands before it in the whole.
    #[inline(never)]
    fn keep(&mut self, example: Example) {
        match self.examples.iter_mut().find(|known| known.value == example.value) {
            Some(known) => known.place = known.place.min(example.place),
            None => self.examples.push(example),
        }
        self.examples.sort_by_key(|example| example.place);
        self.examples.truncate(MAX_EXAMPLES);
    }

    pub(super) fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        self.examples.iter_mut().for_each(|example| example.move_places(new));
    }

    pub(super) fn merge(&mut self, other: Tally) {
        self.count += other.count;
        other.examples.into_iter().for_each(|example| self.keep(example));
    }

    /// The first distinct values of several kinds together.
    pub fn first_of<'t>(tallies: impl IntoIterator<Item = &'t Tally>) -> Tally {
        let mut all = Tally::default();
        tallies.into_iter().for_each(|tally| all.merge(tally.clone()));
        all
    }
}

/// Both, where there are two; the other one, where there is one.
pub(super) fn join<T>(a: Option<T>, b: Option<T>, both: impl Fn(T, T) -> T) -> Option<T> {
    match (a, b) {
        (Some(a), Some(b)) => Some(both(a, b)),
        (one, None) | (None, one) => one,
    }
}
