//! One array of JSON → JSON lines.
//!
//! Every element of the array becomes a line: line ends within it become spaces, and the comma behind it a line end.
//! An element that starts on a later line of the file than the one before it stands on that very line, so that places
//! are those of the file; of elements that share a line each but the first stands on the next.

use std::io::{self, Read};

/// Bytes that are read at a time.
const CHUNK_BYTES: usize = 64 << 10;

/// Reads the elements of one array as lines.
pub struct ArrayLines<R> {
    inner: R,
    chunk: Vec<u8>,
    at: usize,
    state: State,
    depth: u32,
    is_in_text: bool,
    is_escaped: bool,
    /// Lines of the file that were read over, and lines that were written.
    lines: u64,
    written: u64,
    /// Whether an element has begun on the line that is being written.
    has_begun: bool,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum State {
    /// Before the array.
    Before,
    /// In it.
    Inside,
    /// Behind it, where there should be nothing more: what there is makes a line of its own.
    Behind,
}

impl<R: Read> ArrayLines<R> {
    /// Reads the array that is the whole of `inner`.
    pub fn new(inner: R) -> ArrayLines<R> {
        ArrayLines {
            inner,
            chunk: Vec::new(),
            at: 0,
            state: State::Before,
            depth: 0,
            is_in_text: false,
            is_escaped: false,
            lines: 0,
            written: 0,
            has_begun: false,
        }
    }

    /// What a byte of the array becomes.
    fn put(&mut self, byte: u8, to: &mut Vec<u8>) {
        self.lines += u64::from(byte == b'\n');
        if self.is_in_text {
            to.push(if byte == b'\n' { b' ' } else { byte });
            self.is_in_text = self.is_escaped || byte != b'"';
            self.is_escaped = byte == b'\\' && !self.is_escaped;
            return;
        }
        match (self.state, byte) {
            (State::Before, b'[') => self.state = State::Inside,
            (State::Inside, b']') if self.depth == 0 => {
                self.end_line(to);
                self.state = State::Behind;
            }
            (State::Inside, b',') if self.depth == 0 => self.end_line(to),
            (_, b'\n' | b'\r') => {
                if self.has_begun {
                    to.push(b' ');
                }
            }
            (_, b' ' | b'\t') if !self.has_begun => {}
            _ => {
                if !self.has_begun {
                    // As many lines are written as were read.
                    while self.written < self.lines {
                        to.push(b'\n');
                        self.written += 1;
                    }
                    self.has_begun = true;
                }
                self.depth += u32::from(matches!(byte, b'{' | b'['));
                self.depth = self.depth.saturating_sub(u32::from(matches!(byte, b'}' | b']')));
                self.is_in_text = byte == b'"';
                to.push(byte);
            }
        }
    }

    fn end_line(&mut self, to: &mut Vec<u8>) {
        if self.has_begun {
            to.push(b'\n');
            self.written += 1;
            self.has_begun = false;
        }
    }
}

impl<R: Read> Read for ArrayLines<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.chunk.len() {
            let mut raw = vec![0; CHUNK_BYTES];
            let read = self.inner.read(&mut raw)?;
            if read == 0 {
                return Ok(0);
            }
            let mut chunk = std::mem::take(&mut self.chunk);
            chunk.clear();
            raw[..read].iter().for_each(|byte| self.put(*byte, &mut chunk));
            (self.chunk, self.at) = (chunk, 0);
        }
        let count = buffer.len().min(self.chunk.len() - self.at);
        buffer[..count].copy_from_slice(&self.chunk[self.at..self.at + count]);
        self.at += count;
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn lines(text: &str) -> String {
        let mut lines = String::new();
        ArrayLines::new(text.as_bytes()).read_to_string(&mut lines).unwrap();
        lines
    }

    #[test]
    fn elements_stand_on_the_lines_they_start_on() {
        assert_eq!(lines("[{\"a\":1},{\"a\":2}]\n"), "{\"a\":1}\n{\"a\":2}\n");
        assert_eq!(
            lines("[\n  {\"a\":\n 1},\n\n  {\"a\":[1,2]}\n]"),
            "\n{\"a\":  1}\n\n\n{\"a\":[1,2]} \n"
        );
        assert_eq!(lines("[]"), "");
        assert_eq!(lines("[1] x"), "1\nx");
        assert_eq!(lines("[\"a,]\\\"\",2"), "\"a,]\\\"\"\n2");
    }

    proptest! {
        #[test]
        fn every_element_is_a_line(
            texts in proptest::collection::vec(("[a-z\"\\\\\\[\\]{},]{0,8}", proptest::collection::vec(any::<i8>(), 0..4)), 0..20),
            is_pretty: bool,
        ) {
            let elements: Vec<serde_json::Value> =
                texts.iter().map(|(text, numbers)| serde_json::json!({"t": text, "n": numbers})).collect();
            let written = match is_pretty {
                true => serde_json::to_string_pretty(&elements).unwrap(),
                false => serde_json::to_string(&elements).unwrap(),
            };
            let lines = lines(&written);
            let found = lines.lines().enumerate().filter(|(_, line)| !line.is_empty());
            let found: Vec<(usize, serde_json::Value)> =
                found.map(|(at, line)| (at, serde_json::from_str(line).unwrap())).collect();
            if is_pretty {
                let starts = written.lines().enumerate().filter(|(_, line)| line.starts_with("  {"));
                let starts: Vec<usize> = starts.map(|(at, _)| at).collect();
                let found_at: Vec<usize> = found.iter().map(|(at, _)| *at).collect();
                prop_assert_eq!(found_at, starts);
            }
            let found: Vec<_> = found.into_iter().map(|(_, value)| value).collect();
            prop_assert_eq!(found, elements);
        }
    }
}
