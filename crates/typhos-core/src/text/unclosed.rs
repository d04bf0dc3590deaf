//! A quote that is never closed: where the record ends that it stands in.
//!
//! By the rules of quotes such a record goes on to the end of the text, and takes every record behind it
//! along. It ends instead before the next line that looks like a record: one that splits, by itself, into the
//! columns of the input. What stands between belongs to the broken record. In what is left no other quote
//! of that kind can stand, since a lone one would have closed the first.

use super::{BrokenKind, Dialect, Escape, PlainRecord, PlainRecords};
use crate::records::Values;

/// A record whose quote is never closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Unclosed {
    /// Line ends before the quote.
    pub lines_before: u32,
    /// Lines that the record takes.
    pub lines: u32,
    /// Offset of the next line that looks like a record; the end of the text, where none does.
    pub next: usize,
    /// Whether there is one.
    pub has_next: bool,
}

impl Unclosed {
    /// What is wrong with the record.
    pub fn kind(&self) -> BrokenKind {
        let next = self.has_next.then_some(self.lines);
        BrokenKind::NeverClosed { lines_before: self.lines_before, lines: self.lines, next }
    }
}

/// Looks at a text that starts at the start of a record, and goes on to the end of what there is. `None`
/// where the quotes of its first record are closed.
pub(super) fn unclosed(text: &[u8], dialect: &Dialect, fields: usize) -> Option<Unclosed> {
    let first = PlainRecords::new(text, *dialect).next()?;
    let Some(BrokenKind::NeverClosed { lines_before, .. }) = first.broken else { return None };
    let ends = dialect.line_ends;
    let mut at = first.start;
    for _ in 0..=lines_before - first.line as u32 {
        at += ends.after_first(&text[at..]);
    }
    while at < text.len() && !looks_like_record(&text[at..], dialect, fields) {
        at += ends.after_first(&text[at..]);
    }
    let has_next = at < text.len();
    let mut lines = ends.count(&text[..at]) as u32;
    lines += u32::from(!has_next && !text.ends_with(b"\n"));
    Some(Unclosed { lines_before, lines, next: at, has_next })
}

/// A record without the line end behind it.
pub(super) fn without_line_end<'t>(text: &'t [u8], dialect: &Dialect) -> &'t [u8] {
    match text {
        [whole @ .., b'\r', b'\n'] | [whole @ .., b'\n'] => whole,
        [whole @ .., b'\r'] if dialect.line_ends.has_cr() => whole,
        whole => whole,
    }
}

/// Records that a record has swallowed whose quote was meant to end with its first line, and was closed by the first
/// quote of one of them. `text` is that record, to the end of its last line. They are taken for records only if all lines
/// behind the first are ones, with no quote in them that neither opens a field nor closes one.
pub(super) fn swallowed(
    text: &[u8],
    dialect: &Dialect,
    columns: usize,
) -> Option<(usize, Vec<PlainRecord>)> {
    let quote = dialect.quote.filter(|_| dialect.escape == Escape::Doubled)?;
    let first = dialect.line_ends.after_first(text);
    let (line, rest) = text.split_at(first);
    let is_open = PlainRecords::new(line, *dialect)
        .next()
        .and_then(|record| record.broken)
        .is_some_and(BrokenKind::is_never_closed);
    if rest.is_empty() || !is_open {
        return None;
    }
    let is_sound = |record: &PlainRecord| {
        let is_field = |(start, end): &(usize, usize)| {
            let raw = &rest[*start..*end];
            dialect.is_quoted(raw) || memchr::memchr(quote, raw).is_none()
        };
        record.broken.is_none()
            && record.fields.len() == columns
            && record.fields.iter().all(is_field)
    };
    // Comments and blank lines are no records, and what stands between records is not looked into.
    let records: Vec<PlainRecord> = PlainRecords::new(rest, *dialect).collect();
    let is_dense = records.first().is_some_and(|record| record.start == 0)
        && records.windows(2).all(|pair| pair[0].next == pair[1].start)
        && records.last().is_some_and(|record| record.next == rest.len());
    (is_dense && records.iter().all(is_sound)).then_some((first, records))
}

fn looks_like_record(text: &[u8], dialect: &Dialect, fields: usize) -> bool {
    let Some(record) = PlainRecords::new(text, *dialect).next() else { return false };
    let found = record.fields.len();
    let is_trailing = dialect.trailing_delimiter && record.ends_in_delimiter();
    let is_short = dialect.short_records && (2..fields).contains(&found);
    record.start == 0
        && record.broken.is_none()
        && !(fields > 1 && record.is_blank(text))
        && (found == fields || found == fields + usize::from(is_trailing) || is_short)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_that_were_swallowed_are_records() {
        let of = |text: &str, columns| {
            swallowed(text.as_bytes(), &Dialect::RFC_4180, columns)
                .map(|(_, records)| records.len())
        };
        assert_eq!(of("\"1\",\"2\n\"3\",\"4\"", 2), Some(1));
        assert_eq!(of("1,\"2\n3,4\n5,\"6\"", 2), Some(2));
        // A text of several lines, with something behind its quote.
        assert_eq!(of("\"a\nb\"x,2", 2), None);
        assert_eq!(of("\"a\n\"x,2", 2), None);
        assert_eq!(of("\"a\nhello, world\nc\"x,2", 2), None);
        assert_eq!(of("\"a\"x,2", 2), None);
        assert_eq!(of("\"1\",\"2\n\n\"3\",\"4\"", 2), None);
    }

    #[test]
    fn a_record_ends_before_the_next_line_that_looks_like_one() {
        let of = |text: &str, fields| {
            unclosed(text.as_bytes(), &Dialect::RFC_4180, fields)
                .map(|found| (found.lines_before, found.lines, found.has_next))
        };
        assert_eq!(of("1,\"a\n2,b\n3,c\n", 2), Some((0, 1, true)));
        assert_eq!(of("1,\"a\nand more\n\n3,c\n", 2), Some((0, 3, true)));
        assert_eq!(of("\"1\n\",\"a\n2,b\n", 2), Some((1, 2, true)));
        assert_eq!(of("1,\"a\nmore\nand more", 2), Some((0, 3, false)));
        assert_eq!(of("1,\"a", 2), Some((0, 1, false)));
        assert_eq!(of("\"a\nb\n", 1), Some((0, 1, true)));
        assert_eq!(of("1,\"a\"\n2,\"b\n", 2), None);
        assert_eq!(of("1,\"a\n2,\"\"\n", 2), Some((0, 1, true)));
    }
}
