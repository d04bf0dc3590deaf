//! Distinct byte strings, numbered as they come.
//!
//! Surveys count distinct values with it, and dictionary columns make their codes of it, so a look-up
//! is one of the hottest things there is. A string of up to 24 bytes is compared as three integers and a
//! length; only longer ones are compared as bytes. Where a string stands in a longer text its integers
//! are loaded whole and masked, which costs no branch on its length.

use std::hash::BuildHasher;

use foldhash::fast::RandomState;

/// A set of byte strings with dense numbers, and a count for each.
///
/// The table is two arrays: the slots by number, and an index of hashes into them, searched linearly. A
/// look-up can so be taken in steps ([`hash`](Counter::hash), [`candidate`](Counter::candidate),
/// [`count_candidate`](Counter::count_candidate)), each done for a group of strings before the next: the
/// loads of a step do not wait for each other, which is most of what a look-up costs where the table is
/// larger than the cache.
#[derive(Debug, Clone)]
pub(crate) struct Interner {
    /// One more than the number of a string, at the place of its hash or behind; 0 where there is none.
    /// Its length is a power of two.
    index: Vec<u32>,
    slots: Vec<Slot>,
    bytes: Vec<u8>,
    hasher: RandomState,
    seeds: [u64; 4],
    /// How far a hash is shifted to be a place of the index: its upper bits are the good ones.
    shift: u32,
    /// Bytes of the longest string.
    longest: usize,
}

/// A string: all of it where it is short.
#[derive(Debug, Clone, Copy)]
struct Slot {
    key: Key,
    /// Where it stands in the bytes.
    start: u32,
    count: u64,
}

/// Places of the index for each string: fewer where there are many, so that it stays in cache.
fn index_length(strings: usize) -> usize {
    let for_each = match strings {
        ..=256 => 16,
        257..=16_384 => 4,
        _ => 2,
    };
    (for_each * strings).next_power_of_two().max(16)
}

/// The shift that makes a place of an index of a hash.
fn shift_for(index: &[u32]) -> u32 {
    u64::BITS - index.len().trailing_zeros()
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

/// Bytes of a word.
const WORD: usize = 8;

/// Which bits of the three words belong to a string of each length. Loaded, since working them out costs
/// more than the rest of a key.
static MASKS: [[u64; 3]; EXACT + 1] = {
    let mut masks = [[0; 3]; EXACT + 1];
    let mut length = 0;
    while length <= EXACT {
        let mut byte = 0;
        while byte < length {
            masks[length][byte / 8] |= 0xff << (byte % 8 * 8);
            byte += 1;
        }
        length += 1;
    }
    masks
};

impl Key {
    pub const EMPTY: Key = Key { a: 0, b: 0, c: 0, length: 0 };

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
        let masks = &MASKS[length.min(EXACT)];
        let word = |at: usize| u64::from_le_bytes(words[at]) & masks[at];
        Key { a: word(0), b: word(1), c: word(2), length: length as u32 }
    }
}

/// The hash of a string.
#[inline(always)]
fn hash(hasher: &RandomState, seeds: [u64; 4], key: Key, value: &[u8]) -> u64 {
    if value.len() > EXACT {
        return hasher.hash_one(value);
    }
    // Products by odd factors: the upper bits of each depend on all of a word.
    let [p, q, r, s] = seeds;
    let (a, b, c) = (key.a.wrapping_mul(p), key.b.wrapping_mul(q), key.c.wrapping_mul(r));
    let length = u64::from(key.length).wrapping_mul(s);
    a.wrapping_add(b).wrapping_add(c).wrapping_add(length)
}

/// The one word that a string of one to eight bytes is, and its length; `None` of any other, and at the very end of the
/// text.
#[inline(always)]
fn short_word(text: &[u8], start: usize, end: usize) -> Option<(u64, u32)> {
    let bits = 8 * (end - start) as u64;
    let bytes = text.get(start..).and_then(<[u8]>::first_chunk::<WORD>);
    let (Some(bytes), 1..=64) = (bytes, bits) else { return None };
    Some((u64::from_le_bytes(*bytes) & (u64::MAX >> (64 - bits)), (bits / 8) as u32))
}

/// The hash of such a string: the other words of its key are zero, and so is what they add.
#[inline(always)]
fn short_hash([p, _, _, s]: [u64; 4], word: u64, length: u32) -> u64 {
    word.wrapping_mul(p).wrapping_add(u64::from(length).wrapping_mul(s))
}

/// A table of which nothing changes but the counts: what a look-up needs stays in registers from one to
/// the next.
pub(crate) struct Counter<'t> {
    index: &'t [u32],
    slots: &'t mut [Slot],
    bytes: &'t [u8],
    hasher: &'t RandomState,
    seeds: [u64; 4],
    shift: u32,
}

impl Counter<'_> {
    /// The hash of a string.
    #[inline(always)]
    pub fn hash(&self, key: Key, value: &[u8]) -> u64 {
        hash(self.hasher, self.seeds, key, value)
    }

    /// The place in the index from which on a string of this hash is.
    #[inline(always)]
    pub fn place(&self, hash: u64) -> usize {
        (hash >> self.shift) as usize
    }

    /// A number, and one, that the string at a place has; 0 where there is no string.
    #[inline(always)]
    pub fn candidate(&self, place: usize) -> u32 {
        self.index[place]
    }

    /// Whether a candidate has this key.
    #[inline(always)]
    pub fn has_key(&self, candidate: u32, key: Key) -> bool {
        self.slots.get((candidate as usize).wrapping_sub(1)).is_some_and(|slot| slot.key == key)
    }

    /// Adds one to the count of a candidate if it is the string; says whether it is. Where it is not, the
    /// string may be there all the same.
    #[inline(always)]
    pub fn count_candidate(&mut self, candidate: u32, key: Key, value: &[u8]) -> bool {
        let Some(slot) = self.slots.get_mut((candidate as usize).wrapping_sub(1)) else {
            return false;
        };
        let is_same = slot.key == key
            && (value.len() <= EXACT || &self.bytes[slot.start as usize..][..value.len()] == value);
        slot.count += u64::from(is_same);
        is_same
    }

    /// Adds one to the count of the string `text[start..end]` if it is there; says whether it is.
    #[inline(always)]
    pub fn count(&mut self, text: &[u8], start: usize, end: usize) -> bool {
        let key = Key::within(text, start, end);
        let value = &text[start..end];
        self.count_from(self.place(self.hash(key, value)), key, value)
    }

    /// The same of a string that is at this place, or at one behind it.
    #[inline(always)]
    pub fn count_from(&mut self, mut place: usize, key: Key, value: &[u8]) -> bool {
        loop {
            let candidate = self.index[place];
            if candidate == 0 {
                return false;
            }
            if self.count_candidate(candidate, key, value) {
                return true;
            }
            place = (place + 1) & (self.index.len() - 1);
        }
    }

    /// As [`count`](Self::count), where all strings are [short](Interner::is_short). Of a string at the
    /// very end of the text it may say that it is not there.
    #[inline(always)]
    pub fn count_short(&mut self, text: &[u8], start: usize, end: usize) -> bool {
        let Some((word, length)) = short_word(text, start, end) else { return false };
        let mut place = (short_hash(self.seeds, word, length) >> self.shift) as usize;
        loop {
            let candidate = self.index[place] as usize;
            let Some(slot) = self.slots.get_mut(candidate.wrapping_sub(1)) else { return false };
            if slot.key.a == word && slot.key.length == length {
                slot.count += 1;
                return true;
            }
            place = (place + 1) & (self.index.len() - 1);
        }
    }
}

impl Interner {
    pub fn new() -> Interner {
        let hasher = RandomState::default();
        // Odd, so that no factor is zero.
        let seeds = [1u64, 2, 3, 4].map(|seed| hasher.hash_one(seed) | 1);
        let index = vec![0; index_length(0)];
        let shift = shift_for(&index);
        Interner { index, slots: Vec::new(), bytes: Vec::new(), hasher, seeds, shift, longest: 0 }
    }

    pub fn len(&self) -> usize {
        self.slots.len()
    }

    /// Bytes held for so many strings that have so many bytes, whatever the order they came in.
    pub fn held_bytes(strings: usize, bytes: usize) -> usize {
        let index = size_of::<u32>() * index_length(strings);
        index + size_of::<Slot>() * strings + bytes
    }

    /// All strings, one after the other.
    pub fn text(&self) -> &[u8] {
        &self.bytes
    }

    /// Where the string of a number stands in [`text`](Self::text).
    pub fn span(&self, number: u32) -> (u32, u32) {
        let slot = &self.slots[number as usize];
        (slot.start, slot.start + slot.key.length)
    }

    /// The count of the string of a number.
    pub fn count_of(&self, number: u32) -> u64 {
        self.slots[number as usize].count
    }

    /// Bytes of all strings.
    pub fn bytes(&self) -> usize {
        self.bytes.len()
    }

    /// The string of a number.
    pub fn get(&self, number: u32) -> &[u8] {
        let slot = &self.slots[number as usize];
        &self.bytes[slot.start as usize..][..slot.key.length as usize]
    }

    /// All strings, by number.
    pub fn iter(&self) -> impl Iterator<Item = &[u8]> {
        (0..self.len() as u32).map(|number| self.get(number))
    }

    /// The counts of all strings, by number.
    pub fn counts(&self) -> impl Iterator<Item = u64> {
        self.slots.iter().map(|slot| slot.count)
    }

    /// The table as one in which known strings are only counted.
    pub fn counter(&mut self) -> Counter<'_> {
        Counter {
            index: &self.index,
            slots: &mut self.slots,
            bytes: &self.bytes,
            hasher: &self.hasher,
            seeds: self.seeds,
            shift: self.shift,
        }
    }

    /// Whether every string fits one word.
    pub fn is_short(&self) -> bool {
        self.longest <= WORD
    }

    #[inline(always)]
    fn hash(&self, key: Key, value: &[u8]) -> u64 {
        hash(&self.hasher, self.seeds, key, value)
    }

    #[inline]
    fn is(&self, number: u32, key: Key, value: &[u8]) -> bool {
        self.slots[number as usize].key == key
            && (value.len() <= EXACT || self.get(number) == value)
    }

    /// The number of a string that is there, or the place in the index where it would be.
    #[inline]
    fn search(&self, key: Key, hash: u64, value: &[u8]) -> Result<u32, usize> {
        let last = self.index.len() - 1;
        let mut place = (hash >> self.shift) as usize;
        loop {
            match self.index[place] {
                0 => return Err(place),
                candidate if self.is(candidate - 1, key, value) => return Ok(candidate - 1),
                _ => place = (place + 1) & last,
            }
        }
    }

    /// The number of the string `text[start..end]`, if it is there.
    #[inline]
    pub fn find_within(&self, text: &[u8], start: usize, end: usize) -> Option<u32> {
        let key = Key::within(text, start, end);
        let value = &text[start..end];
        self.search(key, self.hash(key, value), value).ok()
    }

    /// As [`find_within`](Self::find_within), where all strings are [short](Self::is_short). Of a string at the
    /// very end of the text it may say that it is not there.
    #[inline(always)]
    pub fn find_short(&self, text: &[u8], start: usize, end: usize) -> Option<u32> {
        let (word, length) = short_word(text, start, end)?;
        let mut place = (short_hash(self.seeds, word, length) >> self.shift) as usize;
        loop {
            let number = self.index[place].checked_sub(1)?;
            let key = &self.slots[number as usize].key;
            if key.a == word && key.length == length {
                return Some(number);
            }
            place = (place + 1) & (self.index.len() - 1);
        }
    }

    /// The number of a string that is there.
    #[inline]
    pub fn find(&self, value: &[u8]) -> Option<u32> {
        let key = Key::of(value);
        self.search(key, self.hash(key, value), value).ok()
    }

    /// The number of a string, and whether it is new.
    #[inline]
    pub fn intern(&mut self, value: &[u8]) -> (u32, bool) {
        self.count(Key::of(value), value, 0)
    }

    /// As [`intern`](Self::intern), where the key is known; adds to the string's count.
    pub fn count(&mut self, key: Key, value: &[u8], count: u64) -> (u32, bool) {
        let hash = self.hash(key, value);
        match self.search(key, hash, value) {
            Ok(number) => {
                self.slots[number as usize].count += count;
                (number, false)
            }
            Err(place) => (self.insert(key, place, value, count), true),
        }
    }

    #[inline(never)]
    fn insert(&mut self, key: Key, place: usize, value: &[u8], count: u64) -> u32 {
        let number = self.slots.len() as u32;
        self.slots.push(Slot { key, start: self.bytes.len() as u32, count });
        self.bytes.extend_from_slice(value);
        self.index[place] = number + 1;
        self.longest = self.longest.max(value.len());
        if index_length(self.slots.len()) > self.index.len() {
            self.grow();
        }
        number
    }

    fn grow(&mut self) {
        let mut index = vec![0; index_length(self.slots.len())];
        let last = index.len() - 1;
        self.shift = shift_for(&index);
        for number in 0..self.slots.len() as u32 {
            let hash = self.hash(self.slots[number as usize].key, self.get(number));
            let mut place = (hash >> self.shift) as usize;
            while index[place] != 0 {
                place = (place + 1) & last;
            }
            index[place] = number + 1;
        }
        self.index = index;
    }

    pub fn clear(&mut self) {
        self.index.fill(0);
        self.slots.clear();
        self.bytes.clear();
        self.longest = 0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::HashMap;

    proptest! {
        #[test]
        fn numbers_are_those_of_a_plain_map(values in prop_oneof![proptest::collection::vec("[ab\u{0}]{0,30}", 0..300), proptest::collection::vec("[ab\u{0}]{0,8}", 0..300)]) {
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
            prop_assert_eq!(interner.counts().sum::<u64>(), values.len() as u64);
            let others = ["other".to_owned(), String::new(), "b".repeat(31)];
            for value in values.iter().chain(&others) {
                let is_there = plain.contains_key(value.as_bytes());
                let count = |interner: &Interner| interner.counts().sum::<u64>();
                for text in [value.clone(), format!("{value}{}", "b".repeat(24))] {
                    let before = count(&interner);
                    prop_assert_eq!(interner.counter().count(text.as_bytes(), 0, value.len()), is_there);
                    prop_assert_eq!(count(&interner), before + u64::from(is_there));
                }
                // Short ones are counted by their word as well.
                if values.iter().all(|value| value.len() <= 8) && !value.is_empty() {
                    prop_assert!(interner.is_short());
                    let (before, text) = (count(&interner), format!("{value}bbbbbbbb"));
                    let number = plain.get(value.as_bytes()).copied();
                    prop_assert_eq!(interner.find_short(text.as_bytes(), 0, value.len()), number);
                    prop_assert_eq!(interner.counter().count_short(text.as_bytes(), 0, value.len()), is_there);
                    prop_assert_eq!(count(&interner), before + u64::from(is_there));
                }
            }
            // A candidate is counted exactly if it is the string.
            for value in values.iter().chain(&others) {
                let value = value.as_bytes();
                let key = Key::of(value);
                let counter = interner.counter();
                let place = counter.place(counter.hash(key, value));
                let candidate = counter.candidate(place);
                assert!(!counter.has_key(0, key));
                let is_it = candidate > 0 && interner.get(candidate - 1) == value;
                let before = interner.counts().sum::<u64>();
                prop_assert_eq!(interner.counter().count_candidate(candidate, key, value), is_it);
                prop_assert_eq!(interner.counts().sum::<u64>(), before + u64::from(is_it));
            }
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
