//! Offsets from UTC, as numbers, and the zones that people write instead of them.

use jiff::civil::DateTime;
use jiff::tz::{AmbiguousOffset, TimeZone};

use super::calendar::civil_from_days;
use super::moment::{Misread, Moment};

/// How an offset is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct OffsetForm {
    /// 1 for `+01`, 2 for `+0100`, 3 for `+01:00`.
    pub letters: u8,
    /// Whether a `Z` is one, too.
    pub zulu: bool,
}

impl OffsetForm {
    pub const fn new(letters: u8, zulu: bool) -> OffsetForm {
        OffsetForm { letters, zulu }
    }

    pub fn example(self) -> &'static str {
        match (self.letters, self.zulu) {
            (1, true) => "an offset such as +01 or Z",
            (2, true) => "an offset such as +0100 or Z",
            (_, true) => "an offset such as +01:00 or Z",
            (1, false) => "an offset such as +01",
            (2, false) => "an offset such as +0100",
            (_, false) => "an offset such as +01:00",
        }
    }

    /// Reads an offset at the start of `value`: its seconds, and how many bytes it has.
    #[inline]
    pub fn read(self, value: &[u8]) -> Option<(i32, usize)> {
        let sign = match value.first()? {
            b'Z' if self.zulu => return Some((0, 1)),
            b'+' => 1,
            b'-' => -1,
            _ => return None,
        };
        let two = |at: usize| match value.get(at..at + 2)? {
            [a @ b'0'..=b'9', b @ b'0'..=b'9'] => {
                Some(i32::from(a - b'0') * 10 + i32::from(b - b'0'))
            }
            _ => None,
        };
        let hours = two(1)?;
        let (minutes, length) = match self.letters {
            3 if value.get(3) == Some(&b':') => (two(4)?, 6),
            3 => return None,
            2 => (two(3)?, 5),
            _ => two(3).map_or((0, 3), |minutes| (minutes, 5)),
        };
        (minutes < 60).then_some((sign * (hours * 3600 + minutes * 60), length))
    }
}

/// The farthest offset there is, in seconds: eighteen hours, as ISO calendars elsewhere have it.
pub(super) const MOST_OFFSET: i32 = 18 * 3600;

/// Abbreviations that mean one offset wherever they are used, with their seconds.
pub(super) const ZONE_NAMES: &[(&str, i32)] = &[
    ("UTC", 0),
    ("GMT", 0),
    ("UT", 0),
    ("Z", 0),
    ("WET", 0),
    ("WEST", 3600),
    ("CET", 3600),
    ("CEST", 7200),
    ("EET", 7200),
    ("EEST", 10_800),
    ("MSK", 10_800),
    ("SGT", 28_800),
    ("AWST", 28_800),
    ("HKT", 28_800),
    ("JST", 32_400),
    ("KST", 32_400),
    ("ACST", 34_200),
    ("ACDT", 37_800),
    ("AEST", 36_000),
    ("AEDT", 39_600),
    ("NZST", 43_200),
    ("NZDT", 46_800),
    ("EDT", -14_400),
    ("CDT", -18_000),
    ("MDT", -21_600),
    ("PDT", -25_200),
    ("PST", -28_800),
    ("AKST", -32_400),
    ("AKDT", -28_800),
    ("HST", -36_000),
];

/// Abbreviations of several zones, and what they may mean.
pub(super) const AMBIGUOUS_ZONE_NAMES: &[(&str, &str)] = &[
    ("EST", "-05:00 in America, +10:00 in Australia"),
    ("CST", "-06:00 in America, +08:00 in China, -05:00 in Cuba"),
    ("MST", "-07:00 in America, +08:00 in Malaysia"),
    ("IST", "+05:30 in India, +01:00 in Ireland, +02:00 in Israel"),
    ("BST", "+01:00 in Britain, +06:00 in Bangladesh"),
    ("AST", "-04:00 in America, +03:00 in Arabia"),
    ("ECT", "-05:00 in Ecuador, -04:00 in the Caribbean"),
    ("GST", "+04:00 in the Gulf, -02:00 in South Georgia"),
];

/// The letters at the start of a value, and nothing but letters.
pub(super) fn letters(value: &[u8]) -> &[u8] {
    let length = value.iter().take_while(|byte| byte.is_ascii_alphabetic()).count();
    &value[..length]
}

/// The name of a zone at the start of a value, as far as it may go.
pub(super) fn zone_id(value: &[u8]) -> &[u8] {
    let is_part =
        |byte: &&u8| byte.is_ascii_alphanumeric() || matches!(byte, b'/' | b'_' | b'-' | b'+');
    &value[..value.iter().take_while(is_part).count()]
}

/// Which of the two instants a time means that a zone has twice, when clocks are turned back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Overlap {
    /// The first, before the clocks are turned.
    Earlier,
    /// The second.
    Later,
}

impl Overlap {
    /// Both.
    pub const ALL: [Overlap; 2] = [Overlap::Earlier, Overlap::Later];

    /// Its word in a schema.
    pub fn word(self) -> &'static str {
        match self {
            Overlap::Earlier => "earlier",
            Overlap::Later => "later",
        }
    }

    /// Reads its word.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Overlap, String> {
        let found = Overlap::ALL.into_iter().find(|overlap| overlap.word() == word);
        found.ok_or_else(|| {
            format!("'{}' is neither of two instants: say earlier or later", word.escape_debug())
        })
    }
}

/// The zone whose clocks a column's times were read from.
#[derive(Debug, Clone, PartialEq)]
pub struct Zone {
    name: String,
    zone: TimeZone,
}

impl Zone {
    /// The zone of this name in the IANA time zone database.
    ///
    /// # Errors
    /// A sentence about a name that is not in it.
    pub fn named(name: &str) -> Result<Zone, String> {
        let zone = find_zone(name).ok_or_else(|| {
            let known: Vec<String> =
                jiff::tz::db().available().map(|zone| zone.to_string()).collect();
            let near = crate::nearest(name, known.iter().map(String::as_str));
            let hint = near.map_or("write for example Europe/Oslo".to_owned(), |near| {
                format!("did you mean '{near}'?")
            });
            format!("there is no time zone '{}'; {hint}", name.escape_debug())
        })?;
        Ok(Zone { name: name.to_owned(), zone })
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// As [`offset_in`] of this zone.
    pub(super) fn offset(&self, moment: Moment, overlap: Option<Overlap>) -> Result<i32, Misread> {
        offset_in(&self.zone, moment, overlap)
    }
}

/// A zone by its name in the IANA time zone database. Values name zones too, so that it costs no more
/// than the look-up where there is none.
pub(super) fn find_zone(name: &str) -> Option<TimeZone> {
    TimeZone::get(name).ok().filter(|_| name != "local")
}

/// The offset that a time on the clocks of a zone has.
///
/// # Errors
/// A time that these clocks never showed, or showed twice where `overlap` does not say which is meant.
pub(super) fn offset_in(
    zone: &TimeZone,
    moment: Moment,
    overlap: Option<Overlap>,
) -> Result<i32, Misread> {
    let (year, month, day) = civil_from_days(moment.days);
    let seconds = (moment.nanos / 1_000_000_000) as i32;
    let time = DateTime::new(
        year as i16,
        month as i8,
        day as i8,
        (seconds / 3600) as i8,
        (seconds / 60 % 60) as i8,
        (seconds % 60) as i8,
        0,
    );
    let time = time.map_err(|_| Misread::FarOut)?;
    match (zone.to_ambiguous_timestamp(time).offset(), overlap) {
        (AmbiguousOffset::Unambiguous { offset }, _) => Ok(offset.seconds()),
        (AmbiguousOffset::Gap { .. }, _) => Err(Misread::Gap),
        (AmbiguousOffset::Fold { before, .. }, Some(Overlap::Earlier)) => Ok(before.seconds()),
        (AmbiguousOffset::Fold { after, .. }, Some(Overlap::Later)) => Ok(after.seconds()),
        (AmbiguousOffset::Fold { .. }, None) => Err(Misread::Overlap),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn offsets_are_read_as_far_as_they_go() {
        for (letters, value, want) in [
            (1, "+01 x", Some((3600, 3))),
            (1, "-0130", Some((-5400, 5))),
            (1, "Z", Some((0, 1))),
            (2, "+01", None),
            (2, "+0160", None),
            (3, "+01:59", Some((7140, 6))),
            (3, "+01:60", None),
            (3, "+0100", None),
            (3, "01:00", None),
            (3, "+1:00", None),
            (3, "", None),
        ] {
            let form = OffsetForm::new(letters, true);
            assert_eq!(form.read(value.as_bytes()), want, "{letters} {value}");
        }
        assert_eq!(OffsetForm::new(3, false).read(b"Z"), None);
    }

    #[test]
    fn no_name_means_one_offset_and_several() {
        for (name, _) in AMBIGUOUS_ZONE_NAMES {
            assert!(ZONE_NAMES.iter().all(|(other, _)| other != name), "{name}");
        }
    }

    #[test]
    fn clocks_that_jump_and_clocks_that_fall_back() {
        let zone = Zone::named("Europe/Oslo").unwrap();
        let at = |text: &str, overlap| {
            let time: DateTime = text.parse().unwrap();
            let days = super::super::days_from_civil(2024, time.month() as u32, time.day() as u32);
            let nanos = i64::from(time.hour()) * 3_600_000_000_000
                + i64::from(time.minute()) * 60_000_000_000;
            zone.offset(Moment { days, nanos, offset: None }, overlap)
        };
        assert_eq!(at("2024-01-05T12:00", None), Ok(3600));
        assert_eq!(at("2024-07-05T12:00", None), Ok(7200));
        assert_eq!(at("2024-03-31T02:30", None), Err(Misread::Gap));
        assert_eq!(at("2024-03-31T02:30", Some(Overlap::Later)), Err(Misread::Gap));
        assert_eq!(at("2024-10-27T02:30", None), Err(Misread::Overlap));
        assert_eq!(at("2024-10-27T02:30", Some(Overlap::Earlier)), Ok(7200));
        assert_eq!(at("2024-10-27T02:30", Some(Overlap::Later)), Ok(3600));
        let wrong = Zone::named("Europe/Olso").unwrap_err();
        assert_eq!(wrong, "there is no time zone 'Europe/Olso'; did you mean 'Europe/Oslo'?");
    }
}
