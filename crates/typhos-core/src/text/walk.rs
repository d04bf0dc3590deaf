//! The walk over the masks: which delimiters, quotes and line ends mean something.
//!
//! The rules of quoting, escaping and comments are kept here and nowhere else on the fast road; the
//! [cutter](super::cut) and the [splitter](super::split) only hear what was found. A word of 64 bytes
//! goes one of three ways: without quotes it costs a few instructions per separator; with well-formed
//! quotes their parity says which separators count; anything else is walked mark by mark. The last is
//! exact for any bytes, and the second is taken only where it is proven to give the same
//! ([`Walk::by_parity`]). All of it is held against [`PlainRecords`](super::PlainRecords) by property
//! tests.

use super::scanner::{Masks, Scanner, WORD};
use super::{Dialect, Escape};

/// Bytes whose masks are made at a time: 32 bytes of masks for every 64, so this stays in the first
/// level of cache.
pub(super) const STRIDE: usize = 128 * WORD;

/// Who is told what the walk finds.
pub(super) trait Events {
    /// Whether [`field`](Self::field) and every [`record`](Self::record) are to be told. Without, only
    /// the last record of those that end in one word is.
    const EACH: bool;
    /// A field ends at the delimiter at this offset.
    fn field(&mut self, at: usize);
    /// A record ends at the line end whose last byte is at this offset.
    fn record(&mut self, text: &[u8], at: usize);
    /// So many line ends were passed that end no record, being quoted or escaped.
    fn inner_lines(&mut self, count: u32);
    /// A comment ends at the line end whose last byte is at this offset.
    fn comment(&mut self, at: usize);
    /// The field being read goes on behind its closing quote.
    fn text_after_quote(&mut self);
}

/// Where a walk stands. The text is given anew at every step, and may have grown since.
#[derive(Debug)]
pub(super) struct Walk {
    dialect: Dialect,
    scanner: Scanner,
    masks: Vec<Masks>,
    /// Bytes walked.
    at: usize,
    /// Inside quotes.
    quoted: bool,
    /// Marks before this offset mean nothing: they are escaped, or the second of a pair of quotes.
    resume: usize,
    /// The last byte that was escaped.
    escaped: usize,
    /// Start of the record being read, and whether it is still to be seen if it is a comment. Kept only
    /// where there are comments.
    start: usize,
    fresh: bool,
    in_comment: bool,
}

impl Walk {
    /// A walk from the start of a record.
    pub fn new(dialect: &Dialect) -> Walk {
        Walk {
            dialect: *dialect,
            scanner: Scanner::new(dialect),
            masks: Vec::new(),
            at: 0,
            quoted: false,
            resume: 0,
            escaped: usize::MAX,
            start: 0,
            fresh: true,
            in_comment: false,
        }
    }

    /// Bytes walked so far.
    pub fn at(&self) -> usize {
        self.at
    }

    /// Whether the walk stands inside quotes.
    pub fn is_quoted(&self) -> bool {
        self.quoted
    }

    /// Whether the walk stands in a comment, given the text that it has come to the end of.
    pub fn is_comment(&self, text: &[u8]) -> bool {
        self.in_comment
            || self.fresh
                && self.dialect.comment.is_some()
                && text.get(self.start).copied() == self.dialect.comment
    }

    /// Goes on in a text from which the first `by` bytes were taken; one byte before the place of the
    /// walk must be left.
    pub fn rebase(&mut self, by: usize) {
        self.at -= by;
        self.resume = self.resume.saturating_sub(by);
        self.escaped = self.escaped.checked_sub(by).unwrap_or(usize::MAX);
        self.start = self.start.saturating_sub(by);
    }

    /// How far a text can be walked that may still grow: what its last byte means can depend on the
    /// one behind it.
    pub fn settled(&self, text: &[u8]) -> usize {
        let open = text.last().is_some_and(|byte| {
            Some(*byte) == self.dialect.quote
                || *byte == b'\r' && self.dialect.line_ends.has_cr()
                || *byte == b'\\' && self.dialect.escape == Escape::Backslash
        });
        // An escape may stand before a CR, of which the LF is escaped with it.
        let cut = match text {
            [.., b'\\', _] if self.dialect.escape == Escape::Backslash => 2,
            _ => usize::from(open),
        };
        (text.len() - cut).max(self.at)
    }

    /// Walks a few thousand bytes on, at most to `to`.
    pub fn stride<E: Events>(&mut self, text: &[u8], to: usize, events: &mut E) {
        let end = to.min(self.at + STRIDE);
        let mut masks = std::mem::take(&mut self.masks);
        self.scanner.scan(&text[self.at..end], text.get(end).copied(), &mut masks);
        let mut base = self.at;
        let exact_only = self.dialect.comment.is_some();
        let has_escape = self.dialect.escape == Escape::Backslash;
        for (index, word) in masks.iter().enumerate() {
            let escapes = self.scanner.escapes(index);
            if exact_only || has_escape && (word.quote | escapes != 0 || self.resume > base) {
                self.exactly(text, base, *word, escapes, events);
            } else if word.quote == 0 {
                if !self.quoted {
                    separators(text, base, word.delimiter, word.newline, events);
                } else if word.newline != 0 {
                    events.inner_lines(word.newline.count_ones());
                }
            } else if let Some(inside) = self.by_parity::<E>(text, base, end, *word) {
                separators(text, base, word.delimiter & !inside, word.newline & !inside, events);
            } else {
                self.exactly(text, base, *word, 0, events);
            }
            base += WORD;
        }
        self.at = end;
        self.masks = masks;
    }

    /// Which bytes of the word stand inside quotes, where its quotes are well-formed; the walk then
    /// stands behind the word.
    ///
    /// A byte is inside where the quotes before it are odd in number. That is what the exact walk finds
    /// too, if every quote that opens by parity stands at the start of a field or is the second of a
    /// pair: by induction over the quotes both agree before each, the exact walk opens at the start of a
    /// field only, and takes a pair inside quotes as nothing. Line ends inside quotes are left to the
    /// exact walk, since the line of a record that starts behind them must be known when it starts.
    #[inline]
    fn by_parity<E: Events>(
        &mut self,
        text: &[u8],
        base: usize,
        end: usize,
        word: Masks,
    ) -> Option<u64> {
        let (mut quotes, mut inside) = (word.quote, word.odd_quotes);
        if self.resume > base {
            // The first byte is the second quote of a pair, and changes nothing.
            quotes &= !1;
            inside = !inside;
        }
        if self.quoted {
            inside = !inside;
        }
        if word.newline & inside != 0 {
            return None;
        }
        let separators = word.delimiter | word.newline;
        let (opening, closing) = (quotes & inside, quotes & !inside);
        let before = base == 0 || self.separates(text[base - 1]);
        if opening & !((separators | closing) << 1 | u64::from(before)) != 0 {
            return None;
        }
        if E::EACH {
            // The last byte of the word is looked at by itself.
            let mut unsure = closing & !((separators | quotes) >> 1);
            while unsure != 0 {
                let at = base + unsure.trailing_zeros() as usize;
                unsure &= unsure - 1;
                if !self.is_closed(text, at + 1) && text.get(at + 1).copied() != self.dialect.quote
                {
                    return None;
                }
            }
        }
        let last = end.min(base + WORD) - 1;
        self.quoted = inside >> (WORD - 1) != 0;
        if closing >> (last - base) & 1 != 0 && text.get(last + 1).copied() == self.dialect.quote {
            self.quoted = true;
            self.resume = last + 2;
        }
        Some(inside)
    }

    /// Every mark in order.
    fn exactly<E: Events>(
        &mut self,
        text: &[u8],
        base: usize,
        word: Masks,
        escapes: u64,
        events: &mut E,
    ) {
        let mut marks = word.delimiter | word.newline | word.quote | escapes;
        while marks != 0 {
            let bit = marks & marks.wrapping_neg();
            let at = base + marks.trailing_zeros() as usize;
            marks ^= bit;
            if at < self.resume {
                continue;
            }
            if self.fresh && self.dialect.comment.is_some() {
                self.fresh = false;
                self.in_comment = text.get(self.start).copied() == self.dialect.comment;
            }
            let is_newline = word.newline & bit != 0;
            if self.in_comment {
                if is_newline {
                    (self.in_comment, self.fresh, self.start) = (false, true, at + 1);
                    events.comment(at);
                }
            } else if escapes & bit != 0 {
                self.escape_at(text, at, events);
            } else if word.quote & bit != 0 {
                self.quote_at(text, at, events);
            } else if is_newline {
                if self.quoted {
                    events.inner_lines(1);
                } else {
                    (self.fresh, self.start) = (true, at + 1);
                    events.record(text, at);
                }
            } else if !self.quoted {
                events.field(at);
            }
        }
    }

    fn escape_at<E: Events>(&mut self, text: &[u8], at: usize, events: &mut E) {
        let Some(next) = text.get(at + 1).copied().filter(|next| self.dialect.is_escapable(*next))
        else {
            return;
        };
        let pair = next == b'\r' && text.get(at + 2) == Some(&b'\n');
        self.escaped = at + 1 + usize::from(pair);
        self.resume = self.escaped + 1;
        if matches!(next, b'\n' | b'\r') {
            events.inner_lines(1);
        }
    }

    fn quote_at<E: Events>(&mut self, text: &[u8], at: usize, events: &mut E) {
        if !self.quoted {
            let starts_field = at == 0 || self.escaped != at - 1 && self.separates(text[at - 1]);
            self.quoted = starts_field;
        } else if text.get(at + 1).copied() == self.dialect.quote {
            self.resume = at + 2;
        } else {
            self.quoted = false;
            if !self.is_closed(text, at + 1) {
                events.text_after_quote();
            }
        }
    }

    /// Whether a byte outside quotes is the last one before a field.
    #[inline]
    fn separates(&self, byte: u8) -> bool {
        byte == self.dialect.delimiter
            || byte == b'\n'
            || byte == b'\r' && self.dialect.line_ends.has_cr()
    }

    /// Whether a quoted field may end before the byte at `at`.
    #[inline]
    fn is_closed(&self, text: &[u8], at: usize) -> bool {
        match text.get(at).copied() {
            None => true,
            Some(b'\r') => {
                self.dialect.line_ends.has_cr() || matches!(text.get(at + 1), None | Some(b'\n'))
            }
            Some(byte) => self.separates(byte),
        }
    }
}

/// Tells of the separators of a word, none of which is quoted.
#[inline(always)]
fn separators<E: Events>(text: &[u8], base: usize, delimiter: u64, newline: u64, events: &mut E) {
    if !E::EACH {
        if newline != 0 {
            events.record(text, base + WORD - 1 - newline.leading_zeros() as usize);
        }
        return;
    }
    let mut marks = delimiter | newline;
    while marks != 0 {
        let bit = marks & marks.wrapping_neg();
        let at = base + marks.trailing_zeros() as usize;
        marks ^= bit;
        if newline & bit != 0 {
            events.record(text, at);
        } else {
            events.field(at);
        }
    }
}
