//! How many distinct values there are, where they cannot all be kept: exactly from their hashes for a
//! while, then as an estimate.
//!
//! The estimate is the one of *HyperLogLog* (Flajolet and others, 2007): of every hash the first bits
//! choose a register, which keeps the longest run of zeros that the other bits began with. The improved
//! raw estimator of Ertl (*New cardinality estimation algorithms for HyperLogLog sketches*, 2017,
//! algorithm 6) needs no tables and no change of method between small and large sets.
//!
//! Hashes are the same on every machine and in every version, so that saved surveys merge. Values of more
//! than 16 bytes have those of XXH3 with 64 bits and no seed. Shorter ones, which nearly all are, take two
//! multiplications whose halves are folded together, the step that many fast hashes are made of: a call
//! for each value cost 6 % of `scout` by `perf`. Two values of one hash count as one; among 65,536 values
//! that happens once in some eight thousand million columns.

use twox_hash::XxHash3_64;

use super::long_hash::{fold, long_hash};

/// Bits of a hash that choose a register.
const REGISTER_BITS: u32 = 13;

/// Registers of a sketch, a byte each.
const REGISTERS: usize = 1 << REGISTER_BITS;

/// The standard error of an estimate, as a share of it: 1.04 divided by the root of the registers.
pub const ESTIMATE_ERROR: f64 = 0.0115;

/// The hash of a value, the same everywhere.
#[inline(always)]
pub(super) fn hash(value: &[u8]) -> u64 {
    // Two loads that overlap hold every byte; the length tells apart what they do not.
    let (a, b) = match (value.first_chunk::<8>(), value.last_chunk::<8>()) {
        (Some(first), Some(last)) if value.len() <= 16 => {
            (u64::from_le_bytes(*first), u64::from_le_bytes(*last))
        }
        (Some(_), _) => return long_hash(value).unwrap_or_else(|| XxHash3_64::oneshot(value)),
        _ => match (value.first_chunk::<4>(), value.last_chunk::<4>()) {
            (Some(first), Some(last)) => {
                (u32::from_le_bytes(*first).into(), u32::from_le_bytes(*last).into())
            }
            _ => (value.iter().fold(0, |word, byte| word << 8 | u64::from(*byte)), 0),
        },
    };
    hash_of(a, b, value.len())
}

/// The hash of a value of at most sixteen bytes, of two words that hold all of them.
#[inline(always)]
fn hash_of(a: u64, b: u64, length: usize) -> u64 {
    let length = (length as u64) << 56;
    fold(fold(a ^ FACTORS[0], b ^ FACTORS[1] ^ length), FACTORS[2])
}

/// The hash of the value `text[start..end]`. Where enough stands around a value of four to sixteen bytes, as it does nearly
/// always, nothing in this goes by its length but which of two words is taken.
#[inline(always)]
pub(super) fn hash_within(text: &[u8], start: usize, end: usize) -> u64 {
    let words = (text.get(start..).and_then(<[u8]>::first_chunk), text[..end].last_chunk());
    let (Some(first), Some(last)) = words else { return hash(&text[start..end]) };
    let length = end - start;
    if !(4..=16).contains(&length) {
        return hash(&text[start..end]);
    }
    let (first, last) = (u64::from_le_bytes(*first), u64::from_le_bytes(*last));
    let is_short = length < 8;
    let a = if is_short { first & 0xffff_ffff } else { first };
    let b = if is_short { last >> 32 } else { last };
    hash_of(a, b, length)
}

/// Bits of the fraction of pi, as good as any: 64 at a time from the first on.
const FACTORS: [u64; 3] = [0x243f_6a88_85a3_08d3, 0x1319_8a2e_0370_7344, 0xa409_3822_299f_31d0 | 1];

/// Distinct hashes, most of them sorted, and new ones that may be among them already: eight bytes each, which no set of
/// them comes near. A set is slower, too, where there are many columns: each hash waits for its place, and by `perf`
/// files of sixty columns took half as long again.
#[derive(Debug, Clone, Default)]
pub(super) struct HashList {
    sorted: Vec<u64>,
    fresh: Vec<u64>,
}

impl HashList {
    /// Sorts all hashes once they may be more than the `most` that are to be kept, and half as many are new; says whether it did.
    #[inline]
    fn sort_in_time(&mut self, most: usize) -> bool {
        let (fresh, all) = (self.fresh.len(), self.fresh.len() + self.sorted.len());
        let is_time = fresh >= 64 && fresh * 2 >= most && all > most;
        if is_time {
            self.sort();
        }
        is_time
    }

    #[inline(never)]
    fn sort(&mut self) {
        sort_hashes(&mut self.fresh);
        self.fresh.dedup();
        // Two sorted runs, which a merging sort finds.
        self.sorted.append(&mut self.fresh);
        self.sorted.sort();
        self.sorted.dedup();
    }

    /// All of them, sorted.
    pub fn sorted(&self) -> &[u64] {
        &self.sorted
    }
}

/// Sorts hashes, whose first bits say nearly where each belongs: they are put there first, so that only neighbours have to be
/// compared.
fn sort_hashes(hashes: &mut [u64]) {
    // About one hash to each place, which are still few enough for the second level of cache.
    let bits = hashes.len().checked_ilog2().unwrap_or(0).min(16);
    if bits < 6 {
        return hashes.sort_unstable();
    }
    let place = |hash: u64| (hash >> (u64::BITS - bits)) as usize;
    let mut ends = vec![0u32; 1 << bits];
    hashes.iter().for_each(|hash| ends[place(*hash)] += 1);
    let mut end = 0;
    for next in &mut ends {
        end += std::mem::replace(next, end);
    }
    let unsorted = hashes.to_vec();
    for hash in unsorted {
        let at = &mut ends[place(hash)];
        hashes[*at as usize] = hash;
        *at += 1;
    }
    let mut start = 0;
    for end in ends {
        let neighbours = &mut hashes[start..end as usize];
        match neighbours {
            [] | [_] => {}
            [a, b] => (*a, *b) = ((*a).min(*b), (*a).max(*b)),
            // However many there are: whoever writes a file may choose the hashes.
            _ => neighbours.sort_unstable(),
        }
        start = end as usize;
    }
}

/// The hashes of a column's values, or what is left of them.
#[derive(Debug, Clone)]
pub(super) enum Hashes {
    /// All of them: they are few enough.
    All(HashList),
    /// The registers of a sketch.
    Sketch(Box<[u8; REGISTERS]>),
}

impl Hashes {
    pub fn new() -> Hashes {
        Hashes::All(HashList::default())
    }

    /// Takes note of a value, where at most `most` hashes are to be kept.
    #[inline(always)]
    pub fn add(&mut self, value: &[u8], most: usize) {
        self.add_hash(hash(value), most);
    }

    #[inline(always)]
    pub fn add_hash(&mut self, hash: u64, most: usize) {
        match self {
            Hashes::Sketch(registers) => note(registers, hash),
            Hashes::All(_) => self.list(hash, most),
        }
    }

    #[inline(never)]
    fn list(&mut self, hash: u64, most: usize) {
        if let Hashes::All(all) = self {
            all.fresh.push(hash);
            self.see_to_list(most);
        }
    }

    /// Sorts the list of hashes when it is time to, and keeps registers instead if there are more than `most`.
    pub fn see_to_list(&mut self, most: usize) {
        if let Hashes::All(all) = self
            && all.sort_in_time(most)
            && all.sorted.len() > most
        {
            self.condense();
        }
    }

    /// Where the hashes of many values go; the [list](Self::see_to_list) has to be seen to behind them.
    #[inline]
    pub fn sink(&mut self) -> HashSink<'_> {
        match self {
            Hashes::Sketch(registers) => HashSink::Registers(registers),
            Hashes::All(all) => HashSink::List(&mut all.fresh),
        }
    }

    /// Keeps registers instead, as it has to be with too many hashes.
    #[cold]
    pub fn condense(&mut self) {
        if let Hashes::All(all) = self {
            let mut registers = Box::new([0; REGISTERS]);
            all.sorted.iter().chain(&all.fresh).for_each(|hash| note(&mut registers, *hash));
            *self = Hashes::Sketch(registers);
        }
    }

    pub fn merge(&mut self, other: Hashes, most: usize) {
        match other {
            Hashes::All(mut theirs) => match self {
                Hashes::All(ours) => {
                    // Sorted once, all of them.
                    ours.fresh.append(&mut theirs.sorted);
                    ours.fresh.append(&mut theirs.fresh);
                    self.settle(most);
                }
                Hashes::Sketch(registers) => {
                    let all = theirs.sorted.iter().chain(&theirs.fresh);
                    all.for_each(|hash| note(registers, *hash));
                }
            },
            Hashes::Sketch(theirs) => {
                self.condense();
                if let Hashes::Sketch(ours) = self {
                    ours.iter_mut().zip(theirs.iter()).for_each(|(a, b)| *a = (*a).max(*b));
                }
            }
        }
    }

    /// Puts the last hashes among the others, after which there may be too many.
    pub fn settle(&mut self, most: usize) {
        if let Hashes::All(all) = self {
            all.sort();
            if all.sorted.len() > most {
                self.condense();
            }
        }
    }

    /// How many distinct values were noted, and whether that is exact. They have to be
    /// [settled](Self::settle).
    pub fn count(&self) -> (u64, bool) {
        match self {
            Hashes::All(all) => (all.sorted.len() as u64, true),
            Hashes::Sketch(registers) => (estimate(registers).round() as u64, false),
        }
    }

    /// The registers of a saved sketch.
    pub fn from_registers(bytes: &[u8]) -> Option<Hashes> {
        let registers: Box<[u8; REGISTERS]> = bytes.to_vec().into_boxed_slice().try_into().ok()?;
        let most = (u64::BITS - REGISTER_BITS + 1) as u8;
        registers.iter().all(|register| *register <= most).then_some(Hashes::Sketch(registers))
    }
}

/// Where the hashes of values go that are passed over.
pub(super) enum HashSink<'h> {
    Registers(&'h mut [u8; REGISTERS]),
    List(&'h mut Vec<u64>),
}

impl HashSink<'_> {
    /// Takes note of the value `text[start..end]`.
    #[inline(always)]
    pub fn add(&mut self, text: &[u8], start: usize, end: usize) {
        let hash = hash_within(text, start, end);
        match self {
            HashSink::Registers(registers) => note(registers, hash),
            HashSink::List(list) => list.push(hash),
        }
    }
}

#[inline]
fn note(registers: &mut [u8; REGISTERS], hash: u64) {
    let at = (hash >> (u64::BITS - REGISTER_BITS)) as usize;
    // A bit behind those that count ends a run of all of them.
    let rest = hash << REGISTER_BITS | 1 << (REGISTER_BITS - 1);
    let run = rest.leading_zeros() as u8 + 1;
    registers[at] = registers[at].max(run);
}

/// Ertl's estimate from how many registers hold each value.
fn estimate(registers: &[u8; REGISTERS]) -> f64 {
    const LONGEST: usize = (u64::BITS - REGISTER_BITS) as usize;
    let mut held = [0u32; LONGEST + 2];
    registers.iter().for_each(|register| held[usize::from(*register)] += 1);
    let all = REGISTERS as f64;
    let share = |at: usize| f64::from(held[at]) / all;
    let mut z = all * tau(1.0 - share(LONGEST + 1));
    for at in (1..=LONGEST).rev() {
        z = 0.5 * (z + f64::from(held[at]));
    }
    z += all * sigma(share(0));
    all * all / (2.0 * std::f64::consts::LN_2 * z)
}

/// The sum of `x^(2^k) 2^(k-1)` over k from 1 on, and x; infinite for 1.
fn sigma(mut x: f64) -> f64 {
    if x == 1.0 {
        return f64::INFINITY;
    }
    let (mut y, mut z) = (1.0, x);
    loop {
        x *= x;
        let before = z;
        z += x * y;
        y += y;
        if z == before {
            return z;
        }
    }
}

/// A third of 1 - x less the sum of `(1 - x^(2^-k))^2 2^-k` over k from 1 on.
fn tau(mut x: f64) -> f64 {
    if x == 0.0 || x == 1.0 {
        return 0.0;
    }
    let (mut y, mut z) = (1.0, 1.0 - x);
    loop {
        x = x.sqrt();
        let before = z;
        y *= 0.5;
        z -= (1.0 - x).powi(2) * y;
        if z == before {
            return z / 3.0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const KNOWN: [u64; 6] = [
        16_698_402_658_094_048_070,
        13_822_058_970_785_479_029,
        15_878_109_338_001_592_379,
        10_815_410_246_709_338_503,
        15_624_512_864_834_811_490,
        2_185_639_140_282_296_064,
    ];

    #[test]
    fn hashes_are_those_of_every_machine() {
        // Saved surveys hold them: if one of these changes, so must the version of the format.
        let long = b"Skerrow Ferries, from Holm";
        assert_eq!(hash(long), XxHash3_64::oneshot_with_seed(0, long));
        let known: Vec<u64> =
            ["", "7", "007", "1234", "12345678", "Gannet Sound"].map(|v| hash(v.as_bytes())).into();
        assert_eq!(known, KNOWN);
        // Texts that are near each other, and those that share all that is loaded of them.
        let mut near: Vec<u64> =
            (0..=16).map(|length| hash(&b"0000000000000000"[..length])).collect();
        near.sort_unstable();
        near.dedup();
        assert_eq!(near.len(), 17);
    }

    #[test]
    fn estimates_are_as_near_as_they_say() {
        let counts = [0u64, 1, 100, 8_000, 70_000, 1_000_000];
        for (count, prefix) in
            counts.into_iter().flat_map(|n| [(n, ""), (n, "booking "), (n, "a longer booking ")])
        {
            let mut hashes = Hashes::new();
            (0..count).for_each(|n| hashes.add(format!("{prefix}{n}").as_bytes(), 0));
            hashes.settle(0);
            let (estimate, is_exact) = hashes.count();
            assert_eq!(is_exact, count == 0);
            let error = (estimate as f64 - count as f64).abs() / count.max(1) as f64;
            assert!(error < 3.0 * ESTIMATE_ERROR, "{estimate} for {count}");
        }
    }

    proptest! {
        #[test]
        fn hashes_do_not_depend_on_what_stands_around(before in ".{0,9}", value in ".{0,20}", after in ".{0,9}") {
            let text = format!("{before}{value}{after}");
            let found = hash_within(text.as_bytes(), before.len(), before.len() + value.len());
            prop_assert_eq!(found, hash(value.as_bytes()));
        }

        #[test]
        fn hashes_are_sorted(mut hashes in proptest::collection::vec(prop_oneof![any::<u64>(), 0u64..9, any::<u64>().prop_map(|n| !(n >> 9))], 0..600)) {
            let mut sorted = hashes.clone();
            sorted.sort_unstable();
            sort_hashes(&mut hashes);
            prop_assert_eq!(hashes, sorted);
        }

        #[test]
        fn merging_is_adding_all(values in proptest::collection::vec(0u32..500, 0..400), cut in 0usize..400, most in 0usize..300) {
            let of = |values: &[u32]| {
                let mut hashes = Hashes::new();
                values.iter().for_each(|value| hashes.add(&value.to_le_bytes(), most));
                hashes.settle(most);
                hashes
            };
            let cut = cut.min(values.len());
            let (mut a, b) = (of(&values[..cut]), of(&values[cut..]));
            let mut backwards = b.clone();
            backwards.merge(a.clone(), most);
            a.merge(b, most);
            prop_assert_eq!(a.count(), of(&values).count());
            prop_assert_eq!(backwards.count(), a.count());
            let distinct = values.iter().collect::<std::collections::HashSet<_>>().len();
            if distinct <= most {
                prop_assert_eq!(a.count(), (distinct as u64, true));
            }
        }
    }
}
