//! Rows as lines with tabs between their values, which both PostgreSQL's `COPY` and ClickHouse write: a backslash stands before
//! what would end a value, and `\N` for one that is not there.

use std::io::{self, BufRead, BufReader, Read};
use std::ops::ControlFlow;

use super::TakeRow;

/// Bytes that a row may have: as much as a record of a file.
const MOST_BYTES: usize = 256 << 20;

/// Rows of lines.
pub(crate) struct TabText<R> {
    lines: BufReader<R>,
}

/// Why lines are no rows.
#[derive(Debug)]
pub(crate) enum BadLine {
    /// They cannot be read.
    Io(io::Error),
    /// A line has another number of values: an answer that broke off, and what the server said then.
    Broken(String),
}

impl<R: Read> TabText<R> {
    pub fn new(reader: R) -> TabText<R> {
        TabText { lines: BufReader::with_capacity(1 << 16, reader) }
    }

    /// Hands every row of so many columns to `each`, until it has seen enough.
    ///
    /// # Errors
    /// What cannot be read, or is no such row.
    pub fn rows(&mut self, columns: usize, each: TakeRow<'_>) -> Result<ControlFlow<()>, BadLine> {
        let (mut line, mut plain) = (Vec::new(), Vec::new());
        let mut ends: Vec<Option<usize>> = Vec::new();
        loop {
            line.clear();
            let read = (&mut self.lines).take(MOST_BYTES as u64).read_until(b'\n', &mut line);
            if read.map_err(BadLine::Io)? == 0 {
                return Ok(ControlFlow::Continue(()));
            }
            plain.clear();
            ends.clear();
            let whole = line.strip_suffix(b"\n").ok_or_else(|| broken(&line))?;
            for field in whole.split(|byte| *byte == b'\t') {
                ends.push(if field == b"\\N" {
                    None
                } else {
                    unescape(field, &mut plain);
                    Some(plain.len())
                });
            }
            if ends.len() != columns {
                return Err(broken(&line));
            }
            let mut start = 0;
            let row: Vec<Option<&[u8]>> = ends
                .iter()
                .map(|end| end.map(|end| &plain[std::mem::replace(&mut start, end)..end]))
                .collect();
            if each(&row).is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
    }
}

fn broken(line: &[u8]) -> BadLine {
    BadLine::Broken(String::from_utf8_lossy(&line[..line.len().min(2_000)]).trim().to_owned())
}

/// Adds a field as it was meant.
pub(crate) fn unescape(field: &[u8], plain: &mut Vec<u8>) {
    let mut rest = field;
    while let Some(at) = rest.iter().position(|byte| *byte == b'\\') {
        plain.extend_from_slice(&rest[..at]);
        let Some(letter) = rest.get(at + 1) else { return };
        plain.push(match letter {
            b't' => b'\t',
            b'n' => b'\n',
            b'r' => b'\r',
            b'b' => 8,
            b'f' => 12,
            b'v' => 11,
            b'0' => 0,
            other => *other,
        });
        rest = &rest[at + 2..];
    }
    plain.extend_from_slice(rest);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    type Rows = Vec<Vec<Option<Vec<u8>>>>;

    fn rows(text: &[u8], columns: usize) -> Result<Rows, BadLine> {
        let mut found = Vec::new();
        let ended = TabText::new(text).rows(columns, &mut |row| {
            found.push(row.iter().map(|value| value.map(<[u8]>::to_vec)).collect());
            ControlFlow::Continue(())
        });
        ended.map(|_| found)
    }

    /// As both servers write it.
    fn written(rows: &Rows) -> Vec<u8> {
        let mut text = Vec::new();
        for row in rows {
            for (at, value) in row.iter().enumerate() {
                if at > 0 {
                    text.push(b'\t');
                }
                let Some(value) = value else {
                    text.extend(b"\\N");
                    continue;
                };
                for byte in value {
                    match byte {
                        b'\\' => text.extend(b"\\\\"),
                        b'\t' => text.extend(b"\\t"),
                        b'\n' => text.extend(b"\\n"),
                        0 => text.extend(b"\\0"),
                        other => text.push(*other),
                    }
                }
            }
            text.push(b'\n');
        }
        text
    }

    proptest! {
        #[test]
        fn rows_are_what_was_written(
            rows_written in proptest::collection::vec(
                proptest::collection::vec(proptest::option::of("[a\\\\N\t\n\0 é]{0,6}"), 3), 0..9),
        ) {
            let bytes = |value: &Option<String>| value.as_ref().map(|text| text.clone().into_bytes());
            let want: Rows =
                rows_written.iter().map(|row| row.iter().map(bytes).collect()).collect();
            prop_assert_eq!(rows(&written(&want), 3).unwrap(), want);
        }
    }

    #[test]
    fn an_answer_that_breaks_off_is_no_row() {
        let said = |text: &str, columns| match rows(text.as_bytes(), columns) {
            Err(BadLine::Broken(said)) => said,
            other => panic!("{other:?}"),
        };
        assert_eq!(said("a\t1\nCode: 241, memory\n", 2), "Code: 241, memory");
        assert_eq!(said("a\t1\nb\t", 2), "b", "the line has no end");
        assert_eq!(rows(b"", 2).unwrap(), Rows::new());
    }

    #[test]
    fn who_has_seen_enough_gets_no_more() {
        let mut seen = 0;
        let mut text = TabText::new(&b"a\nb\nc\n"[..]);
        let ended = text.rows(1, &mut |_| {
            seen += 1;
            if seen == 2 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        assert_eq!((ended.unwrap(), seen), (ControlFlow::Break(()), 2));
    }
}
