//! Shapes of values, and the patterns that read them.

use super::*;
use super::{Moment, Pattern, ReadOptions, Wording, days_from_civil};

/// The pattern of a value in an order, as if the column held that value alone.
fn pattern(shaped: &Shaped<'_>, order: DateOrder) -> String {
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
        ("2024-03-01", DateOrder::Ymd, "yyyy-MM-dd"),
        ("03/31/24", DateOrder::Mdy, "MM/dd/yy"),
        ("31.03.2024", DateOrder::Dmy, "dd.MM.yyyy"),
        ("3/1/2024", DateOrder::Mdy, "M/d/yyyy"),
        ("31 03 2024", DateOrder::Dmy, "dd MM yyyy"),
        ("1. 3. 2024", DateOrder::Dmy, "d. M. yyyy"),
        ("2024-03-01T10:20:30Z", DateOrder::Ymd, "yyyy-MM-dd'T'HH:mm:ssX"),
        ("2024-03-01 10:20:30.1234567 +01:00", DateOrder::Ymd, "yyyy-MM-dd HH:mm:ss.SSSSSSS XXX"),
        ("01.03.2024 9:05", DateOrder::Dmy, "d.M.yyyy H:mm"),
        ("01.03.2024 09.05", DateOrder::Dmy, "dd.MM.yyyy HH.mm"),
        ("23:59:59", DateOrder::Ymd, "HH:mm:ss"),
        ("11:59 pm", DateOrder::Ymd, "hh:mm a"),
        ("2024-03-01T10:20:30+0100", DateOrder::Ymd, "yyyy-MM-dd'T'HH:mm:ssXX"),
        ("20240301T102030Z", DateOrder::Ymd, "yyyyMMdd'T'HHmmssX"),
        ("20240301 1020", DateOrder::Ymd, "yyyyMMdd HHmm"),
        ("2024-03-01-10.20.30", DateOrder::Ymd, "yyyy-MM-dd-HH.mm.ss"),
        ("3/1/2024 3:04:05 PM", DateOrder::Mdy, "M/d/yyyy h:mm:ss a"),
        ("05-Jan-19", DateOrder::Dmy, "dd-MMM-yy"),
        ("5 January, 2019", DateOrder::Dmy, "d MMMM, yyyy"),
        ("Jan 5, 2019 10:20", DateOrder::Mdy, "MMM d, yyyy H:mm"),
        ("Sept. 15, 2019", DateOrder::Mdy, "MMMM dd, yyyy"),
        ("2019-Jan-05", DateOrder::Ymd, "yyyy-MMM-dd"),
        ("01.Mär.2024", DateOrder::Dmy, "dd.MMMM.yyyy"),
        ("Fri, 01 Mar 2024 10:20:30 +0000", DateOrder::Dmy, "EEE, dd MMM yyyy HH:mm:ss XX"),
        ("Friday, 1 March 2024", DateOrder::Dmy, "EEEE, d MMMM yyyy"),
        ("Fri Mar  1 10:20:30 2024", DateOrder::Mdy, "EEE MMM  d H:mm:ss yyyy"),
        ("Fri Mar 01 10:20:30 CET 2024", DateOrder::Mdy, "EEE MMM dd HH:mm:ss z yyyy"),
        ("2024-03-01 10:20 CEST", DateOrder::Ymd, "yyyy-MM-dd HH:mm z"),
        ("2024年3月1日", DateOrder::Ymd, "yyyy年M月d日"),
        ("2024年03月01日 10:20", DateOrder::Ymd, "yyyy年MM月dd日 HH:mm"),
        ("2024年3月1日9時20分30秒", DateOrder::Ymd, "yyyy年M月d日H時mm分ss秒"),
        ("2024년 3월 1일", DateOrder::Ymd, "yyyy년 M월 d일"),
        ("2024년 03월 01일 10시 20분", DateOrder::Ymd, "yyyy년 MM월 dd일 HH시 mm분"),
        ("10时20分", DateOrder::Ymd, "HH时mm分"),
        ("20240301:1020", DateOrder::Ymd, "yyyyMMdd:HHmm"),
        ("01/Mar/2024:10:20:30 +0000", DateOrder::Dmy, "dd/MMM/yyyy:HH:mm:ss XX"),
        ("2024-03-01t10:20:30Z", DateOrder::Ymd, "yyyy-MM-dd't'HH:mm:ssX"),
        ("01.03.2024 um 10:20", DateOrder::Dmy, "dd.MM.yyyy' um 'HH:mm"),
        ("Mar 1, 2024 at 10:20 PM", DateOrder::Mdy, "MMM d, yyyy' at 'h:mm a"),
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
        assert_eq!(compiled.read(value.as_bytes(), &ReadOptions::default()), Ok(moment), "{value}");
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
                let found = pattern(&shaped, DateOrder::ALL.into_iter().find(|o| shaped.shape.allows(*o)).unwrap_or(DateOrder::Ymd));
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
        assert_eq!(shaped.date(DateOrder::Mdy, pivot), Some((year, 1, 1)), "{value} from {pivot}");
    }
}

#[test]
fn days_that_do_not_exist_are_no_dates() {
    let date = |value: &str, order| read_shape(value.as_bytes()).unwrap().date(order, 1969);
    assert_eq!(date("31.06.2024", DateOrder::Dmy), None);
    assert_eq!(date("29.02.2023", DateOrder::Dmy), None);
    assert_eq!(date("29.02.2024", DateOrder::Dmy), Some((2024, 2, 29)));
    assert_eq!(date("13/01/2024", DateOrder::Mdy), None);
    assert_eq!(date("0000-01-01", DateOrder::Ymd), None);
    assert_eq!(date("Fri 03/01/24", DateOrder::Mdy), Some((2024, 3, 1)));
    assert_eq!(date("Fri 03/01/24", DateOrder::Dmy), None, "3 January 2024 was a Wednesday");
}
