//! Made-up dialects, and texts full of what means something in them: tests only.

use proptest::prelude::*;

use super::{Dialect, Escape, LineEnds};

/// Any dialect that can be said, without a header.
pub(super) fn dialect() -> impl Strategy<Value = Dialect> {
    let quote = prop_oneof![4 => Just(Some(b'"')), 1 => Just(Some(b'\'')), 1 => Just(None)];
    let escape = prop_oneof![3 => Just(Escape::Doubled), 1 => Just(Escape::Backslash)];
    let line_ends = prop_oneof![3 => Just(LineEnds::Lf), 1 => Just(LineEnds::Mixed)];
    let comment = prop_oneof![4 => Just(None), 1 => Just(Some(b'#'))];
    let parts = (quote, escape, line_ends, comment, any::<bool>(), any::<bool>());
    parts.prop_map(|(quote, escape, line_ends, comment, trailing_delimiter, short_records)| {
        Dialect {
            quote,
            escape,
            line_ends,
            comment,
            trailing_delimiter,
            short_records,
            header: false,
            ..Dialect::RFC_4180
        }
    })
}

/// Any bytes, mostly those that mean something in some dialect.
pub(super) fn structural_text(most: usize) -> impl Strategy<Value = Vec<u8>> {
    let byte = prop_oneof![
        4 => Just(b','), 3 => Just(b'\n'), 3 => Just(b'"'), 1 => Just(b'\r'), 6 => Just(b'a'),
        1 => Just(b'\''), 1 => Just(b'\\'), 1 => Just(b'#'), 1 => Just(b' '), 1 => any::<u8>(),
    ];
    // Well-formed stretches as well, so that not all that is quoted ends in disorder.
    let piece = prop_oneof![
        3 => proptest::collection::vec(byte, 0..12),
        2 => "\"[a, ]{0,9}(\"\")?[a\n,]{0,3}\",?".prop_map(String::into_bytes),
        1 => Just(b"\r\n".to_vec()),
    ];
    proptest::collection::vec(piece, 0..most / 6).prop_map(|pieces| pieces.concat())
}

pub(super) fn dialect_and_text(most: usize) -> impl Strategy<Value = (Dialect, Vec<u8>)> {
    (dialect(), structural_text(most))
}
