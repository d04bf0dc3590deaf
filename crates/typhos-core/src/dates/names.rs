//! Names of months, weekdays and halves of a day, in every language there is data for.
//!
//! The data is that of the Unicode CLDR, as the `icu_datetime` package has it. A name is read in any
//! letter case and, where it is an abbreviation, with its trailing point or without. Both ways in which a
//! language writes a name are read: within a date (`5. März`) and alone (`März 2024`).

use std::collections::HashMap;
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

use icu_calendar::{Date, Gregorian};
use icu_datetime::input::{DateTime, Time};
use icu_datetime::pattern::{
    DateTimePattern, DayPeriodNameLength, FixedCalendarDateTimeNames, MonthNameLength,
    WeekdayNameLength,
};
use icu_locale_core::Locale;
use writeable::TryWriteable;

/// What is named.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Named {
    /// Months, from 1.
    Month,
    /// Days of the week, from 1 for Monday.
    Weekday,
    /// AM, which is 0, and PM, which is 1.
    Half,
}

/// How long a name is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Form {
    /// Abbreviated.
    Short,
    /// Written out.
    Long,
    /// Either.
    Any,
}

/// The names of one kind in one language.
#[derive(Debug, PartialEq, Eq)]
pub struct Names {
    /// In small letters, without a trailing point, longer ones first; and what each stands for.
    entries: Vec<(Box<str>, u8)>,
    /// By the lowest five bits of a letter of ASCII, which of the first entries start with it, a bit each.
    of_letter: [u64; 32],
}

/// Entries that are told by their first letter.
const INDEXED: usize = u64::BITS as usize;

impl Names {
    fn new(entries: Vec<(Box<str>, u8)>) -> Names {
        let mut of_letter = [0; 32];
        for (at, (name, _)) in entries.iter().enumerate().take(INDEXED) {
            of_letter[usize::from(name.as_bytes()[0] & 0x1f)] |= 1 << at;
        }
        Names { entries, of_letter }
    }

    /// The name that stands at the start of `value`: what it stands for, and how many bytes it has.
    #[inline]
    pub fn read(&self, value: &[u8]) -> Option<(u8, usize)> {
        let read = |(name, number): &(Box<str>, u8)| Some((*number, folded(value, name)?));
        let first = value.first().filter(|first| first.is_ascii_alphabetic());
        // Letters beyond ASCII have other cases that may be of it.
        let Some(first) = first else { return self.entries.iter().find_map(read) };
        let mut may_be = self.of_letter[usize::from(first & 0x1f)];
        while may_be != 0 {
            let found = read(&self.entries[may_be.trailing_zeros() as usize]);
            if found.is_some() {
                return found;
            }
            may_be &= may_be - 1;
        }
        self.entries.get(INDEXED..)?.iter().find_map(read)
    }

    /// All of them, with what they stand for.
    pub fn iter(&self) -> impl Iterator<Item = (&str, u8)> {
        self.entries.iter().map(|(name, number)| (&**name, *number))
    }
}

/// Bytes at the start of `value` that are `name` in any letter case; `name` is in small letters.
#[inline]
fn folded(value: &[u8], name: &str) -> Option<usize> {
    if name.is_ascii() {
        let same = value.get(..name.len())?.eq_ignore_ascii_case(name.as_bytes());
        return same.then_some(name.len());
    }
    // A letter and its other case differ in length now and then, so that bytes alone do not tell.
    let longest = value.len().min(4 * name.len());
    let text = match std::str::from_utf8(&value[..longest]) {
        Ok(text) => text,
        Err(error) => std::str::from_utf8(&value[..error.valid_up_to()]).ok()?,
    };
    let mut wanted = name.chars();
    for (at, letter) in text.char_indices() {
        if wanted.as_str().is_empty() {
            return Some(at);
        }
        for small in letter.to_lowercase() {
            if wanted.next() != Some(small) {
                return None;
            }
        }
    }
    wanted.as_str().is_empty().then_some(text.len())
}

/// The language of names where none is said.
pub const DEFAULT_LOCALE: &str = "en";

/// Halves of a day are written like this everywhere, whatever the language has for them.
const HALVES: [(&str, u8); 4] = [("am", 0), ("pm", 1), ("a.m", 0), ("p.m", 1)];

/// The names of a language, as a BCP 47 tag (`de`, `nb`, `pt-BR`).
///
/// # Errors
/// A sentence about a tag that is none, or a language that there are no names for.
pub fn names(locale: &str, named: Named, form: Form) -> Result<Arc<Names>, String> {
    type Known = Mutex<HashMap<(String, Named, Form), Arc<Names>>>;
    static KNOWN: LazyLock<Known> = LazyLock::new(Known::default);
    let key = (locale.to_owned(), named, form);
    let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(names) = known.get(&key) {
        return Ok(Arc::clone(names));
    }
    let names = Arc::new(load(locale, named, form)?);
    known.insert(key, Arc::clone(&names));
    Ok(names)
}

fn load(locale: &str, named: Named, form: Form) -> Result<Names, String> {
    let shown = locale.escape_debug();
    let tag: Locale = locale.parse().map_err(|_| {
        format!("'{shown}' is not a language tag; write for example de, nb or pt-BR")
    })?;
    let none = || format!("there are no names of months and weekdays for '{shown}'");
    let empty = || FixedCalendarDateTimeNames::<Gregorian>::try_new(tag.clone().into());
    let wants = |asked: Form| form == asked || form == Form::Any;
    // Each set of names by itself: those of two lengths cannot be held together.
    let mut sets = Vec::new();
    match named {
        Named::Month => {
            use MonthNameLength::{Abbreviated, StandaloneAbbreviated, StandaloneWide, Wide};
            for (form, pattern, length) in [
                (Form::Short, "MMM", Abbreviated),
                (Form::Short, "LLL", StandaloneAbbreviated),
                (Form::Long, "MMMM", Wide),
                (Form::Long, "LLLL", StandaloneWide),
            ] {
                if !wants(form) {
                    continue;
                }
                let mut names = empty().map_err(|_| none())?;
                if names.include_month_names(length).is_ok() {
                    sets.push((pattern, names));
                }
            }
        }
        Named::Weekday => {
            use WeekdayNameLength::{Abbreviated, StandaloneAbbreviated, StandaloneWide, Wide};
            for (form, pattern, length) in [
                (Form::Short, "EEE", Abbreviated),
                (Form::Short, "ccc", StandaloneAbbreviated),
                (Form::Long, "EEEE", Wide),
                (Form::Long, "cccc", StandaloneWide),
            ] {
                if !wants(form) {
                    continue;
                }
                let mut names = empty().map_err(|_| none())?;
                if names.include_weekday_names(length).is_ok() {
                    sets.push((pattern, names));
                }
            }
        }
        Named::Half => {
            let mut names = empty().map_err(|_| none())?;
            if names.include_day_period_names(DayPeriodNameLength::Abbreviated).is_ok() {
                sets.push(("a", names));
            }
        }
    }
    let (first, last) = match named {
        Named::Month => (1, 12),
        Named::Weekday => (1, 7),
        Named::Half => (0, 1),
    };
    let mut entries: Vec<(Box<str>, u8)> = Vec::new();
    for (pattern, names) in sets {
        let pattern: DateTimePattern = pattern.parse().map_err(|_| none())?;
        for number in first..=last {
            // The first of January 2024 was a Monday.
            let (month, day, hour) = match named {
                Named::Month => (number, 1, 0),
                Named::Weekday => (1, number, 0),
                Named::Half => (1, 1, 12 * number),
            };
            let date = Date::try_new_gregorian(2024, month, day).map_err(|_| none())?;
            let time = Time::try_new(hour, 0, 0, 0).map_err(|_| none())?;
            let formatted = names.with_pattern_unchecked(&pattern).format(&DateTime { date, time });
            let name = formatted.try_write_to_string().map_err(|_| none())?.to_lowercase();
            entries.push((name.trim_end_matches('.').into(), number));
        }
    }
    match named {
        // Two abbreviations of one month are both at home in English.
        Named::Month if locale.starts_with("en") && wants(Form::Short) => {
            entries.push(("sept".into(), 9));
        }
        Named::Half => entries.extend(HALVES.map(|(name, half)| (name.into(), half))),
        _ => {}
    }
    entries.sort_by(|(a, x), (b, y)| b.len().cmp(&a.len()).then(a.cmp(b)).then(x.cmp(y)));
    entries.dedup();
    // What the root of all languages has in place of names.
    let is_root = entries.iter().any(|(name, _)| &**name == "m01" || name.is_empty());
    if entries.is_empty() || is_root { Err(none()) } else { Ok(Names::new(entries)) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(locale: &str, named: Named, form: Form, value: &str) -> Option<(u8, usize)> {
        names(locale, named, form).unwrap().read(value.as_bytes())
    }

    #[test]
    fn names_are_read_in_any_case_and_as_far_as_they_go() {
        for (locale, named, form, value, want) in [
            ("en", Named::Month, Form::Short, "Jan 5", Some((1, 3))),
            ("en", Named::Month, Form::Short, "SEP", Some((9, 3))),
            ("en", Named::Month, Form::Short, "sept.", Some((9, 4))),
            ("en", Named::Month, Form::Short, "Janus", Some((1, 3))),
            ("en", Named::Month, Form::Long, "Jan", None),
            ("en", Named::Month, Form::Any, "december", Some((12, 8))),
            ("de", Named::Month, Form::Long, "MÄRZ 2024", Some((3, 5))),
            ("de", Named::Month, Form::Short, "Mrz", None),
            ("nb", Named::Month, Form::Short, "okt.", Some((10, 3))),
            ("fr", Named::Month, Form::Long, "Août", Some((8, 5))),
            ("cs", Named::Month, Form::Long, "března", Some((3, 7))),
            ("cs", Named::Month, Form::Long, "březen", Some((3, 7))),
            ("el", Named::Month, Form::Long, "ΙΟΥΝΊΟΥ", Some((6, 14))),
            ("de", Named::Weekday, Form::Short, "Mi., 5.", Some((3, 2))),
            ("en", Named::Weekday, Form::Long, "sunday", Some((7, 6))),
            ("en", Named::Half, Form::Short, "p.m.", Some((1, 3))),
            ("en", Named::Half, Form::Short, "AM", Some((0, 2))),
        ] {
            assert_eq!(read(locale, named, form, value), want, "{locale} {value}");
        }
    }

    /// Told by their first letter, the same names are found as by trying all.
    #[test]
    fn names_are_those_that_a_look_at_all_finds() {
        for locale in ["en", "de", "nb", "fr", "cs", "tr", "el", "vi", "zh", "ja", "lt", "is"] {
            for named in [Named::Month, Named::Weekday, Named::Half] {
                let Ok(names) = names(locale, named, Form::Any) else { continue };
                let others = ["", "x", "5", "\u{212a}x", "ma", "İ"].map(str::to_owned);
                let known = names.iter().flat_map(|(name, _)| {
                    let first: String = name.chars().take(1).collect();
                    [name.to_owned(), name.to_uppercase(), format!("{name} 5"), first]
                });
                for value in known.collect::<Vec<_>>().iter().chain(&others) {
                    let all = names.entries.iter().find_map(|(name, number)| {
                        Some((*number, folded(value.as_bytes(), name)?))
                    });
                    assert_eq!(names.read(value.as_bytes()), all, "{locale} {value}");
                }
            }
        }
    }

    #[test]
    fn languages_that_are_none_are_said_to_be() {
        for locale in ["x", "", "de_", "zxx", "Deutsch!"] {
            assert!(names(locale, Named::Month, Form::Short).is_err(), "{locale}");
        }
    }
}
