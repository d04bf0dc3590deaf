//! Where records end, without their fields: what blocks are cut by.

use memchr::{memchr, memrchr};

use super::walk::{Events, Walk};
use super::{Dialect, Escape};

/// Finds the ends of records in a text that grows.
#[derive(Debug)]
pub(super) struct Cutter {
    dialect: Dialect,
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

/// Every record end is told, and the first that is not before a place is kept.
struct NotBefore(FromPlace);

struct FromPlace {
    least: usize,
    end: Option<usize>,
}

impl FromPlace {
    fn note(&mut self, at: usize) {
        if at + 1 >= self.least {
            self.end.get_or_insert(at + 1);
        }
    }
}

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
only_ends!(NotBefore, true);

impl Cutter {
    /// A cutter at the start of a record.
    pub fn new(dialect: &Dialect) -> Cutter {
        Cutter { dialect: *dialect, walk: Walk::new(dialect), ends: Ends::default() }
    }

    /// Walks what is new in `text`, which is what it was before and more. Returns the offset after the
    /// last record end in it.
    pub fn last_end(&mut self, text: &[u8]) -> Option<usize> {
        if self.walk.at() == 0
            && let Some(end) = last_end_by_jumps(text, &self.dialect)
        {
            return end;
        }
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

    /// The offset after the first record end in a text that is not before `least`.
    pub fn end_from(dialect: &Dialect, text: &[u8], least: usize) -> Option<usize> {
        let mut walk = Walk::new(dialect);
        let mut found = NotBefore(FromPlace { least, end: None });
        while walk.at() < text.len() && found.0.end.is_none() {
            walk.stride(text, text.len(), &mut found);
        }
        found.0.end
    }

    /// Whether a quote is open behind all that was walked.
    pub fn is_open(&self) -> bool {
        self.walk.is_quoted()
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

/// So many bytes to a quote, or more, and it is faster to jump from one to the next than to walk.
const BYTES_PER_JUMP: usize = 160;

/// The offset after the last record end of a text, found by visiting its quotes only. `None` where the
/// dialect asks for more than that, or where the quotes are too many.
fn last_end_by_jumps(text: &[u8], dialect: &Dialect) -> Option<Option<usize>> {
    let is_simple = dialect.escape == Escape::Doubled
        && dialect.comment.is_none()
        && !dialect.line_ends.has_cr();
    if !is_simple {
        return None;
    }
    let Some(quote) = dialect.quote else { return Some(memrchr(b'\n', text).map(|at| at + 1)) };
    // Stretches outside quotes, in order; the last line end in any of them is the answer.
    let mut outside: Vec<(usize, usize)> = Vec::new();
    let mut jumps = text.len() / BYTES_PER_JUMP + 4;
    let mut next_quote = |at: usize| {
        jumps = jumps.checked_sub(1)?;
        Some(memchr(quote, &text[at..]).map(|found| at + found))
    };
    let (mut from, mut at) = (0, 0);
    loop {
        let Some(open) = next_quote(at)? else {
            outside.push((from, text.len()));
            break;
        };
        at = open + 1;
        if open > 0 && text[open - 1] != dialect.delimiter && text[open - 1] != b'\n' {
            continue;
        }
        outside.push((from, open));
        let closed = loop {
            let Some(found) = next_quote(at)? else { break None };
            at = found + 1;
            if text.get(at) != Some(&quote) {
                break Some(at);
            }
            at += 1;
        };
        match closed {
            Some(after) => from = after,
            None => break,
        }
    }
    let mut ends = outside
        .iter()
        .rev()
        .filter_map(|(start, end)| memrchr(b'\n', &text[*start..*end]).map(|at| start + at + 1));
    Some(ends.next())
}

#[cfg(test)]
mod tests {
    use super::super::testing::dialect_and_text;
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3000))]
        #[test]
        fn jumping_finds_what_walking_finds((dialect, text) in dialect_and_text(300)) {
            if let Some(jumped) = last_end_by_jumps(&text, &dialect) {
                let mut cutter = Cutter::new(&dialect);
                let to = cutter.walk.settled(&text);
                while cutter.walk.at() < to {
                    cutter.walk.stride(&text, to, &mut LastOfEach(&mut cutter.ends));
                }
                prop_assert_eq!(jumped, cutter.ends.last);
            }
        }
    }
}
