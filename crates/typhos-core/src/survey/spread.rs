//! How numbers are spread: a histogram that finds its own resolution, for quantiles and pictures.
//!
//! A double is turned into an integer that orders as it does, and the upper bits of that are its cell:
//! as many of them as leave at most [`MOST_CELLS`] cells. Few distinct values each have a cell of
//! their own and quantiles are exact; many share cells of the finest width that does.
//!
//! The law: which cells there are depends on the set of values alone. Adding a value never makes fewer
//! cells at a given width, so the width only grows, and in any order and over any merging it ends at the
//! narrowest that fits *all* values. That is why a survey cut in pieces gives the same quantiles. On the way there may be twice as
//! many cells: widened whenever there is one too many, a column of distinct numbers would be sorted hundreds of times.

use serde::{Deserialize, Serialize};

/// Cells of one spread: a quantile is off by at most one of them.
pub const MOST_CELLS: usize = 512;

/// A cell: the numbers from `low` to `high`, and how many values are among them.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Cell {
    /// The smallest number of the cell.
    pub low: f64,
    /// The largest.
    pub high: f64,
    /// Values in it.
    pub count: u64,
}

/// Counts of numbers by cell.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(into = "SavedSpread", try_from = "SavedSpread")]
pub struct Spread {
    /// Lower bits that do not tell cells apart.
    shift: u32,
    /// The counts of the cells whose keys follow each other from `base` on, where most values are. Empty until cells are
    /// wide: before that their keys are far from each other.
    near: Box<[u64]>,
    base: u64,
    /// Other cells by key, searched linearly from the place of its hash; a count of 0 is a free place. Its
    /// length is 0, or a power of two that is at least twice the cells in it.
    places: Vec<(u64, u64)>,
    /// Cells in use, and those of them that have places.
    used: usize,
    far: usize,
    /// The place that was added to last: sorted columns stay in one cell for long.
    last: usize,
    /// The most cells, where they are fewer than [`MOST_CELLS`]; otherwise 0.
    fewer: usize,
}

/// The most cells of a spread in a survey of so many columns: in one of more than a thousand fewer than
/// in others, so that all together stay in bounds.
pub(super) fn most_cells(columns: usize) -> usize {
    (TOTAL_CELLS / columns.max(1)).clamp(32, MOST_CELLS)
}

/// Cells that have places in the order of their keys: a look-up of any of them is a subtraction.
const NEAR_CELLS: usize = 2 * MOST_CELLS;

/// Cells over all columns, of about 32 bytes each, in each thread.
const TOTAL_CELLS: usize = 1 << 19;

/// The integer that orders as the double does.
#[inline]
fn ordered(number: f64) -> u64 {
    // Adding zero makes one zero of two.
    let bits = (number + 0.0).to_bits();
    if bits >> 63 == 1 { !bits } else { bits | 1 << 63 }
}

/// The double of an [`ordered`] integer.
fn number(ordered: u64) -> f64 {
    f64::from_bits(if ordered >> 63 == 1 { ordered ^ 1 << 63 } else { !ordered })
}

/// The first and last ordered integer of a cell; wide cells end where finite numbers do.
fn finite(key: u64, shift: u32) -> (u64, u64) {
    let first = key << shift;
    let last = first | ((1u64 << shift) - 1);
    (first.max(ordered(f64::MIN)), last.min(ordered(f64::MAX)))
}

/// Where to look for a key first. The keys of whole doubles have zeros at their end, and a product spreads them. Those
/// of wider cells are neighbours, most of them, which have places beside each other and so never one in common: by
/// `perf` a third of the time of a column of fractions went into places that two keys shared.
#[inline]
fn place_of(key: u64, places: usize, shift: u32) -> usize {
    const FACTOR: u64 = 0x9e37_79b9_7f4a_7c15;
    let place = match shift {
        0 => key.wrapping_mul(FACTOR) >> 40,
        _ => key.wrapping_add((key >> 10).wrapping_mul(FACTOR) >> 40),
    };
    place as usize & (places - 1)
}

/// Where as many keys as have places in their order begin, so that most values are in cells of them.
fn best_base(sorted: &[(u64, u64)]) -> u64 {
    let (mut best, mut first, mut within) = ((0, 0), 0, 0);
    for (key, count) in sorted {
        within += count;
        while key - sorted[first].0 >= NEAR_CELLS as u64 {
            within -= sorted[first].1;
            first += 1;
        }
        best = best.max((within, sorted[first].0));
    }
    best.1
}

/// How many bits wider cells have to be, of which these are in use in their order, until there are at most so many.
fn wider(cells: &[(u64, u64)], most: usize) -> u32 {
    if cells.len() <= most {
        return 0;
    }
    // Neighbours fall together once all bits are gone in which they differ.
    let mut apart_until = [0usize; 65];
    for pair in cells.windows(2) {
        apart_until[(u64::BITS - (pair[0].0 ^ pair[1].0).leading_zeros()) as usize] += 1;
    }
    let (mut wider, mut left) = (0, cells.len());
    while left > most {
        wider += 1;
        left -= apart_until[wider];
    }
    wider as u32
}

impl PartialEq for Spread {
    fn eq(&self, other: &Spread) -> bool {
        self.narrowest() == other.narrowest()
    }
}

impl Spread {
    /// Adds a finite number, seen `count` times.
    #[inline]
    pub fn add(&mut self, number: f64, count: u64) {
        debug_assert!(number.is_finite(), "what is not a number is counted elsewhere");
        let key = ordered(number) >> self.shift;
        match self.near.get_mut(key.wrapping_sub(self.base) as usize) {
            Some(held) if *held > 0 => *held += count,
            _ => self.add_elsewhere(key, count),
        }
    }

    #[inline(never)]
    fn add_elsewhere(&mut self, key: u64, count: u64) {
        if let Some((known, held)) = self.places.get_mut(self.last)
            && *known == key
            && *held > 0
        {
            *held += count;
            return;
        }
        let first = place_of(key, self.places.len().max(1), self.shift);
        match self.places.get_mut(first) {
            Some((known, held)) if *known == key && *held > 0 => {
                *held += count;
                self.last = first;
            }
            _ => self.add_key(key, count),
        }
    }

    fn add_key(&mut self, key: u64, count: u64) {
        let is_near = key.wrapping_sub(self.base) < self.near.len() as u64;
        if !is_near && self.places.len() < 2 * (self.far + 1) {
            self.rebuild(0);
        }
        let room = if self.fewer > 0 { self.fewer } else { 2 * MOST_CELLS };
        if self.put(key, count) && self.used > room {
            self.rebuild(wider(&self.sorted(), self.most()));
        }
    }

    /// Adds to a key; says whether it is new.
    fn put(&mut self, key: u64, count: u64) -> bool {
        if let Some(held) = self.near.get_mut(key.wrapping_sub(self.base) as usize) {
            let is_new = *held == 0;
            *held += count;
            self.used += usize::from(is_new);
            return is_new;
        }
        let last = self.places.len() - 1;
        let mut place = place_of(key, self.places.len(), self.shift);
        loop {
            let (known, held) = &mut self.places[place];
            if *held == 0 {
                (*known, *held) = (key, count);
                self.used += 1;
                self.far += 1;
                return true;
            }
            if *known == key {
                *held += count;
                return false;
            }
            place = (place + 1) & last;
        }
    }

    /// Makes the cells so many bits wider, and finds places for them and a few more.
    fn rebuild(&mut self, wider: u32) {
        let mut old = self.sorted();
        old.iter_mut().for_each(|(key, _)| *key >>= wider);
        (self.used, self.far, self.shift) = (0, 0, self.shift + wider);
        // A survey of very many columns has no room for more.
        if self.shift > 0 && self.fewer == 0 {
            (self.base, self.near) = (best_base(&old), vec![0; NEAR_CELLS].into());
        }
        let near = self.near.len() as u64;
        let far = old.iter().filter(|(key, _)| key.wrapping_sub(self.base) >= near).count();
        self.places = vec![(0, 0); (4 * (far + 1)).next_power_of_two().max(16)];
        for (key, count) in old {
            self.put(key, count);
        }
    }

    /// The cells of the narrowest width that leaves few enough, and how many lower bits do not matter then.
    fn narrowest(&self) -> (u32, Vec<(u64, u64)>) {
        let mut cells = self.sorted();
        let wider = wider(&cells, self.most());
        if wider > 0 {
            cells.iter_mut().for_each(|(key, _)| *key >>= wider);
            cells.dedup_by(|next, before| {
                let is_same = next.0 == before.0;
                before.1 += if is_same { next.1 } else { 0 };
                is_same
            });
        }
        (self.shift + wider, cells)
    }

    /// The keys of all cells in use in their order, and how many values are in each.
    fn sorted(&self) -> Vec<(u64, u64)> {
        let near = (self.base..).zip(self.near.iter().copied());
        let all = near.chain(self.places.iter().copied());
        let mut used: Vec<_> = all.filter(|(_, count)| *count > 0).collect();
        used.sort_unstable();
        used
    }

    /// No numbers yet, and never more cells than these.
    pub(super) fn with_most(cells: usize) -> Spread {
        Spread { fewer: if cells < MOST_CELLS { cells } else { 0 }, ..Spread::default() }
    }

    fn most(&self) -> usize {
        if self.fewer > 0 { self.fewer } else { MOST_CELLS }
    }

    /// Adds another spread.
    pub fn merge(&mut self, other: Spread) {
        let shift = self.shift.max(other.shift);
        if shift > self.shift && self.used > 0 {
            self.rebuild(shift - self.shift);
        }
        self.shift = shift;
        for (key, count) in other.sorted() {
            // The width may grow on the way.
            self.add_key(key >> (self.shift - other.shift), count);
        }
    }

    /// All cells, from the smallest numbers to the largest.
    pub fn cells(&self) -> Vec<Cell> {
        let (shift, cells) = self.narrowest();
        let cell = |(key, count): (u64, u64)| {
            let (first, last) = finite(key, shift);
            Cell { low: number(first), high: number(last), count }
        };
        cells.into_iter().map(cell).collect()
    }

    /// Numbers counted.
    pub fn count(&self) -> u64 {
        self.near.iter().chain(self.places.iter().map(|(_, count)| count)).sum()
    }

    /// Whether every distinct number has a cell of its own, so that quantiles are exact.
    pub fn is_exact(&self) -> bool {
        self.shift == 0 && self.used <= self.most()
    }
}

/// A spread in a saved survey: how many lower bits do not matter, and the cells by key.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SavedSpread {
    shift: u32,
    fewer: usize,
    cells: Vec<(u64, u64)>,
}

impl From<Spread> for SavedSpread {
    fn from(spread: Spread) -> SavedSpread {
        let (shift, cells) = spread.narrowest();
        SavedSpread { shift, fewer: spread.fewer, cells }
    }
}

impl TryFrom<SavedSpread> for Spread {
    type Error = String;

    fn try_from(saved: SavedSpread) -> Result<Spread, String> {
        if saved.shift >= 64 || saved.cells.len() > MOST_CELLS {
            return Err("a spread has at most 512 cells, and a shift below 64".into());
        }
        let most = u64::MAX >> saved.shift;
        let fewer = saved.fewer.min(MOST_CELLS);
        let mut spread = Spread { shift: saved.shift, fewer, ..Spread::default() };
        for (key, count) in saved.cells {
            let has_numbers = key <= most && {
                let (first, last) = finite(key, saved.shift);
                first <= last
            };
            if !has_numbers || count == 0 {
                return Err("a cell of a spread has no number or no count".into());
            }
            spread.add_key(key, count);
        }
        Ok(spread)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn of(values: &[f64]) -> Spread {
        let mut spread = Spread::default();
        values.iter().for_each(|value| spread.add(*value, 1));
        spread
    }

    #[test]
    fn few_values_have_cells_of_their_own() {
        let spread = of(&[3.5, -1.0, 0.0, -0.0, 3.5]);
        assert!(spread.is_exact());
        let cells: Vec<_> = spread.cells().iter().map(|c| (c.low, c.high, c.count)).collect();
        assert_eq!(cells, [(-1.0, -1.0, 1), (0.0, 0.0, 2), (3.5, 3.5, 2)]);
    }

    #[test]
    fn many_values_share_narrow_cells() {
        // A narrow range far from zero, as identifiers have it, is still told apart.
        let values: Vec<f64> = (0..100_000).map(|n| 1e9 + f64::from(n)).collect();
        let spread = of(&values);
        let cells = spread.cells();
        assert!((MOST_CELLS / 3..=MOST_CELLS).contains(&cells.len()), "{}", cells.len());
        assert_eq!(spread.count(), 100_000);
        assert!(cells.iter().all(|cell| cell.high - cell.low < 1000.0), "{cells:?}");
    }

    proptest! {
        /// Cut anywhere and merged in any order, the cells are the same; and each value is in its cell.
        #[test]
        fn merging_changes_nothing(
            values in proptest::collection::vec(prop_oneof![any::<f64>(), (-1e6..1e6f64), (0..50i32).prop_map(f64::from)], 0..2000),
            cut in 0usize..2000, wide: bool,
        ) {
            let values: Vec<f64> = values.into_iter().filter(|v| v.is_finite()).map(|v| if wide { v } else { v % 1000.0 }).collect();
            let cut = cut.min(values.len());
            let whole = of(&values);
            let (mut a, b) = (of(&values[..cut]), of(&values[cut..]));
            let mut backwards = b.clone();
            backwards.merge(a.clone());
            a.merge(b);
            prop_assert_eq!(whole.cells(), a.cells());
            prop_assert_eq!(whole.cells(), backwards.cells());
            prop_assert_eq!(whole.count(), values.len() as u64);
            let cells = whole.cells();
            prop_assert!(cells.len() <= MOST_CELLS);
            for value in &values {
                prop_assert!(cells.iter().any(|cell| cell.low <= *value && *value <= cell.high), "{value}");
            }
            let saved = serde_json::to_string(&whole).unwrap();
            prop_assert_eq!(serde_json::from_str::<Spread>(&saved).unwrap().cells(), cells);
        }
    }
}
