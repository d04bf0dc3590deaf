//! Whether the numbers of a value of a known cut are in their bounds, told of all of them at once from its bytes.
//!
//! The law, which a property test holds: what is told here to be in bounds is a date and time that exists. Nothing is said
//! of the others, which end days of months among them: those have to be looked at.

use super::mould::{MOULD_BYTES, Mould, WORDS, words};
use crate::bytewise::HIGH;

/// Where numbers of two digits and of one stand in the bytes of a value, and their bounds. Each number is put together in
/// the byte of its last digit; a year of four digits counts by its first two.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bounded {
    /// The digits in the bytes of the ones, and in those behind the tens.
    ones: [u64; WORDS],
    tens: [u64; WORDS],
    least: [u64; WORDS],
    most: [u64; WORDS],
    /// Words that have any.
    used: usize,
}

/// Bounds under construction, byte by byte.
struct Bounds {
    ones: [u8; MOULD_BYTES],
    tens: [u8; MOULD_BYTES],
    least: [u8; MOULD_BYTES],
    most: [u8; MOULD_BYTES],
}

impl Bounds {
    fn none() -> Bounds {
        let none = [0; MOULD_BYTES];
        Bounds { ones: none, tens: none, least: none, most: none }
    }

    /// Bounds of the number of one or two digits at a place, if there is one.
    fn put(&mut self, (start, length): (u8, u8), least: u8, most: u8) {
        if length == 0 {
            return;
        }
        let last = usize::from(start + length) - 1;
        self.ones[last] = 0x0f;
        self.tens[last] = if length > 1 { 0x0f } else { 0 };
        (self.least[last], self.most[last]) = (least, most);
    }

    fn finish(self) -> Bounded {
        let used = self.ones.iter().rposition(|bits| *bits != 0).map_or(0, |last| last / 8 + 1);
        let Bounds { ones, tens, least, most } = self;
        let [ones, tens, least, most] = [ones, tens, least, most].map(|bytes| words(&bytes));
        Bounded { ones, tens, least, most, used }
    }
}

impl Bounded {
    /// The bounds of the time of day in values of a mould.
    pub fn clock(mould: &Mould) -> Bounded {
        let mut bounds = Bounds::none();
        put_clock(&mut bounds, mould);
        bounds.finish()
    }

    /// The bounds of the time of day and of days that every month has, where year, month and day stand at these places
    /// of the date.
    pub fn moment(mould: &Mould, [year, month, day]: [usize; 3]) -> Bounded {
        let mut bounds = Bounds::none();
        put_clock(&mut bounds, mould);
        if let (start, 4) = mould.fields[year] {
            bounds.put((start, 2), 1, 99);
        }
        bounds.put(mould.fields[month], 1, 12);
        bounds.put(mould.fields[day], 1, 28);
        bounds.finish()
    }

    /// Whether all numbers of the value that `bytes` starts with are in their bounds; it is of the cut that these were
    /// made of.
    #[inline(always)]
    pub fn hold(&self, bytes: &[u8; MOULD_BYTES]) -> bool {
        let mut within = HIGH;
        let mut before = 0;
        for (at, word) in words(bytes).into_iter().enumerate().take(self.used) {
            // The byte before each, where its tens stand. No number is larger than 99, so that no byte runs over.
            let shifted = word << 8 | before;
            before = word >> 56;
            let numbers = (word & self.ones[at]) + (shifted & self.tens[at]) * 10;
            within &= ((numbers | HIGH) - self.least[at]) & ((self.most[at] | HIGH) - numbers);
        }
        within & HIGH == HIGH
    }
}

fn put_clock(bounds: &mut Bounds, mould: &Mould) {
    let [hour, minute, second, _] = mould.clock;
    match mould.half {
        Some(_) => bounds.put(hour, 1, 12),
        None => bounds.put(hour, 0, 23),
    }
    bounds.put(minute, 0, 59);
    bounds.put(second, 0, 59);
}
