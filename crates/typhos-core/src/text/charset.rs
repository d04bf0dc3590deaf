//! Encodings by their labels, and how their bytes become UTF-8: those of the Encoding Standard, and the code
//! pages of old that it leaves out. Which one a text has is judged in [`guess`](super::guess).

use encoding_rs::{Decoder, DecoderResult, Encoding};
use oem_cp::code_table::DECODING_TABLE_CP_MAP;
use oem_cp::code_table_type::TableType;

/// What stands for a byte sequence that is not valid in its encoding.
const NOT_VALID: u8 = 0xff;

/// Code pages that the Encoding Standard leaves out, with their names.
const PAGES: [(u16, &str); 16] = [
    (437, "cp437"),
    (720, "cp720"),
    (737, "cp737"),
    (775, "cp775"),
    (850, "cp850"),
    (852, "cp852"),
    (855, "cp855"),
    (857, "cp857"),
    (858, "cp858"),
    (860, "cp860"),
    (861, "cp861"),
    (862, "cp862"),
    (863, "cp863"),
    (864, "cp864"),
    (865, "cp865"),
    (869, "cp869"),
];

/// Labels that are suggested for those that are near them.
const KNOWN: [&str; 13] = [
    "utf-8",
    "utf-16le",
    "utf-16be",
    "windows-1252",
    "windows-1250",
    "windows-1251",
    "iso-8859-1",
    "iso-8859-15",
    "cp437",
    "cp850",
    "shift_jis",
    "gbk",
    "euc-kr",
];

/// An encoding of text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Charset(Kind);

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Standard(&'static Encoding),
    Page(u16),
}

impl Charset {
    /// UTF-8.
    pub const UTF_8: Charset = Charset(Kind::Standard(encoding_rs::UTF_8));

    /// An encoding of the Encoding Standard.
    pub fn standard(encoding: &'static Encoding) -> Charset {
        Charset(Kind::Standard(encoding))
    }

    /// Reads the label of an encoding: any that the Encoding Standard knows, such as `utf-8`, `latin1` or
    /// `shift_jis`, or the number of a code page, as in `cp850`, `ibm437` or `cp932`.
    ///
    /// # Errors
    /// Says some of what is allowed, where `label` is none of it.
    pub fn parse(label: &str) -> Result<Charset, String> {
        if let Some(encoding) = Encoding::for_label_no_replacement(label.as_bytes()) {
            return Ok(Charset::standard(encoding));
        }
        let lower = label.trim().to_ascii_lowercase();
        let digits = ["cp", "ibm", "oem", "dos", "ms", "windows"]
            .iter()
            .find_map(|prefix| lower.strip_prefix(prefix))
            .map_or(&lower[..], |rest| rest.trim_start_matches(['-', '_']));
        let page = digits.parse::<u16>().ok().filter(|_| !digits.starts_with('+'));
        let found = page.and_then(|page| match codepage::to_encoding_no_replacement(page) {
            Some(encoding) => Some(Charset::standard(encoding)),
            None => {
                PAGES.iter().any(|(known, _)| *known == page).then_some(Charset(Kind::Page(page)))
            }
        });
        found.ok_or_else(|| {
            let label = label.escape_debug().to_string();
            match crate::nearest(&label, KNOWN) {
                Some(near) => format!("'{label}' is not an encoding; did you mean '{near}'?"),
                None => {
                    format!("'{label}' is not an encoding; some that are: {}", KNOWN.join(", "))
                }
            }
        })
    }

    /// Its name, in the letter case of the Encoding Standard.
    pub fn name(self) -> &'static str {
        match self.0 {
            Kind::Standard(encoding) => encoding.name(),
            Kind::Page(page) => {
                let found = PAGES.iter().find(|(known, _)| *known == page);
                found.map_or("code page", |(_, name)| name)
            }
        }
    }

    /// Its name as a label, which [`parse`](Self::parse) reads.
    pub fn label(self) -> String {
        self.name().to_lowercase()
    }

    /// A decoder at the start of a text.
    pub(super) fn decoder(self) -> TextDecoder {
        match self.0 {
            Kind::Standard(encoding) => {
                TextDecoder::Standard(Box::new(encoding.new_decoder_with_bom_removal()))
            }
            Kind::Page(page) => TextDecoder::Page(
                DECODING_TABLE_CP_MAP.get(&page).expect("there is a table for every page"),
            ),
        }
    }

    /// The text of some bytes. `None` where some are not valid.
    pub(super) fn decode(self, bytes: &[u8]) -> Option<String> {
        match self.0 {
            Kind::Standard(encoding) => encoding
                .decode_without_bom_handling_and_without_replacement(bytes)
                .map(|text| text.into_owned()),
            Kind::Page(page) => DECODING_TABLE_CP_MAP.get(&page)?.decode_string_checked(bytes),
        }
    }
}

/// Makes UTF-8 of a text that comes in parts. What is not valid comes out as `0xFF`.
pub(super) enum TextDecoder {
    Standard(Box<Decoder>),
    Page(&'static TableType),
}

impl TextDecoder {
    /// Adds to `decoded` what becomes of some bytes, or of the first of them; returns how many those are.
    /// `last` says that no more come. Whether a decoder has come to its end, the last call says.
    pub fn decode(&mut self, bytes: &[u8], decoded: &mut Vec<u8>, last: bool) -> (usize, bool) {
        match self {
            TextDecoder::Standard(decoder) => {
                let before = decoded.len();
                // No encoding needs more than three bytes of UTF-8 for one of its own, and one for a flush.
                decoded.resize(before + 3 * bytes.len() + 16, 0);
                let (result, read, written) =
                    decoder.decode_to_utf8_without_replacement(bytes, &mut decoded[before..], last);
                decoded.truncate(before + written);
                match result {
                    DecoderResult::InputEmpty => (read, last),
                    DecoderResult::OutputFull => (read, false),
                    DecoderResult::Malformed(..) => {
                        decoded.push(NOT_VALID);
                        (read, false)
                    }
                }
            }
            TextDecoder::Page(table) => {
                for byte in bytes {
                    match table.decode_char_checked(*byte) {
                        Some(letter) => {
                            let mut utf8 = [0; 4];
                            decoded.extend_from_slice(letter.encode_utf8(&mut utf8).as_bytes());
                        }
                        None => decoded.push(NOT_VALID),
                    }
                }
                (bytes.len(), last)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn encodings_are_read_by_their_labels() {
        for (label, name) in [
            ("Latin1", "windows-1252"),
            ("utf8", "UTF-8"),
            ("cp932", "Shift_JIS"),
            ("CP1250", "windows-1250"),
            ("windows_1251", "windows-1251"),
            ("936", "GBK"),
            ("ibm-850", "cp850"),
            ("cp437", "cp437"),
            ("cp866", "IBM866"),
            ("oem852", "cp852"),
        ] {
            let found = Charset::parse(label).unwrap();
            assert_eq!(found.name(), name, "{label}");
            assert_eq!(Charset::parse(&found.label()), Ok(found));
        }
        assert!(Charset::parse("utf-61").unwrap_err().contains("did you mean"));
        for label in ["klingon", "cp9", "+850", "", "cp"] {
            assert!(Charset::parse(label).unwrap_err().contains("is not an encoding"), "{label}");
        }
        for (page, name) in PAGES {
            assert_eq!(Charset::parse(name), Ok(Charset(Kind::Page(page))));
            assert!(Charset(Kind::Page(page)).decode(b"a").is_some());
        }
    }

    #[test]
    fn code_pages_are_decoded_byte_by_byte() {
        let page = Charset::parse("cp850").unwrap();
        assert_eq!(page.decode(b"T\x86rnvik \x9b").as_deref(), Some("Tårnvik ø"));
        let mut decoded = Vec::new();
        let holes = Charset::parse("cp857").unwrap();
        assert_eq!(holes.decoder().decode(b"a\xd5\xe7b", &mut decoded, true), (4, true));
        assert!(decoded.starts_with(b"a") && decoded.ends_with(b"\xffb"), "{decoded:?}");
        assert_eq!(holes.decode(b"a\xe7"), None);
    }
}
