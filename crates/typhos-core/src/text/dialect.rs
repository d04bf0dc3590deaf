//! How delimited text is laid out, and the words people say it in.
//!
//! The words are the same on the command line and in the `[input]` table of a schema file.

use crate::records::Values;

/// How the text of a file is laid out. All of it is known; see [`InputChoice`](super::InputChoice) for
/// what a person said of it before the rest was found from the data.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Dialect {
    /// The byte between two fields.
    pub delimiter: u8,
    /// The byte that opens and closes a quoted field; `None` where quotes mean nothing.
    pub quote: Option<u8>,
    /// How a quote is written inside a quoted field.
    pub escape: Escape,
    /// What ends a line.
    pub line_ends: LineEnds,
    /// A line that starts with this byte, where a record could start, is not a record.
    pub comment: Option<u8>,
    /// Whether a record may have one more delimiter at its end, with nothing behind it.
    pub trailing_delimiter: bool,
    /// Whether the first record holds the column names.
    pub header: bool,
    /// Lines above the first record, comments and blank lines included, that are no part of the table.
    pub skip: u32,
    /// Lines between the header and the first record, such as units.
    pub skip_below: u32,
    /// Whether fields that a record leaves out at its end are absent; otherwise it is broken.
    pub short_records: bool,
}

impl Values for Dialect {
    #[inline]
    fn value<'a>(&self, raw: &'a [u8], scratch: &'a mut Vec<u8>) -> &'a [u8] {
        if self.is_plain(raw) { raw } else { self.value_of_quoted(raw, scratch) }
    }

    #[inline]
    fn is_plain(&self, raw: &[u8]) -> bool {
        match self.escape {
            Escape::Doubled => raw.is_empty() || raw.first().copied() != self.quote,
            Escape::Backslash => !self.is_quoted(raw) && memchr::memchr(b'\\', raw).is_none(),
        }
    }

    #[inline]
    fn is_quoted(&self, raw: &[u8]) -> bool {
        self.quote.is_some() && raw.first().copied() == self.quote
    }

    fn may_have_odd(&self, text: &[u8]) -> bool {
        let has_quotes = |quote: u8| memchr::memchr(quote, text).is_some();
        self.escape != Escape::Doubled || self.quote.is_some_and(has_quotes)
    }

    fn odd_starts(&self) -> [bool; 256] {
        let mut odd = [self.escape != Escape::Doubled; 256];
        self.quote.iter().for_each(|quote| odd[usize::from(*quote)] = true);
        odd
    }

    fn marks(&self) -> Option<(u8, u8)> {
        let quote = self.quote.filter(|_| self.escape == Escape::Doubled)?;
        Some((quote, quote))
    }
}

impl Dialect {
    /// Comma, double quote and a header: the layout of RFC 4180.
    pub const RFC_4180: Dialect = Dialect {
        delimiter: b',',
        quote: Some(b'"'),
        escape: Escape::Doubled,
        line_ends: LineEnds::Lf,
        comment: None,
        trailing_delimiter: false,
        header: true,
        skip: 0,
        skip_below: 0,
        short_records: false,
    };

    /// Lines, and nothing else that means anything: how records of other formats are told apart.
    pub(crate) const LINES: Dialect =
        Dialect { delimiter: b'\n', quote: None, ..Dialect::RFC_4180 };

    /// Whether a backslash takes away what `byte`, right behind it, would mean.
    pub(super) fn is_escapable(&self, byte: u8) -> bool {
        byte == self.delimiter
            || Some(byte) == self.quote
            || matches!(byte, b'\\' | b'\n')
            || byte == b'\r' && self.line_ends.has_cr()
    }

    fn value_of_quoted<'a>(&self, raw: &'a [u8], scratch: &'a mut Vec<u8>) -> &'a [u8] {
        let is_quoted = self.is_quoted(raw);
        let inner = if is_quoted { &raw[1..] } else { raw };
        // Bytes that are no quote, where there is none, are never equal to this.
        let quote = self.quote.filter(|_| is_quoted);
        let special = |text: &[u8]| match (quote, self.escape) {
            (Some(quote), Escape::Doubled) => memchr::memchr(quote, text),
            (Some(quote), Escape::Backslash) => memchr::memchr2(quote, b'\\', text),
            (None, _) => memchr::memchr(b'\\', text),
        };
        match special(inner) {
            None => return inner,
            Some(at) if at + 1 == inner.len() && Some(inner[at]) == quote => return &inner[..at],
            Some(_) => scratch.clear(),
        }
        let mut rest = inner;
        while let Some(at) = special(rest) {
            scratch.extend_from_slice(&rest[..at]);
            let next = rest.get(at + 1).copied();
            if Some(rest[at]) == quote {
                rest = &rest[at + 1..];
                if next != quote {
                    break;
                }
                scratch.extend(next);
                rest = &rest[1..];
            } else if next.is_some_and(|byte| self.is_escapable(byte)) {
                scratch.extend(next);
                rest = &rest[at + 2..];
            } else {
                scratch.push(b'\\');
                rest = &rest[at + 1..];
            }
        }
        scratch.extend_from_slice(rest);
        scratch
    }
}

/// A word for each of a few ways, as it is said and printed.
macro_rules! words {
    ($type:ident, $what:literal, $($variant:ident = $word:literal),+) => {
        impl $type {
            /// All of them.
            pub const ALL: &[$type] = &[$($type::$variant),+];

            /// Its word.
            pub fn name(self) -> &'static str {
                match self { $($type::$variant => $word),+ }
            }

            /// Reads its word.
            ///
            /// # Errors
            /// Says what is allowed, and what was most likely meant.
            pub fn parse(word: &str) -> Result<$type, String> {
                Self::ALL.iter().copied().find(|known| known.name() == word).ok_or_else(|| {
                    let words = [$($word),+];
                    let shown = word.escape_debug();
                    let near = crate::nearest(word, words)
                        .map_or(String::new(), |near| format!("; did you mean '{near}'?"));
                    format!("'{shown}' is not valid for {}: use one of {}{near}", $what, words.join(", "))
                })
            }
        }
    };
}
pub(super) use words;

/// How a quote is written inside a quoted field.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Escape {
    /// Twice.
    #[default]
    Doubled,
    /// With a backslash before it, as before a delimiter, a line end or a backslash, in quotes or
    /// not. Before anything else a backslash is a backslash. Doubled quotes are read as well.
    Backslash,
}

words!(Escape, "an escape", Doubled = "doubled", Backslash = "backslash");

/// What ends a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum LineEnds {
    /// A line feed; read as `CrLf` is.
    #[default]
    Lf,
    /// A carriage return and a line feed. A line feed alone ends a line too; a carriage return alone
    /// is a byte like any other.
    CrLf,
    /// A carriage return; read as `Mixed` is.
    Cr,
    /// Any of the three.
    Mixed,
}

words!(LineEnds, "line ends", Lf = "lf", CrLf = "crlf", Cr = "cr", Mixed = "mixed");

impl LineEnds {
    /// Whether a carriage return alone ends a line.
    pub fn has_cr(self) -> bool {
        matches!(self, LineEnds::Cr | LineEnds::Mixed)
    }

    /// How many line ends there are in a text.
    pub(crate) fn count(self, text: &[u8]) -> usize {
        let feeds = memchr::memchr_iter(b'\n', text).count();
        if !self.has_cr() {
            return feeds;
        }
        let alone = |at: &usize| text.get(at + 1) != Some(&b'\n');
        feeds + memchr::memchr_iter(b'\r', text).filter(alone).count()
    }

    /// Offset behind the first line end of a text; its length where there is none.
    pub(super) fn after_first(self, text: &[u8]) -> usize {
        let found = if self.has_cr() {
            memchr::memchr2(b'\n', b'\r', text)
        } else {
            memchr::memchr(b'\n', text)
        };
        match found {
            Some(at) if text[at] == b'\r' && text.get(at + 1) == Some(&b'\n') => at + 2,
            Some(at) => at + 1,
            None => text.len(),
        }
    }
}

/// Delimiters that have a name. One table for parsing, printing and messages.
const NAMES: [(&str, u8); 10] = [
    ("comma", b','),
    ("semicolon", b';'),
    ("tab", b'\t'),
    ("pipe", b'|'),
    ("colon", b':'),
    ("space", b' '),
    ("unit-separator", 0x1f),
    ("record-separator", 0x1e),
    ("group-separator", 0x1d),
    ("file-separator", 0x1c),
];

/// Reads a delimiter as people write it: one ASCII character, `\t`, a byte as `\x01`, or a name such
/// as `tab`.
///
/// # Errors
/// Says what is allowed, where `word` is none of it. Line ends and quotes delimit nothing.
pub fn parse_delimiter(word: &str) -> Result<u8, String> {
    if let Some((_, byte)) = NAMES.iter().find(|(name, _)| name.eq_ignore_ascii_case(word)) {
        return Ok(*byte);
    }
    let byte = match word.as_bytes() {
        b"\\t" => Some(b'\t'),
        [b'\\', b'x', digits @ ..]
            if digits.len() == 2 && digits.iter().all(u8::is_ascii_hexdigit) =>
        {
            std::str::from_utf8(digits).ok().and_then(|digits| u8::from_str_radix(digits, 16).ok())
        }
        [byte] => Some(*byte),
        _ => None,
    };
    byte.filter(|byte| byte.is_ascii() && !matches!(byte, b'\n' | b'\r' | b'"' | 0)).ok_or_else(
        || {
            format!(
                "'{}' is not a delimiter: give one ASCII character other than a quote or a line end, or one of {}",
                word.escape_debug(),
                NAMES.map(|(name, _)| name).join(", ")
            )
        },
    )
}

/// Reads a quote: `"`, `'` or `none`.
///
/// # Errors
/// Says what is allowed, where `word` is none of it.
pub fn parse_quote(word: &str) -> Result<Option<u8>, String> {
    match word {
        "none" => Ok(None),
        "\"" => Ok(Some(b'"')),
        "'" => Ok(Some(b'\'')),
        _ => Err(format!("'{}' is not a quote: use \", ' or none", word.escape_debug())),
    }
}

/// Reads what a comment starts with: one ASCII character that is neither letter nor digit, or `none`.
///
/// # Errors
/// Says what is allowed, where `word` is none of it.
pub fn parse_comment(word: &str) -> Result<Option<u8>, String> {
    match word.as_bytes() {
        b"none" => Ok(None),
        [byte] if byte.is_ascii_punctuation() => Ok(Some(*byte)),
        _ => Err(format!(
            "'{}' starts no comment: give one character such as '#', or none",
            word.escape_debug()
        )),
    }
}

/// The name of a delimiter for a person: `comma`, or the character in quotes.
pub fn delimiter_name(delimiter: u8) -> String {
    match NAMES.iter().find(|(_, byte)| *byte == delimiter) {
        Some((name, _)) => (*name).to_owned(),
        None => format!("'{}'", (delimiter as char).escape_debug()),
    }
}

/// A delimiter as a word that [`parse_delimiter`] reads back: its character where that can be seen.
pub fn delimiter_word(delimiter: u8) -> String {
    if delimiter.is_ascii_graphic() {
        return char::from(delimiter).to_string();
    }
    match NAMES.iter().find(|(_, byte)| *byte == delimiter) {
        Some((name, _)) => (*name).to_owned(),
        None => format!("\\x{delimiter:02x}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn delimiters_are_read_as_people_write_them() {
        for (word, want) in [
            (",", b','),
            ("tab", b'\t'),
            ("\\t", b'\t'),
            ("\t", b'\t'),
            ("PIPE", b'|'),
            ("~", b'~'),
            ("\\x01", 1),
            ("\\x7C", b'|'),
        ] {
            assert_eq!(parse_delimiter(word), Ok(want), "{word}");
        }
        for word in ["", ",,", "\n", "\"", "é", "commma", "\\x0a", "\\xff", "\\x1", "\\x+1"] {
            let message = parse_delimiter(word).unwrap_err();
            assert!(message.contains("comma, semicolon, tab"), "{message}");
        }
    }

    #[test]
    fn every_word_reads_back() {
        for (name, byte) in NAMES {
            assert_eq!(delimiter_name(byte), name);
            assert_eq!(parse_delimiter(&delimiter_name(byte)), Ok(byte));
        }
        for byte in (1..128).filter(|byte| !matches!(byte, b'\n' | b'\r' | b'"')) {
            assert_eq!(parse_delimiter(&delimiter_word(byte)), Ok(byte));
        }
        LineEnds::ALL.iter().for_each(|ends| assert_eq!(LineEnds::parse(ends.name()), Ok(*ends)));
        Escape::ALL.iter().for_each(|escape| assert_eq!(Escape::parse(escape.name()), Ok(*escape)));
        assert_eq!(
            LineEnds::parse("clrf").unwrap_err(),
            "'clrf' is not valid for line ends: use one of lf, crlf, cr, mixed; did you mean 'crlf'?"
        );
        for (word, want) in [("#", Some(b'#')), ("none", None), ("%", Some(b'%'))] {
            assert_eq!(parse_comment(word), Ok(want));
        }
        for word in ["", "//", "a", "é"] {
            assert!(parse_comment(word).is_err(), "{word}");
        }
        for (word, want) in [("\"", Some(b'"')), ("'", Some(b'\'')), ("none", None)] {
            assert_eq!(parse_quote(word), Ok(want));
        }
        assert!(parse_quote("x").is_err());
    }

    fn value(dialect: Dialect, raw: &str) -> String {
        let mut scratch = Vec::new();
        String::from_utf8(dialect.value(raw.as_bytes(), &mut scratch).to_vec()).unwrap()
    }

    #[test]
    fn values_lose_their_quotes() {
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
            ("\"a\\\"", "a\\"),
        ] {
            assert_eq!(value(Dialect::RFC_4180, raw), want, "{raw}");
        }
        assert_eq!(value(Dialect { quote: None, ..Dialect::RFC_4180 }, "\"a\""), "\"a\"");
    }

    #[test]
    fn values_lose_their_backslashes() {
        let dialect = Dialect { escape: Escape::Backslash, ..Dialect::RFC_4180 };
        for (raw, want) in [
            (r#""a \"b\" c""#, r#"a "b" c"#),
            (r#""a \\""#, r"a \"),
            (r#""a""b""#, r#"a"b"#),
            (r#""""#, ""),
            (r"a\,b", "a,b"),
            (r"\N", r"\N"),
            (r"C:\temp\", r"C:\temp\"),
            ("a\\\nb", "a\nb"),
            ("", ""),
        ] {
            assert_eq!(value(dialect, raw), want, "{raw}");
        }
        let none = Dialect { quote: None, ..dialect };
        assert_eq!(value(none, r#""a\,""#), r#""a,""#);
    }

    #[test]
    fn lines_are_counted_by_what_ends_them() {
        let text = b"a\r\nb\rc\nd";
        assert_eq!(LineEnds::Lf.count(text), 2);
        assert_eq!(LineEnds::Mixed.count(text), 3);
        assert_eq!((LineEnds::Lf.after_first(text), LineEnds::Cr.after_first(text)), (3, 3));
        assert_eq!((LineEnds::Lf.after_first(b"b\rc"), LineEnds::Cr.after_first(b"b\rc")), (3, 2));
    }
}
