//! Facts about values as texts: lengths and extremes.

use serde::{Deserialize, Serialize};

use super::example::{MAX_EXAMPLE_BYTES, join};
use super::saved::text_or_bytes;
use crate::readings::trim;

/// Lengths and extremes of values as texts.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TextFacts {
    /// Values that are not blank.
    pub count: u64,
    /// Bytes of all of them.
    pub bytes: u64,
    /// Most characters of one value.
    pub max_chars: u64,
    /// Fewest bytes of one value, and most.
    pub bytes_range: Option<(u64, u64)>,
    /// The smallest by byte order, cut as examples are.
    #[serde(with = "text_or_bytes")]
    pub min: Vec<u8>,
    /// The largest.
    #[serde(with = "text_or_bytes")]
    pub max: Vec<u8>,
    #[serde(skip)]
    min_prefix: u64,
    #[serde(skip)]
    max_prefix: u64,
    /// The same of what stands behind the first eight bytes: values such as paths often begin alike.
    #[serde(skip)]
    min_rest: u64,
    #[serde(skip)]
    max_rest: u64,
    /// Values with white space around them.
    pub padded: u64,
}

/// The first eight bytes as a number that orders as the bytes do.
#[inline]
fn prefix(value: &[u8]) -> u64 {
    if let Some(eight) = value.first_chunk::<8>() {
        return u64::from_be_bytes(*eight);
    }
    match (value.first_chunk::<4>(), value.last_chunk::<4>()) {
        // Two loads that overlap; copying so few bytes costs more.
        (Some(first), Some(last)) => {
            let rest = u64::from(u32::from_be_bytes(*last)) << (8 * (8 - value.len()));
            u64::from(u32::from_be_bytes(*first)) << 32 | rest & 0xffff_ffff
        }
        _ => {
            value.iter().enumerate().fold(0, |n, (at, byte)| n | u64::from(*byte) << (56 - at * 8))
        }
    }
}

/// The same of what stands behind those.
#[inline]
fn rest_prefix(value: &[u8]) -> u64 {
    prefix(value.get(8..).unwrap_or_default())
}

/// The first bytes of eight, by how many.
const FIRST_BYTES: [u64; 9] = {
    let mut masks = [u64::MAX; 9];
    let mut bytes = 0;
    while bytes < 8 {
        masks[bytes] = !(u64::MAX >> (8 * bytes));
        bytes += 1;
    }
    masks
};

/// The same of the value `text[start..end]`.
#[inline(always)]
fn prefix_within(text: &[u8], start: usize, end: usize) -> u64 {
    match text.get(start..).and_then(<[u8]>::first_chunk::<8>) {
        Some(bytes) => u64::from_be_bytes(*bytes) & FIRST_BYTES[(end - start).min(8)],
        None => prefix(&text[start..end]),
    }
}

/// In a sorted column every value is a new extreme: the buffer is kept.
fn replace(buffer: &mut Vec<u8>, value: &[u8]) {
    buffer.clear();
    buffer.extend_from_slice(value);
}

impl TextFacts {
    #[inline]
    pub(super) fn add(&mut self, value: &[u8], count: u64) {
        self.add_value(value, count);
        if value.len() as u64 > self.max_chars {
            self.lengthen(value);
        }
    }

    /// As [`add`](Self::add), of a value whose number of characters is known.
    #[inline]
    pub(super) fn add_counted(&mut self, value: &[u8], chars: u64, count: u64) {
        self.add_value(value, count);
        self.max_chars = self.max_chars.max(chars);
    }

    #[inline]
    fn add_value(&mut self, value: &[u8], count: u64) {
        let prefix = prefix(value);
        if self.count == 0 || prefix <= self.min_prefix || prefix >= self.max_prefix {
            self.stretch(value, prefix);
        }
        self.count += count;
        let length = value.len() as u64;
        self.bytes += length * count;
        let (least, most) = self.bytes_range.unwrap_or((length, length));
        self.bytes_range = Some((least.min(length), most.max(length)));
    }

    /// Adds values of at most eight bytes, none of them zero or part of a longer character: how many, of
    /// how many bytes in all, the fewest and the most, and the first eight bytes of the smallest and the
    /// largest as numbers that order as they do.
    pub(super) fn add_short(
        &mut self,
        count: u64,
        bytes: u64,
        lengths: (u64, u64),
        (min, max): (u64, u64),
    ) {
        let stretch = |facts: &mut TextFacts, extreme: u64| {
            let length = 8 - extreme.trailing_zeros() as usize / 8;
            facts.stretch(&extreme.to_be_bytes()[..length], extreme);
        };
        if self.count == 0 {
            stretch(self, min);
        }
        self.count += count;
        for extreme in [min, max] {
            if extreme <= self.min_prefix || extreme >= self.max_prefix {
                stretch(self, extreme);
            }
        }
        self.bytes += bytes;
        self.max_chars = self.max_chars.max(lengths.1);
        self.bytes_range =
            join(self.bytes_range, Some(lengths), |(a, b), (c, d)| (a.min(c), b.max(d)));
    }

    /// Notes the value `text[start..end]`, which is not empty, as an extreme, where it is one. There are values already.
    #[inline(always)]
    pub(super) fn note_extremes(&mut self, text: &[u8], start: usize, end: usize) {
        let prefix = prefix_within(text, start, end);
        if prefix <= self.min_prefix || prefix >= self.max_prefix {
            self.stretch(&text[start..end], prefix);
        }
    }

    /// Notes a value that is still to be added as an extreme, where it is one. There are values already.
    pub(super) fn expect(&mut self, value: &[u8]) {
        if self.count > 0 && !trim(value).is_empty() {
            self.stretch(value, prefix(value));
        }
    }

    /// Adds values whose extremes were [noted](Self::note_extremes): how many, of how many bytes in all, the fewest and the
    /// most, and the most characters.
    pub(super) fn add_measures(
        &mut self,
        count: u64,
        bytes: u64,
        lengths: (u64, u64),
        most_chars: u64,
    ) {
        self.count += count;
        self.bytes += bytes;
        self.max_chars = self.max_chars.max(most_chars);
        self.bytes_range =
            join(self.bytes_range, Some(lengths), |(a, b), (c, d)| (a.min(c), b.max(d)));
    }

    #[inline(never)]
    fn stretch(&mut self, value: &[u8], prefix: u64) {
        let rest = rest_prefix(value);
        let may_be_min = (prefix, rest) <= (self.min_prefix, self.min_rest);
        let may_be_max = (prefix, rest) >= (self.max_prefix, self.max_rest);
        if !(may_be_min || may_be_max || self.count == 0) {
            return;
        }
        let value = &value[..value.len().min(MAX_EXAMPLE_BYTES)];
        if self.count == 0 || may_be_min && value < &self.min[..] {
            replace(&mut self.min, value);
            (self.min_prefix, self.min_rest) = (prefix, rest);
        }
        if self.count == 0 || may_be_max && value > &self.max[..] {
            replace(&mut self.max, value);
            (self.max_prefix, self.max_rest) = (prefix, rest);
        }
    }

    #[inline(never)]
    fn lengthen(&mut self, value: &[u8]) {
        let chars = value.iter().filter(|byte| !matches!(byte, 0x80..=0xbf)).count();
        self.max_chars = self.max_chars.max(chars as u64);
    }

    /// Works out again what is not saved.
    pub(super) fn restore(&mut self) {
        (self.min_prefix, self.max_prefix) = (prefix(&self.min), prefix(&self.max));
        (self.min_rest, self.max_rest) = (rest_prefix(&self.min), rest_prefix(&self.max));
    }

    pub(super) fn merge(&mut self, other: TextFacts) {
        if self.count == 0 {
            *self = other;
        } else if other.count > 0 {
            self.stretch(&other.min, other.min_prefix);
            self.stretch(&other.max, other.max_prefix);
            self.count += other.count;
            self.bytes += other.bytes;
            self.max_chars = self.max_chars.max(other.max_chars);
            self.bytes_range =
                join(self.bytes_range, other.bytes_range, |(a, b), (c, d)| (a.min(c), b.max(d)));
            self.padded += other.padded;
        }
    }
}
