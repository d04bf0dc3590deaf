//! Short fractions, as most measurements and amounts are: taken note of many at a time, as short runs of digits are in
//! [`digits`](super::digits).
//!
//! Only what leaves nothing else to note goes this way: a value that might become an example, or the first that a float
//! would lose, is left to the usual one.

use super::{Class, Facts, MOST_LOSSES};
use crate::readings::{
    Decimal, EXACT_POW10, LONGEST_SHORT, SURE_OF_FLOAT32, SURE_OF_FLOAT64, ShortNumber,
    nearest_float64_of, survives_float32_of,
};
use crate::text::LineRef;

/// Scales that a fraction can have, and zero.
const SCALES: usize = LONGEST_SHORT - 1;

/// A double beside a number, as [`Decimal::near_f64`] has it.
#[inline(always)]
fn near_f64(fraction: ShortNumber) -> f64 {
    fraction.mantissa as f64 / EXACT_POW10[usize::from(fraction.scale)]
}

/// What is noted of the short fractions among some neighbouring values.
#[derive(Debug)]
pub(super) struct FractionGroup {
    /// The scales of which nothing but the count and the extremes is noted, a bit each.
    settled: u32,
    /// Whether nothing but their number is noted of values that float32 would lose.
    losses_are_settled: bool,
    /// Whether a value is known that float64 loses.
    is_float64_loss_known: bool,
    /// Whether so many were lost that nobody asks.
    losses_are_over: bool,
    losses: u64,
    bytes: u64,
    lengths: (u32, u32),
    /// The scales that were added to, a bit each.
    used: u32,
    counts: [u64; SCALES],
    ranges: [(i64, i64); SCALES],
    /// Those that are integers in groups if their mark groups digits.
    as_groups: (u64, i64, i64),
}

impl FractionGroup {
    /// No values yet, of a column of which this is known; the first of them stands at `first`.
    pub fn of(facts: &Facts, first: LineRef) -> FractionGroup {
        let decimals = &facts.tallies[Class::Decimal as usize];
        let is_open = facts.said.is_empty() && decimals.is_settled(first) && facts.text.count > 0;
        let scales = facts.numbers.scales.iter().filter(|(_, tally)| tally.is_settled(first));
        let scales = scales.map(|(scale, _)| usize::from(*scale)).filter(|scale| *scale < SCALES);
        let settled = scales.fold(0, |settled, scale| settled | 1 << scale);
        let losses = &facts.numbers.float32_losses;
        let is_loss_known = facts.numbers.knows_float32_loss(first);
        FractionGroup {
            settled: if is_open { settled } else { 0 },
            losses_are_settled: losses.is_settled(first) && is_loss_known,
            is_float64_loss_known: facts.numbers.knows_float64_loss(first),
            losses_are_over: losses.count >= MOST_LOSSES && is_loss_known,
            losses: 0,
            bytes: 0,
            lengths: (u32::MAX, 0),
            used: 0,
            counts: [0; SCALES],
            ranges: [(i64::MAX, i64::MIN); SCALES],
            as_groups: (0, i64::MAX, i64::MIN),
        }
    }

    /// Whether any value can be added.
    #[inline(always)]
    pub fn is_open(&self) -> bool {
        self.settled != 0
    }

    /// Adds the value `text[start..end]` of the group, seen `count` times, if nothing but what is noted here is to be noted
    /// of it; says whether that is so.
    #[inline(always)]
    pub fn add(
        &mut self,
        facts: &mut Facts,
        fraction: ShortNumber,
        (text, start, end): (&[u8], usize, usize),
        count: u64,
    ) -> bool {
        let ShortNumber { mantissa, scale, whole_digits } = fraction;
        let at = usize::from(scale);
        if self.settled >> scale & 1 == 0 {
            return false;
        }
        // Of more digits than float64 is sure of it has to be asked, until one does not survive.
        let is_long = mantissa.unsigned_abs() >= SURE_OF_FLOAT64;
        let survives = || nearest_float64_of(&text[start..end], mantissa.unsigned_abs(), scale);
        if is_long
            && !self.is_float64_loss_known
            && !survives().is_some_and(|(_, survives)| survives)
        {
            return false;
        }
        if !self.losses_are_over && mantissa.unsigned_abs() >= SURE_OF_FLOAT32 {
            let survives = survives_float32_of(mantissa.unsigned_abs(), scale);
            if survives != Some(true) {
                if survives.is_none() || !self.losses_are_settled {
                    return false;
                }
                self.losses += count;
            }
        }
        facts.numbers.spread(near_f64(fraction), count);
        facts.text.note_extremes(text, start, end);
        let length = (end - start) as u32;
        self.bytes += u64::from(length) * count;
        self.lengths = (self.lengths.0.min(length), self.lengths.1.max(length));
        self.used |= 1 << scale;
        self.counts[at] += count;
        let (low, high) = &mut self.ranges[at];
        (*low, *high) = (mantissa.min(*low), mantissa.max(*high));
        if scale == 3 && whole_digits <= 3 && mantissa.unsigned_abs() >= 1000 {
            let (known, low, high) = self.as_groups;
            self.as_groups = (known + count, low.min(mantissa), high.max(mantissa));
        }
        true
    }

    /// Notes all of them.
    pub fn finish(&self, facts: &mut Facts) {
        if self.used == 0 {
            return;
        }
        let mut count = 0;
        for scale in (0..SCALES as u8).filter(|scale| self.used >> scale & 1 == 1) {
            let (of_scale, (low, high)) =
                (self.counts[usize::from(scale)], self.ranges[usize::from(scale)]);
            let decimal = |mantissa: i64| Decimal { mantissa: mantissa.into(), scale };
            facts.numbers.add_fractions(scale, of_scale, (decimal(low), decimal(high)));
            count += of_scale;
        }
        if self.as_groups.0 > 0 {
            let (count, low, high) = self.as_groups;
            facts.numbers.add_as_groups(count, low.into(), high.into());
        }
        let losses = &mut facts.numbers.float32_losses.count;
        *losses = (*losses + self.losses).min(MOST_LOSSES);
        facts.tallies[Class::Decimal as usize].count += count;
        let lengths = (u64::from(self.lengths.0), u64::from(self.lengths.1));
        facts.text.add_measures(count, self.bytes, lengths, lengths.1);
    }
}

#[cfg(test)]
mod tests {
    use super::super::group::{GROUP, Group};
    use super::super::order::{Adding, BlockRun};
    use super::super::{ColumnFacts, Survey, SurveyOptions};
    use super::*;
    use proptest::prelude::*;

    fn value() -> impl Strategy<Value = String> {
        prop_oneof![
            6 => (any::<i64>(), 0u32..63, 0u8..12).prop_map(|(n, shift, scale)| Decimal { mantissa: i128::from(n >> shift), scale }.to_string()),
            3 => (-99_999i32..99_999).prop_map(|n| format!("{}.{:03}", n / 100, n.unsigned_abs() % 1000)),
            3 => (-0.5f64..0.5).prop_map(|n| n.to_string()),
            2 => (0.0f32..100.0).prop_map(|n| n.to_string()),
            1 => "[-+]?[0-9]{0,9}\\.?[0-9]{0,9}",
            1 => Just("NA".to_owned()),
            3 => (0u32..99_999_999, any::<bool>()).prop_map(|(n, comma)| {
                let (a, b, c) = (n / 100_000, n / 100 % 1000, n % 100);
                if comma { format!("{a}.{b:03},{c:02}") } else { format!("${a},{b:03}.{c}") }
            }),
            1 => (0u32..200, 0u32..200).prop_map(|(a, b)| format!("{a},{b}")),
            3 => (1u32..13, 1u32..32, 2000u32..2030, 0u32..24).prop_map(|(m, d, y, h)| format!("{y}-{m:02}-{d:02} {h:02}:05")),
            2 => (1u32..13, 1u32..32, 0u32..24).prop_map(|(m, d, h)| format!("{m}/{d}/2024 {h}:05 PM")),
            1 => any::<u128>().prop_map(|n| format!("{:08x}-{:04x}-4000-8000-{:012x}", n >> 96, n >> 80 & 0xffff, n & 0xffff_ffff_ffff)),
            1 => any::<std::net::Ipv4Addr>().prop_map(|ip| ip.to_string()),
            1 => "[0-9]{1,3}\\.[0-9]{1,3}\\.[0-9]{1,3}\\.[0-9]{1,3}",
        ]
    }

    proptest! {
        #[test]
        fn doubles_beside_are_those_of_decimals(value in value()) {
            if let Some(short) = ShortNumber::read(value.as_bytes()) {
                let decimal = Decimal { mantissa: short.mantissa.into(), scale: short.scale };
                prop_assert_eq!(near_f64(short).to_bits(), decimal.near_f64().to_bits());
            }
        }

        /// The facts of many values at a time are those of one after the other.
        #[test]
        fn groups_give_the_facts_of_their_values(
            kinds in proptest::collection::vec(value(), 1..40),
            picks in proptest::collection::vec(any::<prop::sample::Index>(), 1..400),
        ) {
            let values: Vec<&String> = picks.iter().map(|pick| pick.get(&kinds)).collect();
            let place = |row: usize| LineRef { part: 0, line: 2 + row as u64 };
            let options = SurveyOptions::default();
            let column = || -> ColumnFacts {
                let mut column = Survey::new(1, &options).columns.remove(0);
                column.fold();
                column
            };
            let (mut grouped, mut singly) = (column(), column());
            let mut text = Vec::new();
            let bounds: Vec<(usize, usize)> = values
                .iter()
                .map(|value| {
                    let start = text.len();
                    text.extend_from_slice(value.as_bytes());
                    text.push(b'\n');
                    (start, start + value.len())
                })
                .collect();
            text.extend([b'x'; 20]);
            let mut run = BlockRun::None;
            let mut row = 0;
            for chunk in bounds.chunks(GROUP) {
                let mut group = Group::new();
                let first = row;
                let mut places = group.places();
                for (start, end) in chunk.iter().filter(|(start, end)| start < end) {
                    places.put(*start, *end, (row - first) as u32);
                    row += 1;
                }
                places.finish();
                let at = |of_group: u32| place(first + of_group as usize);
                grouped.observe_directly(&mut group, &text, at, &mut Adding::to(&mut run));
            }
            for (row, value) in values.iter().filter(|value| !value.is_empty()).enumerate() {
                singly.observe(value.as_bytes(), true, place(row));
            }
            prop_assert_eq!(grouped.facts_with_spread(), singly.facts_with_spread());
            prop_assert_eq!(grouped.distinct(), singly.distinct());
        }
    }
}
