//! Signs of currencies and shares that stand beside numbers.
//!
//! What else stands around the digits of a number is taken off in [`written`](super::written).

use super::words::{key, keys};
use super::written::Side;

/// Signs of currencies and shares that are taken for such without being told: those of one character.
/// ISO 4217 codes of what is traded most come behind them, and a few words that stand beside prices.
pub(super) const SIGNS: [&str; 58] = [
    "%", "‰", "$", "€", "£", "¥", "₹", "₽", "₩", "₪", "₫", "₴", "₺", "₦", "₱", "฿", "₡", "₲", "₵",
    "₸", "₼", "₾", "¢", "EUR", "USD", "GBP", "JPY", "CHF", "NOK", "SEK", "DKK", "ISK", "PLN",
    "CZK", "HUF", "RON", "BGN", "TRY", "CAD", "AUD", "NZD", "CNY", "HKD", "SGD", "INR", "KRW",
    "BRL", "MXN", "ZAR", "THB", "US$", "A$", "C$", "R$", "kr", "kr.", "zł", "Kč",
];

/// Bytes of the longest of them.
const LONGEST_SIGN: usize = 3;

/// The same as numbers, which are compared at once.
const SIGN_KEYS: [u64; SIGNS.len()] = keys(SIGNS);

/// Bytes before a number that may be a sign and spaces.
const MOST_LOOKED_AT: usize = 100;

/// Whether a byte ends what stands before or behind a number.
pub(super) fn is_of_number(byte: &u8) -> bool {
    byte.is_ascii_digit() || matches!(byte, b'(' | b')' | b'-')
}

/// Whether what stands before the digits of a text that starts with a letter may be what stands around a number: a sign
/// of a currency, or the side of an account.
pub fn may_start_number(text: &[u8]) -> bool {
    // In front or behind: a sign may stand behind the one, and before the other.
    if Side::strip(text).is_some() {
        return true;
    }
    let length = text.iter().position(is_of_number).unwrap_or(text.len());
    is_sign(length, trim_spaces(&text[..length.min(MOST_LOOKED_AT)]))
}

/// Whether a word of letters stands beside numbers: the sign of a currency, or the side of an account.
pub fn is_word_of_number(word: &[u8]) -> bool {
    is_sign(0, word) || Side::strip(word).is_some_and(|(_, rest)| rest.is_empty())
}

/// The known sign at one end of a value, and the value without it and the space beside it; `None` where there is none, or
/// something else than digits at both ends.
#[inline]
pub fn split_sign(value: &[u8]) -> Option<(&'static [u8], &[u8])> {
    let is_digit = |byte: Option<&u8>| byte.is_some_and(u8::is_ascii_digit);
    let (front, back) = (is_digit(value.first()), is_digit(value.last()));
    // A sign, the space beside it, and the first byte of the number.
    const MOST: usize = LONGEST_SIGN + 2;
    let (sign, body) = match (front, back) {
        (false, true) => value.split_at(value.iter().take(MOST).position(is_of_number)?),
        (true, false) => {
            let length = value.iter().rev().take(MOST).position(is_of_number)?;
            let (body, sign) = value.split_at(value.len() - length);
            (sign, body)
        }
        _ => return None,
    };
    let sign = match sign {
        [b' ', sign @ ..] if front => sign,
        [sign @ .., b' '] if back => sign,
        sign => sign,
    };
    let key = key(sign);
    let at = SIGN_KEYS.iter().position(|known| *known == key)?;
    Some((SIGNS[at].as_bytes(), body))
}

/// Whether what stands at the end of a number, of so many bytes with its spaces, is a sign of a currency or share.
pub(super) fn is_sign(length: usize, sign: &[u8]) -> bool {
    let may_be_one = length <= LONGEST_SIGN + 3 && (1..=LONGEST_SIGN).contains(&sign.len());
    may_be_one && SIGN_KEYS.contains(&key(sign))
}

/// Cuts spaces off, also those that do not break.
pub(super) fn trim_spaces(mut text: &[u8]) -> &[u8] {
    loop {
        text = match text {
            [b' ' | b'\t', rest @ ..] | [rest @ .., b' ' | b'\t'] => rest,
            [0xc2, 0xa0, rest @ ..] | [rest @ .., 0xc2, 0xa0] => rest,
            [0xe2, 0x80, 0x89 | 0xaf, rest @ ..] | [rest @ .., 0xe2, 0x80, 0x89 | 0xaf] => rest,
            _ => return text,
        }
    }
}
