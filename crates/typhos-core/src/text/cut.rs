//! Where records end, without their fields: what blocks are cut by.

use super::Dialect;
use super::walk::{Events, Walk};

/// Finds the ends of records in a text that grows.
#[derive(Debug)]
pub(super) struct Cutter {
    walk: Walk,
    ends: Ends,
}

#[derive(Debug, Default)]
struct Ends {
    first: Option<usize>,
    last: Option<usize>,
}

impl Ends {
    fn note(&mut self, at: usize) {
        self.first.get_or_insert(at + 1);
        self.last = Some(at + 1);
    }
}

/// Only the last record end of a word is told.
struct LastOfEach<'e>(&'e mut Ends);

/// Every record end is told, so that the first is the first.
struct Every<'e>(&'e mut Ends);

macro_rules! only_ends {
    ($type:ty, $each:literal) => {
        impl Events for $type {
            const EACH: bool = $each;
            fn field(&mut self, _: usize) {}
            fn record(&mut self, _: &[u8], at: usize) {
                self.0.note(at);
            }
            fn inner_lines(&mut self, _: u32) {}
            fn comment(&mut self, at: usize) {
                self.0.note(at);
            }
            fn text_after_quote(&mut self) {}
        }
    };
}

only_ends!(LastOfEach<'_>, false);
only_ends!(Every<'_>, true);

impl Cutter {
    /// A cutter at the start of a record.
    pub fn new(dialect: &Dialect) -> Cutter {
        Cutter { walk: Walk::new(dialect), ends: Ends::default() }
    }

    /// Walks what is new in `text`, which is what it was before and more. Returns the offset after the
    /// last record end in it.
    pub fn last_end(&mut self, text: &[u8]) -> Option<usize> {
        let to = self.walk.settled(text);
        while self.walk.at() < to {
            self.walk.stride(text, to, &mut LastOfEach(&mut self.ends));
        }
        self.ends.last
    }

    /// As [`last_end`](Self::last_end), up to the first record end, of which it returns the offset
    /// after. There must have been none before. `is_all` says that the text will not grow.
    pub fn first_end(&mut self, text: &[u8], is_all: bool) -> Option<usize> {
        let to = if is_all { text.len() } else { self.walk.settled(text) };
        while self.walk.at() < to && self.ends.first.is_none() {
            self.walk.stride(text, to, &mut Every(&mut self.ends));
        }
        self.ends.first
    }

    /// Bytes of the text walked so far.
    pub fn walked(&self) -> usize {
        self.walk.at()
    }

    /// Drops what of `text` was walked and is no longer needed; returns how much.
    pub fn forget(&mut self, text: &mut Vec<u8>) -> usize {
        let by = self.walk.at().saturating_sub(1);
        text.drain(..by);
        self.walk.rebase(by);
        by
    }
}
