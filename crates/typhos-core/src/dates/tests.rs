//! Tests of the language as a whole.

use proptest::prelude::*;

use super::pattern::Program;
use super::quick::Quick;
use super::step::StepKind;
use super::symbols::Field;
use super::*;

fn read(pattern: &str, value: &str) -> Result<String, String> {
    let pattern = Pattern::compile(pattern).unwrap_or_else(|error| panic!("{pattern}: {error:?}"));
    let misread = |misread: Misread| misread.describe(value.as_bytes(), &pattern);
    let moment = pattern.read(value.as_bytes(), &ReadOptions::default()).map_err(misread)?;
    let offset = moment.offset.map_or(String::new(), |offset| format!(" {offset:+}"));
    Ok(format!("{}T{}{offset}", format_days(moment.days), format_nanos(moment.nanos)))
}

#[test]
fn values_that_are_read() {
    for (pattern, value, want) in [
        ("yyyy-MM-dd", "2024-03-01", "2024-03-01T00:00:00"),
        ("MM/dd/yy", "12/31/99", "1999-12-31T00:00:00"),
        ("MM/dd/yy", "12/31/68", "2068-12-31T00:00:00"),
        ("d.M.yyyy H:mm", "1.3.2024 9:05", "2024-03-01T09:05:00"),
        ("d.M.yyyy", "11.12.2024", "2024-12-11T00:00:00"),
        ("yyyyMMdd", "20240229", "2024-02-29T00:00:00"),
        (
            "yyyy-MM-dd'T'HH:mm:ss.SSSSSSSXXX",
            "2024-03-01T10:20:30.5+01:30",
            "2024-03-01T10:20:30.500 +5400",
        ),
        ("yyyy-MM-dd'T'HH:mm:ssX", "2024-03-01T10:20:30Z", "2024-03-01T10:20:30 +0"),
        ("yyyy-MM-dd HH:mm:ss XX", "2024-03-01 10:20:30 -0230", "2024-03-01T10:20:30 -9000"),
        ("HH:mm", "23:59", "1970-01-01T23:59:00"),
        ("EEEE, d MMMM yyyy", "friday, 1 MARCH 2024", "2024-03-01T00:00:00"),
        ("d MMM. yyyy", "1 Sept. 2024", "2024-09-01T00:00:00"),
        ("d MMM yyyy", "1 Sept. 2024", "2024-09-01T00:00:00"),
        ("dd.MMM.yyyy", "01.Sep.2024", "2024-09-01T00:00:00"),
        ("dMMyyyy", "1032024", "2024-03-01T00:00:00"),
        ("dMMyyyy", "31032024", "2024-03-31T00:00:00"),
        ("yyyy", "2024", "2024-01-01T00:00:00"),
        ("MMM yyyy", "Mar 2024", "2024-03-01T00:00:00"),
        ("QQQ yyyy", "Q3 2024", "2024-07-01T00:00:00"),
        ("YYYY-'W'ww", "2024-W01", "2024-01-01T00:00:00"),
        ("YYYY-'W'ww-e", "2020-W53-5", "2021-01-01T00:00:00"),
        ("M/d/yyyy h:mm a", "3/1/2024 12:05 AM", "2024-03-01T00:05:00"),
        ("M/d/yyyy h:mm a", "3/1/2024 12:05 p.m.", "2024-03-01T12:05:00"),
        ("yyyy-MM-dd kk:mm", "2024-03-01 24:05", "2024-03-01T00:05:00"),
        ("yyyy-MM-dd HH:mm z", "2024-03-01 10:00 cest", "2024-03-01T10:00:00 +7200"),
        ("yyyy-MM-dd HH:mm VV", "2024-07-01 10:00 Europe/Oslo", "2024-07-01T10:00:00 +7200"),
        ("%d.%m.%Y %H:%M", "1.03.2024 9:05", "2024-03-01T09:05:00"),
        ("%a %b %e %T %Y", "Fri March 1 10:20:30 2024", "2024-03-01T10:20:30"),
        ("%Y-%m-%dT%H:%M:%S.%f%z", "2024-03-01T10:20:30.25Z", "2024-03-01T10:20:30.250 +0"),
        ("%G-W%V-%u 100%%", "2024-W09-5 100%", "2024-03-01T00:00:00"),
        ("'den' dd. MM. yyyy 'kl.' HH''mm", "den 01. 03. 2024 kl. 10'20", "2024-03-01T10:20:00"),
    ] {
        assert_eq!(read(pattern, value).as_deref(), Ok(want), "{pattern} {value}");
    }
}

#[test]
fn values_that_are_not() {
    for (pattern, value, want) in [
        ("yyyy-MM-dd", "2024-13-01", "month 13 does not exist"),
        ("dd.MM.yyyy", "31.06.2024", "day 31 in a month of 30"),
        ("dd.MM.yyyy", "29.02.2023", "day 29 in a month of 28"),
        ("MM/dd/yy", "12/31/2024", "ends after 'yy', 2 bytes left: '24'"),
        (
            "yyyy-MM-dd",
            "2024-3-01",
            "has '3' at character 6 where a month of 2 digits (MM) is expected",
        ),
        ("yyyy-MM-dd", "2024-03", "ends where '-' is expected"),
        (
            "yyyy-MM-dd HH:mm",
            "2024-03-01 24:00",
            "hour 24 does not exist; only 'kk' reads it, as 0 of the same day",
        ),
        (
            "HH:mm:ss",
            "23:59:60",
            "second 60 does not exist: leap seconds are not on the calendar of any target",
        ),
        ("EEE, d MMM yyyy", "Mon, 1 Mar 2024", "2024-03-01 was a Friday"),
        (
            "d MMM yyyy",
            "1 Mrz 2024",
            "has 'M' at character 3 where the name of a month (MMM: jan, feb, mar, …) is expected",
        ),
        ("yyyy-DDD", "2023-366", "day 366 in the year 2023, which has 365"),
        ("YYYY-'W'ww-e", "2023-W53-1", "week 53 in the year 2023, which has 52"),
        ("HH:mm a", "14:30 AM", "hour 14 is in the other half of the day"),
        ("hh:mm a", "14:30 PM", "hour 14 does not exist"),
        (
            "yyyy-MM-dd HH:mm z",
            "2024-03-01 10:00 IST",
            "'IST' means several zones (+05:30 in India, +01:00 in Ireland, +02:00 in Israel); write an offset instead",
        ),
        ("yyyy-MM-dd HH:mm z", "2024-03-01 10:00 QQT", "there is no time zone 'QQT'"),
        (
            "yyyy-MM-dd HH:mm VV",
            "2024-03-31 02:30 Europe/Oslo",
            "the clocks of the zone were turned on over this time",
        ),
        ("'på' yyyy", "p 2024", "has ' ' at character 2 where 'på ' is expected"),
        (
            "yyyy-MM-dd'T'HH:mmXXX",
            "2024-03-01T10:00+0100",
            "has '+' at character 17 where an offset such as +01:00 or Z is expected",
        ),
        ("yyyy-MM-dd", "", "ends where a year of 4 digits (yyyy) is expected"),
        ("yyyy-MM-dd", "0000-01-01", "year 0 does not exist"),
    ] {
        assert_eq!(read(pattern, value), Err(want.to_owned()), "{pattern} {value}");
    }
}

proptest::proptest! {
    /// The fast way agrees with the long one on whatever it is given.
    #[test]
    fn both_ways_read_the_same(
        at in 0usize..8, fraction in "[0-9]{0,10}", offset in "Z|[+-][0-2][0-9]:?[0-7][0-9]", year in 0u32..10_000, parts in proptest::array::uniform5(0u32..70), spoil in proptest::option::of((0usize..20, "[0-9/x ]")),
    ) {
        let pattern = ["yyyy-MM-dd", "MM/dd/yy", "yyyyMMdd", "yyyy-MM-dd HH:mm:ss", "dd.MM.yyyy'T'HHmm", "HH:mm", "yyyy-MM-dd'T'HH:mm:ss.SSSSSSSXXX", "yyyy-MM-dd HH:mm:ss,SSS XX"][at];
        let [month, day, hour, minute, second] = parts;
        let (year4, year2) = (format!("{year:04}"), format!("{:02}", year % 100));
        let two = |n: u32| format!("{n:02}");
        let mut value = pattern.replace('\'', "").replace("yyyy", &year4).replace("yy", &year2).replace("MM", &two(month % 14))
            .replace("SSSSSSS", &fraction).replace("SSS", fraction.get(..3).unwrap_or(&fraction)).replace("XXX", &offset).replace("XX", &offset)
            .replace("dd", &two(day % 34)).replace("HH", &two(hour % 26)).replace("mm", &two(minute)).replace("ss", &two(second));
        if let Some((place, with)) = spoil {
            let place = place % value.len();
            value.replace_range(place..=place, &with);
        }
        let pattern = Pattern::compile(pattern).unwrap();
        let Program::Steps { steps, calendar, quick: Some(Quick::Fixed(fixed)) } = &pattern.program else { panic!("{pattern}") };
        let options = ReadOptions::default();
        let long = super::read::read_steps(value.as_bytes(), steps, *calendar, &options);
        let short = fixed.read(value.as_bytes(), steps, options.pivot, pattern.has_date());
        // The short way says only that it reads a value, never why not.
        proptest::prop_assert_eq!(short, long.ok(), "{}", value);
        proptest::prop_assert_eq!(pattern.read_if(value.as_bytes(), &options), long.ok(), "{}", value);
        proptest::prop_assert_eq!(pattern.read(value.as_bytes(), &options), long, "{}", value);
    }

    /// What is read from the first byte to the last is what the steps read, and is nearly all that they read.
    #[test]
    fn loose_parts_read_the_same(
        at in 0usize..9, locale in 0usize..3, year in 0u32..10_100, parts in proptest::array::uniform5(0u32..64), zeros in proptest::array::uniform5(any::<bool>()),
        half in 0usize..6, fraction in "[0-9]{0,4}", offset in "Z|[+-][01][0-9]:?[0-5][0-9]", spoil in proptest::option::of((0usize..24, "[0-9/x .:]")),
    ) {
        let source = ["M/d/yyyy", "M/d/yy h:mm a", "d.M.y H:mm:ss", "yyyy-M-d'T'H:m:s.SSSXXX", "h:mm:ssa", "H:m", "hh:mm a, d/MM/yyyy", "M/d/yyyy HH:mm", "yyyy/MM/dd h:mm:ss.SSS a"][at];
        let locale = ["en", "de", "fi"][locale];
        let [month, day, hour, minute, second] = std::array::from_fn(|at| {
            let number = parts[at] % [14, 33, 26, 62, 62][at];
            if zeros[at] { format!("{number:02}") } else { number.to_string() }
        });
        let half = ["AM", "PM", "am", "pM", "a.m.", "ap."][half];
        let mut value = String::new();
        let mut letters = source.chars().filter(|letter| *letter != '\'').peekable();
        while let Some(letter) = letters.next() {
            let mut run = 1;
            while letters.next_if_eq(&letter).is_some() {
                run += 1;
            }
            let text = match (letter, run) {
                ('y', 2) => format!("{:02}", year % 100),
                ('y', _) => format!("{year:0run$}"),
                ('M', _) => month.clone(),
                ('d', _) => day.clone(),
                ('h' | 'H', _) => hour.clone(),
                ('m', _) => minute.clone(),
                ('s', _) => second.clone(),
                ('S', _) => fraction.clone(),
                ('X', _) => offset.clone(),
                ('a', _) => half.to_owned(),
                (other, _) => other.to_string(),
            };
            value += &text;
        }
        if let Some((place, with)) = spoil && !value.is_empty() {
            let place = place % value.len();
            value.replace_range(place..=place, &with);
        }
        let pattern = Pattern::compile_in(source, locale).unwrap();
        let Program::Steps { steps, calendar, quick } = &pattern.program else { panic!("{pattern}") };
        let options = ReadOptions::default();
        let long = super::read::read_steps(value.as_bytes(), steps, *calendar, &options);
        let Some(Quick::Loose(loose)) = quick else {
            // Other halves than AM and PM are read the long way.
            proptest::prop_assert!(source.contains('a') && locale == "fi", "{} {}", source, locale);
            return Ok(());
        };
        let short = loose.read(value.as_bytes(), steps, options.pivot, pattern.has_date());
        proptest::prop_assert!(short.is_none() || short == long.ok(), "{}: {:?} for {:?}", value, short, long);
        let is_usual = !source.contains('a') || half.len() == 2 && !value.contains("M.") && !value.contains("m.");
        proptest::prop_assert!(!is_usual || short == long.ok(), "{}: {:?} for {:?}", value, short, long);
        proptest::prop_assert_eq!(pattern.read_if(value.as_bytes(), &options), long.ok(), "{}", value);
        proptest::prop_assert_eq!(pattern.read(value.as_bytes(), &options), long, "{}", value);
    }

    /// What a pattern writes, it reads, whatever symbols it has.
    #[test]
    fn what_is_written_is_read(
        day in 0usize..13, time in 0usize..9, fraction in 0usize..10, zone in 0usize..14, glue in 0usize..4,
        days in -719_162i32..2_932_890, nanos in 0i64..DAY_NANOS, offset in -72i32..72, locale in 0usize..8, upper: bool,
    ) {
        let locale = ["en", "de", "nb", "fr", "cs", "el", "pt-BR", "fi"][locale];
        let days_by = ["", "yyyy-MM-dd", "dd/MM/yy", "d.M.y", "uuuu MMM d", "EEEE, d MMMM yyyy", "E dLLyy", "yyyyDDD", "D 'of' y", "YYYY-'W'ww-e", "w/Y e", "QQQ yyyy", "yyyyMMdd"];
        let times_by = ["", "HH:mm:ss", "h:mm:ss a", "KK.mm.ss a", "kk'h'mm", "HHmmss", "H", "ahhmm", "k:m:s"];
        let zones_by = ["", "X", "XX", "XXX", "x", "xx", "xxx", "Z", "ZZ", "ZZZ", "ZZZZZ", "z", " X", " xxx"];
        let (day, time, zone) = (days_by[day], times_by[time], zones_by[zone]);
        let seconds = time.contains('s');
        let fraction = if seconds && !time.ends_with('a') { "SSSSSSSSS".get(..fraction).unwrap_or("") } else { "" };
        let mark = if fraction.is_empty() { "" } else { "." };
        let zone = if time.is_empty() || day.is_empty() { "" } else { zone };
        let glue = if day.is_empty() || time.is_empty() { "" } else { ["'T'", " ", ", ", " 'kl.' "][glue] };
        let source = format!("{day}{glue}{time}{mark}{fraction}{zone}");
        // Two-digit years reach a hundred years, quarters and the others their first moment.
        let days = if day.contains("yy") && !day.contains("yyyy") { days.rem_euclid(36_524) - 365 } else { days };
        let days = match day {
            "QQQ yyyy" => { let (year, month, _) = civil_from_days(days); days_from_civil(year, (month - 1) / 3 * 3 + 1, 1) }
            "" => 0,
            _ => days,
        };
        let unit = match (time, fraction.len()) {
            ("", _) => DAY_NANOS,
            ("H", _) => 3_600_000_000_000,
            _ if !seconds => 60_000_000_000,
            (_, digits) => 10i64.pow(9 - digits as u32),
        };
        let offset = (!zone.is_empty()).then_some(match zone { "z" => 3600, _ => offset * 900 });
        let moment = Moment { days, nanos: nanos / unit * unit, offset };
        let Ok(pattern) = Pattern::compile_in(&source, locale) else {
            prop_assert!(day.is_empty() && time.is_empty(), "{}", source);
            return Ok(());
        };
        let text = written(&pattern, &moment);
        let text = if upper && !zone.contains("'") { text.to_uppercase().replace(" KL.", " kl.").replace(" OF ", " of ").replace("H", if time.contains("'h'") { "h" } else { "H" }) } else { text };
        // Upper case of a name may be another one: of the final sigma, and of a few more.
        prop_assume!(!upper || locale != "el");
        prop_assert_eq!(pattern.read(text.as_bytes(), &ReadOptions::default()).map_err(|m| m.describe(text.as_bytes(), &pattern)), Ok(moment), "{} {} {}", source, locale, text);
    }

    /// Any pattern is one or is told what is wrong with it, and reads whatever it is given or not.
    #[test]
    fn any_pattern_and_value_are_answered(source in "[yMdHhmsSaEQwYeXVzD%'. :/-]{0,12}|%[A-Za-z] ?%[a-zA-Z]", value in "[0-9A-Za-z:. /+-]{0,20}|\\PC{0,12}") {
        match Pattern::compile(&source) {
            Ok(pattern) => {
                let read = pattern.read(value.as_bytes(), &ReadOptions::default());
                if let Err(misread) = read {
                    prop_assert!(!misread.describe(value.as_bytes(), &pattern).is_empty());
                }
            }
            Err(error) => prop_assert!(error.at.0 <= error.at.1 && error.at.1 <= source.len() && source.get(error.at.0..error.at.1).is_some()),
        }
    }
}

/// A moment as a pattern has it: the other way round, for tests.
fn written(pattern: &Pattern, moment: &Moment) -> String {
    let Program::Steps { steps, .. } = &pattern.program else { panic!("{pattern} counts") };
    let (year, month, day) = civil_from_days(moment.days);
    let of_year = moment.days - days_from_civil(year, 1, 1) + 1;
    let week_day = weekday(moment.days) as i32;
    let (week_year, week) = match (of_year - week_day + 10) / 7 {
        0 => (year - 1, weeks_of_year(year - 1) as i32),
        53 if weeks_of_year(year) == 52 => (year + 1, 1),
        week => (year, week),
    };
    let seconds = moment.nanos / 1_000_000_000;
    let hour = (seconds / 3600) as i32;
    let offset = moment.offset.unwrap_or(0);
    let mut text = String::new();
    for step in steps {
        match &step.kind {
            StepKind::Literal(literal) => text.push_str(literal),
            StepKind::Fraction { most } => {
                text.push_str(
                    &format!("{:09}", moment.nanos % 1_000_000_000)[..usize::from(*most)],
                );
            }
            StepKind::ZoneName => text.push_str("CET"),
            StepKind::ZoneId => text.push_str("UTC"),
            StepKind::Offset(form) => {
                let (sign, hours, minutes) = (
                    if offset < 0 { '-' } else { '+' },
                    offset.abs() / 3600,
                    offset.abs() / 60 % 60,
                );
                text.push_str(&match form.letters {
                    1 if minutes == 0 => format!("{sign}{hours:02}"),
                    3 => format!("{sign}{hours:02}:{minutes:02}"),
                    _ => format!("{sign}{hours:02}{minutes:02}"),
                });
            }
            StepKind::Number { field, least, .. } => {
                let number = number_of(
                    *field,
                    (year, month, day),
                    (week_year, week, week_day),
                    of_year,
                    hour,
                    seconds,
                );
                text.push_str(&format!("{number:0width$}", width = usize::from(*least)));
            }
            StepKind::Name { field, names, .. } => {
                let number = number_of(
                    *field,
                    (year, month, day),
                    (week_year, week, week_day),
                    of_year,
                    hour,
                    seconds,
                );
                let (name, _) =
                    names.iter().find(|(_, known)| i32::from(*known) == number).unwrap();
                text.push_str(name);
            }
        }
    }
    text
}

fn number_of(
    field: Field,
    (year, month, day): (i32, u32, u32),
    (week_year, week, weekday): (i32, i32, i32),
    of_year: i32,
    hour: i32,
    seconds: i64,
) -> i32 {
    let (month, day) = (month as i32, day as i32);
    match field {
        Field::Year => year,
        Field::ShortYear => year % 100,
        Field::WeekYear => week_year,
        Field::ShortWeekYear => week_year % 100,
        Field::Quarter => (month - 1) / 3 + 1,
        Field::Month => month,
        Field::Day => day,
        Field::DayOfYear => of_year,
        Field::Week => week,
        Field::Weekday => weekday,
        Field::Half => hour / 12,
        Field::Hour => hour,
        Field::HourTo24 => {
            if hour == 0 {
                24
            } else {
                hour
            }
        }
        Field::HourTo12 => {
            if hour % 12 == 0 {
                12
            } else {
                hour % 12
            }
        }
        Field::HourTo11 => hour % 12,
        Field::Minute => (seconds / 60 % 60) as i32,
        Field::Second => (seconds % 60) as i32,
    }
}

#[test]
fn patterns_that_are_wrong() {
    for (pattern, at, want) in [
        ("", (0, 0), "the pattern is empty"),
        ("%Y-%m-%q", (6, 8), "'%q' is not read: there is no such conversion"),
        ("%d.%m.", (0, 6), "the year is missing"),
        ("%Y %", (3, 4), "a letter belongs behind '%'"),
        ("hh:mm", (0, 2), "needs 'a' for AM or PM; did you mean HH"),
        ("yyyy-'W'ww", (0, 4), "write YYYY"),
        ("dd.MM.yyyy D", (11, 12), "the day is set twice"),
        ("EEEE HH:mm", (0, 4), "a weekday without the day"),
        ("yyyy-MM-dd HH:mm VVV", (17, 20), "VV for the name of a zone"),
        ("epoch", (0, 5), "the words that count are epoch-s"),
        ("yyyy MMMMM", (5, 10), "one letter would mean several months"),
        ("yyyy-mm-dd", (5, 7), "did you mean 'MM'"),
        ("YYYY-MM-dd", (0, 4), "write yyyy or yy for the year"),
        ("yyyy-MM-DD", (8, 10), "a day of the month d or dd"),
        ("yyyy-MM-ddTHH:mm", (10, 11), "'T' in quotes"),
        ("MM/dd", (0, 5), "the year is missing"),
        ("yyyy-MM-dd mm", (11, 13), "a minute without the hour"),
        ("yyyy-MM-dd HH:MM", (14, 16), "minutes are 'mm'"),
        ("'abc", (0, 4), "never closed"),
        ("-/-", (0, 3), "neither a date nor an hour"),
        ("HH:mm:ss.SSSSSSSSSS", (9, 19), "at most nine S"),
    ] {
        let error = Pattern::compile(pattern).unwrap_err();
        assert_eq!(error.at, at, "{pattern}: {}", error.message);
        assert!(error.message.contains(want), "{pattern}: {}", error.message);
    }
}

#[test]
fn posix_patterns_are_shown_as_symbols() {
    for (source, symbols) in [
        ("%d.%m.%Y", "d.M.yyyy"),
        ("%Y-%m-%dT%H:%M:%SZ", "yyyy-M-d'T'H:m:s'Z'"),
        ("%e de %B de %Y", "d 'de' MMMM 'de' yyyy"),
        ("%I o'clock %p %F", "h 'o''clock' a yyyy-M-d"),
    ] {
        let pattern = Pattern::compile(source).unwrap();
        assert_eq!(pattern.in_symbols(), Some(symbols));
        assert!(Pattern::compile(symbols).is_ok(), "{symbols}");
    }
}

#[test]
fn every_symbol_reads_its_example() {
    for symbol in SYMBOLS {
        let read = |pattern: &str, value: &str| {
            Pattern::compile(pattern)
                .is_ok_and(|p| p.read(value.as_bytes(), &ReadOptions::default()).is_ok())
        };
        let (s, e) = (symbol.letters, symbol.example);
        let around = [
            (s.to_owned(), e.to_owned()),
            (format!("yyyy {s}"), format!("2024 {e}")),
            (format!("yyyy-MM {s}"), format!("2024-03 {e}")),
            (format!("yyyy-MM-dd {s}"), format!("2024-03-01 {e}")),
            (format!("YYYY ww {s}"), format!("2024 09 {e}")),
            (format!("YYYY {s}"), format!("2024 {e}")),
            (format!("{s} ww"), format!("{e} 09")),
            (format!("{s} MM"), format!("{e} 03")),
            (format!("{s} a"), format!("{e} PM")),
            (format!("hh {s}"), format!("05 {e}")),
            (format!("HH:{s}"), format!("05:{e}")),
            (format!("HH:mm:{s}"), format!("05:07:{e}")),
            (format!("HH:mm:ss.{s}"), format!("05:07:09.{e}")),
            (format!("yyyy-MM-dd HH {s}"), format!("2024-03-01 05 {e}")),
        ];
        assert!(around.iter().any(|(pattern, value)| read(pattern, value)), "{s}: {e}");
    }
}
