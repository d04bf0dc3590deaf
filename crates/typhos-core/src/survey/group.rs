//! Values that are looked up together, so that the waits for their places in a table overlap.

/// Values that are looked up together.
pub(super) const GROUP: usize = 32;

/// Values of one column, as places in a text: start, end and row.
#[derive(Debug)]
pub(super) struct Group {
    pub(super) values: [(u32, u32, u32); GROUP],
    pub(super) length: usize,
}

impl Group {
    pub(super) fn new() -> Group {
        Group { values: [(0, 0, 0); GROUP], length: 0 }
    }

    /// The places to be filled.
    #[inline(always)]
    pub(super) fn places(&mut self) -> Places<'_> {
        Places { free: self.values.iter_mut(), length: &mut self.length }
    }
}

/// Places of a group, being filled. They are counted at the end, once: a count that every value waits
/// for is slow.
pub(super) struct Places<'g> {
    free: std::slice::IterMut<'g, (u32, u32, u32)>,
    length: &'g mut usize,
}

impl Places<'_> {
    /// Puts a value, that is not empty, into the next place; says whether it was the last one.
    #[inline(always)]
    pub(super) fn put(&mut self, start: usize, end: usize, row: u32) -> bool {
        if let Some(place) = self.free.next() {
            *place = (start as u32, end as u32, row);
        }
        self.free.len() == 0
    }

    pub(super) fn finish(self) {
        *self.length = GROUP - self.free.len();
    }
}
