//! How dates of one shape were cut, and what is known of those that are cut alike.
//!
//! What is noted of a date of a known [cut](Mould) is noted in [`dates`](super::dates).

use crate::dates::{Bounded, DateOrder, MOULD_BYTES, Mould, padded};

/// How some values of a shape were cut.
#[derive(Debug, Clone)]
pub(super) struct Cut {
    pub mould: Mould,
    /// The place of its shape.
    pub at: usize,
    /// Where year, month and day stand in each order that the shape allows.
    pub orders: [Option<[usize; 3]>; 3],
    /// Whether the year has two digits in each of them.
    pub has_short_year: [bool; 3],
    /// Moments of values that the range of each order is known to hold, and so all between them: see [`moment_key`].
    pub known: [(u64, u64); 3],
    pub clock: Bounded,
    /// Where texts stand as their moments do.
    pub sorted: Option<Sorted>,
    /// Names of weekdays and of months that stood in values of this cut, by their bytes.
    names: [Vec<(u128, Name)>; 2],
}

/// A name that stands in dates: its place among those of the shape, and what it stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Name {
    pub at: usize,
    pub number: u8,
}

/// Names of one kind that are known of one cut, in any letters: twelve months and a few other ways to write them.
const MOST_NAMES: usize = 24;

/// A cut whose texts stand in the order of their moments, and which only one order of year, month and day reads.
#[derive(Debug, Clone)]
pub(super) struct Sorted {
    pub order: usize,
    bounds: Bounded,
    /// All bits of the first bytes that belong to a value.
    is_value: u128,
    /// The first bytes of values whose moments the range is known to hold, and so all between them.
    known: (u128, u128),
}

impl Sorted {
    fn new(mould: &Mould, length: usize, orders: [Option<[usize; 3]>; 3]) -> Option<Sorted> {
        let mut allowed =
            orders.iter().enumerate().filter_map(|(at, places)| Some((at, (*places)?)));
        let (order, places) = allowed.next().filter(|_| mould.shape().date.is_some())?;
        let is_it = allowed.next().is_none() && mould.is_in_order(places);
        is_it.then(|| Sorted {
            order,
            bounds: Bounded::moment(mould, places),
            is_value: u128::MAX << (8 * 16usize.saturating_sub(length)),
            known: (u128::MAX, 0),
        })
    }

    /// The first bytes of a value as a number that orders as they do.
    #[inline(always)]
    fn key(&self, bytes: &[u8; MOULD_BYTES]) -> u128 {
        let first = bytes.first_chunk::<16>().expect("a mould is longer");
        u128::from_be_bytes(*first) & self.is_value
    }

    /// Whether a value of the cut is a moment that changes no range.
    #[inline(always)]
    pub fn is_between(&self, bytes: &[u8; MOULD_BYTES]) -> bool {
        let (low, high) = self.known;
        let key = self.key(bytes);
        low < key && key < high && self.bounds.hold(bytes)
    }

    /// Notes a value whose moment is in the range.
    #[inline]
    pub fn know(&mut self, bytes: &[u8; MOULD_BYTES]) {
        let (low, high) = self.known;
        let key = self.key(bytes);
        self.known = (low.min(key), high.max(key));
    }
}

impl Cut {
    pub fn new(mould: Mould, length: usize, at: usize) -> Cut {
        let shape = mould.shape();
        let places = |order: DateOrder| shape.allows(order).then(|| order.places());
        let orders = match shape.date {
            Some(_) => DateOrder::ALL.map(places),
            None => [Some([0; 3]); 3],
        };
        let is_short = |places: Option<[usize; 3]>| {
            let year = places.map(|[year, ..]| year);
            shape.date.zip(year).is_some_and(|(date, year)| date.digits[year] == 2)
        };
        let has_short_year = orders.map(is_short);
        let (clock, sorted) = (Bounded::clock(&mould), Sorted::new(&mould, length, orders));
        let (known, names) = ([(u64::MAX, 0); 3], [Vec::new(), Vec::new()]);
        Cut { mould, at, orders, has_short_year, known, clock, sorted, names }
    }

    /// Takes note of the weekday and the month of a value, if it is of this cut.
    ///
    /// Which name stands where one may stand changes nothing in how the rest of a value is read: whatever was found to be one
    /// in a value of this cut is one in all of them.
    pub fn learn(&mut self, value: &[u8], names: [Option<Name>; 2]) {
        let Some(bytes) = padded(value).filter(|bytes| self.mould.fits(value.len(), bytes)) else {
            return;
        };
        let keys = self.mould.names(&bytes);
        for ((known, key), name) in self.names.iter_mut().zip(keys).zip(names) {
            let Some(name) = name.filter(|_| known.len() < MOST_NAMES) else { continue };
            if known.iter().all(|(known, _)| *known != key) {
                known.push((key, name));
            }
        }
    }

    /// The weekday and the month of a value of this cut, where it has such; `None` where one of them is not known.
    #[inline]
    pub fn names(&self, bytes: &[u8; MOULD_BYTES]) -> Option<[Option<Name>; 2]> {
        let keys = self.mould.names(bytes);
        let mut found = [None; 2];
        for ((names, key), found) in self.names.iter().zip(keys).zip(&mut found) {
            if !names.is_empty() {
                *found = Some(names.iter().find(|(known, _)| *known == key)?.1);
            }
        }
        Some(found)
    }
}

/// Year, month, day and time of day as a number that orders as they do, but for what is less than 64 nanoseconds apart.
#[inline(always)]
pub(super) fn moment_key((year, month, day): (i32, u32, u32), nanos: i64) -> u64 {
    let day = (year.cast_unsigned() << 9) | month << 5 | day;
    u64::from(day) << 41 | (nanos >> 6).cast_unsigned()
}
