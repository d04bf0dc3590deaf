//! Eight bytes in one number, the first one lowest, and what is asked of all of them at once (arithmetic within a register,
//! after L. Lamport, "Multiple byte processing with full-word instructions", 1975). An answer is the highest bit of each
//! byte. What the bytes mean is known where it is asked: nothing here knows of records, numbers or dates.

/// A one in each byte.
pub const ONES: u64 = u64::MAX / 255;

/// The highest bit of each byte.
pub const HIGH: u64 = ONES << 7;

/// All but the highest bit of each byte.
pub const LOW: u64 = !HIGH;

/// The zero that is a digit, eight times: what turns eight digits into their numbers by exclusive or, and back.
pub const ZEROS: u64 = all(b'0');

/// The same byte eight times.
#[inline(always)]
pub const fn all(byte: u8) -> u64 {
    ONES * byte as u64
}

/// Which bytes are zero.
#[inline(always)]
pub const fn zero(word: u64) -> u64 {
    // Adding to the rest of a byte runs into its highest bit, and no further, unless that rest is zero.
    !(((word & LOW) + LOW) | word | LOW)
}

/// Which bytes are zero, in fewer steps than [`zero`]: the lowest that is marked is, and where none is, none is marked. Above
/// the lowest, others may be marked that are not.
#[inline(always)]
pub const fn first_zero(word: u64) -> u64 {
    word.wrapping_sub(ONES) & !word & HIGH
}

/// Which bytes are ten or more: of digits, but for [`ZEROS`], none is.
#[inline(always)]
pub const fn ten_or_more(word: u64) -> u64 {
    (((word & LOW) + all(0x80 - 10)) | word) & HIGH
}

/// Whether a byte is ten or more, in fewer steps than [`ten_or_more`].
#[inline(always)]
pub const fn is_ten_or_more_among(word: u64) -> bool {
    // What runs over into the next byte is at least 138, and has the highest bit itself.
    (word.wrapping_add(all(0x80 - 10)) | word) & HIGH != 0
}

/// The place of the lowest byte that is marked; 8 where none is.
#[inline(always)]
pub const fn first(marks: u64) -> usize {
    marks.trailing_zeros() as usize / 8
}

/// A bit for each byte that is marked, the first one lowest.
#[inline(always)]
pub const fn bits(marks: u64) -> u64 {
    // A product moves eight such bits together, into its highest byte.
    (marks >> 7).wrapping_mul(0x0102_0408_1020_4080) >> 56
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// What byte by byte is marked.
    fn marked(word: u64, is: impl Fn(u8) -> bool) -> u64 {
        u64::from_le_bytes(word.to_le_bytes().map(|byte| if is(byte) { 0x80 } else { 0 }))
    }

    fn bytes() -> impl Strategy<Value = u64> {
        let byte = prop_oneof![0u8..12, 0x7eu8..0x82, 0xfeu8..=0xff, any::<u8>()];
        proptest::array::uniform8(byte).prop_map(u64::from_le_bytes)
    }

    proptest! {
        #[test]
        fn bytes_are_marked_as_one_by_one(word in bytes(), byte in 0u8..12) {
            let other = word ^ all(byte);
            let zeros = marked(word, |at| at == byte);
            prop_assert_eq!(zero(other), zeros);
            prop_assert_eq!(first(first_zero(other)), first(zeros));
            prop_assert_eq!(first_zero(other) == 0, zeros == 0);
            prop_assert_eq!(ten_or_more(word), marked(word, |at| at >= 10));
            prop_assert_eq!(is_ten_or_more_among(word), ten_or_more(word) != 0);
            let each = word.to_le_bytes();
            prop_assert_eq!(bits(zeros), (0..8).map(|at| u64::from(each[at] == byte) << at).sum::<u64>());
            prop_assert_eq!(first(zeros), each.iter().position(|at| *at == byte).unwrap_or(8));
        }
    }
}
