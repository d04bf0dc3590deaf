//! A text without its last lines: totals and remarks below a table are held back until it is known that no
//! more comes behind them.

use std::io::{self, Read};

use super::LineEnds;

/// Bytes that are read at a time.
const CHUNK_BYTES: usize = 64 << 10;

/// The most bytes that are held back: lines that are longer are no remarks.
const MOST_BYTES: usize = 64 << 20;

/// Reads a text but for its last lines.
pub(super) struct HeldBack<R> {
    inner: R,
    lines: u32,
    line_ends: LineEnds,
    text: Vec<u8>,
    /// What of `text` was handed out, and up to where it can be.
    at: usize,
    free: usize,
    ended: bool,
}

impl<R: Read> HeldBack<R> {
    /// Reads `inner` without so many lines at its end. A line end at the very end starts no further line.
    pub fn new(inner: R, lines: u32, line_ends: LineEnds) -> Self {
        HeldBack { inner, lines, line_ends, text: Vec::new(), at: 0, free: 0, ended: false }
    }

    fn fill(&mut self) -> io::Result<()> {
        while self.at == self.free && !self.ended {
            self.text.drain(..self.at);
            (self.at, self.free) = (0, 0);
            let chunk = CHUNK_BYTES.max(self.text.len());
            let read = (&mut self.inner).take(chunk as u64).read_to_end(&mut self.text)?;
            self.ended = read == 0;
            // The last line may have no end; while more may come, it is not known to be the last.
            let is_open = !ends_line(&self.text, self.line_ends);
            let ends = self.lines as usize + usize::from(!(self.ended && is_open));
            self.free = behind_end(&self.text, ends, self.line_ends);
            if self.text.len() - self.free > MOST_BYTES {
                let what = format!("its last {} lines are longer than 64 MiB", self.lines);
                return Err(io::Error::other(what));
            }
        }
        Ok(())
    }
}

/// Whether a text ends in a line end.
fn ends_line(text: &[u8], line_ends: LineEnds) -> bool {
    match text.last() {
        Some(b'\n') => true,
        Some(b'\r') => line_ends.has_cr(),
        _ => false,
    }
}

/// The offset behind the line end that has so many line ends from it on, itself counted; 0 where there are
/// fewer.
fn behind_end(text: &[u8], ends: usize, line_ends: LineEnds) -> usize {
    let mut at = text.len();
    for nth in 1..=ends {
        let found = match line_ends.has_cr() {
            true => memchr::memrchr2(b'\n', b'\r', &text[..at]),
            false => memchr::memrchr(b'\n', &text[..at]),
        };
        let Some(found) = found else { return 0 };
        if nth == ends {
            return found + 1;
        }
        let is_pair = text[found] == b'\n' && found > 0 && text[found - 1] == b'\r';
        at = found - usize::from(is_pair);
    }
    text.len()
}

impl<R: Read> Read for HeldBack<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.fill()?;
        let ready = &self.text[self.at..self.free];
        let count = ready.len().min(buffer.len());
        buffer[..count].copy_from_slice(&ready[..count]);
        self.at += count;
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A reader that hands out a few bytes at a time.
    struct Drops<'t>(&'t [u8], usize);

    impl Read for Drops<'_> {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            let count = self.1.min(buffer.len());
            self.0.read(&mut buffer[..count])
        }
    }

    fn without(text: &str, lines: u32, line_ends: LineEnds) -> String {
        let mut rest = String::new();
        HeldBack::new(text.as_bytes(), lines, line_ends).read_to_string(&mut rest).unwrap();
        rest
    }

    #[test]
    fn the_last_lines_are_left_out() {
        for (text, lines, want) in [
            ("a\nb\nc\n", 1, "a\nb\n"),
            ("a\nb\nc", 1, "a\nb\n"),
            ("a\nb\nc\n", 2, "a\n"),
            ("a\nb\nc\n", 3, ""),
            ("a\nb\nc\n", 9, ""),
            ("a\n\n\n", 2, "a\n"),
            ("a\r\nb\r\n", 1, "a\r\n"),
            ("a", 1, ""),
            ("", 1, ""),
        ] {
            assert_eq!(without(text, lines, LineEnds::Lf), want, "{text:?} {lines}");
        }
        assert_eq!(without("a\rb\r\nc\r", 1, LineEnds::Mixed), "a\rb\r\n");
        assert_eq!(without("a\rb\r\nc\r", 2, LineEnds::Mixed), "a\r");
    }

    proptest! {
        /// What is left out are the lines that a simple count leaves out, whatever comes at a time.
        #[test]
        fn lines_are_those_of_a_simple_count(text in "[ab\n]{0,60}", lines in 1u32..5, drops in 1usize..9) {
            let all: Vec<&str> = text.split_inclusive('\n').collect();
            let kept = all[..all.len().saturating_sub(lines as usize)].concat();
            let mut found = String::new();
            HeldBack::new(Drops(text.as_bytes(), drops), lines, LineEnds::Lf).read_to_string(&mut found).unwrap();
            prop_assert_eq!(found, kept);
        }
    }
}
