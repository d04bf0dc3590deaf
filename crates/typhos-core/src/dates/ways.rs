//! All the ways to read one value as a date, and what would tell them apart.

use super::calendar::{days_from_civil, days_in_month, format_days, weekday_name};
use super::look::read_shape;
use super::moment::Moment;
use super::names::{DEFAULT_LOCALE, Form, Named};
use super::pattern::Pattern;
use super::read::ReadOptions;
use super::shape::{DateOrder, Shape, Shaped, Wording};
use super::words::{form_of, language_of};

/// One way to read a value.
#[derive(Debug, Clone, PartialEq)]
pub struct Way {
    /// The pattern that does.
    pub pattern: Pattern,
    /// The language of its names, where it has names that are not English.
    pub locale: Option<String>,
    /// The order of the fields, where others are possible by their looks.
    pub order: Option<DateOrder>,
    /// What it makes of the value.
    pub moment: Moment,
}

/// All ways to read a value, the likelier ones first: by its shape, and, where it is a number, as one that
/// counts.
pub fn ways(value: &str) -> Vec<Way> {
    let options = ReadOptions::default();
    let bytes = value.as_bytes();
    let mut ways = Vec::new();
    let mut add = |source: &str, locale: Option<&str>, order| {
        let Ok(pattern) = Pattern::compile_in(source, locale.unwrap_or(DEFAULT_LOCALE)) else {
            return;
        };
        if let Ok(moment) = pattern.read(bytes, &options) {
            let locale = locale.filter(|locale| *locale != DEFAULT_LOCALE).map(str::to_owned);
            ways.push(Way { pattern, locale, order, moment });
        }
    };
    if let Some(shaped) = read_shape(bytes) {
        let small = |name: &[u8]| String::from_utf8_lossy(name).to_lowercase();
        let month = (!shaped.month_name.is_empty()).then(|| small(shaped.month_name));
        let weekday = shaped.weekday.map(|(name, _)| small(name));
        let Some(locale) =
            language_of(month.as_deref().into_iter(), weekday.as_deref().into_iter())
        else {
            return ways;
        };
        let is_long = |named, name: &Option<String>| {
            name.as_ref().is_some_and(|name| form_of(locale, named, name) == Form::Long)
        };
        let wording = Wording {
            long_month: is_long(Named::Month, &month),
            long_weekday: is_long(Named::Weekday, &weekday),
            ..wording(&shaped)
        };
        let orders: Vec<_> = match shaped.shape.date {
            None => vec![DateOrder::Ymd],
            Some(_) => ORDERS.into_iter().filter(|order| shaped.shape.allows(*order)).collect(),
        };
        for order in &orders {
            let told = (orders.len() > 1).then_some(*order);
            add(&shaped.shape.pattern(*order, &wording), Some(locale), told);
        }
    }
    let (whole, fraction) = value.split_once('.').unwrap_or((value, ""));
    let digits = whole.strip_prefix('-').unwrap_or(whole);
    let is_number = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    if !digits.is_empty() && is_number(digits) && is_number(fraction) {
        let counts: &[&str] = match (digits.len(), fraction.is_empty()) {
            (8, true) => &["yyyyMMdd", "ddMMyyyy", "MMddyyyy"],
            (6, true) => &["yyMMdd", "ddMMyy", "MMddyy"],
            (14, true) => &["yyyyMMddHHmmss"],
            (5, _) => &["sheet-1900", "sheet-1904", "epoch-days"],
            (9 | 10, _) => &["epoch-s"],
            (12 | 13, _) => &["epoch-ms"],
            (15 | 16, _) => &["epoch-us"],
            (18 | 19, true) => &["epoch-ns"],
            _ => &[],
        };
        counts.iter().for_each(|source| add(source, None, None));
    }
    ways
}

/// Why a value that looks like a date is none: the day that does not exist. `None` where it looks like
/// something else, or is a date.
pub fn no_such_day(value: &str) -> Option<String> {
    // Eight digits are looked at as they are before a time.
    let is_compact = value.len() == 8 && value.bytes().all(|byte| byte.is_ascii_digit());
    let text = if is_compact { format!("{value}T0000") } else { value.to_owned() };
    let shaped = read_shape(text.as_bytes())?;
    let date = shaped.shape.date?;
    let orders: Vec<DateOrder> =
        ORDERS.into_iter().filter(|order| shaped.shape.allows(*order)).collect();
    let pivot = ReadOptions::default().pivot;
    if orders.iter().any(|order| shaped.date(*order, pivot).is_some()) {
        return None;
    }
    let why = |order: &DateOrder| {
        let [year, month, day] = order.places().map(|at| u32::from(shaped.fields[at]));
        let short = date.digits[order.places()[0]] == 2;
        let year = year as i32;
        let full = if short { pivot + (year - pivot).rem_euclid(100) } else { year };
        let what = if !(1..=12).contains(&month) {
            format!("there is no month {month}")
        } else if full < 1 {
            "there is no year 0".to_owned()
        } else if day < 1 || day > days_in_month(full, month) {
            format!("{full}-{month:02} has {} days, and no day {day}", days_in_month(full, month))
        } else {
            format!("{} is a {}", format_days(days_from_civil(full, month, day)), {
                weekday_name(days_from_civil(full, month, day))
            })
        };
        if orders.len() > 1 { format!("{}: {what}", order.words()) } else { what }
    };
    Some(orders.iter().map(why).collect::<Vec<_>>().join("; "))
}

/// As people write them most.
const ORDERS: [DateOrder; 3] = [DateOrder::Dmy, DateOrder::Mdy, DateOrder::Ymd];

fn wording(shaped: &Shaped<'_>) -> Wording {
    Wording {
        loose: shaped.shape.is_short(),
        fraction_digits: shaped.fraction_digits,
        zone_letters: shaped.shape.zone.map_or(0, |zone| zone.letters),
        long_month: false,
        long_weekday: false,
    }
}

/// For each of the orders in which a value can be read, another one that looks the same and can be read in
/// that order only. Empty where the value is read in one order.
pub fn deciders(value: &str, orders: &[DateOrder]) -> Vec<(DateOrder, String)> {
    let Some(shaped) = read_shape(value.as_bytes()) else { return Vec::new() };
    let Some(date) = shaped.shape.date.filter(|date| date.weekday.is_none()) else {
        return Vec::new();
    };
    let day = Shape { date: Some(date), time: None, zone: None, ..Shape::default() };
    let wording = Wording { loose: false, ..wording(&shaped) };
    let length = date.digits.iter().map(|digits| usize::from(*digits)).sum::<usize>()
        + date.between.iter().map(|between| between.text().len()).sum::<usize>();
    let decider = |order: &DateOrder| {
        // A day above twelve and a year above 31 can stand in their own places only.
        let pattern = day.pattern(*order, &wording);
        let text = pattern.replace("yyyy", "1999").replace("yy", "99");
        let text = text.replace("MM", "12").replace("dd", "25") + value.get(length..).unwrap_or("");
        let other = read_shape(text.as_bytes())?;
        let reads = |order: &DateOrder| other.date(*order, ReadOptions::default().pivot).is_some();
        let is_decided = orders.iter().all(|other| reads(other) == (other == order));
        is_decided.then_some((*order, text))
    };
    if orders.len() < 2 { Vec::new() } else { orders.iter().filter_map(decider).collect() }
}

#[cfg(test)]
mod tests {
    use super::super::{format_days, format_nanos};
    use super::*;

    fn told(value: &str) -> Vec<String> {
        let tell = |way: Way| {
            let locale = way.locale.map_or(String::new(), |locale| format!(" [{locale}]"));
            let time = if way.pattern.has_time() {
                format!(" {}", format_nanos(way.moment.nanos))
            } else {
                String::new()
            };
            format!("{}{locale} {}{time}", way.pattern, format_days(way.moment.days))
        };
        ways(value).into_iter().map(tell).collect()
    }

    #[test]
    fn every_way_to_read_a_value() {
        for (value, want) in [
            (
                "03/04/24",
                &["dd/MM/yy 2024-04-03", "MM/dd/yy 2024-03-04", "yy/MM/dd 2003-04-24"][..],
            ),
            ("31.12.1999 23:59", &["dd.MM.yyyy HH:mm 1999-12-31 23:59:00"]),
            ("5. März 2024", &["d. MMM yyyy [de] 2024-03-05"]),
            ("Friday, 1 March 2024", &["EEEE, d MMMM yyyy 2024-03-01"]),
            ("20240301", &["yyyyMMdd 2024-03-01"]),
            ("10:20", &["HH:mm 1970-01-01 10:20:00"]),
            ("1709287200", &["epoch-s 2024-03-01 10:00:00"]),
            (
                "45352",
                &[
                    "sheet-1900 2024-03-01 00:00:00",
                    "sheet-1904 2028-03-02 00:00:00",
                    "epoch-days 2094-03-03",
                ],
            ),
            ("crate", &[]),
            ("31.06.2024", &[]),
        ] {
            assert_eq!(told(value), want, "{value}");
        }
    }

    #[test]
    fn days_that_do_not_exist_are_said() {
        for (value, want) in [
            ("2024-02-30", Some("2024-02 has 29 days, and no day 30")),
            ("20230229", Some("2023-02 has 28 days, and no day 29")),
            (
                "31.06.2024",
                Some(
                    "day first: 2024-06 has 30 days, and no day 31; month first: there is no month 31",
                ),
            ),
            ("Friday, 2 March 2024", Some("2024-03-02 is a Saturday")),
            ("2024-00-10", Some("there is no month 0")),
            ("2024-02-29", None),
            ("crate", None),
            ("25:10", None),
            ("12345678", Some("there is no month 56")),
        ] {
            assert_eq!(no_such_day(value).as_deref(), want, "{value}");
        }
    }

    #[test]
    fn values_that_would_decide() {
        let all = [DateOrder::Dmy, DateOrder::Mdy, DateOrder::Ymd];
        let want = ["25/12/99 10:20", "12/25/99 10:20", "99/12/25 10:20"];
        let found = deciders("03/04/05 10:20", &all);
        assert_eq!(found.iter().map(|(_, text)| text.as_str()).collect::<Vec<_>>(), want);
        let found = deciders("3/4/2024", &[DateOrder::Dmy, DateOrder::Mdy]);
        assert_eq!(found[1], (DateOrder::Mdy, "12/25/1999".into()));
        assert_eq!(deciders("31/12/2024", &[DateOrder::Dmy]), []);
    }
}
