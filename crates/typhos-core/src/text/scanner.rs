//! The structural scanner: where delimiters, line ends, quotes and escapes stand, 64 bytes at a time.
//!
//! A word of 64 bytes becomes bit masks; bit *i* speaks of byte *i*. What the bytes mean (is this
//! delimiter inside quotes?) is the [walk](super::walk)'s business. The AVX2 path is chosen at run time;
//! the portable path gives the same masks everywhere, and a property test holds them together.
//!
//! This is the only module of Typhos with `unsafe` in it, behind the safe [`Scanner::scan`], and a few functions of sixteen
//! bytes such as [`ends_of_plain`].
#![allow(unsafe_code)]

use super::{Dialect, Escape};
use crate::bytewise;

/// Bytes that one mask speaks of.
pub(super) const WORD: usize = 64;

/// Where the structural bytes stand in one word.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Masks {
    pub delimiter: u64,
    /// The last byte of every line end: in the pair of CR and LF that is the LF.
    pub newline: u64,
    pub quote: u64,
    /// Bit *i* is set where the quotes of this word up to and with byte *i* are odd in number.
    pub odd_quotes: u64,
}

/// Finds the structural bytes of one dialect.
#[derive(Debug, Clone)]
pub(super) struct Scanner {
    delimiter: u8,
    quote: Option<u8>,
    has_cr: bool,
    has_escape: bool,
    fast: bool,
    /// Masks of a fourth byte, for the dialects that need one.
    extra: Vec<u64>,
}

impl Scanner {
    pub fn new(dialect: &Dialect) -> Self {
        Scanner {
            delimiter: dialect.delimiter,
            quote: dialect.quote,
            has_cr: dialect.line_ends.has_cr(),
            has_escape: dialect.escape == Escape::Backslash,
            fast: avx2::available(),
            extra: Vec::new(),
        }
    }

    /// Replaces `out` by the masks of `text`, a word each; bits past the end of `text` are 0. `next` is
    /// the byte behind `text`, where there is one: whether a CR ends a line depends on it.
    pub fn scan(&mut self, text: &[u8], next: Option<u8>, out: &mut Vec<Masks>) {
        out.clear();
        // Without a quote the delimiter is looked for twice and the second answer dropped below:
        // cheaper than a third path.
        let needles = [self.delimiter, b'\n', self.quote.unwrap_or(self.delimiter)];
        let (words, rest) = text.as_chunks::<WORD>();
        if self.fast {
            avx2::scan(words, needles, out);
        } else {
            out.extend(words.iter().map(|word| portable(word, needles)));
        }
        if !rest.is_empty() {
            let (word, keep) = padded(rest);
            let masks = portable(&word, needles);
            let quote = masks.quote & keep;
            out.push(Masks {
                delimiter: masks.delimiter & keep,
                newline: masks.newline & keep,
                quote,
                odd_quotes: prefix_xor(quote),
            });
        }
        if self.quote.is_none() {
            out.iter_mut().for_each(|masks| (masks.quote, masks.odd_quotes) = (0, 0));
        }
        if self.has_cr {
            self.add_lone_cr(text, next, out);
        }
        if self.has_escape {
            self.find(text, b'\\');
        }
    }

    /// Where the escapes are in a word of the text scanned last; nowhere, in a dialect without.
    pub fn escapes(&self, word: usize) -> u64 {
        if self.has_escape { self.extra[word] } else { 0 }
    }

    /// Counts a CR as a line end where no LF follows it.
    fn add_lone_cr(&mut self, text: &[u8], next: Option<u8>, out: &mut [Masks]) {
        self.find(text, b'\r');
        // From the last word to the first, so that each knows how the one behind it begins.
        let mut feed_follows = u64::from(next == Some(b'\n'));
        let last = text.len().wrapping_sub(1) % WORD;
        for (at, (masks, cr)) in out.iter_mut().zip(&self.extra).enumerate().rev() {
            let top = if (at + 1) * WORD > text.len() { last } else { WORD - 1 };
            let followed = masks.newline >> 1 | feed_follows << top;
            feed_follows = masks.newline & 1;
            masks.newline |= cr & !followed;
        }
    }

    /// Replaces `self.extra` by the masks of one byte.
    fn find(&mut self, text: &[u8], needle: u8) {
        self.extra.clear();
        let (words, rest) = text.as_chunks::<WORD>();
        if self.fast {
            avx2::find(words, needle, &mut self.extra);
        } else {
            self.extra.extend(words.iter().map(|word| portable_find(word, needle)));
        }
        if !rest.is_empty() {
            let (word, keep) = padded(rest);
            self.extra.push(portable_find(&word, needle) & keep);
        }
    }
}

/// A bit for each of these bytes that ends the plain part of a text of JSON: quotes, escapes and control characters do.
#[inline(always)]
pub(crate) fn ends_of_plain(bytes: &[u8; 16]) -> u32 {
    #[cfg(target_arch = "x86_64")]
    // SAFETY: SSE2 is part of this architecture.
    unsafe {
        sse2::ends_of_plain(bytes)
    }
    #[cfg(not(target_arch = "x86_64"))]
    portable_ends_of_plain(bytes)
}

/// A bit for each of these bytes that is a digit.
#[inline(always)]
pub(crate) fn digits_among(bytes: &[u8; 16]) -> u32 {
    #[cfg(target_arch = "x86_64")]
    // SAFETY: SSE2 is part of this architecture.
    unsafe {
        sse2::digits_among(bytes)
    }
    #[cfg(not(target_arch = "x86_64"))]
    portable_digits_among(bytes)
}

/// A bit for each of these bytes that is the same in both.
#[inline(always)]
pub(crate) fn places_alike(one: &[u8; 16], other: &[u8; 16]) -> u32 {
    #[cfg(target_arch = "x86_64")]
    // SAFETY: SSE2 is part of this architecture.
    unsafe {
        sse2::places_alike(one, other)
    }
    #[cfg(not(target_arch = "x86_64"))]
    portable_places_alike(one, other)
}

#[cfg(any(test, not(target_arch = "x86_64")))]
fn portable_places_alike(one: &[u8; 16], other: &[u8; 16]) -> u32 {
    (0..).zip(one.iter().zip(other)).fold(0, |found, (at, (a, b))| found | u32::from(a == b) << at)
}

#[cfg(any(test, not(target_arch = "x86_64")))]
fn portable_digits_among(bytes: &[u8; 16]) -> u32 {
    (0..).zip(bytes).fold(0, |found, (at, byte)| found | u32::from(byte.is_ascii_digit()) << at)
}

#[cfg(any(test, not(target_arch = "x86_64")))]
fn portable_ends_of_plain(bytes: &[u8; 16]) -> u32 {
    let ends = |byte: u8| byte < b' ' || byte == b'"' || byte == b'\\';
    (0..).zip(bytes).fold(0, |found, (at, byte)| found | u32::from(ends(*byte)) << at)
}

/// The bytes of a last, short word, and which of them there are.
fn padded(rest: &[u8]) -> ([u8; WORD], u64) {
    let mut word = [0u8; WORD];
    word[..rest.len()].copy_from_slice(rest);
    (word, (1u64 << rest.len()) - 1)
}

/// Bit *i* of the result is the parity of bits 0 to *i*.
fn prefix_xor(mut bits: u64) -> u64 {
    for shift in [1, 2, 4, 8, 16, 32] {
        bits ^= bits << shift;
    }
    bits
}

/// Eight bytes at a time in a register: exact for any byte.
fn portable(word: &[u8; WORD], needles: [u8; 3]) -> Masks {
    let quote = portable_find(word, needles[2]);
    Masks {
        delimiter: portable_find(word, needles[0]),
        newline: portable_find(word, needles[1]),
        quote,
        odd_quotes: prefix_xor(quote),
    }
}

fn portable_find(word: &[u8; WORD], needle: u8) -> u64 {
    let eights = word.as_chunks::<8>().0.iter().enumerate();
    eights.fold(0, |mask, (at, eight)| {
        let equal = bytewise::zero(u64::from_le_bytes(*eight) ^ bytewise::all(needle));
        mask | bytewise::bits(equal) << (at * 8)
    })
}

#[cfg(target_arch = "x86_64")]
mod sse2 {
    use std::arch::x86_64::{
        __m128i, _mm_cmpeq_epi8, _mm_loadu_si128, _mm_min_epu8, _mm_movemask_epi8, _mm_or_si128,
        _mm_set1_epi8, _mm_sub_epi8,
    };

    #[target_feature(enable = "sse2")]
    #[inline]
    fn load(bytes: &[u8; 16]) -> __m128i {
        // SAFETY: there are as many bytes as are loaded; `loadu` asks for no alignment.
        unsafe { _mm_loadu_si128(bytes.as_ptr().cast()) }
    }

    #[target_feature(enable = "sse2")]
    #[inline]
    pub fn digits_among(bytes: &[u8; 16]) -> u32 {
        // What is below the digits becomes large.
        let all = _mm_sub_epi8(load(bytes), _mm_set1_epi8(b'0'.cast_signed()));
        let digits = _mm_cmpeq_epi8(_mm_min_epu8(all, _mm_set1_epi8(9)), all);
        _mm_movemask_epi8(digits).cast_unsigned()
    }

    #[target_feature(enable = "sse2")]
    #[inline]
    pub fn places_alike(one: &[u8; 16], other: &[u8; 16]) -> u32 {
        _mm_movemask_epi8(_mm_cmpeq_epi8(load(one), load(other))).cast_unsigned()
    }

    #[target_feature(enable = "sse2")]
    #[inline]
    pub fn ends_of_plain(bytes: &[u8; 16]) -> u32 {
        let all = load(bytes);
        let quotes = _mm_cmpeq_epi8(all, _mm_set1_epi8(b'"'.cast_signed()));
        let escapes = _mm_cmpeq_epi8(all, _mm_set1_epi8(b'\\'.cast_signed()));
        let controls = _mm_cmpeq_epi8(_mm_min_epu8(all, _mm_set1_epi8(0x1f)), all);
        let ends = _mm_or_si128(_mm_or_si128(quotes, escapes), controls);
        _mm_movemask_epi8(ends).cast_unsigned()
    }
}

#[cfg(target_arch = "x86_64")]
mod avx2 {
    use super::{Masks, WORD};
    use std::arch::x86_64::{
        __m256i, _mm_clmulepi64_si128, _mm_cvtsi64_si128, _mm_cvtsi128_si64, _mm_set1_epi8,
        _mm256_cmpeq_epi8, _mm256_loadu_si256, _mm256_movemask_epi8, _mm256_set1_epi8,
    };

    pub fn available() -> bool {
        std::arch::is_x86_feature_detected!("avx2")
            && std::arch::is_x86_feature_detected!("pclmulqdq")
    }

    pub fn scan(words: &[[u8; WORD]], needles: [u8; 3], out: &mut Vec<Masks>) {
        assert!(available());
        // SAFETY: the CPU has AVX2 and carry-less multiplication, asserted in the line above.
        unsafe { scan_words(words, needles, out) }
    }

    pub fn find(words: &[[u8; WORD]], needle: u8, out: &mut Vec<u64>) {
        assert!(available());
        // SAFETY: the CPU has AVX2, asserted in the line above.
        unsafe { find_words(words, needle, out) }
    }

    /// A loop without closures: what stands in a closure is not compiled for AVX2, and the intrinsics
    /// in it become calls.
    #[target_feature(enable = "avx2,pclmulqdq")]
    fn scan_words(words: &[[u8; WORD]], needles: [u8; 3], out: &mut Vec<Masks>) {
        let delimiter = _mm256_set1_epi8(needles[0].cast_signed());
        let newline = _mm256_set1_epi8(needles[1].cast_signed());
        let quote = _mm256_set1_epi8(needles[2].cast_signed());
        let ones = _mm_set1_epi8(-1);
        out.reserve(words.len());
        for word in words {
            let (low, high) = load(word);
            let quotes = equal(low, high, quote);
            // A carry-less product with all ones is the parity of all lower bits, in each bit.
            let product = _mm_clmulepi64_si128::<0>(_mm_cvtsi64_si128(quotes.cast_signed()), ones);
            out.push(Masks {
                delimiter: equal(low, high, delimiter),
                newline: equal(low, high, newline),
                quote: quotes,
                odd_quotes: _mm_cvtsi128_si64(product).cast_unsigned(),
            });
        }
    }

    #[target_feature(enable = "avx2")]
    fn find_words(words: &[[u8; WORD]], needle: u8, out: &mut Vec<u64>) {
        let needle = _mm256_set1_epi8(needle.cast_signed());
        out.reserve(words.len());
        for word in words {
            let (low, high) = load(word);
            out.push(equal(low, high, needle));
        }
    }

    #[target_feature(enable = "avx2")]
    #[inline]
    fn load(word: &[u8; WORD]) -> (__m256i, __m256i) {
        let start = word.as_ptr().cast::<__m256i>();
        // SAFETY: a word is 64 bytes, so both 32-byte loads lie within it; `loadu` asks for no
        // alignment.
        unsafe { (_mm256_loadu_si256(start), _mm256_loadu_si256(start.add(1))) }
    }

    #[target_feature(enable = "avx2")]
    #[inline]
    fn equal(low: __m256i, high: __m256i, needle: __m256i) -> u64 {
        let low = _mm256_movemask_epi8(_mm256_cmpeq_epi8(low, needle)).cast_unsigned();
        let high = _mm256_movemask_epi8(_mm256_cmpeq_epi8(high, needle)).cast_unsigned();
        u64::from(low) | u64::from(high) << 32
    }
}

#[cfg(not(target_arch = "x86_64"))]
mod avx2 {
    use super::{Masks, WORD};

    pub fn available() -> bool {
        false
    }

    pub fn scan(words: &[[u8; WORD]], needles: [u8; 3], out: &mut Vec<Masks>) {
        out.extend(words.iter().map(|word| super::portable(word, needles)));
    }

    pub fn find(words: &[[u8; WORD]], needle: u8, out: &mut Vec<u64>) {
        out.extend(words.iter().map(|word| super::portable_find(word, needle)));
    }
}

#[cfg(test)]
mod tests {
    use super::super::LineEnds;
    use super::*;
    use proptest::prelude::*;

    /// The obvious way: look at every byte.
    fn oracle(text: &[u8], next: Option<u8>, dialect: &Dialect) -> Vec<(Masks, u64)> {
        let at = |at: usize| text.get(at).copied().or(next.filter(|_| at == text.len()));
        let ends_line = |place: usize| match text[place] {
            b'\n' => true,
            b'\r' => dialect.line_ends.has_cr() && at(place + 1) != Some(b'\n'),
            _ => false,
        };
        let words = (0..text.len()).step_by(WORD).map(|base| {
            let places = base..text.len().min(base + WORD);
            let (mut masks, mut escapes) = (Masks::default(), 0);
            let mut odd = false;
            for place in places {
                let bit = 1u64 << (place - base);
                let byte = text[place];
                let is_quote = Some(byte) == dialect.quote;
                odd ^= is_quote;
                let is_escape = dialect.escape == Escape::Backslash && byte == b'\\';
                for (mask, is_set) in [
                    (&mut masks.delimiter, byte == dialect.delimiter),
                    (&mut masks.newline, ends_line(place)),
                    (&mut masks.quote, is_quote),
                    (&mut masks.odd_quotes, odd),
                    (&mut escapes, is_escape),
                ] {
                    *mask |= if is_set { bit } else { 0 };
                }
            }
            // Parity goes on behind the end of a short word; nobody looks there.
            if odd && text.len() - base < WORD {
                masks.odd_quotes |= !0 << (text.len() - base);
            }
            (masks, escapes)
        });
        words.collect()
    }

    fn all_paths_agree(text: &[u8], next: Option<u8>, dialect: &Dialect) {
        let want = oracle(text, next, dialect);
        let detected = Scanner::new(dialect);
        let portable = Scanner { fast: false, ..detected.clone() };
        for (label, mut scanner) in [("detected", detected), ("portable", portable)] {
            let mut out = Vec::new();
            scanner.scan(text, next, &mut out);
            let found = out.iter().enumerate().map(|(at, masks)| (*masks, scanner.escapes(at)));
            assert_eq!(found.collect::<Vec<_>>(), want, "{label}");
        }
    }

    #[test]
    fn every_byte_value_in_every_place() {
        let text: Vec<u8> = (0..=255u8).cycle().take(1024 + 37).collect();
        for delimiter in 0..=255 {
            all_paths_agree(&text, None, &Dialect { delimiter, ..Dialect::RFC_4180 });
        }
    }

    proptest! {
        #[test]
        fn ends_of_plain_are_where_a_byte_says(
            bytes in proptest::array::uniform16(prop_oneof![any::<u8>(), Just(b'"'), Just(b'\\'), 0x1eu8..0x22]),
        ) {
            prop_assert_eq!(ends_of_plain(&bytes), portable_ends_of_plain(&bytes));
        }

        #[test]
        fn places_are_alike_where_a_byte_says(
            one in proptest::array::uniform16(0u8..4), other in proptest::array::uniform16(0u8..4),
        ) {
            prop_assert_eq!(places_alike(&one, &other), portable_places_alike(&one, &other));
        }

        #[test]
        fn digits_among_others_are_where_a_byte_says(
            bytes in proptest::array::uniform16(prop_oneof![any::<u8>(), 0x2du8..0x3c]),
        ) {
            prop_assert_eq!(digits_among(&bytes), portable_digits_among(&bytes));
        }

        #[test]
        fn scanner_equals_oracle(
            text in proptest::collection::vec(prop_oneof![
                Just(b','), Just(b'\n'), Just(b'\r'), Just(b'"'), Just(b'\\'), any::<u8>()
            ], 0..300),
            next in proptest::option::of(prop_oneof![Just(b'\n'), any::<u8>()]),
            quoted: bool, cr: bool, escape: bool,
        ) {
            let dialect = Dialect {
                quote: quoted.then_some(b'"'),
                line_ends: if cr { LineEnds::Mixed } else { LineEnds::Lf },
                escape: if escape { Escape::Backslash } else { Escape::Doubled },
                ..Dialect::RFC_4180
            };
            all_paths_agree(&text, next, &dialect);
        }
    }
}
