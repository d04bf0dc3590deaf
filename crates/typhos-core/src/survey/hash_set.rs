//! A set of hashes: eight bytes and a third for each.
//!
//! The hashes are searched linearly from a place that their product with a number of the process says, so that nobody
//! can write a file whose hashes get into each other's way. Sorted lists, which took as little memory, took a sixth of
//! `scout` in files of many columns by `perf`.

use std::hash::BuildHasher;

use foldhash::fast::RandomState;

/// Distinct hashes, at most as many as there is room for.
#[derive(Debug, Clone)]
pub(super) struct DistinctHashes {
    /// A hash in each place, 0 where there is none.
    places: Vec<u64>,
    used: usize,
    /// Whether zero is among them.
    has_zero: bool,
    seed: u64,
}

/// Places for so many hashes: a quarter of them stay free.
fn places_for(hashes: usize) -> usize {
    hashes + hashes / 3 + 1
}

impl DistinctHashes {
    /// An empty set with room for so many hashes; where there are more, it grows.
    pub fn with_room(hashes: usize) -> DistinctHashes {
        let seed = RandomState::default().hash_one(1u64) | 1;
        DistinctHashes { places: vec![0; places_for(hashes)], used: 0, has_zero: false, seed }
    }

    /// Adds a hash; says whether it is new.
    #[inline]
    pub fn insert(&mut self, hash: u64) -> bool {
        if hash == 0 {
            return !std::mem::replace(&mut self.has_zero, true);
        }
        let mut at = self.place_of(hash);
        loop {
            let known = &mut self.places[at];
            if *known == hash {
                return false;
            }
            if *known == 0 {
                *known = hash;
                self.used += 1;
                if places_for(self.used + 1) > self.places.len() {
                    self.grow();
                }
                return true;
            }
            at = if at + 1 < self.places.len() { at + 1 } else { 0 };
        }
    }

    /// Where to look for a hash first.
    #[inline]
    fn place_of(&self, hash: u64) -> usize {
        let product = u128::from(hash.wrapping_mul(self.seed)) * self.places.len() as u128;
        (product >> 64) as usize
    }

    /// Makes room for half as many more.
    #[inline(never)]
    fn grow(&mut self) {
        let places = vec![0; places_for(self.used + self.used / 2 + 16)];
        let old = std::mem::replace(&mut self.places, places);
        self.used = 0;
        for hash in old.into_iter().filter(|hash| *hash != 0) {
            self.insert(hash);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn hashes_are_new_once(
            hashes in proptest::collection::vec(prop_oneof![0u64..40, any::<u64>()], 0..300), room in 0usize..300,
        ) {
            let mut set = DistinctHashes::with_room(room);
            let mut plain = std::collections::BTreeSet::new();
            for hash in hashes {
                prop_assert_eq!(set.insert(hash), plain.insert(hash));
            }
        }
    }
}
