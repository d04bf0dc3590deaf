//! Words that are values of another type than text: booleans and tokens for "no value".

/// Texts that well-known programs write where there is no value. They count as absent only in a
/// column whose other values share a type that is not text.
pub const TOKENS: [&str; 17] = [
    "NA", "N/A", "n/a", "#N/A", "NULL", "null", "None", "NaN", "nan", "nil", "-", "--", "?", ".",
    "\\N", "(null)", "<NA>",
];

const LONGEST_TOKEN: usize = 6;

/// The same as numbers, which are compared at once.
const TOKEN_KEYS: [u64; TOKENS.len()] = keys(TOKENS);

/// The [keys](key) of some words.
pub(super) const fn keys<const N: usize>(words: [&str; N]) -> [u64; N] {
    let mut keys = [0; N];
    let mut at = 0;
    while at < N {
        keys[at] = key(words[at].as_bytes());
        at += 1;
    }
    keys
}

/// The bytes of a word of at most seven as a number, which no other such word has: a one stands before them, so that zeros
/// count.
pub(super) const fn key(word: &[u8]) -> u64 {
    let (mut key, mut at) = (1, 0);
    while at < word.len() {
        key = key << 8 | word[at] as u64;
        at += 1;
    }
    key
}

/// The index in [`TOKENS`] of a value that is one of them.
#[inline]
pub fn token(value: &[u8]) -> Option<usize> {
    if value.len() > LONGEST_TOKEN {
        return None;
    }
    match value.first()? {
        b'N' | b'n' | b'#' | b'-' | b'?' | b'.' | b'\\' | b'(' | b'<' => {
            let key = key(value);
            TOKEN_KEYS.iter().position(|token| *token == key)
        }
        _ => None,
    }
}

/// A pair of words for true and false.
#[derive(Debug, PartialEq, Eq)]
pub struct BoolPair {
    /// The word for true, in lower case.
    pub yes: &'static str,
    /// The word for false, in lower case.
    pub no: &'static str,
}

/// The pairs that are booleans, in any letter case; a column uses one of them.
pub const BOOL_PAIRS: [BoolPair; 5] = [
    BoolPair { yes: "true", no: "false" },
    BoolPair { yes: "t", no: "f" },
    BoolPair { yes: "yes", no: "no" },
    BoolPair { yes: "y", no: "n" },
    BoolPair { yes: "on", no: "off" },
];

/// The words of [`BOOL_PAIRS`] as numbers: for true, for false.
const WORDS: [u64; 2 * BOOL_PAIRS.len()] = {
    let mut words = [0; 2 * BOOL_PAIRS.len()];
    let mut at = 0;
    while at < words.len() {
        let pair = &BOOL_PAIRS[at / 2];
        words[at] = key(if at % 2 == 0 { pair.yes } else { pair.no }.as_bytes());
        at += 1;
    }
    words
};

/// The pair in [`BOOL_PAIRS`] that a value is a word of, and what it says.
#[inline]
pub fn bool_word(value: &[u8]) -> Option<(usize, bool)> {
    if value.len() > 5 || !matches!(value.first()? | 0x20, b't' | b'f' | b'y' | b'n' | b'o') {
        return None;
    }
    // In small letters, as one number.
    let word = value.iter().fold(1, |word, byte| word << 8 | u64::from(byte | 0x20));
    WORDS
        .iter()
        .position(|known| *known == word)
        .filter(|_| value.iter().all(u8::is_ascii_alphabetic))
        .map(|at| (at / 2, at % 2 == 0))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_token_and_word_is_found_by_its_short_cut() {
        for (index, word) in TOKENS.iter().enumerate() {
            assert!(word.len() <= LONGEST_TOKEN);
            assert_eq!(token(word.as_bytes()), Some(index), "{word}");
        }
        for (index, pair) in BOOL_PAIRS.iter().enumerate() {
            for (word, says) in [(pair.yes, true), (pair.no, false)] {
                assert_eq!(bool_word(word.as_bytes()), Some((index, says)), "{word}");
                assert_eq!(
                    bool_word(word.to_uppercase().as_bytes()),
                    Some((index, says)),
                    "{word}"
                );
            }
        }
        for word in ["", "x", "nay", "truely", "1", "Na", "--- "] {
            assert_eq!(
                (token(word.as_bytes()), bool_word(word.as_bytes())),
                (None, None),
                "{word}"
            );
        }
    }
}
