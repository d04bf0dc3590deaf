//! One array of JSON, or objects that go over several lines → JSON lines.
//!
//! Every element of the array, or every object, becomes a line: line ends within it become spaces, and the comma behind an element a
//! line end. What starts on a later line of the file than what came before it stands on that very line, so that places
//! are those of the file; of what shares a line each but the first stands on the next.
//!
//! No text of JSON has a line end in it. Where one does, the line end becomes a control character, which the record is broken by as it
//! should be. Where the next line begins as one of its own does, with a quote or a bracket that closes, the text is taken for one that was never
//! closed; otherwise it goes on. So neither takes other records along.

use std::io::{self, Read};

use crate::readings::is_json;

/// Bytes that are read at a time.
const CHUNK_BYTES: usize = 64 << 10;

/// What stands for a line end in a text: no text has it.
const UNCLOSED: u8 = 0x0b;

/// How objects of JSON stand in a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum JsonShape {
    /// Each on a line of its own.
    Lines,
    /// One after the other, each over as many lines as it likes.
    Objects,
    /// As the elements of one array.
    Array,
}

impl JsonShape {
    /// How objects stand in a text that begins with this; `is_all` says that there is no more of it.
    pub fn of(head: &[u8], is_all: bool) -> JsonShape {
        let text = head.trim_ascii_start();
        if text.first() != Some(&b'{') {
            return if text.first() == Some(&b'[') { JsonShape::Array } else { JsonShape::Lines };
        }
        let mut lines = text.split(|byte| *byte == b'\n').map(<[u8]>::trim_ascii);
        let first = lines.next().unwrap_or_default();
        if first.len() == text.len() || is_json(first) {
            return JsonShape::Lines;
        }
        let second = lines.find(|line| !line.is_empty()).unwrap_or_default();
        let goes_over_lines = match end_of_object(text) {
            Some(end) if is_json(&text[..end]) => true,
            // A record that was cut off is followed by others.
            None if !is_all => !is_json(second),
            // One that is broken otherwise begins as no other would.
            _ => matches!(first, [.., b'{' | b'[' | b',' | b':']) && second.first() != Some(&b'{'),
        };
        if goes_over_lines { JsonShape::Objects } else { JsonShape::Lines }
    }
}

/// Where the object ends that a text begins with, if it does.
fn end_of_object(text: &[u8]) -> Option<usize> {
    let (mut depth, mut is_in_text, mut is_escaped) = (0u64, false, false);
    for (at, byte) in text.iter().enumerate() {
        match byte {
            _ if is_escaped => is_escaped = false,
            b'\\' if is_in_text => is_escaped = true,
            b'"' => is_in_text = !is_in_text,
            _ if is_in_text => {}
            b'{' | b'[' => depth += 1,
            b'}' | b']' if depth <= 1 => return Some(at + 1),
            b'}' | b']' => depth -= 1,
            _ => {}
        }
    }
    None
}

/// Reads the elements of one array, or objects that go over several lines, as lines.
pub struct JsonLines<R> {
    inner: R,
    chunk: Vec<u8>,
    at: usize,
    state: State,
    depth: u32,
    is_in_text: bool,
    is_escaped: bool,
    /// Whether nothing but white space came behind a line end in a text.
    is_doubtful: bool,
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
    /// Among objects that are in none. What is no object makes a line of its own, as far as its own line goes.
    Objects,
}

impl<R: Read> JsonLines<R> {
    /// Reads the array that is the whole of `inner`.
    pub fn of_array(inner: R) -> JsonLines<R> {
        JsonLines::new(inner, State::Before)
    }

    /// Reads the objects that are one after the other in `inner`.
    pub fn of_objects(inner: R) -> JsonLines<R> {
        JsonLines::new(inner, State::Objects)
    }

    fn new(inner: R, state: State) -> JsonLines<R> {
        JsonLines {
            inner,
            chunk: Vec::new(),
            at: 0,
            state,
            depth: 0,
            is_in_text: false,
            is_escaped: false,
            is_doubtful: false,
            lines: 0,
            written: 0,
            has_begun: false,
        }
    }

    /// What a byte becomes.
    fn put(&mut self, byte: u8, to: &mut Vec<u8>) {
        self.lines += u64::from(byte == b'\n');
        if self.is_in_text {
            // What a line of its own begins with ends a text that was not closed; anything else goes on in it.
            let is_blank = matches!(byte, b' ' | b'\t' | b'\r');
            if self.is_doubtful && matches!(byte, b'"' | b'}' | b']') {
                (self.is_in_text, self.is_doubtful) = (false, false);
                return self.put(byte, to);
            }
            self.is_doubtful = byte == b'\n' || self.is_doubtful && is_blank;
            to.push(if byte == b'\n' { UNCLOSED } else { byte });
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
            (State::Objects, b'\n') if self.depth == 0 => self.end_line(to),
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
                let is_object = self.state == State::Objects && self.depth == 0;
                if is_object && matches!(byte, b'}' | b']') {
                    self.end_line(to);
                }
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

impl<R: Read> Read for JsonLines<R> {
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
        JsonLines::of_array(text.as_bytes()).read_to_string(&mut lines).unwrap();
        lines
    }

    fn objects(text: &str) -> String {
        let mut lines = String::new();
        JsonLines::of_objects(text.as_bytes()).read_to_string(&mut lines).unwrap();
        lines
    }

    #[test]
    fn objects_stand_on_the_lines_they_start_on() {
        assert_eq!(
            objects("{\n \"a\": 1\n}\n{\n \"a\": 2}\n"),
            "{  \"a\": 1 }\n\n\n{  \"a\": 2}\n"
        );
        assert_eq!(
            objects("{\"a\":\r\n1}{\"a\":2} {\"a\":3}"),
            "{\"a\":  1}\n{\"a\":2}\n{\"a\":3}\n"
        );
        // What is no object is told with its own line, and what comes behind it is read.
        assert_eq!(objects("{\"a\":\n1}\nx y\n{\"a\":\n2}"), "{\"a\": 1}\n\nx y\n{\"a\": 2}\n");
        // A text that was not closed, and one that has a line end in it.
        assert_eq!(
            objects("{\"a\":\n\"x\ny\"}\n{\"a\":\n2}"),
            "{\"a\": \"x\u{b}y\"}\n\n\n{\"a\": 2}\n"
        );
        assert_eq!(objects("{\n\"a\": \"x\n}\n{\n}"), "{ \"a\": \"x\u{b}}\n\n\n{ }\n");
    }

    #[test]
    fn shapes_are_told_from_each_other() {
        use JsonShape::{Array, Lines, Objects};
        for (text, shape) in [
            ("{\"a\": 1}\n{\"a\": 2}\n", Lines),
            ("{\"a\": 1}\n{\"a\": \n", Lines),
            ("{\"a\": 1}", Lines),
            ("{\"a\": 1", Lines),
            // The first record was cut off.
            ("{\"a\": 1,\n{\"a\": 2}\n{\"a\": 3}\n", Lines),
            ("{\"a\": {\"b\": 1\n{\"a\": {\"b\": 2}}\n", Lines),
            ("{\n  \"a\": \"}\"\n}\n", Objects),
            ("\n{\"a\": {\n\"b\": [1,\n2]}}\n{\"a\":\n1}", Objects),
            ("{\n  \"a\": 1,\n}\n", Objects),
            ("{\n  \"a\": \"x\n}\n", Objects),
            ("{\"a\": 1]\nx\n", Lines),
            (" [\n{}]", Array),
            ("x", Lines),
        ] {
            assert_eq!(JsonShape::of(text.as_bytes(), true), shape, "{text}");
        }
        // Of one that does not end in what was read of it.
        assert_eq!(JsonShape::of(b"{\n \"a\": [\n  1,\n  2,", false), Objects);
        assert_eq!(JsonShape::of(b"{\"a\": [\n{\"a\": []}\n{\"a\": []}\n", false), Lines);
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
            // The same without the array: as many objects, on the lines that they start on.
            let each = elements.iter().map(|element| serde_json::to_string_pretty(element).unwrap());
            let one_by_one: String = each.map(|text| text + "\n").collect();
            let shape = JsonShape::of(one_by_one.as_bytes(), true);
            prop_assert_eq!(shape == JsonShape::Objects, !elements.is_empty());
            let lines = objects(&one_by_one);
            let starts = one_by_one.lines().enumerate().filter(|(_, line)| *line == "{");
            let found_at = lines.lines().enumerate().filter(|(_, line)| !line.is_empty());
            prop_assert_eq!(found_at.map(|(at, _)| at).collect::<Vec<_>>(), starts.map(|(at, _)| at).collect::<Vec<_>>());
            let again = lines.lines().filter(|line| !line.is_empty());
            let again: Vec<serde_json::Value> = again.map(|line| serde_json::from_str(line).unwrap()).collect();
            prop_assert_eq!(&again, &elements);
            let found: Vec<_> = found.into_iter().map(|(_, value)| value).collect();
            prop_assert_eq!(found, elements);
        }
    }
}
