//! How delimited text is laid out, and the words people say it in.
//!
//! The words are the same on the command line and in the `[input]` table of a schema file.

use encoding_rs::Encoding;

/// How the text of an input is laid out. All of it is known; see [`DialectChoice`] for what a person
/// said of it before the rest was found from the data.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Dialect {
    /// The byte between two fields.
    pub delimiter: u8,
    /// The byte that opens and closes a quoted field; `None` where quotes mean nothing.
    pub quote: Option<u8>,
    /// Whether the first record holds the column names.
    pub header: bool,
}

impl Dialect {
    /// Comma, double quote and a header: the layout of RFC 4180.
    pub const RFC_4180: Dialect = Dialect { delimiter: b',', quote: Some(b'"'), header: true };
}

/// What a person said of a dialect. `None` is found from the data.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DialectChoice {
    /// The delimiter, where it was said.
    pub delimiter: Option<u8>,
    /// The quote, where it was said; `Some(None)` means that quotes mean nothing.
    pub quote: Option<Option<u8>>,
    /// Whether there is a header, where it was said.
    pub header: Option<bool>,
    /// The encoding, where it was said.
    pub encoding: Option<&'static Encoding>,
}

impl DialectChoice {
    /// `self`, with what it leaves open taken from `other`.
    pub fn or(&self, other: &DialectChoice) -> DialectChoice {
        DialectChoice {
            delimiter: self.delimiter.or(other.delimiter),
            quote: self.quote.or(other.quote),
            header: self.header.or(other.header),
            encoding: self.encoding.or(other.encoding),
        }
    }
}

impl From<Dialect> for DialectChoice {
    fn from(dialect: Dialect) -> Self {
        DialectChoice {
            delimiter: Some(dialect.delimiter),
            quote: Some(dialect.quote),
            header: Some(dialect.header),
            encoding: None,
        }
    }
}

/// Delimiters that have a name. One table for parsing, printing and messages.
const NAMES: [(&str, u8); 7] = [
    ("comma", b','),
    ("semicolon", b';'),
    ("tab", b'\t'),
    ("pipe", b'|'),
    ("colon", b':'),
    ("space", b' '),
    ("unit-separator", 0x1f),
];

/// Reads a delimiter as people write it: one ASCII character, `\t`, or a name such as `tab`.
///
/// # Errors
/// Says what is allowed, where `word` is none of it. Line ends and quotes delimit nothing.
pub fn parse_delimiter(word: &str) -> Result<u8, String> {
    if let Some((_, byte)) = NAMES.iter().find(|(name, _)| name.eq_ignore_ascii_case(word)) {
        return Ok(*byte);
    }
    match word.as_bytes() {
        b"\\t" => Ok(b'\t'),
        [byte] if byte.is_ascii() && !matches!(byte, b'\n' | b'\r' | b'"' | 0) => Ok(*byte),
        _ => Err(format!(
            "'{}' is no delimiter: give one ASCII character other than a quote or a line end, or one of {}",
            word.escape_debug(),
            NAMES.map(|(name, _)| name).join(", ")
        )),
    }
}

/// Reads the label of an encoding: any that the Encoding Standard knows, such as `utf-8`, `latin1`,
/// `windows-1252` or `utf-16le`.
///
/// # Errors
/// Says some of what is allowed, where `label` is none of it.
pub fn parse_encoding(label: &str) -> Result<&'static Encoding, String> {
    Encoding::for_label_no_replacement(label.as_bytes()).ok_or_else(|| {
        let known = [
            "utf-8",
            "utf-16le",
            "utf-16be",
            "windows-1252",
            "iso-8859-1",
            "iso-8859-15",
            "shift_jis",
            "gbk",
        ];
        let label = label.escape_debug();
        match crate::nearest(&label.to_string(), known) {
            Some(near) => format!("'{label}' is no encoding; did you mean '{near}'?"),
            None => format!("'{label}' is no encoding; some that are: {}", known.join(", ")),
        }
    })
}

/// The name of a delimiter for a person: `comma`, or the character in quotes.
pub fn delimiter_name(delimiter: u8) -> String {
    match NAMES.iter().find(|(_, byte)| *byte == delimiter) {
        Some((name, _)) => (*name).to_owned(),
        None => format!("'{}'", (delimiter as char).escape_debug()),
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
        ] {
            assert_eq!(parse_delimiter(word), Ok(want), "{word}");
        }
        for word in ["", ",,", "\n", "\"", "é", "commma"] {
            let message = parse_delimiter(word).unwrap_err();
            assert!(message.contains("comma, semicolon, tab"), "{message}");
        }
    }

    #[test]
    fn encodings_are_read_by_their_labels() {
        assert_eq!(parse_encoding("Latin1").map(Encoding::name), Ok("windows-1252"));
        assert_eq!(parse_encoding("utf8").map(Encoding::name), Ok("UTF-8"));
        assert!(parse_encoding("utf-61").unwrap_err().contains("did you mean"));
        assert!(parse_encoding("klingon").unwrap_err().contains("some that are: utf-8"));
    }

    #[test]
    fn every_named_delimiter_reads_back() {
        for (name, byte) in NAMES {
            assert_eq!(delimiter_name(byte), name);
            assert_eq!(parse_delimiter(&delimiter_name(byte)), Ok(byte));
        }
    }

    #[test]
    fn what_was_said_first_wins() {
        let said = DialectChoice { delimiter: Some(b';'), ..Default::default() };
        let file =
            DialectChoice { delimiter: Some(b','), header: Some(false), ..Default::default() };
        let both = said.or(&file);
        assert_eq!((both.delimiter, both.header, both.quote), (Some(b';'), Some(false), None));
    }
}
