//! How bytes become UTF-8: unpacking, then decoding.
//!
//! Packing is known by the first bytes, never by the name. An encoding is known where that can be
//! proven: by a byte order mark, by being valid UTF-8, by the zeros of UTF-16. What is none of these is
//! [judged](super::guess) by the words it makes, and called likely; where nothing makes words of it, it is
//! read as UTF-8, and what is not valid is a misfit.
//!
//! Bytes that are not valid in the encoding that was said come out as `0xFF`, which no UTF-8 has in it,
//! so that the value they stand in is a misfit further on and nothing is replaced in silence.

use std::io::{self, Cursor, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use encoding_rs::{Encoding, UTF_16BE, UTF_16LE};

use super::Charset;
use super::guess::guess;
use super::origin::{Bytes, Origin};
use super::transcode::{CHUNK_BYTES, Transcoder};

/// Raw bytes that packing and encoding are found from.
const PROBE_BYTES: usize = 1 << 20;

/// How a file is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packing {
    /// Not at all.
    None,
    /// With gzip; several members one after another are one text.
    Gzip,
    /// With Zstandard.
    Zstd,
}

impl Packing {
    fn of(head: &[u8]) -> Packing {
        match head {
            [0x1f, 0x8b, ..] => Packing::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Packing::Zstd,
            _ => Packing::None,
        }
    }

    fn unpack(self, packed: Bytes) -> io::Result<Bytes> {
        Ok(match self {
            Packing::None => packed,
            Packing::Gzip => Box::new(flate2::read::MultiGzDecoder::new(packed)),
            Packing::Zstd => Box::new(zstd::stream::read::Decoder::new(packed)?),
        })
    }
}

/// How the bytes of a file become text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Format {
    pub packing: Packing,
    pub encoding: Charset,
    /// Why this encoding.
    pub why: String,
    /// How sure that is.
    pub sure: Sure,
}

/// How sure an encoding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sure {
    /// Said, or proven.
    Certain,
    /// There is nothing but ASCII, which most encodings have in common.
    Ascii,
    /// Judged by the words it makes.
    Likely,
}

impl Format {
    /// Finds how a file is packed and encoded from its first raw bytes.
    fn probe(raw: &[u8], said: Option<Charset>) -> Format {
        let packing = Packing::of(raw);
        let mut unpacked = Vec::new();
        let head = match packing {
            Packing::None => raw,
            _ => {
                // The probe ends somewhere inside the packed data: what could be unpacked before is enough.
                let packed = Box::new(Cursor::new(raw.to_vec()));
                let _ = packing
                    .unpack(packed)
                    .map(|text| text.take(PROBE_BYTES as u64).read_to_end(&mut unpacked));
                &unpacked[..]
            }
        };
        // A byte order mark proves what it says, also against what was said: a rejects file of input in
        // another encoding is UTF-8 with a mark, and loads under the same schema.
        let (encoding, why, sure) = match said {
            Some(encoding) if Encoding::for_bom(head).is_none() => {
                (encoding, "as said".to_owned(), Sure::Certain)
            }
            _ => find_encoding(head),
        };
        Format { packing, encoding, why, sure }
    }

    /// Whether the raw bytes are the text already, so that a place in one is a place in the other.
    pub fn is_plain(&self) -> bool {
        self.packing == Packing::None && self.encoding == Charset::UTF_8
    }
}

fn find_encoding(head: &[u8]) -> (Charset, String, Sure) {
    if let Some((encoding, _)) = Encoding::for_bom(head) {
        return (Charset::standard(encoding), "by its byte order mark".into(), Sure::Certain);
    }
    // Every second byte of Latin text in UTF-16 is zero; in no other encoding of text are so many.
    let zeros = |odd: usize| head.iter().skip(odd).step_by(2).filter(|byte| **byte == 0).count();
    let half = head.len() / 2;
    if half >= 4 && memchr::memchr(0, head).is_some() {
        for (encoding, at, other) in [(UTF_16LE, 1, 0), (UTF_16BE, 0, 1)] {
            if zeros(at) * 10 >= half * 7 && zeros(other) * 10 < half {
                let encoding = Charset::standard(encoding);
                return (encoding, "every second byte is zero".into(), Sure::Certain);
            }
        }
    }
    let valid = match head.len() {
        PROBE_BYTES.. => "the first MiB is valid".to_owned(),
        _ => "all of it is valid".to_owned(),
    };
    match std::str::from_utf8(head) {
        Err(error) if error.error_len().is_some() => match guess(whole_lines(head)) {
            Some(guess) => (guess.charset, guess.why(), Sure::Likely),
            None => {
                let byte = head[error.valid_up_to()];
                let why = format!("assumed, but byte 0x{byte:02x} is not valid: say which it is");
                (Charset::UTF_8, why, Sure::Certain)
            }
        },
        _ if head.is_ascii() => (Charset::UTF_8, valid, Sure::Ascii),
        _ => (Charset::UTF_8, valid, Sure::Certain),
    }
}

/// The lines of a text that are whole; all of it, where there is none.
fn whole_lines(text: &[u8]) -> &[u8] {
    memchr::memrchr(b'\n', text).map_or(text, |at| &text[..=at])
}

/// Lines that are not ASCII, from all over an origin: what its encoding can be judged by where its head is
/// ASCII.
pub(super) fn foreign_lines(origin: &dyn Origin) -> io::Result<Vec<u8>> {
    let (mut opened, _) = open(origin, None, Some(Charset::UTF_8))?;
    let (mut lines, mut text) = (Vec::new(), Vec::new());
    while lines.len() < CHUNK_BYTES {
        let carried = text.len();
        if (&mut opened.text).take(PROBE_BYTES as u64).read_to_end(&mut text)? == 0 {
            break;
        }
        let whole = whole_lines(&text).len();
        for line in text[..whole].split_inclusive(|byte| *byte == b'\n') {
            // A line that goes on and on is no help, and is not held.
            if !line.is_ascii() && line.len() <= CHUNK_BYTES {
                lines.extend_from_slice(line);
            }
        }
        text.drain(..whole.max(carried));
    }
    Ok(lines)
}

/// An opened file: its text, and how many raw bytes that has taken so far. Where that is `None` the
/// text is the raw bytes, and whoever reads it knows.
pub(super) struct Opened {
    pub text: Bytes,
    pub consumed: Option<Arc<AtomicU64>>,
}

/// Opens an origin from its start; finds its format unless `format` is known.
pub(super) fn open(
    origin: &dyn Origin,
    format: Option<&Format>,
    said: Option<Charset>,
) -> io::Result<(Opened, Format)> {
    let mut raw = origin.open(0)?;
    let consumed = Arc::new(AtomicU64::new(0));
    let mut probe = Vec::new();
    let format = match format {
        Some(format) => format.clone(),
        None => {
            (&mut raw).take(PROBE_BYTES as u64).read_to_end(&mut probe)?;
            Format::probe(&probe, said)
        }
    };
    let counted = Counted { inner: Cursor::new(probe).chain(raw), consumed: consumed.clone() };
    let unpacked = format.packing.unpack(Box::new(counted))?;
    let text: Bytes = if format.encoding == Charset::UTF_8 {
        unpacked
    } else {
        Box::new(Transcoder::new(unpacked, format.encoding))
    };
    Ok((Opened { text, consumed: Some(consumed) }, format))
}

/// Counts the bytes that pass.
struct Counted<R> {
    inner: R,
    consumed: Arc<AtomicU64>,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.consumed.fetch_add(read as u64, Ordering::Relaxed);
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::super::origin::Memory;
    use super::*;
    use std::io::Write;

    fn text_of(bytes: Vec<u8>, said: Option<&str>) -> (Vec<u8>, Format) {
        let source = Memory::new("m", bytes);
        let said = said.map(|label| Charset::parse(label).unwrap());
        let (mut opened, format) = open(&source, None, said).unwrap();
        let mut text = Vec::new();
        opened.text.read_to_end(&mut text).unwrap();
        (text, format)
    }

    fn utf16(text: &str, little: bool) -> Vec<u8> {
        text.encode_utf16()
            .flat_map(|unit| if little { unit.to_le_bytes() } else { unit.to_be_bytes() })
            .collect()
    }

    #[test]
    fn encodings_are_found_where_that_can_be_proven() {
        let long = "Tårnvik;Holm\n".repeat(20_000);
        for (bytes, name) in [
            (long.clone().into_bytes(), "UTF-8"),
            ([b"\xff\xfe".to_vec(), utf16(&long, true)].concat(), "UTF-16LE"),
            ([b"\xfe\xff".to_vec(), utf16(&long, false)].concat(), "UTF-16BE"),
            (utf16(&long, true), "UTF-16LE"),
            (utf16(&long, false), "UTF-16BE"),
        ] {
            let (text, format) = text_of(bytes, None);
            assert_eq!(format.encoding.name(), name);
            assert!(text == long.as_bytes(), "{name}");
        }
        let (text, _) = text_of("\u{feff}Tårnvik".as_bytes().to_vec(), Some("windows-1252"));
        assert_eq!(text, "\u{feff}Tårnvik".as_bytes(), "a mark wins over what was said");
        let (text, format) = text_of(b"T\xe5rnvik\n".to_vec(), None);
        assert_eq!((format.encoding.name(), &text[..]), ("windows-1252", "Tårnvik\n".as_bytes()));
        assert!(
            format.why.starts_with("likely: not UTF-8, and it reads 'Tårnvik'"),
            "{}",
            format.why
        );
        let (text, format) =
            text_of("Tårnvik, Ø\n\u{e4}".bytes().chain(*b"\xe5\n").collect(), None);
        assert_eq!((format.encoding, text.len()), (Charset::UTF_8, 17));
        assert!(format.why.contains("byte 0xe5 is not valid: say which it is"), "{}", format.why);
    }

    #[test]
    fn encodings_that_are_said_are_used() {
        for (bytes, label, want) in [
            (&b"T\xe5rnvik \x96"[..], "windows-1252", "Tårnvik –"),
            (b"T\xe5rnvik", "latin1", "Tårnvik"),
            (b"\xbc\xb3", "iso-8859-2", "źł"),
            (b"\x83X\x83P", "shift_jis", "スケ"),
            (b"T\x86rnvik", "cp850", "Tårnvik"),
        ] {
            assert_eq!(
                String::from_utf8(text_of(bytes.to_vec(), Some(label)).0).unwrap(),
                want,
                "{label}"
            );
        }
    }

    #[test]
    fn what_is_not_valid_is_marked_and_not_replaced() {
        let (text, _) = text_of(b"a\x83\xffb,c\n".to_vec(), Some("shift_jis"));
        assert!(text.starts_with(b"a\xff") && text.ends_with(b"b,c\n"), "{text:?}");
        let lone = [utf16("ab", true), vec![0x00, 0xd8], utf16("c", true)].concat();
        assert_eq!(text_of(lone, Some("utf-16le")).0, b"ab\xffc");
    }

    #[test]
    fn packing_is_known_by_content() {
        let long = "a,b\n1,2\n".repeat(50_000);
        let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        gzip.write_all(long.as_bytes()).unwrap();
        let gzip = gzip.finish().unwrap();
        let zstd = zstd::encode_all(long.as_bytes(), 1).unwrap();
        for (bytes, packing) in [(gzip.clone(), Packing::Gzip), (zstd, Packing::Zstd)] {
            let (text, format) = text_of(bytes, None);
            assert_eq!(format.packing, packing);
            assert!(text == long.as_bytes());
        }
        let twice = [gzip.clone(), gzip.clone()].concat();
        assert_eq!(text_of(twice, None).0.len(), 2 * long.len());
        let source = Memory::new("m", &gzip[..gzip.len() / 2]);
        let (mut opened, _) = open(&source, None, None).unwrap();
        assert!(opened.text.read_to_end(&mut Vec::new()).is_err(), "half a file is an error");
    }
}
