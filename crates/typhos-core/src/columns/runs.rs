//! Runs of values that are read the short way, one after the other, in a loop that knows their type and does nothing else.
//!
//! Most values of a column are written like those before them: as so many digits, with so many behind the mark, as the words
//! that are known. A run takes them as long as that goes on. The first field that is anything else ends it and goes the usual
//! way, which is the only one that knows of defaults, misfits and whatever else may be; then the next run begins.
//!
//! The law: what a run takes, the usual way takes the same. [`tests`](super::tests) holds one against the other.

use arrow_buffer::NullBufferBuilder;

use crate::records::Bounds;

/// Cells that have a short way.
pub(super) trait ShortCells {
    /// Adds the value `text[start..end]`, which is not empty, if it is one as most are; says whether it was added. Whether
    /// there is a value is noted elsewhere.
    fn push_short(&mut self, text: &[u8], start: usize, end: usize) -> bool;

    /// Adds so many times what stands where nothing is.
    fn push_nothing(&mut self, count: usize);

    /// Which values are there.
    fn validity(&mut self) -> &mut NullBufferBuilder;
}

/// Fields of a column, each where its value stands in the text.
#[derive(Debug, Clone, Copy)]
pub(super) struct Run<'t> {
    /// The text, which is valid UTF-8.
    pub text: &'t [u8],
    /// Start and end of each value; [`CLOSER`] where that cannot be said.
    pub fields: &'t [Bounds],
    /// Whether a field with nothing in it is absent, and that is all.
    pub takes_empty: bool,
}

/// Stands for a field that has to be looked at more closely.
pub(super) const CLOSER: Bounds = (u32::MAX, 0);

impl Run<'_> {
    /// Adds values as long as each is read the short way; says how many fields that were.
    #[inline(always)]
    pub fn push(self, cells: &mut impl ShortCells) -> usize {
        // How many of a kind there are is noted once for each stretch of them.
        let (mut at, mut valid) = (0, 0);
        while let Some((start, end)) = self.fields.get(at) {
            if start < end {
                if !cells.push_short(self.text, *start as usize, *end as usize) {
                    break;
                }
                (at, valid) = (at + 1, valid + 1);
                continue;
            }
            if start > end || !self.takes_empty {
                break;
            }
            let rest = self.fields[at..].iter();
            let absent = rest.take_while(|(start, end)| start == end).count();
            cells.push_nothing(absent);
            cells.validity().append_n_non_nulls(std::mem::take(&mut valid));
            cells.validity().append_n_nulls(absent);
            at += absent;
        }
        // Where all are there, nothing is to be kept of it: not even the first of no nulls may be noted.
        cells.validity().append_n_non_nulls(valid);
        at
    }
}
