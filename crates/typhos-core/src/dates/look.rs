//! Looking at a value as a date, a time, or both: from bytes to a [`Shaped`].

use super::names::Named;
use super::offsets::{OffsetForm, ZONE_NAMES, letters};
use super::shape::{DateShape, Order, Separator, Shape, Shaped, TimeShape, ZoneShape};
use super::words;

/// What joins a date and a time, beside what separates any two fields.
const GLUE: [&[u8]; 5] = [b"T", b"t", b":", b" at ", b" um "];

/// Words for year, month and day behind the number, and for hour, minute and second, in the languages that
/// write dates so: Chinese and Japanese share theirs, Korean has its own.
const DATE_WORDS: [[&str; 2]; 3] = [["年", "년"], ["月", "월"], ["日", "일"]];
const TIME_WORDS: [[&str; 3]; 3] = [["時", "时", "시"], ["分", "分", "분"], ["秒", "秒", "초"]];

/// Looks at a value as a date, a time, or both. `None` where it has no such shape, or where a time of
/// day does not exist; whether the *day* exists depends on the order and is not judged here.
pub fn read_shape(value: &[u8]) -> Option<Shaped<'_>> {
    if value.len() < 4 || value.len() > 64 {
        return None;
    }
    let mut look = Look {
        rest: value,
        shaped: Shaped {
            shape: Shape::default(),
            fields: [0; 3],
            month_name: b"",
            weekday: None,
            nanos: 0,
            fraction_digits: 0,
            offset: 0,
        },
    };
    if value[0].is_ascii_digit() {
        let start = look;
        if look.date(None).is_none() {
            look = start;
        }
    } else {
        look.date_of_words()?;
    }
    if let Some(date) = look.shaped.shape.date {
        if look.rest.is_empty() {
            return look.finish();
        }
        let is_apart = date.behind != Separator::default();
        let is_time = look.rest.first().is_some_and(u8::is_ascii_digit);
        if !(is_apart && is_time) {
            look.shaped.shape.glue = look.glue().or_else(|| look.separator())?;
        }
    }
    look.time()?;
    look.zone()?;
    look.late_year()?;
    look.finish()
}

#[derive(Clone, Copy)]
struct Look<'v> {
    rest: &'v [u8],
    shaped: Shaped<'v>,
}

impl<'v> Look<'v> {
    fn finish(self) -> Option<Shaped<'v>> {
        let is_date = |date: DateShape| {
            (!date.late_year || date.digits[2] == 4)
                && Order::ALL.iter().any(|order| self.shaped.shape.allows(*order))
        };
        let fits = self.rest.is_empty() && self.shaped.shape.date.is_none_or(is_date);
        fits.then_some(self.shaped)
    }

    /// What stands before the next digit or letter.
    #[inline]
    fn separator(&mut self) -> Option<Separator> {
        let is_separator =
            |byte: &&u8| matches!(byte, b'-' | b'/' | b'.' | b' ' | b',' | b'_' | b'@' | b';');
        let length = self.rest.iter().take(4).take_while(is_separator).count();
        if !(1..=3).contains(&length) {
            return None;
        }
        let (separator, rest) = self.rest.split_at(length);
        self.rest = rest;
        Some(Separator::of(separator))
    }

    /// What joins a date and a time: a digit stands behind it.
    fn glue(&mut self) -> Option<Separator> {
        let found = GLUE.iter().find_map(|glue| {
            let rest = self.rest.strip_prefix(*glue)?;
            rest.first().is_some_and(u8::is_ascii_digit).then_some((*glue, rest))
        });
        let (glue, rest) = found?;
        self.rest = rest;
        Some(Separator::of(glue))
    }

    /// One of some words, and a space behind it where there is one and more comes.
    fn word<const N: usize>(&mut self, words: [&str; N]) -> Option<Separator> {
        let word = words.into_iter().find(|word| self.rest.starts_with(word.as_bytes()))?;
        let mut length = word.len();
        if let Some([b' ', b'0'..=b'9', ..]) = self.rest.get(length..) {
            length += 1;
        }
        let (word, rest) = self.rest.split_at(length);
        self.rest = rest;
        Some(Separator::of(word))
    }

    /// A date whose numbers have their words behind them: `2024年3月1日`.
    fn date_with_words(&mut self) -> Option<()> {
        let (year, 4) = self.field()? else { return None };
        let [years, months, days] = DATE_WORDS;
        let before = self.word(years)?;
        let (month, month_digits) = self.field()?;
        let after = self.word(months)?;
        let (day, day_digits) = self.field()?;
        // What stands behind the day is told apart from what joins it with a time.
        let word = days.into_iter().find(|word| self.rest.starts_with(word.as_bytes()))?;
        self.rest = &self.rest[word.len()..];
        if month_digits > 2 || day_digits > 2 {
            return None;
        }
        self.shaped.fields = [year, month, day];
        self.dated([4, month_digits, day_digits], [before, after], None)?;
        if let Some(date) = &mut self.shaped.shape.date {
            date.behind = Separator::of(word.as_bytes());
        }
        Some(())
    }

    /// A time whose numbers have their words behind them: `10時20分30秒`.
    fn time_with_words(&mut self) -> Option<((u32, u32, u32), TimeShape)> {
        let [hours, minutes, seconds] = TIME_WORDS;
        let (hour, hour_digits @ (1 | 2)) = self.field()? else { return None };
        let hours = self.word(hours)?;
        let (minute, 2) = self.field()? else { return None };
        let mut words = [hours, self.word(minutes)?, Separator::default()];
        let mut second = 0;
        let has_seconds = self.rest.first().is_some_and(u8::is_ascii_digit);
        if has_seconds {
            let (found, 2) = self.field()? else { return None };
            second = found;
            words[2] = self.word(seconds)?;
        }
        let shape = TimeShape {
            hour_digits,
            between: Separator::default(),
            words,
            seconds: has_seconds,
            fraction: None,
            half: None,
        };
        Some(((u32::from(hour), u32::from(minute), u32::from(second)), shape))
    }

    /// A name, with the point behind an abbreviation that more than the point separates from what
    /// follows: patterns read names with it and without.
    fn name(&mut self, named: Named) -> Option<(&'v [u8], u8)> {
        let word = words::word(self.rest)?;
        let number = words::number(named, word)?;
        self.rest = &self.rest[word.len()..];
        if let [b'.', b' ' | b',' | b'-' | b'/', ..] = self.rest {
            self.rest = &self.rest[1..];
        }
        Some((word, number))
    }

    /// One, two or four digits: the number, and how many.
    #[inline]
    fn field(&mut self) -> Option<(u16, u8)> {
        let digit = |at: usize| self.rest.get(at).map(|b| b.wrapping_sub(b'0')).filter(|d| *d <= 9);
        let a = u16::from(digit(0)?);
        let (number, length) = match digit(1) {
            None => (a, 1),
            Some(b) => match (digit(2), digit(3)) {
                (None, _) => (a * 10 + u16::from(b), 2),
                (Some(c), Some(d)) => {
                    (a * 1000 + u16::from(b) * 100 + u16::from(c) * 10 + u16::from(d), 4)
                }
                (Some(_), None) => return None,
            },
        };
        self.rest = &self.rest[length..];
        // A fifth digit is one too many.
        let is_over = self.rest.first().is_some_and(u8::is_ascii_digit);
        (!is_over).then_some((number, length as u8))
    }

    /// A date that starts with a word: a month, or a weekday and then the rest.
    fn date_of_words(&mut self) -> Option<()> {
        if !self.rest.iter().any(u8::is_ascii_digit) {
            return None;
        }
        let start = *self;
        if self.date_of_month(None).is_some() {
            return Some(());
        }
        *self = start;
        let named = self.name(Named::Weekday)?;
        let separator = self.separator()?;
        self.shaped.weekday = Some(named);
        if self.rest.first()?.is_ascii_digit() {
            self.date(Some(separator))
        } else {
            self.date_of_month(Some(separator))
        }
    }

    /// A date that starts with a number.
    fn date(&mut self, weekday: Option<Separator>) -> Option<()> {
        if let Some(()) = self.compact(weekday) {
            return Some(());
        }
        // Behind four digits only a word for a year starts beyond ASCII.
        if let [a, b, c, d, 0x80..=0xff, ..] = self.rest
            && [a, b, c, d].iter().all(|byte| byte.is_ascii_digit())
            && weekday.is_none()
        {
            return self.date_with_words();
        }
        let (first, first_digits) = self.field()?;
        let before = self.separator()?;
        if let Some((word, month)) = self.name(Named::Month) {
            let after = self.separator()?;
            let (third, third_digits) = self.field()?;
            self.shaped.month_name = word;
            self.shaped.fields = [first, month.into(), third];
            return self.dated([first_digits, 0, third_digits], [before, after], weekday);
        }
        let (second, second_digits) = self.field()?;
        let after = self.separator()?;
        let (third, third_digits) = self.field()?;
        // With a space between them, numbers that may be anything are a date by their year.
        let is_plain = matches!(before.text(), "-" | "/" | "." | ". ");
        let has_year = first_digits == 4 || third_digits == 4;
        if second_digits == 4 || before != after || !(is_plain || has_year) {
            return None;
        }
        self.shaped.fields = [first, second, third];
        self.dated([first_digits, second_digits, third_digits], [before, after], weekday)
    }

    /// Eight digits before a time: year, month and day.
    fn compact(&mut self, weekday: Option<Separator>) -> Option<()> {
        let digits = self.rest.first_chunk::<8>()?;
        if !digits.iter().all(u8::is_ascii_digit)
            || !matches!(self.rest.get(8), Some(b'T' | b't' | b' ' | b'_' | b'-' | b':'))
        {
            return None;
        }
        let number = |range: std::ops::Range<usize>| {
            digits[range].iter().fold(0, |n, byte| n * 10 + u16::from(byte - b'0'))
        };
        self.shaped.fields = [number(0..4), number(4..6), number(6..8)];
        self.rest = &self.rest[8..];
        self.dated([4, 2, 2], [Separator::default(); 2], weekday)
    }

    /// A date that starts with the name of a month.
    fn date_of_month(&mut self, weekday: Option<Separator>) -> Option<()> {
        let (word, month) = self.name(Named::Month)?;
        let before = self.separator()?;
        let (day, day_digits) = self.field()?;
        self.shaped.month_name = word;
        let back = *self;
        let after = self.separator()?;
        let field = self.field();
        // Two digits and a colon are a time: the year stands at the end of the value.
        let (year, year_digits, late_year) = match field {
            Some((year, digits)) if self.rest.first() != Some(&b':') => (year, digits, false),
            _ => {
                *self = back;
                (0, 4, true)
            }
        };
        self.shaped.fields = [month.into(), day, year];
        let after = if late_year { Separator::default() } else { after };
        self.dated([0, day_digits, year_digits], [before, after], weekday)?;
        if let Some(date) = &mut self.shaped.shape.date {
            date.late_year = late_year;
        }
        Some(())
    }

    fn dated(
        &mut self,
        digits: [u8; 3],
        between: [Separator; 2],
        weekday: Option<Separator>,
    ) -> Option<()> {
        self.shaped.shape.date = Some(DateShape {
            digits,
            between,
            weekday,
            behind: Separator::default(),
            late_year: false,
        });
        Some(())
    }

    fn time(&mut self) -> Option<()> {
        let has_date = self.shaped.shape.date.is_some();
        let run = self.rest.iter().take(7).take_while(|byte| byte.is_ascii_digit()).count();
        let two = |at: usize| {
            let [a, b] = self.rest.get(at..at + 2)? else { return None };
            (a.is_ascii_digit() && b.is_ascii_digit())
                .then(|| u32::from(a - b'0') * 10 + u32::from(b - b'0'))
        };
        let mut time = TimeShape {
            hour_digits: 2,
            between: Separator::default(),
            words: [Separator::default(); 3],
            seconds: false,
            fraction: None,
            half: None,
        };
        let has_words =
            (1..=2).contains(&run) && self.rest.get(run).is_some_and(|byte| *byte >= 0x80);
        let (mut hour, minute, mut second) = match (run, self.rest.get(run)) {
            _ if has_words => {
                let (found, shape) = self.time_with_words()?;
                time = shape;
                found
            }
            (4, _) if has_date => {
                let found = (two(0)?, two(2)?, 0);
                self.rest = &self.rest[4..];
                found
            }
            (6, _) if has_date => {
                let found = (two(0)?, two(2)?, two(4)?);
                time.seconds = true;
                self.rest = &self.rest[6..];
                found
            }
            (1 | 2, Some(mark @ (b':' | b'.'))) if *mark == b':' || has_date && run == 2 => {
                let hour = if run == 2 { two(0)? } else { u32::from(self.rest[0] - b'0') };
                time.hour_digits = run as u8;
                time.between = Separator::of(&[*mark]);
                let minute = two(run + 1)?;
                let mut end = run + 3;
                let mut second = 0;
                if self.rest.get(end) == Some(mark) {
                    second = two(end + 1)?;
                    time.seconds = true;
                    end += 3;
                }
                self.rest = &self.rest[end..];
                (hour, minute, second)
            }
            _ => return None,
        };
        if time.seconds
            && let [mark @ (b'.' | b','), after @ ..] = self.rest
        {
            let digits = after.iter().take(10).take_while(|byte| byte.is_ascii_digit()).count();
            if digits == 0 || digits > 9 {
                return None;
            }
            let number = after[..digits].iter().fold(0, |n, byte| n * 10 + i64::from(byte - b'0'));
            self.shaped.nanos = number * 10i64.pow(9 - digits as u32);
            self.shaped.fraction_digits = digits as u8;
            time.fraction = Some(*mark);
            self.rest = &after[digits..];
        }
        if let Some((separator, is_afternoon)) = self.half() {
            if !(1..=12).contains(&hour) {
                return None;
            }
            time.half = Some(separator);
            hour = hour % 12 + 12 * u32::from(is_afternoon);
        }
        if hour > 23 || minute > 59 || second > 59 {
            second = 60;
        }
        self.shaped.nanos += i64::from(hour * 3600 + minute * 60 + second) * 1_000_000_000;
        self.shaped.shape.time = Some(time);
        (second < 60).then_some(())
    }

    /// AM or PM, with a space before it or none.
    fn half(&mut self) -> Option<(Separator, bool)> {
        let (separator, rest) = match self.rest {
            [b' ', rest @ ..] => (Separator::of(b" "), rest),
            rest => (Separator::default(), rest),
        };
        let (letter, rest) = match rest {
            [a @ (b'a' | b'A' | b'p' | b'P'), b'm' | b'M', rest @ ..] => (a, rest),
            [a @ (b'a' | b'A' | b'p' | b'P'), b'.', b'm' | b'M', b'.', rest @ ..] => (a, rest),
            _ => return None,
        };
        if rest.first().is_some_and(u8::is_ascii_alphanumeric) {
            return None;
        }
        self.rest = rest;
        Some((separator, letter.eq_ignore_ascii_case(&b'p')))
    }

    fn zone(&mut self) -> Option<()> {
        if self.rest.is_empty() {
            return Some(());
        }
        let late_year = self.shaped.shape.date?.late_year;
        let (space, rest) = match self.rest {
            [b' ', rest @ ..] => (true, rest),
            rest => (false, rest),
        };
        let (letters, seconds, length) = match rest {
            [b'Z', ..] => (0, 0, 1),
            [b'+' | b'-', ..] => {
                let read = |letters| {
                    let (seconds, length) = OffsetForm::new(letters, false).read(rest)?;
                    Some((letters, seconds, length))
                };
                let run = rest[1..].iter().take_while(|byte| byte.is_ascii_digit()).count();
                match (run, rest.get(3)) {
                    (2, Some(b':')) => read(3)?,
                    (4, _) => read(2)?,
                    (2, _) => read(1)?,
                    _ => return None,
                }
            }
            [b'A'..=b'Z', ..] => {
                let name = letters(rest);
                let (_, seconds) = ZONE_NAMES.iter().find(|(known, _)| known.as_bytes() == name)?;
                (ZoneShape::NAME, *seconds, name.len())
            }
            _ if late_year => return Some(()),
            _ => return None,
        };
        if seconds.abs() > super::offsets::MOST_OFFSET {
            return None;
        }
        self.shaped.shape.zone = Some(ZoneShape { space, letters });
        self.shaped.offset = seconds;
        self.rest = &rest[length..];
        Some(())
    }

    /// The year of a date whose year stands behind its time.
    fn late_year(&mut self) -> Option<()> {
        if !self.shaped.shape.date.is_some_and(|date| date.late_year) {
            return Some(());
        }
        let separator = self.separator()?;
        let (year, 4) = self.field()? else { return None };
        self.shaped.fields[2] = year;
        if let Some(date) = &mut self.shaped.shape.date {
            date.between[1] = separator;
        }
        Some(())
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Moment, Pattern, ReadOptions, Wording, days_from_civil};
    use super::*;

    /// The pattern of a value in an order, as if the column held that value alone.
    fn pattern(shaped: &Shaped<'_>, order: Order) -> String {
        let shape = shaped.shape;
        shape.pattern(
            order,
            &Wording {
                loose: shape.is_short(),
                fraction_digits: shaped.fraction_digits,
                zone_letters: shape.zone.map_or(0, |zone| zone.letters),
                long_month: shaped.month_name.len() > 3,
                long_weekday: shaped.weekday.is_some_and(|(name, _)| name.len() > 3),
            },
        )
    }

    #[test]
    fn shapes_and_the_patterns_that_read_them() {
        for (value, order, want) in [
            ("2024-03-01", Order::Ymd, "yyyy-MM-dd"),
            ("03/31/24", Order::Mdy, "MM/dd/yy"),
            ("31.03.2024", Order::Dmy, "dd.MM.yyyy"),
            ("3/1/2024", Order::Mdy, "M/d/yyyy"),
            ("31 03 2024", Order::Dmy, "dd MM yyyy"),
            ("1. 3. 2024", Order::Dmy, "d. M. yyyy"),
            ("2024-03-01T10:20:30Z", Order::Ymd, "yyyy-MM-dd'T'HH:mm:ssX"),
            ("2024-03-01 10:20:30.1234567 +01:00", Order::Ymd, "yyyy-MM-dd HH:mm:ss.SSSSSSS XXX"),
            ("01.03.2024 9:05", Order::Dmy, "d.M.yyyy H:mm"),
            ("01.03.2024 09.05", Order::Dmy, "dd.MM.yyyy HH.mm"),
            ("23:59:59", Order::Ymd, "HH:mm:ss"),
            ("11:59 pm", Order::Ymd, "hh:mm a"),
            ("2024-03-01T10:20:30+0100", Order::Ymd, "yyyy-MM-dd'T'HH:mm:ssXX"),
            ("20240301T102030Z", Order::Ymd, "yyyyMMdd'T'HHmmssX"),
            ("20240301 1020", Order::Ymd, "yyyyMMdd HHmm"),
            ("2024-03-01-10.20.30", Order::Ymd, "yyyy-MM-dd-HH.mm.ss"),
            ("3/1/2024 3:04:05 PM", Order::Mdy, "M/d/yyyy h:mm:ss a"),
            ("05-Jan-19", Order::Dmy, "dd-MMM-yy"),
            ("5 January, 2019", Order::Dmy, "d MMMM, yyyy"),
            ("Jan 5, 2019 10:20", Order::Mdy, "MMM d, yyyy H:mm"),
            ("Sept. 15, 2019", Order::Mdy, "MMMM dd, yyyy"),
            ("2019-Jan-05", Order::Ymd, "yyyy-MMM-dd"),
            ("01.Mär.2024", Order::Dmy, "dd.MMMM.yyyy"),
            ("Fri, 01 Mar 2024 10:20:30 +0000", Order::Dmy, "EEE, dd MMM yyyy HH:mm:ss XX"),
            ("Friday, 1 March 2024", Order::Dmy, "EEEE, d MMMM yyyy"),
            ("Fri Mar  1 10:20:30 2024", Order::Mdy, "EEE MMM  d H:mm:ss yyyy"),
            ("Fri Mar 01 10:20:30 CET 2024", Order::Mdy, "EEE MMM dd HH:mm:ss z yyyy"),
            ("2024-03-01 10:20 CEST", Order::Ymd, "yyyy-MM-dd HH:mm z"),
            ("2024年3月1日", Order::Ymd, "yyyy年M月d日"),
            ("2024年03月01日 10:20", Order::Ymd, "yyyy年MM月dd日 HH:mm"),
            ("2024年3月1日9時20分30秒", Order::Ymd, "yyyy年M月d日H時mm分ss秒"),
            ("2024년 3월 1일", Order::Ymd, "yyyy년 M월 d일"),
            ("2024년 03월 01일 10시 20분", Order::Ymd, "yyyy년 MM월 dd일 HH시 mm분"),
            ("10时20分", Order::Ymd, "HH时mm分"),
            ("20240301:1020", Order::Ymd, "yyyyMMdd:HHmm"),
            ("01/Mar/2024:10:20:30 +0000", Order::Dmy, "dd/MMM/yyyy:HH:mm:ss XX"),
            ("2024-03-01t10:20:30Z", Order::Ymd, "yyyy-MM-dd't'HH:mm:ssX"),
            ("01.03.2024 um 10:20", Order::Dmy, "dd.MM.yyyy' um 'HH:mm"),
            ("Mar 1, 2024 at 10:20 PM", Order::Mdy, "MMM d, yyyy' at 'h:mm a"),
        ] {
            let shaped = read_shape(value.as_bytes()).unwrap_or_else(|| panic!("{value}"));
            let found = pattern(&shaped, order);
            if found != want {
                // Names that are not three letters long are told apart by language elsewhere.
                assert_eq!(found.replace("MMMM", "MMM"), want.replace("MMMM", "MMM"), "{value}");
            }
            // What the shape makes of it is what the pattern makes of it.
            let compiled = Pattern::compile_in(
                &found.replace("MMMM", "MMM"),
                if value.contains('ä') { "de" } else { "en" },
            );
            let compiled = compiled.unwrap_or_else(|error| panic!("{found}: {}", error.message));
            if value.contains("uary") || value.contains("March") {
                continue;
            }
            let (year, month, day) = match shaped.shape.date {
                Some(_) => shaped.date(order, 1969).unwrap(),
                None => (1970, 1, 1),
            };
            let moment = Moment {
                days: days_from_civil(year, month, day),
                nanos: shaped.nanos,
                offset: shaped.shape.zone.map(|_| shaped.offset),
            };
            assert_eq!(
                compiled.read(value.as_bytes(), &ReadOptions::default()),
                Ok(moment),
                "{value}"
            );
        }
    }

    #[test]
    fn what_is_no_date() {
        for value in [
            "",
            "2024",
            "2024-03",
            "20240301",
            "1.2.3",
            "192.168.1.1",
            "2024-03-01x",
            "2024-03-01T",
            "24:00",
            "12:60",
            "2024/03-01",
            "1-2-3",
            "123/45/678",
            "10:20+01:00",
            "1:2",
            "2024-03-01 10:20:30.",
            "2 crates",
            "Bike, 2 crates",
            "March 5",
            "may 2024",
            "13:20 pm",
            "Jan 5 19 20",
            "2024-03-01 10:20 IST",
            "2024-03-01 10:20:30 +19:00",
            "Fri 10:20",
            "1 2 3",
            "00 12 34 56",
            "01 02 03",
        ] {
            assert_eq!(read_shape(value.as_bytes()), None, "{value}");
        }
    }

    proptest::proptest! {
        /// Whatever it is given, looking ends, and what it finds is as long as the value.
        #[test]
        fn any_value_is_answered(bytes in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..70), text in "(Fri|März|Sept\\.?|[0-9]{1,4})[-/. ,T:0-9A-Za-zäé+]{0,30}") {
            for value in [&bytes[..], text.as_bytes()] {
                if let Some(shaped) = read_shape(value) {
                    let found = pattern(&shaped, Order::ALL.into_iter().find(|o| shaped.shape.allows(*o)).unwrap_or(Order::Ymd));
                    proptest::prop_assert!(Pattern::compile(&found).is_ok(), "{} {:?}", found, value);
                }
            }
        }
    }

    #[test]
    fn two_digit_years_fall_in_the_hundred_years_from_the_pivot() {
        for (value, pivot, year) in [
            ("01/01/69", 1969, 1969),
            ("01/01/68", 1969, 2068),
            ("01/01/24", 1900, 1924),
            ("01/01/99", 2000, 2099),
        ] {
            let shaped = read_shape(value.as_bytes()).unwrap();
            assert_eq!(shaped.date(Order::Mdy, pivot), Some((year, 1, 1)), "{value} from {pivot}");
        }
    }

    #[test]
    fn days_that_do_not_exist_are_no_dates() {
        let date = |value: &str, order| read_shape(value.as_bytes()).unwrap().date(order, 1969);
        assert_eq!(date("31.06.2024", Order::Dmy), None);
        assert_eq!(date("29.02.2023", Order::Dmy), None);
        assert_eq!(date("29.02.2024", Order::Dmy), Some((2024, 2, 29)));
        assert_eq!(date("13/01/2024", Order::Mdy), None);
        assert_eq!(date("0000-01-01", Order::Ymd), None);
        assert_eq!(date("Fri 03/01/24", Order::Mdy), Some((2024, 3, 1)));
        assert_eq!(date("Fri 03/01/24", Order::Dmy), None, "3 January 2024 was a Wednesday");
    }
}
