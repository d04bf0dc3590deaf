//! What is no delimited text, by its first bytes.

/// No header that starts as an object does is longer.
const LONGEST_HEADER: usize = 64 << 10;

/// Whether a text is JSON by its looks: an array, or objects, that starts as no header does.
pub(super) fn is_json(text: &[u8]) -> bool {
    let text = text.trim_ascii_start();
    let after = |text: &[u8]| text[1..].trim_ascii_start().first().copied();
    match text.first() {
        Some(b'[') if after(text) == Some(b'{') => true,
        // An array of plain values is one where all of it is; else it may be a text in brackets.
        Some(b'[') => {
            let line = text.split(|byte| *byte == b'\n').next().unwrap_or_default();
            crate::readings::is_json(text.trim_ascii_end())
                || line.len() == text.len() && memchr::memchr(b'{', line).is_some()
        }
        Some(b'{') if after(text) == Some(b'"') => {
            let whole = text.split(|byte| *byte == b'\n').next().unwrap_or_default();
            let line = whole.trim_ascii();
            // An object in one line, or one that goes on in the next; no header is so long.
            line.ends_with(b"}")
                || whole.len() == text.len() && text.len() >= LONGEST_HEADER
                || line == b"{"
                || line.ends_with(b",")
                || line.ends_with(b"{")
                || line.ends_with(b"[")
        }
        _ => false,
    }
}

/// What a file is that starts as no text does.
pub(super) fn other_format(head: &[u8]) -> Option<&'static str> {
    const STARTS: [(&[u8], &str); 11] = [
        (b"PAR1", "it is a Parquet file; 'typhos peek' shows those"),
        (b"ARROW1", "it is an Arrow file; 'typhos peek' shows those"),
        (b"SQLite format 3\0", "it is a SQLite database; 'typhos peek' shows those"),
        (
            b"BZh",
            "it is packed with bzip2; unpack it first, or pipe it in: bzip2 -dc FILE | typhos scout -",
        ),
        (
            b"\xfd7zXZ\0",
            "it is packed with xz; unpack it first, or pipe it in: xz -dc FILE | typhos scout -",
        ),
        (
            b"PK\x03\x04",
            "it is a zip archive; unpack it first, or pipe it in: unzip -p FILE | typhos scout -",
        ),
        (b"7z\xbc\xaf\x27\x1c", "it is a 7z archive; unpack it first"),
        (b"%PDF-", "it is a PDF document"),
        (b"\xd0\xcf\x11\xe0", "it is a document of an office program; save it as CSV"),
        (b"Obj\x01", "it is an Avro file"),
        (b"\x89PNG", "it is a picture"),
    ];
    STARTS.iter().find(|(start, _)| head.starts_with(start)).map(|(_, what)| *what)
}

/// A stray control character is a byte like any other; many of them in what is no UTF-8 are no text. Those that
/// separate are not among them.
pub(super) fn is_binary(head: &[u8], is_guess: bool) -> bool {
    let start = &head[..head.len().min(4096)];
    let is_control = |byte: &&u8| matches!(byte, 0 | 3..=8 | 14..=26 | 127);
    let zeros = memchr::memchr_iter(0, start).count();
    let controls = start.iter().filter(is_control).count();
    let is_foreign = is_guess || std::str::from_utf8(start).is_err_and(|e| e.error_len().is_some());
    zeros * 16 > start.len() || is_foreign && controls * 32 > start.len()
}
