//! Distinct byte strings, numbered as they come.
//!
//! Surveys count distinct values with it, and dictionary columns make their codes of it, so a look-up
//! is one of the hottest things there is. A string of up to 24 bytes is compared as three integers and a
//! length; only longer ones are compared as bytes. Where a string stands in a longer text its integers
//! are loaded whole and masked, which costs no branch on its length.

use std::hash::BuildHasher;

use hashbrown::HashTable;

/// A set of byte strings with dense numbers, and a count for each.
#[derive(Debug, Clone)]
pub(crate) struct Interner {
    index: HashTable<Slot>,
    spans: Vec<(u32, u32)>,
    bytes: Vec<u8>,
    hasher: foldhash::fast::RandomState,
    seeds: [u64; 3],
}

/// What the index holds of a string: all of it where it is short. The count stands here and not by
/// number, so that counting touches no other cache line.
#[derive(Debug, Clone, Copy)]
struct Slot {
    key: Key,
    number: u32,
    count: u64,
}

/// A string as integers: its first 24 bytes, padded with zeros, and its length. Strings of up to 24
/// bytes are equal exactly if their keys are.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Key {
    a: u64,
    b: u64,
    c: u64,
    length: u32,
}

impl PartialEq for Key {
    /// Word by word: comparing them as one array goes through memory, where loading two words that
    /// were just stored one by one stalls.
    #[inline(always)]
    fn eq(&self, other: &Key) -> bool {
        let words = (self.a ^ other.a) | (self.b ^ other.b) | (self.c ^ other.c);
        words | u64::from(self.length ^ other.length) == 0
    }
}

const EXACT: usize = 24;

impl Key {
    #[inline]
    pub fn of(value: &[u8]) -> Key {
        let mut padded = [0; EXACT];
        let kept = value.len().min(EXACT);
        padded[..kept].copy_from_slice(&value[..kept]);
        Key::masked(&padded, value.len())
    }

    /// The key of `text[start..end]`.
    #[inline(always)]
    pub fn within(text: &[u8], start: usize, end: usize) -> Key {
        match text.get(start..).and_then(<[u8]>::first_chunk::<EXACT>) {
            Some(bytes) => Key::masked(bytes, end - start),
            None => Key::of(&text[start..end]),
        }
    }

    #[inline(always)]
    fn masked(bytes: &[u8; EXACT], length: usize) -> Key {
        let (words, _) = bytes.as_chunks::<8>();
        let word = |at: usize| {
            let unused = 64 - 8 * length.saturating_sub(8 * at).min(8) as u32;
            u64::from_le_bytes(words[at]) & u64::MAX.unbounded_shr(unused)
        };
        Key { a: word(0), b: word(1), c: word(2), length: length as u32 }
    }
}

/// Both halves of a product, folded: the step that good fast hashes are made of.
#[inline(always)]
fn fold(a: u64, b: u64) -> u64 {
    let product = u128::from(a) * u128::from(b);
    product as u64 ^ (product >> 64) as u64
}

impl Interner {
    pub fn new() -> Interner {
        let hasher = foldhash::fast::RandomState::default();
        // Odd, so that no factor is zero.
        let seeds = [1u64, 2, 3].map(|seed| hasher.hash_one(seed) | 1);
        Interner { index: HashTable::new(), spans: Vec::new(), bytes: Vec::new(), hasher, seeds }
    }

    pub fn len(&self) -> usize {
        self.spans.len()
    }

    /// Bytes of all strings.
    pub fn bytes(&self) -> usize {
        self.bytes.len()
    }

    /// The string of a number.
    pub fn get(&self, number: u32) -> &[u8] {
        let (start, length) = self.spans[number as usize];
        &self.bytes[start as usize..][..length as usize]
    }

    /// All strings, by number.
    pub fn iter(&self) -> impl Iterator<Item = &[u8]> {
        (0..self.len() as u32).map(|number| self.get(number))
    }

    /// The counts of all strings, by number.
    pub fn counts(&self) -> Vec<u64> {
        let mut counts = vec![0; self.len()];
        self.index.iter().for_each(|slot| counts[slot.number as usize] = slot.count);
        counts
    }

    #[inline(always)]
    fn hash(&self, key: Key, value: &[u8]) -> u64 {
        if value.len() > EXACT {
            return self.hasher.hash_one(value);
        }
        let [p, q, r] = self.seeds;
        fold(fold(key.a ^ p, key.b ^ q) ^ key.c, r ^ u64::from(key.length))
    }

    /// The number of a string that is there.
    #[inline]
    pub fn find(&self, value: &[u8]) -> Option<u32> {
        let key = Key::of(value);
        let same = |slot: &Slot| {
            slot.key == key && (value.len() <= EXACT || self.get(slot.number) == value)
        };
        self.index.find(self.hash(key, value), same).map(|slot| slot.number)
    }

    /// The number of a string, and whether it is new.
    #[inline]
    pub fn intern(&mut self, value: &[u8]) -> (u32, bool) {
        self.count(Key::of(value), value, 0)
    }

    /// As [`intern`](Self::intern), where the key is known; adds to the string's count.
    pub fn count(&mut self, key: Key, value: &[u8], count: u64) -> (u32, bool) {
        let hash = self.hash(key, value);
        match self.slot(key, hash, value) {
            Some(slot) => {
                slot.count += count;
                (slot.number, false)
            }
            None => (self.insert(key, hash, value, count), true),
        }
    }

    /// Adds one to the count of a string that is there; says whether it is.
    #[inline(always)]
    pub fn count_known(&mut self, key: Key, value: &[u8]) -> bool {
        let hash = self.hash(key, value);
        match self.slot(key, hash, value) {
            Some(slot) => {
                slot.count += 1;
                true
            }
            None => false,
        }
    }

    #[inline(always)]
    fn slot(&mut self, key: Key, hash: u64, value: &[u8]) -> Option<&mut Slot> {
        let Interner { index, spans, bytes, .. } = self;
        index.find_mut(hash, |slot| {
            slot.key == key
                && (value.len() <= EXACT || {
                    let (start, length) = spans[slot.number as usize];
                    &bytes[start as usize..][..length as usize] == value
                })
        })
    }

    #[inline(never)]
    fn insert(&mut self, key: Key, hash: u64, value: &[u8], count: u64) -> u32 {
        let number = self.spans.len() as u32;
        self.spans.push((self.bytes.len() as u32, value.len() as u32));
        self.bytes.extend_from_slice(value);
        let mut index = std::mem::take(&mut self.index);
        index.insert_unique(hash, Slot { key, number, count }, |slot| {
            self.hash(slot.key, self.get(slot.number))
        });
        self.index = index;
        number
    }

    pub fn clear(&mut self) {
        self.index.clear();
        self.spans.clear();
        self.bytes.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::HashMap;

    proptest! {
        #[test]
        fn numbers_are_those_of_a_plain_map(values in proptest::collection::vec("[ab\u{0}]{0,30}", 0..300)) {
            let mut interner = Interner::new();
            let mut plain: HashMap<Vec<u8>, u32> = HashMap::new();
            for value in &values {
                let value = value.as_bytes();
                prop_assert_eq!(interner.find(value), plain.get(value).copied());
                let next = plain.len() as u32;
                let is_new = !plain.contains_key(value);
                let number = *plain.entry(value.to_vec()).or_insert(next);
                prop_assert_eq!(interner.intern(value), (number, is_new));
                prop_assert_eq!(interner.get(number), value);
            }
            for value in &values {
                interner.count(Key::of(value.as_bytes()), value.as_bytes(), 1);
            }
            prop_assert_eq!(interner.counts().iter().sum::<u64>(), values.len() as u64);
            prop_assert_eq!(interner.len(), plain.len());
            prop_assert_eq!(interner.bytes(), plain.keys().map(Vec::len).sum::<usize>());
        }
    }

    #[test]
    fn keys_tell_short_strings_apart() {
        // All strings of up to four of two letters, one of them zero: padding must not confuse them.
        let mut keys = Vec::new();
        for length in 0..=4u32 {
            for bits in 0..1u32 << length {
                let value: Vec<u8> = (0..length).map(|at| (bits >> at & 1) as u8).collect();
                keys.push((Key::of(&value), value));
            }
        }
        let text: Vec<u8> = (0..60).collect();
        for (start, end) in [(0, 0), (3, 4), (5, 13), (5, 14), (9, 33), (9, 34), (40, 60), (50, 60)]
        {
            assert_eq!(Key::within(&text, start, end), Key::of(&text[start..end]), "{start} {end}");
        }
        for (a, x) in &keys {
            assert!(keys.iter().all(|(b, y)| (a == b) == (x == y)), "{x:?}");
        }
    }
}
