//! The double nearest to a decimal, by arithmetic on whole numbers: the algorithm of Eisel and Lemire ("Number Parsing at a
//! Gigabyte per Second", 2021), for powers of ten within which it needs no second look.

use super::number::EXACT_POW10;

/// The powers of ten that are worked with, up and down: within them the product tells all.
const MOST_POWER: usize = 27;

/// Integers up to here are exact in a double.
const EXACT_INTEGERS: u64 = 1 << 53;

/// The first 128 bits of powers of five, from -27 to 27: those below zero are rounded up.
static FIVES: [u128; 2 * MOST_POWER + 1] = fives();

const fn fives() -> [u128; 2 * MOST_POWER + 1] {
    let mut all = [0; 2 * MOST_POWER + 1];
    let (mut power, mut five) = (0, 1u128);
    while power <= MOST_POWER {
        all[MOST_POWER + power] = five << five.leading_zeros();
        if power > 0 {
            // 2^(127 + z) / 5^power, where 2^z is the first power of two that is not below 5^power: bit by bit.
            let bits = 128 - (five - 1).leading_zeros();
            let (mut rest, mut quotient, mut at) = (1u128, 0u128, 0);
            while at < bits + 127 {
                rest <<= 1;
                quotient <<= 1;
                if rest >= five {
                    rest -= five;
                    quotient |= 1;
                }
                at += 1;
            }
            all[MOST_POWER - power] = quotient + 1;
        }
        power += 1;
        five *= 5;
    }
    all
}

/// The double nearest to `digits × 10^-scale`, where that is told quickly: `digits` are some, and the power is of a usual
/// size.
#[inline]
pub(super) fn nearest_double(digits: u64, scale: i32) -> Option<f64> {
    // Where both are exact, a division or a product rounds but once.
    if digits <= EXACT_INTEGERS {
        if let Some(power) = usize::try_from(scale).ok().and_then(|scale| EXACT_POW10.get(scale)) {
            return Some(digits as f64 / power);
        }
        if let Some(power) = usize::try_from(-scale).ok().and_then(|up| EXACT_POW10.get(up)) {
            return Some(digits as f64 * power);
        }
    }
    (digits > 0 && scale.unsigned_abs() as usize <= MOST_POWER).then(|| product(digits, -scale))
}

/// The double nearest to `digits × 10^power`: the algorithm itself. With so few powers it is never below the normal doubles, and
/// never beyond the largest.
fn product(digits: u64, power: i32) -> f64 {
    const FRACTION: u32 = f64::MANTISSA_DIGITS - 1;
    let zeros = digits.leading_zeros();
    let whole = digits << zeros;
    let five = FIVES[(power + MOST_POWER as i32) as usize];
    let (high, low) = ((five >> 64) as u64, five as u64);
    let times = |a: u64, b: u64| {
        let product = u128::from(a) * u128::from(b);
        ((product >> 64) as u64, product as u64)
    };
    let (mut upper, mut lower) = times(whole, high);
    // The lower half of the power can only change what is told where all bits below are set.
    let below = u64::MAX >> (FRACTION + 3);
    if upper & below == below {
        let (more, _) = times(whole, low);
        let (sum, carries) = lower.overflowing_add(more);
        (lower, upper) = (sum, upper + u64::from(carries));
    }
    let top = (upper >> 63) as u32;
    let shift = top + 64 - FRACTION - 3;
    let mut mantissa = upper >> shift;
    // Bits of the exponent of ten, 217706 / 2^16 being the logarithm, and the bias of doubles.
    let binary = ((power * 217_706) >> 16) + 63 + top as i32 - zeros as i32 + 1023;
    // Exactly halfway, the even one is nearest: only of small powers is the product exact.
    let is_halfway =
        lower <= 1 && (-4..=23).contains(&power) && mantissa & 3 == 1 && mantissa << shift == upper;
    if is_halfway {
        mantissa &= !1;
    }
    mantissa = (mantissa + (mantissa & 1)) >> 1;
    let mut binary = binary as u64;
    if mantissa >= 2 << FRACTION {
        (mantissa, binary) = (1 << FRACTION, binary + 1);
    }
    f64::from_bits(mantissa & !(1 << FRACTION) | binary << FRACTION)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn parsed(digits: u64, scale: i32) -> f64 {
        format!("{digits}e{}", -scale).parse().unwrap()
    }

    #[test]
    fn powers_of_five_are_those_that_were_published() {
        assert_eq!(FIVES[MOST_POWER], 1 << 127);
        assert_eq!(FIVES[MOST_POWER + 1], 0xa000_0000_0000_0000 << 64);
        assert_eq!(FIVES[MOST_POWER - 1], 0xcccc_cccc_cccc_cccc_cccc_cccc_cccc_cccd);
        assert_eq!(FIVES[MOST_POWER - 2], 0xa3d7_0a3d_70a3_d70a_3d70_a3d7_0a3d_70a4);
    }

    #[test]
    fn halves_go_to_the_even_one() {
        for digits in
            [9_007_199_254_740_993, 9_007_199_254_740_995, 18_014_398_509_481_986, u64::MAX]
        {
            for scale in -27..=27 {
                let found = nearest_double(digits, scale).unwrap();
                assert_eq!(found.to_bits(), parsed(digits, scale).to_bits(), "{digits}e{}", -scale);
            }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20_000))]

        #[test]
        fn it_is_what_the_standard_library_reads(digits in any::<u64>(), shift in 0u32..63, scale in -27i32..=27, double in any::<f64>()) {
            let digits = (digits >> shift).max(1);
            prop_assert_eq!(nearest_double(digits, scale).map(f64::to_bits), Some(parsed(digits, scale).to_bits()));
            // Digits that stand near the middle of two doubles.
            let exact = format!("{:.18e}", double.abs());
            let near: u64 = exact.split('e').next().unwrap().replace('.', "").parse().unwrap_or(1);
            prop_assert_eq!(nearest_double(near.max(1), scale).map(f64::to_bits), Some(parsed(near.max(1), scale).to_bits()));
        }
    }
}
