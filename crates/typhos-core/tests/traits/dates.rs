//! Dates, times, and lengths of time.

use super::{Trait, column, text};

pub fn traits() -> Vec<Trait> {
    vec![
        column("ISO 8601", &["2024-03-01", "2024-12-31"], "date yyyy-MM-dd"),
        column("day first, proven", &["31/01/2024", "01/02/2024"], "date dd/MM/yyyy"),
        column("month first, proven", &["01/31/2024", "01/02/2024"], "date MM/dd/yyyy"),
        column("either order", &["03/04/2024", "01/02/2024"], "text order?"),
        column("no order reads all", &["31/01/2024", "01/31/2024"], "text"),
        column("days that do not exist", &["31.06.2024", "30.06.2024"], "text"),
        column(
            "with words, Chinese and Japanese",
            &["2024年3月1日", "2024年12月31日"],
            "date yyyy年M月d日",
        ),
        column(
            "with words and zeros",
            &["2024年03月01日", "2024年12月31日"],
            "date yyyy年MM月dd日",
        ),
        column(
            "with words, Korean",
            &["2024년 3월 1일", "2024년 12월 31일"],
            "date yyyy년 M월 d일",
        ),
        column(
            "with words and a time",
            &["2024年3月1日 9:05", "2024年12月31日 23:59"],
            "timestamp(s) yyyy年M月d日 H:mm",
        ),
        column(
            "with words for the time too",
            &["2024年03月01日10時20分30秒", "2024年12月31日23時59分59秒"],
            "timestamp(s) yyyy年MM月dd日HH時mm分ss秒",
        ),
        column("no date: a word in the wrong place", &["2024年3日1月", "2024年12日31月"], "text"),
        column("no date: an era", &["令和6年3月1日", "平成31年4月30日"], "text"),
        column(
            "digits, a colon, digits",
            &["20240301:1020", "20241231:2359"],
            "timestamp(s) yyyyMMdd:HHmm",
        ),
        column(
            "as web servers log",
            &["01/Mar/2024:10:20:30 +0000", "31/Dec/2024:23:59:59 +0100"],
            "timestamp(s, utc) dd/MMM/yyyy:HH:mm:ss XX",
        ),
        column("a small t", &["2024-03-01t10:20:30z", "2024-03-02t10:20:30z"], "text"),
        column(
            "a small t and a Z",
            &["2024-03-01t10:20:30Z"],
            "timestamp(s, utc) yyyy-MM-dd't'HH:mm:ssX",
        ),
        column(
            "joined by a word",
            &["Mar 1, 2024 at 10:20 PM", "Mar 12, 2024 at 9:05 AM"],
            "timestamp(s) MMM d, yyyy' at 'h:mm a",
        ),
        column(
            "days in eight digits",
            &["20240301", "20240302", "20240303", "20240304", "20240305"],
            "date yyyyMMdd",
        ),
        column("too few days in eight digits", &["20240301", "20240302"], "uint32"),
        column("years", &["2019", "2020", "2021"], "uint16"),
        column("times of day", &["07:10:00", "23:59:59"], "time(s) HH:mm:ss"),
        column("times beyond 24 hours", &["07:10:00", "25:51:00", "23:59:59"], "duration(s)"),
        column("lengths of ISO 8601", &["PT36H", "P1DT2H", "PT0.5S"], "duration(ms)"),
        column("lengths in months", &["P1M", "P2M", "P3M"], "text"),
        column("lengths in days", &["0 days 00:05:00", "1 day, 02:03:04"], "duration(s)"),
        column(
            "fractions of a second",
            &["2024-03-01 10:00:00.123", "2024-03-01 10:00:01"],
            "timestamp(ms) yyyy-MM-dd HH:mm:ss + yyyy-MM-dd HH:mm:ss.SSS",
        ),
        column("offsets in some", &["2024-03-01 10:00", "2024-03-01 10:00Z"], "text"),
        column("names of months", &["5 Jan 2019", "12 Dec 2020"], "date d MMM yyyy"),
        column(
            "names of months, German",
            &["5. März 2019", "12. Dezember 2020"],
            "date d. MMMM yyyy",
        ),
        column(
            "week days that are wrong",
            &["Friday, 2 March 2024", "Friday, 8 March 2024"],
            "text",
        ),
        text(
            "another column proves the order",
            "a,b\n03/04/24,03/31/24\n05/06/24,05/30/24\n",
            "comma | a: date MM/dd/yy | b: date MM/dd/yy",
        ),
    ]
}
