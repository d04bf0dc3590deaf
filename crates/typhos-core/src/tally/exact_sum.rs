//! Sums of floats that do not depend on the order in which they are added.

/// An exact sum: floats that do not overlap and add up to it, as J. R. Shewchuk has shown ("Adaptive Precision Floating-Point
/// Arithmetic and Fast Robust Geometric Predicates", 1997). Rounded once, at the end.
///
/// The law: whatever the order of the values, and in whatever parts they are summed up and merged, the result has the same bits;
/// only where a part of the sum is beyond the largest float is it infinite.
#[derive(Debug, Clone, Default, PartialEq)]
pub(super) struct ExactSum {
    /// In ascending order of their size.
    parts: Vec<f64>,
    /// The sum of all that is infinite or not a number; 0 where nothing is.
    special: f64,
}

impl ExactSum {
    pub fn add(&mut self, value: f64) {
        if !value.is_finite() {
            self.special += value;
            return;
        }
        let (mut sum, mut kept) = (value, 0);
        for at in 0..self.parts.len() {
            let part = self.parts[at];
            let (large, small) = if sum.abs() < part.abs() { (part, sum) } else { (sum, part) };
            let total = large + small;
            let rest = small - (total - large);
            if rest != 0.0 {
                self.parts[kept] = rest;
                kept += 1;
            }
            sum = total;
        }
        self.parts.truncate(kept);
        if sum.is_infinite() {
            self.special += sum;
        } else if sum != 0.0 {
            self.parts.push(sum);
        }
    }

    pub fn merge(&mut self, other: &ExactSum) {
        self.special += other.special;
        other.parts.iter().for_each(|part| self.add(*part));
    }

    /// The sum, rounded to the nearest float, and to the even one of two.
    pub fn value(&self) -> f64 {
        if self.special != 0.0 {
            return self.special;
        }
        let mut parts = self.parts.iter().rev();
        let mut sum = parts.next().copied().unwrap_or(0.0);
        let mut rest = 0.0;
        for part in parts.by_ref() {
            let before = sum;
            sum = before + part;
            rest = part - (sum - before);
            if rest != 0.0 {
                break;
            }
        }
        // Where it was half-way, what is left decides.
        if let Some(next) = parts.next()
            && (rest < 0.0 && *next < 0.0 || rest > 0.0 && *next > 0.0)
        {
            let twice = rest * 2.0;
            let other = sum + twice;
            if twice == other - sum {
                sum = other;
            }
        }
        sum
    }

    /// Bytes that it holds beside itself.
    pub fn held(&self) -> usize {
        self.parts.capacity() * size_of::<f64>()
    }

    pub fn write(&self, to: &mut Vec<u8>) {
        to.extend(self.special.to_le_bytes());
        to.push(self.parts.len() as u8);
        self.parts.iter().for_each(|part| to.extend(part.to_le_bytes()));
    }

    /// What was written, and what follows it.
    pub fn read(bytes: &[u8]) -> (ExactSum, &[u8]) {
        let (special, bytes) = bytes.split_first_chunk().expect("a whole sum");
        let (count, bytes) = bytes.split_first().expect("a whole sum");
        let (parts, rest) = bytes.split_at(usize::from(*count) * 8);
        let part = |bytes: &[u8]| f64::from_le_bytes(bytes.try_into().expect("eight bytes"));
        let sum = ExactSum {
            parts: parts.chunks_exact(8).map(part).collect(),
            special: f64::from_le_bytes(*special),
        };
        (sum, rest)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sum(values: impl IntoIterator<Item = f64>) -> ExactSum {
        let mut sum = ExactSum::default();
        values.into_iter().for_each(|value| sum.add(value));
        sum
    }

    #[test]
    fn what_is_lost_by_adding_one_after_the_other_is_kept() {
        assert_eq!(sum([1e100, 1.0, -1e100]).value(), 1.0);
        assert_eq!(sum(std::iter::repeat_n(0.1, 10)).value(), 1.0);
        assert_eq!(sum([]).value(), 0.0);
        assert_eq!(sum([f64::INFINITY, 1.0]).value(), f64::INFINITY);
        assert!(sum([f64::INFINITY, f64::NEG_INFINITY]).value().is_nan());
        // Half-way between two floats, and a little more.
        assert_eq!(sum([1.0, f64::EPSILON / 2.0, 1e-40]).value(), 1.0 + f64::EPSILON);
        assert_eq!(sum([1.0, f64::EPSILON / 2.0]).value(), 1.0);
    }

    proptest! {
        /// The law, over values of all sizes that cancel each other now and then.
        #[test]
        fn no_order_and_no_parts_change_a_sum(
            values in proptest::collection::vec(
                prop_oneof![-1e3f64..1e3, -1e300f64..1e300, Just(1e16), Just(-1e16), Just(5e-324)], 0..40,
            ),
            cut in 0usize..40,
            turns in 0usize..40,
        ) {
            let whole = sum(values.iter().copied());
            let mut turned = values.clone();
            turned.rotate_left(turns.min(values.len()));
            turned.reverse();
            prop_assert_eq!(sum(turned).value().to_bits(), whole.value().to_bits());
            let (head, tail) = values.split_at(cut.min(values.len()));
            let (mut parts, other) = (sum(tail.iter().copied()), sum(head.iter().copied()));
            let mut bytes = Vec::new();
            other.write(&mut bytes);
            bytes.push(7);
            let (read, rest) = ExactSum::read(&bytes);
            prop_assert_eq!((&read, rest), (&other, &[7u8][..]));
            parts.merge(&read);
            prop_assert_eq!(parts.value().to_bits(), whole.value().to_bits());
        }

        /// Against whole numbers, which are exact.
        #[test]
        fn sums_of_whole_numbers_are_theirs(values in proptest::collection::vec(-(1i64 << 60)..1 << 60, 0..50)) {
            let exact: i128 = values.iter().map(|value| i128::from(*value as f64 as i64)).sum();
            prop_assert_eq!(sum(values.iter().map(|value| *value as f64)).value(), exact as f64);
        }
    }
}
