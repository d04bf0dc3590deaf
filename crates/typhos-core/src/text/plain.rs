//! The slow, obvious splitter: one byte after another.
//!
//! It reads heads of files (to find the dialect and the header, where counts of fields are not known
//! yet), and it is the oracle that the fast splitter is held against.

use std::borrow::Cow;

use super::{BrokenKind, Dialect, Escape};
use crate::readings::trim;
use crate::records::Values;

/// One record as the plain splitter finds it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlainRecord {
    /// Where the record starts in the text.
    pub start: usize,
    /// Where the next record starts: after the line end.
    pub next: usize,
    /// Line ends before the record.
    pub line: usize,
    /// Start and end of every field, quotes included, the line end not.
    pub fields: Vec<(usize, usize)>,
    /// What is wrong with the record, apart from its number of fields.
    pub broken: Option<BrokenKind>,
    /// Whether the record was ended by a line end, and not by the end of the text.
    pub complete: bool,
}

impl PlainRecord {
    /// The fields as text, quotes taken off, bytes that are not UTF-8 replaced (for names).
    pub fn texts<'t>(&self, text: &'t [u8], dialect: &Dialect) -> Vec<Cow<'t, str>> {
        let mut scratch = Vec::new();
        let values = self.fields.iter().map(|(start, end)| {
            let raw = &text[*start..*end];
            if dialect.is_plain(raw) {
                return String::from_utf8_lossy(raw);
            }
            let value = dialect.value(raw, &mut scratch);
            Cow::Owned(String::from_utf8_lossy(value).into_owned())
        });
        values.collect()
    }

    /// Whether there is nothing on the line but white space.
    pub fn is_blank(&self, text: &[u8]) -> bool {
        matches!(self.fields[..], [(start, end)] if trim(&text[start..end]).is_empty())
    }

    /// Whether the last field is empty, as behind a delimiter that ends the record.
    pub fn ends_in_delimiter(&self) -> bool {
        self.fields.len() > 1 && self.fields.last().is_some_and(|(start, end)| start == end)
    }
}

/// All records of a text, blank lines included, comments not.
#[derive(Debug)]
pub struct PlainRecords<'t> {
    text: &'t [u8],
    dialect: Dialect,
    at: usize,
    line: usize,
    /// Fields of the last record: others have as many, mostly.
    fields: usize,
    /// For each byte, whether it may be more than a byte of a field, wherever it stands.
    special: [bool; 256],
}

impl<'t> PlainRecords<'t> {
    /// Splits `text`, which starts at the start of a record.
    pub fn new(text: &'t [u8], dialect: Dialect) -> Self {
        let mut special = [false; 256];
        for byte in [dialect.delimiter, b'\n', b'\r', b'\\'].into_iter().chain(dialect.quote) {
            special[usize::from(byte)] = true;
        }
        PlainRecords { text, dialect, at: 0, line: 0, fields: 0, special }
    }

    /// Goes on at the line behind the one in which the quote of a record was opened that is never closed.
    pub(super) fn go_on_behind(&mut self, record: &PlainRecord) {
        let Some(BrokenKind::NeverClosed { lines_before, .. }) = record.broken else { return };
        (self.at, self.line) = (record.start, record.line);
        while self.line <= lines_before as usize && self.at < self.text.len() {
            self.at += self.dialect.line_ends.after_first(&self.text[self.at..]);
            self.line += 1;
        }
    }

    fn has(&self, at: usize, byte: u8) -> bool {
        self.text.get(at) == Some(&byte)
    }

    fn has_quote(&self, at: usize) -> bool {
        self.dialect.quote.is_some_and(|quote| self.has(at, quote))
    }

    /// Bytes of the line end at a place, where there is one.
    fn line_end(&self, at: usize) -> Option<usize> {
        match self.text.get(at)? {
            b'\n' => Some(1),
            b'\r' if self.dialect.line_ends.has_cr() => {
                Some(1 + usize::from(self.has(at + 1, b'\n')))
            }
            _ => None,
        }
    }

    /// Bytes that a backslash at a place has to do with: itself and what it escapes.
    fn escape(&self, at: usize) -> Option<usize> {
        let next = *self.text.get(at + 1)?;
        let is_one = self.dialect.escape == Escape::Backslash && self.has(at, b'\\');
        (is_one && self.dialect.is_escapable(next)).then(|| 1 + self.line_end(at + 1).unwrap_or(1))
    }

    /// Whether a quoted field may end before a place.
    fn is_closed(&self, at: usize) -> bool {
        at >= self.text.len()
            || self.has(at, self.dialect.delimiter)
            || self.line_end(at).is_some()
            || self.has(at, b'\r') && (at + 1 == self.text.len() || self.has(at + 1, b'\n'))
    }

    /// The place after the closing quote of the field that starts at `at`; `None` where it is never
    /// closed.
    fn after_quoted(&mut self, at: usize) -> Option<usize> {
        let mut at = at + 1;
        while at < self.text.len() {
            if let Some(length) = self.escape(at) {
                self.line += usize::from(self.line_end(at + 1).is_some());
                at += length;
            } else if self.has_quote(at) && self.has_quote(at + 1) {
                at += 2;
            } else if self.has_quote(at) {
                return Some(at + 1);
            } else {
                let line_end = self.line_end(at);
                self.line += usize::from(line_end.is_some());
                at += line_end.unwrap_or(1);
            }
        }
        None
    }
}

impl Iterator for PlainRecords<'_> {
    type Item = PlainRecord;

    fn next(&mut self) -> Option<PlainRecord> {
        while self.dialect.comment.is_some_and(|comment| self.has(self.at, comment)) {
            let length = self.dialect.line_ends.after_first(&self.text[self.at..]);
            self.line += self.dialect.line_ends.count(&self.text[self.at..self.at + length]);
            self.at += length;
        }
        let (text, start) = (self.text, self.at);
        if start >= text.len() {
            return None;
        }
        let mut record = PlainRecord {
            start,
            next: text.len(),
            line: self.line,
            fields: Vec::with_capacity(self.fields),
            broken: None,
            complete: false,
        };
        let mut field = start;
        let mut at = start;
        let mut end = text.len();
        while at < text.len() {
            if !self.special[usize::from(text[at])] {
                at += 1;
            } else if at == field && self.has_quote(at) {
                let opened = self.line;
                let Some(after) = self.after_quoted(at) else {
                    let lines = (self.line - record.line) as u32 + 1;
                    let lines_before = opened as u32;
                    record.broken =
                        Some(BrokenKind::NeverClosed { lines_before, lines, next: None });
                    break;
                };
                if !self.is_closed(after) && record.broken.is_none() {
                    let field = record.fields.len() as u32;
                    record.broken = Some(BrokenKind::TextAfterQuote { field });
                }
                at = after;
            } else if let Some(length) = self.escape(at) {
                self.line += usize::from(self.line_end(at + 1).is_some());
                at += length;
            } else if let Some(length) = self.line_end(at) {
                self.line += 1;
                record.complete = true;
                record.next = at + length;
                end = at;
                break;
            } else {
                if text[at] == self.dialect.delimiter {
                    record.fields.push((field, at));
                    field = at + 1;
                }
                at += 1;
            }
        }
        if end > field
            && text[end - 1] == b'\r'
            && !self.dialect.line_ends.has_cr()
            && record.broken.is_none_or(|b| !b.is_never_closed())
        {
            end -= 1;
        }
        record.fields.push((field, end));
        self.fields = record.fields.len();
        self.at = record.next;
        Some(record)
    }
}

#[cfg(test)]
mod tests {
    use super::super::LineEnds;
    use super::*;

    fn split(text: &str, dialect: Dialect) -> Vec<Vec<String>> {
        let texts = |record: PlainRecord| record.texts(text.as_bytes(), &dialect);
        let records = PlainRecords::new(text.as_bytes(), dialect).map(texts);
        records.map(|record| record.into_iter().map(Cow::into_owned).collect()).collect()
    }

    #[test]
    fn cases() {
        for (text, want) in [
            ("", vec![]),
            ("a,b\n", vec![vec!["a", "b"]]),
            ("a,b", vec![vec!["a", "b"]]),
            ("a,b\r\nc,d\r\n", vec![vec!["a", "b"], vec!["c", "d"]]),
            (",\n\n", vec![vec!["", ""], vec![""]]),
            ("\"a,\n\"\"b\",c\n", vec![vec!["a,\n\"b", "c"]]),
            ("5\" pipe,\"\"\n", vec![vec!["5\" pipe", ""]]),
            ("\"a\"b,c\n", vec![vec!["ab", "c"]]),
            ("a,\"b\nc", vec![vec!["a", "b\nc"]]),
            ("a\rb\n", vec![vec!["a\rb"]]),
        ] {
            assert_eq!(split(text, Dialect::RFC_4180), want, "{text:?}");
        }
        let mixed = Dialect { line_ends: LineEnds::Mixed, ..Dialect::RFC_4180 };
        for (text, want) in [
            ("a\rb\nc\r\nd", vec![vec!["a"], vec!["b"], vec!["c"], vec!["d"]]),
            ("\"a\rb\"\rc", vec![vec!["a\rb"], vec!["c"]]),
            ("a\r\rb", vec![vec!["a"], vec![""], vec!["b"]]),
        ] {
            assert_eq!(split(text, mixed), want, "{text:?}");
        }
        let backslash = Dialect { escape: Escape::Backslash, ..Dialect::RFC_4180 };
        for (text, want) in [
            ("\"a\\\",\",b\n", vec![vec!["a\",", "b"]]),
            ("a\\,b,c\\\nd\n", vec![vec!["a,b", "c\nd"]]),
            ("\"a\\\\\",b\n", vec![vec!["a\\", "b"]]),
        ] {
            assert_eq!(split(text, backslash), want, "{text:?}");
        }
        let comments = Dialect { comment: Some(b'#'), ..Dialect::RFC_4180 };
        let text = "# it's \"so\",\na,#b\n#\n#c";
        assert_eq!(split(text, comments), [["a", "#b"]]);
    }

    #[test]
    fn lines_count_line_ends_inside_quotes_and_comments() {
        let text = b"a\n#\n\"b\n\n\"\nc\n";
        let dialect = Dialect { comment: Some(b'#'), ..Dialect::RFC_4180 };
        let lines: Vec<_> = PlainRecords::new(text, dialect).map(|r| r.line).collect();
        assert_eq!(lines, [0, 2, 5]);
    }
}
