//! Whether a number survives a float: read as one and printed in its shortest form, it is still the number that was
//! written.
//!
//! For nearly every number arithmetic tells: up to as many digits as a float is sure of it does, with more than any
//! shortest form has it does not. Between those the nearest float is worked out ([`nearest`](super::nearest)), and whether the number is its
//! shortest form is told by whole numbers, or where they do not fit, by printing it into a buffer on the stack. What remains (extreme
//! sizes, ties, more digits than a float has) is told by the long way, which is the definition, and against which the short one is tested.

use std::ops::RangeInclusive;

use super::nearest::nearest_double;
use super::number::{EXACT_POW10, Number, POW10, parse_number};

/// Every `digits × 10^-scale` of less than so many digits survives float32, within the exponents of normal floats: at a number
/// the step to the next float is at most its 2^-23, which is less than one in the last of the digits. So nothing else with as many
/// digits behind the mark is nearest to the same float.
pub const SURE_OF_FLOAT32: u64 = 1 << (f32::MANTISSA_DIGITS - 1);

/// The same of float64.
pub const SURE_OF_FLOAT64: u64 = 1 << (f64::MANTISSA_DIGITS - 1);

/// Whether a number, read as float32 and printed in its shortest form (or, in scientific notation, with as many
/// digits), is still the number written. `text` is the number as it was written plainly, or empty where that is not at
/// hand.
pub fn survives_float32(text: &[u8], number: &Number) -> bool {
    match nearest_float32(text, number) {
        Some((_, survives)) => survives,
        None if is_far_from_float32(number) => false,
        None => printed_survives_float32(&plain_text(number), number),
    }
}

/// Whether a number has more digits than any shortest form of float32, and the float next to it is farther from it than one
/// in the last of them, so that it is another number with as many.
fn is_far_from_float32(number: &Number) -> bool {
    let scale = i32::from(number.scale).checked_sub(number.exponent.unwrap_or(0));
    let double = u64::try_from(number.mantissa.unsigned_abs())
        .ok()
        .zip(scale)
        .and_then(|(digits, scale)| nearest_double(digits, scale))
        .filter(|double| (f64::from(f32::MIN_POSITIVE)..1e38).contains(double));
    let digits = significant_digits(number.mantissa.unsigned_abs());
    let (Some(double), 10..=17) = (double, digits) else { return false };
    // The double is not the number either, but off by less than this.
    let off = 2.0 * f64::EPSILON;
    let share = (f64::from(double as f32) - double).abs() / double;
    share > 1.0 / EXACT_POW10[digits as usize - 1] + off
}

/// As [`survives_float32`], of float64.
pub fn survives_float64(text: &[u8], number: &Number) -> bool {
    let found = nearest_float64(text, number);
    found.map_or_else(|| printed_survives_float64(&plain_text(number), number), |found| found.1)
}

/// The float32 nearest to a number, and whether the number survives it; `None` where that is not told quickly.
pub fn nearest_float32(text: &[u8], number: &Number) -> Option<(f32, bool)> {
    let (float, survives) = nearest::<f32>(text, number)?;
    Some((if number.mantissa < 0 { -float } else { float }, survives))
}

/// As [`nearest_float32`], of float64.
pub fn nearest_float64(text: &[u8], number: &Number) -> Option<(f64, bool)> {
    let (float, survives) = nearest::<f64>(text, number)?;
    Some((if number.mantissa < 0 { -float } else { float }, survives))
}

/// The same, of either width and without the sign.
fn nearest<F: Width>(text: &[u8], number: &Number) -> Option<(F, bool)> {
    let digits = u64::try_from(number.mantissa.unsigned_abs()).ok().filter(|digits| *digits > 0)?;
    let scale = i32::from(number.scale).checked_sub(number.exponent.unwrap_or(0))?;
    let (float, survives) = quick::<F>(text, digits, scale)?;
    // In scientific notation a float may be written with more digits than it has, which is not told quickly.
    (survives || number.exponent.is_none()).then_some((float, survives))
}

/// Whether `digits × 10^-scale` survives float32; `None` where that is not told quickly.
#[inline]
pub fn survives_float32_of(digits: u64, scale: u8) -> Option<bool> {
    if digits < SURE_OF_FLOAT32 {
        return Some(true);
    }
    // With more digits than any shortest form has it is none.
    if digits >= 1_000_000_000 && without_zeros(digits).0 >= 1_000_000_000 {
        return Some(false);
    }
    Some(quick::<f32>(&[], digits, scale.into())?.1)
}

/// As [`nearest_float32`], of `digits × 10^-scale` without its sign; `digits` are some.
#[inline]
pub fn nearest_float32_of(text: &[u8], digits: u64, scale: u8) -> Option<(f32, bool)> {
    quick::<f32>(text, digits, scale.into())
}

/// As [`nearest_float64`], of `digits × 10^-scale` without its sign; `digits` are some.
#[inline]
pub fn nearest_float64_of(text: &[u8], digits: u64, scale: u8) -> Option<(f64, bool)> {
    quick::<f64>(text, digits, scale.into())
}

/// A number as a text that says the same.
fn plain_text(number: &Number) -> String {
    let exponent = i64::from(number.exponent.unwrap_or(0)) - i64::from(number.scale);
    format!("{}e{exponent}", number.mantissa)
}

/// A float of one width.
trait Width: zmij::Float + Copy {
    /// Every number of less than these digits survives, within the exponents of normal floats.
    const SURE: u64;
    /// No shortest form has more digits.
    const MOST: u32;
    /// The float nearest to `digits × 10^-scale`, which `text` says too; `None` where it takes more to know.
    fn nearest(text: &[u8], digits: u64, scale: i32) -> Option<Self>;
    /// It as `whole × 2^exponent`; it is positive.
    fn parts(self) -> (u64, i32);
}

impl Width for f32 {
    const SURE: u64 = SURE_OF_FLOAT32;
    const MOST: u32 = 9;

    fn nearest(_: &[u8], digits: u64, scale: i32) -> Option<f32> {
        let double = nearest_double(digits, scale)?;
        // Rounding twice is rounding once, unless the first rounding ended where the second has a choice.
        const BELOW: u64 = (1 << 29) - 1;
        let is_tie = double.to_bits() & BELOW == 1 << 28;
        let is_normal = (f64::from(f32::MIN_POSITIVE)..1e38).contains(&double);
        (is_normal && !is_tie).then_some(double as f32)
    }

    fn parts(self) -> (u64, i32) {
        let bits = self.to_bits();
        (u64::from(bits & 0x7f_ffff | 0x80_0000), (bits >> 23) as i32 - 150)
    }
}

impl Width for f64 {
    const SURE: u64 = SURE_OF_FLOAT64;
    const MOST: u32 = 17;

    fn nearest(text: &[u8], digits: u64, scale: i32) -> Option<f64> {
        nearest_double(digits, scale).or_else(|| {
            let float = std::str::from_utf8(text).ok()?.parse::<f64>().ok()?.abs();
            (1e-300..1e300).contains(&float).then_some(float)
        })
    }

    fn parts(self) -> (u64, i32) {
        let bits = self.to_bits();
        (bits & ((1 << 52) - 1) | 1 << 52, (bits >> 52) as i32 - 1075)
    }
}

/// The float nearest to `mantissa × 10^-scale`, which `text` says too, and whether that survives it; `None` where the
/// long way has to be taken.
#[inline]
fn quick<F: Width>(text: &[u8], mantissa: u64, scale: i32) -> Option<(F, bool)> {
    let float = F::nearest(text, mantissa, scale)?;
    if mantissa < F::SURE {
        return Some((float, true));
    }
    let (bare, dropped) = without_zeros(mantissa);
    if bare < F::SURE || bare >= 10u64.pow(F::MOST) {
        return Some((float, bare < F::SURE));
    }
    // No two numbers of so many digits are near enough to be one float, and a shorter one would be one of them.
    let bare_scale = scale - dropped as i32;
    if is_alone(float.parts().1, bare_scale) {
        return Some((float, true));
    }
    if let Some(is_shortest) = is_shortest(float, bare, bare_scale) {
        return Some((float, is_shortest));
    }
    let mut buffer = zmij::Buffer::new();
    let printed = buffer.format_finite(float);
    let (printed, power) = taken_apart(printed);
    if (printed, power) == (bare, -bare_scale) {
        return Some((float, true));
    }
    let may_be_halfway = printed.ilog10() == bare.ilog10();
    let survives = may_be_halfway && is_midway(float, mantissa, scale, (printed, power))?;
    Some((float, survives))
}

/// Whether `bare × 10^-scale` is the shortest form of the float nearest to it; `None` where that is not told quickly. `bare` ends in
/// no zero.
///
/// It is if nothing with a digit less is nearest to the same float, which means not farther from it than half the way to
/// the next one, and nothing with as many digits is nearer to it. All of these are counted in parts of the last digit of `bare`, as
/// many as make the float a whole number of them.
#[inline]
fn is_shortest<F: Width>(float: F, bare: u64, scale: i32) -> Option<bool> {
    /// As many as leave room for a number of 17 digits in 128 bits.
    const MOST_PARTS: u32 = 66;
    /// As many as leave room for ten numbers of the most digits that float32 has in 64 bits.
    const MOST_SHORT_PARTS: u32 = 29;
    /// Powers of ten that 64 bits hold, one left out: half a step has to be whole.
    const SCALES: RangeInclusive<i32> = 1..=19;
    /// Those that leave room beside them for the digits of a float32.
    const SHORT_SCALES: RangeInclusive<i32> = 1..=11;
    let (whole, exponent) = float.parts();
    let parts = u32::try_from(-exponent).ok().filter(|parts| *parts <= MOST_PARTS)?;
    // Below a power of two the next float is nearer than above it.
    if whole.is_power_of_two() || !SCALES.contains(&scale) {
        return None;
    }
    let power = POW10[scale as usize] as u64;
    macro_rules! is_shortest {
        ($int:ty) => {{
            let (power, bare) = (power as $int, bare as $int);
            let half_step = power / 2;
            let off = whole as $int * power - (bare << parts);
            let digit: $int = 1 << parts;
            // Of two that are as near as each other either is a shortest form.
            if off.abs() * 2 == digit {
                return None;
            }
            let last = bare % 10;
            let shorter = (off + last * digit).min((10 - last) * digit - off);
            if shorter == half_step {
                return None;
            }
            Some(off.abs() * 2 < digit && shorter > half_step)
        }};
    }
    if F::MOST == f32::MOST && parts <= MOST_SHORT_PARTS && SHORT_SCALES.contains(&scale) {
        is_shortest!(i64)
    } else {
        is_shortest!(i128)
    }
}

/// Whether floats that are multiples of `2^exponent` lie closer together than numbers that are multiples of
/// `10^-scale`. The product of both is exact.
#[inline]
fn is_alone(exponent: i32, scale: i32) -> bool {
    let power = usize::try_from(scale).ok().and_then(|scale| EXACT_POW10.get(scale));
    let is_normal = (-1022..0).contains(&exponent);
    let ulp = |exponent: i32| f64::from_bits(((exponent + 1023) as u64) << 52);
    power.is_some_and(|power| is_normal && ulp(exponent) * power < 1.0)
}

/// Whether a float is exactly halfway between a number and its own shortest form: it has two of them then. Twice the
/// float is their sum, all of them as integers.
fn is_midway<F: Width>(
    float: F,
    mantissa: u64,
    scale: i32,
    (digits, power): (u64, i32),
) -> Option<bool> {
    let up = *EXACT_POW10.get(usize::try_from(scale).ok()?)? as u128;
    let shift = u32::try_from(power + scale).ok()?;
    let other = u128::from(digits).checked_mul(10u128.checked_pow(shift)?)?;
    let sum = u128::from(mantissa).checked_add(other)?;
    let (whole, exponent) = float.parts();
    let twice = u128::from(whole).checked_mul(up)?;
    Some(match u32::try_from(-(exponent + 1)) {
        Ok(down) => twice.trailing_zeros() >= down && twice >> down == sum,
        Err(_) => twice.checked_mul(1u128.checked_shl(exponent.unsigned_abs() + 1)?)? == sum,
    })
}

/// A number without the zeros at its end, and how many those were.
#[inline]
fn without_zeros(mut number: u64) -> (u64, u32) {
    let mut zeros = 0;
    while number.is_multiple_of(10) {
        (number, zeros) = (number / 10, zeros + 1);
    }
    (number, zeros)
}

/// The digits of a printed float without zeros at either end, and the power of ten that they are counted in. It is not
/// zero, and has no sign.
fn taken_apart(printed: &str) -> (u64, i32) {
    let (mut digits, mut scale, mut marked) = (0u64, 0, false);
    let mut bytes = printed.bytes();
    let mut exponent = 0;
    while let Some(byte) = bytes.next() {
        match byte {
            b'.' => marked = true,
            b'e' => {
                exponent =
                    printed[printed.len() - bytes.len()..].parse().expect("a printed exponent");
                break;
            }
            digit => {
                digits = digits * 10 + u64::from(digit - b'0');
                scale += i32::from(marked);
            }
        }
    }
    let (bare, zeros) = without_zeros(digits);
    (bare, exponent - scale + zeros as i32)
}

/// Significant digits of a number: trailing zeros not counted.
fn significant_digits(mantissa: u128) -> u32 {
    // Dividing 128 bits costs a call, and hardly any number needs it.
    if let Ok(mut small) = u64::try_from(mantissa) {
        while small != 0 && small.is_multiple_of(10) {
            small /= 10;
        }
        return small.checked_ilog10().map_or(0, |log| log + 1);
    }
    let mut mantissa = mantissa;
    while mantissa != 0 && mantissa.is_multiple_of(10) {
        mantissa /= 10;
    }
    mantissa.checked_ilog10().map_or(0, |log| log + 1)
}

/// As [`survives_float32`], by printing.
fn printed_survives_float32(text: &str, number: &Number) -> bool {
    survives(text, number, f32::DIGITS, 9, |text, digits| {
        let float = text.parse::<f32>().ok().filter(|f| f.is_finite())?;
        Some(digits.map_or_else(|| format!("{float:e}"), |digits| format!("{float:.digits$e}")))
    })
}

/// As [`survives_float64`], by printing.
fn printed_survives_float64(text: &str, number: &Number) -> bool {
    survives(text, number, f64::DIGITS, 17, |text, digits| {
        let float = text.parse::<f64>().ok().filter(|f| f.is_finite())?;
        Some(digits.map_or_else(|| format!("{float:e}"), |digits| format!("{float:.digits$e}")))
    })
}

/// Up to `sure` digits every decimal survives (within the exponents of normal numbers), and no
/// shortest form has more than `most` digits; only what lies between has to be printed to know.
fn survives(
    text: &str,
    number: &Number,
    sure: u32,
    most: u32,
    print: impl Fn(&str, Option<usize>) -> Option<String>,
) -> bool {
    let digits = significant_digits(number.mantissa.unsigned_abs());
    if digits <= sure && number.exponent.is_none() && number.scale < 30 && number.whole_digits < 30
    {
        return true;
    }
    // A float in scientific notation may be written with more digits than it has: it is the number that was meant
    // where it is printed alike with as many.
    if number.exponent.is_some() && digits > sure {
        let printed = print(text, Some(digits as usize - 1));
        let printed = printed.and_then(|printed| parse_number(printed.as_bytes()));
        if printed.is_some_and(|printed| same_worth(&printed, number)) {
            return true;
        }
    }
    if digits > most {
        return false;
    }
    let parsed = |printed: Option<String>| parse_number(printed?.as_bytes());
    let Some(printed) = parsed(print(text, None)) else { return false };
    if same_worth(&printed, number) {
        return true;
    }
    // A float may lie halfway between two numbers of its fewest digits: both are shortest forms then, and
    // which of them is printed is a matter of taste. With one digit more it is printed exactly.
    let digits = digits as usize;
    if significant_digits(printed.mantissa.unsigned_abs()) as usize != digits {
        return false;
    }
    let (one_more, many_more) =
        (parsed(print(text, Some(digits))), parsed(print(text, Some(digits + 12))));
    one_more.zip(many_more).is_some_and(|(exact, closer)| {
        same_worth(&exact, &closer) && is_halfway(&exact, number, &printed)
    })
}

/// Whether a number lies exactly between two others.
fn is_halfway(middle: &Number, one: &Number, other: &Number) -> bool {
    let power = |n: &Number| i64::from(n.exponent.unwrap_or(0)) - i64::from(n.scale);
    let lowest = power(middle).min(power(one)).min(power(other));
    let whole = |n: &Number| {
        let shift = usize::try_from(power(n) - lowest).ok()?;
        n.mantissa.checked_mul(*POW10.get(shift)?)
    };
    let all = whole(middle).zip(whole(one)).zip(whole(other));
    all.is_some_and(|((middle, one), other)| {
        one.checked_add(other).is_some_and(|sum| middle.checked_mul(2) == Some(sum))
    })
}

/// Whether two numbers are equal: their digits without trailing zeros, and where the first stands.
fn same_worth(a: &Number, b: &Number) -> bool {
    fn bare(number: &Number) -> (i128, i64) {
        let mut mantissa = number.mantissa;
        let mut power = i64::from(number.exponent.unwrap_or(0)) - i64::from(number.scale);
        if mantissa == 0 {
            return (0, 0);
        }
        while mantissa % 10 == 0 {
            mantissa /= 10;
            power += 1;
        }
        (mantissa, power)
    }
    bare(a) == bare(b)
}

#[cfg(test)]
mod tests {
    use super::super::number::Decimal;
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn both_shortest_forms_of_a_float_survive() {
        // The double lies at ….53125, halfway between these two.
        for (text, survives) in [
            ("0.7634353637695312", true),
            ("0.7634353637695313", true),
            ("-72.50234985351562", true),
            ("0.1000000000000001", true),
            ("0.51706942811097434", false),
        ] {
            let number = parse_number(text.as_bytes()).unwrap();
            assert_eq!(survives_float64(text.as_bytes(), &number), survives, "{text}");
        }
    }

    #[test]
    fn floats_that_do_and_do_not_survive() {
        for (text, float32, float64) in [
            ("0.1", true, true),
            ("16777216", true, true),
            ("16777217", false, true),
            ("1073741824", false, true),
            ("0.3333333", true, true),
            ("0.33333334", true, true),
            ("0.333333333", false, true),
            ("9007199254740993", false, false),
            ("0.1000000000000000055", false, false),
            ("1e39", false, true),
            // As programs write doubles with all the digits that they were told to.
            ("2.605097320000000050e+00", false, true),
            ("1.000000014901161194e-01", true, true),
            ("-6.853069999999999995e-01", false, true),
            ("2.605097320000000051e+00", false, false),
            ("1.0000000000000000000001e5", false, false),
            ("1e400", false, false),
            ("1e-46", false, true),
            ("3.4028235e38", true, true),
            ("100000000000000000000", true, true),
        ] {
            let number = parse_number(text.as_bytes()).unwrap();
            assert_eq!(survives_float32(text.as_bytes(), &number), float32, "{text} as float32");
            assert_eq!(survives_float64(text.as_bytes(), &number), float64, "{text} as float64");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3000))]

        /// The short way against the long one: numbers of any length, shortest forms of floats, their neighbours.
        #[test]
        fn the_short_way_is_the_long_one(
            mantissa in any::<i64>(), shift in 0u32..63, scale in 0u8..38, float in any::<f32>(), double in any::<f64>(), nudge in -1i64..2,
        ) {
            let near = |text: String| {
                let number = parse_number(text.as_bytes()).filter(|n| n.exponent.is_none())?;
                Some(Decimal { mantissa: number.mantissa + i128::from(nudge), scale: number.scale }.to_string())
            };
            let texts = [
                Some(Decimal { mantissa: i128::from(mantissa >> shift), scale }.to_string()),
                near(float.to_string()),
                near(double.to_string()),
                near(f64::from(float).to_string()),
                near(format!("{:.3}", double % 1e9)),
                Some(format!("{double:e}")),
                Some(format!("{double:E}")),
                Some(format!("{float:e}")),
                Some(format!("{}e{}", mantissa >> shift, i32::from(scale) - 19)),
                Some(format!("{:.17e}", double)),
                Some(format!("{:.*e}", 8 + shift as usize % 10, f64::from(float))),
            ];
            for text in texts.into_iter().flatten() {
                let number = parse_number(text.as_bytes()).unwrap();
                prop_assert_eq!(survives_float32(text.as_bytes(), &number), printed_survives_float32(&text, &number), "{}", text);
                if let Some((float, _)) = nearest_float32(text.as_bytes(), &number) {
                    prop_assert_eq!(float, text.parse::<f32>().unwrap(), "{}", text);
                }
                if let Some((float, _)) = nearest_float64(&[], &number) {
                    prop_assert_eq!(float, text.parse::<f64>().unwrap(), "{}", text);
                }
                prop_assert_eq!(survives_float64(text.as_bytes(), &number), printed_survives_float64(&text, &number), "{}", text);
            }
        }

        /// The sure-digits rule against printing, which is its definition.
        #[test]
        fn surviving_is_what_printing_says(mantissa in 0i128..10_000_000_000, scale in 0u8..9) {
            let text = Decimal { mantissa, scale }.to_string();
            let number = parse_number(text.as_bytes()).unwrap();
            let float = text.parse::<f32>().unwrap();
            let printed = format!("{float:e}");
            let shortest = parse_number(printed.as_bytes()).unwrap();
            // Exactly halfway between two numbers of as few digits, a float may be printed as either: twice
            // the float is their sum, all of them as integers.
            let (bits, digits) = (float.to_bits(), significant_digits(mantissa.unsigned_abs()));
            let exponent = (bits >> 23).max(1) as i32 - 150;
            let fraction = i128::from(bits & 0x7f_ffff | if bits >> 23 > 0 { 1 << 23 } else { 0 });
            let (up, down) = (1i128 << exponent.max(0), 1i128 << (-exponent).clamp(0, 60));
            let at = |n: &Number| Decimal { mantissa: n.mantissa, scale: 0 }
                .at_scale(18)
                .map(|m| m / POW10[(i32::from(n.scale) - n.exponent.unwrap_or(0)).clamp(0, 38) as usize]
                    * POW10[(n.exponent.unwrap_or(0) - i32::from(n.scale)).clamp(0, 38) as usize]);
            let is_tie = significant_digits(shortest.mantissa.unsigned_abs()) == digits
                && at(&shortest).zip(at(&number)).is_some_and(|(x, y)| 2 * fraction * up * POW10[18] == (x + y) * down);
            let survived = same_worth(&shortest, &number) || is_tie;
            prop_assert_eq!(survives_float32(text.as_bytes(), &number), survived, "{}", text);
        }
    }
}
