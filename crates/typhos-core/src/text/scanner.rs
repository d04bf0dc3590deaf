//! The structural scanner: where delimiters, line ends and quotes stand, 64 bytes at a time.
//!
//! A word of 64 bytes becomes three bit masks; bit *i* speaks of byte *i*. What the bytes mean (is
//! this delimiter inside quotes?) is the splitter's business. The AVX2 path is chosen at run time;
//! the portable path gives the same masks everywhere, and a property test holds them together.
//!
//! This is the only module of Typhos with `unsafe` in it, behind the safe [`Scanner::scan`].
#![allow(unsafe_code)]

/// Bytes that one mask speaks of.
pub(super) const WORD: usize = 64;

/// Where the three structural bytes stand in one word.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Masks {
    pub delimiter: u64,
    pub newline: u64,
    pub quote: u64,
}

/// Finds the structural bytes of one dialect.
#[derive(Debug, Clone, Copy)]
pub(super) struct Scanner {
    delimiter: u8,
    quote: Option<u8>,
    fast: bool,
}

impl Scanner {
    pub fn new(delimiter: u8, quote: Option<u8>) -> Self {
        Scanner { delimiter, quote, fast: avx2::available() }
    }

    /// Replaces `out` by the masks of `text`, a word each; bits past the end of `text` are 0.
    pub fn scan(&self, text: &[u8], out: &mut Vec<Masks>) {
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
            let mut word = [0u8; WORD];
            word[..rest.len()].copy_from_slice(rest);
            let keep = (1u64 << rest.len()) - 1;
            let masks = portable(&word, needles);
            out.push(Masks {
                delimiter: masks.delimiter & keep,
                newline: masks.newline & keep,
                quote: masks.quote & keep,
            });
        }
        if self.quote.is_none() {
            out.iter_mut().for_each(|masks| masks.quote = 0);
        }
    }
}

/// Eight bytes at a time in a register: exact for any byte, see [`equal_bytes`].
fn portable(word: &[u8; WORD], needles: [u8; 3]) -> Masks {
    let mut masks = Masks::default();
    for (at, eight) in word.as_chunks::<8>().0.iter().enumerate() {
        let eight = u64::from_le_bytes(*eight);
        masks.delimiter |= equal_bytes(eight, needles[0]) << (at * 8);
        masks.newline |= equal_bytes(eight, needles[1]) << (at * 8);
        masks.quote |= equal_bytes(eight, needles[2]) << (at * 8);
    }
    masks
}

/// Bit *i* of the result is set where byte *i* of `eight` is `needle`.
///
/// A byte is zero exactly if adding 0x7f to its low seven bits does not carry into bit 7 and bit 7
/// itself is clear; unlike the subtracting form of this trick, nothing carries between bytes. The
/// multiplication gathers the eight marks into the top byte.
fn equal_bytes(eight: u64, needle: u8) -> u64 {
    const ONES: u64 = 0x0101_0101_0101_0101;
    const LOW: u64 = 0x7f7f_7f7f_7f7f_7f7f;
    let differs = eight ^ (ONES * u64::from(needle));
    let zero = !(((differs & LOW) + LOW) | differs | LOW);
    ((zero >> 7).wrapping_mul(0x0102_0408_1020_4080)) >> 56
}

#[cfg(target_arch = "x86_64")]
mod avx2 {
    use super::{Masks, WORD};
    use std::arch::x86_64::{
        __m256i, _mm256_cmpeq_epi8, _mm256_loadu_si256, _mm256_movemask_epi8, _mm256_set1_epi8,
    };

    pub fn available() -> bool {
        std::arch::is_x86_feature_detected!("avx2")
    }

    pub fn scan(words: &[[u8; WORD]], needles: [u8; 3], out: &mut Vec<Masks>) {
        assert!(available());
        // SAFETY: the CPU has AVX2, asserted in the line above.
        unsafe { scan_words(words, needles, out) }
    }

    /// A loop without closures: what stands in a closure is not compiled for AVX2, and the intrinsics
    /// in it become calls.
    #[target_feature(enable = "avx2")]
    fn scan_words(words: &[[u8; WORD]], needles: [u8; 3], out: &mut Vec<Masks>) {
        let delimiter = _mm256_set1_epi8(needles[0].cast_signed());
        let newline = _mm256_set1_epi8(needles[1].cast_signed());
        let quote = _mm256_set1_epi8(needles[2].cast_signed());
        out.reserve(words.len());
        for word in words {
            let start = word.as_ptr().cast::<__m256i>();
            // SAFETY: a word is 64 bytes, so both 32-byte loads lie within it; `loadu` asks for no
            // alignment.
            let (low, high) =
                unsafe { (_mm256_loadu_si256(start), _mm256_loadu_si256(start.add(1))) };
            out.push(Masks {
                delimiter: equal(low, high, delimiter),
                newline: equal(low, high, newline),
                quote: equal(low, high, quote),
            });
        }
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
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The obvious way: look at every byte.
    fn oracle(text: &[u8], delimiter: u8, quote: Option<u8>) -> Vec<Masks> {
        text.chunks(WORD)
            .map(|word| {
                let mask = |needle: u8| {
                    word.iter().enumerate().fold(0u64, |m, (i, b)| m | u64::from(*b == needle) << i)
                };
                Masks {
                    delimiter: mask(delimiter),
                    newline: mask(b'\n'),
                    quote: quote.map_or(0, mask),
                }
            })
            .collect()
    }

    fn all_paths_agree(text: &[u8], delimiter: u8, quote: Option<u8>) {
        let want = oracle(text, delimiter, quote);
        let detected = Scanner::new(delimiter, quote);
        for (label, scanner) in
            [("detected", detected), ("portable", Scanner { fast: false, ..detected })]
        {
            let mut out = Vec::new();
            scanner.scan(text, &mut out);
            assert_eq!(out, want, "{label}");
        }
    }

    #[test]
    fn every_byte_value_in_every_place() {
        let text: Vec<u8> = (0..=255u8).cycle().take(1024 + 37).collect();
        for delimiter in 0..=255 {
            all_paths_agree(&text, delimiter, Some(b'"'));
        }
    }

    proptest! {
        #[test]
        fn scanner_equals_oracle(
            text in proptest::collection::vec(prop_oneof![Just(b','), Just(b'\n'), Just(b'"'), any::<u8>()], 0..300),
            quoted: bool,
        ) {
            all_paths_agree(&text, b',', quoted.then_some(b'"'));
        }
    }
}
