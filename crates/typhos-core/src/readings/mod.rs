//! One value → what it can be read as.
//!
//! A reading looks at one field and nothing else: no column, no declaration. Surveys count readings,
//! and conversion uses the same ones, so that what was inferred is what will load. Dates have a room
//! of their own: [`dates`](crate::dates).

mod floats;
mod lengths;
mod nearest;
mod number;
mod short;
mod signs;
mod special;
mod styled;
mod words;
mod written;

pub use floats::{
    SURE_OF_FLOAT32, SURE_OF_FLOAT64, nearest_float32, nearest_float32_of, nearest_float64,
    nearest_float64_of, survives_float32, survives_float32_of, survives_float64,
};
pub use lengths::{
    Length, LengthValue, NoLength, is_only_length, length, length_text, read_length,
};
pub use number::{
    COMPACT_DAYS, Decimal, EXACT_POW10, Number, POW10, eight_digits, is_giant, number_of_digits,
    parse_integer, parse_number, wider,
};
pub(crate) use short::small_integer;
pub use short::{LONGEST_SHORT, SHORT_POW10, Separated, ShortNumber, integer_within};
pub use signs::{is_word_of_number, may_start_number, split_sign};
pub use special::{
    infinity, is_bare_uuid, is_ip, is_json, is_only_ip, is_only_point, is_plain_ip, is_plain_uuid,
    point, uuid, uuid_text,
};
pub use styled::ShortStyle;
pub use words::{BOOL_PAIRS, BoolPair, TOKENS, bool_word, token};
pub use written::{Grouping, Mark, NumberStyle, Side, Undressed, undress};

/// `value` without the spaces and tabs around it.
///
/// Typed readings ignore it; text keeps it.
#[inline]
pub fn trim(value: &[u8]) -> &[u8] {
    match value {
        [b' ' | b'\t', ..] | [.., b' ' | b'\t'] => trim_slowly(value),
        _ => value,
    }
}

#[cold]
fn trim_slowly(value: &[u8]) -> &[u8] {
    let is_space = |byte: &u8| matches!(byte, b' ' | b'\t');
    let start = value.iter().position(|byte| !is_space(byte)).unwrap_or(value.len());
    let end = value.iter().rposition(|byte| !is_space(byte)).map_or(start, |at| at + 1);
    &value[start..end]
}
