//! Facts about values: counts per class, extremes, lengths. Every part merges in any order.

use super::{DateFacts, Place};
use crate::dates::{days_in_month, read_shape};
use crate::readings::{self, BOOL_PAIRS, Decimal, Number, TOKENS};

/// What a value is by its looks alone. Every value that is not blank has exactly one class.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Class {
    /// A well-known text for "no value".
    Token,
    /// A word of a boolean pair.
    Bool,
    /// An integer without a leading zero or a plus.
    Integer,
    /// An integer with a plus in front.
    Signed,
    /// A number with a leading zero, as codes have it.
    Code,
    /// A number with a mark.
    Decimal,
    /// A number with an exponent.
    Exponent,
    /// A date, a time, or both, by its shape.
    Date,
    /// Anything else.
    Text,
    /// Bytes that are not valid in the encoding.
    Malformed,
}

/// All classes, in the order of their facts.
pub const CLASSES: [Class; 10] = [
    Class::Token,
    Class::Bool,
    Class::Integer,
    Class::Signed,
    Class::Code,
    Class::Decimal,
    Class::Exponent,
    Class::Date,
    Class::Text,
    Class::Malformed,
];

/// Most examples kept per class.
pub const MAX_EXAMPLES: usize = 5;

/// Bytes of an example that are kept.
const MAX_EXAMPLE_BYTES: usize = 200;

/// A value and where it was first seen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Example {
    /// Where it was first seen.
    pub place: Place,
    /// The value, cut at 200 bytes.
    pub value: Vec<u8>,
}

impl Example {
    pub(super) fn new(value: &[u8], place: Place) -> Example {
        Example { place, value: value[..value.len().min(MAX_EXAMPLE_BYTES)].to_vec() }
    }

    /// The value for a person.
    pub fn text(&self) -> String {
        crate::lossless(&self.value)
    }
}

/// Keeps the earlier of two examples.
pub(super) fn earlier(ours: &mut Option<Example>, theirs: Option<Example>) {
    if let Some(theirs) = theirs
        && ours.as_ref().is_none_or(|ours| theirs.place < ours.place)
    {
        *ours = Some(theirs);
    }
}

/// The first few distinct values of a class.
#[derive(Debug, Clone, Default)]
struct ClassFacts {
    count: u64,
    examples: Vec<Example>,
}

impl ClassFacts {
    #[inline]
    fn add(&mut self, value: &[u8], count: u64, place: Place) {
        self.count += count;
        if self.examples.len() < MAX_EXAMPLES || place < self.examples[MAX_EXAMPLES - 1].place {
            self.keep(Example::new(value, place));
        }
    }

    /// The first distinct values by place: in any order of arrival the same ones remain, since what
    /// stands before a value in one part stands before it in the whole.
    #[inline(never)]
    fn keep(&mut self, example: Example) {
        match self.examples.iter_mut().find(|known| known.value == example.value) {
            Some(known) => known.place = known.place.min(example.place),
            None => self.examples.push(example),
        }
        self.examples.sort_by_key(|example| example.place);
        self.examples.truncate(MAX_EXAMPLES);
    }
}

/// Lengths and extremes of values as texts.
#[derive(Debug, Clone, Default)]
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
    pub min: Vec<u8>,
    /// The largest.
    pub max: Vec<u8>,
    min_prefix: u64,
    max_prefix: u64,
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

/// In a sorted column every value is a new extreme: the buffer is kept.
fn replace(buffer: &mut Vec<u8>, value: &[u8]) {
    buffer.clear();
    buffer.extend_from_slice(value);
}

impl TextFacts {
    #[inline]
    fn add(&mut self, value: &[u8], count: u64) {
        let prefix = prefix(value);
        if self.count == 0 || prefix <= self.min_prefix || prefix >= self.max_prefix {
            self.stretch(value, prefix);
        }
        self.count += count;
        let length = value.len() as u64;
        self.bytes += length * count;
        let (least, most) = self.bytes_range.unwrap_or((length, length));
        self.bytes_range = Some((least.min(length), most.max(length)));
        if value.len() as u64 > self.max_chars {
            self.lengthen(value);
        }
    }

    #[inline(never)]
    fn stretch(&mut self, value: &[u8], prefix: u64) {
        let value = &value[..value.len().min(MAX_EXAMPLE_BYTES)];
        if self.count == 0 || value < &self.min[..] {
            replace(&mut self.min, value);
            self.min_prefix = prefix;
        }
        if self.count == 0 || value > &self.max[..] {
            replace(&mut self.max, value);
            self.max_prefix = prefix;
        }
    }

    #[inline(never)]
    fn lengthen(&mut self, value: &[u8]) {
        let chars = value.iter().filter(|byte| !matches!(byte, 0x80..=0xbf)).count();
        self.max_chars = self.max_chars.max(chars as u64);
    }

    fn merge(&mut self, other: TextFacts) {
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

/// Facts about the values of one column.
#[derive(Debug, Clone)]
pub struct Facts {
    /// Fields with nothing in them but white space.
    pub blank: u64,
    classes: [ClassFacts; CLASSES.len()],
    /// How often each of [`TOKENS`] was seen.
    pub tokens: [u64; TOKENS.len()],
    /// How often each word of [`BOOL_PAIRS`] was seen: false, true.
    pub bools: [[u64; 2]; BOOL_PAIRS.len()],
    /// Values as texts, tokens included.
    pub text: TextFacts,
    /// Dates and times by shape.
    pub dates: DateFacts,
    /// Eight-digit integers that are days between 1900 and 2100.
    pub compact_days: u64,
    /// How many decimals have how many digits after the mark.
    pub scales: [u64; 39],
    /// The smallest and largest of the integers and decimals (codes and tokens not counted).
    pub numbers: Option<(Decimal, Decimal)>,
    /// The smallest and largest number with an exponent, as doubles.
    pub floats: Option<(f64, f64)>,
    /// The first number that is another one as float32.
    pub float32_loses: Option<Example>,
    /// The first number that is another one as float64.
    pub float64_loses: Option<Example>,
    small: (i64, i64),
}

impl Default for Facts {
    fn default() -> Self {
        Facts {
            blank: 0,
            classes: Default::default(),
            tokens: [0; TOKENS.len()],
            bools: [[0; 2]; BOOL_PAIRS.len()],
            text: TextFacts::default(),
            dates: DateFacts::default(),
            compact_days: 0,
            scales: [0; 39],
            numbers: None,
            floats: None,
            float32_loses: None,
            float64_loses: None,
            small: (i64::MAX, i64::MIN),
        }
    }
}

/// Integers up to here are exact in a float32 and are printed by it as they were written; the same for
/// float64.
const FLOAT32_SURE: i64 = 1 << 24;
const FLOAT64_SURE: i64 = 1 << 53;

impl Facts {
    /// Values of a class.
    pub fn count(&self, class: Class) -> u64 {
        self.classes[class as usize].count
    }

    /// The first distinct values of a class.
    pub fn examples(&self, class: Class) -> &[Example] {
        &self.classes[class as usize].examples
    }

    /// Values that are neither blank nor one of the tokens.
    pub fn plain_count(&self) -> u64 {
        CLASSES.iter().filter(|class| **class != Class::Token).map(|class| self.count(*class)).sum()
    }

    /// The smallest and largest integer or decimal.
    pub fn number_range(&self) -> Option<(Decimal, Decimal)> {
        let (low, high) = self.small;
        let small = (low <= high)
            .then(|| [low, high].map(|n| Decimal { mantissa: i128::from(n), scale: 0 }))
            .map(|[low, high]| (low, high));
        match (self.numbers, small) {
            (Some((a, b)), Some((low, high))) => Some((a.min(low), b.max(high))),
            (range, None) | (None, range) => range,
        }
    }

    /// Adds one value, seen `count` times, first at `place`. A blank one is a text: where blank means
    /// "no value", none comes here.
    #[inline]
    pub(super) fn add(&mut self, value: &[u8], count: u64, place: Place) {
        self.add_trimmed(value, readings::trim(value), count, place);
    }

    /// As [`add`](Self::add), where what is left of the value without white space is known.
    #[inline(always)]
    pub(super) fn add_trimmed(&mut self, value: &[u8], trimmed: &[u8], count: u64, place: Place) {
        self.text.add(value, count);
        if trimmed.is_empty() {
            self.classes[Class::Text as usize].add(value, count, place);
            return;
        }
        if trimmed.len() != value.len() {
            self.text.padded += count;
        }
        let class = self.classify(trimmed, count, place);
        self.classes[class as usize].add(value, count, place);
    }

    /// Adds one value that is not valid in the encoding.
    #[cold]
    pub(super) fn add_malformed(&mut self, value: &[u8], place: Place) {
        self.text.add(value, 1);
        self.classes[Class::Malformed as usize].add(value, 1, place);
    }

    #[inline]
    fn classify(&mut self, value: &[u8], count: u64, place: Place) -> Class {
        if let Some(number) = readings::parse_integer(value) {
            let digits = value.strip_prefix(b"-").unwrap_or(value);
            if digits.len() > 1 && digits[0] == b'0' {
                return Class::Code;
            }
            self.small = (self.small.0.min(number), self.small.1.max(number));
            if number.abs() > FLOAT32_SURE {
                self.large_integer(value, number, count, place);
            }
            return Class::Integer;
        }
        match value[0] {
            b'0'..=b'9' | b'+' | b'-' | b'.' => self.classify_number(value, count, place),
            _ => self.classify_word(value, count),
        }
    }

    #[inline(never)]
    fn large_integer(&mut self, value: &[u8], number: i64, count: u64, place: Place) {
        if value.len() == 8 && (19_000_101..=21_001_231).contains(&number) {
            let (year, month, day) = (number / 10_000, number / 100 % 100, number % 100);
            let exists = (1..=12).contains(&month)
                && (1..=i64::from(days_in_month(year as i32, month as u32))).contains(&day);
            self.compact_days += if exists { count } else { 0 };
        }
        let known = self.float32_loses.as_ref().is_some_and(|known| known.place <= place);
        if known && number.abs() <= FLOAT64_SURE {
            return;
        }
        let exact = Number {
            mantissa: i128::from(number),
            scale: 0,
            whole_digits: number.unsigned_abs().checked_ilog10().unwrap_or(0) as u8 + 1,
            marked: false,
            plus: false,
            leading_zero: false,
            exponent: None,
        };
        self.float_losses(value, &exact, place);
    }

    fn classify_word(&mut self, value: &[u8], count: u64) -> Class {
        if let Some(token) = readings::token(value) {
            self.tokens[token] += count;
            return Class::Token;
        }
        if let Some((pair, says)) = readings::bool_word(value) {
            self.bools[pair][usize::from(says)] += count;
            return Class::Bool;
        }
        Class::Text
    }

    fn classify_number(&mut self, value: &[u8], count: u64, place: Place) -> Class {
        let Some(number) = readings::parse_number(value) else {
            return match read_shape(value) {
                Some(shaped) => {
                    self.dates.add(&shaped, value, count, place);
                    Class::Date
                }
                None => self.classify_word(value, count),
            };
        };
        if number.leading_zero {
            return Class::Code;
        }
        self.float_losses(value, &number, place);
        if number.exponent.is_some() {
            let float = std::str::from_utf8(value)
                .ok()
                .and_then(|text| text.parse::<f64>().ok())
                .unwrap_or(0.0);
            let (low, high) = self.floats.unwrap_or((float, float));
            self.floats = Some((low.min(float), high.max(float)));
            return Class::Exponent;
        }
        let decimal = Decimal { mantissa: number.mantissa, scale: number.scale };
        match &mut self.numbers {
            Some((low, _)) if decimal < *low => *low = decimal,
            Some((_, high)) if decimal > *high => *high = decimal,
            Some(_) => {}
            None => self.numbers = Some((decimal, decimal)),
        }
        if number.marked {
            self.scales[usize::from(number.scale)] += count;
            Class::Decimal
        } else if number.plus {
            Class::Signed
        } else {
            Class::Integer
        }
    }

    #[inline]
    fn float_losses(&mut self, value: &[u8], number: &Number, place: Place) {
        // A loss is looked for only where it would stand before the one that is known.
        let open = |known: &Option<Example>| known.as_ref().is_none_or(|known| place < known.place);
        let text = || std::str::from_utf8(value).unwrap_or("");
        if open(&self.float32_loses) && !readings::survives_float32(text(), number) {
            self.float32_loses = Some(Example::new(value, place));
        }
        if open(&self.float64_loses) && !readings::survives_float64(text(), number) {
            self.float64_loses = Some(Example::new(value, place));
        }
    }

    pub(super) fn merge(&mut self, other: Facts) {
        self.blank += other.blank;
        for (ours, theirs) in self.classes.iter_mut().zip(other.classes) {
            ours.count += theirs.count;
            theirs.examples.into_iter().for_each(|example| ours.keep(example));
        }
        let add = |ours: &mut [u64], theirs: &[u64]| {
            ours.iter_mut().zip(theirs).for_each(|(a, b)| *a += b)
        };
        add(&mut self.tokens, &other.tokens);
        add(self.bools.as_flattened_mut(), other.bools.as_flattened());
        add(&mut self.scales, &other.scales);
        self.text.merge(other.text);
        self.dates.merge(other.dates);
        self.compact_days += other.compact_days;
        self.numbers = join(self.numbers, other.numbers, |(a, b), (c, d)| (a.min(c), b.max(d)));
        self.floats = join(self.floats, other.floats, |(a, b), (c, d)| (a.min(c), b.max(d)));
        self.small = (self.small.0.min(other.small.0), self.small.1.max(other.small.1));
        earlier(&mut self.float32_loses, other.float32_loses);
        earlier(&mut self.float64_loses, other.float64_loses);
    }
}

/// Both, where there are two; the other one, where there is one.
pub(super) fn join<T>(a: Option<T>, b: Option<T>, both: impl Fn(T, T) -> T) -> Option<T> {
    match (a, b) {
        (Some(a), Some(b)) => Some(both(a, b)),
        (one, None) | (None, one) => one,
    }
}
