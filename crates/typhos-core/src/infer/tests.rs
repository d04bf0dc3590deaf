//! Types by the rules, on small columns written out; and the law of merging on random ones.

use super::*;
use crate::laws::{quoted, value};
use crate::run::{NoMonitor, RunOptions};
use crate::survey::{Survey, SurveyOptions};
use crate::text::{Dialect, Input};
use proptest::prelude::*;
use std::num::NonZeroUsize;

fn survey_of(text: &str, threads: usize, block_bytes: usize) -> Survey {
    let input = Input::from_bytes("t.csv", text.as_bytes().to_vec(), &Dialect::RFC_4180.into());
    let options = RunOptions { threads: NonZeroUsize::new(threads).unwrap(), block_bytes };
    Survey::take(&input, &SurveyOptions::default(), &options, &NoMonitor).unwrap()
}

fn decide_column(values: &[&str], headroom: f64) -> Decision {
    // A second column keeps blank values from being blank lines.
    let text: String =
        std::iter::once(&"c").chain(values).map(|value| format!("{value},.\n")).collect();
    let survey = survey_of(&text, 1, 1 << 20);
    decide(&survey, &Rules { headroom, ..Rules::default() }).remove(0)
}

/// What clauses say.
pub(super) fn words(clauses: &[Clause]) -> Vec<String> {
    clauses.iter().map(Clause::to_string).collect()
}

/// The range as people read it.
pub(super) fn range(decision: &Decision) -> Option<(String, String)> {
    decision.range.as_ref().map(|(low, high)| (low.to_string(), high.to_string()))
}

fn type_of(values: &[&str]) -> String {
    decide_column(values, 1.0).ty.to_string()
}

#[test]
fn types_by_the_rules() {
    for (values, want) in [
        (&["1", "2"][..], "uint8"),
        (&["255"], "uint8"),
        (&["256"], "uint16"),
        (&["-1", "127"], "int8"),
        (&["-1", "128"], "int16"),
        (&["-129"], "int16"),
        (&["65535", "0"], "uint16"),
        (&["65536", "0"], "uint32"),
        (&["4294967296"], "uint64"),
        (&["18446744073709551615"], "uint64"),
        (&["18446744073709551616"], "decimal(20,0)"),
        (&["-1", "18446744073709551615"], "decimal(20,0)"),
        (&["-9223372036854775808"], "int64"),
        (&["99999999999999999999999999999999999999"], "decimal(38,0)"),
        (&["100000000000000000000000000000000000000"], "text"),
        (&["007", "12"], "text"),
        (&["+47", "+46"], "text"),
        (&["+1", "-1"], "int8"),
        (&["1.50", "22.25"], "decimal(4,2)"),
        (&["1.50", "22"], "decimal(4,2)"),
        (&["0.50"], "decimal(2,2)"),
        (&["-0.5", "3.5"], "decimal(2,1)"),
        (&["1.5", "1.25"], "decimal(3,2)"),
        (&["12.5", "13.25", "100", "0.1", "99.99"], "decimal(5,2)"),
        (&["1.5", "1.2500001"], "float32"),
        (&["1.5", "16777217.2500001"], "float64"),
        (&["1.5", "0.12345678901234567891"], "decimal(21,20)"),
        (&["1e3", "2.5"], "float32"),
        (&["1e300"], "text"),
        (&["1e+300"], "float64"),
        (&["1.0123456789", "2.0123456789"], "float64"),
        (&["true", "FALSE"], "bool"),
        (&["y", "n", "Y"], "bool"),
        (&["y"], "text"),
        (&["yes", "true"], "text"),
        (&["1", "NA", "2"], "uint8"),
        (&["x", "NA"], "text"),
        (&["1", ""], "uint8"),
        (&["", ""], "text"),
        (&["2024-03-01"], "date"),
        (&["03/31/24", "01/01/24"], "date"),
        (&["03/04/24", "01/01/24"], "text"),
        (&["31.06.2024"], "text"),
        (&["2024-03-01 10:00"], "timestamp(s)"),
        (&["2024-03-01T10:00:00.123Z"], "timestamp(ms, utc)"),
        (&["2024-03-01T10:00:00.1234567+01:00", "2024-03-01T10:00:00Z"], "timestamp(ns, utc)"),
        (&["10:00", "23:59"], "time(s)"),
        (&["2024-03-01", "2024-03-01 10:00"], "timestamp(s)"),
        (&["2024-03-01", "10:00"], "text"),
        (&["2024-03-01 10:00", "2024-03-01 10:00Z"], "text"),
        (&["20240301", "20240302", "20240303", "20240304", "20240305"], "date"),
        (&["20240301", "20240302"], "uint32"),
        (&["20240301", "20240302", "20240303", "20240304", "20241305"], "uint32"),
        (&[" 7", "8 "], "uint8"),
        (&["192.168.1.1"], "ip"),
    ] {
        let found = type_of(values);
        let found = if found.starts_with("text(") { "text" } else { &found };
        assert_eq!(found, want, "{values:?}");
    }
    assert_eq!(type_of(&["+47", "+46"]), "text(3)", "a code has one length");
    assert_eq!(type_of(&["x", "yy"]), "text(2)", "of other texts the longest, with headroom");
    assert_eq!(decide_column(&["x", "Tårnvik"], 2.0).ty.to_string(), "text(14)");
}

#[test]
fn headroom_widens_integers_and_decimals() {
    for (value, headroom, want) in [
        ("127", 2.0, "uint8"),
        ("128", 2.0, "uint16"),
        ("128", 1.0, "uint8"),
        ("-64", 2.0, "int8"),
        ("-65", 2.0, "int16"),
        ("18446744073709551615", 2.0, "uint64"),
        ("49.99", 2.0, "decimal(4,2)"),
        ("50.00", 2.0, "decimal(5,2)"),
    ] {
        assert_eq!(
            decide_column(&[value], headroom).ty.to_string(),
            want,
            "{value} with {headroom}"
        );
    }
}

#[test]
fn reasons_name_values_and_lines() {
    let mut values = vec!["12"; 40];
    values[17] = "n/k";
    let decision = decide_column(&values, 1.0);
    assert!(
        decision.evidence[0]
            .to_string()
            .contains("would be uint8 but for 1 value: 'n/k' in line 19"),
        "{decision:?}"
    );
    assert_eq!(decision.blockers[0].count, 1);

    let decision = decide_column(&["01234", "51234"], 1.0);
    assert!(
        decision.evidence[0].to_string().contains("digits, but 1 starts with 0: '01234' in line 2"),
        "{decision:?}"
    );

    let decision = decide_column(&["01/02/24", "03/31/24"], 1.0);
    assert!(
        decision
            .evidence
            .iter()
            .any(|clause| clause.to_string() == "month first: '03/31/24' in line 3"),
        "{decision:?}"
    );
    assert_eq!(decision.patterns, [("MM/dd/yy".to_owned(), 2)]);

    let decision = decide_column(&["NA", "x"], 1.0);
    assert_eq!(words(&decision.notes), ["'NA' (1 time) is a value here, not absent"]);
    assert_eq!((decision.absent, decision.required), (0, true));

    let decision = decide_column(&["NA", "", "5"], 1.0);
    assert_eq!(decision.absent_tokens, [(String::new(), 1), ("NA".into(), 1)]);
    assert_eq!((decision.absent, decision.distinct.count, decision.required), (2, 1, false));
}

#[test]
fn infinite_values_are_counted() {
    for (values, want) in [
        (&["1.5", "inf", "2.5"][..], "1 infinite value"),
        (&["inf", "1.5", "-inf", "Infinity"], "3 infinite values"),
    ] {
        let decision = decide_column(values, 1.0);
        assert!(
            words(&decision.notes).iter().any(|note| note == want),
            "{:?}",
            words(&decision.notes)
        );
    }
}

#[test]
fn lengths_of_time_are_durations() {
    for (values, want) in [
        (&["07:10:00", "25:51:00"][..], "duration(s)"),
        (&["0:10", "-0:10"], "duration(s)"),
        (&["07:10:00.25", "25:51:00"], "duration(ms)"),
        (&["PT36H", "P1DT0.000001S"], "duration(us)"),
        (&["1 day, 02:03:04", "25:00:00", "PT1H"], "duration(s)"),
        // Times of day alone are times; with a zone or half of a day they are no lengths.
        (&["07:10:00", "23:51:00"], "time(s)"),
        (&["07:10 PM", "25:51"], "text(8)"),
        (&["P1Y", "P2M"], "text(3)"),
        (&["999999999:00:00.123456789", "25:51:00"], "text(25)"),
    ] {
        let rows: Vec<String> = values.iter().map(|value| format!("\"{value}\"")).collect();
        let refs: Vec<&str> = rows.iter().map(String::as_str).collect();
        assert_eq!(type_of(&refs), want, "{values:?}");
    }
    let decision = decide_column(&["7:10:00", "25:51:00"], 1.0);
    assert_eq!(range(&decision), Some(("7:10:00".into(), "25:51:00".into())));
    assert_eq!(decision.evidence[0].to_string(), "lengths of time, beyond the 24 hours of a day");
}

#[test]
fn what_no_type_holds_says_what_it_is() {
    for (values, want) in [
        (&["PT36H", "P1Y"][..], "lengths of time as ISO 8601 writes them: 'PT36H' in line 2"),
        (
            &["5885E9", "6001"],
            "digits, an E and digits: codes? type = \"float32\" would read them as numbers: '5885E9' in line 2",
        ),
    ] {
        let rows: Vec<String> = values.iter().map(|value| format!("\"{value}\"")).collect();
        let refs: Vec<&str> = rows.iter().map(String::as_str).collect();
        assert_eq!(decide_column(&refs, 1.0).evidence[0].to_string(), want);
    }
    let giant = "9".repeat(39);
    let found = decide_column(&[&giant, "5"], 1.0).evidence.remove(0).to_string();
    assert!(
        found.starts_with("numbers, 1 of more than 38 digits, which no number type holds"),
        "{found}"
    );
    // Nearly all of them is said too.
    let mut most = vec!["25:51:00"; 20];
    most.push("late");
    let found = decide_column(&most, 1.0).evidence.remove(0).to_string();
    assert!(found.contains("of a day but for 1 value"), "{found}");
    // Where two texts are one number and it is not a question, it is told.
    let noted = decide_column(&["5", "5.0", "2.5"], 1.0);
    assert_eq!(words(&noted.notes), ["two texts, one number: '5' in line 2 and '5.0' in line 3"]);
}

/// What a person who asks about a column is told of the type that it nearly has.
#[test]
fn why_a_reading_gives_no_type_is_said_in_words() {
    let repeated = |values: &[&str]| -> String {
        let rows: Vec<String> =
            values.iter().cycle().take(40).map(|value| format!("\"{value}\",.\n")).collect();
        format!("c,d\n{}", rows.concat())
    };
    for (values, reading, want) in [
        (
            &["1,00,000", "12,34,567", "1,000,000"][..],
            "number with a decimal point",
            "digits are grouped by threes and by twos",
        ),
        (
            &[
                "$1.5", "€2.5", "£3.5", "¥4.5", "4.5%", "kr 3.2", "₹5.1", "R$ 1.1", "CHF 1.2",
                "zł 3.3",
            ],
            "number with a decimal point",
            "many kinds of signs around the numbers",
        ),
        (&["2024-03-01", "10:30"], "date or time", "dates and times of day are mixed"),
        (
            &["Mon, 4 Mar 2024", "Tuesday, 5 Mar 2024"],
            "date or time",
            "some weekdays are abbreviated and some written out",
        ),
        (
            &["2500-01-01 00:00:00.123456789", "1066-01-01 00:00:00.123456789"],
            "date or time",
            "nanoseconds do not reach these years",
        ),
        (
            &["24-03-01", "24-03-09"],
            "date or time",
            "more than one way: patterns = [\"yy-MM-dd\"] or patterns = [\"dd-MM-yy\"]",
        ),
        (
            &["PT36H", "P1Y"],
            "length of time",
            "lengths of time, some of them in years or months, which have no fixed length",
        ),
        (
            &["P900000D", "PT0.000000001S"],
            "length of time",
            "lengths of time that no duration(ns) holds",
        ),
    ] {
        let survey = survey_of(&repeated(values), 1, 1 << 20);
        let examined = Examined::of(survey, Rules::default(), NonZeroUsize::MIN);
        let profile = examined.profile(0);
        let told = profile.readings.iter().find(|told| told.name == reading);
        let told = told.unwrap_or_else(|| panic!("{values:?}: {:?}", profile.readings));
        assert_eq!(told.ty, None, "{values:?}");
        let reason = told.reason.as_ref().map(Clause::to_string);
        assert_eq!(reason.as_deref(), Some(want), "{values:?}");
        assert!(!told.survives());
    }
}

#[test]
fn tokens_are_counted_once_with_white_space_around_and_without() {
    let found = decide_column(&["NaN", " NaN", "1.5", "1.5 ", "2.5"], 1.0);
    assert_eq!((found.absent, found.distinct.count), (2, 2), "{found:?}");
}

#[test]
fn an_ambiguous_order_is_a_question_unless_another_column_proves_it() {
    let text = "a,b\n03/04/24,x\n05/06/24,y\n";
    let survey = survey_of(text, 1, 1 << 20);
    let asked = decide(&survey, &Rules::default()).remove(0);
    let question = asked.question.expect("a question");
    assert!(question.choices.contains(&Choice::Dates(
        DateOrder::Dmy,
        vec!["dd/MM/yy".into()],
        None
    )));
    assert!(question.choices.contains(&Choice::Dates(
        DateOrder::Mdy,
        vec!["MM/dd/yy".into()],
        None
    )));
    let said = Rules { date_order: Some(DateOrder::Dmy), ..Rules::default() };
    assert_eq!(decide(&survey, &said)[0].patterns[0].0, "dd/MM/yy");

    let text = "a,b\n03/04/24,03/31/24\n05/06/24,05/30/24\n";
    let survey = survey_of(text, 1, 1 << 20);
    let decisions = decide(&survey, &Rules::default());
    assert_eq!(decisions[0].ty, Scalar::Date);
    assert!(
        words(&decisions[0].evidence).contains(&"month first, as column 'b' proves".to_owned())
    );
}

#[test]
fn dictionaries_only_where_they_are_smaller() {
    let rows = |values: &[String]| {
        let refs: Vec<&str> = values.iter().map(String::as_str).collect();
        type_of(&refs)
    };
    // Three values in sixty rows: a category. In fifty-nine: too few rows for a closed list.
    let few = |n: usize| (0..n).map(|row| format!("harbour {}", row % 3)).collect::<Vec<_>>();
    assert_eq!(rows(&few(60)), "category");
    assert_eq!(rows(&few(59)), "lowcard");
    // Seventeen values are too many for a category.
    let many: Vec<_> = (0..400).map(|row| format!("harbour {}", row % 17)).collect();
    assert_eq!(rows(&many), "lowcard");
    // Half as many values as rows is the limit.
    let half = |n: usize| {
        (0..1000).map(|row| format!("a long enough word to save {}", row % n)).collect::<Vec<_>>()
    };
    assert_eq!(rows(&half(500)), "lowcard");
    assert_eq!(rows(&half(501)), "text(30)");
    // Codes have to save 30 % of the bytes: 900 rows of two letters take 5400 as text; as codes of two
    // bytes 1800, and 6 for each value.
    let letter = |n: usize| char::from(b'a' + (n % 26) as u8);
    let words = |values: usize| {
        let word = |row: usize| [letter(row % values), letter(row % values / 26)];
        (0..900).map(|row| String::from_iter(word(row))).collect::<Vec<_>>()
    };
    assert_eq!(rows(&words(330)), "lowcard");
    assert_eq!(rows(&words(331)), "text(2)");
}

/// A column with all values distinct never becomes codes, and the figures say why.
#[test]
fn the_trap_of_small_tables_is_refused_with_figures() {
    let names: Vec<_> = (0..12).map(|row| format!("vessel {}", "x".repeat(row))).collect();
    let refs: Vec<&str> = names.iter().map(String::as_str).collect();
    let decision = decide_column(&refs, 2.0);
    assert_eq!(decision.ty.to_string(), "text(36)");
    let (text, codes) = (names.concat().len() + 4 * 12, 12 + names.concat().len() + 4 * 12);
    assert!(
        words(&decision.evidence)
            .contains(&format!("{codes} bytes as codes, {text} bytes as text")),
        "{:?}",
        decision.evidence
    );
}

#[test]
fn known_ladders_are_proposed_and_not_taken_for_granted() {
    let values: Vec<&str> = ["low", "high", "medium"].into_iter().cycle().take(90).collect();
    let decision = decide_column(&values, 2.0);
    assert_eq!((decision.ty, &decision.values[0]), (Scalar::Category, &"high".to_owned()));
    let note = "a ladder? ranked = true, values = [\"low\", \"medium\", \"high\"]";
    assert!(words(&decision.notes).contains(&note.to_owned()), "{:?}", decision.notes);
}

/// Everything a decision says, as text.
fn summary(survey: &Survey) -> String {
    let examined = Examined::of(survey.clone(), Rules::default(), NonZeroUsize::MIN);
    let decisions = &examined.decisions;
    let profiles: Vec<_> = (0..decisions.len()).map(|at| examined.profile(at)).collect();
    let (records, broken) = (survey.records, survey.broken);
    format!("{records} {broken} {:?} {decisions:#?} {profiles:#?}", survey.broken_examples)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn threads_and_blocks_change_nothing(
        kinds in proptest::collection::vec(proptest::collection::vec(value().prop_map(|value| quoted(&value)), 1..5), 3),
        picks in proptest::collection::vec((0usize..5, 0usize..5, 0usize..5), 0..200),
        block_bytes in 1usize..200, threads in 1usize..5,
    ) {
        let mut text = String::from("a,b,c\n");
        for (a, b, c) in picks {
            let row: Vec<_> = kinds.iter().zip([a, b, c]).map(|(kind, at)| kind[at % kind.len()].clone()).collect();
            text.push_str(&format!("{}\n", row.join(",")));
        }
        let whole = survey_of(&text, 1, 1 << 20);
        let split = survey_of(&text, threads, block_bytes);
        prop_assert_eq!(summary(&split), summary(&whole));
    }

    /// Integer facts against plain integers.
    #[test]
    fn integers_get_the_width_of_their_range(values in proptest::collection::vec(any::<i64>(), 1..50), shift in 0u32..63) {
        let values: Vec<i64> = values.iter().map(|value| value >> shift).collect();
        let texts: Vec<String> = values.iter().map(i64::to_string).collect();
        let refs: Vec<&str> = texts.iter().map(String::as_str).collect();
        let decision = decide_column(&refs, 1.0);
        let (low, high) = (*values.iter().min().unwrap(), *values.iter().max().unwrap());
        if decision.ty != Scalar::Date {
            let want = crate::schema::IntType::narrowest(low.into(), high.into()).unwrap();
            prop_assert_eq!(decision.ty, Scalar::Int(want));
            prop_assert_eq!(range(&decision), Some((low.to_string(), high.to_string())));
        }
        let distinct: std::collections::HashSet<_> = values.iter().collect();
        prop_assert_eq!(decision.distinct.count, distinct.len() as u64);
    }
}

#[test]
fn dates_with_names_are_read_in_one_language() {
    let patterns = |values: &[&str]| {
        let decision = decide_column(values, 1.0);
        let patterns: Vec<_> =
            decision.patterns.iter().map(|(pattern, _)| pattern.clone()).collect();
        (decision.ty.to_string(), patterns.join(" | "), decision.locale)
    };
    let told = |ty: &str, patterns: &str, locale: Option<&str>| {
        (ty.to_owned(), patterns.to_owned(), locale.map(str::to_owned))
    };
    for (values, want) in [
        (&["5 Mar 2024", "12 May 2024"][..], told("date", "d MMM yyyy", None)),
        (&["05 March 2024", "12 Apr 2024"], told("date", "dd MMM yyyy | dd MMMM yyyy", None)),
        (&["March 5 2024", "May 12 2024"], told("date", "MMMM d yyyy", None)),
        (&["5 mars 2024", "12 août 2024"], told("date", "d MMM yyyy", Some("fr"))),
        (&["5-MRT-24", "12-MEI-24"], told("date", "d-MMM-yy", Some("nl"))),
        (&["Tue 5.3.24", "Sun 12.5.24"], told("date", "EEE d.M.yy", None)),
        (
            &["2024-03-05T10:20:30Z", "2024-03-05T10:20:30+01:00"],
            told("timestamp(s, utc)", "yyyy-MM-dd'T'HH:mm:ssXXX", None),
        ),
        (
            &["2024-03-05T10:20:30+0100", "2024-03-05T10:20:30+01:00"],
            told("timestamp(s, utc)", "yyyy-MM-dd'T'HH:mm:ssXX | yyyy-MM-dd'T'HH:mm:ssXXX", None),
        ),
        (&["5 mars 2024", "12 März 2024"], told("text(12)", "", None)),
        (
            &["2024-03-05 10:20", "2024-03-06"],
            told("timestamp(s)", "yyyy-MM-dd | yyyy-MM-dd HH:mm", None),
        ),
        (&["Mon 03/04/24", "Tue 03/05/24"], told("date", "EEE MM/dd/yy", None)),
    ] {
        assert_eq!(patterns(values), want, "{values:?}");
    }
    let evidence = words(&decide_column(&["Mon 03/04/24", "Tue 03/05/24"], 1.0).evidence);
    assert!(evidence.contains(&"month first: 'Mon 03/04/24' in line 2".to_owned()), "{evidence:?}");
}

#[test]
fn years_still_to_come_are_pointed_out() {
    let survey = survey_of("a\n01/31/60\n02/14/24\n", 1, 1 << 20);
    let today = crate::dates::days_from_civil(2026, 11, 23);
    let decided = |today| decide(&survey, &Rules { today, ..Rules::default() }).remove(0);
    let notes = |today| words(&decided(today).notes);
    assert!(
        notes(Some(today))[0].contains("reach 2060-01-31, which is still to come; pivot = 1927")
    );
    assert_eq!(notes(None), Vec::<String>::new());
    let later = crate::dates::days_from_civil(2060, 2, 1);
    assert_eq!(notes(Some(later)), Vec::<String>::new());
}

/// A day written in one of several ways.
fn dated((style, year, month, day): (usize, i32, u32, u32)) -> String {
    let names = [
        "Jan",
        "February",
        "Mar",
        "April",
        "May",
        "Jun",
        "July",
        "Aug",
        "September",
        "Oct",
        "Nov",
        "December",
    ];
    let name = names[month as usize - 1];
    match style {
        0 => format!("{year}-{month:02}-{day:02}"),
        1 => format!("{day:02}.{month:02}.{:02}", year % 100),
        2 => format!("{month}/{day}/{year}"),
        3 => format!("{day} {name} {year}"),
        4 => format!("{name} {day} {year}"),
        5 => format!("{year}-{month:02}-{day:02} 10:20"),
        6 => format!("{day:02}-{month:02}-{year} 1:05 pm"),
        7 => format!("{day:02}.{month:02}.{year}"),
        8 => format!("{year}{month:02}{day:02} 1020"),
        _ => format!("{month:02}/{day:02}/{:02}", year % 100),
    }
}

proptest::proptest! {
    /// Where several patterns are drafted, each value is read, and by all that read it alike.
    #[test]
    fn no_value_is_read_in_two_ways(
        styles in proptest::collection::vec(0usize..10, 1..4),
        picks in proptest::collection::vec((0usize..4, 1970i32..2069, 1u32..13, 1u32..29), 1..30),
        order in proptest::option::of(proptest::sample::select(&[DateOrder::Dmy, DateOrder::Mdy][..])),
    ) {
        let values: Vec<String> = picks.iter().map(|(at, year, month, day)| dated((styles[at % styles.len()], *year, *month, *day))).collect();
        let survey = survey_of(&format!("a\n{}\n", values.join("\n")), 1, 1 << 20);
        let decision = decide(&survey, &Rules { date_order: order, ..Rules::default() }).remove(0);
        let compile = |pattern: &String| crate::dates::Pattern::compile(pattern).unwrap();
        let patterns: Vec<_> = decision.patterns.iter().map(|(pattern, _)| compile(pattern)).collect();
        proptest::prop_assert_eq!(decision.patterns.iter().map(|(_, count)| count).sum::<u64>(), if patterns.is_empty() { 0 } else { values.len() as u64 });
        for value in values.iter().filter(|_| !patterns.is_empty()) {
            let options = crate::dates::ReadOptions::default();
            let mut read: Vec<_> = patterns.iter().filter_map(|pattern| pattern.read(value.as_bytes(), &options).ok()).collect();
            read.dedup();
            proptest::prop_assert_eq!(read.len(), 1, "{} by {:?}", value, &decision.patterns);
        }
    }
}

#[test]
fn dates_in_an_order_but_for_a_few_are_blocked_or_tolerated() {
    let mut values: Vec<String> =
        (0..60).map(|n| format!("{:02}/{:02}/24", 1 + n % 12, 13 + n % 16)).collect();
    values.insert(7, "13/02/24".into());
    values.insert(50, "31/12/24".into());
    let refs: Vec<&str> = values.iter().map(String::as_str).collect();
    let decision = decide_column(&refs, 1.0);
    assert_eq!(decision.ty.to_string(), "text(8)");
    let [blocker] = &decision.blockers[..] else { panic!("{:?}", decision.blockers) };
    assert_eq!((blocker.ty, blocker.count), (Scalar::Date, 2));
    let lines: Vec<u64> = blocker.examples.iter().map(|example| example.place.line).collect();
    assert_eq!(lines, [9, 52]);
    let survey = survey_of(&format!("a\n{}\n", values.join("\n")), 1, 1 << 20);
    let rules = Rules { tolerate: 0.05, ..Rules::default() };
    let tolerated = decide(&survey, &rules).remove(0);
    assert_eq!((tolerated.ty, tolerated.misfit), (Scalar::Date, Misfit::Reject));
    assert_eq!(tolerated.patterns, [("MM/dd/yy".to_owned(), 60)]);
    // Where two orders read as many, neither is proposed.
    let open: Vec<String> = (0..60)
        .map(|n| format!("{:02}/{:02}/24", 1 + n % 12, 1 + n % 12))
        .chain(["13/02/24".into(), "02/13/24".into()])
        .collect();
    let refs: Vec<&str> = open.iter().map(String::as_str).collect();
    assert_eq!(decide_column(&refs, 1.0).blockers, Vec::new());
}

#[test]
fn columns_that_nobody_wants_are_not_looked_at() {
    let text = "n,note\n7,x\n300,y\n,z\n";
    let input = Input::from_bytes("t.csv", text.as_bytes().to_vec(), &Dialect::RFC_4180.into());
    let options = SurveyOptions { unseen: vec![1], ..SurveyOptions::default() };
    let survey = Survey::take(&input, &options, &RunOptions::default(), &NoMonitor).unwrap();
    let whole = survey_of(text, 1, 1 << 20);
    assert_eq!(survey.columns[0].facts(), whole.columns[0].facts());
    assert_eq!(survey.records, 3);
    let nothing = survey.columns[1].facts();
    assert_eq!((nothing.text.count, nothing.blank, nothing.plain_count()), (0, 0, 0));
    let decisions = decide(&survey, &Rules::default());
    assert_eq!(decisions[0].ty.to_string(), "uint16");
    let wanted = DraftOptions { columns: Some(vec![0]), ..DraftOptions::default() };
    let drafted = draft(&survey, &decisions, &wanted).to_toml();
    assert!(drafted.contains("# note = { type = \"auto\" }"), "{drafted}");
    assert!(crate::read_schema(&drafted).is_ok(), "{drafted}");
}
