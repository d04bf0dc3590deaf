//! How long packed numbers are, and whether compression makes them any smaller.
//!
//! Numbers that are packed as differences, each in as few bits as its neighbours need, are mostly as small as they get: of
//! random ones compression leaves all, and costs up to a fifth of a load. Differences that come again, or most of which are far
//! smaller than the largest, have something to gain. Which of both a column is, is tried: some of its first rows are packed
//! and compressed.

use std::cell::RefCell;

use zstd::bulk::Compressor;

/// Differences that are tried of short row groups, and of long ones.
const TRIED: std::ops::RangeInclusive<usize> = 512..=2048;

/// Compression is worth its time where it leaves less than this share.
const WORTH_IT: f64 = 0.96;

/// The fastest level there is by the numbers of `[layout] compression`.
const LEVEL: i32 = 1;

/// Whether numbers that start like this are as long compressed as they are packed.
pub(super) fn stay_as_long(values: &[i64]) -> bool {
    thread_local! {
        /// Making one takes as long as a few thousand bytes do.
        static COMPRESSOR: RefCell<Option<Compressor<'static>>> = RefCell::new(Compressor::new(LEVEL).ok());
    }
    let tried = (values.len() / 4).clamp(*TRIED.start(), *TRIED.end());
    let packed = packed(&values[..values.len().min(tried + 1)]);
    let compressed = COMPRESSOR.with_borrow_mut(|compressor| {
        let compressed = compressor.as_mut()?.compress(&packed).ok()?;
        Some(compressed.len())
    });
    compressed.is_some_and(|bytes| bytes as f64 > WORTH_IT * packed.len() as f64)
}

/// Bytes of a difference from one value to the next, on average, as they are packed.
pub(super) fn difference_bytes(values: &[i64]) -> f64 {
    /// Of the smallest difference and the widths of a block.
    const HEAD_BITS: f64 = 64.0;
    if values.len() < 2 {
        return 8.0;
    }
    let differences = differences(values);
    let bits = |block: &[i64]| -> f64 {
        let least = least(block);
        let bits = |few: &[i64]| f64::from(width(few, least)) * few.len() as f64;
        HEAD_BITS + block.chunks(FEW).map(bits).sum::<f64>()
    };
    differences.chunks(BLOCK).map(bits).sum::<f64>() / 8.0 / differences.len() as f64
}

/// Differences of a block, with its smallest one, and of those that share a width.
const BLOCK: usize = 128;
const FEW: usize = 32;

fn differences(values: &[i64]) -> Vec<i64> {
    values.windows(2).map(|pair| pair[1].wrapping_sub(pair[0])).collect()
}

fn least(block: &[i64]) -> i64 {
    block.iter().min().copied().unwrap_or(0)
}

/// How far a difference is above the smallest of its block.
fn above(difference: i64, least: i64) -> u64 {
    difference.wrapping_sub(least).cast_unsigned()
}

/// Bits that each of a few takes.
fn width(few: &[i64], least: i64) -> u32 {
    let most = few.iter().map(|difference| above(*difference, least)).max();
    u64::BITS - most.unwrap_or(0).leading_zeros()
}

/// Differences as DELTA_BINARY_PACKED has them, but for its header: in blocks, each with its smallest
/// difference, and each few of a block with how many bits they take.
fn packed(values: &[i64]) -> Vec<u8> {
    let differences = differences(values);
    let mut out = Vec::with_capacity(differences.len() * 4);
    for block in differences.chunks(BLOCK) {
        let least = least(block);
        let mut head = (least << 1 ^ least >> 63).cast_unsigned();
        while head >= 0x80 {
            out.push(head as u8 | 0x80);
            head >>= 7;
        }
        out.push(head as u8);
        out.extend(block.chunks(FEW).map(|few| width(few, least) as u8));
        for few in block.chunks(FEW) {
            let width = width(few, least);
            let (mut bits, mut held) = (0u128, 0);
            for difference in few {
                bits |= u128::from(above(*difference, least)) << held;
                held += width;
                while held >= 8 {
                    out.push(bits as u8);
                    (bits, held) = (bits >> 8, held - 8);
                }
            }
            if held > 0 {
                out.push(bits as u8);
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Marsaglia's xorshift.
    fn random(count: usize) -> impl Iterator<Item = i64> {
        let mut state = 0x9e37_79b9_7f4a_7c15u64;
        (0..count).map(move |_| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            (state >> 1).cast_signed()
        })
    }

    #[test]
    fn packed_differences_take_as_many_bits_as_they_need() {
        // A zero in its block, and a width of none for each 32.
        assert_eq!(packed(&[7; 33]), [0, 0]);
        // Differences of 0 to 3 above the smallest, -1: zigzag 1, two bits each, the first one lowest.
        assert_eq!(packed(&[0, -1, -1, 0, 2]), [1, 2, 0b11_10_01_00]);
        assert_eq!(packed(&[i64::MAX, i64::MIN]), [2, 0], "differences go round");
    }

    #[test]
    fn random_numbers_stay_and_others_do_not() {
        for bits in [7, 10, 20, 33, 62] {
            let values: Vec<i64> = random(5000).map(|n| n >> (63 - bits)).collect();
            assert!(stay_as_long(&values), "{bits} bits");
        }
        let weeks: Vec<i64> = (0..5000).map(|n| [3, 901, 17, 88_120, 4, 5, 61][n % 7]).collect();
        assert!(!stay_as_long(&weeks), "what comes again");
        let spikes: Vec<i64> =
            random(5000).map(|n| if n % 30 == 0 { 1_000_000 + n % 7 } else { n % 2 }).collect();
        assert!(!stay_as_long(&spikes), "small ones among few large ones");
        assert!(!stay_as_long(&(0..5000).collect::<Vec<_>>()), "what counts");
    }
}
