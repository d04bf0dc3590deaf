//! The slow, obvious splitter: one byte after another.
//!
//! It reads heads of files (to find the dialect and the header, where counts of fields are not known
//! yet), and it is the oracle that the fast splitter is held against.

use super::{BrokenKind, Dialect, unquote};

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
    pub fn texts(&self, text: &[u8], dialect: &Dialect) -> Vec<String> {
        let mut scratch = Vec::new();
        let values = self.fields.iter().map(|(start, end)| {
            String::from_utf8_lossy(unquote(&text[*start..*end], dialect.quote, &mut scratch))
                .into_owned()
        });
        values.collect()
    }

    /// Whether there is nothing on the line.
    pub fn is_blank(&self) -> bool {
        matches!(self.fields[..], [(start, end)] if start == end)
    }
}

/// All records of a text, blank lines included.
#[derive(Debug)]
pub struct PlainRecords<'t> {
    text: &'t [u8],
    dialect: Dialect,
    at: usize,
    line: usize,
}

impl<'t> PlainRecords<'t> {
    /// Splits `text`, which starts at the start of a record.
    pub fn new(text: &'t [u8], dialect: Dialect) -> Self {
        PlainRecords { text, dialect, at: 0, line: 0 }
    }
}

impl Iterator for PlainRecords<'_> {
    type Item = PlainRecord;

    fn next(&mut self) -> Option<PlainRecord> {
        let PlainRecords { text, dialect, .. } = *self;
        let start = self.at;
        if start >= text.len() {
            return None;
        }
        let is_quote = |at: usize| dialect.quote.is_some_and(|quote| text.get(at) == Some(&quote));
        let mut record = PlainRecord {
            start,
            next: text.len(),
            line: self.line,
            fields: Vec::new(),
            broken: None,
            complete: false,
        };
        let mut field = start;
        let mut at = start;
        let mut end = text.len();
        'bytes: while at < text.len() {
            if at == field && is_quote(at) {
                let opened = self.line;
                at += 1;
                loop {
                    match text.get(at) {
                        None => {
                            record.broken =
                                Some(BrokenKind::NeverClosed { lines_before: opened as u32 });
                            break 'bytes;
                        }
                        Some(_) if is_quote(at) && is_quote(at + 1) => at += 2,
                        Some(_) if is_quote(at) => break,
                        Some(byte) => {
                            self.line += usize::from(*byte == b'\n');
                            at += 1;
                        }
                    }
                }
                at += 1;
                let closed = match text.get(at) {
                    None | Some(b'\n') => true,
                    Some(b'\r') => matches!(text.get(at + 1), None | Some(b'\n')),
                    Some(byte) => *byte == dialect.delimiter,
                };
                if !closed && record.broken.is_none() {
                    record.broken =
                        Some(BrokenKind::TextAfterQuote { field: record.fields.len() as u32 });
                }
                continue;
            }
            match text[at] {
                b'\n' => {
                    self.line += 1;
                    record.complete = true;
                    record.next = at + 1;
                    end = at;
                    break;
                }
                byte if byte == dialect.delimiter => {
                    record.fields.push((field, at));
                    field = at + 1;
                }
                _ => {}
            }
            at += 1;
        }
        if end > field
            && text[end - 1] == b'\r'
            && record.broken.is_none_or(|b| !b.is_never_closed())
        {
            end -= 1;
        }
        record.fields.push((field, end));
        self.at = record.next;
        Some(record)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn split(text: &str) -> Vec<Vec<String>> {
        PlainRecords::new(text.as_bytes(), Dialect::RFC_4180)
            .map(|record| record.texts(text.as_bytes(), &Dialect::RFC_4180))
            .collect()
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
        ] {
            assert_eq!(split(text), want, "{text:?}");
        }
    }

    #[test]
    fn lines_count_line_ends_inside_quotes() {
        let text = b"a\n\"b\n\n\"\nc\n";
        let lines: Vec<_> = PlainRecords::new(text, Dialect::RFC_4180).map(|r| r.line).collect();
        assert_eq!(lines, [0, 1, 4]);
    }
}
