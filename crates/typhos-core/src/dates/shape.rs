//! The looks of dates: how a value is taken apart before anyone knows its pattern.
//!
//! `03/31/24` and `31.12.2024 23:59` are shapes: digits, separators, names, a time, an offset. The numbers
//! in the fields are kept apart, so that a survey can count per shape which orders of year, month and day
//! read every value. Values are found by shape alone, not by trying patterns in turn.

use serde::{Deserialize, Serialize};

use super::calendar::{days_from_civil, days_in_month, weekday};

/// The order of the fields in a date.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum DateOrder {
    /// Year, month, day.
    Ymd,
    /// Day, month, year.
    Dmy,
    /// Month, day, year.
    Mdy,
}

impl DateOrder {
    /// All orders; facts per order are kept in this sequence.
    pub const ALL: [DateOrder; 3] = [DateOrder::Ymd, DateOrder::Dmy, DateOrder::Mdy];

    /// Its spelling on the command line.
    pub fn name(self) -> &'static str {
        match self {
            DateOrder::Ymd => "ymd",
            DateOrder::Dmy => "dmy",
            DateOrder::Mdy => "mdy",
        }
    }

    /// Reads its spelling.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<DateOrder, String> {
        let found = DateOrder::ALL.into_iter().find(|order| order.name() == word);
        found.ok_or_else(|| {
            format!("'{}' is not an order of dates: use ymd, dmy or mdy", word.escape_debug())
        })
    }

    /// As a person says it.
    pub fn words(self) -> &'static str {
        match self {
            DateOrder::Ymd => "year first",
            DateOrder::Dmy => "day first",
            DateOrder::Mdy => "month first",
        }
    }

    /// Where year, month and day stand.
    pub fn places(self) -> [usize; 3] {
        match self {
            DateOrder::Ymd => [0, 1, 2],
            DateOrder::Dmy => [2, 1, 0],
            DateOrder::Mdy => [2, 0, 1],
        }
    }
}

/// What stands between two fields: up to four bytes.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
)]
#[serde(into = "String", try_from = "String")]
pub struct Separator([u8; 4]);

impl Separator {
    /// A separator of these bytes, which are at most four and none of them zero.
    pub(super) fn of(bytes: &[u8]) -> Separator {
        let mut kept = [0; 4];
        kept[..bytes.len()].copy_from_slice(bytes);
        Separator(kept)
    }

    /// Its text.
    pub fn text(&self) -> &str {
        let length = self.0.iter().position(|byte| *byte == 0).unwrap_or(4);
        std::str::from_utf8(&self.0[..length]).unwrap_or("")
    }
}

impl From<Separator> for String {
    fn from(separator: Separator) -> String {
        separator.text().to_owned()
    }
}

impl TryFrom<String> for Separator {
    type Error = &'static str;

    fn try_from(text: String) -> Result<Separator, &'static str> {
        let fits = text.len() <= 4 && text.bytes().all(|byte| byte != 0);
        if fits { Ok(Separator::of(text.as_bytes())) } else { Err("no separator of dates") }
    }
}

/// The date part of a shape.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DateShape {
    /// Digits of each of the three fields; 0 for the name of a month.
    pub digits: [u8; 3],
    /// What stands between them.
    pub between: [Separator; 2],
    /// What stands behind the name of a weekday, where the date begins with one.
    pub weekday: Option<Separator>,
    /// What stands behind the last of them: the word for a day, where each number has its word behind it.
    pub behind: Separator,
    /// Whether the year stands behind the time, at the end of the value.
    pub late_year: bool,
}

impl DateShape {
    /// Which of the three fields is the name of a month, if one is.
    pub fn named_field(&self) -> Option<usize> {
        self.digits.iter().position(|digits| *digits == 0)
    }
}

/// The time part of a shape.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TimeShape {
    /// Digits of the hour, 1 or 2.
    pub hour_digits: u8,
    /// What stands between hour, minute and second.
    pub between: Separator,
    /// What stands behind each of them, where each has its word behind it.
    pub words: [Separator; 3],
    /// Whether there are seconds.
    pub seconds: bool,
    /// The mark before a fraction of a second, where there is one.
    pub fraction: Option<u8>,
    /// What stands before AM or PM, where there is one of them.
    pub half: Option<Separator>,
}

/// How an offset from UTC is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ZoneShape {
    /// Whether a space stands before it.
    pub space: bool,
    /// Letters of the `X` pattern: 1 for `+01`, 2 for `+0100`, 3 for `+01:00`; 0 for a lone `Z`, which
    /// all of them read. [`ZoneShape::NAME`] for the abbreviation of a zone.
    pub letters: u8,
}

impl ZoneShape {
    /// In place of letters: the abbreviation of a zone.
    pub const NAME: u8 = 9;
}

/// The look of a date, a time, or both.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
)]
#[serde(deny_unknown_fields)]
pub struct Shape {
    /// The date, where there is one.
    pub date: Option<DateShape>,
    /// What stands between date and time, where there are both.
    pub glue: Separator,
    /// The time, where there is one.
    pub time: Option<TimeShape>,
    /// The offset, where there is one.
    pub zone: Option<ZoneShape>,
}

/// A value taken apart by its shape.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Shaped<'v> {
    /// How it looks.
    pub shape: Shape,
    /// The three numbers of the date, in the order they are written.
    pub fields: [u16; 3],
    /// The name of the month, where it has one.
    pub month_name: &'v [u8],
    /// The name of the weekday, and its number from 1 for Monday.
    pub weekday: Option<(&'v [u8], u8)>,
    /// Time of day in nanoseconds.
    pub nanos: i64,
    /// Digits of the fraction, 0 to 9.
    pub fraction_digits: u8,
    /// Offset from UTC in seconds.
    pub offset: i32,
}

/// What has to be known of a column's values beside their shape to write the pattern that reads them.
#[derive(Debug, Clone, Copy)]
pub struct Wording {
    /// Days, months and hours of one digit are read as well as of two.
    pub loose: bool,
    /// The most digits of a fraction.
    pub fraction_digits: u8,
    /// Letters of the offset.
    pub zone_letters: u8,
    /// Whether the name of the month is written out.
    pub long_month: bool,
    /// Whether the name of the weekday is.
    pub long_weekday: bool,
}

impl Shape {
    /// Whether the fields can stand in this order, judged by their number of digits. With the name of a
    /// month a year of two digits stands at the end.
    pub fn allows(&self, order: DateOrder) -> bool {
        let Some(date) = self.date else { return false };
        match (date.digits, order) {
            ([_, 0, _], DateOrder::Mdy) | ([0, _, _], DateOrder::Ymd | DateOrder::Dmy) => false,
            ([4, _, _], DateOrder::Ymd) | ([_, _, 4], DateOrder::Dmy | DateOrder::Mdy) => true,
            ([4, _, _], _) | ([_, _, 4], _) => false,
            ([_, 0, 2], DateOrder::Dmy) | ([0, _, 2], DateOrder::Mdy) => true,
            ([_, 0, _] | [0, _, _], _) => false,
            ([2, 2, 2], _) => true,
            ([_, _, 2], DateOrder::Dmy | DateOrder::Mdy) => true,
            _ => false,
        }
    }

    /// The pattern that reads values of this shape in an order of the date fields.
    pub fn pattern(&self, order: DateOrder, wording: &Wording) -> String {
        let mut pattern = String::new();
        let mut late = String::new();
        if let Some(date) = self.date {
            if let Some(separator) = date.weekday {
                pattern.push_str(if wording.long_weekday { "EEEE" } else { "EEE" });
                push_literal(&mut pattern, separator);
            }
            let [year_at, month_at, _] = order.places();
            for (at, digits) in date.digits.into_iter().enumerate() {
                let symbol = match digits {
                    4 => "yyyy",
                    0 if wording.long_month => "MMMM",
                    0 => "MMM",
                    _ if at == year_at => "yy",
                    _ if at == month_at && wording.loose => "M",
                    _ if at == month_at => "MM",
                    _ if wording.loose => "d",
                    _ => "dd",
                };
                let part = if at == 2 && date.late_year { &mut late } else { &mut pattern };
                if at > 0 {
                    push_literal(part, date.between[at - 1]);
                }
                part.push_str(symbol);
            }
            push_literal(&mut pattern, date.behind);
        }
        push_literal(&mut pattern, self.glue);
        if let Some(time) = self.time {
            pattern.push_str(match (time.half.is_some(), wording.loose) {
                (true, true) => "h",
                (true, false) => "hh",
                (false, true) => "H",
                (false, false) => "HH",
            });
            let [hours, minutes, seconds] = time.words;
            push_literal(&mut pattern, time.between);
            push_literal(&mut pattern, hours);
            pattern.push_str("mm");
            push_literal(&mut pattern, minutes);
            if time.seconds {
                push_literal(&mut pattern, time.between);
                pattern.push_str("ss");
                push_literal(&mut pattern, seconds);
            }
            if let Some(mark) = time.fraction {
                let digits = usize::from(wording.fraction_digits.max(1));
                pattern.push(char::from(mark));
                pattern.extend(std::iter::repeat_n('S', digits));
            }
            if let Some(separator) = time.half {
                push_literal(&mut pattern, separator);
                pattern.push('a');
            }
        }
        if let Some(zone) = self.zone {
            if zone.space {
                pattern.push(' ');
            }
            match zone.letters {
                ZoneShape::NAME => pattern.push('z'),
                _ => pattern
                    .extend(std::iter::repeat_n('X', usize::from(wording.zone_letters.max(1)))),
            }
        }
        pattern + &late
    }

    /// Whether a field has one digit where two are usual, so that only a loose pattern reads it.
    pub fn is_short(&self) -> bool {
        self.date.is_some_and(|date| date.digits.contains(&1))
            || self.time.is_some_and(|time| time.hour_digits == 1)
    }

    /// This shape with every short field made two digits long: what it has in common with the others
    /// of its style.
    pub fn widened(mut self) -> Shape {
        if let Some(date) = &mut self.date {
            for digits in &mut date.digits {
                *digits = if *digits == 1 { 2 } else { *digits };
            }
        }
        if let Some(time) = &mut self.time {
            time.hour_digits = 2;
        }
        self
    }
}

fn push_literal(pattern: &mut String, separator: Separator) {
    let text = separator.text();
    if text.bytes().any(|byte| byte.is_ascii_alphabetic()) {
        pattern.push('\'');
        pattern.push_str(text);
        pattern.push('\'');
    } else {
        pattern.push_str(text);
    }
}

impl Shaped<'_> {
    /// Year, month and day in an order, if that day exists and is the weekday that is named. Two-digit
    /// years fall in the hundred years from `pivot` on.
    #[inline]
    pub fn date(&self, order: DateOrder, pivot: i32) -> Option<(i32, u32, u32)> {
        let shape = self.shape.date?;
        let [year_at, month_at, day_at] = order.places();
        let year = match shape.digits[year_at] {
            2 => pivot + (i32::from(self.fields[year_at]) - pivot).rem_euclid(100),
            _ => i32::from(self.fields[year_at]),
        };
        let (month, day) = (u32::from(self.fields[month_at]), u32::from(self.fields[day_at]));
        let exists =
            year >= 1 && (1..=12).contains(&month) && day >= 1 && day <= days_in_month(year, month);
        let is_weekday = |(_, named): (&[u8], u8)| {
            weekday(days_from_civil(year, month, day)) == u32::from(named)
        };
        (exists && self.weekday.is_none_or(is_weekday)).then_some((year, month, day))
    }
}
