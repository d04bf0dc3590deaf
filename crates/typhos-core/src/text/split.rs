//! The fast splitter: a block → the bounds of its fields, some thousand records at a time.
//!
//! It walks the masks of the [scanner](super::scanner) instead of bytes. A word without quotes,
//! outside quotes, costs a few instructions per separator; only words with quotes take the exact
//! path. Both are held against [`PlainRecords`](super::PlainRecords) by a property test.

use std::borrow::Cow;

use super::scanner::{Masks, Scanner, WORD};
use super::{Block, Dialect};

/// Bytes whose masks are made at a time: 24 bytes of masks for every 64, so this stays in the first
/// level of cache.
const STRIDE: usize = 128 * WORD;

/// What is wrong with a record that could not be split into the columns expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BrokenKind {
    /// Too few or too many fields.
    FieldCount {
        /// Fields in this record.
        found: u32,
        /// Fields a record of this input has.
        expected: u32,
    },
    /// A quoted field goes on after its closing quote, so where it ends is a guess.
    TextAfterQuote {
        /// Fields before it in the record.
        field: u32,
    },
    /// A quote was opened and the input ended before it was closed.
    NeverClosed {
        /// Line ends between the start of the block and the quote.
        lines_before: u32,
    },
}

impl BrokenKind {
    pub(super) fn is_never_closed(self) -> bool {
        matches!(self, BrokenKind::NeverClosed { .. })
    }
}

/// A record that could not be split into the columns expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Broken {
    /// Offset of its first byte in the block.
    pub start: u32,
    /// Offset after its last byte, its line end not included.
    pub end: u32,
    /// Line ends between the start of the block and the record.
    pub line: u32,
    /// Whole records of this slice that stand before it.
    pub row: u32,
    /// What is wrong with it.
    pub kind: BrokenKind,
}

/// Some records of a block: the bounds of their fields, and nothing else.
///
/// Every record in it has the number of columns expected; the others are in
/// [`broken`](Self::broken).
#[derive(Debug, Default)]
pub struct Records {
    columns: usize,
    /// Start of each record.
    starts: Vec<u32>,
    /// Line ends before each record, counted from the start of the block.
    lines: Vec<u32>,
    /// End of each field, `columns` to a record. A field starts one byte after the end of the one
    /// before it.
    ends: Vec<u32>,
    broken: Vec<Broken>,
}

impl Records {
    /// How many whole records there are.
    pub fn len(&self) -> usize {
        self.starts.len()
    }

    /// Whether there is no whole record.
    pub fn is_empty(&self) -> bool {
        self.starts.is_empty()
    }

    /// Start and end of a field in the block, quotes included.
    #[inline]
    pub fn bounds(&self, row: usize, column: usize) -> (usize, usize) {
        let at = row * self.columns + column;
        let start = if column == 0 { self.starts[row] } else { self.ends[at - 1] + 1 };
        (start as usize, self.ends[at] as usize)
    }

    /// All fields of a column, as [`bounds`](Self::bounds) has them, with the line of their record as
    /// [`line`](Self::line) has it.
    #[inline]
    pub fn column(&self, column: usize) -> impl Iterator<Item = (usize, usize, u32)> {
        let rows = self.ends.chunks_exact(self.columns.max(1));
        rows.zip(self.starts.iter().zip(&self.lines)).map(move |(ends, (start, line))| {
            let start = if column == 0 { *start } else { ends[column - 1] + 1 };
            (start as usize, ends[column] as usize, *line)
        })
    }

    /// Start and end of a whole record in the block, its line end not included.
    pub fn record(&self, row: usize) -> (usize, usize) {
        (self.starts[row] as usize, self.ends[(row + 1) * self.columns - 1] as usize)
    }

    /// Line ends between the start of the block and the record.
    #[inline]
    pub fn line(&self, row: usize) -> u32 {
        self.lines[row]
    }

    /// The records that could not be split, in order.
    pub fn broken(&self) -> &[Broken] {
        &self.broken
    }

    /// Drops the records for which `keep` says no, given their row.
    pub fn retain(&mut self, keep: impl Fn(usize) -> bool) {
        let columns = self.columns;
        let mut to = 0;
        for row in 0..self.len() {
            if keep(row) {
                self.starts[to] = self.starts[row];
                self.lines[to] = self.lines[row];
                self.ends.copy_within(row * columns..(row + 1) * columns, to * columns);
                to += 1;
            }
        }
        self.starts.truncate(to);
        self.lines.truncate(to);
        self.ends.truncate(to * columns);
    }

    fn clear(&mut self, columns: usize) {
        self.columns = columns;
        self.starts.clear();
        self.lines.clear();
        self.ends.clear();
        self.broken.clear();
    }
}

/// Splits one block, slice after slice.
#[derive(Debug)]
pub struct Splitter<'b> {
    text: &'b [u8],
    delimiter: u8,
    quote: Option<u8>,
    columns: usize,
    scanner: Scanner,
    masks: Vec<Masks>,
    /// Where the next stride starts.
    at: usize,
    /// Start of the record that is being read.
    record: u32,
    /// Start of the field that is being read.
    field: u32,
    /// Line ends seen so far, and at the start of the record.
    line: u32,
    record_line: u32,
    /// Inside quotes; the line on which they were opened.
    quoted: bool,
    opened: u32,
    /// A quote at this offset is the second of a doubled pair.
    skip: usize,
    /// Field of the record after whose closing quote there was text.
    text_after: Option<u32>,
    /// Ends of the fields of a record that goes on in the next slice.
    carried: Vec<u32>,
    finished: bool,
}

impl<'b> Splitter<'b> {
    /// Splits `block`, whose records have `columns` fields.
    pub fn new(block: &'b Block, dialect: &Dialect, columns: usize) -> Self {
        Self::of_text(block.text(), dialect, columns)
    }

    pub(super) fn of_text(text: &'b [u8], dialect: &Dialect, columns: usize) -> Self {
        assert!(u32::try_from(text.len()).is_ok(), "blocks are far below 4 GiB");
        Splitter {
            text,
            delimiter: dialect.delimiter,
            quote: dialect.quote,
            columns: columns.max(1),
            scanner: Scanner::new(dialect.delimiter, dialect.quote),
            masks: Vec::new(),
            at: 0,
            record: 0,
            field: 0,
            line: 0,
            record_line: 0,
            quoted: false,
            opened: 0,
            skip: usize::MAX,
            text_after: None,
            carried: Vec::new(),
            finished: text.is_empty(),
        }
    }

    /// Replaces `records` by the next ones of the block: at least `most`, unless the block ends
    /// first. Returns `false` where nothing was left.
    pub fn fill(&mut self, records: &mut Records, most: usize) -> bool {
        records.clear(self.columns);
        if self.finished {
            return false;
        }
        records.ends.append(&mut self.carried);
        let mut masks = std::mem::take(&mut self.masks);
        while self.at < self.text.len() && records.len() < most {
            let stride = &self.text[self.at..self.text.len().min(self.at + STRIDE)];
            self.scanner.scan(stride, &mut masks);
            let base = self.at;
            for (index, word) in masks.iter().enumerate() {
                if !self.quoted && word.quote == 0 {
                    self.plain_word(records, base + index * WORD, *word);
                } else {
                    self.quoted_word(records, base + index * WORD, *word);
                }
            }
            self.at += stride.len();
        }
        self.masks = masks;
        if self.at >= self.text.len() {
            self.finish(records);
        } else {
            let whole = records.len() * self.columns;
            self.carried.extend(records.ends.drain(whole..));
        }
        true
    }

    #[inline]
    fn plain_word(&mut self, records: &mut Records, base: usize, word: Masks) {
        let mut separators = word.delimiter | word.newline;
        while separators != 0 {
            let bit = separators & separators.wrapping_neg();
            let at = base + separators.trailing_zeros() as usize;
            separators ^= bit;
            if word.newline & bit != 0 {
                self.line += 1;
                self.end_record(records, at, at + 1);
            } else {
                records.ends.push(at as u32);
                self.field = at as u32 + 1;
            }
        }
    }

    /// The exact path: every structural byte in order, with the state of the quotes.
    fn quoted_word(&mut self, records: &mut Records, base: usize, word: Masks) {
        let mut marks = word.delimiter | word.newline | word.quote;
        while marks != 0 {
            let bit = marks & marks.wrapping_neg();
            let at = base + marks.trailing_zeros() as usize;
            marks ^= bit;
            if word.quote & bit != 0 {
                self.quote_at(records, at);
            } else if word.newline & bit != 0 {
                self.line += 1;
                if !self.quoted {
                    self.end_record(records, at, at + 1);
                }
            } else if !self.quoted {
                records.ends.push(at as u32);
                self.field = at as u32 + 1;
            }
        }
    }

    fn quote_at(&mut self, records: &Records, at: usize) {
        if at == self.skip {
            return;
        }
        if !self.quoted {
            if at == self.field as usize {
                self.quoted = true;
                self.opened = self.line;
            }
            return;
        }
        let next = self.text.get(at + 1).copied();
        if next == self.quote {
            self.skip = at + 1;
            return;
        }
        self.quoted = false;
        let closed = match next {
            None | Some(b'\n') => true,
            Some(b'\r') => matches!(self.text.get(at + 2), None | Some(b'\n')),
            Some(byte) => byte == self.delimiter,
        };
        if !closed && self.text_after.is_none() {
            self.text_after = Some((records.ends.len() - records.len() * self.columns) as u32);
        }
    }

    /// The record ends at `at`; the next one starts at `next`.
    #[inline]
    fn end_record(&mut self, records: &mut Records, at: usize, next: usize) {
        let mut end = at;
        if end > self.field as usize && self.text[end - 1] == b'\r' {
            end -= 1;
        }
        records.ends.push(end as u32);
        let whole = records.starts.len() * self.columns;
        let blank = end as u32 == self.record && self.columns > 1;
        if records.ends.len() - whole == self.columns && self.text_after.is_none() && !blank {
            records.starts.push(self.record);
            records.lines.push(self.record_line);
        } else {
            self.set_aside(records, end, blank);
        }
        self.record = next as u32;
        self.field = next as u32;
        self.record_line = self.line;
    }

    #[cold]
    fn set_aside(&mut self, records: &mut Records, end: usize, blank: bool) {
        let whole = records.starts.len() * self.columns;
        let found = (records.ends.len() - whole) as u32;
        records.ends.truncate(whole);
        let text_after = self.text_after.take();
        if blank {
            return;
        }
        let expected = self.columns as u32;
        let kind = match text_after {
            _ if self.quoted => BrokenKind::NeverClosed { lines_before: self.opened },
            Some(field) => BrokenKind::TextAfterQuote { field },
            None => BrokenKind::FieldCount { found, expected },
        };
        records.broken.push(Broken {
            start: self.record,
            end: end as u32,
            line: self.record_line,
            row: records.starts.len() as u32,
            kind,
        });
    }

    fn finish(&mut self, records: &mut Records) {
        self.finished = true;
        if self.record as usize >= self.text.len() {
            return;
        }
        let end = self.text.len();
        if self.quoted {
            records.ends.push(end as u32);
            self.set_aside(records, end, false);
        } else {
            self.end_record(records, end, end);
        }
    }
}

/// The value of a field: without its quotes, doubled quotes made one.
///
/// `raw` is the field as it stands in the text. Borrows from `raw` where nothing has to change, and
/// from `scratch` where it does.
#[inline]
pub fn unquote<'a>(raw: &'a [u8], quote: Option<u8>, scratch: &'a mut Vec<u8>) -> &'a [u8] {
    match quote {
        Some(quote) if raw.first() == Some(&quote) => unquote_quoted(raw, quote, scratch),
        _ => raw,
    }
}

fn unquote_quoted<'a>(raw: &'a [u8], quote: u8, scratch: &'a mut Vec<u8>) -> &'a [u8] {
    let inner = &raw[1..];
    match memchr::memchr(quote, inner) {
        None => return inner,
        Some(at) if at + 1 == inner.len() => return &inner[..at],
        Some(_) => scratch.clear(),
    }
    let mut rest = inner;
    while let Some(at) = memchr::memchr(quote, rest) {
        scratch.extend_from_slice(&rest[..at]);
        rest = &rest[at + 1..];
        if rest.first() != Some(&quote) {
            break;
        }
        scratch.push(quote);
        rest = &rest[1..];
    }
    scratch.extend_from_slice(rest);
    scratch
}

impl BrokenKind {
    /// What is wrong, as a clause: "has 3 fields instead of 10".
    pub fn describe(self, first_line: u64) -> Cow<'static, str> {
        match self {
            BrokenKind::FieldCount { found, expected } => {
                let plural = if found == 1 { "field" } else { "fields" };
                format!("has {found} {plural} instead of {expected}").into()
            }
            BrokenKind::TextAfterQuote { field } => {
                format!("has text after the closing quote of field {}", field + 1).into()
            }
            BrokenKind::NeverClosed { lines_before } => {
                let line = first_line + u64::from(lines_before);
                format!("has a quote, opened in line {line}, that is never closed").into()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::PlainRecords;
    use super::*;
    use proptest::prelude::*;

    /// What both splitters are asked for: values and line of whole records, and the broken ones.
    type Split = (Vec<(Vec<Vec<u8>>, u32)>, Vec<(u32, u32, u32, BrokenKind)>);

    fn fast(text: &[u8], dialect: &Dialect, columns: usize, most: usize) -> Split {
        let mut splitter = Splitter::of_text(text, dialect, columns);
        let (mut whole, mut broken) = (Vec::new(), Vec::new());
        let (mut records, mut scratch) = (Records::default(), Vec::new());
        while splitter.fill(&mut records, most) {
            for row in 0..records.len() {
                let value = |column| {
                    let (start, end) = records.bounds(row, column);
                    unquote(&text[start..end], dialect.quote, &mut scratch).to_vec()
                };
                whole.push(((0..columns).map(value).collect(), records.line(row)));
            }
            broken.extend(records.broken().iter().map(|b| (b.start, b.end, b.line, b.kind)));
        }
        (whole, broken)
    }

    fn plain(text: &[u8], dialect: &Dialect, columns: usize) -> Split {
        let (mut whole, mut broken) = (Vec::new(), Vec::new());
        let mut scratch = Vec::new();
        for record in PlainRecords::new(text, *dialect) {
            let (found, expected) = (record.fields.len() as u32, columns as u32);
            let kind = match record.broken {
                None if columns > 1 && record.is_blank() => continue,
                None if found != expected => Some(BrokenKind::FieldCount { found, expected }),
                other => other,
            };
            match kind {
                Some(kind) => {
                    let end = record.fields.last().unwrap().1;
                    broken.push((record.start as u32, end as u32, record.line as u32, kind));
                }
                None => {
                    let values = record.fields.iter().map(|(start, end)| {
                        unquote(&text[*start..*end], dialect.quote, &mut scratch).to_vec()
                    });
                    whole.push((values.collect(), record.line as u32));
                }
            }
        }
        (whole, broken)
    }

    fn structural_text() -> impl Strategy<Value = Vec<u8>> {
        let byte = prop_oneof![
            4 => Just(b','), 3 => Just(b'\n'), 3 => Just(b'"'), 1 => Just(b'\r'), 6 => Just(b'a'),
            1 => any::<u8>(),
        ];
        proptest::collection::vec(byte, 0..400)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        #[test]
        fn any_bytes_split_as_the_plain_splitter_does(
            text in structural_text(), columns in 1usize..4, most in 1usize..5, quoted: bool,
        ) {
            let dialect = Dialect { quote: quoted.then_some(b'"'), ..Dialect::RFC_4180 };
            prop_assert_eq!(fast(&text, &dialect, columns, most), plain(&text, &dialect, columns));
        }
    }

    #[test]
    fn records_longer_than_a_stride_are_whole() {
        let long = "x".repeat(3 * STRIDE);
        let text = format!("a,b\n{long},\"{long}\n\"\nc,d\n");
        let (whole, broken) = fast(text.as_bytes(), &Dialect::RFC_4180, 2, 1);
        assert_eq!(broken, []);
        assert_eq!(whole.len(), 3);
        assert_eq!(whole[1].0[1].len(), long.len() + 1);
        assert_eq!(whole[2].1, 3, "the line break inside quotes counts as a line");
    }

    #[test]
    fn unquote_cases() {
        for (raw, want) in [
            ("", ""),
            ("a", "a"),
            ("\"\"", ""),
            ("\"a\"", "a"),
            ("\"a\"\"b\"", "a\"b"),
            ("\"\"\"\"", "\""),
            ("\"a", "a"),
            ("\"a\"b\"\"", "ab\"\""),
            ("a\"\"b", "a\"\"b"),
        ] {
            let mut scratch = Vec::new();
            assert_eq!(unquote(raw.as_bytes(), Some(b'"'), &mut scratch), want.as_bytes(), "{raw}");
        }
        assert_eq!(unquote(b"\"a\"", None, &mut Vec::new()), b"\"a\"");
    }

    #[test]
    fn retain_keeps_the_records_asked_for() {
        let text = b"a,b\nc,d\ne,f\n";
        let mut splitter = Splitter::of_text(text, &Dialect::RFC_4180, 2);
        let mut records = Records::default();
        splitter.fill(&mut records, 10);
        records.retain(|row| row != 1);
        assert_eq!(records.len(), 2);
        let (start, end) = records.record(1);
        assert_eq!(&text[start..end], b"e,f");
        assert_eq!(records.line(1), 2);
        assert_eq!(records.bounds(1, 1), (10, 11));
        assert_eq!(records.column(0).collect::<Vec<_>>(), [(0, 1, 0), (8, 9, 2)]);
        assert_eq!(records.column(1).collect::<Vec<_>>(), [(2, 3, 0), (10, 11, 2)]);
    }
}
