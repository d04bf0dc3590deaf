//! The time of day in a value that is looked at, and its zone.

use super::look::Look;
use super::offsets::{OffsetForm, ZONE_NAMES, letters};
use super::shape::{Separator, TimeShape, ZoneShape};

const TIME_WORDS: [[&str; 3]; 3] = [["時", "时", "시"], ["分", "分", "분"], ["秒", "秒", "초"]];

/// Whether a word of ASCII, of which a date knows no other, stands in one beside the names of months: between the day and the
/// time, behind the hour, or for a zone.
pub fn is_word_of_time(word: &[u8]) -> bool {
    const WORDS: [&[u8]; 8] = [b"t", b"z", b"at", b"um", b"am", b"pm", b"a", b"p"];
    WORDS.iter().any(|known| word.eq_ignore_ascii_case(known))
        || ZONE_NAMES.iter().any(|(known, _)| known.as_bytes() == word)
}

impl<'v> Look<'v> {
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

    pub(super) fn time(&mut self) -> Option<()> {
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

    pub(super) fn zone(&mut self) -> Option<()> {
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
}
