//! The symbols of a pattern, in one table: what the compiler reads is what people are shown.

use super::names::{Form, Named};
use super::offsets::OffsetForm;

/// A part of a date or a time that a number or a name says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Field {
    Year,
    ShortYear,
    WeekYear,
    ShortWeekYear,
    Quarter,
    Month,
    Day,
    DayOfYear,
    Week,
    Weekday,
    Half,
    /// From 0 to 23.
    Hour,
    /// From 1 to 24, which is 0.
    HourTo24,
    /// From 1 to 12, which is 0, with a half.
    HourTo12,
    /// From 0 to 11, with a half.
    HourTo11,
    Minute,
    Second,
}

impl Field {
    /// Its name, which is the same for all that say the same part.
    pub fn name(self) -> &'static str {
        match self {
            Field::Year | Field::ShortYear => "year",
            Field::WeekYear | Field::ShortWeekYear => "year of the week",
            Field::Quarter => "quarter",
            Field::Month => "month",
            Field::Day => "day",
            Field::DayOfYear => "day of the year",
            Field::Week => "week",
            Field::Weekday => "weekday",
            Field::Half => "AM or PM",
            Field::Hour | Field::HourTo24 | Field::HourTo12 | Field::HourTo11 => "hour",
            Field::Minute => "minute",
            Field::Second => "second",
        }
    }

    /// The smallest and largest number.
    pub fn range(self) -> (u32, u32) {
        match self {
            Field::Year | Field::WeekYear => (1, 9999),
            Field::ShortYear | Field::ShortWeekYear => (0, 99),
            Field::Quarter => (1, 4),
            Field::Month => (1, 12),
            Field::Day => (1, 31),
            Field::DayOfYear => (1, 366),
            Field::Week => (1, 53),
            Field::Weekday => (1, 7),
            Field::Half => (0, 1),
            Field::Hour => (0, 23),
            Field::HourTo24 => (1, 24),
            Field::HourTo12 => (1, 12),
            Field::HourTo11 => (0, 11),
            Field::Minute | Field::Second => (0, 59),
        }
    }
}

/// What a symbol reads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    /// A number of so many digits, at least and at most.
    Number(Field, u8, u8),
    Name(Field, Named, Form),
    /// `Q1`.
    QuarterWord,
    Fraction,
    Offset(OffsetForm),
    ZoneId,
    ZoneName,
}

/// A symbol of a date pattern.
#[derive(Debug, Clone, Copy)]
pub struct Symbol {
    /// The letters: all alike.
    pub letters: &'static str,
    /// What it reads.
    pub reads: &'static str,
    /// Something that it reads.
    pub example: &'static str,
    pub(super) kind: Kind,
}

const fn number(
    letters: &'static str,
    field: Field,
    (least, most): (u8, u8),
    reads: &'static str,
    example: &'static str,
) -> Symbol {
    Symbol { letters, reads, example, kind: Kind::Number(field, least, most) }
}

const fn name(
    letters: &'static str,
    field: Field,
    (named, form): (Named, Form),
    reads: &'static str,
    example: &'static str,
) -> Symbol {
    Symbol { letters, reads, example, kind: Kind::Name(field, named, form) }
}

const fn offset(
    letters: &'static str,
    form: OffsetForm,
    reads: &'static str,
    example: &'static str,
) -> Symbol {
    Symbol { letters, reads, example, kind: Kind::Offset(form) }
}

/// Most letters of a fraction.
pub(super) const MOST_FRACTION: usize = 9;

/// All symbols. That of a fraction stands once, and is written with one to nine letters.
pub const SYMBOLS: &[Symbol] = &[
    number("yyyy", Field::Year, (4, 4), "year of four digits", "2024"),
    number("yy", Field::ShortYear, (2, 2), "year of two digits, from the column's pivot on", "24"),
    number("y", Field::Year, (1, 4), "year of one to four digits", "987"),
    number("uuuu", Field::Year, (4, 4), "as yyyy", "2024"),
    number("u", Field::Year, (1, 4), "as y", "987"),
    number("Q", Field::Quarter, (1, 1), "quarter", "1"),
    number("QQ", Field::Quarter, (2, 2), "quarter of two digits", "01"),
    Symbol { letters: "QQQ", reads: "Q and the quarter", example: "Q1", kind: Kind::QuarterWord },
    number("MM", Field::Month, (2, 2), "month of two digits", "03"),
    number("M", Field::Month, (1, 2), "month of one or two digits", "3"),
    name("MMM", Field::Month, (Named::Month, Form::Short), "name of a month, abbreviated", "Mar"),
    name("MMMM", Field::Month, (Named::Month, Form::Long), "name of a month", "March"),
    number("LL", Field::Month, (2, 2), "as MM", "03"),
    number("L", Field::Month, (1, 2), "as M", "3"),
    name("LLL", Field::Month, (Named::Month, Form::Short), "as MMM", "Mar"),
    name("LLLL", Field::Month, (Named::Month, Form::Long), "as MMMM", "March"),
    number("dd", Field::Day, (2, 2), "day of two digits", "01"),
    number("d", Field::Day, (1, 2), "day of one or two digits", "1"),
    number("DDD", Field::DayOfYear, (3, 3), "day of the year, of three digits", "061"),
    number("D", Field::DayOfYear, (1, 3), "day of the year, of one to three digits", "61"),
    number("YYYY", Field::WeekYear, (4, 4), "year that an ISO week is counted in", "2024"),
    number("YY", Field::ShortWeekYear, (2, 2), "the same of two digits, from the pivot on", "24"),
    number("Y", Field::WeekYear, (1, 4), "the same of one to four digits", "987"),
    number("ww", Field::Week, (2, 2), "ISO week of two digits", "09"),
    number("w", Field::Week, (1, 2), "ISO week of one or two digits", "9"),
    number("e", Field::Weekday, (1, 1), "ISO weekday, 1 for Monday", "5"),
    name("E", Field::Weekday, (Named::Weekday, Form::Short), "as EEE", "Fri"),
    name("EE", Field::Weekday, (Named::Weekday, Form::Short), "as EEE", "Fri"),
    name("EEE", Field::Weekday, (Named::Weekday, Form::Short), "weekday, abbreviated", "Fri"),
    name("EEEE", Field::Weekday, (Named::Weekday, Form::Long), "weekday", "Friday"),
    name("a", Field::Half, (Named::Half, Form::Short), "half of the day", "PM"),
    number("HH", Field::Hour, (2, 2), "hour from 0 to 23, of two digits", "05"),
    number("H", Field::Hour, (1, 2), "hour from 0 to 23", "5"),
    number("hh", Field::HourTo12, (2, 2), "hour from 1 to 12, with a half, of two digits", "05"),
    number("h", Field::HourTo12, (1, 2), "hour from 1 to 12, with a half", "5"),
    number("kk", Field::HourTo24, (2, 2), "hour from 1 to 24, of two digits; 24 is 0", "24"),
    number("k", Field::HourTo24, (1, 2), "hour from 1 to 24; 24 is 0", "24"),
    number("KK", Field::HourTo11, (2, 2), "hour from 0 to 11, with a half, of two digits", "00"),
    number("K", Field::HourTo11, (1, 2), "hour from 0 to 11, with a half", "0"),
    number("mm", Field::Minute, (2, 2), "minute of two digits", "07"),
    number("m", Field::Minute, (1, 2), "minute of one or two digits", "7"),
    number("ss", Field::Second, (2, 2), "second of two digits", "09"),
    number("s", Field::Second, (1, 2), "second of one or two digits", "9"),
    Symbol {
        letters: "S",
        reads: "fraction of a second, from one digit up to the letters (nine at most)",
        example: "5",
        kind: Kind::Fraction,
    },
    offset("X", OffsetForm::new(1, true), "offset of hours, minutes where needed; or Z", "+01"),
    offset("XX", OffsetForm::new(2, true), "offset of hours and minutes, or Z", "+0100"),
    offset("XXX", OffsetForm::new(3, true), "offset with a colon, or Z", "+01:00"),
    offset("x", OffsetForm::new(1, false), "as X, without Z", "+01"),
    offset("xx", OffsetForm::new(2, false), "as XX, without Z", "+0100"),
    offset("xxx", OffsetForm::new(3, false), "as XXX, without Z", "+01:00"),
    offset("Z", OffsetForm::new(2, false), "as xx", "+0100"),
    offset("ZZ", OffsetForm::new(2, false), "as xx", "+0100"),
    offset("ZZZ", OffsetForm::new(2, false), "as xx", "+0100"),
    offset("ZZZZZ", OffsetForm::new(3, true), "as XXX", "+01:00"),
    Symbol {
        letters: "VV",
        reads: "name of a time zone",
        example: "Europe/Oslo",
        kind: Kind::ZoneId,
    },
    Symbol {
        letters: "z",
        reads: "abbreviation of a time zone that means one offset",
        example: "CET",
        kind: Kind::ZoneName,
    },
];

/// The symbol that is `run` times a letter.
pub(super) fn symbol(letter: char, run: usize) -> Option<&'static Symbol> {
    SYMBOLS.iter().find(|symbol| {
        let is_length = match symbol.kind {
            Kind::Fraction => run <= MOST_FRACTION,
            _ => symbol.letters.len() == run,
        };
        is_length && symbol.letters.starts_with(letter)
    })
}

/// Words that are whole patterns of their own: what they count, and since when.
pub const COUNTS: [(&str, &str); 7] = [
    ("epoch-s", "seconds since 1970-01-01T00:00Z, with a fraction of up to nine digits"),
    ("epoch-ms", "milliseconds since then, with a fraction of up to six digits"),
    ("epoch-us", "microseconds since then, with a fraction of up to three digits"),
    ("epoch-ns", "nanoseconds since then"),
    ("epoch-days", "days since 1970-01-01"),
    ("sheet-1900", "days of a spreadsheet whose day 1 is 1900-01-01; fractions to the millisecond"),
    ("sheet-1904", "days of a spreadsheet whose day 0 is 1904-01-01; fractions to the millisecond"),
];
