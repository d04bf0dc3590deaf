//! Records of any format: blocks of them, whose leaves are presence, kind and bounds.
//!
//! A format splits a block of text into records a slice at a time ([`Split`]) and says where the leaves of each
//! record stand in it ([`Records`]); how the bytes of a leaf become its value is the third thing it knows
//! ([`Values`]). The survey works on these three, and conversion on the first two; how delimited text says its values
//! conversion still knows itself. [`text`](crate::text) is the first format.
//!
//! Nothing here says what a value means: whether a blank text is absent is decided by the survey and the
//! declaration. What a format itself tells apart (no such leaf, a null, a text, a number) is kept apart here.

mod broken;
mod json_fault;
mod line_ref;
mod path_kind;
mod paths;
mod provisional;
mod steps;

use std::ops::Range;

pub use broken::{Broken, BrokenKind};
pub use json_fault::JsonFault;
pub use line_ref::LineRef;
pub use path_kind::{Guess, PATH_KINDS, PathKind};
pub(crate) use paths::Appearance;
pub use paths::{DEFAULT_DEPTH_LIMIT, NodeId, Paths, ScopeId};
pub use provisional::{Holds, Provisional, Seen};
pub use steps::{Step, path_of, steps};

use crate::bytewise;
use crate::readings::trim;

/// Where a leaf starts and ends in its block.
pub type Bounds = (u32, u32);

/// Whether a record has a leaf.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Presence {
    /// The record has no such leaf: fields left out at its end, or a key that is not there.
    Missing,
    /// The format says that there is no value.
    Null,
    /// There is one.
    Value,
}

/// What a format says that the value of a leaf is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum LeafKind {
    /// A field of delimited text, quotes included: anything.
    Field,
    /// A text of a format that tells texts from numbers.
    Text,
    /// Any other value of such a format.
    Other,
}

/// A leaf of one record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Leaf {
    /// Whether it is there.
    pub presence: Presence,
    /// What kind of value it has; that of nothing where there is none.
    pub kind: LeafKind,
    /// Where it stands in the block; both ends are the same where it is not there.
    pub bounds: Bounds,
}

/// A slice of records of one block.
pub trait Records: Default + Send {
    /// How leaves become values.
    type Values: Values + Copy + Send;

    /// Whether the format tells texts from numbers.
    const TELLS_TEXTS: bool;

    /// How many whole records there are.
    fn len(&self) -> usize;

    /// Whether there is no whole record.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Line ends between the start of the block and the record.
    fn line(&self, row: usize) -> u32;

    /// Start and end of a whole record in the block, its line end not included.
    fn record(&self, row: usize) -> (usize, usize);

    /// A leaf of a record.
    fn leaf(&self, row: usize, field: usize) -> Leaf;

    /// Whether some of the leaves of a field may stand in quotes.
    fn may_be_quoted(&self, _field: usize) -> bool {
        true
    }

    /// How many leaves of a field are texts, where the format tells texts from numbers.
    fn texts(&self, _field: usize) -> u64 {
        0
    }

    /// Leaves that a record leaves out at its end, where leaves have an order.
    fn left_out(&self, row: usize) -> usize;

    /// Adds the bounds of a leaf in every record to `bounds`, in the order of the records.
    fn column_into(&self, field: usize, bounds: &mut Vec<Bounds>);

    /// The record of each leaf, where a field has as many in a record as that has: those of a list.
    fn rows_of(&self, _field: usize) -> Option<&[u32]> {
        None
    }

    /// Start and end of a leaf in the records of some rows, in their order.
    fn column(
        &self,
        field: usize,
        rows: Range<usize>,
    ) -> impl Iterator<Item = (usize, usize)> + Clone;

    /// Where rows are elements of a list: which one of its record a row is, from 0. Rows of one record follow each other.
    fn position(&self, _row: usize) -> Option<u32> {
        None
    }

    /// Records that are no row, as was said of those without elements.
    fn dropped(&self) -> u64 {
        0
    }

    /// The records that could not be split, in order.
    fn broken(&self) -> &[Broken];

    /// Drops the records for which `keep` says no, given their row.
    fn retain(&mut self, keep: impl Fn(usize) -> bool);
}

/// What splits a block into records.
pub trait Split {
    /// What it fills.
    type Records: Records;

    /// Replaces `records` by the next ones of the block: at least `most`, unless the block ends first. Returns
    /// `false` where nothing was left.
    fn refill(&mut self, records: &mut Self::Records, most: usize) -> bool;
}

/// How the bytes of a leaf become its value.
pub trait Values {
    /// The value of a leaf, what was escaped in it as it is meant.
    ///
    /// Borrows from `raw` where nothing has to change, and from `scratch` where it does.
    fn value<'a>(&self, raw: &'a [u8], scratch: &'a mut Vec<u8>) -> &'a [u8];

    /// Whether the value of a leaf is the leaf as it stands.
    fn is_plain(&self, raw: &[u8]) -> bool;

    /// Whether a leaf stands in quotes.
    fn is_quoted(&self, raw: &[u8]) -> bool;

    /// Whether some leaf of a text may not be its value as it stands.
    fn may_have_odd(&self, _text: &[u8]) -> bool {
        true
    }

    /// For each byte, whether a leaf that starts with it may not be its value as it stands.
    fn odd_starts(&self) -> [bool; 256];

    /// What stands around a leaf in quotes, and what stands in one in which something is escaped. `None` where that cannot be
    /// told by two bytes.
    fn marks(&self) -> Option<(u8, u8)>;

    /// Where the value of the leaf `text[start..end]` stands, if it has quotes around it, nothing is escaped in it, and it
    /// is not blank.
    #[inline]
    fn inner_bounds(&self, text: &[u8], (start, end): Bounds) -> Option<Bounds> {
        bounds_inside(text, (start, end), self.marks()?)
    }
}

/// As [`Values::inner_bounds`], of leaves with these [marks](Values::marks).
#[inline(always)]
pub(crate) fn bounds_inside(
    text: &[u8],
    (start, end): Bounds,
    (quote, escape): (u8, u8),
) -> Option<Bounds> {
    // Two quotes, and something between.
    if end - start < 3 {
        return None;
    }
    let (first, last) = (start as usize, end as usize - 1);
    if text[first] != quote || text[last] != quote {
        return None;
    }
    let inside = first + 1..last;
    let (one, other) = (text[inside.start], text[inside.end - 1]);
    let may_be_blank = one <= b' ' && other <= b' ';
    if may_be_blank && trim(&text[inside.clone()]).is_empty() || !lacks(text, inside, escape) {
        return None;
    }
    Some((start + 1, end - 1))
}

/// Whether a byte stands nowhere in a range of a text. For a few bytes a call is dear: up to eight are looked at as one
/// number, up to sixteen as two that overlap.
#[inline(always)]
fn lacks(text: &[u8], Range { start, end }: Range<usize>, byte: u8) -> bool {
    let same = bytewise::all(byte);
    let word = |at: usize| {
        let word = text.get(at..).and_then(<[u8]>::first_chunk)?;
        Some(u64::from_le_bytes(*word) ^ same)
    };
    let length = end - start;
    if let (1..=16, Some(first)) = (length, word(start)) {
        if length <= 8 {
            return bytewise::first(bytewise::first_zero(first)) >= length;
        }
        if let Some(last) = word(end - 8) {
            return bytewise::first_zero(first) | bytewise::first_zero(last) == 0;
        }
    }
    memchr::memchr(byte, &text[start..end]).is_none()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_byte_is_lacking_where_no_byte_is_it(
            text in proptest::collection::vec(prop_oneof![Just(b'"'), 0x20u8..0x24, any::<u8>()], 0..40),
            start in 0usize..40, length in 0usize..40, byte in prop_oneof![Just(b'"'), any::<u8>()],
        ) {
            let start = start.min(text.len());
            let length = length.min(text.len() - start);
            let inside = &text[start..start + length];
            prop_assert_eq!(lacks(&text, start..start + length, byte), !inside.contains(&byte));
        }
    }
}
