//! The hash of values that are too long for two words and short enough to be hashed in place: XXH3 with 64 bits and no seed.
//!
//! The algorithm is that of the published specification (*XXH3*, version 0.8, inputs of 17 to 128 bytes). It stands here because
//! timestamps, UUIDs and long numbers are hashed one after the other in loops that a call for each held up: by `perf` it took a tenth of
//! `scout` in files of them. The law, held by a property test: it is what the package of that hash says.

/// The shortest and the longest value.
pub(super) const LENGTHS: std::ops::RangeInclusive<usize> = 17..=64;

/// The first words of the secret that the specification states.
const SECRET: [u64; 8] = [
    0xbe4b_a423_396c_feb8,
    0x1cad_21f7_2c81_017c,
    0xdb97_9083_e96d_d4de,
    0x1f67_b3b7_a4a4_4072,
    0x78e5_c0cc_4ee6_79cb,
    0x2172_ffcc_7dd0_5a82,
    0x8e24_43f7_7446_08b8,
    0x4c26_3a81_e690_35e0,
];

/// Its first 64-bit prime, and the one that bits are mixed with at the end.
const PRIME: u64 = 0x9e37_79b1_85eb_ca87;
const LAST_PRIME: u64 = 0x1656_6791_9e37_79f9;

/// The halves of a product, folded together.
#[inline(always)]
pub(super) fn fold(a: u64, b: u64) -> u64 {
    let product = u128::from(a) * u128::from(b);
    (product as u64) ^ (product >> 64) as u64
}

/// Sixteen bytes and as many of the secret.
#[inline(always)]
fn mixed(bytes: &[u8; 16], secret: usize) -> u64 {
    let (words, _) = bytes.as_chunks::<8>();
    let (a, b) = (u64::from_le_bytes(words[0]), u64::from_le_bytes(words[1]));
    fold(a ^ SECRET[secret], b ^ SECRET[secret + 1])
}

/// The hash of a value of [so many bytes](LENGTHS); `None` of any other.
#[inline(always)]
pub(super) fn long_hash(value: &[u8]) -> Option<u64> {
    let length = value.len();
    if !LENGTHS.contains(&length) {
        return None;
    }
    let mut hash = (length as u64).wrapping_mul(PRIME);
    if length > 32 {
        hash = hash
            .wrapping_add(mixed(value[16..].first_chunk()?, 4))
            .wrapping_add(mixed(value[..length - 16].last_chunk()?, 6));
    }
    hash = hash
        .wrapping_add(mixed(value.first_chunk()?, 0))
        .wrapping_add(mixed(value.last_chunk()?, 2));
    hash ^= hash >> 37;
    hash = hash.wrapping_mul(LAST_PRIME);
    Some(hash ^ hash >> 32)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use twox_hash::XxHash3_64;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]

        #[test]
        fn it_is_the_hash_of_the_package(value in proptest::collection::vec(any::<u8>(), 0..80)) {
            let is_hashed = LENGTHS.contains(&value.len());
            prop_assert_eq!(long_hash(&value), is_hashed.then(|| XxHash3_64::oneshot(&value)));
        }
    }
}
