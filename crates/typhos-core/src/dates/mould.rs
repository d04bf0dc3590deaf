//! Moulds of dates: a value that was looked at once tells how others of the same cut are read.
//!
//! Two values have one cut where they have the same length, and the same bytes at the same places but for the digits
//! of date and time. Looking at the second then finds the same shape, and only its numbers are read. The law, which a
//! property test holds: what a mould reads is what [`read_shape`](super::read_shape) finds.

use super::names::Named;
use super::shape::{Separator, Shape, Shaped};
use super::sure::Bounded;
use super::words::number;
use crate::bytewise::{self, LOW};

/// The most bytes of a value that has a mould.
pub const MOULD_BYTES: usize = 32;

/// The same, in words.
pub(super) const WORDS: usize = MOULD_BYTES / 8;

/// The cut of a value, and where its numbers stand in it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mould {
    /// The bytes of the value that are no digits of it, zeros where the others are.
    cut: [u64; WORDS],
    /// All bits of those bytes.
    is_fixed: [u64; WORDS],
    /// All bits of the bytes where any digit may stand.
    is_digit: [u64; WORDS],
    length: usize,
    shape: Shape,
    /// Place and length of year, month and day in the order they are written; of length 0 without a date.
    pub(super) fields: [(u8, u8); 3],
    /// Place and length of hour, minute, second and fraction; of length 0 where there is none.
    pub(super) clock: [(u8, u8); 4],
    /// Place and length of the names of weekday and month; of length 0 where there is none.
    names: [(u8, u8); 2],
    /// Hours to add to one of twelve, where there is a half of the day.
    pub(super) half: Option<u32>,
    offset: i32,
}

/// The most bytes of a name in a value that has a mould: they fit a double word.
const NAME_BYTES: usize = 16;

/// Runs of digits and of letters, one after the other.
struct Runs<'v> {
    value: &'v [u8],
    at: usize,
}

impl Runs<'_> {
    /// The next run, if it has `length` digits: where it stands.
    fn next(&mut self, length: usize) -> Option<u8> {
        let is_digit = |at: usize| self.value.get(at).is_some_and(u8::is_ascii_digit);
        let start = (self.at..self.value.len()).find(|at| is_digit(*at))?;
        let is_run = (start..start + length).all(is_digit) && !is_digit(start + length);
        self.at = start + length;
        is_run.then_some(start as u8)
    }

    /// The next run of letters, if it is a name: where it stands, and how long it is.
    fn next_name(&mut self, name: &[u8]) -> Option<(u8, u8)> {
        let is_letter = |at: usize| self.value.get(at).is_some_and(u8::is_ascii_alphabetic);
        let start = (self.at..self.value.len()).find(|at| is_letter(*at))?;
        let end = (start..self.value.len()).find(|at| !is_letter(*at)).unwrap_or(self.value.len());
        self.at = end;
        let is_name = &self.value[start..end] == name && name.len() <= NAME_BYTES;
        is_name.then_some((start as u8, name.len() as u8))
    }
}

impl Mould {
    /// The mould of a value that was looked at. `None` where words stand behind the numbers of its date, or it is too long or
    /// not of ASCII.
    pub fn of(value: &[u8], shaped: &Shaped<'_>) -> Option<Mould> {
        let Shape { date, time, .. } = shaped.shape;
        let nothing = Separator::default();
        let has_words = date.is_some_and(|date| date.behind != nothing)
            || time.is_some_and(|time| time.words != [nothing; 3]);
        if has_words || !value.is_ascii() || value.len() > MOULD_BYTES {
            return None;
        }
        let (mut runs, mut words_of) = (Runs { value, at: 0 }, Runs { value, at: 0 });
        let mut names = [(0, 0); 2];
        if let Some((weekday, _)) = shaped.weekday {
            names[0] = words_of.next_name(weekday)?;
        }
        if !shaped.month_name.is_empty() {
            names[1] = words_of.next_name(shaped.month_name)?;
        }
        let is_late = date.is_some_and(|date| date.late_year);
        let mut fields = [(0, 0); 3];
        if let Some(date) = date {
            if date.between == [nothing; 2] {
                let start = runs.next(8)?;
                fields = [(start, 4), (start + 4, 2), (start + 6, 2)];
            } else {
                let before_time = if is_late { 2 } else { 3 };
                for (field, digits) in fields.iter_mut().zip(date.digits).take(before_time) {
                    if digits > 0 {
                        *field = (runs.next(digits.into())?, digits);
                    }
                }
            }
        }
        let mut clock = [(0, 0); 4];
        let mut half = None;
        if let Some(time) = time {
            if time.between == nothing {
                let start = runs.next(if time.seconds { 6 } else { 4 })?;
                clock[..2].copy_from_slice(&[(start, 2), (start + 2, 2)]);
                clock[2] = if time.seconds { (start + 4, 2) } else { (0, 0) };
            } else {
                clock[0] = (runs.next(time.hour_digits.into())?, time.hour_digits);
                clock[1] = (runs.next(2)?, 2);
                clock[2] = if time.seconds { (runs.next(2)?, 2) } else { (0, 0) };
            }
            if time.fraction.is_some() {
                let digits = shaped.fraction_digits;
                clock[3] = (runs.next(digits.into())?, digits);
            }
            let is_afternoon = shaped.nanos >= 12 * 3600 * 1_000_000_000;
            half = time.half.map(|_| if is_afternoon { 12 } else { 0 });
        }
        if is_late {
            fields[2] = (runs.next(4)?, 4);
        }
        let mut is_digit = [0; MOULD_BYTES];
        for (start, length) in fields.into_iter().chain(clock) {
            is_digit[usize::from(start)..usize::from(start) + usize::from(length)].fill(0xff);
        }
        let mut is_fixed = is_digit.map(|bits: u8| !bits);
        is_fixed[value.len()..].fill(0);
        for (start, length) in names {
            is_fixed[usize::from(start)..usize::from(start) + usize::from(length)].fill(0);
        }
        let (is_digit, is_fixed) = (words(&is_digit), words(&is_fixed));
        let padded = padded(value)?;
        let bytes = words(&padded);
        let mould = Mould {
            cut: std::array::from_fn(|at| bytes[at] & is_fixed[at]),
            is_fixed,
            is_digit,
            length: value.len(),
            shape: shaped.shape,
            fields,
            clock,
            names,
            half,
            offset: shaped.offset,
        };
        let cast = mould.read(value.len(), &padded);
        // What a mould does not make of its own value is nothing to rely on.
        (cast.as_ref() == Some(shaped)).then_some(mould)
    }

    /// The shape of the values of this cut.
    pub fn shape(&self) -> &Shape {
        &self.shape
    }

    /// Digits that they have after the second.
    pub fn fraction_digits(&self) -> u8 {
        self.clock[3].1
    }

    /// How many seconds their times are ahead of UTC.
    pub fn offset(&self) -> i32 {
        self.offset
    }

    /// Whether names are part of the values of this cut.
    #[inline(always)]
    pub fn has_names(&self) -> bool {
        self.names != [(0, 0); 2]
    }

    /// The field of the date that is the name of a month, in values that have one.
    pub fn named_field(&self) -> usize {
        self.shape.date.and_then(|date| date.named_field()).unwrap_or_default()
    }

    /// The bytes of the names of weekday and month as numbers, in a value of this cut that `bytes` starts with; zero where there
    /// is none.
    #[inline]
    pub fn names(&self, bytes: &[u8; MOULD_BYTES]) -> [u128; 2] {
        self.names.map(|(start, length)| {
            let start = usize::from(start);
            let from = start.min(MOULD_BYTES - NAME_BYTES);
            let all = bytes[from..].first_chunk().map_or(0, |name| u128::from_le_bytes(*name));
            let missing = 8 * (NAME_BYTES - usize::from(length)) as u32;
            let behind = all >> (8 * (start - from));
            behind.checked_shl(missing).unwrap_or(0) >> missing.min(u128::BITS - 1)
        })
    }

    /// Reads the value of `length` bytes that `bytes` starts with, if it is of this cut. `None` says only that it has
    /// to be looked at.
    pub fn read<'b>(&self, length: usize, bytes: &'b [u8; MOULD_BYTES]) -> Option<Shaped<'b>> {
        if !self.fits(length, bytes) || !Bounded::clock(self).hold(bytes) {
            return None;
        }
        let [weekday, month] = self.names.map(|(start, length)| {
            &bytes[usize::from(start)..usize::from(start) + usize::from(length)]
        });
        let mut fields = self.date(bytes);
        if !month.is_empty() {
            fields[self.named_field()] = number(Named::Month, month)?.into();
        }
        let weekday = match weekday {
            [] => None,
            // A month is tried first.
            name if number(Named::Month, name).is_some() => return None,
            name => Some((name, number(Named::Weekday, name)?)),
        };
        Some(Shaped {
            shape: self.shape,
            fields,
            month_name: month,
            weekday,
            nanos: self.nanos(bytes),
            fraction_digits: self.fraction_digits(),
            offset: self.offset,
        })
    }

    /// Nanoseconds since midnight, in a value of this cut whose time of day is [in bounds](Bounded::clock); zero without
    /// minutes.
    #[inline]
    pub fn nanos(&self, bytes: &[u8; MOULD_BYTES]) -> i64 {
        if self.clock[1].1 == 0 {
            return 0;
        }
        let [mut hour, minute, second] =
            [0, 1, 2].map(|at| u32::from(four_digits(bytes, self.clock[at])));
        if let Some(half) = self.half {
            hour = hour % 12 + half;
        }
        let (start, digits) = self.clock[3];
        let of_fraction = &bytes[usize::from(start)..usize::from(start) + usize::from(digits)];
        let fraction =
            of_fraction.iter().fold(0, |number, byte| number * 10 + i64::from(byte - b'0'));
        let seconds = i64::from(hour * 3600 + minute * 60 + second);
        seconds * 1_000_000_000 + fraction * NANOS_OF_DIGIT[usize::from(digits)]
    }

    /// Whether the value of `length` bytes that `bytes` starts with is of this cut, whatever its numbers are.
    #[inline(always)]
    pub fn fits(&self, length: usize, bytes: &[u8; MOULD_BYTES]) -> bool {
        if length != self.length {
            return false;
        }
        // Eight bytes at once: what differs, and whether digits stand where they have to. A digit has 3 in its upper half, also
        // with 6 added to it.
        let mut differs = 0;
        let used = length.div_ceil(8);
        for (at, word) in words(bytes).into_iter().enumerate().take(used) {
            const UPPER: u64 = bytewise::all(0xf0);
            let added = (word & LOW) + bytewise::all(6);
            let is_none = ((word & UPPER) | (added & UPPER) >> 4) ^ bytewise::all(0x33);
            differs |= (is_none & self.is_digit[at]) | ((word ^ self.cut[at]) & self.is_fixed[at]);
        }
        differs == 0
    }

    /// Year, month and day in the order they are written, of a value of this cut that `bytes` starts with; zeros without a
    /// date.
    #[inline(always)]
    pub fn date(&self, bytes: &[u8; MOULD_BYTES]) -> [u16; 3] {
        self.fields.map(|field| four_digits(bytes, field))
    }

    /// Whether moments follow each other as the texts of this cut do, if year, month and day stand at these places of the
    /// date: each number has as many digits in all of them, and what counts for more stands before what counts for less.
    pub fn is_in_order(&self, [year, month, day]: [usize; 3]) -> bool {
        let date = [self.fields[year], self.fields[month], self.fields[day]];
        let [hour, ..] = self.clock;
        date.map(|(_, digits)| digits) == [4, 2, 2]
            && date.is_sorted()
            && matches!(hour, (0, 0) | (_, 2))
            && (hour.1 == 0 || hour > date[2])
            && self.half.is_none()
    }
}

/// Nanoseconds of a one at the end of so many digits after the second.
const NANOS_OF_DIGIT: [i64; 10] =
    [1_000_000_000, 100_000_000, 10_000_000, 1_000_000, 100_000, 10_000, 1_000, 100, 10, 1];

/// The number that at most four digits are, which stand at a place. All of them at once: a loop over as many as there
/// are guesses its end wrong whenever fields differ in length.
#[inline(always)]
fn four_digits(bytes: &[u8; MOULD_BYTES], (start, length): (u8, u8)) -> u16 {
    // A field at the end is taken from the last four bytes.
    let start = usize::from(start);
    let from = start.min(MOULD_BYTES - 4);
    let word = bytes[from..].first_chunk::<4>().map_or(0, |word| u32::from_le_bytes(*word));
    let word = word >> (8 * (start - from)) & 0x0f0f_0f0f;
    // The last digit in the highest byte, zeros below the first.
    let digits = (u64::from(word) << (32 - 8 * u32::from(length))) as u32;
    let pairs = (digits * 10 + (digits >> 8)) & 0x00ff_00ff;
    (pairs * 100 + (pairs >> 16)) as u16
}

/// Bytes in words.
#[inline(always)]
pub(super) fn words(bytes: &[u8; MOULD_BYTES]) -> [u64; WORDS] {
    let (all, _) = bytes.as_chunks::<8>();
    std::array::from_fn(|at| u64::from_le_bytes(all[at]))
}

/// A value with zeros behind it; `None` of one that is too long for a mould.
pub fn padded(value: &[u8]) -> Option<[u8; MOULD_BYTES]> {
    let mut bytes = [0; MOULD_BYTES];
    bytes.get_mut(..value.len())?.copy_from_slice(value);
    Some(bytes)
}

#[cfg(test)]
mod tests {
    use super::super::{Bounded, DateOrder, days_in_month, read_shape};
    use super::*;
    use proptest::prelude::*;

    fn pad(value: &[u8]) -> [u8; MOULD_BYTES] {
        padded(value).expect("a short value")
    }

    fn dated() -> impl Strategy<Value = String> {
        let fields = (0u32..40, 0u32..16, 0u32..3000, 0u32..26, 0u32..62, 0u32..62);
        let rest = (
            "[.,][0-9]{1,9}",
            prop_oneof![Just(""), Just("Z"), Just("+01:00"), Just(" -0330"), Just(" CET")],
        );
        let name = || {
            proptest::sample::select(vec![
                "Mar", "mar", "May", "mai", "AUG", "August", "Monday", "Mon", "dom", "Sun", "jue",
                "Xyz", "lu", "sept",
            ])
        };
        (fields, rest, 0usize..18, name(), name()).prop_map(
            |((d, m, y, h, min, s), (fraction, zone), style, name, other)| match style {
                0 => format!("{y:04}-{m:02}-{d:02}"),
                1 => format!("{y:04}-{m:02}-{d:02}T{h:02}:{min:02}:{s:02}{fraction}{zone}"),
                2 => format!("{m}/{d}/{y:04} {h}:{min:02} PM"),
                3 => format!("{m}/{d}/{y:04} {h}:{min:02}:{s:02} am"),
                4 => format!("{d:02}.{m:02}.{:02}", y % 100),
                5 => format!("{h:02}:{min:02}:{s:02}{fraction}"),
                6 => format!("{h}:{min:02}"),
                7 => format!("{y:04}{m:02}{d:02}T{h:02}{min:02}{s:02}{zone}"),
                8 => format!("{d:02}.{m:02}.{y:04} {h:02}.{min:02}"),
                9 => format!("{d} Mar {y:04} {h:02}:{min:02}"),
                10 => format!("{y:04}-{m:02}-{d:02} {h:02}:{min:02}:{s:02}{zone}"),
                11 => format!("{name} {d}, {y:04}"),
                12 => format!("{name} {other} {d:2} {h:02}:{min:02}:{s:02} {y:04}"),
                13 => format!("{name}, {d:02} {other} {y:04} {h:02}:{min:02}:{s:02}{zone}"),
                14 => format!("{d:02}/{name}/{y:04}:{h:02}:{min:02}:{s:02} +0100"),
                15 => format!("{d:02}-{name}-{:02} {h}:{min:02} PM", y % 100),
                16 => format!("{name}. {d} {y:04} {h:02}:{min:02}"),
                _ => format!("{name}, {d:02} {other} {y:04}"),
            },
        )
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        #[test]
        fn a_mould_reads_what_a_look_finds(model in dated(), other in dated(), byte in any::<u8>(), at in 0usize..40) {
            let Some(shaped) = read_shape(model.as_bytes()) else { return Ok(()) };
            let Some(mould) = Mould::of(model.as_bytes(), &shaped) else { return Ok(()) };
            let mut changed = model.clone().into_bytes();
            if let Some(known) = changed.get_mut(at) {
                *known = byte;
            }
            for value in [other.as_bytes(), &changed] {
                if value.len() > MOULD_BYTES || !mould.fits(value.len(), &pad(value)) {
                    continue;
                }
                let bytes = pad(value);
                let read = read_shape(value);
                // Whatever stands where a name may stand.
                if Bounded::clock(&mould).hold(&bytes) && !mould.has_names() {
                    prop_assert!(read.is_some(), "{} by {}", value.escape_ascii(), model);
                }
                let allowed = |order: &DateOrder| shaped.shape.date.is_some() && shaped.shape.allows(*order);
                for order in DateOrder::ALL.into_iter().filter(allowed) {
                    let places = order.places();
                    if Bounded::moment(&mould, places).hold(&bytes) && !mould.has_names() {
                        let [year, month, day] = places.map(|place| mould.date(&bytes)[place]);
                        let is_short = mould.fields[places[0]].1 == 2;
                        prop_assert!(read.is_some() && (is_short || year > 0), "{}", value.escape_ascii());
                        prop_assert!((1..=12).contains(&month) && day > 0, "{}", value.escape_ascii());
                        prop_assert!(u32::from(day) <= days_in_month(2023, month.into()), "{}", value.escape_ascii());
                    }
                    // As long as both exist, what stands behind as a text is later.
                    let moment = |bytes: &[u8; MOULD_BYTES]| {
                        let read = mould.read(value.len(), bytes)?;
                        Some((places.map(|place| read.fields[place]), read.nanos))
                    };
                    let model = pad(model.as_bytes());
                    if mould.is_in_order(places)
                        && let Some((of_value, of_model)) = moment(&bytes).zip(moment(&model))
                    {
                        prop_assert_eq!(of_value.cmp(&of_model), bytes.cmp(&model));
                    }
                }
                if let Some(read) = mould.read(value.len(), &pad(value))
                {
                    prop_assert_eq!(Some(read), read_shape(value), "{} by {}", value.escape_ascii(), model);
                }
            }
            let bytes = pad(model.as_bytes());
            prop_assert_eq!(mould.read(model.len(), &bytes), Some(shaped));
        }
    }

    #[test]
    fn usual_dates_have_moulds() {
        for (model, value) in [
            ("2024-03-31", "1999-12-01"),
            ("2024-03-31T10:20:30.123Z", "2025-01-02T23:59:59.000Z"),
            ("3/31/2024 7:05 PM", "1/22/1999 9:59 PM"),
            ("31.03.24 07.05", "01.12.99 23.59"),
            ("31 Mar 2024", "01 DEC 1999"),
            ("Mon, 04 Mar 2024 07:05:00 GMT", "Fri, 31 Dec 1999 23:59:59 GMT"),
            ("Fri Aug 23 23:40:15 2024", "Sat Sep 07 03:00:05 1999"),
            ("26/Mar/2024:01:19:38 +0000", "01/Dec/1999:23:59:59 +0000"),
            ("March 07, 2023 8:57", "April 17, 1999 9:00"),
        ] {
            let mould =
                Mould::of(model.as_bytes(), &read_shape(model.as_bytes()).unwrap()).unwrap();
            let bytes = pad(value.as_bytes());
            let read = mould.read(value.len(), &bytes);
            assert_eq!(read, read_shape(value.as_bytes()), "{value}");
            assert!(read.is_some(), "{value}");
        }
        for value in ["31. März 2024", "Wednesday, 04 September 2024 10:20", "2024年3月1日"] {
            let shaped = read_shape(value.as_bytes()).unwrap();
            assert_eq!(Mould::of(value.as_bytes(), &shaped), None, "{value}");
        }
    }
}
